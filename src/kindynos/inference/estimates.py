"""Figures that carry their own sampling error."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats


class Estimate(float):
    """A float with ``low`` and ``high``, the ends of its 95 % interval, and ``error``, half their
    distance.

    They are NaN where no error can be given, and one of them is infinite where the trials bound the
    figure on one side only. ``rough`` marks an interval that is only an indication; ``note`` says
    why, or what the figure is. Sums, differences and roundings of estimates are plain floats, since
    their error would depend on how the figures move together.

    >>> Estimate(10.0, 9.0, 12.0).error
    1.5
    """

    low: float
    high: float
    rough: bool
    note: str

    def __new__(
        cls,
        value: float,
        low: float = math.nan,
        high: float = math.nan,
        rough: bool = False,
        note: str = "",
    ) -> Estimate:
        """Return the figure with its interval."""
        estimate = super().__new__(cls, value)
        estimate.low, estimate.high, estimate.rough, estimate.note = (
            float(low),
            float(high),
            rough,
            note,
        )
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
        if math.isinf(self.error):
            return f"{float(self):.6g}, {one_sided(self)}"
        return f"{float(self):.6g} ± {self.error:.2g}"

    __str__ = __repr__


def one_sided(estimate: Estimate, shown: Callable[[float], str] = "{:.6g}".format) -> str:
    """Return an interval with an infinite end in words, ``at least 3.5``."""
    if math.isfinite(estimate.low):
        return f"at least {shown(estimate.low)}"
    return f"at most {shown(estimate.high)}" if math.isfinite(estimate.high) else "no bound"


class Estimates(np.ndarray[Any, np.dtype[np.float64]]):
    """An array of figures with arrays ``low``, ``high``, ``error`` and ``rough`` of the same shape;
    one element is an Estimate.

    Slices, copies and sorting keep the intervals. Calculations with it, and other shapes of it, are
    plain arrays.

    >>> np.sort(Estimates([2.0, 1.0], [1.5, 0.5], [2.5, 1.5])).low
    array([0.5, 1.5])
    """

    low: Floats
    high: Floats
    rough: NDArray[np.bool_]

    def __new__(cls, values: Any, low: Any, high: Any, rough: Any = False) -> Estimates:
        """Return figures with their intervals, all of one shape."""
        array = np.asarray(values, dtype=np.float64).view(cls)
        array.low, array.high = (
            np.asarray(low, dtype=np.float64),
            np.asarray(high, dtype=np.float64),
        )
        array.rough = np.broadcast_to(np.asarray(rough, dtype=bool), array.shape)
        return array

    @classmethod
    def of(cls, estimates: list[Estimate]) -> Estimates:
        """Return a list of estimates side by side."""
        return cls(
            [float(estimate) for estimate in estimates],
            [estimate.low for estimate in estimates],
            [estimate.high for estimate in estimates],
            [estimate.rough for estimate in estimates],
        )

    @classmethod
    def stack(cls, rows: list[Estimates], axis: int = 0) -> Estimates:
        """Return arrays of estimates stacked along a new axis."""
        return cls(
            np.stack([np.asarray(row) for row in rows], axis),
            np.stack([row.low for row in rows], axis),
            np.stack([row.high for row in rows], axis),
            np.stack([row.rough for row in rows], axis),
        )

    def __array_finalize__(self, parent: Any) -> None:
        missing = np.full(self.shape, np.nan)
        self.low, self.high, self.rough = missing, missing, np.zeros(self.shape, dtype=bool)

    @property
    def error(self) -> Floats:
        """Half the distance from ``low`` to ``high``."""
        return np.asarray((self.high - self.low) / 2)

    def __getitem__(self, key: Any) -> Any:
        value, low, high, rough = (
            np.asarray(self)[key],
            self.low[key],
            self.high[key],
            self.rough[key],
        )
        return (
            Estimate(value, low, high, bool(rough))
            if np.ndim(value) == 0
            else Estimates(value, low, high, rough)
        )

    def copy(self, order: Any = "C") -> Estimates:
        """Return a copy with the intervals."""
        return Estimates(
            np.array(self, subok=False), self.low.copy(), self.high.copy(), self.rough.copy()
        )

    def __copy__(self) -> Estimates:
        return self.copy()

    def __deepcopy__(self, memo: Any) -> Estimates:
        return self.copy()

    def sort(self, axis: Any = -1, **options: Any) -> None:  # type: ignore[override]
        """Sort in place, each figure with its interval."""
        order = np.argsort(np.asarray(self), axis=axis, **options)
        for part in (np.asarray(self), self.low, self.high):
            part[...] = np.take_along_axis(part, order, axis)
        self.rough = np.take_along_axis(self.rough, order, axis)

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **options: Any) -> Any:
        plain = [np.asarray(value) if isinstance(value, Estimates) else value for value in inputs]
        return getattr(ufunc, method)(*plain, **options)

    def __reduce__(self) -> Any:
        return Estimates, (np.asarray(self), self.low, self.high, self.rough)


def _plain(name: str) -> Any:
    def method(self: Estimates, *args: Any, **options: Any) -> Any:
        return getattr(np.asarray(self), name)(*args, **options)

    return method


for _name in ("reshape", "ravel", "flatten", "transpose", "swapaxes", "astype", "squeeze"):
    setattr(
        Estimates, _name, _plain(_name)
    )  # the intervals would no longer lie beside their figures
Estimates.T = property(lambda self: np.asarray(self).T)  # type: ignore[assignment]
