"""Fitting an Arima process: its likelihood as a function of free parameters, its maximum, and what
the series leaves open.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.processes.arma import (
    differenced,
    from_partial,
    log_likelihood,
    multiplied,
    partial_of,
    polynomial,
    whitened,
)
from kindynos.processes.likelihood import LikelihoodOptimum, likelihood_optimum
from kindynos.sampling.streams import stream

PRIOR_SD = 1.0  # sd of a partial autocorrelation on its scale, before any data are seen
FARTHEST = 4.0  # on that scale: a partial autocorrelation of 0.9993
AT_EDGE = 3.5
FARTHEST_PARTIAL = math.tanh(FARTHEST)
FIRST_STEPS, KEPT = 10, 5  # of searches from many starts, and how many are taken to the end
CANCELLING = (-2.0, -0.8, 0.8, 2.0)  # partial autocorrelations on that scale, to begin from
DRAWS, SPREAD_DF = 120, 5  # of parameters


@dataclass(frozen=True)
class Orders:
    """How many parameters of each sort, how often it is differenced, and the length of the
    season.
    """

    ar: int
    differences: int
    ma: int
    seasonal_ar: int = 0
    seasonal_differences: int = 0
    seasonal_ma: int = 0
    season: int = 1

    @property
    def free(self) -> int:
        """The number of coefficients."""
        return self.ar + self.ma + self.seasonal_ar + self.seasonal_ma

    @property
    def lost(self) -> int:
        """The number of values that differencing takes away."""
        return self.differences + self.seasonal_differences * self.season

    def coefficients(self, theta: Floats) -> dict[str, tuple[float, ...]]:
        """Return the coefficients by name from their free form, which may be any numbers."""
        partial = [math.tanh(max(min(value, FARTHEST), -FARTHEST)) for value in theta.tolist()]
        answer, begin = {}, 0
        for name, sign, count in (
            ("ar", 1.0, self.ar),
            ("ma", -1.0, self.ma),
            ("seasonal_ar", 1.0, self.seasonal_ar),
            ("seasonal_ma", -1.0, self.seasonal_ma),
        ):
            answer[name] = tuple(
                sign * value for value in from_partial(partial[begin : begin + count])
            )
            begin += count
        return answer

    def theta_of(self, found: Mapping[str, Any]) -> Floats:
        """Return the free form of coefficients, which must be stationary and invertible."""
        parts: list[float] = []
        for name, sign in (("ar", 1.0), ("ma", -1.0), ("seasonal_ar", 1.0), ("seasonal_ma", -1.0)):
            parts += partial_of([sign * value for value in found[name]])
        return np.asarray(np.arctanh(np.clip(parts, -FARTHEST_PARTIAL, FARTHEST_PARTIAL)))

    def whole(self, found: Mapping[str, Any]) -> tuple[Floats, Floats]:
        """Return the coefficients of the autoregressive and moving-average part as they are
        multiplied out.
        """
        if not (self.seasonal_ar or self.seasonal_ma):
            return np.array(found["ar"], dtype=np.float64), np.array(found["ma"], dtype=np.float64)
        ar = multiplied(
            polynomial(found["ar"], -1.0), polynomial(found["seasonal_ar"], -1.0, self.season)
        )
        ma = multiplied(
            polynomial(found["ma"], 1.0), polynomial(found["seasonal_ma"], 1.0, self.season)
        )
        return -np.array(ar[1:], dtype=np.float64), np.array(ma[1:], dtype=np.float64)


@dataclass(frozen=True)
class Solved:
    """The likelihood at given coefficients, and what is best beside them."""

    log_likelihood: float
    sd: float
    constant: float
    constant_variance: float
    innovations: Floats
    missing: Floats
    constant_pattern: Floats  # what a constant of 1 adds to the innovations


@dataclass(frozen=True)
class ArimaLikelihood:
    """The likelihood of a series ``(values,)``, NaN where one is missing, by the coefficients of an
    Arima process.

    Missing values are integrated out: each is one more unknown in a regression of the innovations,
    which is exact.
    """

    series: Floats
    orders: Orders
    constant: bool

    @cached_property
    def _columns(self) -> Floats:
        """The differenced series, a constant if there is one, and the pattern of each missing value
        ``(values, columns)``.
        """
        missing = np.flatnonzero(np.isnan(self.series))
        raw = np.zeros((len(self.series), 1 + len(missing)))
        raw[:, 0] = np.nan_to_num(self.series)
        raw[missing, 1 + np.arange(len(missing))] = 1.0
        columns = differenced(
            raw, self.orders.differences, self.orders.seasonal_differences, self.orders.season
        )
        parts = [columns[:, :1], np.ones((len(columns), int(self.constant))), columns[:, 1:]]
        return np.asfortranarray(np.concatenate(parts, axis=1))

    @cached_property
    def observations(self) -> int:
        """The number of differenced values that are known."""
        return len(self.series) - self.orders.lost - int(np.isnan(self.series).sum())

    def at(self, found: Mapping[str, Any]) -> Solved:
        """Return the likelihood at coefficients by name. Raises numpy.linalg.LinAlgError where it
        cannot be had.
        """
        phi, theta = self.orders.whole(found)
        columns, half = whitened(self._columns, phi, theta)
        target, others = columns[:, 0], columns[:, 1:]
        if not others.shape[1]:
            value, sd = log_likelihood(target, half, self.observations, others)
            return Solved(value, sd, 0.0, 0.0, target, others[0], np.zeros(len(target)))
        first = int(self.constant)
        crossed = others.T @ others
        best = np.linalg.solve(crossed, others.T @ target)
        variance = float(np.linalg.inv(crossed)[0, 0]) if self.constant else 0.0
        target = np.asarray(target - others @ best, dtype=np.float64)
        value, sd = log_likelihood(target, half, self.observations, others[:, first:])
        constant = float(best[0]) if self.constant else 0.0
        pattern = others[:, 0] if self.constant else np.zeros(len(target))
        missing: Floats = np.asarray(-best[first:], dtype=np.float64)
        return Solved(value, sd, constant, sd**2 * variance, target, missing, pattern)

    def innovations(self, found: Mapping[str, Any], constant: float) -> Floats:
        """Return the innovations of a complete series at coefficients and a constant."""
        columns = self._columns[:, :1] - constant
        return whitened(np.asfortranarray(columns), *self.orders.whole(found))[0][:, 0]

    def cost(self, theta: Floats) -> float:
        """Return the negative log likelihood at free parameters."""
        try:
            return -self.at(self.orders.coefficients(theta)).log_likelihood
        except np.linalg.LinAlgError:
            return 1e10

    def best(self, near: Floats | None = None) -> LikelihoodOptimum:
        """Return the maximum, sought from free parameters ``near`` it where they are given."""
        from scipy.optimize import minimize

        if not self.orders.free:
            return LikelihoodOptimum(np.empty(0), np.empty((0, 0)))
        mixed = (self.orders.ar and self.orders.ma) or (
            self.orders.seasonal_ar and self.orders.seasonal_ma
        )
        starts = [np.full(self.orders.free, 0.05) if near is None else near]
        if mixed and near is None:
            starts += self._cancelling()
        tolerance = 1e-4 if near is None else 1e-3

        def searched(start: Floats, steps: int) -> tuple[float, Floats]:
            options = {"gtol": tolerance, "maxiter": steps}
            found = minimize(self.cost, start, method="BFGS", options=options)
            return float(found.fun), found.x

        if len(starts) > KEPT:
            rough = sorted(
                (searched(start, FIRST_STEPS) for start in starts), key=lambda one: one[0]
            )
            starts = [theta for _, theta in rough[:KEPT]]
        reached = [searched(start, 100) for start in starts]
        theta = np.clip(min(reached, key=lambda one: one[0])[1], -FARTHEST, FARTHEST)
        return likelihood_optimum(self.cost, theta.tolist())

    def _cancelling(self) -> list[Floats]:
        """Return starts in which the first autoregressive and the first moving-average term nearly
        cancel: along that ridge the likelihood has several peaks.
        """
        o = self.orders
        first_seasonal = o.ar + o.ma
        pairs = [(0, o.ar)] if o.ar and o.ma else []
        if o.seasonal_ar and o.seasonal_ma:
            pairs.append((first_seasonal, first_seasonal + o.seasonal_ar))
        starts = []
        for own, moving in pairs:
            for size in CANCELLING:
                start = np.full(o.free, 0.05)
                start[[own, moving]] = size, 1.3 * size
                starts.append(start)
        lean = [0.8] * o.ar + [0.3] * o.ma + [0.8] * o.seasonal_ar + [0.3] * o.seasonal_ma
        return [np.array(lean), *starts]

    def errors(self, found: LikelihoodOptimum) -> dict[str, float]:
        """Return standard errors by name, such as "ar 1"; infinite where the series tells
        nothing.
        """
        solved = self.at(self.orders.coefficients(found.theta))
        named = self._named
        errors = found.errors(named) if self.orders.free else {}
        if self.constant:
            errors["constant"] = math.sqrt(solved.constant_variance)
        errors["sd"] = solved.sd / math.sqrt(2 * self.observations)
        return errors

    def _named(self, theta: Floats) -> dict[str, float]:
        return {
            f"{name.replace('_', ' ')} {i}": value
            for name, values in self.orders.coefficients(theta).items()
            for i, value in enumerate(values, start=1)
        }

    def at_bound(self, found: LikelihoodOptimum) -> list[str]:
        """Return what lies at an end: coefficients on the border of what is stationary or
        invertible.
        """
        names = list(self._named(found.theta))
        return [
            name for name, value in zip(names, found.theta, strict=True) if abs(value) > AT_EDGE
        ]


@dataclass(frozen=True)
class OpenParameters:
    """Draws of the parameters of an Arima process as its series leaves them open; worked out when
    they are first asked for.
    """

    likelihood: ArimaLikelihood
    found: LikelihoodOptimum

    @cached_property
    def rows(self) -> list[dict[str, Any]]:
        """One set of parameters after the other, by name, with the ``innovations`` that it makes of
        the series.

        Parameters are proposed from Student's t around the best and picked by their likelihood
        times a normal density that bounds what the series does not tell. Source: Rubin, in Bayesian
        Statistics 3 (1988), 395-402.
        """
        model, size = self.likelihood, self.likelihood.orders.free
        generator = stream(0, "arima", 0)
        normals = generator.standard_normal((size, DRAWS)) * np.sqrt(
            SPREAD_DF / generator.chisquare(SPREAD_DF, DRAWS)
        )
        spread = np.array(self.found.covariance([PRIOR_SD] * size)) if size else np.empty((0, 0))
        values, vectors = np.linalg.eigh(spread)
        thetas = self.found.theta[:, None] + (vectors * np.sqrt(np.maximum(values, 0))) @ normals
        proposed, logs = [], []
        for theta, normal in zip(thetas.T, normals.T, strict=True):
            coefficients = model.orders.coefficients(theta)
            try:
                solved = model.at(coefficients)
            except np.linalg.LinAlgError:
                continue
            prior = -0.5 * float((((theta - self.found.theta) / PRIOR_SD) ** 2).sum())
            density = -(SPREAD_DF + size) / 2 * math.log1p(float(normal @ normal) / SPREAD_DF)
            proposed.append((coefficients, solved))
            logs.append(solved.log_likelihood + prior - density)
        shares = np.cumsum(np.exp(np.array(logs) - max(logs)))
        picked = np.searchsorted(shares, (np.arange(DRAWS) + 0.5) / DRAWS * shares[-1])
        lengths = np.sqrt(
            generator.chisquare(max(model.observations - size - int(model.constant), 1), DRAWS)
        )
        shifts = generator.standard_normal(DRAWS)
        return [
            _drawn(model, proposed[min(place, len(proposed) - 1)], float(length), float(shift))
            for place, length, shift in zip(picked.tolist(), lengths, shifts, strict=True)
        ]


def _drawn(
    model: ArimaLikelihood,
    proposed: tuple[dict[str, tuple[float, ...]], Solved],
    length: float,
    shift: float,
) -> dict[str, Any]:
    coefficients, solved = proposed
    sd = solved.sd * math.sqrt(model.observations) / length
    gap = shift * math.sqrt(solved.constant_variance) * sd / solved.sd
    innovations = solved.innovations - gap * solved.constant_pattern
    return {**coefficients, "constant": solved.constant + gap, "sd": sd, "innovations": innovations}
