"""Rates a year as rates of shorter periods, and back."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of, checked, one_of

HOW = ("effective", "simple")


@checked
def per_period(
    rate: ArrayLike, periods_a_year: ArrayLike = 12, how: str = "effective"
) -> Floats | float:
    """Return a rate a year as the rate of one of the periods in a year, such as a month.

    An "effective" rate is what the periods compound to, (1 + rate)^(1 / n) - 1; a "simple" one, as
    loans are quoted, is shared out evenly, rate / n. Arguments broadcast; a float for numbers.
    Raises ParameterError for fewer than one period, and for an effective rate below -1.

    Source: Brealey, Myers and Allen, Principles of Corporate Finance, chapter 2.

    >>> round(per_period(0.12), 6), per_period(0.12, how="simple"), per_period(0.08, 1)
    (0.009489, 0.01, 0.08)
    """
    return _converted(rate, periods_a_year, how, shorter=True)


@checked
def per_year(
    rate: ArrayLike, periods_a_year: ArrayLike = 12, how: str = "effective"
) -> Floats | float:
    """Return the rate of a period, such as a month, as a rate a year: the inverse of
    ``per_period``.

    An "effective" rate is what the periods compound to, (1 + rate)^n - 1; a "simple" one is rate x
    n. Arguments broadcast; a float for numbers. Raises ParameterError for fewer than one period,
    and for an effective rate below -1.

    Source: Brealey, Myers and Allen, Principles of Corporate Finance, chapter 2.

    >>> round(per_year(0.009489), 4), per_year(0.01, how="simple"), per_year(0.08, 1)
    (0.12, 0.12, 0.08)
    """
    return _converted(rate, periods_a_year, how, shorter=False)


def _converted(
    rate: ArrayLike, periods_a_year: ArrayLike, how: str, shorter: bool
) -> Floats | float:
    """Return a rate a year as one of a shorter period, or the other way about."""
    one_of("how", how, HOW)
    rates, count = array_of("rate", rate), array_of("periods_a_year", periods_a_year)
    if (count < 1).any():
        raise ParameterError("periods_a_year must be at least 1")
    if how == "effective" and (rates < -1).any():
        raise ParameterError("an effective rate must be at least -1")
    exact = how == "simple"
    with np.errstate(divide="ignore"):
        logs = rates if exact else np.log1p(rates)
        logs = logs / count if shorter else logs * count
        per_period = logs if exact else np.expm1(logs)
    # twelve months of an annual rate of one period are the rate itself, to the bit
    per_period = np.where(count == 1, rates, per_period)
    return per_period if per_period.ndim else float(per_period)
