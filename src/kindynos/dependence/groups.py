"""Groups of drivers that move together, applied to the scores of one block."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.copulas import Copula, Elliptical
from kindynos.dependence.matrices import is_correlation_matrix
from kindynos.dependence.scores import Scores, inside
from kindynos.dependence.strata import in_strata, kept_correlation
from kindynos.distributions.normal_scores import normal_quantile


@dataclass(frozen=True)
class DriverGroup:
    """Drivers that share a copula, all with one number per trial or all with one each period; or
    some of each, see ``LevelGroup``.

    ``serial`` holds, for drivers that also depend on their own period before, the correlation of
    neighbouring normal scores.
    """

    names: tuple[str, ...]
    copula: Copula
    serial: Mapping[str, float] = field(default_factory=dict)
    # for the first period, where serial correlations make the others' copula another
    opening: Copula | None = None
    # of a group of shocks beside the main ones, such as when jumps come: the drivers they are of
    drivers: tuple[str, ...] = ()

    @property
    def extra_names(self) -> list[str]:
        """The names of the extra scores the copula needs."""
        return [f"copula {i} of {', '.join(self.names)}" for i in range(self.copula.extra)]

    def apply(self, scores: Scores, stratified: bool) -> Scores:
        """Return the members' scores, dependent: ``(trials,)``, or ``(periods, trials)``.

        Under a stratified plan they have one score in each stratum again.
        """
        own = np.stack([np.atleast_2d(scores[name]) for name in self.names])
        copula, opening = self.copula, self.opening
        if stratified:
            size, first_own = own.shape[-1], self.names[0] not in self.serial
            copula = strengthened(copula, size, first_own)
            opening = opening and strengthened(opening, size, first_own)
        extra = [np.atleast_2d(scores[name]) for name in self.extra_names]
        mixed = copula.mix(own, np.stack(extra) if extra else own[:0])
        if opening is not None:
            mixed[:, 0] = opening.mix(own[:, 0], np.array([row[0] for row in extra]))
        uniform, normal = {}, {}
        for position, name in enumerate(self.names):
            shape, row, is_normal = np.shape(scores[name]), mixed[position], copula.gives_normal
            if position == 0 and is_normal and name not in self.serial:
                # the first driver's scores stay as they are, to the bit
                uniform[name], normal[name] = scores[name], row.reshape(shape)
                continue
            if name in self.serial:
                as_normal = row if is_normal else normal_quantile(inside(copula.score(row)))
                row, is_normal = _chained(as_normal, self.serial[name]), True
            if stratified:
                uniform[name] = in_strata(row, own[position]).reshape(shape)
            elif is_normal:
                normal[name] = row.reshape(shape)
            else:
                uniform[name] = inside(copula.score(row)).reshape(shape)
        return Scores(uniform, normal)


@dataclass(frozen=True)
class LevelGroup(DriverGroup):
    """Drivers with one number each period, which share the copula, and after them others with one
    per trial, whose scores move with the levels of the first ones: ``weights`` ``(drivers,
    periods)`` times their normal scores. ``levels`` is how levels and the others move together.
    """

    levels: Elliptical = field(default_factory=lambda: Elliptical(((1.0,),)))
    weights: tuple[tuple[float, ...], ...] = ()

    def apply(self, scores: Scores, stratified: bool) -> Scores:
        """Return the members' scores, dependent, ``(periods, trials)`` and ``(trials,)``."""
        count = len(self.weights)
        rows, singles = self.names[:count], self.names[count:]
        first = DriverGroup(rows, self.copula, self.serial, self.opening)
        moved = first.apply(scores, stratified)
        levels = [
            np.array(weights) @ moved.normal(name)
            for name, weights in zip(rows, self.weights, strict=True)
        ]
        own = np.stack([scores[name] for name in singles])
        mixed = self.levels.following(np.stack(levels), normal_quantile(own))
        if not stratified:
            return moved.replaced(Scores({}, dict(zip(singles, mixed, strict=True))))
        strata = {
            name: in_strata(row[None], one[None])[0]
            for name, row, one in zip(singles, mixed, own, strict=True)
        }
        return moved.replaced(Scores(strata))


@lru_cache(maxsize=256)
def strengthened(copula: Copula, trials: int, first_own: bool) -> Copula:
    """Return an elliptical copula with correlations so much stronger that those stated are left
    once its scores are in strata.

    As far as a matrix of such correlations can be; the difference matters only in blocks of a few
    hundred trials.
    """
    if not isinstance(copula, Elliptical) or len(copula.matrix) == 1:
        return copula
    stated = np.array(copula.matrix)
    requested = stated / kept_correlation(trials, stated, first_own)
    np.fill_diagonal(requested, 1.0)
    for strength in (1.0, 0.5, 0.25):
        matrix = stated + strength * (requested - stated)
        if np.abs(matrix).max() <= 1 and is_correlation_matrix(matrix):
            return replace(copula, matrix=tuple(map(tuple, matrix.tolist())))
    return copula


def _chained(normal: Floats, correlation: float) -> Floats:
    """Return normal scores where each period's depends on the one before (an autoregression of
    order 1).
    """
    rest = np.sqrt(1 - correlation**2)
    chained = normal.copy()
    for t in range(1, len(normal)):
        chained[t] = correlation * chained[t - 1] + rest * normal[t]
    return chained
