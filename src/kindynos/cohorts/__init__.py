"""A population whose members change state: how many are where, period by period."""
