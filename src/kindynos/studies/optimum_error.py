"""How far the best decisions on these draws may be from the best of all: sampling error of an
optimum.

At an optimum the slope of the objective (less multipliers times those of the constraints that bind)
is 0 and the binding constraints hold. Both are means over trials, to first order, so each block of
trials has its own; what a block's slopes and constraints would move the decisions by is K^-1 times
them, K the matrix of second derivatives bordered by the slopes of the binding constraints. The
spread of these moves between blocks gives the error: the sandwich of Huber, Fifth Berkeley
Symposium 1 (1967), 221-233; with constraints, Shapiro, Annals of Operations Research 30 (1991),
169-186.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.inference.intervals import t_point
from kindynos.results.result import Result
from kindynos.studies.aims import Figure
from kindynos.studies.points import Point
from kindynos.studies.search import DecisionSearch

# of each range, over which slopes are taken; longer where figures jump
STEP, ROUGH_STEP = (0.02, 0.05)
LONGEST = 0.1  # of each range, that a step along the slopes may be
FLAT = 1e-9
HALF = 0.5
SETTLED = 1e-4  # share of a range to which the search settles a decision
FEWEST = 6  # blocks, and their end
TRIALS_APART = 3.0  # 95 % point of an exponential distance of mean 1


def decision_errors(search: DecisionSearch, best: Point) -> list[float]:
    """Return the 95 % error of each decision, half the width of its interval; NaN for lists of
    values and where it is unknown.

    A decision at the end of its range has the error 0: on these draws no better one lies inside.
    """
    free = [position for position, choice in enumerate(search.choices) if not choice.values]
    errors = [math.nan] * len(search.choices)
    inside, binding = _active(search, best)
    for position in free:
        errors[position] = math.nan if position in inside else 0.0
    if not inside or len(binding) > len(inside):
        return errors
    try:
        moves, inward = _moves(search, best, inside, binding)
    except (RunError, np.linalg.LinAlgError):
        return errors
    blocks = len(moves)
    reach = t_point(blocks - 1) * moves.std(axis=0, ddof=1) / math.sqrt(blocks)
    reach = np.maximum(reach, np.abs(inward) @ _least_units(search, best, binding))
    # By so much the search may have stopped short of the summit of these draws.
    short = np.hypot(np.abs(moves.mean(axis=0)), SETTLED)
    for position, error in zip(inside, np.hypot(reach, short), strict=True):
        if error < HALF:  # a wider interval is the whole range, and says nothing
            errors[position] = float(error) * search.choices[position].width
    return errors


def _least_units(search: DecisionSearch, best: Point, binding: list[int]) -> Floats:
    """Return the least by which draws can tell each binding constraint, in its units.

    Under a stratified plan every block may have the same share of trials below a cut-off, so that
    blocks show no spread. How far the cut-off lies from the next trial is exponential with a mean
    of one trial, whose 95 % point is ``TRIALS_APART``.
    """
    least = np.zeros(len(binding))
    result = search.results([best])[0]
    for row, position in enumerate(binding):
        figure = search.constraints[position].figure
        if figure.jumps:
            sample = result[figure.outcome].sample
            terms = figure.statistic.influence(sample)
            jump = 0.0 if terms is None else float(np.ptp(terms))
            least[row] = TRIALS_APART * jump / sample.count / search.scales[position]
    return least


@dataclass(frozen=True, eq=False)
class Slopes:
    """What the slopes around a point say: where the summit is, and how the decisions move for a
    constraint's sake.
    """

    summit: Point
    far: bool  # whether the summit lies further off than a step along the slopes may be
    # for each binding constraint the change of all decisions that lowers it by one of its units
    inward: tuple[Floats, ...]
    binding: tuple[int, ...]


def slopes_around(search: DecisionSearch, best: Point) -> Slopes | None:
    """Return what the slopes around a point say; None where they say nothing."""
    inside, binding = _active(search, best)
    if not inside or len(binding) > len(inside):
        return None
    try:
        moves, inward = _moves(search, best, inside, binding)
    except (RunError, np.linalg.LinAlgError):
        return None
    widths = np.array([search.choices[position].width for position in inside])
    move = moves.mean(axis=0)
    shift = np.clip(move, -LONGEST, LONGEST) * widths
    values = np.array(best)
    values[inside] += shift
    summit = tuple(choice.near(float(x)) for choice, x in zip(search.choices, values, strict=True))
    lowered = []
    for column in inward.T:
        change = np.zeros(len(best))
        change[inside] = column * widths
        lowered.append(change)
    return Slopes(summit, bool((np.abs(move) > LONGEST).any()), tuple(lowered), tuple(binding))


def _active(search: DecisionSearch, best: Point) -> tuple[list[int], list[int]]:
    """Return the decisions that lie within their ranges, and the constraints that bind."""
    inside = []
    for position, choice in enumerate(search.choices):
        room = min(best[position] - choice.low, choice.high - best[position])
        if not choice.values and room >= 1e-4 * choice.width:
            inside.append(position)
    return inside, [k for k, _ in enumerate(search.constraints) if _binds(search, best, k)]


def _binds(search: DecisionSearch, best: Point, position: int) -> bool:
    """Whether a constraint lies within a hundredth of what was seen of it, or its own error, of its
    limit.
    """
    tried = search.tried[best]
    error = tried.figures[position].error
    near = max(0.01 * search.scales[position], 0.0 if math.isnan(error) else 0.5 * error)
    return -tried.excess[position] <= near and _pushes(search, best, position)


def _pushes(search: DecisionSearch, best: Point, position: int) -> bool:
    """Whether some point that was better broke this constraint."""
    worth = search.tried[best].worth
    return any(t.worth > worth and t.excess[position] > 0 for t in search.tried.values())


def _moves(
    search: DecisionSearch, best: Point, inside: list[int], binding: list[int]
) -> tuple[Floats, Floats]:
    """Return by how much each block alone would move the decisions, ``(blocks, decisions)``, in
    shares of their ranges.

    And by how much they move, ``(decisions, constraints)``, to lower each binding constraint by one
    of its units.
    """
    size = len(inside)
    widths = np.array([search.choices[position].width for position in inside])
    steps = [_step(search, best, position) for position in inside]
    points, where = _stencil(best, inside, steps)
    shares = np.array(steps) / widths
    results = search.results(points)
    figures = [search.figure, *(search.constraints[k].figure for k in binding)]
    units = np.array([search.sign * search.spread, *(search.scales[k] for k in binding)])
    values = (
        np.array([[float(f.read(result[f.outcome])) for result in results] for f in figures])
        / units[:, None]
    )
    terms = (
        np.array([[_by_block(f, result) for result in results] for f in figures])
        / units[:, None, None]
    )
    ups, downs = ([where[i, side] for i in range(size)] for side in (1, -1))
    slopes = (values[:, ups] - values[:, downs]) / (2 * shares)
    multipliers = np.linalg.lstsq(slopes[1:].T, slopes[0])[0]
    weights = np.concatenate([[1.0], -multipliers])
    second = np.tensordot(weights, np.stack([_second(row, where, shares) for row in values]), 1)
    count = len(binding)
    matrix = np.block([[second, -slopes[1:].T], [slopes[1:], np.zeros((count, count))]])
    along = _on_surface(second, slopes[1:])
    if along.size and not (np.linalg.eigvalsh(along) < 0).all():
        raise RunError("no summit: the objective is flat, or rises")
    if np.linalg.cond(matrix) > 1 / FLAT:
        raise RunError("the slopes do not show where the summit is")
    own = np.tensordot(weights, (terms[:, ups] - terms[:, downs]) / (2 * shares[:, None]), 1)
    noise = np.concatenate([own, terms[1:, 0] - terms[1:, 0].mean(axis=1, keepdims=True)])
    inverse = np.linalg.inv(matrix)
    most = np.array([1.0 if search.constraints[k].most else -1.0 for k in binding])
    return np.asarray(-(inverse @ noise)[:size].T), np.asarray(-inverse[:size, size:] * most)


def _on_surface(hessian: Floats, slopes: Floats) -> Floats:
    """Return second derivatives along the directions in which the binding constraints stay as they
    are.
    """
    if not len(slopes):
        return hessian
    _, _, basis = np.linalg.svd(slopes)
    along = basis[len(slopes) :]
    return np.asarray(along @ hessian @ along.T)


def _step(search: DecisionSearch, best: Point, position: int) -> float:
    choice = search.choices[position]
    room = min(best[position] - choice.low, choice.high - best[position])
    return min((ROUGH_STEP if search.rough else STEP) * choice.width, room)


def _stencil(
    best: Point, inside: list[int], steps: list[float]
) -> tuple[list[Point], dict[tuple[int, ...], int]]:
    """Return the points at which differences are taken, and where each stands: (i, side) and (i, j,
    side, side).
    """
    points: list[Point] = [best]
    where: dict[tuple[int, ...], int] = {(i, 0): 0 for i in range(len(inside))}

    def add(key: tuple[int, ...], shifts: Sequence[tuple[int, int]]) -> None:
        shifted = list(best)
        for i, side in shifts:
            shifted[inside[i]] += side * steps[i]
        where[key] = len(points)
        points.append(tuple(shifted))

    for i in range(len(inside)):
        for side in (-1, 1):
            add((i, side), [(i, side)])
        for j in range(i):
            for a in (-1, 1):
                for b in (-1, 1):
                    add((i, j, a, b), [(i, a), (j, b)])
    return points, where


def _second(values: Floats, where: dict[tuple[int, ...], int], steps: Floats) -> Floats:
    size = len(steps)
    second = np.empty((size, size))
    for i in range(size):
        second[i, i] = (values[where[i, 1]] - 2 * values[0] + values[where[i, -1]]) / steps[i] ** 2
        for j in range(i):
            cross = sum(a * b * values[where[i, j, a, b]] for a in (-1, 1) for b in (-1, 1))
            second[i, j] = second[j, i] = cross / (4 * steps[i] * steps[j])
    return second


def _by_block(figure: Figure, result: dict[str, Result]) -> Floats:
    """Return the mean of the linear terms of a figure in each block; raises for a statistic
    without.
    """
    sample = result[figure.outcome].sample
    terms = figure.statistic.influence(sample) if np.isfinite(sample.values).all() else None
    if terms is None or sample.blocks < FEWEST - 1:
        raise RunError("a statistic without a linear term for each trial, or too few blocks")
    return np.asarray(sample.by_block(terms) / np.diff(sample.bounds))
