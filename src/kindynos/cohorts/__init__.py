"""A population whose members move between states: how many are where, period by period."""
