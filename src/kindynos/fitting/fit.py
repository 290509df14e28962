"""What a fit found, and what it leaves open."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.fitting.families import FAMILIES
from kindynos.inference.intervals import Z

if TYPE_CHECKING:
    from kindynos.fitting.newton import NewtonOptimum
    from kindynos.fitting.search import LikelihoodSearch

DROP = Z**2 / 2  # in log likelihood, at the end of a 95 % interval
MOST_FALLS = 40


@dataclass(frozen=True)
class Fit:
    """How a distribution was fitted to values; its ``fitted``.

    ``standard_errors`` are those of what was fitted and ``intervals`` their 95 % intervals, by
    parameter; ``covariance`` is that of the parameters ``names``, in order. ``fixed`` were held.
    ``at_bound`` says of a parameter that its best value lies at an end, and why; its error is
    infinite where no finite one is meant. ``parameters`` is how many were fitted, which AIC counts.
    """

    estimates: Mapping[str, float]
    standard_errors: Mapping[str, float]
    intervals: Mapping[str, tuple[float, float]]
    names: tuple[str, ...]
    covariance: tuple[tuple[float, ...], ...]
    log_likelihood: float
    observations: float
    fixed: Mapping[str, float]
    at_bound: Mapping[str, str]
    method: str
    description: str
    label: str
    parameters: int
    theta: tuple[float, ...] = ()
    theta_covariance: tuple[tuple[float, ...], ...] = ()
    centre: float = 0.0
    spread: float = 1.0
    sample: tuple[tuple[float, ...], ...] = ()

    @property
    def aic(self) -> float:
        """Akaike's criterion, 2 x parameters - 2 x log likelihood. Source: Akaike, IEEE
        Transactions AC-19 (1974).
        """
        return 2 * self.parameters - 2 * self.log_likelihood

    @property
    def aicc(self) -> float:
        """Akaike's criterion with its correction for few values. Source: Hurvich and Tsai,
        Biometrika 76 (1989).
        """
        left = self.observations - self.parameters - 1
        return (
            self.aic + 2 * self.parameters * (self.parameters + 1) / left if left > 0 else math.inf
        )

    @property
    def bic(self) -> float:
        """Schwarz's criterion, log(n) x parameters - 2 x log likelihood. Source: Schwarz, Annals of
        Statistics 6 (1978).
        """
        return math.log(self.observations) * self.parameters - 2 * self.log_likelihood

    def table(self) -> Any:
        """Return a DataFrame of the parameters: estimate, standard error, and both ends of the 95 %
        interval.
        """
        import pandas as pd

        rows = {
            name: (
                value,
                self.standard_errors.get(name, 0.0),
                *self.intervals.get(name, (value, value)),
            )
            for name, value in self.estimates.items()
        }
        return pd.DataFrame.from_dict(
            rows, orient="index", columns=["estimate", "error", "low", "high"]
        )

    def drawn(self, scores: Floats) -> list[dict[str, float]]:
        """Return parameters drawn as the fit leaves them open, one set per column of standard
        normal ``scores (6, draws)``.
        """
        from kindynos.distributions.special import chdtri, ndtr
        from kindynos.fitting.search import scale_of

        values: dict[str, Any] = {
            name: np.full(scores.shape[1], value) for name, value in self.estimates.items()
        }
        if self.sample:
            rows = np.array(self.sample)[(ndtr(scores[0]) * len(self.sample)).astype(int)]
            values.update(dict(zip(self.names, rows.T, strict=True)))
        elif self.names:
            family = FAMILIES[self.label]
            lengths, vectors = np.linalg.eigh(np.array(self.theta_covariance))
            # Student's t, and the variance that maximum likelihood lacks
            left = max(self.observations - len(self.names), 1.0)
            wide = np.sqrt(self.observations / left * left / chdtri(left, ndtr(-scores[-1])))
            moved = (vectors * np.sqrt(np.maximum(lengths, 0))) @ (scores[: len(self.names)] * wide)
            for i, name in enumerate(self.names):
                scale = scale_of(family, name, self.estimates)
                theta = np.clip(self.theta[i] + moved[i], scale.least, scale.most)
                values[name] = scale.to(theta, self.centre, self.spread)
        for place, name in enumerate(self.at_bound, start=len(self.names)):
            values[name] = self._at_edge(name, scores[min(place, len(scores) - 1)], ndtr)
        return [
            {name: float(value[i]) for name, value in values.items()}
            for i in range(scores.shape[1])
        ]

    def _at_edge(self, name: str, scores: Floats, ndtr: Any) -> Floats:
        """Return draws of a parameter at an end: exponential beyond the data, or of one over it
        where it runs to infinity.
        """
        low, high = self.intervals[name]
        at = self.estimates[name]
        if math.isfinite(self.standard_errors[name]):
            reach = self.standard_errors[name] * -np.log1p(-ndtr(scores))
            return np.asarray(at - reach if low < at else at + reach)
        nearest = low if abs(low) < abs(high) else high
        return np.asarray(
            1 / np.maximum(np.abs(scores) / (Z * nearest), 1 / at)
            if at > 0
            else np.full(len(scores), at)
        )


def profile_interval(
    search: LikelihoodSearch, summit: NewtonOptimum, name: str
) -> tuple[float, float]:
    """Return the 95 % interval of a parameter at its limit: as far back as the likelihood stays
    within reach.
    """
    limit = search.held[name]
    open_search = type(search)(
        search.family, search.data, {k: v for k, v in search.held.items() if k != name}
    )
    scale = open_search.scales[name]
    far = float(scale.back(np.asarray(limit), search.centre, search.spread))
    near, here = far, summit.theta[0]
    step = math.copysign(1.0, far)

    def below(theta: float) -> bool:
        held = search.holding(name, open_search.value_at(name, theta))
        return float(held.climb_from(here).value[0]) < float(summit.value[0]) - DROP

    while not below(near - step) and abs(far - near) < MOST_FALLS:
        near -= step
    low, high = near - step, near
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (middle, high) if below(middle) else (low, middle)
    end = open_search.value_at(name, high)
    return (end, math.inf) if step > 0 else (-math.inf, end)
