"""What is wanted: utility, and weights of criteria from pairwise comparisons.

Sources: Pratt, Econometrica 32 (1964), 122-136; Saaty, Journal of Mathematical Psychology 15
(1977), 234-281.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import checked, checked_init, mapping, positive

# Mean consistency index of random comparisons of 1, 2, ... criteria. Source: Saaty (1977), table 1.
RANDOM_INDEX = (0.0, 0.0, 0.58, 0.90, 1.12, 1.24, 1.32, 1.41, 1.45, 1.49)

CLOSE = 1e-6  # how far a ratio and its inverse may be from it


@dataclass(frozen=True)
class Utility:
    """An increasing function of a payoff, and its inverse."""

    of: Callable[[Floats], Floats]
    back: Callable[[float], float]
    words: str


def exponential(risk_tolerance: float) -> Utility:
    """Return the utility -exp(-x / risk tolerance), whose holder minds a risk alike at any
    wealth.
    """
    tolerance = positive("risk_tolerance", risk_tolerance)

    def of(values: Floats) -> Floats:
        return -np.exp(-np.maximum(values / tolerance, -700.0))

    return Utility(
        of,
        lambda u: -tolerance * math.log(max(-u, 1e-300)),
        f"exponential utility, risk tolerance {tolerance:,g}",
    )


def increasing(function: Any, low: float, high: float) -> Utility:
    """Return a utility from an increasing function, inverted by halving; raises ParameterError for
    one that falls.
    """
    grid = np.linspace(low, high, 201)
    try:
        utilities = np.asarray(function(grid), dtype=np.float64)
    except Exception as error:
        raise ParameterError(
            f"the utility fails on an array: {type(error).__name__}: {error}"
        ) from None
    if (
        utilities.shape != grid.shape
        or not np.isfinite(utilities).all()
        or (np.diff(utilities) < 0).any()
    ):
        raise ParameterError(
            "the utility must be an increasing, finite function of an array of payoffs"
        )

    def back(utility: float) -> float:
        from scipy.optimize import bisect

        def beyond(payoff: float) -> float:
            return float(np.asarray(function(np.array([payoff])))[0]) - utility

        if beyond(low) * beyond(high) >= 0:
            return low if abs(beyond(low)) < abs(beyond(high)) else high
        return float(bisect(beyond, low, high, xtol=1e-12 * (high - low), rtol=1e-15))

    return Utility(
        lambda values: np.asarray(function(values), dtype=np.float64), back, "the utility given"
    )


@checked_init
@dataclass(frozen=True)
class Weights:
    """Weights of criteria that add up to 1, and how consistent the comparisons were: a ratio above
    0.10 asks for another look.

    >>> from kindynos import pairwise_weights
    >>> said = {("price", "noise"): 3, ("price", "range"): 2, ("range", "noise"): 2}
    >>> weights = pairwise_weights(said)
    >>> max(weights.weights, key=weights.weights.get)
    'price'
    """

    weights: Mapping[str, float]
    consistency_ratio: float

    @property
    def expression(self) -> str:
        """The weighted sum of the criteria as a formula."""
        return " + ".join(f"{weight:.6g} * {name}" for name, weight in self.weights.items())


def _check_both(first: str, second: str, given: Mapping[Any, float]) -> None:
    """Raise ParameterError where a pair is compared both ways and the two contradict each other."""
    one_way, other_way = given[first, second], given[second, first]
    if abs(one_way * other_way - 1) > CLOSE:
        raise ParameterError(
            f"{first} against {second} is {one_way:g}, and {second} against {first} is "
            f"{other_way:g}; state the pair once, or as {1 / one_way:.4g}"
        )


@checked
def pairwise_weights(comparisons: Mapping[tuple[str, str], float]) -> Weights:
    """Return the weights of criteria from how many times as important one is as another, for each
    pair.

    They are the principal eigenvector of the comparisons. Raises ParameterError for a pair that is
    missing.

    >>> found = pairwise_weights({("money", "days"): 3, ("money", "air"): 6, ("days", "air"): 2})
    >>> round(found.weights["money"], 4), round(found.consistency_ratio, 6)
    (0.6667, 0.0)
    """
    given = mapping("comparisons", comparisons, "how many times as important, by pair of names")
    names: list[str] = []
    for pair in given:
        if not isinstance(pair, tuple) or len(pair) != 2 or pair[0] == pair[1]:
            raise ParameterError(f"{pair!r:.60} is not a pair of criteria")
        names += [name for name in pair if name not in names]
    if len(names) < 2 or len(names) > len(RANDOM_INDEX):
        raise ParameterError(
            f"needs comparisons of 2 to {len(RANDOM_INDEX)} criteria, not {len(names)}"
        )
    matrix = np.ones((len(names), len(names)))
    for i, first in enumerate(names):
        for j, two in enumerate(names[:i]):
            if (first, two) in given and (two, first) in given:
                _check_both(first, two, given)
            if (first, two) in given:
                ratio = positive(f"{first} against {two}", given[first, two])
            elif (two, first) in given:
                ratio = 1 / positive(f"{two} against {first}", given[two, first])
            else:
                raise ParameterError(f"{first} and {two} are not compared")
            matrix[i, j], matrix[j, i] = ratio, 1 / ratio
    values, vectors = np.linalg.eig(matrix)
    position = int(np.argmax(values.real))
    vector = np.abs(vectors[:, position].real)
    size = len(names)
    index = (float(values[position].real) - size) / (size - 1) if size > 2 else 0.0
    ratio = max(index, 0.0) / RANDOM_INDEX[size - 1] if size > 2 else 0.0
    return Weights(dict(zip(names, map(float, vector / vector.sum()), strict=True)), ratio)
