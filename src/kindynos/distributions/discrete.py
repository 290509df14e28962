"""Distributions on single values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.errors import ParameterError
from kindynos.validate import checked, finite, invalid_argument


class OnValues(Distribution):
    """A distribution with its mass on single values."""

    @property
    def discrete(self) -> bool:
        return True


@dataclass(frozen=True, repr=False)
class Discrete(OnValues):
    """Any finite list of values with their probabilities, which add up to 1; equal ones, where none
    are given.

    Source: Johnson, Kemp and Kotz, Univariate Discrete Distributions (2005), chapter 1.

    >>> Discrete([0, 100], [0.9, 0.1]).mean, Discrete([4, 5, 6]).mean
    (10.0, 5.0)
    """

    values: Sequence[float]
    probabilities: Sequence[float] = ()

    label = "discrete"
    formula = "P(x = values[i]) = probabilities[i]"
    use = "a few separate cases, each with its probability"

    @classmethod
    @checked
    def from_survival(cls, table: Any, age: float) -> Discrete:
        """Return the age at death of a person who is ``age`` now, from a table of the chances to
        die within a year: a mapping or pairs of age and chance, a DataFrame, or a file with the
        columns ``age`` and ``chance`` (also qx, probability).

        The value is the age in which the person dies, a whole number; a chance holds until the next
        age that is stated. What is left at the last age dies then. Of two lives, the longer is
        ``max(his, hers)`` of two such drivers. Raises ParameterError or FileError for chances
        outside 0 to 1, ages that do not rise or begin above ``age``, and a table that ends with
        more than 1 % alive.

        >>> lives = Discrete.from_survival({65: 0.1, 66: 0.2, 67: 1.0}, 65)
        >>> [round(chance, 3) for chance in lives.probabilities]
        [0.1, 0.18, 0.72]
        """
        from kindynos.distributions.survival import ages_at_death

        return cls(*ages_at_death(table, age))

    def __post_init__(self) -> None:
        pairs = sorted(zip(*self._checked(), strict=True))
        values = [value for value, _ in pairs]
        for earlier, later in pairwise(values):
            if earlier == later:
                raise invalid_argument("each of values", "given once", later)
        object.__setattr__(self, "values", tuple(values))
        object.__setattr__(self, "probabilities", tuple(probability for _, probability in pairs))

    def _checked(self) -> tuple[list[float], list[float]]:
        for name in ("values", "probabilities"):
            stated = getattr(self, name)
            if isinstance(stated, str) or not isinstance(stated, Sequence | np.ndarray):
                raise invalid_argument(name, "a list of numbers", stated)
        values = [finite(f"values[{i}]", value) for i, value in enumerate(self.values)]
        if len(self.probabilities) == 0 and values:
            return values, [1 / len(values)] * len(values)
        chances = [finite(f"probabilities[{i}]", p) for i, p in enumerate(self.probabilities)]
        if not values:
            raise ParameterError("values must hold at least one value")
        if len(values) != len(chances):
            raise ParameterError(
                f"values and probabilities must be equally many, not {len(values)} and "
                f"{len(chances)}"
            )
        for i, chance in enumerate(chances):
            if chance < 0:
                raise invalid_argument(f"probabilities[{i}]", "at least 0", chance)
        if abs(sum(chances) - 1) > 1e-9:
            raise ParameterError(f"probabilities must add up to 1, not {sum(chances):.6g}")
        return values, chances

    @cached_property
    def _arrays(self) -> tuple[Floats, Floats, Floats]:
        values, chances = np.array(self.values), np.array(self.probabilities)
        cumulative = np.cumsum(chances)
        # so that a level of 1 is the highest possible value
        cumulative[np.flatnonzero(chances)[-1] :] = 1.0
        return values, chances, cumulative

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, chances, _ = self._arrays
        return values, chances

    def _moment(self, power: int) -> float:
        values, chances, _ = self._arrays
        return float(((values - self.mean) ** power) @ chances)

    @cached_property
    def mean(self) -> float:
        values, chances, _ = self._arrays
        return float(values @ chances)

    @property
    def variance(self) -> float:
        return self._moment(2)

    @property
    def skewness(self) -> float:
        return self._moment(3) / self.variance**1.5 if self.variance else float("nan")

    @property
    def support(self) -> tuple[float, float]:
        values, chances, _ = self._arrays
        possible = values[chances > 0]
        return float(possible[0]), float(possible[-1])

    def _density(self, x: Floats) -> Floats:
        values, chances, _ = self._arrays
        smaller = np.minimum(np.searchsorted(values, x), len(values) - 1)
        return np.where(values[smaller] == x, chances[smaller], x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        values, _, cumulative = self._arrays
        return np.where(
            np.isnan(x),
            x,
            np.concatenate([[0.0], cumulative])[np.searchsorted(values, x, side="right")],
        )

    def _quantile(self, u: Floats) -> Floats:
        values, _, cumulative = self._arrays
        positions = np.searchsorted(cumulative, np.where(u > 0, u, np.finfo(float).tiny))
        return np.where(np.isnan(u), u, values[np.minimum(positions, len(values) - 1)])
