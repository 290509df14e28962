"""The value of a given at which a simulated statistic reaches a goal, on common draws."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from kindynos.errors import GoalError, ModelError, ParameterError, nearest
from kindynos.estimate import Estimate
from kindynos.model.quantities import Line
from kindynos.model.sweeping import check_swept, replacements
from kindynos.results.asked import Asked, asked
from kindynos.results.goal import Goal
from kindynos.sampling.streams import fresh_seed
from kindynos.validate import finite, share

if TYPE_CHECKING:
    from kindynos.model.model import Model

SCAN = 5  # values spread over the range, which show where the goal lies between and how the statistic runs
MOST = 25


@dataclass(frozen=True)
class Wanted:
    """What is to be reached; see Model.solve."""

    outcome: str
    within: tuple[float, float]
    chance: float | None = None
    above: float | None = None
    below: float | None = None
    mean: float | None = None
    percentile: float | None = None
    equals: float | None = None
    tolerance: float = 1e-4

    def statistic(self) -> tuple[Asked, float]:
        """Return the statistic and the goal; raises ParameterError unless exactly one is stated whole."""
        if (self.chance, self.mean, self.percentile).count(None) != 2:
            raise ParameterError("solve: say one of chance=0.8 with above= or below=, mean=1e6, or percentile=10 with equals=0")
        if self.chance is not None:
            if (self.above is None) == (self.below is None):
                raise ParameterError("solve: chance= needs above= or below=, the figure it is the chance of")
            side, figure = ("above", self.above) if self.above is not None else ("below", self.below)
            return asked(f"chance {side} {finite('solve', side, figure):.12g}"), share("solve", "chance", self.chance)
        if self.mean is not None:
            return asked("mean"), finite("solve", "mean", self.mean)
        if self.equals is None:
            raise ParameterError("solve: percentile= needs equals=, the figure it is to reach")
        return asked(f"percentile {self.percentile:g}"), finite("solve", "equals", self.equals)


def solve(model: Model, name: str, wanted: Wanted, trials: int, seed: int | None, options: dict[str, Any]) -> Goal:
    """Return the value of ``name`` that reaches what is wanted; see Model.solve."""
    said, goal = wanted.statistic()
    low, high = (finite("solve", "an end of within", end) for end in wanted.within)
    if not low < high:
        raise ParameterError(f"solve: within must be a low and a high end, not {low:g} and {high:g}")
    check_swept(model, name, "solve")
    line = model.quantities.get(wanted.outcome)
    if not isinstance(line, Line):
        lines = [q.name for q in model.quantities.values() if isinstance(q, Line)]
        raise ModelError(f"solve: the model has no outcome {wanted.outcome!r}{nearest(wanted.outcome, lines)}")
    if model.compiled().kinds[wanted.outcome].row:
        raise ModelError(f"solve: {wanted.outcome!r} is a row; aim at a number, such as last({wanted.outcome})")
    common = fresh_seed() if seed is None else seed
    tried: dict[float, Estimate] = {}

    def gap(value: float) -> float:
        run = model.replace(**replacements(model, {name: value})).simulate(trials, common, keep=[wanted.outcome], **options)
        tried[value] = said.read(run[wanted.outcome])
        return float(tried[value]) - goal

    around = _scan(gap, low, high)
    unit = model.quantities[name.partition(".")[0]].unit
    what = f"{said.label} of {wanted.outcome}"
    if around is None:
        raise GoalError(_unreached(name, what, goal, tried))
    found = _root(gap, *around, wanted.tolerance * (high - low), MOST - len(tried))
    return Goal(name, what, goal, _with_error(found, tried, high - low), _evaluations(tried), trials, common, unit, line.unit)


def _scan(gap: Callable[[float], float], low: float, high: float) -> tuple[float, float, float, float] | None:
    """Return the two neighbours, with their gaps, between which the statistic crosses the goal."""
    values = [float(value) for value in np.linspace(low, high, SCAN)]
    gaps = [gap(value) for value in values]
    for place in range(SCAN - 1):
        if gaps[place] == 0 or gaps[place] * gaps[place + 1] < 0:
            return values[place], values[place + 1], gaps[place], gaps[place + 1]
    return (values[-2], values[-1], gaps[-2], gaps[-1]) if gaps[-1] == 0 else None


def _root(gap: Callable[[float], float], a: float, b: float, at_a: float, at_b: float, tolerance: float, most: int) -> float:
    """Return where the gap changes sign, by interpolation that is never slower than halving by more than one step.

    The ITP method of Oliveira and Takahashi, ACM Transactions on Mathematical Software 47 (2020), article 5.
    """
    if at_a == 0 or at_b == 0:
        return a if at_a == 0 else b
    steps = math.ceil(math.log2((b - a) / (2 * tolerance))) + 1
    reach, sign = 0.2 / (b - a), math.copysign(1.0, at_b)
    for step in range(min(max(steps, 1), most)):
        middle = (a + b) / 2
        if b - a <= 2 * tolerance:
            break
        straight = (at_b * a - at_a * b) / (at_b - at_a)
        side = math.copysign(1.0, middle - straight)
        shift = min(reach * (b - a) ** 2, abs(middle - straight))
        truncated = straight + side * shift
        radius = tolerance * 2 ** (steps - step) - (b - a) / 2
        value = truncated if abs(truncated - middle) <= radius else middle - side * radius
        found = gap(value)
        if found == 0:
            return value
        if found * sign > 0:
            b, at_b = value, found
        else:
            a, at_a = value, found
    return b if at_b > 0 else a  # the end at which the goal is reached: it matters where the statistic jumps


def _with_error(value: float, tried: dict[float, Estimate], span: float) -> Estimate:
    """Return the value with its error: that of the statistic there over the slope of the statistic nearby."""
    values = np.array(sorted(tried))
    figures = np.array([float(tried[v]) for v in values])
    below, above = values[values <= value - 0.02 * span], values[values >= value + 0.02 * span]
    first = below[-1] if len(below) else values[0]
    last = above[0] if len(above) else values[-1]
    inside = (values >= first) & (values <= last)
    slope = abs(float(np.polyfit(values[inside] - value, figures[inside], 1)[0])) if np.count_nonzero(inside) > 1 else 0.0
    error = tried[values[np.argmin(np.abs(values - value))]].error
    if not slope > 0 or math.isnan(error):
        return Estimate(value)
    return Estimate(value, value - error / slope, value + error / slope)


def _evaluations(tried: dict[float, Estimate]) -> pd.DataFrame:
    rows = [(value, float(f), f.error, f.low, f.high) for value, f in sorted(tried.items())]
    return pd.DataFrame(rows, columns=["value", "statistic", "error", "low", "high"])


def _unreached(name: str, what: str, goal: float, tried: dict[float, Estimate]) -> str:
    figures = {value: float(figure) for value, figure in tried.items()}
    least, most = min(figures, key=figures.__getitem__), max(figures, key=figures.__getitem__)
    ends = f"{_said(min(figures))} to {_said(max(figures))}"
    return (
        f"solve: no {name} from {ends} makes the {what} {_said(goal)}: among {len(figures)} values tried it runs from "
        f"{_said(figures[least])} (at {_said(least)}) to {_said(figures[most])} (at {_said(most)})"
    )


def _said(value: float) -> str:
    """Return a number at six significant digits, without a power of ten."""
    return f"{float(f'{value:.6g}'):,.12g}"
