"""Shares of variance that add up to one with correlated drivers too."""

from __future__ import annotations

from functools import lru_cache, partial
from itertools import combinations
from math import comb

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.dependence.copulas import Elliptical
from kindynos.dependence.groups import DriverGroup
from kindynos.dependence.matrices import cholesky_factor
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import ndtr
from kindynos.errors import RunError
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome, work_out
from kindynos.results.sensitivity.variance import BLOCKS, jackknifed_share, two_draws, values_at
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import check_integer

Subset = frozenset[str]

MOST_DRIVERS = 12  # each more doubles the work


def shapley_sensitivity(
    run: SimulatedTrials, outcome: str, by_period: bool = False, *, evaluations: int = 262_144
) -> pd.DataFrame:
    """Return each driver's Shapley share of the outcome's variance, with 95 % errors; the shares
    add up to one.

    What a set of drivers explains is the variance of the outcome's mean given them; a driver's
    share is what it adds to the sets of others, averaged over all orders. Drivers may be correlated
    by the Gaussian copula; what is unknown is then redrawn given what is known. Of
    ``evaluations`` an equal part goes to each of the 2^drivers sets. Raises RunError for other
    copulas, serial correlation among linked drivers, more than 12 drivers, and too few evaluations.

    Source: Owen, SIAM/ASA Journal on Uncertainty Quantification 2 (2014), 245-251; Song, Nelson and
    Staum, same journal 4 (2016), 1060-1083.
    """
    valid_outcome(run, outcome)
    if by_period:
        raise RunError(
            "shapley takes the periods of a driver together; see the methods rank and regression",
            owner="sensitivity",
        )
    names = [entry.driver for entry in inputs_of(run, outcome, False)]
    if len(names) > MOST_DRIVERS:
        raise RunError(
            f"shapley works for up to {MOST_DRIVERS} drivers, not {len(names)}", owner="sensitivity"
        )
    groups = _groups(run, names)
    size = check_integer("shapley", "evaluations", evaluations, least=1) // (
        BLOCKS * 2 ** len(names)
    )
    if size < 8:
        raise RunError(
            f"shapley of {len(names)} drivers needs {BLOCKS * 8 * 2 ** len(names):,} evaluations "
            "or more",
            owner="sensitivity",
        )
    size = 2 ** (size.bit_length() - 1)
    sets = [
        frozenset(chosen) for count in range(1, len(names)) for chosen in combinations(names, count)
    ]
    sums = np.stack(
        [_block(run, outcome, names, sets, groups, block, size) for block in range(BLOCKS)]
    )
    records = []
    for name in names:
        figure = jackknifed_share(sums, partial(_value, names=names, sets=sets, name=name))
        records.append((float(figure), figure.error))
    frame = pd.DataFrame(
        records, columns=["share of variance", "error"], index=pd.Index(names, name="driver")
    )
    frame.attrs["evaluations"] = BLOCKS * size * (len(sets) + 1)
    return frame.sort_values("share of variance", ascending=False, kind="stable")


def _groups(run: SimulatedTrials, names: list[str]) -> list[DriverGroup]:
    """Return the groups of linked drivers that reach the outcome; raises RunError for what cannot
    be drawn given a part.
    """
    groups = [
        group
        for group in run.program.groups
        if len(group.names) > 1 and not set(names).isdisjoint(group.names)
    ]
    for group in groups:
        if not isinstance(group.copula, Elliptical) or group.copula.df is not None or group.serial:
            raise RunError(
                "shapley knows the gaussian copula without serial=, not that of "
                f"{', '.join(group.names)}",
                owner="sensitivity",
            )
    return groups


def _block(
    run: SimulatedTrials,
    outcome: str,
    names: list[str],
    sets: list[Subset],
    groups: list[DriverGroup],
    block: int,
    size: int,
) -> Floats:
    """Return the sums over one replicate: the outcome's count, sum and squares, and of each set the
    products and squares.
    """
    needed = list(dict.fromkeys([*names, *(name for group in groups for name in group.names)]))
    one, two = two_draws(run, block, size, needed)
    owner = {
        r.name: name
        for name in needed
        for r in run.program.drivers[name].requests(run.program.periods)
    }
    known = {
        **one,
        **{
            name: score
            for group in groups
            for name, score in _given(group, frozenset(), one, one).items()
        },
    }
    cases = [{**known}]
    for chosen in sets:
        case = {score: known[score] if owner[score] in chosen else two[score] for score in owner}
        for group in groups:
            case |= _given(group, chosen.intersection(group.names), known, two)
        cases.append(case)
    drawn = values_at(
        run, {score: np.concatenate([case[score] for case in cases], axis=-1) for score in owner}
    )
    figures = work_out(run, outcome, drawn, size * len(cases)).reshape(len(cases), size)
    figures = figures[:, np.isfinite(figures).all(axis=0)]
    base = figures[0]
    rows = [
        (base @ other, float(base.sum() + other.sum()) / 2, float(base @ base + other @ other) / 2)
        for other in figures[1:]
    ]
    return np.array([[float(len(base)), float(base.sum()), float(base @ base)], *rows])


def _given(
    group: DriverGroup, chosen: Subset, known: dict[str, Floats], fresh: dict[str, Floats]
) -> dict[str, Floats]:
    """Return a group's scores with the chosen as known and the rest drawn given them, from fresh
    independent scores.
    """
    assert isinstance(group.copula, Elliptical)
    inside = tuple(name in chosen for name in group.names)
    weights, spread = _conditional(group.copula.matrix, inside)
    rest = [name for name in group.names if name not in chosen]
    if not rest:
        return {name: known[name] for name in group.names}
    drawn = np.einsum(
        "ij,j...->i...", spread, np.stack([normal_quantile(fresh[name]) for name in rest])
    )
    if chosen:
        given = np.stack([normal_quantile(known[name]) for name in group.names if name in chosen])
        drawn += np.einsum("ij,j...->i...", weights, given)
    answer = {name: known[name] for name in group.names if name in chosen}
    return answer | {
        name: np.clip(ndtr(row), 2.0**-54, 1 - 2.0**-53)
        for name, row in zip(rest, drawn, strict=True)
    }


@lru_cache(maxsize=4096)
def _conditional(
    matrix: tuple[tuple[float, ...], ...], inside: tuple[bool, ...]
) -> tuple[Floats, Floats]:
    """Return the weights of known normal scores, and the factor of what is left, for the unknown
    ones.
    """
    full, known = np.array(matrix), np.array(inside)
    cross = full[np.ix_(~known, known)]
    weights = cross @ np.linalg.pinv(full[np.ix_(known, known)]) if known.any() else cross
    left = full[np.ix_(~known, ~known)] - weights @ cross.T
    if not left.size:
        return weights, left
    sd = np.sqrt(np.maximum(np.diag(left), 1e-300))
    scaled = np.clip((left + left.T) / 2 / np.outer(sd, sd), -1, 1)
    return weights, sd[:, None] * cholesky_factor(scaled)


def _value(sums: Floats, names: list[str], sets: list[Subset], name: str) -> float:
    """Return one driver's share from the sums over replicates."""
    count = sums[0, 0]
    explained: dict[Subset, float] = {frozenset(): 0.0, frozenset(names): 1.0}
    for chosen, (products, halves, half_squares) in zip(sets, sums[1:], strict=True):
        spread = half_squares / count - (halves / count) ** 2
        explained[chosen] = (
            (products / count - (halves / count) ** 2) / spread if spread > 0 else 0.0
        )
    others, share = [n for n in names if n != name], 0.0
    for size in range(len(others) + 1):
        weight = 1 / (len(names) * comb(len(others), size))
        for rest in combinations(others, size):
            chosen = frozenset(rest)
            share += weight * (explained[chosen | {name}] - explained[chosen])
    return share
