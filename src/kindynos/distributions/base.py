"""The base class of all distributions, and the two that its own operators make: moved and
stretched, and truncated.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Self

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Inline, delegated_to
from kindynos.distributions.contract import Contract
from kindynos.distributions.inverse import atom_moments, central_moments, without_heavy_tail
from kindynos.distributions.percentiles import Recipe, solve_percentiles
from kindynos.errors import KindynosError, ParameterError
from kindynos.literals import WeightsKind
from kindynos.validate import checked, finite, invalid_argument, proper_fraction


class Distribution(Contract, Inline):
    """The distribution of one uncertain number; see ``Contract`` for what a subclass supplies.

    ``percentile_recipe`` says how the family is found from percentiles; None where it is not given
    by them.

    >>> from kindynos import Pert
    >>> cost = Pert(17.5, 19, 26)
    >>> round(cost.mean, 3), round(cost.percentile(90), 2), round(cost.chance(above=20), 3)
    (19.917, 21.98, 0.427)
    """

    percentile_recipe: ClassVar[Recipe | None] = None
    # what ``fit`` found, with its errors, on distributions that it made
    fitted: ClassVar[Any] = None

    @classmethod
    @delegated_to("kindynos.fitting.fits", "fit")
    def fit(
        cls,
        values: Any,
        weights: Any = None,
        *,
        method: str = "likelihood",
        at_least: Any = None,
        at_most: Any = None,
        weights_kind: WeightsKind = "counts",
        truncated_below: Any = None,
        censored_above: Any = None,
        **fixed: float,
    ) -> Self:
        """Return the distribution of this family fitted to ``values``, with standard errors in
        ``fitted``.

        By maximum likelihood, or with ``method="moments"`` or (for extremes) ``"l-moments"``.
        ``weights`` say how often each value counts; with ``weights_kind="survey"`` how much of a
        population each stands for, so that the values are worth fewer than their number (Kish's
        effective number). ``fixed`` parameters are held: ``low=0``; those
        with a default keep it. ``at_least`` and ``at_most`` are masks of values that are only
        bounds: a machine that still runs, a loss up to the limit of a cover. ``censored_above`` is
        such a limit, one number or one per value: what reaches it is known only to be at least so
        much. ``truncated_below`` is a threshold, one number or one per value, below which a value
        would not have been recorded: the distribution is that of all values, and
        ``fitted.unseen`` how many were not seen. Raises ParameterError for values that nothing can
        be estimated from or that the family cannot give, and where the likelihood has no maximum;
        where the maximum lies at an end, ``fitted.at_bound`` says so.

        >>> from kindynos import Gamma
        >>> gamma = Gamma.fit(Gamma(shape=4, scale=2.5).sample(2_000, seed=1))
        >>> low, high = gamma.fitted.intervals["shape"]
        >>> low < 4 < high
        True
        """
        raise NotImplementedError

    @delegated_to("kindynos.fitting.uncertain", "uncertain")
    def uncertain(self, draws: int = 100) -> Distribution:
        """Return a fitted distribution whose parameters are drawn too, trial by trial, as its fit
        leaves them open.

        It is wider where it was fitted to fewer values, and serves as a driver as any other
        does; drawn each period, a trial keeps its parameters. Raises ParameterError for a
        distribution that was not fitted.

        >>> from kindynos import Normal
        >>> few = Normal.fit([9.0, 11.0, 10.5, 8.0, 12.5, 9.5, 10.0, 11.5])
        >>> few.uncertain().sd > few.sd
        True
        """
        raise NotImplementedError

    @classmethod
    @checked
    def from_range(cls, low: float, high: float, coverage: float = 0.90) -> Distribution:
        """Return the distribution of this family that lies between ``low`` and ``high`` with that
        chance.

        What lies outside is divided equally between the two sides. Raises ParameterError where the
        family is not given by two percentiles, or no member of it has these.

        >>> from kindynos import Normal
        >>> Normal.from_range(14, 19, coverage=0.90).mean
        16.5
        """
        outside = 50 * (1 - proper_fraction("coverage", coverage))
        low, high = finite("low", low), finite("high", high)
        if not low < high:
            raise invalid_argument("low", f"below high ({high!r})", low)
        return cls.from_percentiles({outside: low, 100 - outside: high})

    @classmethod
    @checked
    def from_percentiles(
        cls, percentiles: Mapping[float, float], fit: bool = False
    ) -> Distribution:
        """Return the distribution of this family with these two or three percentiles; see
        ``kd.from_percentiles``.

        >>> from kindynos import Gumbel
        >>> round(Gumbel.from_percentiles({10: 4.0, 90: 9.0}).percentile(90), 9)
        9.0
        """
        solved: Distribution = solve_percentiles(cls, cls.percentile_recipe, percentiles, fit)
        return solved

    @delegated_to("kindynos.fitting.recalibrating", "recalibrated")
    def recalibrated(self, record: Any) -> Distribution:
        """Return this opinion, widened and moved as a track record says would have been right; see
        ``kindynos.track_record``.

        Raises ParameterError for anything but a record, and for one with too few cases.
        """
        raise NotImplementedError

    @delegated_to("kindynos.plots", "density")
    def plot(
        self,
        ax: Axes | None = None,
        mark: float | None = None,
        between: tuple[float, float] | None = None,
    ) -> Axes:
        """Draw the distribution with its mean and percentiles on Matplotlib axes; return these.

        A ``mark`` shows the chance on either side of it, ``between`` the chance of a range, which
        is shaded.
        """

    @checked
    def truncate(self, low: float | None = None, high: float | None = None) -> Distribution:
        """Return this distribution given that it lies between ``low`` and ``high``; None leaves
        that side open.

        >>> from kindynos import Uniform
        >>> Uniform(0, 10).truncate(2, 4).mean
        3.0
        """
        return Truncated(self, low, high)

    @delegated_to("kindynos.distributions.transforms", "clipped")
    def clip(self, low: float | None = None, high: float | None = None) -> Distribution:
        """Return this distribution with values beyond ``low`` and ``high`` moved to these ends;
        None leaves that side open.

        >>> from kindynos import Uniform
        >>> Uniform(0, 10).clip(high=5).mean
        3.75
        """
        raise NotImplementedError

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
        """Return factor x this + shift. Only numbers serve: the sum of two distributions depends on
        how they move together.
        """
        for number in (factor, shift):
            if isinstance(number, Distribution):
                raise KindynosError(
                    "two distributions cannot be added: make both drivers, and add them in a line"
                )
        inner, outer_factor, outer_shift = (
            (self.inner, self.factor, self.shift) if isinstance(self, Affine) else (self, 1.0, 0.0)
        )
        return Affine(inner, factor * outer_factor, factor * outer_shift + shift)


def a_distribution(name: str, value: Any) -> Distribution:
    """A rule: the value must be a distribution."""
    if not isinstance(value, Distribution):
        raise invalid_argument(name, "a distribution such as Normal(10, 2)", value)
    return value


def check_ends(distribution: Any) -> None:
    """Store the ends that are given as floats; ``low`` must be below ``high``."""
    for name in ("low", "high"):
        if getattr(distribution, name) is not None:
            object.__setattr__(distribution, name, finite(name, getattr(distribution, name)))
    if (
        distribution.low is not None
        and distribution.high is not None
        and not distribution.low < distribution.high
    ):
        raise invalid_argument("low", f"below high ({distribution.high!r})", distribution.low)


@dataclass(frozen=True, repr=False)
class Affine(Distribution):
    """Another distribution times ``factor`` plus ``shift``; written ``2 * X + 3``.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    12.

    >>> from kindynos import Normal
    >>> (2 * Normal(10, 1) + 3).mean
    23.0
    """

    inner: Distribution
    factor: float
    shift: float = 0.0

    rules = {"inner": a_distribution, "factor": finite, "shift": finite}
    label = "affine"
    formula = "factor y + shift, with y from inner"
    use = "another distribution in other units, or moved by a fixed amount"

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.factor == 0:
            raise invalid_argument("factor", "other than 0", self.factor)

    @property
    def discrete(self) -> bool:
        return self.inner.discrete

    @property
    def has_atoms(self) -> bool:
        return self.inner.has_atoms

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.inner._atoms
        return self.factor * values + self.shift, masses

    @property
    def mean(self) -> float:
        return self.factor * self.inner.mean + self.shift

    @property
    def variance(self) -> float:
        return self.factor**2 * self.inner.variance

    @property
    def skewness(self) -> float:
        return math.copysign(1, self.factor) * self.inner.skewness

    @property
    def support(self) -> tuple[float, float]:
        ends = sorted(self.factor * end + self.shift for end in self.inner.support)
        return ends[0], ends[1]

    def _back(self, x: Floats) -> Floats:
        return (x - self.shift) / self.factor

    def _density(self, x: Floats) -> Floats:
        inside = self.inner._density(self._back(x))
        return inside if self.discrete else inside / abs(self.factor)

    def _mass(self, x: float) -> float:
        return self.inner._mass((x - self.shift) / self.factor)

    def _cdf(self, x: Floats) -> Floats:
        if self.factor > 0:
            return self.inner._cdf(self._back(x))
        at = (
            np.array([self._mass(float(value)) for value in x.reshape(-1)]).reshape(x.shape)
            if self.has_atoms
            else 0.0
        )
        return np.minimum(self.inner._survival(self._back(x)) + at, 1.0)

    def _survival(self, x: Floats) -> Floats:
        return self.inner._survival(self._back(x)) if self.factor > 0 else 1.0 - self._cdf(x)

    def _quantile(self, u: Floats) -> Floats:
        inner = self.inner._quantile(u) if self.factor > 0 else self.inner._upper_quantile(u)
        return self.factor * inner + self.shift

    def _upper_quantile(self, v: Floats) -> Floats:
        inner = self.inner._upper_quantile(v) if self.factor > 0 else self.inner._quantile(v)
        return self.factor * inner + self.shift


@dataclass(frozen=True, repr=False)
class Truncated(Distribution):
    """Another distribution, given that it lies between ``low`` and ``high``; written
    ``X.truncate(low, high)``.

    Source: Johnson, Kotz and Balakrishnan, Continuous Univariate Distributions 1 (1994), chapter
    12; moments by quadrature.

    >>> from kindynos import Normal
    >>> Normal(0, 1).truncate(0, None).chance(below=0)
    0.0
    """

    inner: Distribution
    low: float | None = None
    high: float | None = None

    rules = {"inner": a_distribution}
    label = "truncated"
    formula = "F(x) = (G(x) - G(low)) / (G(high) - G(low)), with G the cdf of inner"
    use = "a distribution whose impossible part is cut off: a price that cannot be negative"

    def __post_init__(self) -> None:
        super().__post_init__()
        check_ends(self)
        if not self._inside > 0:
            raise ParameterError(
                f"{self.inner!r} has nothing between {self.low!r} and {self.high!r}"
            )

    @property
    def discrete(self) -> bool:
        return self.inner.discrete

    @property
    def has_atoms(self) -> bool:
        return self.inner.has_atoms

    @property
    def _atoms(self) -> tuple[Floats, Floats]:
        values, masses = self.inner._atoms
        kept = self._within(values)
        return values[kept], masses[kept] / masses[kept].sum()

    @cached_property
    def _upper_side(self) -> bool:
        """Whether the part kept lies in the distribution's upper half, where the survival function
        keeps the digits.
        """
        return self.low is not None and self.inner.cdf(self.low) > 0.5

    @cached_property
    def _ends(self) -> tuple[float, float]:
        """The cdf just below ``low`` and at ``high``; on the upper side the survival functions
        there.
        """
        distribution = self.inner
        if self._upper_side:
            assert self.low is not None
            first = distribution.chance(above=self.low) + distribution._mass(self.low)
            return first, (0.0 if self.high is None else distribution.chance(above=self.high))
        first = (
            0.0 if self.low is None else distribution.cdf(self.low) - distribution._mass(self.low)
        )
        return first, (1.0 if self.high is None else distribution.cdf(self.high))

    @cached_property
    def _inside(self) -> float:
        first, last = self._ends
        return abs(last - first)

    @cached_property
    def _summary(self) -> tuple[float, float, float]:
        if self.discrete:
            return atom_moments(*self._atoms)
        summary = central_moments(
            self._quantile, self._upper_quantile, float(self._quantile(np.array([0.5]))[0])
        )
        low, high = self.support
        upper, lower = math.isinf(high), math.isinf(low)
        if not (upper or lower):
            return summary
        inner = self.inner.mean, self.inner.variance, self.inner.skewness
        return without_heavy_tail(inner, summary, upper - lower)

    @property
    def mean(self) -> float:
        return self._summary[0]

    @property
    def variance(self) -> float:
        return self._summary[1]

    @property
    def skewness(self) -> float:
        return self._summary[2]

    @property
    def support(self) -> tuple[float, float]:
        low, high = self.inner.support
        return (low if self.low is None else max(low, self.low)), (
            high if self.high is None else min(high, self.high)
        )

    def _within(self, x: Floats) -> Any:
        low, high = self.support
        return (x >= low) & (x <= high)

    def _mass(self, x: float) -> float:
        return self.inner._mass(x) / self._inside if self._within(np.asarray(x)) else 0.0

    def _density(self, x: Floats) -> Floats:
        return np.where(self._within(x), self.inner._density(x) / self._inside, x * 0.0)

    def _cdf(self, x: Floats) -> Floats:
        first, _ = self._ends
        inside = (
            (first - self.inner._survival(x)) if self._upper_side else (self.inner._cdf(x) - first)
        )
        return np.clip(inside / self._inside, 0, 1)

    def _quantile(self, u: Floats) -> Floats:
        first, _ = self._ends
        inner = (
            self.inner._upper_quantile(first - u * self._inside)
            if self._upper_side
            else self.inner._quantile(first + u * self._inside)
        )
        return np.clip(inner, *self.support)

    def _upper_quantile(self, v: Floats) -> Floats:
        if self._upper_side:
            return np.clip(
                self.inner._upper_quantile(self._ends[1] + v * self._inside), *self.support
            )
        if self.high is None:
            return np.clip(self.inner._upper_quantile(v * self._inside), *self.support)
        return self._quantile(1.0 - v)
