"""Log densities as likelihoods need them: of data ``(..., 1, n)`` for parameters ``(..., points,
1)``, all at once.

What depends on the data alone is worked out on the data alone, which is why these are not the
densities of the distributions: those are for one set of parameters. Values outside the support give
minus infinity. The formulas are those of the classes.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.counts import log_choose
from kindynos.distributions.special import betaln, gammaln, log_ndtr, xlog1py, xlogy

HALF_LOG_TWO_PI = 0.5 * math.log(2 * math.pi)
NEAR_ZERO = 1e-30  # what serves for a shape of 0: log1p(x) is x there, without rounding


def normal(x: Floats, mean: Floats, sd: Floats) -> Floats:
    return -0.5 * ((x - mean) / sd) ** 2 - np.log(sd) - HALF_LOG_TWO_PI


def lognormal(x: Floats, mean: Floats, sd: Floats) -> Floats:
    variance = np.log1p((sd / mean) ** 2)
    logs = np.log(x)
    z = (logs - np.log(mean) + variance / 2) ** 2 / variance
    return -0.5 * z - logs - 0.5 * np.log(variance) - HALF_LOG_TWO_PI


def exponential(x: Floats, mean: Floats) -> Floats:
    return -np.log(mean) - x / mean


def gamma(x: Floats, shape: Floats, scale: Floats) -> Floats:
    return xlogy(shape - 1, x) - x / scale - shape * np.log(scale) - gammaln(shape)


def weibull(x: Floats, shape: Floats, scale: Floats) -> Floats:
    logs = np.log(x)
    y = shape * (logs - np.log(scale))
    return np.asarray(np.log(shape) + y - logs - np.exp(np.minimum(y, 700.0)))


def log_logistic(x: Floats, scale: Floats, shape: Floats) -> Floats:
    logs = np.log(x)
    y = np.abs(shape * (logs - np.log(scale)))
    return np.asarray(np.log(shape) - logs - y - 2 * np.log1p(np.exp(-y)))


def inverse_gaussian(x: Floats, mean: Floats, shape: Floats) -> Floats:
    return (
        0.5 * np.log(shape)
        - 1.5 * np.log(x)
        - HALF_LOG_TWO_PI
        - shape * (x - mean) ** 2 / (2 * mean**2 * x)
    )


def pareto(x: Floats, shape: Floats, low: Floats) -> Floats:
    return np.where(
        x >= low, np.log(shape) + shape * np.log(low) - (shape + 1) * np.log(x), -np.inf
    )


def uniform(x: Floats, low: Floats, high: Floats) -> Floats:
    return np.where((x >= low) & (x <= high), -np.log(high - low), -np.inf)


def triangular(x: Floats, low: Floats, mode: Floats, high: Floats) -> Floats:
    width = high - low
    with np.errstate(divide="ignore", invalid="ignore"):
        side = np.where(
            x < mode, (x - low) / (mode - low), np.where(x > mode, (high - x) / (high - mode), 1.0)
        )
        return np.log(np.where((x >= low) & (x <= high), 2 * side / width, 0.0))


def beta(x: Floats, a: Floats, b: Floats, low: Floats, high: Floats) -> Floats:
    width = high - low
    with np.errstate(divide="ignore"):
        return (
            xlogy(a - 1, (x - low) / width)
            + xlogy(b - 1, (high - x) / width)
            - betaln(a, b)
            - np.log(width)
        )


def pert(x: Floats, low: Floats, mode: Floats, high: Floats, weight: Floats) -> Floats:
    share = (mode - low) / (high - low)
    return beta(x, 1 + weight * share, 1 + weight * (1 - share), low, high)


def student(x: Floats, df: Floats, location: Floats, scale: Floats) -> Floats:
    z = (x - location) / scale
    constant = -betaln(df / 2, 0.5) - 0.5 * np.log(df) - np.log(scale)
    return constant - (df + 1) / 2 * np.log1p(z * z / df)


def student_by_moments(x: Floats, df: Floats, mean: Floats, sd: Floats) -> Floats:
    return student(x, df, mean, sd * np.sqrt((df - 2) / df))


def logistic(x: Floats, mean: Floats, sd: Floats) -> Floats:
    scale = sd * (math.sqrt(3) / math.pi)
    z = np.abs((x - mean) / scale)
    return np.asarray(-z - 2 * np.log1p(np.exp(-z)) - np.log(scale))


def laplace(x: Floats, mean: Floats, sd: Floats) -> Floats:
    scale = sd / math.sqrt(2)
    return -np.abs(x - mean) / scale - np.log(2 * scale)


def cauchy(x: Floats, location: Floats, scale: Floats) -> Floats:
    return -np.log1p(((x - location) / scale) ** 2) - np.log(math.pi * scale)


def gumbel(x: Floats, location: Floats, scale: Floats) -> Floats:
    z = (x - location) / scale
    return -z - np.exp(np.minimum(-z, 700.0)) - np.log(scale)


def _shrunk(z: Floats, shape: Floats) -> Floats:
    """Return log(1 + shape z) / shape, and z for a shape of 0; NaN outside the support."""
    safe = np.where(np.abs(shape) < NEAR_ZERO, NEAR_ZERO, shape)
    return np.log1p(safe * z) / safe  # NaN beyond the end, and infinite at it


def extreme_value(x: Floats, location: Floats, scale: Floats, shape: Floats) -> Floats:
    y = _shrunk((x - location) / scale, shape)
    log_density = -(1 + shape) * y - np.exp(np.minimum(-y, 700.0)) - np.log(scale)
    return np.where(shape < -1, -np.inf, log_density)


def generalized_pareto(x: Floats, location: Floats, scale: Floats, shape: Floats) -> Floats:
    z = (x - location) / scale
    shrunk = -(1 + shape) * _shrunk(z, shape) - np.log(scale)
    return np.where((z < 0) | (shape < -1), -np.inf, shrunk)


def skew_normal(x: Floats, location: Floats, scale: Floats, shape: Floats) -> Floats:
    z = (x - location) / scale
    return math.log(2) - 0.5 * z * z - HALF_LOG_TWO_PI - np.log(scale) + log_ndtr(shape * z)


def johnson(x: Floats, a: Floats, b: Floats, location: Floats, scale: Floats) -> Floats:
    z = (x - location) / scale
    y = a + b * np.arcsinh(z)
    return np.log(b / scale) - HALF_LOG_TWO_PI - 0.5 * y * y - 0.5 * np.log1p(z * z)


def bernoulli(x: Floats, probability: Floats) -> Floats:
    return xlogy(x, probability) + xlog1py(1 - x, -probability)


def binomial(x: Floats, trials: Floats, probability: Floats) -> Floats:
    return log_choose(trials, x) + xlogy(x, probability) + xlog1py(trials - x, -probability)


def poisson(x: Floats, mean: Floats) -> Floats:
    return xlogy(x, mean) - mean - gammaln(x + 1)


def geometric(x: Floats, probability: Floats) -> Floats:
    return np.log(probability) + xlog1py(x - 1, -probability)


def negative_binomial(x: Floats, successes: Floats, probability: Floats) -> Floats:
    ways = gammaln(x + successes) - gammaln(x + 1) - gammaln(successes)
    return ways + successes * np.log(probability) + xlog1py(x, -probability)


def integer_uniform(x: Floats, low: Floats, high: Floats) -> Floats:
    return np.where((x >= low) & (x <= high), -np.log(high - low + 1), -np.inf)
