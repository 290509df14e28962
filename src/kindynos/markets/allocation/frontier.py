"""The frontier: for every mean the least risk, exactly from corner to corner or point by point."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, Unpack

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError
from kindynos.literals import FrontierRisk
from kindynos.markets.allocation.allocation import Allocation, AllocationOptions, request_of
from kindynos.markets.allocation.measures import Losses
from kindynos.markets.allocation.request import AllocationRequest
from kindynos.markets.allocation.resampling import Resampled
from kindynos.markets.allocation.solve import Solver
from kindynos.validate import check_call, check_integer, checked, finite, instance, one_of

MOST_POINTS = 1_000


class Frontier(Reported):
    """The least risk for every mean, between the weights of the least risk and those of the highest
    mean.

    With ``risk="sd"`` the corners are exact and weights between two of them change in proportion;
    with "expected_shortfall" the table has points. See ``table``, ``at``, ``best_ratio``, ``plot``
    and ``plot_weights``.

    >>> from kindynos import Moments, frontier
    >>> moments = Moments([0.04, 0.06], [[0.01, 0.0], [0.0, 0.04]], names=["bonds", "wind"])
    >>> round(float(frontier(moments).table()["mean"].max()), 3)
    0.06
    """

    @checked
    def __init__(self, request: AllocationRequest, risk: str, points: int) -> None:
        self.request = instance("request", request, AllocationRequest, "a request; call frontier")
        self.risk, self.points = risk, points
        self.losses = Losses(request.source, request.aim.level)

    def __repr__(self) -> str:
        table = self.table()
        ends = f"mean {table['mean'].min():.4g} to {table['mean'].max():.4g}"
        return f"<frontier of mean and {self.risk.replace('_', ' ')}, {len(table)} rows, {ends}>"

    @property
    def source(self) -> str:
        """What the frontier was made from, in words."""
        return self.request.source.description

    @cached_property
    def _weights(self) -> Floats:
        if self.risk == "sd" and not set(self.request.aim.limits) - {"mean"}:
            return Solver(
                self.request.source, self.request.region, self.request.aimed(minimize="sd").aim
            ).path.corners
        low, high = self._ends
        means = np.linspace(low, high, self.points)[1:]
        return np.array(
            [
                self._least,
                *(
                    self.request.aimed(minimize=self.risk, limits={"mean": float(m)}).weights()
                    for m in means
                ),
            ]
        )

    @cached_property
    def _least(self) -> Floats:
        return self.request.aimed(minimize=self.risk).weights()

    @cached_property
    def _ends(self) -> tuple[float, float]:
        best = self.request.aimed(maximize="mean").weights()
        return self._gain(self._least), self._gain(best)

    def _gain(self, weights: Floats) -> float:
        return self.losses.mean(weights) - self.request.region.charge(weights)

    def table(self) -> pd.DataFrame:
        """Return one row per corner, or a point: mean (after the cost of trades), risk, ratio of
        the two, and every weight.
        """
        weights = self._weights
        risks = [self.losses.value(self.risk, w) for w in weights]
        frame = pd.DataFrame({"mean": [self._gain(w) for w in weights], self.risk: risks})
        frame["ratio"] = (frame["mean"] - self.request.aim.rate) / frame[self.risk]
        return pd.concat([frame, pd.DataFrame(weights, columns=self.request.source.names)], axis=1)

    @checked
    def at(
        self,
        *,
        mean: float | None = None,
        sd: float | None = None,
        expected_shortfall: float | None = None,
    ) -> Allocation:
        """Return the point of the frontier with a mean, or with a risk: the highest mean whose risk
        is no higher.

        Raises ParameterError unless one of them is given, and for what the frontier does not reach.
        """
        given = {
            name: finite(name, value)
            for name, value in (
                ("mean", mean),
                ("sd", sd),
                ("expected_shortfall", expected_shortfall),
            )
            if value is not None
        }
        if len(given) != 1 or not set(given) <= {"mean", self.risk}:
            raise ParameterError(f"say one of mean= and {self.risk}=")
        if mean is not None:
            low, high = self._ends
            if not low - 1e-12 <= mean <= high + 1e-12:
                raise ParameterError(
                    f"the frontier has means from {low:.6g} to {high:.6g}, not {mean:g}"
                )
            request = self.request.aimed(minimize=self.risk, limits={"mean": min(mean, high)})
        else:
            request = self.request.aimed(maximize="mean", limits=given)
        return Allocation(request, request.weights())

    @checked
    def best_ratio(self, rate: float = 0.0) -> Allocation:
        """Return the point with the highest ratio of the mean above a riskless ``rate`` per period
        to the risk.
        """
        request = self.request.aimed(
            maximize="ratio", minimize=None if self.risk == "sd" else self.risk
        )
        request = replace(request, aim=replace(request.aim, rate=finite("rate", rate)))
        return Allocation(request, request.weights())

    @delegated_to("kindynos.plots", "frontier")
    def plot(
        self,
        selected: Allocation | None = None,
        ax: Axes | None = None,
        *,
        sure: Resampled | None = None,
    ) -> Axes:
        """Draw the frontier with single holdings and today's weights as points, and the ``chosen``
        allocation marked; with ``sure``, from ``Allocation.resampled``, the frontiers of resampled
        histories as a band.
        """

    @delegated_to("kindynos.plots", "frontier_weights")
    def plot_weights(self, ax: Axes | None = None) -> Axes:
        """Draw the weights along the frontier as areas."""


@checked
def frontier(
    source: Any,
    risk: FrontierRisk = "sd",
    *,
    points: int = 25,
    **options: Unpack[AllocationOptions],
) -> Frontier:
    """Return the frontier of mean and risk, "sd" or "expected_shortfall", of what ``source`` and
    ``options`` state.

    They are those of ``allocate``, without an aim; ``points`` is the number of rows, at most 1,000,
    where corners are not exact. Raises ParameterError as ``allocate`` does.

    >>> from kindynos import Moments
    >>> moments = Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["bond", "share"])
    >>> frontier(moments).table().round(4)
        mean      sd   ratio  bond  share
    0  0.048  0.0894  0.5367   0.8    0.2
    1  0.080  0.2000  0.4000   0.0    1.0
    """
    one_of("risk", risk, ("sd", "expected_shortfall"))
    check_call(request_of, source, **options)
    return Frontier(
        request_of(source, minimize=risk, **options),
        risk,
        check_integer("points", points, least=2, most=MOST_POINTS),
    )
