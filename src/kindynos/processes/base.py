"""The contract of a process: the distribution of one uncertain series, drawn from standard normal
shocks.

To add a process: a frozen dataclass that fills this contract in a file here, and its line in
``PROCESSES``.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace
from pathlib import Path as FilePath
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.delegation import Inline, delegated_to
from kindynos.distributions.base import Distribution
from kindynos.distributions.from_data import Empirical
from kindynos.docstrings import documented
from kindynos.engine.available import check_memory
from kindynos.errors import ParameterError
from kindynos.finance.drawdowns import deepest_drop
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z, proportion
from kindynos.processes.documentation import PARAMETERS
from kindynos.processes.drawing import (
    COPIES,
    SMALLEST,
    PathDraws,
    drawn_parameters,
    each_block,
    each_part,
)
from kindynos.processes.estimation import (
    DRAWS,
    FEW_DRAWS,
    FEW_TRIALS,
    as_chance,
    with_estimation_error,
)
from kindynos.processes.fitted import FittedSeries
from kindynos.processes.hitting import simulated_hit_probability
from kindynos.sampling.streams import Seed, checked_seed, stream
from kindynos.validate import (
    Positive,
    array_of,
    chance_bounds,
    check_integer,
    checked,
    finite,
    instance,
    invalid_argument,
    number,
    positive,
)

Rule = Callable[[str, Any], Any]

STEPS, TRIALS = 250, 20_000  # of a simulated odds
MOST_DRAWS = 10_000  # of a fit's parameters, each with a figure of its own
OBSERVED = 8  # the fewest observations that a fit needs


@dataclass(frozen=True)
class Process(ABC, Inline):
    """The distribution of one series, such as a price.

    Times are in the unit in which drift and volatility are stated, such as a year; ``dt`` is the
    length of a period in that unit. Paths are ``(periods + 1, trials)``, the start first.

    >>> from kindynos import GeometricBrownianMotion
    >>> process = GeometricBrownianMotion(80.0, drift=0.02, volatility=0.3)
    >>> process.paths(12, 100, seed=1, dt=1 / 12).shape
    (13, 100)
    """

    label: ClassVar[str]
    use: ClassVar[str]
    formula: ClassVar[str]  # what moves it, per unit of time or per period
    about: ClassVar[str]  # the description alone, without the sections of the docstring
    # standard normals a period; the first of them is what other series may move with
    shocks: ClassVar[int] = 1
    continuous: ClassVar[bool] = False  # whether it has a value at every moment
    dated: ClassVar[bool] = (
        # whether its shocks choose dates of a history, so that a correlation of them means nothing
        False
    )
    # whether shocks add up in the logarithm of the value, as for prices
    multiplies: ClassVar[bool] = True
    rules: ClassVar[Mapping[str, Rule]] = {}

    fitted: FittedSeries | None = field(default=None, kw_only=True, repr=False, compare=False)

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        if "formula" in vars(cls):
            cls.about, cls.__doc__ = documented(cls, cls.formula, PARAMETERS)

    @checked
    def __post_init__(self) -> None:
        for name, rule in self.rules.items():
            object.__setattr__(self, name, rule(name, getattr(self, name)))
        self._keep_fit()

    def _keep_fit(self) -> None:
        """Forget a fit that belongs to other parameters; another start does not matter."""
        if self.fitted is not None:
            instance("fitted", self.fitted, FittedSeries, "what a fit found, or None")
            own = {
                name: value
                for name, value in self.parameters.items()
                if name not in ("start", "first", "history", "exog")
            }
            if self.fitted.of is None:
                object.__setattr__(self, "fitted", replace(self.fitted, of=own))
            elif self.fitted.of != own:
                object.__setattr__(self, "fitted", None)

    @abstractmethod
    def _evolve(self, shocks: Floats, dt: float, at: Any) -> Floats:
        """Return the values after each period, ``(periods, trials)``, from shocks ``(shocks,
        periods, trials)``.

        ``at`` has the parameters as attributes: this process, or numbers one per trial. The shocks
        may be overwritten.
        """

    @property
    def gap(self) -> int:
        """The periods between its last known value and its first period, which are drawn too."""
        return 0

    def _ahead(self, shocks: Floats, dt: float, at: Any) -> Floats:
        """Return the values after each period, ``(periods, trials)``, from shocks that begin in the
        gap, ``(shocks, gap + periods, trials)``; see ``_evolve``.
        """
        return self._evolve(shocks, dt, at)[self.gap :]

    @property
    def parameters(self) -> dict[str, Any]:
        """The parameters by name."""
        return {f.name: getattr(self, f.name) for f in fields(self) if not f.kw_only}

    @property
    def basis(self) -> str:
        """Whose chances these are: those of the real world, with its drift."""
        drift = getattr(self, "drift", None)
        if drift is None:
            return "real-world"
        if self.multiplies:
            return f"real-world: the expected price grows by {100 * drift:.3g} % per unit of time"
        return f"real-world: the expected value changes by {drift:.4g} per unit of time"

    def _redrawn(self, count: int) -> list[Self]:
        """Return processes with parameters drawn as the fit leaves them, none where nothing was
        fitted.
        """
        if self.fitted is None:
            return []
        at = self._parameters_at(
            stream(0, "redrawn", 0).standard_normal((len(self.fitted.theta), count))
        )
        return [
            replace(
                self,
                fitted=None,
                **{name: _one(values, position) for name, values in vars(at).items()},
            )
            for position in range(count)
        ]

    def refit(self) -> Self:
        """Return this process refitted from the history that it keeps, so that ``uncertain``
        can draw its parameters.

        Raises ParameterError for a process that keeps none, and where the history gives other
        parameters.
        """
        raise ParameterError("keeps no history from which its parameters could be refitted")

    def _parameters_at(self, scores: Floats) -> Any:
        """Return parameters one per trial from standard normal scores ``(parameters, trials)``; see
        ``FittedSeries``.
        """
        assert self.fitted is not None
        values, vectors = np.linalg.eigh(np.array(self.fitted.covariance))
        spread = vectors * np.sqrt(np.maximum(values, 0))
        return self._named_parameters(
            np.array(self.fitted.theta)[:, None] + np.einsum("ij,jk->ik", spread, scores)
        )

    def _named_parameters(self, theta: Floats) -> Any:
        """Return parameters one per trial from draws of theta ``(parameters, trials)``; see
        ``FittedSeries``.
        """
        raise ParameterError(
            "its fit has no sampling distribution to draw from", owner=type(self).__name__
        )

    @delegated_to("kindynos.reports.paths", "write_process")
    def report(
        self,
        path: str | FilePath,
        periods: int,
        trials: int = 2_000,
        seed: Seed = None,
        dt: float = 1.0,
    ) -> None:
        """Write a page of simulated paths: their fan, where they end, and single paths to step
        through. Raises as ``paths`` does, and FileError for a path that cannot be written.
        """

    @checked
    def paths(
        self,
        periods: int,
        trials: int,
        seed: Seed = None,
        dt: float = 1.0,
        *,
        antithetic: bool = False,
        moment_matching: bool = False,
        uncertain: bool = False,
    ) -> Floats:
        """Return simulated paths ``(periods + 1, trials)``; row 0 is the start.

        With ``antithetic`` the second half of the trials of each block mirrors the shocks of the
        first; ``moment_matching`` gives the shocks of each period in a block mean 0 and sd 1. After
        a fit, ``uncertain`` draws the parameters themselves from their sampling distribution, trial
        by trial. A seed gives the same bits for any number of processors, and the same shocks to
        every process, as a comparison wants; processes that move independently, or with a
        correlation, belong into a ``PathSet``. Raises ParameterError for wrong numbers, and for
        ``uncertain`` without a fit.
        """
        draws = self._draws(periods, trials, seed, dt, antithetic, moment_matching, uncertain)
        check_memory(f"{trials:,} paths of {periods:,} periods", 8.0 * (periods + 1) * trials)
        path_values: Floats = np.empty((draws.periods + 1, trials))
        path_values[0] = self.start_value

        def fill(span: slice, values: Floats) -> None:
            path_values[1:, span] = values

        each_block(self, draws, fill)
        return path_values

    @checked
    def max_drawdowns(
        self,
        periods: int,
        trials: int,
        seed: Seed = None,
        dt: float = 1.0,
        *,
        antithetic: bool = False,
        uncertain: bool = False,
    ) -> Floats:
        """Return the largest drawdown of each path, as a share of the highest value before it,
        ``(trials,)``.

        The same as ``max_drawdown(process.paths(...))``, without holding the paths: memory is
        bounded by the blocks. Raises ParameterError as ``paths`` does, and for a process whose
        values may be negative.
        """
        if not self.multiplies:
            raise ParameterError(
                "a drawdown as a share of the highest value needs values that stay above 0",
                owner=type(self).__name__,
            )
        draws = self._draws(periods, trials, seed, dt, antithetic, False, uncertain)
        drawdowns: Floats = np.empty(trials)

        def work(block: int, span: slice) -> None:
            at = drawn_parameters(self, draws, span, block) if uncertain else self
            drawdowns[span] = self._drawdowns(draws, span, block, at)

        each_part(work, draws.parts(self.shocks * (self.gap + periods)))
        return np.asarray(-np.expm1(drawdowns, out=drawdowns))

    def _drawdowns(self, draws: PathDraws, span: slice, block: int, at: Any) -> Floats:
        """Return the maximum drawdown of each trial of a block, as the log of value over the
        highest before.
        """
        rows = self.gap + draws.periods
        shocks = draws.normals(self.shocks * rows, span, block).reshape(self.shocks, rows, -1)
        logs = self._logs(shocks, draws.dt, at)[self.gap :]
        return deepest_drop(logs, np.zeros(logs.shape[1]), np.subtract)

    def _draws(
        self,
        periods: int,
        trials: int,
        seed: Seed,
        dt: float,
        antithetic: bool,
        matching: bool,
        uncertain: bool,
    ) -> PathDraws:
        check_integer("periods", periods, least=1)
        check_integer("trials", trials, least=1)
        positive("dt", dt)
        block = 8.0 * self.shocks * periods * SMALLEST * COPIES
        check_memory(f"{trials:,} trials of {periods:,} periods", 8.0 * trials + block)
        instance("uncertain", uncertain, bool, "True or False")
        if uncertain and self.fitted is None:
            raise ParameterError(
                f"uncertain=True needs a fitted process, such as {type(self).__name__}.fit(prices)"
            )
        # once, before the threads, so that each does not work it out again
        if uncertain and self.fitted is not None:
            self._parameters_at(np.zeros((len(self.fitted.theta), 1)))
        return PathDraws(periods, trials, checked_seed(seed), dt, antithetic, matching, uncertain)

    @property
    def start_value(self) -> float:
        """The last known value before the first period."""
        return float(getattr(self, "start", 1.0))

    def _logs(self, shocks: Floats, dt: float, at: Any) -> Floats:
        """Return the logarithm of value over start after each period, where that is cheaper than
        the values.
        """
        return np.log(self._evolve(shocks, dt, at) / self.start_value)

    @checked
    def expected(self, time: ArrayLike) -> float | Floats:
        """Return the expected value after a time, or times; raises ParameterError where no closed
        form is known.
        """
        raise ParameterError(
            "its mean has no closed form here; average simulated paths", owner=type(self).__name__
        )

    def _expected_values(self, periods: int, dt: float) -> Floats:
        """Return the expected values ``(periods,)`` after 1, 2, ... ``periods`` of a length."""
        return np.asarray(self.expected(dt * np.arange(1, periods + 1)))

    def _closed_form_at(self, time: float) -> Distribution | None:
        """Return the distribution of the value after a time in closed form, None where there is
        none.
        """
        return None

    @checked
    def distribution_at(
        self,
        time: Positive,
        *,
        uncertain: bool = False,
        trials: int = TRIALS,
        seed: Seed = 0,
        steps: int = STEPS,
    ) -> Distribution:
        """Return the distribution of the value after a time: closed where there is one, of
        simulated values otherwise.

        After a fit, ``uncertain`` draws the parameters too, which widens it by what the fit leaves
        open. Its ``plot(mark=...)`` shows the density. Raises ParameterError for a time of 0 or
        less, and for ``uncertain`` without a fit.
        """
        closed = None if uncertain else self._closed_form_at(time)
        return (
            closed
            if closed is not None
            else Empirical(tuple(self._ends(time, trials, checked_seed(seed), steps, uncertain)))
        )

    def _ends(
        self, time: float, trials: int, seed: int, steps: int, uncertain: bool = False
    ) -> Floats:
        check_integer("steps", steps, least=1)
        count = self._periods_of(time, steps)
        draws = self._draws(count, trials, seed, time / count, False, False, uncertain)
        ends: Floats = np.empty(draws.trials)

        def fill(span: slice, values: Floats) -> None:
            ends[span] = values[-1]

        each_block(self, draws, fill)
        return ends

    def _periods_of(self, time: float, steps: int) -> int:
        """Return into how many periods a time is cut for simulation."""
        return steps

    @checked
    def chance(
        self,
        time: Positive,
        *,
        above: float | None = None,
        below: float | None = None,
        simulate: bool = False,
        trials: int = TRIALS,
        seed: Seed = 0,
        steps: int = STEPS,
    ) -> Estimate:
        """Return the chance that the value at a time is above, below, or between two figures (both
        strictly).

        In closed form where there is one, otherwise, or with ``simulate``, from paths. Its interval
        holds the sampling error and, after a fit, the error of the fit; its ``note`` says whose
        chance it is. Raises ParameterError without a figure.
        """
        above, below, _ = chance_bounds(above, below)
        low, high = -np.inf if above is None else above, np.inf if below is None else below
        closed = not simulate and self._closed_form_at(time) is not None
        options = {
            name: value for name, value in (("above", above), ("below", below)) if value is not None
        }

        seed = checked_seed(seed)

        def of(process: Process, size: int) -> Estimate:
            distribution = process._closed_form_at(time) if closed else None
            if distribution is not None:
                return Estimate(distribution.chance(**options))
            ends = process._ends(time, size, seed, steps)
            return proportion((ends > low) & (ends < high))

        return self._estimated(lambda process, size: as_chance(of(process, size)), closed, trials)

    @checked
    def percentile(
        self, time: Positive, q: float, *, trials: int = TRIALS, seed: Seed = 0, steps: int = STEPS
    ) -> Estimate:
        """Return a percentile of the value at a time; after a fit its interval includes the
        error of the fit.

        Raises ParameterError for a time of 0 or less, and a percentile outside 0 to 100.
        """
        seed = checked_seed(seed)
        if not 0 <= finite("q", q) <= 100:
            raise ParameterError(f"q must be from 0 to 100, not {q:g}")
        closed = self._closed_form_at(time) is not None
        return self._estimated(
            lambda process, size: process._percentile(time, q, size, seed, steps), closed, trials
        )

    def _percentile(self, time: float, q: float, trials: int, seed: int, steps: int) -> Estimate:
        closed = self._closed_form_at(time)
        if closed is not None:
            return Estimate(float(closed.quantile(q / 100)))
        ends = np.sort(self._ends(time, trials, seed, steps))
        reach = Z * np.sqrt(q / 100 * (1 - q / 100) / trials)
        low, high = np.quantile(ends, np.clip([q / 100 - reach, q / 100 + reach], 0, 1))
        return Estimate(float(np.percentile(ends, q)), float(low), float(high))

    @checked
    def estimate(self, figure: Callable[[Process], float], draws: int = FEW_DRAWS) -> Estimate:
        """Return a figure of this process, such as a mean drawdown, whose interval includes the
        error of the fit.

        ``figure`` is asked of this process and of ``draws`` others with parameters as the fit
        leaves them; a sampling error that it gives is heeded. Without a fit it is the figure alone.
        ``fitted.estimate(lambda one: one.max_drawdowns(250, 1000, seed=1).mean())`` is the mean
        maximum drawdown of 250 periods.
        """

        if not callable(figure):
            raise invalid_argument(
                "figure", "a function of a process that returns a number", figure
            )
        check_integer("draws", draws, least=20, most=MOST_DRAWS)

        def as_estimate(process: Process) -> Estimate:
            value = figure(process)
            return (
                value
                if isinstance(value, Estimate)
                else Estimate(number("what figure returns", value))
            )

        return with_estimation_error(self, as_estimate(self), as_estimate, draws, self.basis)

    def _estimated(
        self, figure: Callable[[Process, int], Estimate], closed: bool, trials: int
    ) -> Estimate:
        """Return a figure of this process and a number of trials, with the error of the fit."""
        draws, size = (DRAWS, trials) if closed else (FEW_DRAWS, FEW_TRIALS)
        return with_estimation_error(
            self, figure(self, trials), lambda item: figure(item, size), draws, self.basis
        )

    @checked
    def hit_probability(
        self,
        level: float,
        within: float,
        *,
        simulate: bool = False,
        trials: int = TRIALS,
        seed: Seed = 0,
        steps: int = STEPS,
    ) -> Estimate:
        """Return the chance that the value reaches a level at any moment before a time.

        By the reflection formula where it holds, otherwise, or with ``simulate``, from paths:
        between two steps the chance of a crossing is that of a Brownian bridge. After a fit the
        interval holds the error of the fit. Raises ParameterError for a level that cannot be
        reached.
        """
        within, level = positive("within", within), finite("level", level)
        check_integer("trials", trials, least=1)
        check_integer("steps", steps, least=1)
        check_memory(f"{trials:,} trials", 8.0 * trials)
        if self.multiplies and level <= 0:
            raise ParameterError(f"{type(self).__name__} stays above 0 and cannot reach {level:g}")
        closed = not simulate and self._closed_hit_probability(level, within) is not None

        seed = checked_seed(seed)

        def of(process: Process, size: int) -> Estimate:
            chance = process._closed_hit_probability(level, within) if closed else None
            if chance is not None:
                return Estimate(chance)
            return simulated_hit_probability(process, level, within, size, seed, steps)

        return as_chance(self._estimated(of, closed, trials))

    def _closed_hit_probability(self, level: float, within: float) -> float | None:
        """Return the chance of touching a level in closed form, None where there is none."""
        return None

    def _shocks_behind(self, values: Floats, dt: float) -> Floats:
        """Return the shocks, of any scale, that made values ``dt`` apart."""
        moves: Floats = np.diff(np.log(values) if self.multiplies else values)
        return moves

    def _bridge(self, shocks: Floats, dt: float) -> Any:
        """Return the sd of the diffusion of each period, in the log where it multiplies; 0 where
        nothing happens in between.

        From the shocks that ``_evolve`` gets: a number, or one per period and trial.
        """
        return 0.0


def _one(values: Any, position: int) -> Any:
    """Return one draw of a parameter, or of several of one name; None where there is none."""
    if values is None:
        return None
    return (
        tuple(float(value[position]) for value in values)
        if isinstance(values, tuple)
        else float(np.asarray(values)[position])
    )


def accumulate(rows: Floats) -> Floats:
    """Add up rows over the periods, in place: row by row, which is far quicker than along
    columns.
    """
    for t in range(1, len(rows)):
        rows[t] += rows[t - 1]
    return rows


def in_order(series: Any) -> Any:
    """Return a series by date, the oldest first; one without dates as it is.

    Raises ParameterError for a date that is missing or given twice.
    """
    index = getattr(series, "index", None)
    if index is None or getattr(index, "dtype", None) is None or index.dtype.kind != "M":
        return series
    if index.hasnans:
        position = int(np.argmax(np.asarray(index.isna())))
        raise ParameterError(f"value {position} of the series has no date")
    if index.has_duplicates:
        twice = index[index.duplicated()][0]
        raise ParameterError(f"the series has two values at {twice:%Y-%m-%d}")
    return series.sort_index()


def check_moves(moves: Floats, volatility: float, how: str) -> None:
    """Raise ParameterError for moves of a series that are all alike, but for rounding."""
    if volatility <= 0 or float(np.ptp(moves)) <= 1e-12 * float(np.abs(moves).max()):
        raise ParameterError(f"the series {how} every period; there is no volatility to fit")


def observed(series: ArrayLike, dt: Any, above_zero: bool) -> tuple[Floats, float]:
    """Return a checked series of values and the length of its periods.

    Raises ParameterError for anything but a flat series of enough finite (and, for prices,
    positive) values that differ.
    """
    values = array_of("series", in_order(series))
    if values.ndim != 1:
        raise ParameterError(f"series must be flat, one value a period, not {values.shape}")
    if len(values) < OBSERVED:
        raise ParameterError(f"needs at least {OBSERVED} values, and the series has {len(values)}")
    if not np.isfinite(values).all():
        raise ParameterError(
            f"value {int(np.argmin(np.isfinite(values)))} of the series is not a finite number"
        )
    if above_zero and values.min() <= 0:
        raise ParameterError(
            f"value {int(np.argmin(values))} of the series is {values.min():g}; prices must be "
            "above 0"
        )
    if np.ptp(values) == 0:
        raise ParameterError(
            f"all values of the series are equal, {values[0]:g}; there is no volatility to fit"
        )
    return values, positive("dt", dt)
