"""A statistic asked for in words: ``"mean"``, ``"percentile 5"``, ``"chance above 1e6"``."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from kindynos.errors import ParameterError
from kindynos.estimate import Estimate
from kindynos.results.result import Result
from kindynos.results.statistics import statistic as find

SIDES = ("above", "below", "at")


@dataclass(frozen=True)
class Asked:
    """A statistic by its words, and how it is read off a result."""

    label: str
    read: Callable[[Result], Estimate]


def asked(statistic: Any) -> Asked:
    """Return what is asked for: a text of a name and its numbers, or a function of a result.

    Raises ParameterError, with the nearest spelling, for a text that names no statistic or lacks its numbers.

    >>> asked("percentile 5").label, asked("chance above 0").label
    ('percentile 5', 'chance above 0')
    """
    if callable(statistic):
        return Asked(getattr(statistic, "__name__", "statistic").replace("<lambda>", "statistic"), statistic)
    if not isinstance(statistic, str) or not statistic.split():
        raise ParameterError(f"statistic must be a text such as 'mean' or 'percentile 5', or a function, not {statistic!r:.60}")
    name, *rest = statistic.split()
    find(name)
    try:
        numbers, options = _arguments(rest)
    except ValueError:
        raise ParameterError(f"statistic {statistic!r}: say 'mean', 'percentile 5', 'chance above 0' or the like") from None

    def read(result: Result) -> Estimate:
        try:
            figure: Estimate = result.figure(name, *numbers, **options)
        except TypeError:
            raise ParameterError(
                f"statistic {statistic!r}: {name} needs other numbers; say 'percentile 5', 'chance above 0'"
            ) from None
        return figure

    return Asked(" ".join([name, *rest]), read)


def _arguments(words: list[str]) -> tuple[list[float], dict[str, float]]:
    numbers, options = [], {}
    waiting = iter(words)
    for word in waiting:
        if word in SIDES:
            options[word] = float(next(waiting, "missing"))
        else:
            numbers.append(float(word))
    return numbers, options
