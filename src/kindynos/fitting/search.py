"""The likelihood of one family for given data, on the scales on which its free parameters are
searched for.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import expit, logit
from kindynos.errors import ParameterError
from kindynos.fitting.data import Data
from kindynos.fitting.families import Family
from kindynos.fitting.newton import NewtonOptimum, climb
from kindynos.fitting.scales import Scale
from kindynos.inference.intervals import Z

# sds by which values with the unseen ones may lie lower, and times that they may be wider
LOWER, WIDER = (0.0, 0.5, 1.0, 2.0), (1.0, 0.7, 1.4, 2.0)
MOST_AT_ONCE = 2_000_000  # densities held at a time
# shape of an extreme or excess below which the curvature tells no error: Smith, Biometrika 72
# (1985), 67-90
LEAST_REGULAR = -0.5


@dataclass(frozen=True)
class LikelihoodSearch:
    """A family, the data, and the parameters that are held; ``rows (samples, values)`` replace the
    data's values if given.
    """

    family: Family
    data: Data
    held: Mapping[str, float]
    rows: Floats | None = field(default=None)

    def __reduce__(self) -> Any:
        return LikelihoodSearch, (self.family, self.data, self.held, self.rows)

    @cached_property
    def free(self) -> list[str]:
        """The names of the parameters that are searched for, in order."""
        return [name for name in self.family.scales if name not in self.held]

    @cached_property
    def centre(self) -> float:
        """The place from which locations are measured."""
        return self.data.quantiles((0.5,))[0]

    @cached_property
    def spread(self) -> float:
        """The unit of locations and scales."""
        return self.data.sd

    @cached_property
    def scales(self) -> dict[str, Scale]:
        """The scale of each free parameter."""
        return {name: scale_of(self.family, name, self.held) for name in self.free}

    @property
    def bounds(self) -> tuple[Floats, Floats]:
        """The ends of theta."""
        most = [
            min(self.scales[n].most, self.family.limits.get(n, (math.inf,))[0]) for n in self.free
        ]
        return np.array([self.scales[n].least for n in self.free]), np.array(most)

    def parameters(self, theta: Floats) -> dict[str, Any]:
        """Return all the parameters at theta ``(..., parameters)``."""
        free = {
            n: self.scales[n].to(theta[..., i], self.centre, self.spread)
            for i, n in enumerate(self.free)
        }
        return {name: free.get(name, self.held.get(name)) for name in self.family.scales}

    def theta(self, parameters: Mapping[str, Any]) -> Floats:
        """Return theta ``(..., parameters)`` of parameters."""
        return np.stack(
            [
                self.scales[n].back(np.asarray(parameters[n]), self.centre, self.spread)
                for n in self.free
            ],
            axis=-1,
        )

    def value_at(self, name: str, theta: float) -> float:
        """Return one parameter's value at its theta."""
        with np.errstate(over="ignore"):  # the end of an interval that has none
            return float(self.scales[name].to(theta, self.centre, self.spread))

    def exact(self) -> dict[str, Any] | None:
        """Return the maximum in closed form, None where there is none."""
        if self.family.exact is None or not self.data.plain:
            return None
        data = self.data if self.rows is None else replace(self.data, values=self.rows)
        parameters = self.family.exact(data, self.held)
        if parameters is None or not all(
            np.isfinite(np.asarray(parameters[name])).all() for name in self.free
        ):
            return None
        return parameters

    def starts(self) -> list[dict[str, float]]:
        """Return parameters to begin from, those that are held left as they are."""
        begun = [self.data] if self.data.thresholds is None else list(self._with_unseen())
        return [start for data in begun for start in self._starts_of(data)]

    def _starts_of(self, data: Data) -> list[dict[str, float]]:
        low, high = self.held.get("low", self.family.low), self.held.get("high", self.family.high)
        data = data.without_empty_bounds(low, high)
        if self.family.starts is None:  # the maximum as if every value were known
            assert self.family.exact is not None
            nothing = np.zeros(data.values.size, dtype=bool)
            every = replace(data, above=nothing, below=nothing, thresholds=None)
            exact = self.family.exact(every, self.held)
            if exact is None:
                raise ParameterError("cannot be fitted with these parameters held")
            return [{name: float(value) for name, value in exact.items()}]
        return [{**start, **self.held} for start in self.family.starts(data, self.held)]

    def _with_unseen(self) -> Iterator[Data]:
        """Yield the data as they are, and as they may be with the values that are not seen: lower
        and wider.
        """
        positive = float(self.data.values.min()) > 0
        x = np.log(self.data.values) if positive else self.data.values
        mean, sd = float(x.mean()), float(x.std())
        for down in LOWER:
            for wide in WIDER:
                moved = mean + wide * (x - mean) - down * sd
                yield replace(self.data, values=np.exp(moved) if positive else moved)

    def likelihood(self, theta: Floats, active: NDArray[np.int64]) -> Floats:
        """Return the log likelihood ``(rows, points)`` of parameters ``(rows, points,
        parameters)``.
        """
        points, count = theta.shape[1], self.data.values.size
        most = max(1, MOST_AT_ONCE // (count * len(theta)))
        if points <= most:
            return self._likelihood(theta, active)
        parts = [self._likelihood(theta[:, i : i + most], active) for i in range(0, points, most)]
        return np.concatenate(parts, axis=1)

    def _likelihood(self, theta: Floats, active: NDArray[np.int64]) -> Floats:
        parameters = {
            name: value[..., None] if np.ndim(value) else value
            for name, value in self.parameters(theta).items()
        }
        x = self._known if self.rows is None else self.rows[active][:, None, :]
        with np.errstate(all="ignore"):
            logs = self.family.log_density(x, **parameters)
            total = logs.sum(axis=-1) if self.data.even else logs @ self._known_weights
        if total.shape != theta.shape[:2]:
            total = np.broadcast_to(total, theta.shape[:2])
        return total if self.data.plain else total + self._known_in_part(theta)

    @cached_property
    def _known(self) -> Floats:
        """The values that are known exactly."""
        return self.data.values[~(self.data.above | self.data.below)]

    @cached_property
    def _known_weights(self) -> Floats:
        return self.data.weights[~(self.data.above | self.data.below)]

    def _known_in_part(self, theta: Floats) -> Floats:
        """Return what values add that are only bounds, the log of the chance of more or of less,
        and what thresholds add, below which no value is seen: less the log of the chance of being
        seen.
        """
        data = self.data
        chances: Floats = np.empty(theta.shape[:2])
        for position in np.ndindex(theta.shape[:2]):
            try:
                made = self.made_at(theta[position])
                with np.errstate(all="ignore"):
                    over = (
                        np.log(made._survival(data.values[data.above])) @ data.weights[data.above]
                    )
                    under = np.log(made._cdf(data.values[data.below])) @ data.weights[data.below]
                    seen = self.seen_thresholds[1] @ self.log_seen(made)
                chances[position] = over + under - seen
            except ParameterError:
                chances[position] = -np.inf
        return np.where(np.isnan(chances), -np.inf, chances)

    def made_at(self, theta: Floats) -> Any:
        """Return the distribution at theta ``(parameters,)``; raises ParameterError where there is
        none.
        """
        return self.family.kind(**{n: float(v) for n, v in self.parameters(theta).items()})

    @cached_property
    def seen_thresholds(self) -> tuple[Floats, Floats]:
        """The thresholds, each once, and how many values were recorded above each; whole numbers
        are recorded from their threshold on.
        """
        if self.data.thresholds is None:
            return np.empty(0), np.empty(0)
        at, inverse = np.unique(self.data.thresholds, return_inverse=True)
        counts = np.bincount(inverse, self.data.weights).astype(np.float64)
        return np.asarray(np.ceil(at) - 1 if self.family.whole else at), counts

    def log_seen(self, made: Any) -> Floats:
        """Return the log of the chance of a value above each of the thresholds."""
        at = self.seen_thresholds[0]
        with np.errstate(all="ignore"):
            return np.asarray(np.where(np.isinf(at), 0.0, np.log(made._survival(at))))

    def flat_summit(self, theta: Floats) -> NewtonOptimum:
        """Return the summit at theta without a Hessian, which a likelihood with corners does not
        have.
        """
        size = theta.shape[1]
        value = self.likelihood(theta[:, None, :], np.arange(len(theta)))[:, 0]
        return NewtonOptimum(
            theta, value, np.full((len(theta), size, size), np.nan), np.ones(len(theta), dtype=bool)
        )

    def holding(self, name: str, value: float) -> LikelihoodSearch:
        """Return the same search with one parameter more that is held."""
        return LikelihoodSearch(self.family, self.data, {**self.held, name: value})

    def without(self, names: Collection[str]) -> LikelihoodSearch:
        """Return the same search with parameters that are no longer held."""
        by_name = {name: value for name, value in self.held.items() if name not in names}
        return LikelihoodSearch(self.family, self.data, by_name)

    def climb_from(self, theta: Floats) -> NewtonOptimum:
        """Return the summit that is reached from one point."""
        if not self.free:
            return self.flat_summit(np.empty((1, 0)))
        low, high = self.bounds
        return climb(self.likelihood, np.clip(theta, low, high)[None], low, high)

    def theta_covariance(self, summit: NewtonOptimum) -> Floats:
        """Return the covariance of theta; directions along which the likelihood is flat have an
        infinite variance there.
        """
        if not self.free:
            return np.empty((0, 0))
        if not self.family.smooth:
            slopes = self._slopes(summit)
            return np.diag((np.array(self._asymptotic(summit)) / slopes) ** 2)
        bend = summit.hessian[0]
        shape = (
            self.parameters(summit.theta[0]).get("shape", 0.0)
            if self.family.label.startswith("generalized")
            else 0.0
        )
        if shape < LEAST_REGULAR or not np.isfinite(bend).all():
            return np.full(bend.shape, math.inf)
        if bend.shape == (1, 1):
            return np.asarray(1 / np.maximum(-bend, 1e-9))
        values, vectors = np.linalg.eigh(-bend)
        return np.asarray(vectors / np.maximum(values, 1e-9) @ vectors.T)

    def _slopes(self, summit: NewtonOptimum) -> Floats:
        parameters = self.parameters(summit.theta[0])
        return np.array(
            [
                float(self.scales[n].slope(parameters[n], self.centre, self.spread))
                for n in self.free
            ]
        )

    def _asymptotic(self, summit: NewtonOptimum) -> list[float]:
        """Return errors where the likelihood has corners. Source: Johnson, Kotz and Balakrishnan
        (1995), chapter 24.
        """
        # what is known of a value only in part tells less
        parameters, count = self.parameters(summit.theta[0]), float(self._known_weights.sum())
        if self.family.label == "triangular":
            low, mode, high = (float(parameters[name]) for name in ("low", "mode", "high"))
            return [math.sqrt(max((mode - low) * (high - mode), 1e-300) / count)]
        errors = {
            "mean": float(parameters["sd"]) / math.sqrt(2 * count),
            "sd": float(parameters["sd"]) / math.sqrt(count),
        }
        return [errors[name] for name in self.free]

    def covariance(self, summit: NewtonOptimum, of_theta: Floats) -> tuple[tuple[float, ...], ...]:
        """Return the covariance of the free parameters from that of theta."""
        slopes = self._slopes(summit)
        with np.errstate(invalid="ignore"):
            outer = of_theta * np.outer(slopes, slopes)
        return tuple(map(tuple, outer.tolist()))

    def errors(
        self, summit: NewtonOptimum, of_theta: Floats
    ) -> tuple[dict[str, float], dict[str, tuple[float, float]]]:
        """Return standard errors and 95 % intervals of the free parameters; intervals are even on
        the scale of the search.
        """
        spread, slopes = np.sqrt(np.maximum(np.diag(of_theta), 0)), self._slopes(summit)
        errors, intervals = {}, {}
        for i, name in enumerate(self.free):
            errors[name] = float(spread[i] * abs(slopes[i]))
            theta, reach = float(summit.theta[0, i]), Z * float(spread[i])
            intervals[name] = (
                self.value_at(name, theta - reach),
                self.value_at(name, theta + reach),
            )
        return errors, intervals

    def spread_of(self, summit: NewtonOptimum, position: int) -> float:
        """Return the sd of one parameter on its scale; infinite where the likelihood is not
        curved.
        """
        covariance = self.theta_covariance(summit)
        value = float(covariance[position, position])
        return math.sqrt(value) if math.isfinite(value) and value >= 0 else math.inf


def scale_of(family: Family, name: str, held_parameters: Mapping[str, float]) -> Scale:
    """Return the scale of a parameter; a likeliest value lies between the two ends, which are
    held.
    """
    if name != "mode":
        return family.scales[name]
    low, width = held_parameters["low"], held_parameters["high"] - held_parameters["low"]
    return Scale(
        lambda t, c, s: low + width * expit(t),
        lambda v, c, s: logit((v - low) / width),
        lambda v, c, s: (v - low) * (low + width - v) / width,
    )
