"""What was asked of an allocation: where it starts, what weights may be, and what is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.markets.allocation.measures import RISKS, Losses
from kindynos.markets.allocation.region import Region, WeightRow
from kindynos.markets.allocation.solve import Aim, Solver
from kindynos.markets.allocation.source import Source
from kindynos.validate import finite, known_name, mapping, one_of

LIMITS = ("mean", *RISKS)
GAINS = ("mean", "ratio", "parity")
AIMED = ("sd", "variance", "expected_shortfall", "parity")
STEP = 0.01  # by which a bound is loosened, to see what that brings; a limit by as much of itself
AT = 1e-8  # how near a weight is to its bound when it counts as lying on it


@dataclass(frozen=True, eq=False)
class AllocationRequest:
    """A source, a region and an aim."""

    source: Source
    region: Region
    aim: Aim

    def weights(self) -> Floats:
        """Return the best weights; raises ParameterError for limits that cannot be met."""
        return Solver(self.source, self.region, self.aim).best()

    def aimed(
        self,
        maximize: str | None = None,
        minimize: str | None = None,
        limits: Mapping[str, float] | None = None,
    ) -> AllocationRequest:
        """Return the request with another aim, and more limits than its own."""
        aim = replace(
            self.aim,
            maximize=maximize,
            minimize=minimize,
            limits={**self.aim.limits, **(limits or {})},
        )
        return replace(self, aim=aim)

    @property
    def wanted(self) -> str:
        """The aim in words."""
        aim = self.aim
        if "parity" in (aim.maximize, aim.minimize):
            return "equal contributions to risk"
        risk = (aim.minimize or "sd").replace("_", " ")
        above = f" above {aim.rate:g}" if aim.rate else ""
        words = {
            "mean": "the highest mean",
            "ratio": f"the highest ratio of the mean{above} to the {risk}",
        }
        aim_in_words = words[aim.maximize] if aim.maximize else f"the least {risk}"
        limits = [
            f"{name.replace('_', ' ')} at {'least' if name == 'mean' else 'most'} {limit:g}"
            for name, limit in aim.limits.items()
        ]
        return aim_in_words + (f" with {' and '.join(limits)}" if limits else "")

    def binding(self, weights: Floats) -> list[tuple[str, str, float, AllocationRequest]]:
        """Return what holds the weights back: its words, its name, its value, and the request with
        it loosened.
        """
        region, limits = self.region, []
        for i, name in enumerate(region.names):
            if region.upper[i] - region.lower[i] < AT:
                continue
            if weights[i] <= region.lower[i] + AT:
                limits.append(
                    ("lower bound", name, float(region.lower[i]), self._bounded("lower", i, -STEP))
                )
            elif weights[i] >= region.upper[i] - AT:
                limits.append(
                    ("upper bound", name, float(region.upper[i]), self._bounded("upper", i, STEP))
                )
        for position, row in enumerate(region.rows):
            figure = float(row.coefficients @ weights)
            if figure <= row.low + AT:
                limits.append(
                    (
                        "group, low end",
                        row.label,
                        row.low,
                        self._grouped(position, replace(row, low=row.low - STEP)),
                    )
                )
            if figure >= row.high - AT:
                limits.append(
                    (
                        "group, high end",
                        row.label,
                        row.high,
                        self._grouped(position, replace(row, high=row.high + STEP)),
                    )
                )
        traded = 0.0 if region.today is None else float(np.abs(weights - region.today).sum())
        if region.turnover is not None and traded >= region.turnover - AT:
            looser = replace(self, region=replace(region, turnover=region.turnover + STEP))
            limits.append(("turnover", "turnover", region.turnover, looser))
        return limits + self._limits_met(weights)

    def _limits_met(self, weights: Floats) -> list[tuple[str, str, float, AllocationRequest]]:
        """Return the limits that the weights just keep, each with the request that has it
        loosened.
        """
        losses, limits_met = Losses(self.source, self.aim.level), []
        for name, limit in self.aim.limits.items():
            value = (
                losses.mean(weights) - self.region.charge(weights)
                if name == "mean"
                else losses.value(name, weights)
            )
            room = value - limit if name == "mean" else limit - value
            if room <= 1e-6 * abs(limit) + 1e-12:
                looser = limit + STEP * abs(limit) * (-1 if name == "mean" else 1)
                limits_met.append(
                    (
                        "limit",
                        name,
                        limit,
                        self.aimed(self.aim.maximize, self.aim.minimize, {name: looser}),
                    )
                )
        return limits_met

    def _bounded(self, side: str, position: int, step: float) -> AllocationRequest:
        ends = getattr(self.region, side).copy()
        ends[position] += step
        region = (
            replace(self.region, lower=ends)
            if side == "lower"
            else replace(self.region, upper=ends)
        )
        return replace(self, region=region)

    def _grouped(self, position: int, row: WeightRow) -> AllocationRequest:
        rows = (*self.region.rows[:position], row, *self.region.rows[position + 1 :])
        return replace(self, region=replace(self.region, rows=rows))


def aim_of(maximize: Any, minimize: Any, limits: Any, level: float, rate: float) -> Aim:
    """Return the aim that the arguments of ``allocate`` state; raises ParameterError for what does
    not go together.
    """
    stated: Mapping[Any, Any] = (
        {} if limits is None else mapping("limits", limits, "figures by measure")
    )
    valid = {known_name("limit", n, LIMITS): finite(f"limit {n}", x) for n, x in stated.items()}
    if "variance" in valid:
        variance = valid.pop("variance")
        if variance < 0:
            raise ParameterError(f"limit variance {variance:g} is below 0")
        valid["sd"] = min(variance**0.5, valid.get("sd", np.inf))
    if maximize is None and minimize is None:
        maximize = "mean" if any(name != "mean" for name in valid) else "ratio"
    if maximize is not None:
        one_of("maximize", maximize, GAINS)
    if isinstance(minimize, str) and minimize in ("value_at_risk", "drawdown"):
        raise ParameterError(
            f"minimize={minimize!r}: it has many local optima; minimize 'expected_shortfall', or "
            f"keep it within a limit, limits={{{minimize!r}: 0.1}}"
        )
    if minimize is not None:
        one_of("minimize", minimize, AIMED)
    if maximize is not None and minimize is not None and maximize != "ratio":
        raise ParameterError(
            f"say maximize={maximize!r} or minimize={minimize!r}; one of them may be a limit "
            "instead"
        )
    if "parity" in (maximize, minimize) and valid:
        raise ParameterError("equal contributions know bounds, and no limits")
    # The variance is least where the sd is.
    least = "sd" if minimize == "variance" else minimize
    return Aim(
        maximize,
        None if maximize == "ratio" and least == "sd" else least,
        valid,
        level,
        finite("rate", rate),
    )
