"""All functions: the files that add them to the table."""

from kindynos.workbooks.functions import (
    criteria,
    dates,
    distributions,
    logic,
    lookup,
    math,
    money,
    statistics,
    text,
)
from kindynos.workbooks.functions.registry import FUNCTIONS

FILES = (math, logic, statistics, distributions, money, dates, text, lookup, criteria)

__all__ = ["FILES", "FUNCTIONS"]
