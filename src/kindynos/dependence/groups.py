"""Groups of drivers that move together, applied to the scores of one block."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kindynos.dependence.copulas import HIGHEST, LOWEST, Copula, Elliptical
from kindynos.dependence.matrices import can_be
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import betainc, betaincinv, ndtr, ndtri

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class DriverGroup:
    """Drivers that share a copula, all with one number a trial or all with one each period.

    ``serial`` holds, for drivers that also depend on their own period before, the correlation of neighbouring normal scores.
    """

    names: tuple[str, ...]
    copula: Copula
    serial: Mapping[str, float] = field(default_factory=dict)
    opening: Copula | None = None  # for the first period, where serial correlations make the others' copula another

    @property
    def extra_names(self) -> list[str]:
        """The names of the extra scores the copula needs."""
        return [f"copula {i} of {', '.join(self.names)}" for i in range(self.copula.extra)]

    def apply(self, scores: Mapping[str, Floats], stratified: bool) -> dict[str, Floats]:
        """Return the members' scores, dependent: ``(trials,)``, or ``(periods, trials)``.

        Under a stratified plan each row still has one score in each of its strata: see ``in_strata``.
        """
        own = np.stack([np.atleast_2d(scores[name]) for name in self.names])
        extra = np.stack([np.atleast_2d(scores[name]) for name in self.extra_names]) if self.copula.extra else own[:0]
        members, rows, trials = own.shape
        moved = tuple(place > 0 or name in self.serial for place, name in enumerate(self.names))
        copula, opening = self.copula, self.opening
        if stratified:
            copula, opening = strengthened(copula, moved, trials), opening and strengthened(opening, moved, trials)
        mixed = copula.mix(own.reshape(members, -1), extra.reshape(len(extra), rows * trials)).reshape(own.shape)
        if opening is not None:
            mixed[:, 0] = opening.mix(own[:, 0], extra[:, 0])
        mixed = np.clip(mixed, LOWEST, HIGHEST)
        shape, answer = np.shape(scores[self.names[0]]), {}
        for place, name in enumerate(self.names):
            if place == 0 and name not in self.serial and isinstance(self.copula, Elliptical) and self.copula.df is None:
                answer[name] = scores[name]  # the first driver's scores stay as they are, to the bit
                continue
            row = _chained(mixed[place], self.serial[name]) if name in self.serial else mixed[place]
            answer[name] = (in_strata(row) if stratified else row).reshape(shape)
        return answer


@lru_cache(maxsize=256)
def strengthened(copula: Copula, moved: tuple[bool, ...], trials: int) -> Copula:
    """Return an elliptical copula with correlations so much stronger that those asked for are left after ``in_strata``.

    As far as a matrix of such correlations can be; the difference matters only in blocks of a few hundred trials.
    """
    kept = np.where(moved, fidelity(trials), 1.0)
    if not isinstance(copula, Elliptical) or kept.min() == 1:
        return copula
    asked = np.array(copula.matrix)
    wanted = asked / np.outer(kept, kept)
    np.fill_diagonal(wanted, 1.0)
    for share in (1.0, 0.5, 0.25):
        matrix = asked + share * (wanted - asked)
        if np.abs(matrix).max() <= 1 and can_be(matrix):
            return replace(copula, matrix=tuple(tuple(float(value) for value in row) for row in matrix))
    return copula


@lru_cache(maxsize=64)
def fidelity(trials: int) -> float:
    """Return the correlation of normal scores with what ``in_strata`` makes of them among so many trials.

    By Gauss-Legendre over the level of each order statistic, whose score is a beta quantile.
    """
    if not 3 <= trials <= 1000:
        return 1.0
    nodes, weights = np.polynomial.legendre.leggauss(24)
    level = ((nodes + 1) / 2)[:, None]
    rank = np.arange(1, trials + 1)
    score = ndtri(betaincinv(rank, trials - rank + 1, level))
    placed = ndtri((rank - 1 + level) / trials)
    return min(float((weights / 2) @ (score * placed).mean(axis=1)), 1.0)


def in_strata(scores: Floats) -> Floats:
    """Return scores in the same order with exactly one in each of ``trials`` equal strata, along the last axis.

    A score of rank r goes into stratum r. Its place there is the chance that the r-th smallest of so many independent scores is
    below it (a beta law): uniform as it must be, and yet as near to the score as the stratum allows, so that dependence is not
    blurred as it would be by a place drawn at random.
    """
    trials = scores.shape[-1]
    ranks = np.empty(scores.shape)
    order = np.argsort(scores, axis=-1)
    np.put_along_axis(ranks, order, np.broadcast_to(np.arange(1.0, trials + 1), scores.shape), axis=-1)
    place: Floats = betainc(ranks, trials - ranks + 1, scores)
    inside: Floats = (ranks - 1 + np.clip(place, 1e-9, 1 - 1e-9)) / trials
    return np.clip(inside, LOWEST, HIGHEST)


def _chained(scores: Floats, correlation: float) -> Floats:
    """Return scores in which each period's normal score depends on the one before (an autoregression of order 1)."""
    normal = normal_quantile(scores)
    rest = np.sqrt(1 - correlation**2)
    for t in range(1, len(normal)):
        normal[t] = correlation * normal[t - 1] + rest * normal[t]
    return np.clip(ndtr(normal), LOWEST, HIGHEST)
