"""A distribution whose parameters are uncertain themselves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.mixture import Mixture
from kindynos.errors import ParameterError


@dataclass(frozen=True, repr=False)
class Uncertain(Mixture):
    """A distribution fitted to few records: one of ``parts``, which are one family with
    parameters drawn as the fit leaves them open. Written ``X.fit(values).uncertain()``.

    A trial has one of them, for all its periods where it is drawn each period. Source: Geisser,
    Predictive Inference (1993), chapter 2.

    >>> from kindynos import Normal
    >>> Uncertain([Normal(9, 2), Normal(11, 2)]).sd > 2
    True
    """

    label = "uncertain"
    formula = "F(x) = sum of weights[i] F_i(x) over parts of one family"
    use = "a distribution fitted to few records, with the error of its parameters"

    def __post_init__(self) -> None:
        super().__post_init__()
        if len({part.label for part in self.parts}) > 1:
            raise ParameterError(
                "the parts must all be of one family; Mixture joins different ones"
            )

    @property
    def smooth(self) -> bool:  # type: ignore[override]
        """Whether quantiles have no steps, as the parts' parameters are drawn without gaps."""
        return not self.has_atoms

    def by_parameters(self, u: Floats, score: Floats) -> Floats:
        """Return values ``(periods, trials)`` at scores ``u``; a trial has the part that its
        ``score (trials,)`` picks.
        """
        parts = list(self.parts)
        smaller = np.minimum((score * len(parts)).astype(np.int64), len(parts) - 1)
        quantiles: Floats = np.empty(u.shape)
        for number, part in enumerate(parts):
            own = smaller == number
            quantiles[:, own] = part._quantile(u[:, own])
        return quantiles
