"""One quantity of a run: its values and its statistics."""

from __future__ import annotations

import warnings
from abc import ABC, abstractmethod
from collections.abc import Hashable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, Generic, TypeVar, overload

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import ArrayLike, NDArray

from kindynos.arrays import Floats
from kindynos.delegation import Inline
from kindynos.errors import DataWarning, KindynosError, RunError
from kindynos.formatting import per_cent
from kindynos.inference.estimates import Estimate, Estimates
from kindynos.inference.sample import Sample
from kindynos.literals import StatisticName
from kindynos.results.statistics import STATISTICS, Statistic
from kindynos.validate import (
    array_of,
    check_integer,
    checked,
    fraction,
    invalid_argument,
    number,
    proper_fraction,
)

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.fitting.normality import Normality

Figure = TypeVar("Figure", Estimate, Estimates)
RETURN_PERIODS = (2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0)


class Statistics(ABC, Generic[Figure]):
    """The statistics of a quantity by name, over its valid trials; chances are shares of all.

    Runs, weighted trials and runs that keep only summaries have the same ones, since each
    is one entry in ``kindynos.results.statistics.STATISTICS``.
    """

    @abstractmethod
    def _statistic(self, name: str, *args: Any, **options: Any) -> Figure:
        """Return a statistic by name, of the whole quantity."""

    @property
    def mean(self) -> Figure:
        """The mean."""
        return self._statistic("mean")

    @property
    def median(self) -> Figure:
        """The median."""
        return self._statistic("median")

    @property
    def mode(self) -> Figure:
        """The likeliest value: the most frequent, or where the values lie densest; its error is
        rough.
        """
        return self._statistic("mode")

    @property
    def sd(self) -> Figure:
        """The standard deviation."""
        return self._statistic("sd")

    @property
    def lowest(self) -> Figure:
        """The lowest of the trials drawn, which is not the worst that can happen. No error."""
        return self._statistic("lowest")

    @property
    def highest(self) -> Figure:
        """The highest of the trials drawn, which is not the best that can happen. No error."""
        return self._statistic("highest")

    @property
    def skewness(self) -> Figure:
        """The skewness; its error is rough."""
        return self._statistic("skewness")

    @checked
    def chance(
        self, *, above: float | None = None, below: float | None = None, at: float | None = None
    ) -> Figure:
        """Return the share of all trials strictly above, strictly below, between the two, or at a
        value.
        """
        return self._statistic("chance", above=above, below=below, at=at)

    @checked
    def percentile_of(self, x: float) -> Figure:
        """Return the percentile (0 to 100) at which a value lies: the trials below it, and half of
        those at it.
        """
        return self._statistic("percentile_of", x)

    @checked
    def value_at_risk(self, level: float, reference: float = 0.0) -> Figure:
        """Return the loss against ``reference`` exceeded with chance 1 - level (0.95: once in 20);
        positive is a loss.
        """
        return self._statistic("value_at_risk", level, reference=reference)

    @checked
    def expected_shortfall(self, level: float, reference: float = 0.0) -> Figure:
        """Return the mean loss against ``reference`` in the worst 1 - level of the trials; positive
        is a loss.
        """
        return self._statistic("expected_shortfall", level, reference=reference)

    @checked
    def statistic(self, name: StatisticName | str, *args: Any, **options: Any) -> Figure:
        """Return a statistic by name: ``statistic("percentile", 5)``, ``statistic("chance",
        below=0)``.
        """
        return self._statistic(name, *args, **options)


class NumberStatistics(Statistics[Estimate]):
    """The statistics of a quantity with one number per trial: each is an Estimate."""

    @overload
    def percentile(self, q: float) -> Estimate: ...
    @overload
    def percentile(self, q: ArrayLike) -> Estimates: ...
    @checked
    def percentile(self, q: ArrayLike) -> Estimate | Estimates:
        """Return percentile ``q`` (0 to 100), interpolated linearly; for several values, an
        array.
        """
        _doubt_level(q)
        return self._percentiles(q)

    def _percentiles(self, q: ArrayLike) -> Estimate | Estimates:
        if _single(q):
            return self._statistic("percentile", number("q", q))
        return Estimates.of([self._statistic("percentile", one) for one in _flat(q)])

    @overload
    def quantile(self, level: float) -> Estimate: ...
    @overload
    def quantile(self, level: ArrayLike) -> Estimates: ...
    @checked
    def quantile(self, level: ArrayLike) -> Estimate | Estimates:
        """Return the quantile at a ``level`` from 0 to 1: the percentile of 100 times the level."""
        return self._percentiles(_percents(level))

    @checked
    def central_range(self, coverage: float = 0.80) -> Estimates:
        """Return the two ends between which the middle ``coverage`` of the outcomes lies: a range,
        not an error.
        """
        outside = 50 * (1 - proper_fraction("coverage", coverage))
        ends: Any = self._percentiles([outside, 100 - outside])
        both: Estimates = ends
        return both


class _Quantity(Statistics[Figure], NDArrayOperatorsMixin, Inline):
    """What a quantity with one number per trial and one with a row share.

    Valid trials are those that are not NaN; chances are shares of all trials.
    """

    def __init__(
        self,
        name: str,
        values: Floats,
        bounds: NDArray[np.int64],
        together: int = 0,
        *,
        unit: str | None = None,
        target: float | None = None,
        base: Any = None,
        labels: tuple[str, ...] = (),
        better: str = "high",
        missing: str | float | None = None,
        weights: Floats | None = None,
        constant: bool = False,
        dealt: NDArray[np.int64] | None = None,
    ) -> None:
        self.better, self.missing = better, missing
        self.name, self.unit, self.target, self.base, self.labels = name, unit, target, base, labels
        self._values = values.view()
        self._values.flags.writeable = False
        self._bounds, self._together, self.weights = bounds, together, weights
        self.constant, self._dealt = constant, dealt
        self._figures: dict[tuple[Any, ...], Figure] = {}

    @property
    def values(self) -> Floats:
        """The values of all trials, read-only."""
        return self._values

    @property
    def is_row(self) -> bool:
        """Whether it has a value for each period."""
        return self.values.ndim == 2

    @property
    def size(self) -> int:
        """The number of trials."""
        return int(self.values.shape[-1])

    @property
    def n_failed(self) -> int:
        """How many trials are NaN (in some period)."""
        failed = np.isnan(self.values)
        return int(np.count_nonzero(failed.any(axis=0) if self.is_row else failed))

    def _sample_of(self, values: Floats) -> Sample:
        return Sample(
            values,
            self._bounds,
            self._together,
            self.better,
            self.constant,
            self.weights,
            self._dealt,
        )

    @property
    def unranked(self) -> float:
        """The share of trials without a value that no ``missing`` ranks."""
        return self.n_failed / self.size if self.missing is None and self.size else 0.0

    def _statistic(self, name: str, *args: Any, **options: Any) -> Figure:
        statistic = STATISTICS.find(name)
        asked = (name, *args, *sorted(options.items()))
        if not all(isinstance(part, Hashable) for part in (*args, *options.values())):
            return self._work_out(statistic, *args, **options)  # which refuses it in words
        if asked not in self._figures:  # a report, its page and its workbook read it again
            self._figures[asked] = self._work_out(statistic, *args, **options)
        return self._figures[asked]

    @abstractmethod
    def _work_out(self, statistic: Statistic, *args: Any, **options: Any) -> Figure:
        """Return a statistic of the samples that it is of."""

    def _ranks(self, statistic: Statistic) -> bool:
        """Whether a statistic ranks trials without a value too."""
        is_figure = self.missing is not None and not isinstance(self.missing, str)
        return statistic.ranks or is_figure

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Floats:
        return np.array(self.values, dtype=dtype) if copy else np.asarray(self.values, dtype=dtype)

    __hash__ = object.__hash__  # ``==`` compares the values

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **options: Any) -> Any:
        """Let ``run["a"] * 2 + run["b"]`` work on the values."""
        plain = [
            operand.values if isinstance(operand, _Quantity) else operand for operand in inputs
        ]
        return getattr(ufunc, method)(*plain, **options)

    def __array_function__(self, function: Any, types: Any, arguments: Any, options: Any) -> Any:
        """Let functions of NumPy, such as ``np.mean``, work on the values."""
        plain = [
            argument.values if isinstance(argument, _Quantity) else argument
            for argument in arguments
        ]
        return function(*plain, **options)

    def __len__(self) -> int:
        return len(self.values)

    def __iter__(self) -> Iterator[Any]:
        return iter(self.values)

    def __float__(self) -> float:
        raise KindynosError(
            f"{self.name!r} has {self.size:,} values; say which figure: .mean, .median, "
            ".percentile(q)"
        )


class Result(NumberStatistics, _Quantity[Estimate]):
    """An outcome, a driver or a line of a run with one number per trial; ``values`` is
    ``(trials,)``.

    Each statistic is an Estimate: a float with ``.low``, ``.high`` and ``.error`` (95 %).
    ``run["name"]`` gives a RowResult for a quantity with a value each period.

    >>> from kindynos import Model, Normal
    >>> model = Model("Kiosk")
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "3 * sales - 250", target=0)
    >>> profit = model.simulate(10_000, seed=1)["profit"]
    >>> round(float(profit.mean)), profit.chance(below=0) < 0.06, profit.mean.error < 1
    (50, True, True)
    """

    @cached_property
    def sample(self) -> Sample:
        """Its trials, from which statistics are estimated."""
        return self._sample_of(self.values)

    @cached_property
    def ranked(self) -> Sample:
        """Its trials; those without a value rank as ``missing`` says."""
        return self.sample.ranked(self.missing)

    @property
    def lacking(self) -> str:
        """Which share of the trials, by weight, is infinite and which has no value, in words;
        nothing where none is.
        """
        values, weights = self.sample.values, self.sample.weights
        shares = {
            "infinite": float(np.average(np.isinf(values), weights=weights)),
            "without a value": float(np.average(np.isnan(values), weights=weights)),
        }
        return ", ".join(f"{per_cent(share)} {what}" for what, share in shares.items() if share)

    def _work_out(self, statistic: Statistic, *args: Any, **options: Any) -> Estimate:
        sample = self.ranked if self._ranks(statistic) else self.sample
        return statistic(sample, *args, **options)

    @checked
    def return_periods(self, years: Sequence[float] = RETURN_PERIODS) -> pd.DataFrame:
        """Return what is reached or exceeded, on the bad side, once in N trials, such as
        years: the percentile 100 (1 - 1/T) of what is better low, 100/T of what is better high,
        with its 95 % interval, by T. Raises ParameterError for T of 1 or less.

        >>> from kindynos import Exponential, Model, Poisson
        >>> model = Model("Hulls")
        >>> model.claims("hull", Poisson(3), Exponential(0.2))
        >>> model.outcome("loss", "total(hull)", better="low")
        >>> frame = model.simulate(20_000, seed=1)["loss"].return_periods([10, 200])
        >>> frame["value"].round(1).tolist()
        [1.3, 2.4]
        """
        import pandas as pd

        periods = np.atleast_1d(array_of("years", years))
        if periods.ndim != 1 or not len(periods) or (periods <= 1).any():
            raise invalid_argument("years", "above 1", years)
        rare = 1 / periods if self.better == "high" else 1 - 1 / periods
        levels = self.percentile(100 * rare)
        columns = {"value": np.asarray(levels), "low": levels.low, "high": levels.high}
        return pd.DataFrame(columns, pd.Index(periods, name="once in"))

    def normality(self) -> Normality:
        """Return tests of whether the valid trials are normal, the size of their departure, and a
        picture; see ``kd.normality``.

        With many trials every departure is significant, however small: look at its size.
        """
        from kindynos.fitting.normality import normality

        if self.weights is not None:
            raise RunError("tests of normality are of trials that weigh alike, and these do not")
        return normality(self.values)

    def __repr__(self) -> str:
        return f"<{self.name}: {self.size:,} trials>"


class RowResult(_Quantity[Estimates]):
    """A quantity of a run with a value each period; ``values`` is ``(periods, trials)``.

    Each statistic is an array over the periods, with arrays ``.low``, ``.high`` and ``.error``.

    >>> from kindynos import Model, Normal
    >>> model = Model("Kiosk", periods=3)
    >>> model.driver("sales", Normal(100, 10), each="period")
    >>> model.outcome("profit", "3 * sales - 250")
    >>> model.simulate(1_000, seed=1)["profit"].values.shape
    (3, 1000)
    """

    @checked
    def by_year(self) -> RowResult:
        """Return the totals over each calendar year, of a row of quarters or months; raises
        RunError without a calendar.

        A year that the row holds in part only has the total of that part.
        """
        years = [label[:4] for label in self.labels]
        if not all(
            year.isdigit() and len(label) > 4
            for year, label in zip(years, self.labels, strict=True)
        ):
            raise RunError(
                f"{self.name!r} has no quarters or months of calendar years; say start= and every="
            )
        first = [
            position
            for position, year in enumerate(years)
            if position == 0 or years[position - 1] != year
        ]
        base = None if self.base is None else np.add.reduceat(np.asarray(self.base), first)
        return RowResult(
            self.name,
            np.add.reduceat(self.values, first, axis=0),
            self._bounds,
            self._together,
            unit=self.unit,
            base=base,
            labels=tuple(years[position] for position in first),
            better=self.better,
            missing=self.missing,
        )

    @checked
    def period(self, place: int) -> Result:
        """Return one period, counted from 0, as a quantity with one number per trial and all its
        statistics.
        """
        if check_integer("place", place, least=0) >= len(self.values):
            raise invalid_argument("place", f"from 0 to {len(self.values) - 1}", place)
        base = None if self.base is None else float(self.base[place])
        return Result(
            f"{self.name} {self.labels[place]}",
            self.values[place],
            self._bounds,
            self._together,
            unit=self.unit,
            target=self.target,
            base=base,
            better=self.better,
            missing=self.missing,
        )

    @cached_property
    def _samples(self) -> list[Sample]:
        return [self._sample_of(row) for row in self.values]

    @cached_property
    def _ranked_samples(self) -> list[Sample]:
        return [sample.ranked(self.missing) for sample in self._samples]

    def _work_out(self, statistic: Statistic, *args: Any, **options: Any) -> Estimates:
        samples = self._ranked_samples if self._ranks(statistic) else self._samples
        return Estimates.of([statistic(sample, *args, **options) for sample in samples])

    @checked
    def percentile(self, q: ArrayLike) -> Estimates:
        """Return percentile ``q`` (0 to 100) of each period; for several values, an array with one
        more axis in front.
        """
        if _single(q):
            return self._statistic("percentile", number("q", q))
        return Estimates.stack([self._statistic("percentile", one) for one in _flat(q)])

    @checked
    def quantile(self, level: ArrayLike) -> Estimates:
        """Return the quantile of each period at a ``level`` from 0 to 1: the percentile of 100
        times the level.
        """
        return self.percentile(_percents(level))

    @checked
    def central_range(self, coverage: float = 0.80) -> Estimates:
        """Return the two ends between which the middle ``coverage`` of the outcomes lies in each
        period, ``(2, periods)``.
        """
        outside = 50 * (1 - proper_fraction("coverage", coverage))
        return self.percentile([outside, 100 - outside])

    def __repr__(self) -> str:
        return f"<{self.name}: {len(self.values)} periods x {self.size:,} trials>"


def bad_side(better: str) -> str:
    """Return the side on which the bad trials lie of a quantity whose good ones lie on the
    other.
    """
    return "low" if better == "high" else "high"


def _single(q: Any) -> bool:
    return isinstance(q, float | int | str) or array_of("q", q).ndim == 0


def _doubt_level(q: Any) -> None:
    """Warn of a percentile that looks like a level."""
    if isinstance(q, float) and 0 < q < 1:
        text = (
            f"percentiles run from 0 to 100, so percentile({q:g}) is far down; quantile({q:g}) "
            f"is percentile {100 * q:g}"
        )
        warnings.warn(text, DataWarning, stacklevel=4)


def _flat(q: ArrayLike) -> list[float]:
    values = array_of("q", q).reshape(-1)
    if not values.size:
        raise invalid_argument("q", "at least one number", q)
    return [float(value) for value in values]


def _percents(level: ArrayLike) -> Any:
    if _single(level):
        return 100 * fraction("level", level)
    return [100 * fraction("level", one) for one in _flat(level)]
