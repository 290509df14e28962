"""The value of a given at which a simulated statistic reaches a goal, on common draws."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
import pandas as pd

from kindynos.errors import GoalError, ModelError, ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.program.quantities import Line
from kindynos.program.statement import PERIODS, Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.results.simulate import simulate
from kindynos.results.statistic_text import ParsedStatistic, parse_statistic
from kindynos.sampling.streams import checked_seed
from kindynos.studies.goal import Goal
from kindynos.studies.model_sweep import check_swept
from kindynos.studies.points import Points
from kindynos.validate import checked, finite, fraction, instance, invalid_argument

# values spread over the range, which show where the goal lies between and how the statistic runs
SCAN = 5
MOST = 25
UNSHOWN = 100_000  # trials, up to which a value is tried too quickly to show progress within it
FEW = 12  # values tried for each further place where the goal is reached
MOST_SOUGHT = 14  # values tried for the extreme of a statistic that passes no goal elsewhere
GOLDEN = 0.381966
JUMP = 0.2  # share of the change over a bracket that is left within the tolerance, of a jump
END_STEPS = 6  # values tried to find each end of the interval


def _base_case(result: Result) -> Estimate:
    base = float(result.base)
    return Estimate(base, base, base)


BASE_CASE = ParsedStatistic("base case", _base_case, words="base case")


@dataclass(frozen=True)
class GoalRequest:
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
    base: float | None = None

    def statistic(self) -> tuple[ParsedStatistic, float]:
        """Return the statistic and the goal; raises ParameterError unless exactly one is stated
        whole.
        """
        aims = (self.chance, self.mean, self.percentile, self.base)
        if sum(figure is not None for figure in aims) != 1:
            raise ParameterError(
                "say one of chance=0.8 with above= or below=, mean=1e6, percentile=10 with "
                "equals=0, or base=0"
            )
        if self.equals is not None and self.percentile is None:
            raise ParameterError("equals= goes with percentile=")
        if self.chance is None and not (self.above is None and self.below is None):
            raise ParameterError("above= and below= go with chance=")
        if self.base is not None:
            return BASE_CASE, finite("base", self.base)
        if self.chance is not None:
            if (self.above is None) == (self.below is None):
                raise ParameterError(
                    "chance= needs above= or below=, the figure it is the chance of"
                )
            side, figure = (
                ("above", self.above) if self.above is not None else ("below", self.below)
            )
            return parse_statistic(f"chance {side} {finite(side, figure):.12g}"), fraction(
                "chance", self.chance
            )
        if self.mean is not None:
            return parse_statistic("mean"), finite("mean", self.mean)
        if self.equals is None:
            raise ParameterError("percentile= needs equals=, the figure it is to reach")
        return parse_statistic(f"percentile {finite('percentile', self.percentile):g}"), finite(
            "equals", self.equals
        )


@checked
def solve(
    statement: Statement, name: str, request: GoalRequest, options: SimulationOptions
) -> Goal:
    """Return the value of ``name`` that reaches what is requested; see Model.solve."""
    instance("outcome", request.outcome, str, "the name of an outcome")
    description, goal = request.statistic()
    check_swept(statement, name)
    line = _outcome_of(statement, request.outcome)
    whole = name == PERIODS and name not in statement.quantities
    low, high = _range_of(request.within, whole)
    seed = checked_seed(options.seed)
    settings = replace(options, seed=seed)
    tried: dict[float, Estimate] = {}
    lacking: list[float] = []
    if request.base is None:
        at = _trials_of(statement, name, request.outcome, settings)
    else:
        at = _base_case_of(statement, name, request.outcome)

    def gap(value: float) -> float:
        result = at(value)
        tried[value] = description.read(result)
        lacking.append(result.unranked)
        return float(tried[value]) - goal

    what = f"{description.label} of {request.outcome}"
    others: list[float] = []
    jump = None
    if whole:
        count = _first_count(gap, int(low), int(high))
        if count is None:
            raise GoalError(_unreached(name, what, goal, tried))
        values = [value for value, figure in tried.items() if figure.low <= goal <= figure.high]
        estimate = Estimate(count, min([count, *values]), max([count, *values]))
    else:
        brackets = _scan(gap, low, high)
        if not brackets:
            raise GoalError(_unreached(name, what, goal, tried))
        tolerance = request.tolerance * (high - low)
        root, jump = _root(gap, brackets[0], tolerance, MOST)
        estimate = Estimate(root) if jump else _with_error(root, tried, gap, goal)
        others = [_root(gap, bracket, 20 * tolerance, FEW)[0] for bracket in brackets[1:]]

    stated = statement.quantities.get(name.partition(".")[0])
    return Goal(
        name,
        what,
        goal,
        estimate,
        _evaluations(tried),
        options.trials,
        seed,
        None if stated is None else stated.unit,
        line.unit,
        max(lacking),
        tuple(others),
        None if jump is None else (jump[0] + goal, jump[1] + goal),
    )


def _range_of(within: Any, whole: bool) -> tuple[float, float]:
    """Return the range that is searched; of ``whole`` numbers its ends are those inside."""
    if not isinstance(within, Sequence) or len(within) != 2:
        raise invalid_argument("within", "a pair of a low and a high end", within)
    low, high = (finite("an end of within", end) for end in within)
    if not low < high:
        raise ParameterError(f"within must be a low and a high end, not {low:g} and {high:g}")
    if not whole:
        return low, high
    low, high = math.ceil(low), math.floor(high)
    if high - low >= MOST:
        raise ModelError(
            f"of the number of periods at most {MOST} are tried; say a range as short as that"
        )
    return low, high


def _outcome_of(statement: Statement, outcome: Any) -> Line:
    """Return the line that is aimed at, which must be one number."""
    line = statement.quantities.get(outcome) if isinstance(outcome, str) else None
    if not isinstance(line, Line):
        lines = [q.name for q in statement.quantities.values() if isinstance(q, Line)]
        raise ModelError(f"the model has no outcome {outcome!r}", unknown=outcome, known=lines)
    if statement.program.shapes[outcome].row:
        raise ModelError(f"{outcome!r} is a row; aim at a number, such as last({outcome})")
    return line


def _trials_of(
    statement: Statement, name: str, outcome: str, settings: SimulationOptions
) -> Callable[[float], Result]:
    """Return what gives the outcome at a value. Where the value is a given figure, and plain runs
    are wanted, the model is made ready once and its draws are kept.
    """
    points = Points(statement, (name,), (outcome,), replace(settings, progress=None))
    shown = settings.progress is not None and settings.trials > UNSHOWN
    if points.share_a_model and not shown and name not in statement.program.targets:
        return lambda value: next(points.at([(value,)]))[outcome]

    def simulated(value: float) -> Result:
        changed = statement.replace(**{name: value})
        return simulate(changed.program, replace(settings, keep=[outcome]))[outcome]

    return simulated


def _base_case_of(statement: Statement, name: str, outcome: str) -> Callable[[float], Result]:
    """Return what gives the outcome in the base case at a value, as one trial."""

    def worked_out(value: float) -> Result:
        program = statement.replace(**{name: value}).program
        values, _ = program.evaluate(program.base_values(), 1, [outcome], lenient=True)
        base = np.asarray(values[outcome], dtype=np.float64).reshape(-1)[:1]
        return Result(outcome, base, np.array([0, 1]), base=float(base[0]))

    return worked_out


def _first_count(gap: Callable[[float], float], low: int, high: int) -> int | None:
    """Return the first whole number, from the low end on, at which the statistic has reached or
    passed the goal.
    """
    gaps = {count: gap(float(count)) for count in range(low, high + 1)}
    return next(
        (count for count, missed_by in gaps.items() if missed_by == 0 or missed_by * gaps[low] < 0),
        None,
    )


@dataclass(frozen=True)
class Bracket:
    """Two values between which the statistic crosses its goal, with how far it is from it there."""

    low: float
    high: float
    at_low: float
    at_high: float


def _scan(gap: Callable[[float], float], low: float, high: float) -> list[Bracket]:
    """Return all places between values spread over the range where the statistic crosses the goal;
    where there is none, those on either side of its extreme, if that passes the goal.
    """
    values = [float(value) for value in np.linspace(low, high, SCAN)]
    gaps = {value: gap(value) for value in values}
    brackets = _crossings(gaps)
    if brackets or not all(math.isfinite(distance) for distance in gaps.values()):
        return brackets
    # the goal lies beyond all of them: seek the extreme on its side
    sign = -math.copysign(1.0, gaps[values[0]])
    best = max(values, key=lambda value: sign * gaps[value])
    position = values.index(best)
    left, right = values[max(position - 1, 0)], values[min(position + 1, SCAN - 1)]
    for _ in range(MOST_SOUGHT):
        # the wider side of the best so far, by the golden section
        wider_right = right - best > best - left
        value = best + GOLDEN * (right - best) if wider_right else best - GOLDEN * (best - left)
        gaps[value] = gap(value)
        if gaps[value] * gaps[best] <= 0:
            return _crossings(gaps)
        if sign * gaps[value] > sign * gaps[best]:
            left, best, right = (best, value, right) if wider_right else (left, value, best)
        elif wider_right:
            right = value
        else:
            left = value
    return []


def _crossings(gaps: dict[float, float]) -> list[Bracket]:
    """Return the neighbours between which the gap changes sign, or where one has none."""
    brackets: list[Bracket] = []
    for low, high in pairwise(sorted(gaps)):
        begins_at = gaps[low] == 0 and not (brackets and brackets[-1].high == low)
        ends_at = gaps[high] == 0 and high == max(gaps)
        if begins_at or ends_at or gaps[low] * gaps[high] < 0:
            brackets.append(Bracket(low, high, gaps[low], gaps[high]))
    return brackets


def _root(
    gap: Callable[[float], float], bracket: Bracket, tolerance: float, most: int
) -> tuple[float, tuple[float, float] | None]:
    """Return where the gap changes sign, by interpolation that is never slower than halving by more
    than one step; and where it jumps there, from where to where.

    The ITP method of Oliveira and Takahashi, ACM Transactions on Mathematical Software 47 (2020),
    article 5.
    """
    a, b, at_a, at_b = bracket.low, bracket.high, bracket.at_low, bracket.at_high
    if at_a == 0 or at_b == 0:
        return (a if at_a == 0 else b), None
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
        reached = gap(value)
        if reached == 0:
            return value, None
        if reached * sign > 0:
            b, at_b = value, reached
        else:
            a, at_a = value, reached
    # the end at which the goal is reached: it matters where the statistic jumps
    root = b if at_b > 0 else a
    is_jump = abs(at_b - at_a) > JUMP * abs(bracket.at_high - bracket.at_low) and b - a <= (
        2.01 * tolerance
    )
    return root, (at_a, at_b) if is_jump else None


def _with_error(
    value: float, tried: dict[float, Estimate], gap: Callable[[float], float], goal: float
) -> Estimate:
    """Return the value with its interval: all values at which the interval of the statistic holds
    the goal.

    An end is infinite where every value tried on that side holds it.
    """
    if math.isnan(tried[value].error):
        return Estimate(value)
    return Estimate(value, _end(value, -1, tried, gap, goal), _end(value, 1, tried, gap, goal))


def _end(
    value: float,
    side: int,
    tried: dict[float, Estimate],
    gap: Callable[[float], float],
    goal: float,
) -> float:
    def outside(position: float) -> float:
        """How far the goal lies outside the interval there; negative inside."""
        return max(tried[position].low - goal, goal - tried[position].high)

    beyond = sorted(
        (position for position in tried if (position - value) * side > 0),
        key=lambda position: abs(position - value),
    )
    outer = next((position for position in beyond if outside(position) > 0), None)
    if outer is None:
        return side * math.inf
    inner = max(
        (position for position in tried if 0 <= (position - value) * side < abs(outer - value)),
        key=lambda v: abs(v - value),
    )
    if outside(inner) > 0:  # the statistic jumps at the value itself
        return value
    for _ in range(END_STEPS):
        if abs(outer - inner) <= 0.05 * abs(outer - value):
            break
        share = -outside(inner) / (outside(outer) - outside(inner))
        middle = inner + min(max(share, 0.1), 0.9) * (outer - inner)
        gap(middle)
        inner, outer = (inner, middle) if outside(middle) > 0 else (middle, outer)
    return inner + (outer - inner) * -outside(inner) / (outside(outer) - outside(inner))


def _evaluations(tried: dict[float, Estimate]) -> pd.DataFrame:
    rows = [(value, float(f), f.error, f.low, f.high) for value, f in sorted(tried.items())]
    return pd.DataFrame(rows, columns=["value", "statistic", "error", "low", "high"])


def _unreached(name: str, what: str, goal: float, tried: dict[float, Estimate]) -> str:
    figures = {value: float(figure) for value, figure in tried.items()}
    least, most = min(figures, key=figures.__getitem__), max(figures, key=figures.__getitem__)
    ends = f"{_plain_number(min(figures))} to {_plain_number(max(figures))}"
    reached = [
        f"{_plain_number(figures[value])} (at {_plain_number(value)})" for value in (least, most)
    ]
    return (
        f"no {name} from {ends} makes the {what} {_plain_number(goal)}: among "
        f"{len(figures)} values tried it runs from "
        f"{reached[0]} to {reached[1]}"
    )


def _plain_number(value: float) -> str:
    """Return a number at six significant digits, without a power of ten."""
    return f"{float(f'{value:.6g}'):,.12g}"
