"""Stochastic dominance of samples: first order by cumulative curves, second order by the areas
under them.

Source: Hadar and Russell, American Economic Review 59 (1969), 25-34.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.inference.sample import Sample

CRITICAL = 1.358  # of the Kolmogorov-Smirnov statistic at 95 %


def dominance(samples: Mapping[str, Sample]) -> pd.DataFrame:
    """Return a row for each ordered pair of samples: whether the first dominates the second, and
    what speaks against it.
    """
    grid = np.unique(np.concatenate([sample.valid for sample in samples.values()]))
    shares = {name: sample.share_below(grid, upto=True) for name, sample in samples.items()}
    return _dominance_table(
        grid, shares, {name: sample.effective_count for name, sample in samples.items()}
    )


def dominance_of_chances(
    distributions: Mapping[str, tuple[Floats, Floats]], count: float
) -> pd.DataFrame:
    """Return what :func:`dominance` does for values in order with their chances, from that many
    draws (infinity: exact).
    """
    grid = np.unique(np.concatenate([values for values, _ in distributions.values()]))
    shares = {}
    for name, (values, chances) in distributions.items():
        # rounding must not look like a crossing
        below = np.round(np.concatenate([[0.0], np.cumsum(chances)]), 12)
        shares[name] = below[np.searchsorted(values, grid, side="right")]
    return _dominance_table(grid, shares, dict.fromkeys(shares, count))


def _dominance_table(
    grid: Floats, shares: Mapping[str, Floats], counts: Mapping[str, float]
) -> pd.DataFrame:
    """Return the verdicts on all ordered pairs, from the cumulative shares on a grid of values."""
    records = {
        (scenario, other): _pair(grid, below, beside, counts[scenario], counts[other])
        for scenario, below in shares.items()
        for other, beside in shares.items()
        if scenario != other
    }
    columns = [
        "first order",
        "against",
        "by chance",
        "second order",
        "against, second",
        "by chance, second",
    ]
    frame = pd.DataFrame.from_dict(records, orient="index", columns=columns)
    frame.index = pd.MultiIndex.from_tuples(list(records), names=["scenario", "over"])
    return frame


def _pair_with_infinite_values(
    gap: Floats, count: float, others: float
) -> tuple[bool, float, bool, bool, float, bool]:
    """Return the verdicts where some value is infinite: areas say nothing there, and the second
    order is what the first one is.
    """
    against = max(float(gap.max()), 0.0)
    first = bool((gap != 0).any()) and against == 0
    by_chance = 0 < against <= CRITICAL * math.sqrt(1 / count + 1 / others)
    return first, against, by_chance, first, math.nan, False


def _pair(
    grid: Floats, below: Floats, beside: Floats, count: float, others: float
) -> tuple[bool, float, bool, bool, float, bool]:
    """Return the verdicts on a sample whose cumulative shares are ``below`` against one whose are
    ``beside``.

    What draws alone could do is bounded as for independent samples, which is wide for samples on
    the same draws.
    """
    gap = below - beside
    if not np.isfinite(grid).all():
        return _pair_with_infinite_values(gap, count, others)
    area = np.concatenate([[0.0], np.cumsum(gap[:-1] * np.diff(grid))])
    against, against_second = max(float(gap.max()), 0.0), max(float(area.max()), 0.0)
    noise = CRITICAL * math.sqrt(1 / count + 1 / others)
    spread = float(
        np.sum(
            np.sqrt(np.maximum(below * (1 - below) / count + beside * (1 - beside) / others, 0))[
                :-1
            ]
            * np.diff(grid)
        )
    )
    differ = bool((gap != 0).any())
    size = float(grid[-1] - grid[0])
    first, second = differ and against == 0, differ and against_second <= 1e-12 * size
    return (
        first,
        against,
        0 < against <= noise,
        second,
        against_second,
        not second and against_second <= 1.96 * spread,
    )
