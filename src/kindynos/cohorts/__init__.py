"""Many like things that change state: how many are where, period by period."""
