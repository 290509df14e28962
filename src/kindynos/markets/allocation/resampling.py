"""How uncertain the best weights are: the same allocation on histories like the one at hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import delegated_to
from kindynos.errors import ParameterError
from kindynos.inference.block_bootstrap import block_positions
from kindynos.markets.allocation.moments import Moments
from kindynos.markets.allocation.path import path_of
from kindynos.markets.allocation.request import AllocationRequest
from kindynos.markets.allocation.solve import Aim, Solver
from kindynos.markets.allocation.source import Source
from kindynos.sampling.streams import Seed, checked_seed, stream
from kindynos.validate import check_integer, checked, positive

POINTS = 21  # of each resampled frontier
MOST_TIMES = 10_000  # histories, each with an allocation and a frontier of its own
# Resampling leaves out a part of the spread: of histories with known truth these shares of the
# resampled weights held the best weights in 92 to 98 %, normal and fat-tailed ones
# (benchmarks/allocation).
ENDS = (0.015, 0.985)
# share of resampled histories in which one weight is the larger, from which two differ
SURE = 0.95


@dataclass(frozen=True, eq=False)
class Resampled:
    """The best weights of many histories like this one.

    ``draws`` has one row per resampled history and one column per holding; ``weights`` are those of
    the history at hand. ``average`` is a more robust choice; ``table`` tells the spread,
    ``sentences`` what cannot be told apart; ``infeasible`` counts histories whose limits could not
    be met, which took the least risk instead. ``frontier`` has the spread of the frontier.
    """

    draws: pd.DataFrame
    weights: pd.Series
    frontier: pd.DataFrame
    how: str
    infeasible: int
    source: str  # what the allocation started from

    @property
    def average(self) -> pd.Series:
        """The mean of the weights over the resampled histories; bounds and groups hold for it
        too.
        """
        return self.draws.mean().rename("average weight")

    def table(self) -> pd.DataFrame:
        """Return for each holding the weight, the mean and sd over resampled histories, and the 95
        % interval.
        """
        frame = pd.DataFrame(
            {"weight": self.weights, "average": self.average, "sd": self.draws.std()}
        )
        frame["low"], frame["high"] = self.draws.quantile(ENDS[0]), self.draws.quantile(ENDS[1])
        return frame

    def apart(self) -> pd.DataFrame:
        """Return for each pair of holdings the share of resampled histories in which the first has
        the larger weight.

        Equal weights count half.
        """
        values = self.draws.to_numpy()
        larger = [[float(np.mean(a > b) + np.mean(a == b) / 2) for b in values.T] for a in values.T]
        return pd.DataFrame(larger, self.draws.columns, self.draws.columns)

    def sentences(self) -> list[str]:
        """Return sentences on the holdings, neighbours by weight, whose order the data do not
        settle.
        """
        order = self.weights.sort_values(ascending=False, kind="stable").index
        shares = self.apart()
        rows = []
        for one, other in pairwise(order):
            share = float(shares.loc[one, other])
            if 1 - SURE < share < SURE:
                rows.append(
                    f"The data cannot show whether {one} or {other} should have the larger "
                    f"weight: {one} has it in "
                    f"{100 * share:.0f} % of resampled histories."
                )
        return rows or [
            "The order of the weights is the same in at least 95 % of resampled histories, pair "
            "by pair."
        ]

    def __repr__(self) -> str:
        return f"<best weights of {len(self.draws)} histories: {self.how}>"

    @delegated_to("kindynos.plots", "resampled_weights")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the spread of each weight, with the weight itself and the average."""


@checked
def resampled(
    request: AllocationRequest,
    weights: Floats,
    times: int,
    seed: Seed,
    block: float | None,
    progress: Callable[[int, int], object] | None,
) -> Resampled:
    """Return the allocations of resampled histories; see ``Allocation.resampled``."""
    check_integer("times", times, least=20, most=MOST_TIMES)
    seed = checked_seed(seed)
    source = request.source
    draw, how = _drawing(source, block)
    allocations, curves, infeasible = [], [], 0
    for number in range(times):
        solver = Solver(
            draw(stream(seed, "resampled history", number)), request.region, request.aim
        )
        best, met = weights_or_least_risk(solver)
        infeasible += not met
        allocations.append(best)
        curves.append(_curve(solver))
        if progress is not None:
            progress(number + 1, times)
    means = np.array([curve[0] for curve in curves])
    sds = np.array([curve[1] for curve in curves])
    frontier = pd.DataFrame(
        {"place": np.linspace(0, 1, POINTS), "mean": means.mean(axis=0), "sd": sds.mean(axis=0)}
    )
    for name, values in (("mean", means), ("sd", sds)):
        frontier[f"{name} low"], frontier[f"{name} high"] = np.quantile(values, ENDS, axis=0)
    names = source.names
    return Resampled(
        pd.DataFrame(np.array(allocations), columns=names),
        pd.Series(weights, names),
        frontier,
        how,
        infeasible,
        source.description,
    )


def weights_or_least_risk(solver: Solver) -> tuple[Floats, bool]:
    """Return the best weights, or where limits cannot be met those of the least sd; and whether
    they could.
    """
    try:
        return solver.best(), True
    except ParameterError:
        return Solver(
            solver.source, replace(solver.region, floor=None), Aim(minimize="sd")
        ).best(), False


def _curve(solver: Solver) -> tuple[Floats, Floats]:
    """Return means and sds of points of the frontier, spread evenly over its means."""
    source, region = solver.source, solver.region
    path = (
        solver.path
        if region.floor is None
        else path_of(replace(region, floor=None), source.mean, source.covariance)
    )
    means = np.linspace(path.means[0], path.means[-1], POINTS)
    points = np.array([path.of_mean(mean) for mean in means])
    return means, np.sqrt(np.einsum("ij,jk,ik->i", points, source.covariance, points))


def _drawing(
    source: Source, block: float | None
) -> tuple[Callable[[np.random.Generator], Source], str]:
    """Return the function that draws a source like this one, and how it does."""
    count: int
    if source.returns is not None and source.in_order:
        count = len(source.returns)
        length = count ** (1 / 3) if block is None else positive("block", block)
        returns = source.returns

        def history(generator: np.random.Generator) -> Source:
            return source.refit(returns[block_positions(generator, 1, count, length)[0]])

        return (
            history,
            f"blocks of {length:.1f} {source.period}s on average, from {count:,} returns",
        )
    if source.simulated is not None:
        raise ParameterError(
            "simulated returns do not show how much history is behind them; start from prices, or "
            "from Moments with "
            "observations="
        )
    if source.moments.observations is None:
        raise ParameterError(
            "say of how many observations= the moments are, kd.Moments(mean, covariance, "
            "observations=120)"
        )
    count = source.moments.observations
    factor = np.linalg.cholesky(source.covariance)
    size = len(factor)

    def moments(generator: np.random.Generator) -> Source:
        # Bartlett's decomposition of a Wishart matrix.
        lower = np.tril(generator.standard_normal((size, size)), -1)
        np.fill_diagonal(lower, np.sqrt(generator.chisquare(count - 1 - np.arange(size))))
        root = factor @ lower
        mean = source.mean + factor @ generator.standard_normal(size) / np.sqrt(count)
        drawn = Moments(mean, root @ root.T / (count - 1), source.names, count)
        return replace(source, moments=drawn)

    return moments, f"means and covariances as {count:,} normal returns would give them"
