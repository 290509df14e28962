"""The error that a fit causes in a figure of a process: the same figure of processes with drawn
parameters.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol, TypeVar

import numpy as np

from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import ends_of_draws, t_point

DRAWS = 200  # of the parameters
FEW_DRAWS, FEW_TRIALS = 60, 1000  # where each needs paths of its own
PATH_DRAWS = 120

Self = TypeVar("Self", bound="Redrawn")


class Redrawn(Protocol):
    """A process that can be drawn again as its fit leaves it open; see ``Process.redrawn``."""

    def _redrawn(self: Self, count: int) -> list[Self]:
        """Return processes with drawn parameters, none where nothing was fitted."""


def open_intervals(
    process: Redrawn,
    figures: Mapping[str, float],
    again: Callable[[Any], Mapping[str, float]],
    batches: Sequence[Mapping[str, float]],
    draws: int = PATH_DRAWS,
) -> dict[str, tuple[float, float]]:
    """Return the 95 % interval of each figure of paths, by name; none where nothing was fitted.

    ``again`` gives the figures of another process from paths of its own, on the same random numbers
    for all, so that only the parameters differ; what the figures of drawn processes lie apart from
    those of the process itself is the error of the fit. The sampling error is that of
    ``batches`` of the paths. The two are independent.
    """
    others = process._redrawn(draws)
    if not others:
        return {}
    own, result = again(process), [again(other) for other in others]
    point = t_point(len(batches) - 1)
    intervals: dict[str, tuple[float, float]] = {}
    for name, value in figures.items():
        gaps = np.array([other[name] for other in result]) - own[name]
        low, high = ends_of_draws(gaps)
        parts = np.array([batch[name] for batch in batches])
        sampling = point * float(parts.std(ddof=1)) / math.sqrt(len(parts))
        centre, half = value + (low + high) / 2, math.hypot((high - low) / 2, sampling)
        intervals[name] = (centre - half, centre + half)
    return intervals


def with_estimation_error(
    process: Redrawn,
    value: Estimate,
    again: Callable[[Any], Estimate],
    draws: int = DRAWS,
    note: str = "",
) -> Estimate:
    """Return a figure whose interval holds the error of the fit beside the sampling error that
    it has.

    ``again`` gives the same figure of another process; the spread that its own sampling error makes
    is taken out.
    """
    agains = [again(draw) for draw in process._redrawn(draws)]
    if not agains:
        return Estimate(value.value, value.low, value.high, value.rough, note or value.note)
    low, high = ends_of_draws([float(draw) for draw in agains])
    inner = float(np.nanmedian([0.0 if math.isnan(draw.error) else draw.error for draw in agains]))
    own = 0.0 if math.isnan(value.error) else value.error

    def reach(gap: float) -> float:
        return math.hypot(math.sqrt(max(max(gap, 0.0) ** 2 - inner**2, 0.0)), own)

    below, above = reach(float(value) - low), reach(high - float(value))
    said = (
        "the interval holds what the fit leaves "
        f"open{f' and a sampling error of {own:.2g}' if own else ''}"
    )
    return Estimate(
        value.value,
        float(value) - below,
        float(value) + above,
        value.rough,
        f"{note}; {said}" if note else said,
    )


def as_chance(estimate: Estimate) -> Estimate:
    """Return an estimate of a chance with ends from 0 to 1."""
    low, high = max(estimate.low, 0.0), min(estimate.high, 1.0)
    return (
        Estimate(estimate.value, low, high, estimate.rough, estimate.note)
        if not math.isnan(estimate.error)
        else estimate
    )
