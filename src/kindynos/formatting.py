"""Figures as people read them: no more digits than their error leaves meaningful."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from kindynos.inference.estimates import Estimate, one_sided

SMALLEST_SHARE = 5e-7  # error of a share that is told
LARGEST = 1e15  # from here on a power of ten reads better than its digits
MOST_DIGITS: ContextVar[int | None] = ContextVar("MOST_DIGITS", default=None)  # that are wanted
ROUNDING = 1e-12  # relative to a figure, below which its error is that of the arithmetic alone


def is_per_cent(unit: str | None) -> bool:
    """Return whether a unit is per cent, in which the fraction 0.08 is shown as 8.

    >>> is_per_cent("%"), is_per_cent("% a year"), is_per_cent("EUR"), is_per_cent(None)
    (True, True, False, False)
    """
    return (unit or "").strip().startswith("%")


def times_shown(unit: str | None) -> float:
    """Return by how much figures in a unit are multiplied where they are shown."""
    return 100.0 if is_per_cent(unit) else 1.0


@contextmanager
def digits(most: int | None) -> Iterator[None]:
    """Print figures with at most this number of significant digits; None for as many as their
    errors leave.

    >>> with digits(2):
    ...     number(19916666.67), number(0.1416), per_cent(0.1786)
    ('20,000,000', '0.14', '18 %')
    """
    token = MOST_DIGITS.set(most)
    try:
        yield
    finally:
        MOST_DIGITS.reset(token)


def _coarser(value: float, step: float | None) -> float | None:
    """Return the step of a figure, or a coarser one where fewer digits are wanted."""
    most = MOST_DIGITS.get()
    if most is None or value == 0 or not math.isfinite(value):
        return step
    wanted = 10.0 ** (math.floor(math.log10(abs(value))) - most + 1)
    if step is None and (most >= 4 or value == int(value)):
        return step if most >= 4 else wanted if abs(value) >= 10**most else None
    return wanted if step is None else max(step, wanted)


def number(value: float, step: float | None = None) -> str:
    """Return a number with thousands separators: four significant digits, or rounded to a step such
    as 100 or 0.01; fewer digits where ``digits`` says so.

    >>> number(19916666.67), number(0.14), number(1234567, 1000)
    ('19,916,667', '0.14', '1,235,000')
    """
    if math.isnan(value):
        return "-"
    if math.isinf(value):
        return "infinite" if value > 0 else "-infinite"
    step = _coarser(value, step)
    # finer than a float can resolve: no step
    if abs(value) < LARGEST and step is not None and step > 1e-13 * abs(value) and step > 1e-290:
        decimals = max(0, -math.floor(math.log10(step)))
        return f"{round(value / step) * step:,.{decimals}f}"
    if abs(value) >= LARGEST:
        return f"{value:.3g}"
    if abs(value) >= 1000 or value == int(value):
        return f"{value:,.0f}"
    return f"{value:.4g}" if abs(value) >= 1e-4 else f"{value:.2e}"


def brief(value: float) -> str:
    """Return a number at five significant digits, with thousands separators.

    >>> brief(19916666.67), brief(0.123456), brief(0.0)
    ('19,917,000', '0.12346', '0')
    """
    if not math.isfinite(value) or value == 0:
        return number(value)
    step = _coarser(value, 10.0 ** (math.floor(math.log10(abs(value))) - 4))
    text = number(value, step)
    return text.rstrip("0").rstrip(".") if "." in text else text


def short(value: float) -> str:
    """Return a figure with three digits that count, for labels.

    >>> short(8_208.64)
    '8,210'
    """
    return brief(float(f"{value:.3g}"))


def step_of(error: float) -> float | None:
    """Return the step that leaves two significant digits of an error, None where there is none."""
    if not math.isfinite(error) or error <= 0:
        return None
    return float(10.0 ** (math.floor(math.log10(error)) - 1))


def between(
    low: float, high: float, step: float | None = None, unbounded: str = "at least {}"
) -> str:
    """Return an interval as it is shown, with a word where nothing bounds it from above."""
    if math.isinf(high):
        return unbounded.format(number(low, step))
    return f"{number(low, step)} to {number(high, step)}"


def with_error(estimate: Estimate) -> tuple[str, str]:
    """Return the figure and its error, both rounded to two significant digits of the error.

    >>> with_error(Estimate(3214159.0, 3173159.0, 3255159.0))
    ('3,214,000', '± 41,000')
    """
    step = step_of(estimate.error)
    if math.isinf(estimate.error):
        return brief(float(estimate)), one_sided(estimate, brief)
    if step is None:
        exact = estimate.error == 0
        return number(float(estimate)), "± 0" if exact else ""
    if estimate.error <= ROUNDING * abs(float(estimate)):
        return brief(float(estimate)), "± 0"
    mark = "± about " if estimate.rough else "± "
    return number(float(estimate), step), mark + number(estimate.error, step)


def per_cent(share: float, decimals: int = 1) -> str:
    """Return a share as a percentage: ``24.1 %``; of a tiny one that it is below what is shown, not
    0.
    """
    decimals = _fewer(decimals)
    if 0 < share < 0.5 * 10.0 ** (-2 - decimals):
        return f"below {10.0**-decimals:.{decimals}f} %"
    return f"{100 * share:.{decimals}f} %"


def _fewer(decimals: int) -> int:
    """Return the decimals of a percentage, fewer where fewer digits are wanted."""
    most = MOST_DIGITS.get()
    return decimals if most is None else min(decimals, max(most - 2, 0))


def share_decimals(errors: Iterable[float]) -> int:
    """Return how many decimals a percentage needs for its error not to print as 0; NaN stands for
    no error.

    >>> share_decimals([0.008]), share_decimals([0.0002, math.nan]), share_decimals([0.0])
    (1, 2, 1)
    """
    known = [error for error in errors if error > SMALLEST_SHARE]
    enough = (k for k in (1, 2) if not known or min(known) >= 0.5 * 10.0 ** (-2 - k))
    return _fewer(next(enough, 3))


def shares(values: list[float], decimals: int = 1) -> list[str]:
    """Return shares that make up a whole as percentages that add up to 100 as printed.

    >>> shares([0.33333, 0.33333, 0.33334])
    ['33.3 %', '33.3 %', '33.4 %']
    """
    scale = 10**decimals
    exact = [100 * scale * value for value in values]
    floors = [math.floor(value) for value in exact]
    missing = round(sum(exact)) - sum(floors)
    largest = sorted(range(len(values)), key=lambda i: floors[i] - exact[i])
    for i in largest[:missing]:
        floors[i] += 1
    return [f"{floor / scale:.{decimals}f} %" for floor in floors]
