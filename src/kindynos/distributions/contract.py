"""The contract of a distribution: what each one supplies, and what follows from that for all of
them.
"""

from __future__ import annotations

import math
from abc import ABCMeta, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import fields
from hashlib import blake2b
from inspect import Signature, signature
from typing import TYPE_CHECKING, Any, ClassVar, overload

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.distributions.documentation import PARAMETERS
from kindynos.distributions.stated import stated_distribution
from kindynos.docstrings import documented
from kindynos.engine.available import check_memory
from kindynos.engine.workers import on_threads, usable_cpus
from kindynos.errors import KindynosError, ParameterError, concerning
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import (
    Rule,
    array_of,
    chance_bounds,
    check_call,
    check_integer,
    checked,
    instance,
    invalid_argument,
)

LONGEST_SHOWN = 20  # values of a list that are written out

STEP = 32_768  # values that make a thread of their own worth while
HALF_ULP = 2.0**-54  # keeps a score off 0, where a distribution without a lower end would give -inf
MOST_DRAWN = 2**32


class OverridableProperty:
    """A property that a frozen dataclass field of the same name may replace (``sd`` of Normal)."""

    def __init__(self, compute: Callable[[Any], float]) -> None:
        self.compute = compute

    def __get__(self, distribution: Any, owner: type) -> float:
        if distribution is None:  # so that dataclass() sees no default
            raise AttributeError
        return _within_floats(self.compute, math.nan)(distribution)


def _within_floats(compute: Callable[[Any], float], lost: float) -> Callable[[Any], float]:
    """Return a moment that is ``lost`` where Python's arithmetic overflows or divides by what has
    vanished.
    """

    def moment(distribution: Any) -> float:
        try:
            return compute(distribution)
        except KindynosError:
            raise
        except (ArithmeticError, ValueError):
            return lost

    return moment


class CheckedInit(ABCMeta):
    """Words a construction with arguments that do not fit as errors of ours, with the nearest
    spelling.

    With names of quantities among its parameters it gives a StatedDistribution.
    """

    if not TYPE_CHECKING:  # editors and type checkers see the parameters of the class

        def __call__(cls, *arguments: Any, **named: Any) -> Any:
            stated = stated_distribution(cls, arguments, named)
            if stated is not None:
                return stated
            with concerning(cls.__name__):
                try:
                    return super().__call__(*arguments, **named)
                except TypeError:
                    check_call(vars(cls)["__init__"], None, *arguments, **named)
                    raise

    @property
    def __signature__(cls) -> Signature:
        """The parameters of the class, which ``help`` shows."""
        whole = signature(getattr(cls, "__init__"))  # noqa: B009  # of a base class that of object
        return whole.replace(
            parameters=list(whole.parameters.values())[1:], return_annotation=Signature.empty
        )


class Contract(metaclass=CheckedInit):
    """The distribution of one uncertain number.

    A subclass is a frozen dataclass whose fields are its parameters. It names their ``rules`` and
    supplies ``mean`` (as a field or a property), ``variance``, ``skewness``, ``support``,
    ``_density``, ``_cdf`` and ``_quantile``. All array methods take any shape and return the same
    shape, float64; a single number gives a float.
    """

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        if "formula" in vars(cls):
            cls.about, cls.__doc__ = documented(cls, cls.formula, PARAMETERS)
        for name, lost in (("mean", math.nan), ("variance", math.inf), ("skewness", math.nan)):
            made = cls.__dict__.get(name)
            if (
                isinstance(made, property)
                and made.fget
                and not getattr(made.fget, "__isabstractmethod__", False)
            ):
                setattr(cls, name, property(_within_floats(made.fget, lost), doc=made.__doc__))

    label: ClassVar[str]  # the name in model files, lower-case words
    use: ClassVar[str]  # one line: what it is good for
    formula: ClassVar[str]  # what defines it: a density, a cdf, or how it is made
    about: ClassVar[str]  # the description alone, without the sections of the docstring
    rules: ClassVar[Mapping[str, Rule]] = {}  # for each parameter the check it must pass
    # whether _quantile serves for parameters that are arrays, one value for each score
    by_trial: ClassVar[bool] = False

    def __post_init__(self) -> None:
        """Store every parameter as its rule returns it; raises ParameterError where one breaks
        it.
        """
        for name, rule in self.rules.items():
            object.__setattr__(self, name, rule(name, getattr(self, name)))

    if TYPE_CHECKING:

        @property
        def mean(self) -> float:
            """The expected value."""

        @property
        def sd(self) -> float:
            """The standard deviation."""

    else:
        sd = OverridableProperty(lambda distribution: math.sqrt(distribution.variance))

    @property
    def discrete(self) -> bool:
        """Whether the distribution has its mass on single values; it then has a ``pmf`` instead of
        a ``pdf``.
        """
        return False

    @property
    def base_value(self) -> float:
        """What stands for it in a base case: the mean, or the median of a discrete distribution,
        which is a value that can happen.
        """
        return float(self.quantile(0.5)) if self.discrete else self.mean

    @property
    def has_atoms(self) -> bool:
        """Whether some single value has mass, as all have in a discrete distribution."""
        return self.discrete

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        """The values of a discrete distribution and their masses; of an endless one, all but about
        1e-17 of the mass.
        """
        raise KindynosError(f"{type(self).__name__} is continuous and has no list of values")

    @property
    @abstractmethod
    def variance(self) -> float:
        """The variance, the square of the standard deviation."""

    @property
    @abstractmethod
    def skewness(self) -> float:
        """The third standardized moment; NaN where it does not exist."""

    @property
    @abstractmethod
    def support(self) -> tuple[float, float]:
        """The lowest and the highest value possible."""

    @abstractmethod
    def _density(self, x: Floats) -> Floats:
        """The density at ``x``, or the mass on it for a discrete distribution."""

    @abstractmethod
    def _cdf(self, x: Floats) -> Floats:
        """The chance of ``x`` or less."""

    @abstractmethod
    def _quantile(self, u: Floats) -> Floats:
        """The value at each level; ``u`` lies in [0, 1]. The engine calls this with scores inside
        (0, 1).
        """

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
        """Return the probability density at ``x``. Raises KindynosError for a discrete
        distribution, which has a ``pmf``.
        """
        if self.discrete:
            raise KindynosError(f"{type(self).__name__} is discrete and has no density; use pmf")
        return _apply(self._density, x)

    @overload
    def pmf(self, x: float) -> float: ...
    @overload
    def pmf(self, x: ArrayLike) -> Floats: ...
    def pmf(self, x: ArrayLike) -> float | Floats:
        """Return the probability of exactly ``x``. Raises KindynosError for a continuous
        distribution, which has a ``pdf``.
        """
        if not self.discrete:
            raise KindynosError(
                f"{type(self).__name__} is continuous and has no mass on single values; use pdf"
            )
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
    @checked
    def quantile(self, u: ArrayLike) -> float | Floats:
        """Return the value at each level ``u`` in [0, 1]: the smallest whose cdf reaches ``u``.

        Raises ParameterError for a level outside [0, 1].
        """
        levels = array_of("levels", u)
        if levels.size and not (levels.min() >= 0 and levels.max() <= 1):
            outside = (levels < 0) | (levels > 1)
            if outside.any():  # not NaN alone
                raise invalid_argument("a level", "from 0 to 1", float(levels[outside].flat[0]))
        return _apply(self._quantile, levels)

    @overload
    def percentile(self, q: float) -> float: ...
    @overload
    def percentile(self, q: ArrayLike) -> Floats: ...
    @checked
    def percentile(self, q: ArrayLike) -> float | Floats:
        """Return the value at each percentile ``q`` in [0, 100]; raises ParameterError for one
        outside.
        """
        percents = array_of("percentiles", q)
        outside = (percents < 0) | (percents > 100)
        if outside.any():
            raise invalid_argument(
                "a percentile", "from 0 to 100", float(percents[outside].flat[0])
            )
        return _apply(self._quantile, percents / 100)

    @checked
    def sample(self, size: int | tuple[int, ...], seed: Seed = None, purpose: str = "") -> Floats:
        """Return independent draws of the given size; the same seed gives the same draws.

        Distributions sampled with one seed move together perfectly, as common draws for a
        comparison should. To draw independent quantities from one seed, say what each is for:
        ``purpose="fuel price"``. Raises ParameterError for a seed that is not a whole number from 0
        up.

        >>> from kindynos import Uniform
        >>> Uniform(2, 4).sample(3, seed=1).shape
        (3,)
        """
        shape = size if isinstance(size, tuple | list) else (size,)
        if math.prod(check_integer("size", length, least=0) for length in shape) > MOST_DRAWN:
            raise invalid_argument("size", f"at most {MOST_DRAWN:,} draws", size)
        check_memory(f"{math.prod(shape):,} draws", 24.0 * math.prod(shape))
        instance("purpose", purpose, str, "a text")
        key = checked_seed(seed)
        if purpose:
            key = int.from_bytes(blake2b(f"{key} {purpose}".encode()).digest()[:16])
        scores = np.random.Generator(np.random.SFC64(key)).random(tuple(shape))
        return self._quantile(np.maximum(scores, HALF_ULP))

    @checked
    def chance(
        self, *, above: float | None = None, below: float | None = None, at: float | None = None
    ) -> float:
        """Return the chance of a value strictly above, strictly below, between the two, or at one
        value.

        Raises KindynosError when nothing is requested, or ``at`` together with the others.

        >>> from kindynos import Uniform
        >>> Uniform(0, 10).chance(above=2, below=5)
        0.3
        """
        above, below, at = chance_bounds(above, below, at)
        if at is not None:
            return self._mass(at)
        if below is None:
            return float(_apply(self._survival, -math.inf if above is None else above))
        under = self.cdf(below) - self._mass(below)
        return under if above is None else max(under - self.cdf(above), 0.0)

    def __repr__(self) -> str:
        kind: Any = type(self)  # every distribution is a dataclass, which this class cannot say
        parts = [(field, getattr(self, field.name)) for field in fields(kind)]
        shown = [
            f"{field.name}={_plain(value)}" for field, value in parts if value != field.default
        ]
        return f"{kind.__name__}({', '.join(shown)})"

    def _mass(self, x: float) -> float:
        return self.pmf(x) if self.discrete else 0.0


def _plain(value: Any) -> str:
    """Return a parameter's exact repr, whole numbers without a decimal point; of a long list its
    ends and its length.
    """
    if isinstance(value, tuple) and len(value) > LONGEST_SHOWN:
        return (
            f"[{_plain(value[0])}, {_plain(value[1])}, ..., {_plain(value[-1])}: "
            f"{len(value):,} values]"
        )
    if isinstance(value, tuple):
        return "[" + ", ".join(map(_plain, value)) + "]"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return repr(value)


def too_extreme(distribution: object) -> ParameterError:
    """Return the error of a distribution whose calculations leave the floats, for the caller to
    raise.
    """
    kind = type(distribution).__name__
    return ParameterError(f"{distribution!r:.80} has parameters too extreme for floats", owner=kind)


def _apply(method: Callable[[Floats], Floats], x: ArrayLike) -> float | Floats:
    values = array_of("the argument", x)
    if values.size < 2 * STEP:
        try:
            with np.errstate(all="ignore"):
                applied = method(np.atleast_1d(values))
        except ArithmeticError:
            raise too_extreme(getattr(method, "__self__", None)) from None
        return float(applied[0]) if values.ndim == 0 else applied
    flat, many = values.reshape(-1), np.empty(values.size)
    step = max(STEP, -(-values.size // usable_cpus()))

    def work(begin: int) -> None:
        span = slice(begin, begin + step)
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            many[span] = method(flat[span])

    on_threads(work, range(0, values.size, step))
    return many.reshape(values.shape)
