"""A statistic asked for in words: ``"mean"``, ``"percentile 5"``, ``"chance above 1e6"``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.results.result import Result
from kindynos.results.statistics import STATISTICS
from kindynos.validate import check_call, proper_fraction

SIDES = ("above", "below", "at")


@dataclass(frozen=True)
class ParsedStatistic:
    """A statistic by its words, and how it is read off a result."""

    label: str
    read: Callable[[Result], Estimate]


def parse_statistic(statistic: Any) -> ParsedStatistic:
    """Return the requested figure: a text of a name and its numbers, or a function of a result.

    Raises ParameterError, with the nearest spelling, for a text that names no statistic or lacks
    its numbers.

    >>> parse_statistic("percentile 5").label, parse_statistic("chance above 0").label
    ('percentile 5', 'chance above 0')
    """
    if callable(statistic):
        return ParsedStatistic(
            getattr(statistic, "__name__", "statistic").replace("<lambda>", "statistic"), statistic
        )
    if not isinstance(statistic, str) or not statistic.split():
        raise ParameterError(
            "statistic must be a text such as 'mean' or 'percentile 5', or a function, not "
            f"{statistic!r:.60}"
        )
    name, *rest = statistic.split()
    STATISTICS.find(name)
    try:
        numbers, options = _arguments(rest)
    except ValueError:
        raise ParameterError(
            f"statistic {statistic!r}: say 'mean', 'percentile 5', 'chance above 0' or the like"
        ) from None

    try:
        check_call(STATISTICS.find(name), None, *numbers, **options)
    except ParameterError:
        raise ParameterError(
            f"statistic {statistic!r}: {name} needs other numbers; say 'percentile 5', 'chance "
            "above 0'"
        ) from None

    def read(result: Result) -> Estimate:
        figure: Estimate = result.statistic(name, *numbers, **options)
        return figure

    return ParsedStatistic(" ".join([name, *rest]), read)


def central_coverage(text: str) -> float | None:
    """Return the share that a central range asked for is to hold, such as ``central_range 0.8``,
    None for other statistics.
    """
    if not isinstance(text, str):
        raise ParameterError(
            f"statistics are words such as 'mean' or 'percentile 5', not {text!r:.60}"
        )
    name, _, share = text.strip().partition(" ")
    if name != "central_range":
        return None
    try:
        coverage = float(share)
    except ValueError:
        raise ParameterError(
            f"statistic {text!r}: say the share it holds, such as 'central_range 0.8'"
        ) from None
    return proper_fraction("the share", coverage)


def _arguments(words: list[str]) -> tuple[list[float], dict[str, float]]:
    numbers, options = [], {}
    waiting = iter(words)
    for word in waiting:
        if word in SIDES:
            options[word] = float(next(waiting, "missing"))
        else:
            numbers.append(float(word))
    return numbers, options
