"""Groups of drivers that move together, applied to the scores of one block."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kindynos.dependence.copulas import HIGHEST, LOWEST, Copula, Elliptical
from kindynos.distributions.special import ndtr, ndtri

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

        Under a stratified plan each row keeps its own scores and only their order changes, so that its strata stay whole.
        """
        own = np.stack([np.atleast_2d(scores[name]) for name in self.names])
        extra = np.stack([np.atleast_2d(scores[name]) for name in self.extra_names]) if self.copula.extra else own[:0]
        members, rows, trials = own.shape
        mixed = self.copula.mix(own.reshape(members, -1), extra.reshape(len(extra), rows * trials)).reshape(own.shape)
        if isinstance(self.copula, Elliptical) and self.copula.df is None:
            mixed[0] = own[0]  # the first driver's scores stay as they are, to the bit
        if self.opening is not None:
            mixed[:, 0] = self.opening.mix(own[:, 0], extra[:, 0])
        mixed = np.clip(mixed, LOWEST, HIGHEST)
        for place, name in enumerate(self.names):
            if name in self.serial:
                mixed[place] = _chained(mixed[place], self.serial[name])
        if stratified:
            mixed = _reordered(own, mixed)
        shape = np.shape(scores[self.names[0]])
        return {name: mixed[place].reshape(shape) for place, name in enumerate(self.names)}


def _chained(scores: Floats, correlation: float) -> Floats:
    """Return scores in which each period's normal score depends on the one before (an autoregression of order 1)."""
    normal = ndtri(scores)
    rest = np.sqrt(1 - correlation**2)
    for t in range(1, len(normal)):
        normal[t] = correlation * normal[t - 1] + rest * normal[t]
    return np.clip(ndtr(normal), LOWEST, HIGHEST)


def _reordered(own: Floats, wanted: Floats) -> Floats:
    """Return each row's own scores in the order of the wanted ones."""
    answer = np.empty_like(own)
    np.put_along_axis(answer, np.argsort(wanted, axis=-1), np.sort(own, axis=-1), axis=-1)
    return answer
