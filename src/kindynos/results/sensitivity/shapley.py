"""Shares of variance that add up to one with correlated drivers too."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.dependence.copulas import Elliptical
from kindynos.dependence.groups import DriverGroup, LevelGroup
from kindynos.dependence.matrices import cholesky_factor
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import ndtr
from kindynos.errors import RunError
from kindynos.results.sensitivity.inputs import inputs_of, valid_outcome, work_out
from kindynos.results.sensitivity.variance import jackknifed_share, two_draws, values_at
from kindynos.results.trials import SimulatedTrials
from kindynos.sampling.streams import stream
from kindynos.validate import check_integer, mapping

Places = NDArray[np.int64]

MOST_UNITS = 1_000
REPLICATES = 16  # whose spread gives the error
FEWEST_POINTS = 8  # of a replicate
MOST_ORDERS = 32  # of a replicate, among which its points are spread
FEWEST_ALIKE = 8  # points that share an order
LINEAR_ORDERS = 100  # of a replicate, for the linear part, and as many reversed
MOST_WORK = 4e9  # multiplications for these
MOST_FITTED = 4_096  # trials to which the linear part is fitted


def shapley_sensitivity(
    run: SimulatedTrials,
    outcome: str,
    by_period: bool = False,
    *,
    evaluations: int = 262_144,
    groups: Mapping[str, Sequence[str]] | None = None,
) -> pd.DataFrame:
    """Return each driver's Shapley share of the outcome's variance, with 95 % errors; the shares
    add up to one.

    What a set of drivers explains is the variance of the outcome's mean given them; a driver's
    share is what it adds to the drivers before it, averaged over random orders. Drivers may be
    correlated by the Gaussian copula; what is unknown is then redrawn given what is known.
    ``groups`` names sets of drivers that count as one: ``{"yard": ["hull", "engines"]}``.
    ``evaluations`` of the model are made at most, in 16 independent replicates, each with orders of
    its own. What a linear function of the normal scores explains is known exactly for each order,
    and only the rest of the outcome is simulated, so that a nearly linear model needs few.
    Raises RunError for other copulas, serial correlation among linked drivers, more than 1,000
    drivers, and too few evaluations.

    Source: Song, Nelson and Staum, SIAM/ASA Journal on Uncertainty Quantification 4 (2016),
    1060-1083; Jansen, Computer Physics Communications 117 (1999), 35-43.
    """
    valid_outcome(run, outcome)
    if by_period:
        raise RunError(
            "shapley takes the periods of a driver together; see the methods rank and regression"
        )
    names = [entry.driver for entry in inputs_of(run, outcome, False)]
    units = _units(names, groups)
    if len(units) > MOST_UNITS:
        raise RunError(
            f"shapley works for up to {MOST_UNITS:,} drivers, not {len(units):,}; take some "
            "together with groups="
        )
    draws = check_integer("evaluations", evaluations, least=1)
    size = draws // (REPLICATES * (len(units) + 1))
    if size < FEWEST_POINTS:
        least = REPLICATES * FEWEST_POINTS * (len(units) + 1)
        raise RunError(f"shapley of {len(units)} drivers needs {least:,} evaluations or more")
    size = 2 ** (size.bit_length() - 1)
    game = _Game(run, outcome, tuple(units.values()))
    gains = np.stack([game.gains(replicate, size) for replicate in range(REPLICATES)])
    shares = [jackknifed_share(gains, partial(_share, position)) for position in range(len(units))]
    frame = pd.DataFrame(
        [(float(share), share.error) for share in shares],
        columns=["share of variance", "error"],
        index=pd.Index(units, name="driver"),
    )
    frame.attrs["evaluations"] = REPLICATES * size * (len(units) + 1)
    return frame.sort_values("share of variance", ascending=False, kind="stable")


def _units(
    names: Sequence[str], groups: Mapping[str, Sequence[str]] | None
) -> dict[str, tuple[str, ...]]:
    """Return what counts as one, by name: the groups, and every other driver alone; raises RunError
    for a driver in two groups, or one that does not reach the outcome.
    """
    units: dict[str, tuple[str, ...]] = {}
    taken: dict[str, str] = {}
    stated = mapping("groups", {} if groups is None else groups, "drivers by group")
    for label, members in stated.items():
        if isinstance(members, str) or not isinstance(members, Sequence) or not members:
            raise RunError(f"group {label!r:.60} must be a list of drivers, not {members!r:.60}")
        for name in members:
            if name not in names:
                raise RunError(
                    f"group {label!r:.60} names {name!r:.60}, which is not a driver of the outcome",
                    unknown=name,
                    known=names,
                )
            if name in taken:
                raise RunError(f"{name!r} is in the groups {taken[name]!r} and {label!r:.60}")
            taken[name] = label
        units[str(label)] = tuple(members)
    return units | {name: (name,) for name in names if name not in taken}


@dataclass(frozen=True)
class _Game:
    """An outcome, and the units among which its variance is divided."""

    run: SimulatedTrials
    outcome: str
    units: tuple[tuple[str, ...], ...]

    @cached_property
    def names(self) -> list[str]:
        return [name for unit in self.units for name in unit]

    @cached_property
    def owners(self) -> dict[str, str]:
        """The driver of each score."""
        drivers, periods = self.run.program.drivers, self.run.program.periods
        return {r.name: name for name in self.names for r in drivers[name].requests(periods)}

    @cached_property
    def linked(self) -> list[_Linked]:
        """The drivers that move together, as far as they reach the outcome; raises RunError for
        what cannot be drawn given a part.
        """
        rows = []
        for group in self.run.program.groups:
            members = [name for name in group.names if name in self.owners]
            if len(members) < 2:
                continue
            _check_copula(group)
            assert isinstance(group.copula, Elliptical)
            places = [group.names.index(name) for name in members]
            matrix = np.array(group.copula.matrix)[np.ix_(places, places)]
            rows.append(_Linked(tuple(members), matrix))
        return rows

    @cached_property
    def alone(self) -> list[str]:
        """The scores that are independent of all others."""
        together = {name for group in self.linked for name in group.names}
        return [score for score in self.owners if score not in together]

    def gains(self, replicate: int, size: int) -> Floats:
        """Return what each unit adds to the variance explained, ``(units,)``, from ``size`` points
        of their own and orders of their own.
        """
        generator = stream(self.run.seed, "shapley orders", replicate)
        orders = self._orders(generator, min(size // FEWEST_ALIKE, MOST_ORDERS))
        one, two = two_draws(self.run, replicate, size, self.names)
        figures, linear = self._walks(orders, one, two)
        finite = np.isfinite(figures).all(axis=0)
        gained = _halved_gaps(figures[:, finite]) - _halved_gaps(linear[:, finite])
        rest = np.zeros(len(self.units))
        weight = np.repeat(np.arange(len(orders)), size // len(orders))[finite]
        for position, order in enumerate(orders):
            rest[order] += gained[:, weight == position].sum(axis=1)
        return rest / max(int(finite.sum()), 1) + self._linear_gains(generator)

    def _orders(self, generator: np.random.Generator, count: int) -> list[Places]:
        """Return random orders of the units, in rounds: one is turned like a wheel, so that every
        unit comes early and late alike, and each turn is followed by its reverse.
        """
        units, orders = len(self.units), list[Places]()
        while len(orders) < count:
            wheel = generator.permutation(units)
            turns = min(units, -(-(count - len(orders)) // 2))
            for turn in range(turns):
                order = np.roll(wheel, turn * units // turns)
                orders += [order, order[::-1]]
        return orders[:count]

    def _walks(
        self, orders: Sequence[Places], one: Mapping[str, Floats], two: Mapping[str, Floats]
    ) -> tuple[Floats, Floats]:
        """Return the outcome, and its linear part, ``(units + 1, points)``, on the way from the
        second points to the first: at each step one more unit keeps its first score, and what moves
        with it and comes later is redrawn given all that.
        """
        steps, size = len(self.units) + 1, next(iter(one.values())).shape[-1]
        length = size // len(orders)
        scores: dict[str, Floats] = {
            name: np.empty((*one[name].shape[:-1], steps, size)) for name in self.owners
        }
        linear = np.zeros((steps, size))
        for position, order in enumerate(orders):
            span = slice(position * length, (position + 1) * length)
            values = np.empty(len(self.units), dtype=np.int64)
            values[order] = np.arange(1, steps)  # the step from which a unit is known
            since = {
                name: int(values[unit]) for unit, names in enumerate(self.units) for name in names
            }
            for score in self.alone:
                step = since[self.owners[score]]
                scores[score][..., :step, span] = two[score][..., None, span]
                scores[score][..., step:, span] = one[score][..., None, span]
            for group in self.linked:
                walked = group.walk(since, steps, one, two, span)
                for name, normal in walked.items():
                    scores[name][..., span] = normal
        for name in self.owners:
            weights = self._weights.get(name)
            together = name not in self.alone
            if weights is not None:
                normal = scores[name] if together else normal_quantile(scores[name])
                linear += np.tensordot(weights, normal, weights.ndim)
            if together:
                scores[name] = np.clip(ndtr(scores[name]), 2.0**-54, 1 - 2.0**-53)
        flat = {name: rows.reshape(*rows.shape[:-2], -1) for name, rows in scores.items()}
        drawn = values_at(self.run, flat)
        return work_out(self.run, self.outcome, drawn, steps * size).reshape(steps, size), linear

    @cached_property
    def _weights(self) -> dict[str, Floats]:
        """The coefficients of normal scores, ``()`` or ``(periods,)``, in the linear function that
        follows the outcome best; empty where there are too many for the trials.
        """
        run = self.run
        chained = {name for group in run.program.groups for name in group.serial}
        blocks = run.drawing.blocks.leading(MOST_FITTED)
        parts = [
            run.program.scores(
                run.drawing.plan, run.seed, block, blocks.size(block), set(self.names)
            )
            for block in range(blocks.count)
        ]
        rows = {
            name: np.atleast_2d(
                normal_quantile(np.concatenate([part[name] for part in parts], axis=-1))
            )
            for name, owner in self.owners.items()
            if owner not in chained
        }
        outcome = run[self.outcome].values[: blocks.trials]
        finite = np.isfinite(outcome)
        count = sum(len(row) for row in rows.values())
        if not rows or 4 * count > np.count_nonzero(finite):
            return {}
        design = np.concatenate([np.ones((1, blocks.trials)), *rows.values()])[:, finite]
        slopes, *_ = np.linalg.lstsq(design @ design.T, design @ outcome[finite], rcond=None)
        weights, position = {}, 1
        for name, row in rows.items():
            weights[name] = slopes[position : position + len(row)]
            position += len(row)
            if parts[0][name].ndim == 1:
                weights[name] = weights[name][0]
        return weights

    def _linear_gains(self, generator: np.random.Generator) -> Floats:
        """Return what each unit adds to the variance that the linear part explains, ``(units,)``,
        averaged over random orders.
        """
        gains = np.zeros(len(self.units))
        unit_of = {name: unit for unit, names in enumerate(self.units) for name in names}
        for score in self.alone:
            if score in self._weights:
                gains[unit_of[self.owners[score]]] += float(np.sum(self._weights[score] ** 2))
        weighted = [group for group in self.linked if group.names[0] in self._weights]
        work = sum(len(group.names) ** 3 for group in weighted)
        count = int(np.clip(MOST_WORK / (REPLICATES * max(work, 1)), 2, LINEAR_ORDERS))
        orders = self._orders(generator, 2 * count)
        for group in weighted:
            weights = np.stack([np.atleast_1d(self._weights[name]) for name in group.names])
            owner = np.array([unit_of[name] for name in group.names])
            for order in orders:
                rank = np.empty(len(self.units), dtype=np.int64)
                rank[order] = np.arange(len(order))
                places = np.argsort(rank[owner], kind="stable")
                explained = (weights[places].T @ group.lower(places)) ** 2
                np.add.at(gains, owner[places], explained.sum(axis=0) / len(orders))
        return gains


@dataclass(frozen=True)
class _Linked:
    """Drivers with a Gaussian copula, and the correlations of their normal scores."""

    names: tuple[str, ...]
    matrix: Floats

    def lower(self, places: Places) -> Floats:
        """Return the triangular factor of the correlations in an order: each driver's normal score
        as a sum of independent ones, and needs only those up to its own.
        """
        ordered = self.matrix[np.ix_(places, places)]
        try:
            return np.asarray(np.linalg.cholesky(ordered))
        except np.linalg.LinAlgError:
            return cholesky_factor(ordered)

    def walk(
        self,
        since: Mapping[str, int],
        steps: int,
        one: Mapping[str, Floats],
        two: Mapping[str, Floats],
        span: slice,
    ) -> dict[str, Floats]:
        """Return each driver's normal scores at all steps, ``(..., steps, points)``: those known
        since a step have their first independent score in it and after it, the others their second.
        """
        places = np.argsort([since[name] for name in self.names], kind="stable")
        ordered = [self.names[position] for position in places]
        lower = self.lower(places)
        first, second = (
            np.stack([normal_quantile(draw[name][..., span]) for name in ordered])
            for draw in (one, two)
        )
        # the normal scores when that number of drivers is known
        start = np.tensordot(lower, second, 1)
        moves = lower.T[(...,) + (None,) * (first.ndim - 1)] * (first - second)[:, None]
        states = np.concatenate([start[None], start + np.cumsum(moves, axis=0)])
        positions = np.searchsorted(
            np.array([since[name] for name in ordered]), np.arange(steps), side="right"
        )
        return {name: np.moveaxis(states[positions, j], 0, -2) for j, name in enumerate(ordered)}


def _check_copula(group: DriverGroup) -> None:
    gaussian = isinstance(group.copula, Elliptical) and group.copula.df is None
    if not gaussian or group.serial or isinstance(group, LevelGroup):
        raise RunError(
            "shapley knows the gaussian copula without serial= and of drivers that are drawn "
            f"alike, not that of {', '.join(group.names)}"
        )


def _share(position: int, gains: Floats) -> float:
    return float(gains[position] / gains.sum())


def _halved_gaps(figures: Floats) -> Floats:
    """Return what each step adds to the variance explained, ``(steps, points)``: by Jansen, half
    the mean square of the gap to the last step is what is left unexplained.
    """
    gaps = (figures[-1] - figures) ** 2 / 2
    return np.asarray(gaps[:-1] - gaps[1:])
