"""A statistic asked for in words: ``"mean"``, ``"percentile 5"``, ``"chance above 1e6"``."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.inference.sample import Sample
from kindynos.literals import Kind
from kindynos.results.result import NumberStatistics
from kindynos.results.statistics import STATISTICS
from kindynos.validate import check_call, proper_fraction, raw_figure

SIDES = ("above", "below", "at")


@dataclass(frozen=True)
class ParsedStatistic:
    """A statistic by its words, and how it is read off a result.

    ``words`` and the figure ``threshold``, in the unit of the quantity, say the same as ``label``;
    a person is shown the threshold as other figures of that unit are.
    """

    label: str
    read: Callable[[Any], Estimate]
    kind: Kind = "amount"
    words: str = ""
    threshold: float | None = None
    name: str = ""  # in the registry, with its arguments; empty for a function
    numbers: tuple[float, ...] = ()
    options: Mapping[str, float] = field(default_factory=dict)

    def influence(self, sample: Sample) -> Floats | None:
        """Return what each valid trial adds to it; None where that is not known."""
        if not self.name:
            return None
        return STATISTICS[self.name].influence(sample, *self.numbers, **self.options)


def parse_statistic(statistic: Any) -> ParsedStatistic:
    """Return the requested figure: a text of a name and its numbers, or a function of a result.

    A threshold is the raw figure (0.09) or carries its sign (9%). Raises ParameterError, with the
    nearest spelling, for a text that names no statistic or lacks its numbers.

    >>> parse_statistic("percentile 5").label, parse_statistic("chance above 9%").label
    ('percentile 5', 'chance above 0.09')
    """
    if callable(statistic):
        name = getattr(statistic, "__name__", "statistic").replace("<lambda>", "statistic")
        return ParsedStatistic(name, statistic, words=name)
    if not isinstance(statistic, str) or not statistic.split():
        raise ParameterError(
            "statistic must be a text such as 'mean' or 'percentile 5', or a function, not "
            f"{statistic!r:.60}"
        )
    name, *rest = re.sub(r"(\d)\s+%", r"\1%", statistic).split()
    entry = STATISTICS.find(name)
    try:
        numbers, options = _arguments(rest)
    except ValueError:
        raise ParameterError(
            f"statistic {statistic!r}: say 'mean', 'percentile 5', 'chance above 0' or the like"
        ) from None

    try:
        check_call(entry.compute, None, *numbers, **options)
    except ParameterError:
        raise ParameterError(
            f"statistic {statistic!r}: {name} needs other numbers; say 'percentile 5', 'chance "
            "above 0'"
        ) from None

    def read(result: NumberStatistics) -> Estimate:
        return result.statistic(name, *numbers, **options)

    texts = [f"{raw_figure(term):.12g}" if term.endswith("%") else term for term in rest]
    label = " ".join([name, *texts])
    # one threshold at the end of the words is shown in the unit of the quantity
    if texts and ((len(options) == 1 and not numbers) or name in ("survival", "percentile_of")):
        words = " ".join([name, *texts[:-1]])
        threshold: float | None = raw_figure(texts[-1])
    else:
        words, threshold = label, None
    return ParsedStatistic(label, read, entry.kind, words, threshold, name, tuple(numbers), options)


def kind_of(words: str) -> Kind:
    """Return the kind of the figure that words name, such as "chance below 0 of net_value"; an
    amount where they begin with no statistic.

    >>> kind_of("chance below 0 of net_value"), kind_of("P5")
    ('share', 'amount')
    """
    statistic = STATISTICS.get((words.split() or [""])[0])
    return "amount" if statistic is None else statistic.kind


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
        coverage = raw_figure(share)
    except ValueError:
        raise ParameterError(
            f"statistic {text!r}: say the share it holds, such as 'central_range 0.8'"
        ) from None
    return proper_fraction("the share", coverage)


def _arguments(words: list[str]) -> tuple[list[float], dict[str, float]]:
    numbers, options = [], {}
    waiting = iter(words)
    for label in waiting:
        if label in SIDES:
            options[label] = raw_figure(next(waiting, "missing"))
        else:
            numbers.append(raw_figure(label))
    return numbers, options
