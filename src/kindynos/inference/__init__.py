"""Estimates that carry their intervals, and what the intervals are made of."""
