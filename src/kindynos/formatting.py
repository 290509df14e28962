"""Figures as people read them: no more digits than their error leaves meaningful."""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from types import MappingProxyType
from typing import Any

from kindynos.cells import Cell, Printed
from kindynos.inference.estimates import Estimate, one_sided
from kindynos.literals import Kind

SMALLEST_SHARE = 5e-7  # error of a share that is shown
LARGEST = 1e15  # from here on a power of ten reads better than its digits
MOST_DIGITS: ContextVar[int | None] = ContextVar("MOST_DIGITS", default=None)  # that are wanted
NAME = re.compile(r"[^\W\d]\w*")
TITLES: ContextVar[Mapping[str, str]] = ContextVar("TITLES", default=MappingProxyType({}))
ROUNDING = 1e-12  # relative to a figure, below which its error is that of the arithmetic alone
RESIDUE = 1e-15  # a figure below it, with its error, is what rounding leaves of 0


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


@contextmanager
def titled(titles: Mapping[str, str]) -> Iterator[None]:
    """Call quantities by their titles where people read of them.

    >>> with titled({"net_value": "NPV of the gas plant"}):
    ...     spoken("net_value")
    'NPV of the gas plant'
    """
    token = TITLES.set(titles)
    try:
        yield
    finally:
        TITLES.reset(token)


def spoken(text: str) -> str:
    """Return the name of a quantity, or words with names in them, as people read them: each name by
    its title, or by its words.

    >>> with titled({"net_value": "NPV of the gas plant"}):
    ...     spoken("mean of net_value"), spoken("gas_price x 1.5")
    ('mean of NPV of the gas plant', 'gas price x 1.5')
    """
    titles = TITLES.get()
    if text in titles or not titles:
        return titles.get(text, text.replace("_", " ").strip())
    return NAME.sub(lambda name: titles.get(name[0], name[0]), text).replace("_", " ").strip()


def with_unit(name: str, unit: str | None) -> str:
    """Return the name of a quantity as people read it, with its unit, as of an axis.

    >>> with_unit("net_value", "EUR")
    'net value, EUR'
    """
    return f"{spoken(name)}, {unit}" if unit else spoken(name)


def heading(name: str) -> str:
    """Return the name of a quantity as the beginning of a title or of a sentence."""
    words = spoken(name)
    return f"{words[:1].upper()}{words[1:]}"


def _coarser(value: float, step: float | None) -> float | None:
    """Return the step of a figure, or a coarser one where fewer digits are wanted."""
    most = MOST_DIGITS.get()
    if most is None or value == 0 or not math.isfinite(value):
        return step
    floor = 10.0 ** (math.floor(math.log10(abs(value))) - most + 1)
    if step is None and (most >= 4 or value == int(value)):
        return step if most >= 4 else floor if abs(value) >= 10**most else None
    return floor if step is None else max(step, floor)


def number(value: float, step: float | None = None, before: str = "") -> Cell:
    """Return a number with thousands separators: four significant digits, or rounded to a step such
    as 100 or 0.01; fewer digits where ``digits`` says so.

    >>> number(19916666.67), number(0.14), number(1234567, 1000)
    ('19,916,667', '0.14', '1,235,000')
    """
    value = float(value)
    if math.isnan(value):
        return Cell.of("-")
    if math.isinf(value):
        return Cell.of("infinite" if value > 0 else "-infinite")
    step = _coarser(value, step)
    if abs(value) >= LARGEST:
        return Cell.of(f"{before}{value:.3g}")
    # finer than a float can resolve: no step
    if step is not None and step > 1e-13 * abs(value) and step > 1e-290:
        decimals = max(0, -math.floor(math.log10(step)))
        return Cell.of(Printed(round(value / step) * step, decimals, before=before))
    if abs(value) >= 1000 or value == int(value):
        return Cell.of(Printed(value, 0, before=before))
    if abs(value) < 1e-4:
        return Cell.of(f"{before}{value:.2e}")
    return Cell.of(Printed(value, _decimals(f"{value:.4g}"), before=before))


def _decimals(text: str) -> int:
    return len(text.partition(".")[2])


def p_value(p: float) -> str:
    """Return a p-value in words.

    >>> p_value(0.0042), p_value(1e-20), p_value(0.18934)
    ('p = 0.004', 'p < 0.001', 'p = 0.19')
    """
    if p < 0.001:
        return "p < 0.001"
    return f"p = {p:.1g}" if p < 0.01 else f"p = {p:.2g}"


def brief(value: float) -> Cell:
    """Return a number at five significant digits, with thousands separators.

    >>> brief(19916666.67), brief(0.123456), brief(0.0)
    ('19,917,000', '0.12346', '0')
    """
    value = float(value)
    if not math.isfinite(value) or value == 0:
        return number(value)
    step = _coarser(value, 10.0 ** (math.floor(math.log10(abs(value))) - 4))
    figure = number(value, step).figure
    if figure is None:
        return number(value, step)
    # without the zeros at its end
    shown = _decimals(f"{figure.value:.{figure.decimals}f}".rstrip("0"))
    return Cell.of(Printed(figure.value, shown))


def short(value: float) -> Cell:
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
        before, _, after = unbounded.partition("{}")
        return Cell.of(before, number(low, step), after)
    return Cell.of(number(low, step), " to ", number(high, step))


def with_error(estimate: Estimate, unit: str | None = None) -> tuple[Cell, Cell]:
    """Return the figure and its error in its unit, both rounded to two significant digits of the
    error.

    >>> with_error(Estimate(3214159.0, 3173159.0, 3255159.0))
    ('3,214,000', '± 41,000')
    >>> with_error(Estimate(0.0812, 0.0808, 0.0816), "% a year")
    ('8.120', '± 0.040')
    >>> with_error(Estimate(0.0, -5e-20, 5e-20))
    ('0', '± 0')
    """
    estimate = in_unit(estimate, unit)
    value, error = float(estimate), estimate.error
    step = step_of(error)
    if math.isinf(error):
        return brief(value), Cell.of(one_sided(estimate, brief))
    if step is None:
        return number(value), number(0.0, before="± ") if error == 0 else Cell.of("")
    if max(abs(value), error) < RESIDUE:
        return number(0.0), number(0.0, before="± ")
    if error <= ROUNDING * abs(value):
        return brief(value), number(0.0, before="± ")
    mark = "± about " if estimate.rough else "± "
    return number(value, step), number(error, step, mark)


def in_unit(figure: Any, unit: str | None) -> Any:
    """Return a figure, with its interval where it has one, as it is shown in a unit: fractions
    times 100 where that is per cent.
    """
    times = times_shown(unit)
    if times == 1 or not isinstance(figure, Estimate):
        return times * figure if times != 1 else figure
    ends = (times * figure.low, times * figure.high)
    return Estimate(times * figure, *ends, figure.rough, figure.note)


FIRST_DAY = datetime.date(1899, 12, 30)  # day 0 of the dates of workbooks
MONTH = 10.0  # days of error from which a date is shown to the month


def is_time(unit: str | None) -> bool:
    """Return whether figures in a unit are points in time: dates as numbers of days, or years."""
    return unit in ("date", "year")


def point_in_time(value: float, unit: str | None, error: float = math.nan) -> str:
    """Return a date or a year as people write it, a date to the month where its error is larger.

    >>> point_in_time(47588, "date"), point_in_time(47588, "date", 20), point_in_time(2031, "year")
    ('15 April 2030', 'April 2030', '2031')
    """
    if not math.isfinite(value):
        return str(number(value))
    if unit == "year":
        return f"{value:.1f}" if value != round(value) else f"{value:.0f}"
    try:
        day = FIRST_DAY + datetime.timedelta(days=int(value))
    except OverflowError:
        return str(number(value))
    month = f"{day:%B %Y}"
    return month if error >= MONTH else f"{day.day} {month}"


def located(estimate: Estimate, unit: str | None) -> tuple[Cell, Cell]:
    """Return a figure that lies on the scale of an outcome, such as its mean, and its error: as
    ``with_error``, but points in time as people write them, with the error in days or years.
    """
    if not is_time(unit):
        return with_error(estimate, unit)
    _, error = with_error(estimate)
    length = "days" if unit == "date" else "years"
    text = point_in_time(float(estimate), unit, estimate.error)
    return Cell.of(text), Cell.of(error, f" {length}") if error else error


def threshold(value: float, unit: str | None) -> Cell:
    """Return a figure that matters, as other figures of its unit are shown, with the sign of per
    cent.

    >>> threshold(0.09, "% a year"), threshold(1e6, "EUR")
    ('9 %', '1,000,000')
    """
    if is_time(unit):
        return Cell.of(point_in_time(value, unit))
    if not is_per_cent(unit):
        return number(value)
    return Cell.of(number(in_unit(float(f"{value:.12g}"), unit)), " %")


def shown(figure: Estimate, kind: Kind, unit: str | None) -> tuple[Cell, Cell]:
    """Return a figure of a kind and its error: an amount in its unit, a share in per cent, and
    others as they are.
    """
    if kind == "share":
        return share_with_error(figure)
    return with_error(figure, unit if kind == "amount" else None)


def in_one_cell(figure: Estimate, kind: Kind = "amount", unit: str | None = None) -> Cell:
    """Return a figure of a kind with its error beside it.

    >>> in_one_cell(Estimate(3214159.0, 3173159.0, 3255159.0)), in_one_cell(Estimate(2.5))
    ('3,214,000 ± 41,000', '2.5')
    """
    if math.isnan(figure.error) and kind != "share":
        return brief(in_unit(float(figure), unit if kind == "amount" else None))
    value, error = shown(figure, kind, unit)
    return Cell.of(value, " ", error) if error and figure.error > 0 else value


def points(difference: Estimate) -> Cell:
    """Return a difference of shares in points of per cent, with its sign and its error.

    >>> points(Estimate(-0.021, -0.03, -0.012))
    '-2.1 ± 0.9 points'
    """
    decimals = share_decimals([difference.error])
    value = Printed(100 * float(difference), decimals, before="+" if difference > 0 else "")
    if math.isnan(difference.error):
        return Cell.of(value, " points")
    return Cell.of(value, " ", Printed(100 * difference.error, decimals, before="± "), " points")


def per_cent(share: float, decimals: int = 1, before: str = "") -> Cell:
    """Return a share as a percentage: ``24.1 %``; of a tiny one that it is below what is shown, not
    0.
    """
    share, decimals = float(share), _fewer(decimals)
    if not math.isfinite(share):
        return Cell.of(number(share))
    if 0 < share < 0.5 * 10.0 ** (-2 - decimals) and not before:
        return Cell.of(f"below {10.0**-decimals:.{decimals}f} %")
    return Cell.of(Printed(share, decimals, per_cent=True, before=before))


def share_with_error(share: Estimate, decimals: int | None = None) -> tuple[Cell, Cell]:
    """Return a share and its error in per cent, with as many decimals as the error needs.

    >>> share_with_error(Estimate(0.241, 0.23, 0.252))
    ('24.1 %', '± 1.1 %')
    """
    if decimals is None:
        decimals = share_decimals([share.error])
    value = Cell.of(Printed(float(share), _fewer(decimals), per_cent=True))
    if math.isnan(float(share)):
        return Cell.of("-"), Cell.of("")
    if math.isnan(share.error):
        return value, Cell.of("")
    return value, per_cent(share.error, decimals, before="± ")


def signed_with_error(figure: Estimate) -> tuple[Cell, Cell]:
    """Return a number such as a correlation with its sign, and its error, to three decimals.

    >>> signed_with_error(Estimate(0.8, 0.79, 0.81))
    ('+0.800', '± 0.010')
    """
    value = Cell.of(Printed(float(figure), 3, before="+" if figure > 0 else ""))
    if math.isnan(float(figure)):
        return Cell.of("-"), Cell.of("")
    return value, Cell.of("" if math.isnan(figure.error) else Printed(figure.error, 3, before="± "))


def share_range(low: float, high: float) -> Cell:
    """Return two shares as the ends of a range.

    >>> share_range(0.1, 0.25)
    '10.0 % to 25.0 %'
    """
    return Cell.of(per_cent(low), " to ", per_cent(high))


def share_in_words(share: Estimate) -> str:
    """Return a share in per cent with its error in parentheses, where it has one.

    >>> share_in_words(Estimate(0.241, 0.23, 0.252))
    '24.1 % (± 1.1)'
    """
    value, error = share_with_error(share)
    return f"{value} ({error.removesuffix(' %')})" if share.error > 0 else str(value)


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
    values = [error for error in errors if error > SMALLEST_SHARE]
    enough = (k for k in (1, 2) if not values or min(values) >= 0.5 * 10.0 ** (-2 - k))
    return _fewer(next(enough, 3))


def rounded_to_sum(values: Sequence[float], whole: int) -> list[int]:
    """Return whole numbers near the values that add up to a whole number near their sum: those are
    rounded up that lose most.

    >>> rounded_to_sum([1.4, 1.4, 0.2], 3)
    [2, 1, 0]
    """
    floors = [math.floor(value) for value in values]
    order = sorted(range(len(values)), key=lambda place: floors[place] - values[place])
    for place in order[: max(whole - sum(floors), 0)]:
        floors[place] += 1
    return floors


def shares(values: Sequence[float], decimals: int = 1) -> list[Cell]:
    """Return shares that make up a whole as percentages that add up to 100 as printed.

    >>> shares([0.33333, 0.33333, 0.33334])
    ['33.3 %', '33.3 %', '33.4 %']
    """
    if not all(math.isfinite(value) for value in values):
        return [per_cent(value, decimals) for value in values]
    scale = 10**decimals
    exact = [100 * scale * value for value in values]
    floors = rounded_to_sum(exact, round(sum(exact)))
    return [Cell.of(Printed(floor / scale / 100, decimals, per_cent=True)) for floor in floors]
