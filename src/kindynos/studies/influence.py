"""What each trial adds to a statistic, to first order: terms ``(trials,)`` whose mean moves as the
statistic does.

Source: Efron, The Jackknife, the Bootstrap and Other Resampling Plans (1982), chapter 6.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kindynos.arrays import Floats
from kindynos.results.result import Result
from kindynos.results.sample import Sample


def sd_terms(values: Floats) -> tuple[Floats, float]:
    """Return the terms of the sd, ((x - m)^2 - s^2) / 2s, and the sd."""
    gaps = values - values.mean()
    sd = float(values.std(ddof=1)) if len(values) > 1 else 0.0
    return ((gaps**2 - sd**2) / (2 * sd) if sd > 0 else np.zeros(len(values))), sd


def shortfall_terms(values: Floats, level: float) -> Floats:
    """Return terms whose mean is the expected shortfall: q + (loss - q)+ / (1 - level), q the value
    at risk.
    """
    edge = float(np.quantile(-values, level))
    return np.asarray(edge + np.maximum(-values - edge, 0.0) / (1 - level))


def quantile_terms(sample: Sample, level: float) -> tuple[Floats, float]:
    """Return the terms of a quantile, (level - [value <= quantile]) x slope, and the slope, 1 /
    density.
    """
    reach = min(level, 1 - level) * min(0.5, 2 * sample.count ** (-1 / 3))
    low, high = sample.quantile(level - reach), sample.quantile(level + reach)
    with np.errstate(invalid="ignore"):
        slope = float((high - low) / (2 * reach))
        return (level - (sample.valid <= sample.quantile(level))) * slope, slope


def _chance(result: Result, words: list[str]) -> Floats:
    side, figure = words[0], float(words[1])
    values = result.values
    return np.asarray(
        {"above": values > figure, "below": values < figure, "at": values == figure}[side] * 1.0
    )


def _quantile(result: Result, level: float) -> Floats:
    return quantile_terms(result._sample, level)[0]


_TERMS: dict[str, Callable[[Result, list[str]], Floats]] = {
    "mean": lambda result, words: result.values,
    "sd": lambda result, words: sd_terms(result.values)[0],
    "median": lambda result, words: _quantile(result, 0.5),
    "percentile": lambda result, words: _quantile(result, float(words[0]) / 100),
    "value_at_risk": lambda result, words: -_quantile(result, 1 - float(words[0])),
    "expected_shortfall": lambda result, words: shortfall_terms(result.values, float(words[0])),
    "chance": _chance,
}


def influence_of(statistic: str, result: Result) -> Floats | None:
    """Return each trial's term in a statistic by its words; None for one without, or for trials
    without a value.
    """
    name, *words = statistic.split()
    if name not in _TERMS or not np.isfinite(result.values).all():
        return None
    return _TERMS[name](result, words)
