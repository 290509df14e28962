"""All functions: the files that add them to the table."""

from kindynos.workbooks.functions import (
    arrays,
    criteria,
    dates,
    distributions,
    logic,
    lookup,
    math,
    measures,
    money,
    regression,
    securities,
    statistics,
    text,
)
from kindynos.workbooks.functions.registry import FUNCTIONS

FILES = (
    *(math, logic, statistics, regression, distributions, money, securities),
    *(dates, text, lookup, arrays, criteria, measures),
)

__all__ = ["FILES", "FUNCTIONS"]
