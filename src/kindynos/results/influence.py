"""What each trial adds to a statistic, to first order: terms, one per trial with a value (of a
share: one per trial), whose mean moves as the statistic does.

Source: Efron, The Jackknife, the Bootstrap and Other Resampling Plans (1982), chapter 6.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.sample import Sample


def mean_terms(sample: Sample) -> Floats:
    """Return the terms of the mean: the values."""
    return sample.valid


def sd_terms(sample: Sample) -> Floats:
    """Return the terms of the sd: ((x - m)^2 - s^2) / 2s."""
    sd = sample.sd if sample.count > 1 else 0.0
    if not sd > 0:
        return np.zeros(sample.count)
    return np.asarray(((sample.valid - sample.mean) ** 2 - sd**2) / (2 * sd))


def quantile_slope(sample: Sample, level: float) -> float:
    """Return the slope of the quantile function at a level, 1 / density; NaN at its ends, 0 and 1,
    which have no error.
    """
    if not 0 < level < 1:
        return math.nan
    reach = min(level, 1 - level) * min(0.5, 2 * sample.count ** (-1 / 3))
    low, high = sample.quantile(level - reach), sample.quantile(level + reach)
    with np.errstate(invalid="ignore"):
        return float((high - low) / (2 * reach))


def quantile_terms(sample: Sample, level: float) -> Floats:
    """Return the terms of a quantile: (level - [value <= quantile]) x slope."""
    with np.errstate(invalid="ignore"):
        below = sample.valid <= sample.quantile(level)
        return np.asarray((level - below) * quantile_slope(sample, level))


def percentile_terms(sample: Sample, q: float) -> Floats:
    """Return the terms of a percentile, from 0 to 100."""
    return quantile_terms(sample, q / 100)


def median_terms(sample: Sample) -> Floats:
    """Return the terms of the median."""
    return quantile_terms(sample, 0.5)


def risk_terms(sample: Sample, level: float, reference: float = 0.0) -> Floats:
    """Return the terms of the value at risk."""
    if sample.better == "low":
        return risk_terms(sample.negated, level, -reference)
    return -quantile_terms(sample, 1 - level)


def shortfall_terms(sample: Sample, level: float, reference: float = 0.0) -> Floats:
    """Return terms whose mean is the expected shortfall: q + (loss - q)+ / (1 - level), q the value
    at risk.
    """
    if sample.better == "low":
        return shortfall_terms(sample.negated, level, -reference)
    losses = reference - sample.valid
    edge = reference - sample.reached(1 - level)
    return np.asarray(edge + np.maximum(losses - edge, 0.0) / (1 - level))


def conditional_terms(
    sample: Sample, above: float | None = None, below: float | None = None
) -> Floats:
    """Return the terms of the mean of the trials inside: mean + [inside] (x - mean) / share."""
    low = -math.inf if above is None else above
    high = math.inf if below is None else below
    inside = (sample.valid > low) & (sample.valid < high)
    if not inside.any():
        return np.full(sample.count, math.nan)
    mean = float(sample.valid[inside].mean())
    return np.asarray(mean + inside * (sample.valid - mean) / inside.mean())


def chance_terms(
    sample: Sample, above: float | None = None, below: float | None = None, at: float | None = None
) -> Floats:
    """Return the terms of a chance, one for each of all trials: 1 for a hit, 0 for none."""
    return sample.is_hit(above, below, at).astype(np.float64)


def survival_terms(sample: Sample, x: float) -> Floats:
    """Return the terms of the chance of more than a value."""
    return chance_terms(sample, above=x)


def none(sample: Sample, *_: Any, **__: Any) -> Floats | None:
    """Return that a statistic has no terms."""
    return None
