"""Fitting an Arima process: its likelihood as a function of free parameters, its maximum, and its
errors.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import product
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.processes.arma import (
    differenced,
    from_partial,
    log_likelihoods,
    multiplied,
    partial_of,
    polynomial,
    whitened,
)
from kindynos.processes.descent import descend
from kindynos.processes.likelihood import (
    REJECTED,
    LikelihoodOptimum,
    likelihood_optimum,
    likely_interval,
    likely_places,
)
from kindynos.sampling.streams import stream

PRIOR_SD = 1.0  # sd of a partial autocorrelation on its scale, before any data are seen
FARTHEST = 4.0  # on that scale: a partial autocorrelation of 0.9993
AT_EDGE = 3.5
FARTHEST_PARTIAL = math.tanh(FARTHEST)
SLOPE_STEP = 1e-6  # of a difference
AT_ONCE = 2_000_000  # numbers of columns, and of their covariances, that are whitened together
FAILED = 1e3  # times the largest value: an innovation where there is no likelihood
FIRST_STEPS, KEPT = 30, 5  # of searches from many starts, and how many are taken to the end
SWINGING = (-2.0, -1.2, -0.7, -0.3, 0.0, 0.3, 0.7, 1.2, 2.0)  # of two terms: their first partial
CANCELLING = (-2.0, -0.8, 0.8, 2.0)  # partial autocorrelations on that scale, to begin from
RATIOS = (1.3, 0.75)  # of the moving-average one to the other
CONSTANT, EFFECT = "constant", "effect of "
DRAWS, PROPOSALS, SPREAD_DF = 120, 800, 5  # of parameters: for fans, for intervals
ANY = 1  # number of proposals that bear the weight: a peak at an edge is taken for all there is


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
    def reach(self) -> int:
        """The number of periods over which a value is tied to those before."""
        return 1 + max(
            self.ar + self.season * self.seasonal_ar, self.ma + self.season * self.seasonal_ma
        )

    @property
    def lost(self) -> int:
        """The number of values that differencing takes away."""
        return self.differences + self.seasonal_differences * self.season

    def coefficients(self, theta: Floats) -> dict[str, tuple[float, ...]]:
        """Return the coefficients by name from their free form, which may be any numbers."""
        partial = [math.tanh(max(min(value, FARTHEST), -FARTHEST)) for value in theta.tolist()]
        by_name, begin = {}, 0
        for name, sign, count in (
            ("ar", 1.0, self.ar),
            ("ma", -1.0, self.ma),
            ("seasonal_ar", 1.0, self.seasonal_ar),
            ("seasonal_ma", -1.0, self.seasonal_ma),
        ):
            by_name[name] = tuple(
                sign * value for value in from_partial(partial[begin : begin + count])
            )
            begin += count
        return by_name

    def theta_of(self, coefficients: Mapping[str, Any]) -> Floats:
        """Return the free form of coefficients, which must be stationary and invertible."""
        parts: list[float] = []
        for name, sign in (("ar", 1.0), ("ma", -1.0), ("seasonal_ar", 1.0), ("seasonal_ma", -1.0)):
            parts += partial_of([sign * value for value in coefficients[name]])
        return np.asarray(np.arctanh(np.clip(parts, -FARTHEST_PARTIAL, FARTHEST_PARTIAL)))

    def whole(self, coefficients: Mapping[str, Any]) -> tuple[Floats, Floats]:
        """Return the coefficients of the autoregressive and moving-average part as they are
        multiplied out.
        """
        if not (self.seasonal_ar or self.seasonal_ma):
            return np.array(coefficients["ar"], dtype=np.float64), np.array(
                coefficients["ma"], dtype=np.float64
            )
        ar = multiplied(
            polynomial(coefficients["ar"], -1.0),
            polynomial(coefficients["seasonal_ar"], -1.0, self.season),
        )
        ma = multiplied(
            polynomial(coefficients["ma"], 1.0),
            polynomial(coefficients["seasonal_ma"], 1.0, self.season),
        )
        return -np.array(ar[1:], dtype=np.float64), np.array(ma[1:], dtype=np.float64)


@dataclass(frozen=True)
class Solved:
    """The likelihood at given coefficients, and what is best beside them."""

    log_likelihood: float
    sd: float
    # the constant, where there is one, and the effects of regressors by name
    fixed: dict[str, float]
    fixed_spread: Floats  # a root of their covariance, in units of sd, (fixed, unknowns)
    innovations: Floats
    missing: Floats
    patterns: Floats  # what 1 of each adds to the innovations, (values, fixed)
    scaled: Floats  # the innovations times the root of their covariance's size

    @property
    def constant(self) -> float:
        """The constant, 0 where there is none."""
        return self.fixed.get(CONSTANT, 0.0)

    @property
    def effects(self) -> dict[str, float]:
        """The effects of regressors by name."""
        return effects_among(self.fixed)

    @property
    def fixed_errors(self) -> Floats:
        """The standard errors of the constant and the effects."""
        errors: Floats = self.sd * np.sqrt((self.fixed_spread**2).sum(axis=1))
        return errors


def effects_among(fixed: Mapping[str, float]) -> dict[str, float]:
    """Return the effects of regressors among the parameters of a regression."""
    return {name[len(EFFECT) :]: value for name, value in fixed.items() if name != CONSTANT}


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
    exog: Mapping[str, Floats] = field(default_factory=dict)

    @cached_property
    def fixed_names(self) -> list[str]:
        """The constant, where there is one, and the effects of regressors."""
        effects = [f"{EFFECT}{name}" for name in self.exog]
        return [CONSTANT, *effects] if self.constant else effects

    @property
    def fixed(self) -> int:
        """The number of them."""
        return len(self.fixed_names)

    @property
    def not_told_apart(self) -> str | None:
        """The first regressor whose effect the series cannot tell, None where there is none."""
        columns = self._columns[:, 1 : 1 + self.fixed]
        scaled = columns / np.maximum(np.sqrt((columns**2).sum(axis=0)), 1e-300)
        first = int(self.constant)
        for position, name in enumerate(self.exog, start=first):
            if np.linalg.matrix_rank(scaled[:, : position + 1], tol=1e-11) <= position:
                return name
        return None

    @cached_property
    def _columns(self) -> Floats:
        """The differenced series, a constant if there is one, the regressors, and the pattern of
        each missing value ``(values, columns)``.
        """
        missing = np.flatnonzero(np.isnan(self.series))
        columns_before = 1 + len(self.exog)
        raw = np.zeros((len(self.series), columns_before + len(missing)))
        raw[:, 0] = np.nan_to_num(self.series)
        for position, column in enumerate(self.exog.values(), start=1):
            raw[:, position] = column
        raw[missing, columns_before + np.arange(len(missing))] = 1.0
        columns = differenced(
            raw, self.orders.differences, self.orders.seasonal_differences, self.orders.season
        )
        parts = [columns[:, :1], np.ones((len(columns), int(self.constant))), columns[:, 1:]]
        return np.asfortranarray(np.concatenate(parts, axis=1))

    @cached_property
    def observations(self) -> int:
        """The number of differenced values that are known."""
        return len(self.series) - self.orders.lost - int(np.isnan(self.series).sum())

    def at(self, coefficients: Mapping[str, Any]) -> Solved:
        """Return the likelihood at coefficients by name. Raises numpy.linalg.LinAlgError where it
        cannot be had.
        """
        solved = self.at_all([coefficients])[0]
        if solved is None:
            raise np.linalg.LinAlgError("no likelihood")
        return solved

    def at_all(self, coefficients: Sequence[Mapping[str, Any]]) -> list[Solved | None]:
        """Return the likelihoods at many coefficients, None where there is none."""
        count, columns = self._columns.shape
        most = max(AT_ONCE // max(count * (columns + self.orders.reach), 1), 1)
        return [
            solved
            for begin in range(0, len(coefficients), most)
            for solved in self._together(coefficients[begin : begin + most])
        ]

    def _together(self, coefficients: Sequence[Mapping[str, Any]]) -> list[Solved | None]:
        """Return them worked out at once; one by one where one of them cannot be had."""
        try:
            return list(self._solved(coefficients))
        except np.linalg.LinAlgError:
            if len(coefficients) == 1:
                return [None]
            return [solved for one in coefficients for solved in self._together([one])]

    def _solved(self, coefficients: Sequence[Mapping[str, Any]]) -> Iterator[Solved]:
        phi, theta = map(np.array, zip(*map(self.orders.whole, coefficients), strict=True))
        columns, halves = whitened(self._columns, phi, theta)
        targets, others = columns[..., 0], columns[..., 1:]
        first, rows = self.fixed, len(coefficients)
        best, spreads = np.empty((rows, 0)), np.empty((rows, 0, 0))
        if others.shape[2]:
            # by an orthogonal basis, since regressors may be large and hardly vary
            basis, triangle = np.linalg.qr(others)
            roots = np.linalg.inv(triangle)
            best = (roots @ (basis.transpose(0, 2, 1) @ targets[..., None]))[..., 0]
            spreads = roots[:, :first]
            targets = targets - (others @ best[..., None])[..., 0]
        values, sds = log_likelihoods(targets, halves, self.observations, others[..., first:])
        sizes = -0.5 * (np.log(2 * math.pi * sds**2) + 1) - values / self.observations
        scaled = targets * np.exp(sizes)[:, None]
        for row, (value, sd) in enumerate(zip(values.tolist(), sds.tolist(), strict=True)):
            yield Solved(
                value,
                sd,
                dict(zip(self.fixed_names, best[row, :first].tolist(), strict=True)),
                spreads[row],
                targets[row],
                -best[row, first:],
                others[row, :, :first],
                scaled[row],
            )

    def innovations(self, coefficients: Mapping[str, Any], constant: float) -> Floats:
        """Return the innovations of a complete series at coefficients and a constant."""
        phi, theta = self.orders.whole(coefficients)
        return whitened(self._columns[:, :1] - constant, phi[None], theta[None])[0][0, :, 0]

    def cost(self, theta: Floats) -> float:
        """Return the negative log likelihood at free parameters."""
        try:
            return -self.at(self.orders.coefficients(theta)).log_likelihood
        except np.linalg.LinAlgError:
            return 1e10

    def best(self, near: Floats | None = None) -> LikelihoodOptimum:
        """Return the maximum, sought from free parameters ``near`` it where they are given."""
        if not self.orders.free:
            return LikelihoodOptimum(np.empty(0), np.empty((0, 0)))
        mixed = (self.orders.ar and self.orders.ma) or (
            self.orders.seasonal_ar and self.orders.seasonal_ma
        )
        starts = [np.full(self.orders.free, 0.05) if near is None else near]
        if mixed and near is None:
            starts += self._cancelling()
        theta = np.clip(np.array(starts).T, -FARTHEST, FARTHEST)
        if len(starts) > KEPT:
            rough = descend(self._sloped, theta, -FARTHEST, FARTHEST, steps=FIRST_STEPS)
            theta = rough.theta[:, np.argsort(rough.squares, kind="stable")[:KEPT]]
        least = descend(self._sloped, theta, -FARTHEST, FARTHEST)
        return likelihood_optimum(self.cost, least.theta[:, least.best].tolist())

    def _sloped(self, theta: Floats, _: Any) -> tuple[Floats, Floats]:
        """Return for free parameters ``(free, some)`` the innovations on the scale on which their
        sum of squares is least where the likelihood is greatest, and their slopes; far off where
        there is no likelihood.
        """
        size, count = theta.shape
        around = np.concatenate([np.zeros((1, size)), SLOPE_STEP * np.eye(size)])
        tried = (theta.T[:, None] + around).reshape(-1, size)
        failed = np.full(len(self._columns), FAILED * np.abs(self._columns[:, 0]).max())
        rows = [
            failed if solved is None else solved.scaled
            for solved in self.at_all([self.orders.coefficients(row) for row in tried])
        ]
        scaled = np.array(rows).reshape(count, size + 1, -1)
        slopes = (scaled[:, 1:] - scaled[:, :1]) / SLOPE_STEP
        return scaled[:, 0].T, slopes.transpose(0, 2, 1)

    def _cancelling(self) -> list[Floats]:
        """Return starts in which an autoregressive and a moving-average term, or two of each that
        swing, nearly cancel: along such ridges the likelihood has several peaks.
        """
        o = self.orders
        first_seasonal = o.ar + o.ma
        pairs = [(0, o.ar)] if o.ar and o.ma else []
        if o.seasonal_ar and o.seasonal_ma:
            pairs.append((first_seasonal, first_seasonal + o.seasonal_ar))
        starts = []
        for own, moving in pairs:
            for size, ratio in product(CANCELLING, RATIOS):
                start = np.full(o.free, 0.05)
                start[[own, moving]] = size, ratio * size
                starts.append(start)
        if o.ar > 1 and o.ma > 1:
            for size in SWINGING:
                start = np.full(o.free, 0.05)
                start[[0, 1, o.ar, o.ar + 1]] = size, -1.4, size, -2.5
                starts.append(start)
        lean = [0.8] * o.ar + [0.3] * o.ma + [0.8] * o.seasonal_ar + [0.3] * o.seasonal_ma
        return [np.array(lean), *starts]

    def errors(self, likelihood_optimum: LikelihoodOptimum) -> dict[str, float]:
        """Return standard errors by name, such as "ar 1", by the curvature of the likelihood, which
        many values make right; infinite where the series tells nothing, and of a coefficient at an
        end, where the curvature says nothing.
        """
        solved = self.at(self.orders.coefficients(likelihood_optimum.theta))
        errors = (
            likelihood_optimum.errors(lambda theta: self.flat(self.orders.coefficients(theta)))
            if self.orders.free
            else {}
        )
        errors |= dict(zip(self.fixed_names, solved.fixed_errors.tolist(), strict=True))
        errors["sd"] = solved.sd / math.sqrt(2 * self.observations)
        return errors | dict.fromkeys(self.at_bound(likelihood_optimum), math.inf)

    def flat(self, coefficients: Mapping[str, Any]) -> dict[str, float]:
        """Return coefficients by names of their own, such as "ar 1"."""
        return {
            f"{name.replace('_', ' ')} {i}": value
            for name, values in coefficients.items()
            for i, value in enumerate(values, start=1)
        }

    def at_bound(self, likelihood_optimum: LikelihoodOptimum) -> list[str]:
        """Return what lies at an end: coefficients on the border of what is stationary or
        invertible.
        """
        names = list(self.flat(self.orders.coefficients(likelihood_optimum.theta)))
        return [
            name
            for name, value in zip(names, likelihood_optimum.theta, strict=True)
            if abs(value) > AT_EDGE
        ]


@dataclass(frozen=True)
class ArimaProposed:
    """Coefficients by name, what is best beside them, and how likely they are in logs."""

    coefficients: list[dict[str, tuple[float, ...]]]
    solved: list[Solved]
    logs: Floats


@dataclass(frozen=True)
class OpenParameters:
    """Draws of the parameters of an Arima process as its series leaves them open, and what they say
    of each; worked out when they are first asked for.
    """

    likelihood: ArimaLikelihood
    found: LikelihoodOptimum

    @cached_property
    def rows(self) -> list[dict[str, Any]]:
        """One set of parameters after the other, by name, with the ``innovations`` that it makes of
        the series.
        """
        model, generator = self.likelihood, stream(0, "arima", 0)
        proposed = self._proposed(generator, DRAWS)
        lengths, shifts = self._scales(generator, DRAWS)
        return [
            _drawn(
                model,
                proposed.coefficients[likely_place],
                proposed.solved[likely_place],
                length,
                shift,
            )
            for likely_place, length, shift in zip(
                likely_places(proposed.logs, DRAWS, ANY).tolist(), lengths, shifts, strict=True
            )
        ]

    def _proposed(self, generator: np.random.Generator, count: int) -> ArimaProposed:
        """Return coefficients proposed from Student's t around the best, and how likely each is
        when the constant, the effects and the sd are integrated out, with all partial
        autocorrelations alike before any data are seen.

        Integrating the constant out corrects what a short series does to autoregressive terms.
        Source: Rubin, in Bayesian Statistics 3 (1988), 395-402.
        """
        model, size = self.likelihood, self.likelihood.orders.free
        normals = generator.standard_normal((size, count)) * np.sqrt(
            SPREAD_DF / generator.chisquare(SPREAD_DF, count)
        )
        spread = np.array(self.found.covariance([PRIOR_SD] * size)) if size else np.empty((0, 0))
        values, vectors = np.linalg.eigh(spread)
        thetas = self.found.theta[:, None] + (vectors * np.sqrt(np.maximum(values, 0))) @ normals
        coefficients, solved, logs = [], [], []
        proposed = [model.orders.coefficients(theta) for theta in thetas.T]
        for theta, normal, tried, at in zip(
            thetas.T, normals.T, proposed, model.at_all(proposed), strict=True
        ):
            if at is None:
                continue
            prior = -2 * float(np.log(np.cosh(theta)).sum())
            density = -(SPREAD_DF + size) / 2 * math.log1p(float(normal @ normal) / SPREAD_DF)
            without = model.fixed * math.log(at.sd)
            without += 0.5 * float(np.linalg.slogdet(at.fixed_spread @ at.fixed_spread.T)[1])
            coefficients.append(tried)
            solved.append(at)
            logs.append(at.log_likelihood + without + prior - density)
        return ArimaProposed(coefficients, solved, np.array(logs))

    def _scales(self, generator: np.random.Generator, count: int) -> tuple[list[float], Floats]:
        """Return draws of the root of chi squared, which an sd is divided by, and of standard
        normals ``(count, fixed)``, for the constant and the effects.
        """
        left = self.likelihood.observations - self.likelihood.fixed
        lengths = np.sqrt(generator.chisquare(max(left, 1), count))
        return lengths.tolist(), generator.standard_normal((count, self.likelihood.fixed))

    @cached_property
    def _known(self) -> tuple[dict[str, Floats], dict[str, Floats]]:
        """By name of a parameter, draws of it, and of a coefficient the values that the likelihood
        allows, the best among them.
        """
        model, generator = self.likelihood, stream(0, "arima parameters", 0)
        proposed = self._proposed(generator, PROPOSALS)
        named = [model.flat(coefficient) for coefficient in proposed.coefficients]
        picked = likely_places(proposed.logs, PROPOSALS, ANY).tolist()
        best = model.at(self._best).log_likelihood
        allowed = [model.flat(self._best)] + [
            coefficient
            for coefficient, at in zip(named, proposed.solved, strict=True)
            if best - at.log_likelihood < REJECTED
        ]
        draws = {key: np.array([named[position][key] for position in picked]) for key in named[0]}
        lengths, shifts = self._scales(generator, PROPOSALS)
        drawn = [
            _drawn(model, {}, proposed.solved[position], length, shift)
            for position, length, shift in zip(picked, lengths, shifts, strict=True)
        ]
        draws["sd"] = np.array([coefficient["sd"] for coefficient in drawn])
        if model.constant:
            draws[CONSTANT] = np.array([coefficient[CONSTANT] for coefficient in drawn])
        for name in model.exog:
            draws[f"{EFFECT}{name}"] = np.array(
                [coefficient["effects"][name] for coefficient in drawn]
            )
        return draws, {
            key: np.array([coefficient[key] for coefficient in allowed]) for key in named[0]
        }

    @property
    def _best(self) -> dict[str, tuple[float, ...]]:
        return self.likelihood.orders.coefficients(self.found.theta)

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        """95 % intervals by name."""
        draws, allowed = self._known
        return {
            name: likely_interval(values, allowed.get(name, np.empty(0)))
            for name, values in draws.items()
        }


def _drawn(
    model: ArimaLikelihood,
    coefficients: dict[str, tuple[float, ...]],
    solved: Solved,
    length: float,
    shift: Floats,
) -> dict[str, Any]:
    sd = solved.sd * math.sqrt(model.observations) / length
    spread = solved.fixed_spread
    gaps = sd * (np.linalg.cholesky(spread @ spread.T) @ shift) if model.fixed else shift
    fixed = {
        name: value + gap
        for (name, value), gap in zip(solved.fixed.items(), gaps.tolist(), strict=True)
    }
    return {
        **coefficients,
        CONSTANT: fixed.get(CONSTANT, 0.0),
        "effects": effects_among(fixed),
        "sd": sd,
        "innovations": solved.innovations - solved.patterns @ gaps,
    }
