"""One quantity of a run: its values and its statistics."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kindynos.errors import KindynosError
from kindynos.estimate import Estimate, Estimates
from kindynos.results.statistics import Sample, statistic
from kindynos.validate import share

Floats = NDArray[np.float64]
Answer = Estimate | Estimates


@dataclass(frozen=True)
class Result:
    """An outcome, a driver or a line of a run.

    ``values`` is ``(trials,)``, or ``(periods, trials)`` of a row. Of a single number each statistic is an Estimate, a float
    with ``.low``, ``.high`` and ``.error`` (95 %); of a row it is an array over the periods with the same attributes. All are
    over the valid trials, those that are not NaN, except chances, which are shares of all trials.
    """

    name: str
    values: Floats
    bounds: NDArray[np.int64]
    independent: bool = False
    unit: str | None = None
    target: float | None = None
    base: Any = None
    labels: tuple[str, ...] = ()

    @cached_property
    def _samples(self) -> list[Sample]:
        rows = self.values if self.is_row else self.values[None]
        return [Sample(row, self.bounds, self.independent) for row in rows]

    @property
    def is_row(self) -> bool:
        """Whether it has a value for each period."""
        return self.values.ndim == 2

    @property
    def trials(self) -> int:
        """The number of trials."""
        return int(self.values.shape[-1])

    @property
    def bad(self) -> int:
        """How many trials are NaN (in some period)."""
        failed = np.isnan(self.values)
        return int(np.count_nonzero(failed.any(axis=0) if self.is_row else failed))

    def _statistic(self, name: str, *args: Any, **options: Any) -> Any:
        compute = statistic(name)
        found = [compute(sample, *args, **options) for sample in self._samples]
        return Estimates.of(found) if self.is_row else found[0]

    @cached_property
    def mean(self) -> Any:
        """The mean."""
        return self._statistic("mean")

    @cached_property
    def median(self) -> Any:
        """The median."""
        return self._statistic("median")

    @cached_property
    def mode(self) -> Any:
        """The likeliest value: the most frequent, or where the values lie densest. Rough; no error."""
        return self._statistic("mode")

    @cached_property
    def sd(self) -> Any:
        """The standard deviation."""
        return self._statistic("sd")

    @cached_property
    def lowest(self) -> Any:
        """The lowest of the trials drawn, which is not the worst that can happen. No error."""
        return self._statistic("lowest")

    @cached_property
    def highest(self) -> Any:
        """The highest of the trials drawn, which is not the best that can happen. No error."""
        return self._statistic("highest")

    @cached_property
    def skewness(self) -> Any:
        """The skewness; its error is rough."""
        return self._statistic("skewness")

    def percentile(self, q: ArrayLike) -> Any:
        """Return percentile ``q`` (0 to 100), interpolated linearly; of several, an array with one more axis in front."""
        if np.ndim(q) == 0:
            return self._statistic("percentile", q)
        found = [self._statistic("percentile", float(one)) for one in np.asarray(q, dtype=np.float64).reshape(-1)]
        return Estimates.stack(found) if self.is_row else Estimates.of(found)

    def chance(self, *, above: float | None = None, below: float | None = None, at: float | None = None) -> Any:
        """Return the share of all trials strictly above, strictly below, between the two, or at a value."""
        return self._statistic("chance", above=above, below=below, at=at)

    def percentile_of(self, x: float) -> Any:
        """Return the percentile (0 to 100) at which a value lies: the trials below it, and half of those at it."""
        return self._statistic("percentile_of", x)

    def central_range(self, coverage: float = 0.80) -> Any:
        """Return the two ends between which the middle ``coverage`` of the outcomes lies: a range, not an error."""
        outside = 50 * (1 - share("central_range", "coverage", coverage, closed=False))
        return self.percentile([outside, 100 - outside])

    def value_at_risk(self, level: float, reference: float = 0.0) -> Any:
        """Return the loss against ``reference`` exceeded with chance 1 - level (0.95: once in 20); positive is a loss."""
        return self._statistic("value_at_risk", level, reference=reference)

    def expected_shortfall(self, level: float, reference: float = 0.0) -> Any:
        """Return the mean loss against ``reference`` in the worst 1 - level of the trials; positive is a loss."""
        return self._statistic("expected_shortfall", level, reference=reference)

    def figure(self, statistic: str, *args: Any, **options: Any) -> Any:
        """Return a statistic by name: ``figure("percentile", 5)``, ``figure("chance", below=0)``."""
        return self._statistic(statistic, *args, **options)

    def error(self, statistic: str, *args: Any, **options: Any) -> Any:
        """Return half the 95 % interval of a statistic by name: ``error("percentile", 5)``, ``error("chance", below=0)``."""
        return self._statistic(statistic, *args, **options).error

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Floats:
        return np.array(self.values, dtype=dtype) if copy else np.asarray(self.values, dtype=dtype)

    def __float__(self) -> float:
        raise KindynosError(f"{self.name!r} has {self.trials:,} values; say which figure: .mean, .median, .percentile(q)")

    def __repr__(self) -> str:
        rows = f"{len(self.values)} periods x " if self.is_row else ""
        return f"<{self.name}: {rows}{self.trials:,} trials>"
