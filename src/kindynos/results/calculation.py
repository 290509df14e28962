"""Formulas over the quantities of a run, worked out for its trials."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError, RunError
from kindynos.formula.parse import parse
from kindynos.formula.tree import Expression, Scope
from kindynos.results.figures import checked_condition
from kindynos.results.result import Result
from kindynos.results.trials import SimulatedTrials


def worked_out(run: SimulatedTrials, formulas: Sequence[str]) -> tuple[Floats, Floats]:
    """Return formulas over quantities of a run, ``(formulas, trials)``, and in the base case,
    ``(formulas,)``.

    Raises FormulaError for what cannot be read, and RunError for a row or an unknown name.
    """
    trees = [parse(formula) for formula in formulas]
    shapes = {**run.program.shapes}
    for formula, tree in zip(formulas, trees, strict=True):
        for name in tree.names():
            if name not in shapes and name not in run.program.constants:
                quantities = list(run.program.quantities)
                raise RunError(
                    f"{formula!r:.80}: no quantity {name!r}", unknown=name, known=quantities
                )
    names = [name for name in run if any(name in tree.names() for tree in trees)]
    blocks = run.drawing.blocks
    parts = [
        _values(run, trees, formulas, run.batch(batch, names), _size(run, batch))
        for batch in range(blocks.batches)
    ]
    base = _values(run, trees, formulas, {name: run.base[name] for name in names}, 1)
    return np.concatenate(parts, axis=1), base[:, 0]


def _size(run: SimulatedTrials, batch: int) -> int:
    span = run.drawing.blocks.part(batch)
    return int(span.stop) - int(span.start)


def _values(
    run: SimulatedTrials,
    trees: Sequence[Expression],
    formulas: Sequence[str],
    values: dict[str, Floats],
    trials: int,
) -> Floats:
    program = run.program
    scope = Scope({**program.as_used(values), **program.constants}, program.periods)
    rows = []
    for tree, formula in zip(trees, formulas, strict=True):
        try:
            with np.errstate(all="ignore"):
                calculated = np.asarray(tree.evaluate(scope))
        except KindynosError as error:
            raise RunError(f"{formula!r:.80}: {error}") from None
        if calculated.ndim > 1:
            raise RunError(
                f"{formula!r:.80} is a row; take one number of it, such as lowest(...) or "
                "total(...)"
            )
        rows.append(np.broadcast_to(calculated, (trials,)))
    return np.stack(rows)


def is_number(text: str) -> bool:
    """Return whether a text is a number, perhaps in per cent."""
    try:
        float(text.strip().removesuffix("%"))
    except ValueError:
        return False
    return True


def truths(condition: str, values: Floats) -> Floats:
    """Return the values of a condition, 1 or 0; raises RunError for a formula that is none."""
    value = values[~np.isnan(values)]
    if not np.isin(value, (0.0, 1.0)).all():
        hint = "say for example 'net_value < 0 and breach'"
        if is_number(condition):
            hint = "a chance is that of a statement such as 'net_value < 0'; for the figure that "
            hint += "is reached with a chance ask for a percentile, or solve for it"
        raise RunError(f"{condition!r:.80} is not a condition, which is true or false; {hint}")
    return values


def statement(run: SimulatedTrials, condition: str) -> Result:
    """Return in which trials a condition holds, as an outcome that is 1 or 0.

    Raises FormulaError, RunError as ``worked_out`` does, and RunError for a formula that is not a
    condition.
    """
    values, base = worked_out(run, [checked_condition(condition)])
    return Result(
        condition,
        truths(condition, values[0]),
        run.drawing.blocks.bounds,
        run.drawing.plan.together,
        base=float(base[0]),
    )
