"""Figures that carry their own error: one (``Estimate``) or an array of them (``Estimates``)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from numbers import Real
from typing import Any, Generic, Self, TypeVar

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.delegation import Inline

Number = TypeVar("Number", float, Floats)


class _Figures(NDArrayOperatorsMixin, Inline, Generic[Number]):
    """What one figure and several share: the interval, and arithmetic that gives plain numbers.

    The error of a sum or a ratio depends on how its parts move together, which an estimate does not
    know; so calculations drop the interval.
    """

    __slots__ = ("_high", "_low", "_rough", "_value")

    _value: Number
    _low: Number
    _high: Number
    _rough: Any

    @property
    def value(self) -> Number:
        """The figure, without its interval."""
        return self._value

    @property
    def low(self) -> Number:
        """The lower end of the 95 % interval."""
        return self._low

    @property
    def high(self) -> Number:
        """The upper end of the 95 % interval."""
        return self._high

    @property
    def rough(self) -> Any:
        """Whether the interval is only an indication."""
        return self._rough

    @property
    def error(self) -> Number:
        """Half the width of the 95 % interval."""
        return (self._high - self._low) / 2

    def __call__(self) -> Self:
        """Return the figure: ``result.mean()`` is ``result.mean``."""
        return self

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Floats:
        array = np.asarray(self._value, dtype=dtype)
        return array if copy is False or not self.shape else array.copy()

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **options: Any) -> Any:
        # An in-place operation such as x *= 1000 gives a new, plain number or array.
        if any(isinstance(target, _Figures) for target in options.get("out", ())):
            del options["out"]
        plain = [item._value if isinstance(item, _Figures) else item for item in inputs]
        answer = getattr(ufunc, method)(*plain, **options)
        return answer.item() if isinstance(answer, np.generic) else answer

    @property
    def shape(self) -> tuple[int, ...]:
        """The shape of the figures; ``()`` for one."""
        return np.shape(self._value)

    @property
    def ndim(self) -> int:
        """The number of axes."""
        return len(self.shape)


class Estimate(_Figures[float]):
    """A figure with its 95 % interval: ``value``, ``low``, ``high``, and ``error``, half the width.

    The ends are NaN where no error can be given, and one of them is infinite where the trials bound
    the figure on one side only. ``rough`` marks an interval that is only an indication; ``note``
    says why, or what the figure is. It counts as its value in calculations, comparisons and formats
    such as ``f"{estimate:.2f}"``; printing it shows the interval.

    >>> Estimate(10.0, 9.0, 12.0).error
    1.5
    >>> print(Estimate(10.0, 9.0, 12.0), f"{Estimate(10.0, 9.0, 12.0):.2f}")
    10.0 ± 1.5 10.00
    """

    __slots__ = ("_note",)

    def __init__(
        self,
        value: float,
        low: float = math.nan,
        high: float = math.nan,
        rough: bool = False,
        note: str = "",
    ) -> None:
        self._value, self._low, self._high = float(value), float(low), float(high)
        self._rough, self._note = rough, note

    @property
    def note(self) -> str:
        """Why the interval is rough or missing, or what the figure is."""
        return self._note

    def __float__(self) -> float:
        return self._value

    def __int__(self) -> int:
        return int(self._value)

    def __bool__(self) -> bool:
        return bool(self._value)

    def __round__(self, digits: int | None = None) -> Any:
        return round(self._value, digits)

    def __hash__(self) -> int:
        return hash(self._value)

    def __format__(self, spec: str) -> str:
        return format(self._value, spec) if spec else str(self)

    def __reduce__(self) -> Any:
        return Estimate, (self._value, self._low, self._high, self._rough, self._note)

    def __repr__(self) -> str:
        if math.isnan(self.error):
            return repr(self._value)
        if math.isinf(self.error):
            return f"{self._value:.6g}, {one_sided(self)}"
        return f"{_rounded(self._value, self.error)} ± {_rounded(self.error, self.error)}"


def symmetrical(value: float, error: float) -> Estimate:
    """Return a figure with an interval of the same width on both sides."""
    return Estimate(value, value - error, value + error)


Real.register(Estimate)  # a number wherever one is asked for


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


class Estimates(_Figures[Floats]):
    """Figures with their 95 % intervals: read-only arrays ``value``, ``low``, ``high`` and
    ``rough`` of one shape, and ``error``, half the widths.

    An element is an Estimate, a slice is Estimates again. Calculations give plain arrays.

    >>> found = Estimates([2.0, 1.0], [1.5, 0.5], [2.5, 1.5])
    >>> found[0].low, (found + 1).tolist()
    (1.5, [3.0, 2.0])
    """

    __slots__ = ()

    def __init__(self, values: Any, low: Any, high: Any, rough: Any = False) -> None:
        self._value = _frozen(values, np.float64)
        self._low, self._high = (_frozen(end, np.float64, self._value.shape) for end in (low, high))
        self._rough = _frozen(rough, np.bool_, self._value.shape)

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
        return cls(*(np.stack(piece, axis) for piece in zip(*parts, strict=True)))

    def __len__(self) -> int:
        return len(self._value)

    def __getitem__(self, key: Any) -> Any:
        value, low, high, rough = (
            piece[key] for piece in (self._value, self._low, self._high, self._rough)
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
        flat = (piece.reshape(-1) for piece in (self._value, self._low, self._high))
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
