"""Figures that carry their own error: one (``Estimate``) or an array of them (``Estimates``)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import Any, Self

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.delegation import Inline


class Estimate(float, Inline):
    """A figure with its 95 % interval: ``value``, ``low``, ``high``, and ``error``, half the width.

    It is a float, and counts as its value in calculations, comparisons and formats such as
    ``f"{estimate:.2f}"``; printing it shows the interval. The ends are NaN where no error can be
    given, and one of them is infinite where the trials bound the figure on one side only. ``rough``
    marks an interval that is only an indication; ``note`` says why, or what the figure is.

    A number times an estimate, or added to one, has its interval too. The error of a sum or a ratio
    of two estimates depends on how they move together, which they do not know; so all other
    calculations give a plain number.

    >>> Estimate(10.0, 9.0, 12.0).error
    1.5
    >>> print(Estimate(10.0, 9.0, 12.0), f"{Estimate(10.0, 9.0, 12.0):.2f}")
    10.0 (9.0 to 12.0) 10.00
    >>> 2 * Estimate(10.0, 9.0, 11.0) - 1, Estimate(10.0, 9.0, 11.0) ** 2
    (19.0 ± 2.0, 100.0)
    """

    __slots__ = ("_high", "_low", "_note", "_rough")

    _low: float
    _high: float
    _rough: bool
    _note: str

    def __new__(
        cls,
        value: float,
        low: float = math.nan,
        high: float = math.nan,
        rough: bool = False,
        note: str = "",
    ) -> Self:
        """Return a figure with the ends of its interval."""
        self = super().__new__(cls, value)
        self._low, self._high, self._rough, self._note = float(low), float(high), rough, note
        return self

    @property
    def value(self) -> float:
        """The figure, without its interval."""
        return float(self)

    @property
    def low(self) -> float:
        """The lower end of the 95 % interval."""
        return self._low

    @property
    def high(self) -> float:
        """The upper end of the 95 % interval."""
        return self._high

    @property
    def error(self) -> float:
        """Half the width of the 95 % interval."""
        return (self._high - self._low) / 2

    @property
    def rough(self) -> bool:
        """Whether the interval is only an indication."""
        return self._rough

    @property
    def note(self) -> str:
        """Why the interval is rough or missing, or what the figure is."""
        return self._note

    def to_dict(self) -> dict[str, Any]:
        """Return the figure with its interval as plain data, for JSON, which would keep the value
        alone; an end that is not known is None.

        >>> Estimate(10.0, 9.0, 12.0).to_dict()
        {'value': 10.0, 'error': 1.5, 'low': 9.0, 'high': 12.0, 'rough': False, 'note': ''}
        """
        by_name = {"value": self.value, "error": self.error, "low": self.low, "high": self.high}
        plain = {key: one if math.isfinite(one) else None for key, one in by_name.items()}
        return {**plain, "rough": self.rough, "note": self.note}

    @property
    def shape(self) -> tuple[int, ...]:
        """The shape of one figure: ``()``."""
        return ()

    @property
    def ndim(self) -> int:
        """The number of axes: none."""
        return 0

    @property
    def lopsided(self) -> bool:
        """Whether the two halves of the interval differ by a quarter or more."""
        below, above = float(self) - self._low, self._high - float(self)
        wider = max(below, above)
        return math.isfinite(wider) and abs(above - below) > LOPSIDED * wider > 0

    def __float__(self) -> float:
        return float.__add__(self, 0.0)

    def _moved(self, value: float, ends: tuple[float, float]) -> Estimate:
        return Estimate(value, min(ends), max(ends), self._rough, self._note)

    def __add__(self, other: float) -> float:
        value = super().__add__(other)
        if isinstance(other, Estimate) or not isinstance(other, int | float):
            return value
        return self._moved(value, (self._low + other, self._high + other))

    def __radd__(self, other: float) -> float:
        return self + other

    def __sub__(self, other: float) -> float:
        value = super().__sub__(other)
        if isinstance(other, Estimate) or not isinstance(other, int | float):
            return value
        return self._moved(value, (self._low - other, self._high - other))

    def __rsub__(self, other: float) -> float:
        value = super().__rsub__(other)
        if isinstance(other, Estimate) or not isinstance(other, int | float):
            return value
        return self._moved(value, (other - self._low, other - self._high))

    def __mul__(self, other: float) -> float:
        value = super().__mul__(other)
        if isinstance(other, Estimate) or not isinstance(other, int | float):
            return value
        return self._moved(value, (self._low * other, self._high * other))

    def __rmul__(self, other: float) -> float:
        return self * other

    def __truediv__(self, other: float) -> float:
        value = super().__truediv__(other)
        if isinstance(other, Estimate) or not isinstance(other, int | float):
            return value
        return self._moved(value, (self._low / other, self._high / other))

    def __neg__(self) -> Estimate:
        return self._moved(-float(self), (-self._low, -self._high))

    def __pos__(self) -> Estimate:
        return self

    def __format__(self, spec: str) -> str:
        return format(float(self), spec) if spec else str(self)

    def __reduce__(self) -> Any:
        return Estimate, (float(self), self._low, self._high, self._rough, self._note)

    def __str__(self) -> str:
        return repr(self)

    def __repr__(self) -> str:
        value, error = float(self), self.error
        if math.isnan(error):
            return repr(value)
        if math.isinf(error):
            return f"{value:.6g}, {one_sided(self)}"
        if self.lopsided:
            figure, low, high = (_rounded(x, error) for x in (value, self._low, self._high))
            return f"{figure} ({low} to {high})"
        return f"{_rounded(value, error)} ± {_rounded(error, error)}"


LOPSIDED = 0.25  # difference of the halves of an interval, beside the wider, that is shown


def symmetrical(value: float, error: float, rough: bool = False) -> Estimate:
    """Return a figure with an interval of the same width on both sides."""
    value, error = float(value), float(error)  # infinity less infinity is NaN, unwarned
    return Estimate(value, value - error, value + error, rough)


def _rounded(value: float, error: float) -> str:
    """Return a number at the two digits that its error leaves, with thousands separators; without
    an error, or far from 1, at six digits.
    """
    if not abs(value) < 1e15:
        return f"{value:.6g}"
    if not error > 0 or not 1e-9 < error < 1e15:
        return f"{value:,.0f}" if value == int(value) else f"{value:.6g}"
    step = math.floor(math.log10(error)) - 1
    return f"{round(value, -step):,.{max(-step, 0)}f}"


def one_sided(estimate: Estimate, shown: Callable[[float], str] = "{:.6g}".format) -> str:
    """Return an interval with an infinite end in words, ``at least 3.5``."""
    if math.isfinite(estimate.low):
        return f"at least {shown(estimate.low)}"
    return f"at most {shown(estimate.high)}" if math.isfinite(estimate.high) else "no bound"


class Estimates(NDArrayOperatorsMixin, Inline):
    """Figures with their 95 % intervals: read-only arrays ``value``, ``low``, ``high`` and
    ``rough`` of one shape, and ``error``, half the widths.

    An element is an Estimate, a slice is Estimates again. Calculations give plain arrays.

    >>> found = Estimates([2.0, 1.0], [1.5, 0.5], [2.5, 1.5])
    >>> found[0].low, (found + 1).tolist()
    (1.5, [3.0, 2.0])
    """

    __slots__ = ("_high", "_low", "_rough", "_value")

    def __init__(self, values: Any, low: Any, high: Any, rough: Any = False) -> None:
        self._value = _frozen(values, np.float64)
        self._low, self._high = (_frozen(end, np.float64, self._value.shape) for end in (low, high))
        self._rough = _frozen(rough, np.bool_, self._value.shape)

    @property
    def value(self) -> Floats:
        """The figures, without their intervals."""
        return self._value

    @property
    def low(self) -> Floats:
        """The lower ends of the 95 % intervals."""
        return self._low

    @property
    def high(self) -> Floats:
        """The upper ends of the 95 % intervals."""
        return self._high

    @property
    def rough(self) -> Any:
        """Which intervals are only an indication."""
        return self._rough

    @property
    def error(self) -> Floats:
        """Half the widths of the 95 % intervals."""
        halves: Floats = (self._high - self._low) / 2
        return halves

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Floats:
        array: Floats = np.asarray(self._value, dtype=dtype)
        return array if copy is False else array.copy()

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **options: Any) -> Any:
        # An in-place operation such as x *= 1000 gives a new, plain number or array.
        if any(isinstance(target, Estimates) for target in options.get("out", ())):
            del options["out"]
        plain = [
            operand._value if isinstance(operand, Estimates) else operand for operand in inputs
        ]
        computed = getattr(ufunc, method)(*plain, **options)
        return computed.item() if isinstance(computed, np.generic) else computed

    @property
    def shape(self) -> tuple[int, ...]:
        """The shape of the figures."""
        return self._value.shape

    @property
    def ndim(self) -> int:
        """The number of axes."""
        return len(self.shape)

    @classmethod
    def of(cls, estimates: list[Estimate]) -> Estimates:
        """Return a list of estimates side by side."""
        parts = [
            (estimate.value, estimate.low, estimate.high, estimate.rough) for estimate in estimates
        ]
        return cls(*zip(*parts, strict=True)) if parts else cls([], [], [])

    @classmethod
    def stack(cls, rows: list[Estimates], axis: int = 0) -> Estimates:
        """Return arrays of estimates stacked along a new axis."""
        parts = [(row.value, row.low, row.high, row.rough) for row in rows]
        return cls(*(np.stack(arrays, axis) for arrays in zip(*parts, strict=True)))

    def __len__(self) -> int:
        return len(self._value)

    def __getitem__(self, key: Any) -> Any:
        value, low, high, rough = (
            values[key] for values in (self._value, self._low, self._high, self._rough)
        )
        kind = Estimates if np.ndim(value) else Estimate
        return kind(value, low, high, rough if np.ndim(value) else bool(rough))

    def __iter__(self) -> Iterator[Any]:
        return (self[position] for position in range(len(self)))

    def tolist(self) -> list[Any]:
        """Return the figures as a list of floats."""
        return list(self._value.tolist())

    def __repr__(self) -> str:
        if self.ndim == 1 and len(self) <= 12:
            return f"[{', '.join(map(repr, self))}]"
        flat = (values.reshape(-1) for values in (self._value, self._low, self._high))
        value, low, high = flat
        ends = (repr(Estimate(value[k], low[k], high[k])) for k in (0, -1) if len(value))
        return f"<{len(value):,} figures {self.shape}: {' to '.join(ends)}>"

    def __reduce__(self) -> Any:
        return Estimates, (self._value, self._low, self._high, self._rough)


def _frozen(values: Any, dtype: Any, shape: tuple[int, ...] | None = None) -> NDArray[Any]:
    """Return a read-only copy of values, broadcast to a shape."""
    array = np.array(values, dtype=dtype)
    if shape is not None and array.shape != shape:
        array = np.broadcast_to(array, shape)
    array.flags.writeable = False
    return array
