"""The contract of a distribution on whole numbers: mass and cdf at them, from which the quantile
follows.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions import table
from kindynos.distributions.discrete import OnValues
from kindynos.distributions.inverse import invert
from kindynos.distributions.special import ndtri
from kindynos.errors import ParameterError
from kindynos.validate import check_integer, invalid_argument

# counts whose cdf is kept in a table; beyond, the cdf is inverted between whole numbers too
WIDEST = 1_000_000
MOST_LISTED = 10_000_000  # values, each with its mass
# sd from which, with hardly any skewness, the corrected normal quantile is right to a hundredth of
# a count
NORMAL = 5_000
EXACT = 2.0**53  # beyond it floats no longer tell neighbouring whole numbers apart


def whole_number(name: str, value: Any) -> int:
    """A rule: a whole number; a float such as 3.0, as files may give, counts."""
    return check_integer(
        name, int(value) if isinstance(value, float) and value.is_integer() else value
    )


def a_count(name: str, value: Any) -> int:
    """A rule: a whole number from 0 to 2**53, up to which a float holds every one."""
    number = check_integer(
        name, int(value) if isinstance(value, float) and value.is_integer() else value, least=0
    )
    if number > EXACT:
        raise invalid_argument(
            name, "at most 2**53 (9e15), up to which a float holds every whole number", value
        )
    return number


class Counting(OnValues):
    """A distribution on whole numbers: a subclass gives the mass and the cdf at whole numbers
    inside its support.
    """

    @abstractmethod
    def _mass_at(self, k: Floats) -> Floats:
        """The mass on whole numbers inside the support."""

    @abstractmethod
    def _cdf_at(self, k: Floats) -> Floats:
        """The chance of k or less, for whole numbers inside the support."""

    def _density(self, x: Floats) -> Floats:
        low, high = self.support
        hit = (x == np.floor(x)) & (x >= low) & (x <= high)
        return np.where(hit, self._mass_at(np.where(hit, x, low)), x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        low, high = self.support
        k = np.floor(np.where(np.isnan(x), low, x))
        inside = self._cdf_at(np.clip(k, low, min(high, 2.0**62)))
        return np.where(np.isnan(x), x, np.where(k < low, 0.0, np.where(k >= high, 1.0, inside)))

    @cached_property
    def _ends(self) -> tuple[float, float]:
        """The whole numbers between which all but about 1e-17 of the mass lies."""
        low, high = self.support
        reach = max(40 * self.sd, 40.0)
        first, last = (
            max(low, math.floor(self.mean - reach)),
            min(high, math.ceil(self.mean + reach)),
        )
        while last < high and self.cdf(last) < 1:
            last = min(high, self.mean + 2 * (last - self.mean))
        return first, last if math.isinf(last) else math.ceil(last)

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        first, last = self._ends
        if not last - first <= MOST_LISTED:
            raise ParameterError(
                f"{self!r:.80} takes too many values to list them; state a continuous "
                "distribution instead"
            )
        values = np.arange(first, last + 1)
        return values, self._mass_at(values)

    @cached_property
    def _steps(self) -> Floats:
        first, last = self._ends
        return self._cdf(np.arange(first, last + 1))

    def _quantile(self, u: Floats) -> Floats:
        low, high = self.support
        corrected_normal: Floats
        if self._near_normal:
            corrected_normal = self._corrected_normal(ndtri(u))
        elif 80 * self.sd > WIDEST:
            corrected_normal = np.asarray(np.ceil(table.quantile(self, u)))
        else:
            corrected_normal = np.asarray(
                self._ends[0] + np.searchsorted(self._steps, u), dtype=np.float64
            )
        quantiles = np.where(
            u <= 0, low, np.where(u >= 1, high, np.clip(corrected_normal, low, high))
        )
        return np.where(np.isnan(u), u, quantiles)

    def _upper_quantile(self, v: Floats) -> Floats:
        low, high = self.support
        corrected_normal: Floats
        if self._near_normal:
            corrected_normal = self._corrected_normal(-ndtri(v))
        elif 80 * self.sd > WIDEST:
            return self._quantile(1.0 - v)
        else:
            corrected_normal = np.asarray(
                self._ends[0] + np.searchsorted(-self._upper_steps, -v), dtype=np.float64
            )
        return np.where(v <= 0, high, np.where(v >= 1, low, np.clip(corrected_normal, low, high)))

    @cached_property
    def _upper_steps(self) -> Floats:
        first, last = self._ends
        return self._survival(np.arange(first, last + 1))

    @cached_property
    def _near_normal(self) -> bool:
        return self.sd > NORMAL and abs(self.skewness) < 5 / NORMAL

    def _corrected_normal(self, z: Floats) -> Floats:
        """Return the quantile at a normal score, corrected for skewness (Cornish and Fisher 1938)
        and for whole steps.
        """
        return np.asarray(np.ceil(self.mean + self.sd * (z + self.skewness * (z**2 - 1) / 6) - 0.5))

    # For wide and skewed counts: the cdf between whole numbers as well, smooth enough for a table.
    smooth = True

    def _from_below(self, u: Floats) -> Floats:
        first, last = self._ends
        return invert(self._cdf_at, self._mass_at, u, (first, last))

    def _from_above(self, v: Floats) -> Floats:
        return self._from_below(1.0 - v)
