"""Sentences that stay true where many trials share one value: shares below and exactly at a figure,
and chances of never.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.cells import Cell
from kindynos.formatting import brief, per_cent, shares
from kindynos.formula.tree import Operation
from kindynos.inference.estimates import Estimate
from kindynos.program.program import Program
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.statistics import mean

TRUTHS = ("<", "<=", ">", ">=", "==", "!=", "and", "or", "not")
LARGEST_COUNT = 1e9
LUMP = 0.2  # share of the trials on one value from which on it is pointed out


def below_and_at(result: Result, value: float) -> str:
    """Return which share of the trials lies below a value, and which exactly at it where that is
    not nothing.
    """
    sample = result.ranked
    if not sample.count:
        return "no trial has a value"
    below, at = (
        sample.terms(hits.astype(np.float64)).mean
        for hits in (sample.valid < value, sample.valid == value)
    )
    which = "of the trials" if sample.count == result.size else "of those with a value"
    if at < 0.005:
        return f"{per_cent(below, 0)} {which} lie below it"
    texts = shares([below, at, 1 - below - at], 0)
    return f"{texts[0] if below else 'none'} {which} lie below it, {texts[1]} exactly at it"


def lump_of(result: Result) -> tuple[float, Estimate] | None:
    """Return the value that most trials share and the chance of it, if they are many; infinity is
    told as "never".
    """
    finite = result.sample.only(np.isfinite(result.values))
    if not finite.count:
        return None
    distinct, owner = np.unique(finite.valid, return_inverse=True)
    if len(distinct) == 1:
        return None
    value = float(distinct[np.bincount(owner, finite.valid_weights).argmax()])
    chance = result.chance(at=value)
    return (value, chance) if chance >= LUMP else None


def is_count(result: Result) -> bool:
    """Return whether all values are whole numbers, several of them, and none so large that it is
    an amount that was rounded.
    """
    values = result.values[np.isfinite(result.values)]
    if not values.size or np.abs(values).max() >= LARGEST_COUNT:
        return False
    return bool((values == np.floor(values)).all())


def is_condition(run: Run, name: str) -> bool:
    """Return whether an outcome is true or false in each trial, as 1 or 0, so that its mean is a
    chance.
    """
    result = run[name]
    values = result.values[~np.isnan(result.values)]
    if result.unit or not values.size or not np.isin(values, (0.0, 1.0)).all():
        return False
    return is_truth(run.program, name) or bool(values.any() and not values.all())


def is_truth(program: Program, name: str) -> bool:
    """Return whether a line is stated as a condition."""
    line = program.lines.get(name)
    tree = None if line is None or line.unit else line.tree
    return isinstance(tree, Operation) and tree.symbol in TRUTHS


def never(result: Result) -> tuple[Estimate, Estimate] | None:
    """Return the chance that something never happens, and the mean where it does; None where it
    always does.
    """
    endless = np.isposinf(result.values)
    if not endless.any() or np.isneginf(result.values).any():
        return None
    return result.chance(at=math.inf), mean(result.sample.only(~endless))


def may_be_never(run: Run, name: str) -> bool:
    """Return whether infinity means never: what it is calculated from waits for a period or a
    payback.
    """
    formulas = (
        run.program.lines[line].formula or ""
        for line in run.program.ancestors([name])
        if line in run.program.lines
    )
    return any(label in formula for formula in formulas for label in ("first_period", "payback"))


def period_labels(run: Run, name: str) -> list[str]:
    """Return the labels of the periods for a quantity that is the number of one, otherwise
    nothing.
    """
    line = run.program.lines.get(name)
    stated = run.labels and run.labels[0] != "1"
    return (
        run.labels
        if stated and line and (line.formula or "").replace(" ", "").startswith("first_period(")
        else []
    )


def labelled(text: Cell, value: float, labels: list[str]) -> Cell:
    """Return the text of a figure with the label of the period that it is, where it is one."""
    inside = math.isfinite(value) and value == int(value) and 1 <= value <= len(labels)
    return Cell.of(brief(value), f" ({labels[int(value) - 1]})") if inside else text
