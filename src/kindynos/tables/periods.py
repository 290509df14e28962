"""Lengths of time by name: how many of them make a year, and how many days each has."""

from __future__ import annotations

DAYS_A_YEAR = 365.25
TRADING_DAYS = 252  # of a year, in a market that is closed at weekends

PER_YEAR = {"year": 1, "quarter": 4, "month": 12, "week": 52, "day": TRADING_DAYS}
DAYS = {
    "year": DAYS_A_YEAR,
    "quarter": DAYS_A_YEAR / 4,
    "month": DAYS_A_YEAR / 12,
    "week": 7.0,
    "day": 1.0,
}
CALENDAR = ("year", "quarter", "month", "week")  # whose ends are dates of the calendar
