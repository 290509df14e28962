"""The contract of a distribution: the law of one uncertain number."""

from __future__ import annotations

import math
import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import fields
from typing import TYPE_CHECKING, Any, ClassVar, overload

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.errors import KindynosError
from kindynos.hooks import draw
from kindynos.validate import share, whole, wrong

Floats = NDArray[np.float64]

LONGEST_SHOWN = 20  # values of a list that are written out
Rule = Callable[[str, str, Any], Any]

STEP = 32_768  # values that make a thread of their own worth while
HALF_ULP = 2.0**-54  # keeps a score off 0, where a law without a lower end would give -inf


class Fallback:
    """A property that a frozen dataclass field of the same name may replace (``sd`` of Normal)."""

    def __init__(self, compute: Callable[[Any], float]) -> None:
        self.compute = compute

    def __get__(self, law: Any, owner: type) -> float:
        if law is None:  # so that dataclass() sees no default
            raise AttributeError
        return self.compute(law)


class Distribution(ABC):
    """The law of one uncertain number.

    A subclass is a frozen dataclass whose fields are its parameters. It names their ``rules`` and supplies ``mean`` (as a
    field or a property), ``variance``, ``skewness``, ``support``, ``_density``, ``_cdf`` and ``_quantile``. All array methods
    take any shape and return the same shape, float64; a single number gives a float.
    """

    label: ClassVar[str]  # the name in model files, lower-case words
    use: ClassVar[str]  # one line: what it is good for
    rules: ClassVar[Mapping[str, Rule]] = {}  # for each parameter the check it must pass

    def __post_init__(self) -> None:
        """Store every parameter as its rule returns it; raises ParameterError where one breaks it."""
        for name, rule in self.rules.items():
            object.__setattr__(self, name, rule(type(self).__name__, name, getattr(self, name)))

    if TYPE_CHECKING:

        @property
        def mean(self) -> float:
            """The expected value."""

        @property
        def sd(self) -> float:
            """The standard deviation."""

    else:
        sd = Fallback(lambda law: math.sqrt(law.variance))

    @property
    def discrete(self) -> bool:
        """Whether the law has its mass on single values; it then has a ``pmf`` instead of a ``pdf``."""
        return False

    @property
    def has_atoms(self) -> bool:
        """Whether some single value has mass, as all have in a discrete law."""
        return self.discrete

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        """The values of a discrete law and their masses; of an endless one, all but about 1e-17 of the mass."""
        raise KindynosError(f"{type(self).__name__} is continuous and has no list of values")

    @property
    @abstractmethod
    def variance(self) -> float:
        """The variance, the square of the standard deviation."""

    @property
    @abstractmethod
    def skewness(self) -> float:
        """The third standardised moment; NaN where it does not exist."""

    @property
    @abstractmethod
    def support(self) -> tuple[float, float]:
        """The lowest and the highest value possible."""

    @abstractmethod
    def _density(self, x: Floats) -> Floats:
        """The density at ``x``, or the mass on it for a discrete law."""

    @abstractmethod
    def _cdf(self, x: Floats) -> Floats:
        """The chance of ``x`` or less."""

    @abstractmethod
    def _quantile(self, u: Floats) -> Floats:
        """The value at each level; ``u`` lies in [0, 1]. The engine calls this with scores inside (0, 1)."""

    def _survival(self, x: Floats) -> Floats:
        """The chance of more than ``x``; overridden where ``1 - cdf`` would lose digits."""
        return 1.0 - self._cdf(x)

    def _upper_quantile(self, v: Floats) -> Floats:
        """The value exceeded with chance ``v``; overridden where ``1 - v`` would lose digits."""
        return self._quantile(1.0 - v)

    @overload
    def pdf(self, x: float) -> float: ...
    @overload
    def pdf(self, x: ArrayLike) -> Floats: ...
    def pdf(self, x: ArrayLike) -> float | Floats:
        """Return the probability density at ``x``. Raises KindynosError for a discrete law, which has a ``pmf``."""
        if self.discrete:
            raise KindynosError(f"{type(self).__name__} is discrete and has no density; use pmf")
        return _apply(self._density, x)

    @overload
    def pmf(self, x: float) -> float: ...
    @overload
    def pmf(self, x: ArrayLike) -> Floats: ...
    def pmf(self, x: ArrayLike) -> float | Floats:
        """Return the probability of exactly ``x``. Raises KindynosError for a continuous law, which has a ``pdf``."""
        if not self.discrete:
            raise KindynosError(f"{type(self).__name__} is continuous and has no mass on single values; use pdf")
        return _apply(self._density, x)

    @overload
    def cdf(self, x: float) -> float: ...
    @overload
    def cdf(self, x: ArrayLike) -> Floats: ...
    def cdf(self, x: ArrayLike) -> float | Floats:
        """Return the chance of a value of ``x`` or less."""
        return _apply(self._cdf, x)

    @overload
    def quantile(self, u: float) -> float: ...
    @overload
    def quantile(self, u: ArrayLike) -> Floats: ...
    def quantile(self, u: ArrayLike) -> float | Floats:
        """Return the value at each level ``u`` in [0, 1]: the smallest whose cdf reaches ``u``.

        Raises ParameterError for a level outside [0, 1].
        """
        levels = np.asarray(u, dtype=np.float64)
        if levels.size and not (levels.min() >= 0 and levels.max() <= 1):
            outside = (levels < 0) | (levels > 1)
            if outside.any():  # not NaN alone
                raise wrong(type(self).__name__, "a level", "from 0 to 1", float(levels[outside].flat[0]))
        return _apply(self._quantile, levels)

    @overload
    def percentile(self, q: float) -> float: ...
    @overload
    def percentile(self, q: ArrayLike) -> Floats: ...
    def percentile(self, q: ArrayLike) -> float | Floats:
        """Return the value at each percentile ``q`` in [0, 100]; raises ParameterError for one outside."""
        percents = np.asarray(q, dtype=np.float64)
        outside = (percents < 0) | (percents > 100)
        if outside.any():
            raise wrong(type(self).__name__, "a percentile", "from 0 to 100", float(percents[outside].flat[0]))
        return _apply(self._quantile, percents / 100)

    def sample(self, size: int | tuple[int, ...], seed: int | None = None) -> Floats:
        """Return independent draws of the given size; the same seed gives the same draws.

        >>> from kindynos import Uniform
        >>> Uniform(2, 4).sample(3, seed=1).shape
        (3,)
        """
        if seed is not None:
            whole("sample", "seed", seed, least=0)
        scores = np.random.Generator(np.random.SFC64(seed)).random(size)
        return self._quantile(np.maximum(scores, HALF_ULP))

    def chance(self, *, above: float | None = None, below: float | None = None, at: float | None = None) -> float:
        """Return the chance of a value strictly above, strictly below, between the two, or at one value.

        Raises KindynosError when nothing is asked, or ``at`` together with the others.

        >>> from kindynos import Uniform
        >>> Uniform(0, 10).chance(above=2, below=5)
        0.3
        """
        if at is not None:
            if above is not None or below is not None:
                raise KindynosError("chance: at cannot be combined with above or below")
            return self._mass(at)
        if below is None:
            if above is None:
                raise KindynosError("chance: say above=, below= or at=")
            return float(_apply(self._survival, above))
        under = self.cdf(below) - self._mass(below)
        return under if above is None else max(under - self.cdf(above), 0.0)

    @classmethod
    def from_range(cls, low: float, high: float, coverage: float = 0.90) -> Distribution:
        """Return the law of this family that lies between ``low`` and ``high`` with that chance, and beyond either end alike.

        Raises ParameterError where the family is not given by two percentiles, or no law of it has these.

        >>> from kindynos import Normal
        >>> Normal.from_range(14, 19, coverage=0.90).mean
        16.5
        """
        from kindynos.distributions.opinions import from_percentiles

        outside = 50 * (1 - share("from_range", "coverage", coverage, closed=False))
        if not low < high:
            raise wrong("from_range", "low", f"below high ({high!r})", low)
        return from_percentiles(cls.label, {outside: low, 100 - outside: high})

    def plot(self, ax: Any = None, mark: float | None = None, between: tuple[float, float] | None = None) -> Any:
        """Draw the law with its mean and percentiles on Matplotlib axes; return these.

        With a ``mark`` the chance beyond it is told, with ``between`` that of a range, which is shaded.
        """
        return draw("law", self, ax=ax, mark=mark, between=between)

    def truncate(self, low: float | None = None, high: float | None = None) -> Distribution:
        """Return this law given that it lies between ``low`` and ``high``; None leaves that side open.

        >>> from kindynos import Uniform
        >>> Uniform(0, 10).truncate(2, 4).mean
        3.0
        """
        from kindynos.distributions.built import Truncated

        return Truncated(self, low, high)

    def __mul__(self, factor: float) -> Distribution:
        return self._affine(factor, 0.0)

    __rmul__ = __mul__

    def __truediv__(self, divisor: float) -> Distribution:
        return self._affine(1 / divisor, 0.0)

    def __add__(self, shift: float) -> Distribution:
        return self._affine(1.0, shift)

    __radd__ = __add__

    def __sub__(self, shift: float) -> Distribution:
        return self._affine(1.0, -shift)

    def __rsub__(self, other: float) -> Distribution:
        return self._affine(-1.0, other)

    def __neg__(self) -> Distribution:
        return self._affine(-1.0, 0.0)

    def _affine(self, factor: float, shift: float) -> Distribution:
        """Return factor x this + shift. Only numbers serve: the sum of two laws depends on how they move together."""
        from kindynos.distributions.built import Affine

        for number in (factor, shift):
            if isinstance(number, Distribution):
                raise KindynosError("two laws cannot be added: make both drivers, and add them in a line")
        inner, outer_factor, outer_shift = (self.law, self.factor, self.shift) if isinstance(self, Affine) else (self, 1.0, 0.0)
        return Affine(inner, factor * outer_factor, factor * outer_shift + shift)

    def __repr__(self) -> str:
        kind: Any = type(self)  # every law is a dataclass, which this class cannot say
        parts = [(field, getattr(self, field.name)) for field in fields(kind)]
        shown = [f"{field.name}={_plain(value)}" for field, value in parts if value != field.default]
        return f"{kind.__name__}({', '.join(shown)})"

    def _mass(self, x: float) -> float:
        return self.pmf(x) if self.discrete else 0.0


def _plain(value: Any) -> str:
    """Return a parameter's exact repr, whole numbers without a decimal point; of a long list its ends and its length."""
    if isinstance(value, tuple) and len(value) > LONGEST_SHOWN:
        return f"[{_plain(value[0])}, {_plain(value[1])}, ..., {_plain(value[-1])}: {len(value):,} values]"
    if isinstance(value, tuple):
        return "[" + ", ".join(map(_plain, value)) + "]"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return repr(value)


def _apply(method: Callable[[Floats], Floats], x: ArrayLike) -> float | Floats:
    values = np.asarray(x, dtype=np.float64)
    if values.size < 2 * STEP:
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            answer = method(np.atleast_1d(values))
        return float(answer[0]) if values.ndim == 0 else answer
    flat, many = values.reshape(-1), np.empty(values.size)
    step = max(STEP, -(-values.size // (os.cpu_count() or 1)))

    def work(begin: int) -> None:
        part = slice(begin, begin + step)
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            many[part] = method(flat[part])

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(work, range(0, values.size, step)))
    return many.reshape(values.shape)
