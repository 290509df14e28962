"""Units of calculations without a formula to read: functions of Python, and cells of workbooks.

If all figures of one base unit grow by a small share h, a right calculation grows by k h, k the
power of the base unit in its own unit, at every point: with e the power in the unit of an input x,

    sum over the inputs of e x df/dx = k f.

It is tried at random points around the base case. What no constant in the calculation, and no input
without a unit, explains is a contradiction; it is reported only if another stated unit mends it. A
calculation that holds figures of its own, such as a price inside a function, may multiply by them
what lacks the base unit, so that such inputs explain anything too.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from types import FunctionType, ModuleType
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.program.calculation import is_figure
from kindynos.program.program import Program
from kindynos.program.steps import CalculationStep, FunctionStep, Step
from kindynos.units.algebra import Unit

STEP = 1e-4  # relative, by which an input is moved
SPREAD = 0.15  # of the logs of the inputs at the points that are tried
POINTS = 40
LEFT = 1e-3  # relative to the largest slope, of what nothing explains
WHOLE = 0.02  # by how much a power may miss a whole or a half one
MOST_INPUTS = 60
PATIENCE = 3.0  # seconds for the slopes of one calculation


@dataclass(frozen=True)
class ScalingFinding:
    """A calculation that does not scale as its units say: the base unit, the input whose unit would
    mend it, and the power of the base that would do so.
    """

    name: str
    base: str
    mend: str
    power: Fraction


def scaling_findings(
    program: Program, units: Mapping[str, Unit | None]
) -> Iterator[ScalingFinding]:
    """Yield what calculations without a formula contradict, with the units of quantities."""
    base = _base_case(program)
    if base is None:
        return
    for step in program.steps:
        if not isinstance(step, FunctionStep | CalculationStep) or step.one_thread:
            continue
        for name in step.names:
            needs = _needs(step, name)
            with_unit = [need for need in needs if units.get(need) is not None]
            if not with_unit or len(needs) > MOST_INPUTS or any(need not in base for need in needs):
                continue
            slopes = _slopes(program, step, name, {need: base[need] for need in needs})
            if slopes is not None:
                hidden = _hides_figures(step, name)
                yield from _contradictions(name, slopes, needs, units, hidden)


def _needs(step: Step, name: str) -> Sequence[str]:
    if isinstance(step, FunctionStep):
        return [need for need in step.line.needs if need not in step.tables]
    assert isinstance(step, CalculationStep)
    return step.calculation.needs(name)


def _hides_figures(step: Step, name: str) -> bool:
    """Return whether a calculation may hold figures that the model does not name."""
    if isinstance(step, CalculationStep):
        return step.calculation.hides_figures(name)
    function = step.line.function if isinstance(step, FunctionStep) else None
    if not isinstance(function, FunctionType) or function.__closure__ or function.__defaults__:
        return True
    code, names = function.__code__, function.__globals__
    used = [names[name] for name in code.co_names if name in names]
    others = any(not isinstance(value, ModuleType) for value in used)
    return others or any(map(is_figure, code.co_consts))


def _base_case(program: Program) -> dict[str, Floats] | None:
    """Return all quantities in the base case; None where it cannot be worked out."""
    try:
        values, _ = program.evaluate(program.base_values(), 1, lenient=True)
    except KindynosError:
        return None
    return {**program.constants, **values}


@dataclass(frozen=True)
class Slopes:
    """A calculation at random points ``(points,)``, and x df/dx of each input ``(points, inputs)``,
    on one scale.
    """

    values: Floats
    slopes: Floats


def _slopes(program: Program, step: Step, name: str, base: Mapping[str, Floats]) -> Slopes | None:
    """Return how a calculation moves with each of its inputs; None where it cannot be tried."""
    generator = np.random.default_rng(1)
    at = {need: _around(value, generator) for need, value in base.items()}

    def calculated(values: Mapping[str, Floats]) -> Floats:
        values_of_line = step.evaluate({**program.constants, **values}, program.periods, POINTS)[
            name
        ]
        return values_of_line.sum(axis=0) if values_of_line.ndim > 1 else values_of_line

    begun = time.perf_counter()
    try:
        with np.errstate(all="ignore"):
            values = calculated(at)
            if (time.perf_counter() - begun) * 2 * len(base) > PATIENCE:
                return None
            columns = [_slope(calculated, at, need) for need in base]
    except Exception:  # whatever a function of the analyst's raises away from the base case
        return None
    slopes = np.stack(columns, axis=1)
    good = np.isfinite(values) & np.isfinite(slopes).all(axis=1)
    return Slopes(values[good], slopes[good]) if good.sum() > len(base) + 5 else None


def _around(value: Floats, generator: np.random.Generator) -> Floats:
    """Return a base value at random points: one factor for all periods of a row at each point."""
    return np.atleast_1d(np.asarray(value, dtype=float))[..., :1] * np.exp(
        generator.normal(0, SPREAD, POINTS)
    )


def _slope(
    calculated: Callable[[Mapping[str, Floats]], Floats], at: Mapping[str, Floats], name: str
) -> Floats:
    up, down = (calculated({**at, name: at[name] * np.exp(sign * STEP)}) for sign in (1.0, -1.0))
    return (up - down) / (2 * STEP)


def _contradictions(
    name: str, found: Slopes, needs: Sequence[str], units: Mapping[str, Unit | None], hidden: bool
) -> Iterator[ScalingFinding]:
    size = float(np.sqrt((found.slopes**2).mean(axis=0)).max())
    stated = units.get(name)
    if not size:
        return
    bases = {b for n in (*needs, name) if (unit := units.get(n)) for b in unit.bases}
    for base in sorted(bases):
        powers = np.array([_power_of(units.get(need), base) for need in needs])
        # inputs without a unit, and constants in the calculation, may explain anything
        free = [found.slopes[:, i] for i in np.flatnonzero(np.isnan(powers))]
        free.append(np.full(len(found.values), size))
        if stated is None:
            free.append(-found.values)
        own = 0.0 if stated is None else float(stated.bases.get(base, 0))
        target = own * found.values - (np.nan_to_num(powers) * found.slopes).sum(axis=1)
        others = _multiplied(found, needs, units, base) if hidden else []
        if _left_over(target, [*free, *others])[0] <= LEFT * size:
            continue
        mends = []
        for position in np.flatnonzero(~np.isnan(powers)).tolist():
            column = found.slopes[:, position]
            if np.abs(column).max() <= 1e-12 * size:
                continue
            left, weights = _left_over(target, [column, *free])
            power = Fraction(powers[position] + weights[0]).limit_denominator(2)
            exact = abs(float(power) - powers[position] - weights[0]) < WHOLE
            if left <= LEFT * size and exact:
                mends.append(ScalingFinding(name, base, needs[position], power))
        if mends:  # of a currency, rather one that is money than what it is multiplied by
            money = base.startswith("$")
            yield min(mends, key=lambda mend: money and not _is_money(units[mend.mend]))


def _multiplied(
    found: Slopes, needs: Sequence[str], units: Mapping[str, Unit | None], base: str
) -> list[Floats]:
    """Return the slopes of what a hidden figure with the base unit may multiply: inputs that lack
    it, of a currency those that are no money, and the calculation as a whole.
    """
    lacking = [i for i, need in enumerate(needs) if _power_of(units.get(need), base) == 0]
    money = base.startswith("$")
    free = [i for i in lacking if not (money and _is_money(units[needs[i]]))]
    return [found.values, *(found.slopes[:, i] for i in free)]


def _is_money(unit: Unit | None) -> bool:
    return unit is not None and unit.is_money


def _power_of(unit: Unit | None, base: str) -> float:
    return np.nan if unit is None else float(unit.bases.get(base, 0))


def _left_over(target: Floats, columns: Sequence[Any]) -> tuple[float, Floats]:
    """Return how much of a target no mixture of columns explains, and the mixture."""
    matrix = np.stack(columns, axis=1)
    weights = np.linalg.lstsq(matrix, target, rcond=1e-9)[0]
    return float(np.sqrt(((target - matrix @ weights) ** 2).mean())), weights
