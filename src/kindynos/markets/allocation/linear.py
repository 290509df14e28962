"""Best weights of linear aims under measures of loss: linear programs over models of the measures
that are refined as needed.

A model lies below its measure everywhere, so that a solution at which it is exact is the solution
of the whole problem: the cutting planes of Kelley, Journal of SIAM 8 (1960), 703-712, many at a
time. Where a measure is the aim, steps stay near the best weights so far until the model is good
there (a trust region), which keeps it small. All amounts are in one unit, the size of the returns,
since the solver's tolerances are absolute.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.markets.allocation.losses import LinearModel, Measure
from kindynos.markets.allocation.region import Region, System

STEPS = 400
EXACT = 1e-10  # gap between a measure and its model that ends the work
RADIUS = 0.01  # of the first step, in weights


@dataclass(frozen=True, eq=False)
class LinearAim:
    """Minimize ``price`` times a measure less the mean (either may be left out) with limits on
    measures.
    """

    gain: Floats  # (holdings,)
    price: float = 0.0
    measure: Measure | None = None
    limits: tuple[tuple[Measure, float], ...] = ()

    @property
    def parts(self) -> list[tuple[Measure, float, float]]:
        """Each measure with its price in the aim and its limit."""
        own = [] if self.measure is None else [(self.measure, self.price, np.inf)]
        return own + [(measure, 0.0, limit) for measure, limit in self.limits]

    def worth(self, region: Region, weights: Floats) -> float:
        """Return what is to be minimized, at weights."""
        price = 0.0 if self.measure is None else self.price * self.measure.value(weights)
        return price - float(self.gain @ weights) + region.charge(weights)


def best_linear(region: Region, aim: LinearAim, start: Floats) -> Floats:
    """Return the best weights; raises RunError where none meet the limits."""
    parts = aim.parts
    for measure, _, _ in parts:
        measure.start(start)
    system = region.system()
    cost = system.cost.copy()
    cost[: region.count] -= aim.gain
    near = aim.measure is not None and not aim.limits
    centre, radius, reached = start, RADIUS if near else np.inf, aim.worth(region, start)
    for _ in range(STEPS):
        weights, bound, extras, values = _solved(system, cost, parts, centre, radius)
        edge = np.abs(weights - centre) >= radius * (1 - 1e-9)
        inside = not (
            edge & (weights > region.lower + 1e-12) & (weights < region.upper - 1e-12)
        ).any()
        worth = aim.worth(region, weights)
        if near:
            if inside and min(worth, reached) - bound < EXACT:
                return weights if worth <= reached else centre
            gained, promised = reached - worth, reached - bound
            if gained > 0:
                centre, reached = weights, worth
            if gained > 0.7 * promised:
                radius *= 3
            elif gained < 0.2 * promised:
                radius /= 2
        elif all(
            m.value(weights) - value < EXACT for (m, _, _), value in zip(parts, values, strict=True)
        ):
            return weights
        for (measure, _, _), extra in zip(parts, extras, strict=True):
            measure.refine(weights, extra, near)
    raise RunError(f"the linear program was not settled after {STEPS} steps")


def _solved(
    system: System,
    cost: Floats,
    parts: Sequence[tuple[Measure, float, float]],
    centre: Floats,
    radius: float,
) -> tuple[Floats, float, list[Floats], list[float]]:
    """Return the weights that are best for the models as they are, the aim, and each model's extra
    variables and value.
    """
    from scipy.optimize import linprog

    n, size = len(centre), len(cost)
    models = [measure.model() for measure, _, _ in parts]
    widths = [len(model.lower) for model in models]
    total = size + sum(widths)
    lower = np.r_[system.lower, *(model.lower for model in models)]
    upper = np.r_[system.upper, np.full(total - size, np.inf)]
    lower[:n], upper[:n] = (
        np.maximum(lower[:n], centre - radius),
        np.minimum(upper[:n], centre + radius),
    )
    price = np.r_[cost, np.zeros(total - size)]
    rows, right = [], []
    begin = size
    for (_, own, limit), model in zip(parts, models, strict=True):
        end = begin + len(model.lower)
        rows.append(_widened(model, n, total, begin))
        right.append(np.zeros(len(model.rows)))
        price[:n] += own * model.cost[:n]
        price[begin:end] += own * model.cost[n:]
        if np.isfinite(limit):
            row = np.zeros((1, total))
            row[0, :n], row[0, begin:end] = model.cost[:n], model.cost[n:]
            rows.append(row)
            right.append(np.array([limit]))
        begin = end
    solution = linprog(
        price,
        A_ub=np.vstack(rows) if rows else None,
        b_ub=np.concatenate(right) if right else None,
        A_eq=np.hstack([system.matrix, np.zeros((len(system.right), total - size))]),
        b_eq=system.right,
        bounds=np.stack([lower, upper], axis=1),
        method="highs-ds",
    )
    if solution.status == 2:
        raise RunError("no weights meet all bounds, groups and limits together")
    if solution.status != 0:
        raise RunError(f"the linear program failed: {solution.message}")
    weights = np.clip(solution.x[:n], system.lower[:n], system.upper[:n])
    extras = np.split(solution.x[size:], np.cumsum(widths)[:-1]) if models else []
    values = [
        float(m.cost @ np.r_[weights, extra]) for m, extra in zip(models, extras, strict=True)
    ]
    return weights, float(solution.fun), extras, values


def _widened(model: LinearModel, weights: int, total: int, begin: int) -> Floats:
    rows = np.zeros((len(model.rows), total))
    rows[:, :weights], rows[:, begin : begin + len(model.lower)] = (
        model.rows[:, :weights],
        model.rows[:, weights:],
    )
    return rows
