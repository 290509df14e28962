"""Calculations on arrays of cash flows, periods first and trials last."""
