"""Two quantities trial by trial: how often both are on this or that side, and how closely they move
together.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.handed_out import HandsOutCopies
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import correlation_by_blocks
from kindynos.inference.sample import Sample
from kindynos.results.reached_correlations import ranks
from kindynos.results.result import Result
from kindynos.results.sensitivity.rank import first_order_share
from kindynos.results.statistics import chance
from kindynos.validate import checked, finite, instance, proper_fraction

FEWEST = 3
SIDES = ("below", "above")


@dataclass(frozen=True)
class JointDistribution(HandsOutCopies):
    """Two quantities over the same trials.

    ``cuts`` part each in two; ``quadrants`` are the shares of all trials by (side of the first,
    side of the second), where a value at the cut counts as above. ``correlation`` is of their
    ranks; ``scatter`` is the share of the variance of the second that the first leaves open: 0
    where it decides it, 1 where it tells nothing of it.
    """

    x: Result
    y: Result
    cuts: tuple[float, float]
    quadrants: dict[tuple[str, str], Estimate]
    correlation: Estimate
    scatter: Estimate
    without_value: Estimate | None = None
    """The share of trials in which one of the two has no value, None where there are none."""

    @property
    def explained(self) -> Estimate:
        """The share of the variance of the second that the first explains."""
        return Estimate(1 - float(self.scatter), 1 - self.scatter.high, 1 - self.scatter.low)

    @checked
    def worst_together(self, share: float = 0.01) -> Estimate:
        """Return how many of the worst trials of one quantity are among the worst of the other
        too, both the worst ``share`` on their bad side: about ``share`` where they are independent,
        1 where they fail together.

        >>> from kindynos import Model, Normal
        >>> model = Model("Two lines")
        >>> model.driver("storm", Normal(0, 1))
        >>> model.outcome("hulls", "exp(storm)", better="low")
        >>> model.outcome("piers", "2 * storm", better="low")
        >>> run = model.simulate(20_000, seed=1)
        >>> round(run.joint("hulls", "piers").worst_together(), 2)
        1.0
        """
        worst = proper_fraction("share", share)
        hits = np.ones(self.x.size, dtype=bool)
        for result in (self.x, self.y):
            level = worst if result.better == "high" else 1 - worst
            end = float(result.quantile(level))
            hits &= result.values <= end if result.better == "high" else result.values >= end
        both = _share(self.x, hits)
        return Estimate(float(both) / worst, both.low / worst, min(both.high / worst, 1.0))

    def table(self) -> pd.DataFrame:
        """Return a DataFrame: the share of each quadrant with its error, the rank correlation, and
        the scatter.
        """
        names = {
            f"{self.x.name} {one} {self.cuts[0]:g}, {self.y.name} {two} {self.cuts[1]:g}": share
            for (one, two), share in self.quadrants.items()
        }
        if self.without_value is not None:
            names["trials without a value"] = self.without_value
        names |= {"rank correlation": self.correlation, f"scatter of {self.y.name}": self.scatter}
        rows = {name: (float(e), e.error, e.low, e.high) for name, e in names.items()}
        return pd.DataFrame.from_dict(
            rows, orient="index", columns=["value", "error", "low", "high"]
        )


@checked
def joint_distribution(
    x: Result, y: Result, cuts: tuple[float | None, float | None] = (None, None)
) -> JointDistribution:
    """Return two quantities of the same trials together; a cut that is None is the target, or
    without one the median.

    Raises ParameterError for quantities that are rows, or of different numbers of trials.

    >>> from kindynos import Model, Normal, joint_distribution
    >>> model = Model("Kiosk")
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "3 * sales - 250")
    >>> run = model.simulate(1_000, seed=1)
    >>> joint = joint_distribution(run["sales"], run["profit"])
    >>> round(float(joint.correlation), 3)
    1.0
    """
    for name, values in (("x", x), ("y", y)):
        instance(name, values, Result, "a result with one number per trial, such as run['name']")
    if x.is_row or y.is_row:
        raise ParameterError("both must have one number per trial")
    if x.size != y.size:
        raise ParameterError(f"both must have the same trials, not {x.size:,} and {y.size:,}")
    if not np.array_equal(np.asarray(x.weights), np.asarray(y.weights)):
        raise ParameterError("both must have the same weights")
    if not isinstance(cuts, tuple | list) or len(cuts) != 2:
        raise ParameterError(f"cuts must be two numbers, one for each quantity, not {cuts!r:.40}")
    has_both = ~(np.isnan(x.values) | np.isnan(y.values))
    if has_both.sum() < FEWEST:
        raise ParameterError("too few trials have both")
    at = (_cut(x, cuts[0]), _cut(y, cuts[1]))
    above = (x.values >= at[0], y.values >= at[1])
    shares = {
        (SIDES[i], SIDES[j]): _share(x, has_both & (above[0] == bool(i)) & (above[1] == bool(j)))
        for i in (0, 1)
        for j in (0, 1)
    }
    pair = [result.sample.only(has_both) for result in (x, y)]
    (rank_x, rank_y), (first, _) = (_ranks(sample) for sample in pair), pair
    bounds = first.block_starts
    weights = None if first.valid_weights is None else first.in_blocks(first.valid_weights)
    by_block = [first.in_blocks(row) for row in (rank_x, rank_y, y.values[has_both])]
    explained = first_order_share(by_block[0], by_block[2], bounds, weights)
    scatter = Estimate(1 - float(explained), 1 - explained.high, 1 - explained.low)
    return JointDistribution(
        x,
        y,
        at,
        shares,
        correlation_by_blocks(by_block[0], by_block[1], bounds, weights),
        scatter,
        None if has_both.all() else _share(x, ~has_both),
    )


def _share(result: Result, hits: NDArray[np.bool_]) -> Estimate:
    """Return the share of all trials of a result that are hits."""
    return chance(result.sample.with_values(hits), above=0.5)


def _ranks(sample: Sample) -> Floats:
    """Return the ranks of the valid trials; of weighted ones the shares below them."""
    if sample.valid_weights is None:
        return ranks(sample.valid)
    return sample.share_below(sample.valid)


def _cut(result: Result, cut: float | None) -> float:
    if cut is not None:
        return finite("a cut", cut)
    return float(result.median) if result.target is None else result.target
