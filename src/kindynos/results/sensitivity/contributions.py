"""Contributions to the variance, to a percentile and to the contingency, which add up to it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import get_args

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import RunError
from kindynos.formula.terms import Term, terms_of
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import jackknifed
from kindynos.literals import ContributionBy, ContributionTo
from kindynos.program.quantities import DistributionDriver
from kindynos.results.calculation import worked_out
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome, work_out
from kindynos.results.trials import SimulatedTrials
from kindynos.sampling.streams import stream
from kindynos.validate import finite, instance, invalid_argument, one_of

TO, BY = get_args(ContributionTo), get_args(ContributionBy)
EVALUATIONS = 262_144  # of the model, at most, for contributions of drivers
GROUPS = 20  # of blocks, left out one at a time
FEWEST_GROUPS, FEWEST = 5, 200  # groups and trials below which no error is given
ORDERS = 8  # of the drivers, among which the trials of a block are spread
NARROWER = 1.5  # by how much the second window of these trials is narrower
SPREAD_OF_TWO = 2.0  # by how much two windows combined know less than the trials in them
NEAR = 0.7  # power of the number of trials that a percentile's contributions are averaged over
# trials that lie exactly at a point, from which on their mean is taken; of the range of the outcome
ENOUGH, ROUNDING = 100, 1e-9
BASE = "base case"
NAMES = "a list of names of quantities"


def contributions_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    to: ContributionTo | str = "variance",
    by: ContributionBy | str | Sequence[str] = "drivers",
    percentile: float | None = None,
) -> pd.DataFrame:
    """Return contributions that add up: to the variance of an outcome, to a percentile of it, or to
    the contingency, which is that percentile less the base case; with 95 % errors.

    ``by="drivers"``: the outcome of a trial less the base case is divided among the drivers, by
    setting one after the other from its base value to its value in the trial, in random orders; so
    any model, and any dependence, is served. ``by="lines"`` takes the terms of the sum that the
    outcome's formula is, ``"summands"`` the terms of these too, and ``"sales,-crew"``, or a list of
    names, quantities that add up to the outcome. ``percentile`` is by default the bad side's:
    80 of a cost, 20 of what is better high.

    With X the contributions of a part to trials of the outcome Y, its contribution to the variance
    is cov(X, Y), and to the percentile q the mean of X where Y = q, by local linear regression,
    under which sums stay sums. ``share`` is of the total, which is in ``attrs["total"]``; of
    drivers, the base case is a row of a percentile, and shares are of the rest. Raises
    RunError for an outcome that is not such a sum, and without a base case.

    Sources: Tasche, Risk Contributions and Performance Measurement (1999); Strumbelj and Kononenko,
    JMLR 11 (2010), 1-18; Fan and Gijbels, Local Polynomial
    Modelling and Its Applications (1996), chapter 3.
    """
    valid_outcome(run, outcome)
    one_of("to", to, TO)
    if by_period:
        raise RunError("contributions take the periods of a driver together; see the method rank")
    if isinstance(by, str) and "," in by:
        by = [name.strip() for name in by.split(",")]
    if isinstance(by, str):
        one_of("by", by, BY)
    elif not all(isinstance(name, str) for name in instance("by", by, (list, tuple), NAMES)):
        raise invalid_argument("by", NAMES, by)
    parts = _by_drivers(run, outcome) if by == "drivers" else _by_terms(run, outcome, by)
    level = _level(run, outcome, percentile)
    if to == "variance":
        figures = _to_variance(run, outcome, parts)
    else:
        figures = _to_percentile(run, outcome, parts, level, to == "contingency")
    contributions, shares = figures.estimates(), figures.estimates(shares=True)
    frame = pd.DataFrame(
        {
            "contribution": [float(figure) for figure in contributions],
            "error": [figure.error for figure in contributions],
            "share": [float(share) for share in shares],
            "error of share": [share.error for share in shares],
        },
        index=pd.Index(parts.names, name="driver" if by == "drivers" else "line"),
    )
    frame = frame.sort_values("share", ascending=False, kind="stable")
    if to == "percentile" and by == "drivers":
        first = pd.DataFrame({"contribution": [parts.start]}, index=[BASE])
        frame = pd.concat([first, frame]).rename_axis(index="driver")
    frame.attrs["to"] = {
        "variance": "the variance",
        "percentile": f"P{level:g}",
        "contingency": f"P{level:g} less the base case",
    }[to]
    frame.attrs["total"] = float(frame["contribution"].sum())
    frame.attrs["percentile"] = level
    frame.attrs["trials"] = parts.outcome.size
    return frame


@dataclass(frozen=True)
class _Parts:
    """What adds up to an outcome in each trial: ``(parts, trials)`` with what they start from, and
    the group of blocks that each trial is in.
    """

    names: list[str]
    values: Floats
    base: Floats  # of each part in the base case
    start: float
    outcome: Floats
    group: NDArray[np.int64]

    @property
    def groups(self) -> list[int]:
        """The groups that are left out one at a time; none where that gives no error."""
        values = np.unique(self.group).tolist()
        return values if len(values) >= FEWEST_GROUPS and len(self.outcome) >= FEWEST else []

    def without_one(self) -> Iterator[NDArray[np.bool_]]:
        """Yield which trials are left when one group of blocks is left out."""
        for group in self.groups:
            yield self.group != group


def _level(run: SimulatedTrials, outcome: str, percentile: float | None) -> float:
    if percentile is None:
        return 80.0 if run[outcome].better == "low" else 20.0
    if not 0 < finite("percentile", percentile) < 100:
        raise invalid_argument("percentile", "between 0 and 100", percentile)
    return float(percentile)


@dataclass(frozen=True)
class _Contributed:
    """Contributions ``(parts,)`` and what they add up to; the same with one group of blocks left
    out at a time, ``(groups, parts)`` and ``(groups,)``.
    """

    found: Floats
    total: float
    left_out: Floats
    totals: Floats
    least: Floats | None = None  # half-widths ``(parts,)`` below which no error is believed

    def estimates(self, shares: bool = False) -> list[Estimate]:
        """Return each contribution with its interval, or its share of the total."""
        with np.errstate(divide="ignore", invalid="ignore"):
            contributions = self.found / self.total if shares else self.found
            left_out = self.left_out / self.totals[:, None] if shares else self.left_out
        if not len(left_out):
            return [Estimate(float(value)) for value in contributions]
        least = np.zeros(len(contributions)) if self.least is None else self.least
        if shares:
            with np.errstate(divide="ignore", invalid="ignore"):
                least = np.abs(least / self.total)
        estimates = []
        for value, others, reach in zip(
            contributions.tolist(), left_out.T, least.tolist(), strict=True
        ):
            if not np.ptp(others) > 0 and not reach > 0:
                # a part that never moved here, which has no spread to judge by
                estimates.append(Estimate(value))
                continue
            estimate = jackknifed(value, others)
            if estimate.error < reach:
                estimate = symmetrical(value, reach, rough=True)
            estimates.append(estimate)
        return estimates


def _to_variance(run: SimulatedTrials, outcome: str, parts: _Parts) -> _Contributed:
    whole, group = run[outcome].values, _groups_of(run)
    finite = np.isfinite(whole)
    total = float(whole[finite].var(ddof=1))
    totals = np.array(
        [float(whole[finite & (group != omitted)].var(ddof=1)) for omitted in parts.groups]
    )
    left_out = [
        variance * _shares_of_variance(parts.values[:, kept], parts.outcome[kept])
        for variance, kept in zip(totals, parts.without_one(), strict=True)
    ]
    shares = total * _shares_of_variance(parts.values, parts.outcome)
    return _Contributed(shares, total, np.array(left_out), totals)


def _to_percentile(
    run: SimulatedTrials, outcome: str, parts: _Parts, level: float, contingency: bool
) -> _Contributed:
    whole, group = run[outcome].values, _groups_of(run)
    has_value = ~np.isnan(whole)
    quantile = float(run[outcome].percentile(level))
    less = parts.base if contingency else np.zeros(len(parts.base))
    # of drivers, the shares are of what goes beyond the base case
    start = float(run.base[outcome].reshape(-1)[0]) if contingency else parts.start
    # by how much the quantile moves with it is the same under any rule of interpolation
    every = float(np.quantile(whole[has_value], level / 100))
    without = [
        np.quantile(whole[has_value & (group != omitted)], level / 100) for omitted in parts.groups
    ]
    quantiles = quantile + np.array(without) - every
    left_out = [
        _at(parts.values[:, kept], parts.outcome[kept], float(point) - parts.start) - less
        for point, kept in zip(quantiles, parts.without_one(), strict=True)
    ]
    moves = _at(parts.values, parts.outcome, quantile - parts.start) - less
    # An event that is not seen near the point may yet happen in 3 of as many trials as are looked
    # at there, with a chance of 95 % (the rule of three).
    near = math.ceil(len(parts.outcome) ** NEAR) / SPREAD_OF_TWO
    usual = np.median(parts.values, axis=1, keepdims=True)
    is_event = (parts.values == usual).mean(axis=1) > 0.5
    least = 3 * is_event * np.ptp(parts.values, axis=1) / near
    return _Contributed(moves, quantile - start, np.array(left_out), quantiles - start, least)


def _shares_of_variance(values: Floats, outcome: Floats) -> Floats:
    gaps = outcome - outcome.mean()
    variance = float(gaps @ gaps)
    if not variance > 0:
        return np.zeros(len(values))
    # exactly 0 where a part never moves
    return np.where(np.ptp(values, axis=1) > 0, values @ gaps / variance, 0.0)


def _groups_of(run: SimulatedTrials) -> NDArray[np.int64]:
    """Return the group of blocks that each trial of a run is in."""
    bounds = run.drawing.blocks.bounds
    count = len(bounds) - 1
    return np.repeat(np.arange(count) * min(GROUPS, count) // count, np.diff(bounds))


def _at(values: Floats, outcome: Floats, point: float) -> Floats:
    """Return the mean of each part ``(parts, trials)`` where the outcome is at a point; what adds
    up to the outcome adds up to the point.

    A local linear regression over a window of width h is biased by the curvature times h^2. Two
    windows, of h and h / 1.5, are combined so that this cancels: (2.25 at(h / 1.5) - at(h)) / 1.25
    (Jones, Linton and Nielsen, Biometrika 82, 1995, 327-338, for the idea). Where many trials lie
    exactly at the point, their mean is taken; no part leaves the values that it takes.
    """
    gaps = outcome - point
    near = np.abs(gaps)
    exactly = near <= ROUNDING * float(np.ptp(outcome))
    if np.count_nonzero(exactly) >= ENOUGH:
        return np.asarray(values[:, exactly].mean(axis=1))
    count = min(math.ceil(len(outcome) ** NEAR), len(outcome))
    reach = float(np.partition(near, count - 1)[count - 1]) * (1 + 1e-9)
    wide, narrow = (_local_mean(values, gaps, width) for width in (reach, reach / NARROWER))
    square = NARROWER**2
    combined = (square * narrow - wide) / (square - 1)
    low, high = values.min(axis=1), values.max(axis=1)
    kept = np.clip(combined, low, high)
    free = (kept > low) & (kept < high)  # parts that take what others cannot, so that all add up
    room = np.where(free, high - low, 0.0)
    rest = float((combined - kept).sum())
    return kept + (rest * room / room.sum() if room.sum() > 0 else 0.0)


def _local_mean(values: Floats, gaps: Floats, reach: float) -> Floats:
    """Return the mean of each part where the gap is 0, by linear regression on the gaps within a
    reach, with the kernel of Epanechnikov; wider where they are too few or all alike.
    """
    near = np.abs(gaps)
    while True:
        weights = np.maximum(1 - (near / reach) ** 2, 0.0) if reach > 0 else (near == 0) * 1.0
        sums = [float((weights * gaps**power).sum()) for power in range(3)]
        spread = sums[0] * sums[2] - sums[1] ** 2
        if spread > 1e-9 * sums[0] * sums[2] or sums[2] == 0 < sums[0] or reach > near.max():
            break
        reach = max(2 * reach, float(near[near > 0].min(initial=math.inf)) * 2)
    if spread > 1e-9 * sums[0] * sums[2]:
        weights = weights * (sums[2] - sums[1] * gaps) / spread
    else:
        weights = weights / sums[0]
    return np.asarray(values @ weights)


def _by_drivers(run: SimulatedTrials, outcome: str) -> _Parts:
    """Return what each driver adds to the outcome in trials of the run, from the base case on."""
    names = [entry.driver for entry in inputs_of(run, outcome, False)]
    start = float(run.base[outcome].reshape(-1)[0])
    if not math.isfinite(start):
        raise RunError(f"{outcome!r} has no value in the base case")
    blocks = run.drawing.blocks
    most = max(EVALUATIONS // (len(names) + 1), 2 * GROUPS)
    # all trials where they are few; else as many of each of some blocks
    used = np.arange(blocks.count)
    if blocks.trials > most:
        used = np.unique(np.linspace(0, blocks.count - 1, 2 * GROUPS).astype(np.int64))
    groups = _groups_of(run)[blocks.bounds[:-1]]
    gains, outcomes, group = [], [], []
    for block in used.tolist():
        size = blocks.size(block)
        taken = size if blocks.trials <= most else min(-(-most // len(used)), size)
        drawn = _drawn(run, names, block, taken)
        walked = _walked(run, outcome, names, drawn, stream(run.seed, "contributions", block))
        finite = np.isfinite(walked).all(axis=0)
        gains.append(walked[:, finite])
        outcomes.append(walked[:, finite].sum(axis=0))
        group.append(np.full(int(finite.sum()), groups[block]))
    values, sums = np.concatenate(gains, axis=1), np.concatenate(outcomes)
    if len(sums) < 2:
        raise RunError(f"{outcome!r} has no two trials with a value")
    return _Parts(names, values, np.zeros(len(names)), start, sums, np.concatenate(group))


def _drawn(run: SimulatedTrials, names: list[str], block: int, trials: int) -> dict[str, Floats]:
    """Return the drivers' values in the first trials of a block, as ``evaluate`` takes them; those
    that the run keeps are not drawn again.
    """
    blocks, program = run.drawing.blocks, run.program
    first = int(blocks.bounds[block])
    by_name = {
        name: run[name].values[first : first + trials]
        for name in names
        if name in run.kept
        and isinstance(program.drivers[name], DistributionDriver)
        and not program.shapes[name].row
    }
    others = [name for name in names if name not in by_name]
    if others:
        drawn = program.draw(run.drawing.plan, run.seed, {block: blocks.size(block)}, others)
        by_name |= {name: rows[..., :trials] for name, rows in drawn.items()}
    return by_name


def _walked(
    run: SimulatedTrials,
    outcome: str,
    names: list[str],
    drawn: dict[str, Floats],
    generator: np.random.Generator,
) -> Floats:
    """Return what the outcome gains as each driver goes from its base value to its value in a
    trial, ``(drivers, trials)``, the drivers one after the other in a random order.
    """
    base, steps = run.program.base_values(), len(names) + 1
    trials = next(iter(drawn.values())).shape[-1]
    cuts = np.unique(np.linspace(0, trials, min(ORDERS, trials) + 1).astype(np.int64))
    orders: list[NDArray[np.int64]] = []
    while len(orders) < len(cuts) - 1:  # each order is followed by its reverse
        order = generator.permutation(len(names))
        orders += [order, order[::-1]]
    since = np.empty((len(names), trials), dtype=np.int64)  # the step from which each is as drawn
    for order, (begin, end) in zip(orders, pairwise(cuts.tolist()), strict=False):
        since[order, begin:end] = np.arange(1, steps)[:, None]
    walked = {}
    for position, name in enumerate(names):
        is_drawn = np.arange(steps)[:, None] >= since[position]
        rows = np.where(is_drawn, drawn[name][..., None, :], base[name][..., None])
        walked[name] = rows.reshape(*rows.shape[:-2], steps * trials)
    figures = work_out(run, outcome, walked, steps * trials).reshape(steps, trials)
    gains = np.diff(figures, axis=0)
    return np.asarray(np.take_along_axis(gains, since - 1, axis=0))


def _by_terms(run: SimulatedTrials, outcome: str, by: str | Sequence[str]) -> _Parts:
    """Return the terms of the sum that the outcome is, in all trials of the run."""
    terms = _terms(run, outcome, by)
    signs = np.array([term.sign for term in terms], dtype=np.float64)
    worked, base = worked_out(run, [term.text for term in terms])
    values, outcomes = signs[:, None] * worked, run[outcome].values
    finite = np.isfinite(outcomes) & np.isfinite(values).all(axis=0)
    largest = np.abs(values[:, finite]).sum(axis=0).max(initial=0.0)
    gap = np.abs(values[:, finite].sum(axis=0) - outcomes[finite]).max(initial=0.0)
    if gap > 1e-9 * largest:
        listed = ", ".join(term.label for term in terms)
        raise RunError(f"{listed:.200} do not add up to {outcome!r}: the largest gap is {gap:.6g}")
    labels = [term.label for term in terms]
    return _Parts(
        labels, values[:, finite], signs * base, 0.0, outcomes[finite], _groups_of(run)[finite]
    )


def _terms(run: SimulatedTrials, outcome: str, by: str | Sequence[str]) -> list[Term]:
    if not isinstance(by, str):
        terms = [Term(-1 if str(n).startswith("-") else 1, str(n).lstrip("-")) for n in by]
        for term in terms:
            if term.text not in run:
                raise RunError(
                    f"the run has no quantity {term.text!r:.60}", unknown=term.text, known=list(run)
                )
        return terms
    lines = run.program.lines
    formula = lines[outcome].formula if outcome in lines else None

    def formula_of(name: str) -> str | None:
        return lines[name].formula if name in lines else None

    inner = formula_of if by == "summands" else None
    terms = [] if formula is None else terms_of(formula, inner)
    if len(terms) == 1 and terms[0].text in lines:  # another name for a line that may be a sum
        return _terms(run, terms[0].text, by)
    if len(terms) < 2:
        raise RunError(
            f"{outcome!r} is not a sum; name quantities that add up to it, such as "
            "by='sales,-costs', or take by='drivers'"
        )
    return terms
