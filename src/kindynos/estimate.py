"""Figures that carry their own sampling error."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


class Estimate(float):
    """A float with ``low`` and ``high``, the ends of its 95 % interval, and ``error``, half their distance.

    They are NaN where no error can be given. ``rough`` marks an interval that is only an indication; ``note`` says why, or
    what the figure is.

    >>> Estimate(10.0, 9.0, 12.0).error
    1.5
    """

    low: float
    high: float
    rough: bool
    note: str

    def __new__(
        cls, value: float, low: float = math.nan, high: float = math.nan, rough: bool = False, note: str = ""
    ) -> Estimate:
        """Return the figure with its interval."""
        estimate = super().__new__(cls, value)
        estimate.low, estimate.high, estimate.rough, estimate.note = float(low), float(high), rough, note
        return estimate

    @property
    def error(self) -> float:
        """Half the distance from ``low`` to ``high``."""
        return (self.high - self.low) / 2

    def __reduce__(self) -> Any:
        return Estimate, (float(self), self.low, self.high, self.rough, self.note)

    def __repr__(self) -> str:
        if math.isnan(self.error):
            return float.__repr__(self)
        return f"{float(self):.6g} ± {self.error:.2g}"

    __str__ = __repr__


class Estimates(np.ndarray[Any, np.dtype[np.float64]]):
    """An array of figures with arrays ``low``, ``high`` and ``error`` of the same shape; one element is an Estimate.

    Calculations with it give plain arrays.
    """

    low: Floats
    high: Floats

    def __new__(cls, values: Any, low: Any, high: Any) -> Estimates:
        """Return figures with their intervals, all of one shape."""
        array = np.asarray(values, dtype=np.float64).view(cls)
        array.low, array.high = np.asarray(low, dtype=np.float64), np.asarray(high, dtype=np.float64)
        return array

    @classmethod
    def of(cls, estimates: list[Estimate]) -> Estimates:
        """Return a list of estimates side by side."""
        return cls(
            [float(estimate) for estimate in estimates],
            [estimate.low for estimate in estimates],
            [estimate.high for estimate in estimates],
        )

    @classmethod
    def stack(cls, rows: list[Estimates], axis: int = 0) -> Estimates:
        """Return arrays of estimates stacked along a new axis."""
        return cls(
            np.stack([np.asarray(row) for row in rows], axis),
            np.stack([row.low for row in rows], axis),
            np.stack([row.high for row in rows], axis),
        )

    def __array_finalize__(self, parent: Any) -> None:
        missing = np.full(self.shape, np.nan)
        self.low, self.high = missing, missing

    @property
    def error(self) -> Floats:
        """Half the distance from ``low`` to ``high``."""
        return np.asarray((self.high - self.low) / 2)

    def __getitem__(self, key: Any) -> Any:
        value, low, high = np.asarray(self)[key], self.low[key], self.high[key]
        return Estimate(value, low, high) if np.ndim(value) == 0 else Estimates(value, low, high)

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **options: Any) -> Any:
        plain = [np.asarray(value) if isinstance(value, Estimates) else value for value in inputs]
        return getattr(ufunc, method)(*plain, **options)

    def __reduce__(self) -> Any:
        return Estimates, (np.asarray(self), self.low, self.high)
