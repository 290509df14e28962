"""Groups of drivers that move together, applied to the scores of one block."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.copulas import HIGHEST, LOWEST, Copula, Elliptical
from kindynos.dependence.matrices import is_correlation_matrix
from kindynos.dependence.strata import (
    independent_from_stratified,
    kept_correlation,
    stratified_from_independent,
)
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import ndtr


@dataclass(frozen=True)
class DriverGroup:
    """Drivers that share a copula, all with one number per trial or all with one each period.

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

    def apply(self, scores: Mapping[str, Floats], stratified: bool) -> dict[str, Floats]:
        """Return the members' scores, dependent: ``(trials,)``, or ``(periods, trials)``.

        Under a stratified plan they are mixed in their independent form, and then have one score in
        each stratum again.
        """
        own = np.stack([np.atleast_2d(scores[name]) for name in self.names])
        extra = (
            np.stack([np.atleast_2d(scores[name]) for name in self.extra_names])
            if self.copula.extra
            else own[:0]
        )
        trials, copula, opening = own.shape[-1], self.copula, self.opening
        if stratified:
            own, extra = independent_from_stratified(own), independent_from_stratified(extra)
            copula, opening = (
                strengthened(copula, trials),
                opening and strengthened(opening, trials),
            )
        mixed = copula.mix(
            own.reshape(len(own), -1), extra.reshape(len(extra), own[0].size)
        ).reshape(own.shape)
        if opening is not None:
            mixed[:, 0] = opening.mix(own[:, 0], extra[:, 0])
        np.clip(mixed, LOWEST, HIGHEST, out=mixed)
        answer = {}
        for place, name in enumerate(self.names):
            shape = np.shape(scores[name])
            if (
                place == 0
                and name not in self.serial
                and isinstance(self.copula, Elliptical)
                and self.copula.df is None
            ):
                # the first driver's scores stay as they are, to the bit
                answer[name] = scores[name]
                continue
            row = _chained(mixed[place], self.serial[name]) if name in self.serial else mixed[place]
            answer[name] = (_in_strata(row) if stratified else row).reshape(shape)
        return answer


def _in_strata(scores: Floats) -> Floats:
    return np.clip(stratified_from_independent(scores), LOWEST, HIGHEST)


@lru_cache(maxsize=256)
def strengthened(copula: Copula, trials: int) -> Copula:
    """Return an elliptical copula with correlations so much stronger that those stated are left
    after the passage to strata.

    As far as a matrix of such correlations can be; the difference matters only in blocks of a few
    hundred trials.
    """
    if not isinstance(copula, Elliptical) or len(copula.matrix) == 1:
        return copula
    stated = np.array(copula.matrix)
    wanted = stated / kept_correlation(trials, stated)
    np.fill_diagonal(wanted, 1.0)
    for part in (1.0, 0.5, 0.25):
        matrix = stated + part * (wanted - stated)
        if np.abs(matrix).max() <= 1 and is_correlation_matrix(matrix):
            return replace(copula, matrix=tuple(map(tuple, matrix.tolist())))
    return copula


def _chained(scores: Floats, correlation: float) -> Floats:
    """Return scores in which each period's normal score depends on the one before (an
    autoregression of order 1).
    """
    normal = normal_quantile(scores)
    rest = np.sqrt(1 - correlation**2)
    for t in range(1, len(normal)):
        normal[t] = correlation * normal[t - 1] + rest * normal[t]
    return np.clip(ndtr(normal), LOWEST, HIGHEST)
