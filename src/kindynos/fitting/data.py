"""The values of a fit, with their weights and with what is known of them only in part."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of, invalid_argument, one_of

FEWEST = 8  # values
LARGEST, CLOSEST = 1e80, 1e-12


@dataclass(frozen=True)
class Data:
    """Values ``(values,)``, a weight each (how often it counts), and which are only bounds:
    ``above`` and ``below``; and the ``thresholds`` below which a value would not have been
    recorded, -inf for none.
    """

    values: Floats
    weights: Floats
    above: NDArray[np.bool_]
    below: NDArray[np.bool_]
    places: NDArray[np.int64] | None = None  # in what was given, without values of weight 0
    thresholds: Floats | None = None

    def named(self, selected: NDArray[np.bool_]) -> str:
        """Return the first of the chosen values as messages name it."""
        position = int(np.argmax(selected))
        given = position if self.places is None else int(self.places[position])
        return f"value {given} is {self.values[position]:g}"

    @property
    def plain(self) -> bool:
        """Whether every value is known exactly, and any other would have been recorded."""
        return not (self.above.any() or self.below.any()) and self.thresholds is None

    @property
    def known(self) -> NDArray[np.bool_]:
        """Which values are known exactly."""
        return ~(self.above | self.below)

    @cached_property
    def total(self) -> float:
        """The sum of the weights: how many values there are."""
        return float(self.weights.sum())

    @cached_property
    def even(self) -> bool:
        """Whether all weights are 1."""
        return bool((self.weights == 1).all())

    @cached_property
    def mean(self) -> float:
        """The mean of the values."""
        return float(self.weights @ self.values) / self.total

    @cached_property
    def sd(self) -> float:
        """The sd of the values, with their number in the denominator."""
        return float(np.sqrt(self.weights @ (self.values - self.mean) ** 2 / self.total))

    @cached_property
    def skewness(self) -> float:
        """The skewness of the values."""
        return float(self.weights @ ((self.values - self.mean) / self.sd) ** 3) / self.total

    @cached_property
    def largest(self) -> float:
        """The largest value."""
        return float(self.values.max())

    @cached_property
    def log_moments(self) -> tuple[float, float]:
        """Mean and sd of the logs of values above 0."""
        logs = np.log(self.values)
        mean = float(self.weights @ logs) / self.total
        return mean, float(np.sqrt(self.weights @ (logs - mean) ** 2 / self.total))

    @cached_property
    def _sorted(self) -> Floats:
        return np.sort(self.values)

    def without_empty_bounds(self, low: float, high: float) -> Data:
        """Return the values without bounds that tell nothing of a distribution between two ends,
        such as at least -1 where all lie above 0.
        """
        empty = self.above & (self.values <= low) | self.below & (self.values >= high)
        return self if not empty.any() else self.kept(~empty)

    def kept(self, rows: NDArray[np.bool_]) -> Data:
        """Return some of the values."""
        return Data(
            self.values[rows],
            self.weights[rows],
            self.above[rows],
            self.below[rows],
            None if self.places is None else self.places[rows],
            None if self.thresholds is None else self.thresholds[rows],
        )

    def thinned(self, count: int) -> Data:
        """Return ``count`` of the values, evenly spaced in their order from the least to the
        greatest; all must be known and weigh 1.
        """
        places = np.linspace(0, self.values.size - 1, count).round().astype(np.int64)
        nothing = np.zeros(count, dtype=bool)
        return Data(self._sorted[places], np.ones(count), nothing, nothing)

    def quantiles(self, levels: Sequence[float]) -> list[float]:
        """Return quantiles of the values."""
        if self.even:  # as np.quantile does, without its cost for few values
            x, last = self._sorted, self.values.size - 1
            places = [(min(int(level * last), last - 1), level * last) for level in levels]
            return [float(x[i] + (x[i + 1] - x[i]) * (position - i)) for i, position in places]
        order = np.argsort(self.values)
        reached = (np.cumsum(self.weights[order]) - self.weights[order] / 2) / self.total
        return [float(q) for q in np.interp(levels, reached, self.values[order])]


def data_of(
    values: Any,
    weights: Any = None,
    at_least: Any = None,
    at_most: Any = None,
    weights_kind: str = "counts",
    truncated_below: Any = None,
    censored_above: Any = None,
) -> Data:
    """Return checked data, without values of weight 0; raises ParameterError for values that
    nothing can be estimated from.

    Weights of the kind "survey" are scaled so that they add up to the effective number of values,
    (sum of weights)^2 / sum of squares. Source: Kish, Survey Sampling (1965), section 11.7.
    """
    one_of("weights_kind", weights_kind, ("counts", "survey"))
    array = array_of("values", values)
    _check_values(array)
    above, below = (_mask("at_least", at_least, len(array)), _mask("at_most", at_most, len(array)))
    if censored_above is not None:
        limits = _one_a_value("censored_above", censored_above, len(array), math.inf)
        above, array = above | (array >= limits), np.minimum(array, limits)
    thresholds = None
    if truncated_below is not None:
        thresholds = _one_a_value("truncated_below", truncated_below, len(array), -math.inf)
        _check_recorded(array, thresholds, below)
    if (above & below).any():
        raise ParameterError(f"value {int(np.argmax(above & below))} is both at_least and at_most")
    if (above | below).all():
        raise ParameterError("every value is only a bound; some must be known")
    scaled_weights = _weights(weights, len(array))
    if weights_kind == "survey":
        scaled_weights = scaled_weights * scaled_weights.sum() / (scaled_weights**2).sum()
    if thresholds is not None and np.isinf(thresholds).all():
        thresholds = None
    every = Data(array, scaled_weights, above, below, np.arange(len(array)), thresholds)
    data = every.kept(scaled_weights > 0)
    if data.values.size < 2 or np.ptp(data.values) == 0 or not data.known.any():
        raise ParameterError("the values with a weight above 0 leave nothing to estimate")
    return data


def _one_a_value(name: str, limits: Any, count: int, none: float) -> Floats:
    """Return a limit for each value, from one for all or one each; NaN and infinity stand for
    none.
    """
    array = array_of(name, limits)
    if array.shape not in ((), (count,)):
        raise ParameterError(
            f"{name} must be one number, or one for each of the {count} values, not {array.shape}"
        )
    return np.broadcast_to(np.where(np.isfinite(array), array, none), (count,)).astype(np.float64)


def _check_recorded(values: Floats, thresholds: Floats, below: NDArray[np.bool_]) -> None:
    """Raise ParameterError for a value that its threshold would have kept out."""
    if below.any():
        raise ParameterError(
            "at_most does not go with truncated_below: what is only at most so much may lie below "
            "the threshold, where nothing is recorded"
        )
    short = values < thresholds
    if short.any():
        position = int(np.argmax(short))
        raise ParameterError(
            f"value {position} is {values[position]:g}, which lies below its threshold, "
            f"{thresholds[position]:g}"
        )


def _check_values(array: Floats) -> None:
    """Raise ParameterError for values that nothing can be estimated from."""
    if array.ndim != 1:
        raise ParameterError(f"values must be flat, not {array.shape}")
    if len(array) < FEWEST:
        raise ParameterError(f"needs at least {FEWEST} values, and there are {len(array)}")
    if not np.isfinite(array).all():
        position = int(np.argmin(np.isfinite(array)))
        raise ParameterError(f"value {position} is {array[position]:g}; all must be finite")
    if np.ptp(array) == 0:
        raise ParameterError(f"all values are equal, {array[0]:g}; there is nothing to estimate")
    check_size(array)


def check_size(values: Floats) -> None:
    """Raise ParameterError for values so large or so close that their squares and cubes leave the
    floats.
    """
    reach, spread = float(np.nanmax(np.abs(values))), float(np.nanmax(values) - np.nanmin(values))
    if reach > LARGEST or spread < 1 / LARGEST or spread < CLOSEST * reach:
        raise ParameterError(
            f"the values reach {reach:.3g} and differ by {spread:.3g}; measure them in other "
            "units, or from another zero"
        )


def _weights(weights: Any, count: int) -> Floats:
    if weights is None:
        return np.ones(count)
    array = array_of("weights", weights)
    if array.shape != (count,):
        raise ParameterError(f"weights must be as many as the values, {count}, not {array.shape}")
    if not np.isfinite(array).all() or (array < 0).any():
        bad = ~(np.isfinite(array) & (array >= 0))
        raise invalid_argument(
            f"weights[{int(np.argmax(bad))}]", "finite and at least 0", float(array[bad][0])
        )
    if array.sum() <= 0:
        raise ParameterError("weights must not all be 0")
    return array


def _mask(name: str, mask: Any, count: int) -> NDArray[np.bool_]:
    if mask is None:
        return np.zeros(count, dtype=bool)
    try:
        values = np.asarray(mask)
    except ValueError:  # lists of different lengths
        values = np.empty(0)
    if values.shape != (count,) or values.dtype != bool:
        raise ParameterError(f"{name} must be a mask, True or False for each of the {count} values")
    return values
