"""Maxima of likelihoods in closed form, or by Newton's method in one parameter, for values ``(...,
values)``.

Each gets the data and the parameters that are held, and returns all the parameters, or None where
these hold it up. Sources: the chapters of Johnson, Kotz and Balakrishnan named with the
distributions.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import digamma, trigamma
from kindynos.fitting.data import Data

Parameters = dict[str, Any]
MOST = 60  # steps of Newton's method, which needs about five
NEAR = 1e-11  # a step, at which it stops


def average(data: Data, values: Floats) -> Any:
    """Return weighted averages along the last axis."""
    return values.mean(axis=-1) if data.even else values @ data.weights / data.total


def normal(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """Mean and sd of the values."""
    x = data.values
    mean = fixed.get("mean", average(data, x))
    return {
        "mean": mean,
        "sd": fixed.get("sd", np.sqrt(average(data, (x - np.expand_dims(mean, -1)) ** 2))),
    }


def lognormal(data: Data, fixed: Mapping[str, Any]) -> Parameters | None:
    """Those of the logs, turned into those of the values."""
    if fixed:
        return None
    logs = np.log(data.values)
    centre = average(data, logs)
    variance = average(data, (logs - np.expand_dims(centre, -1)) ** 2)
    mean = np.exp(centre + variance / 2)
    return {"mean": mean, "sd": mean * np.sqrt(np.expm1(variance))}


def exponential(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The mean of the values."""
    return {"mean": fixed.get("mean", average(data, data.values))}


def inverse_gaussian(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The mean of the values, and one over the mean gap of their inverses."""
    x = data.values
    mean = fixed.get("mean", average(data, x))
    wide = np.expand_dims(mean, -1)
    return {
        "mean": mean,
        "shape": fixed.get("shape", 1 / average(data, (x - wide) ** 2 / (wide**2 * x))),
    }


def laplace(data: Data, fixed: Mapping[str, Any]) -> Parameters | None:
    """The median, and the mean absolute distance from it."""
    x = data.values
    middle = (
        fixed["mean"]
        if "mean" in fixed
        else np.median(x, axis=-1)
        if data.even
        else _weighted_median(data)
    )
    scale = average(data, np.abs(x - np.expand_dims(middle, -1)))
    return {"mean": middle, "sd": fixed.get("sd", np.sqrt(2) * scale)}


def _weighted_median(data: Data) -> float:
    order = np.argsort(data.values)
    x, reached = data.values[order], np.cumsum(data.weights[order])
    position = int(np.searchsorted(reached, data.total / 2))
    return float(
        (x[position] + x[position + 1]) / 2 if reached[position] == data.total / 2 else x[position]
    )


def gamma(data: Data, fixed: Mapping[str, Any]) -> Parameters | None:
    """Newton's method on log(shape) - digamma(shape) = log mean - mean log, which has one root."""
    if "scale" in fixed:
        return None
    mean = average(data, data.values)
    if "shape" in fixed:
        return {"shape": fixed["shape"], "scale": mean / fixed["shape"]}
    gap = np.log(mean) - average(data, np.log(data.values))
    shape = (3 - gap + np.sqrt((gap - 3) ** 2 + 24 * gap)) / (12 * gap)
    for _ in range(5):  # each squares the error of the start, a few percent
        slope = 1 / shape - trigamma(shape)
        shape = 1 / (1 / shape + (np.log(shape) - digamma(shape) - gap) / (shape**2 * slope))
    return {"shape": shape, "scale": mean / shape}


def weibull(data: Data, fixed: Mapping[str, Any]) -> Parameters | None:
    """Newton's method on the mean log, weighted by x^shape, less 1 / shape = mean log, which has
    one root.
    """
    if "scale" in fixed:
        return None
    logs = np.log(data.values)
    top = logs.max(axis=-1, keepdims=True)
    away = logs - top  # so that no power overflows
    centre = average(data, away)
    shape = fixed.get(
        "shape", 1.28 / np.sqrt(average(data, (away - np.expand_dims(centre, -1)) ** 2))
    )
    for _ in range(MOST):
        powers = np.exp(np.expand_dims(shape, -1) * away)
        total = average(data, powers)
        if "shape" in fixed:
            break
        first, second = (
            average(data, powers * away) / total,
            average(data, powers * away**2) / total,
        )
        step = (first - 1 / shape - centre) / (second - first**2 + 1 / shape**2)
        fresh = np.maximum(shape - step, shape / 4)
        near = np.abs(fresh - shape) <= NEAR * shape
        shape = fresh
        if near.all():
            break
    else:
        return None
    return {"shape": shape, "scale": np.exp(top[..., 0] + np.log(total) / shape)}


def log_logistic(data: Data, fixed: Mapping[str, Any]) -> Parameters | None:
    """Newton's method in two parameters: the logs are logistic, and their likelihood has one
    maximum.
    """
    if fixed:
        return None
    logs = np.log(data.values)
    middle = average(data, logs)
    spread = np.sqrt(3 * average(data, (logs - np.expand_dims(middle, -1)) ** 2)) / np.pi
    for _ in range(MOST):
        z = (logs - np.expand_dims(middle, -1)) / np.expand_dims(spread, -1)
        t = np.tanh(z / 2)
        h = (1 - t * t) / 2
        # the scores of middle / spread and of log spread
        one, other = (average(data, t), average(data, z * t) - 1)
        a, b = average(data, h), average(data, z * h)
        c, d = one + b, other + 1 + average(data, z * z * h)
        bend = a * d - b * c
        move, stretch = (
            np.clip(x / bend, -1, 1) for x in (one * d - b * other, a * other - c * one)
        )
        middle, spread = middle + spread * move, spread * np.exp(stretch)
        if (np.maximum(np.abs(move), np.abs(stretch)) <= NEAR).all():
            return {"scale": np.exp(middle), "shape": 1 / spread}
    return None


def pareto(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """One over the mean of the logs above that of the lower end."""
    low = fixed["low"]
    gaps = average(data, np.log(data.values / low))  # one low, or one per row
    return {"low": low, "shape": fixed.get("shape", 1 / gaps)}


def triangular(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The value of all that makes the others likeliest. Source: Kotz and van Dorp, Beyond Beta
    (2004), section 1.4.
    """
    low, high = fixed["low"], fixed["high"]
    if "mode" in fixed:
        return dict(fixed)
    rows = np.atleast_2d(data.values)
    order = np.argsort(rows, axis=-1)
    x, w = np.take_along_axis(rows, order, axis=-1), data.weights[order]
    share = (x - low) / (high - low)
    left, right = np.cumsum(w, axis=-1) - w, data.total - np.cumsum(w, axis=-1)
    with np.errstate(divide="ignore", invalid="ignore"):
        rise = np.cumsum(w * np.log(share), axis=-1) - w * np.log(share)
        down = w * np.log1p(-share)
        fall = np.cumsum(down[..., ::-1], axis=-1)[..., ::-1] - down
        logs = rise - left * np.log(share) + fall - right * np.log1p(-share)
    best = np.argmax(np.where(np.isnan(logs), -np.inf, logs), axis=-1)
    mode = np.take_along_axis(x, best[..., None], axis=-1)[..., 0]
    return {"low": low, "mode": mode if data.values.ndim > 1 else mode[0], "high": high}


def bernoulli(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The share of ones."""
    return {"probability": fixed.get("probability", average(data, data.values))}


def binomial(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The share of successes."""
    share = average(data, data.values) / fixed["trials"]
    return {"trials": fixed["trials"], "probability": fixed.get("probability", share)}


def poisson(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """The mean of the counts."""
    return {"mean": fixed.get("mean", average(data, data.values))}


def geometric(data: Data, fixed: Mapping[str, Any]) -> Parameters:
    """One over the mean."""
    return {"probability": fixed.get("probability", 1 / average(data, data.values))}
