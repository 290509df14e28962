"""What the assumptions of a model are worth: its figures under departures from what was stated, on
the same draws.

A run says how far a figure is off because its trials are few. Here ranges are wider, bad news comes
together, what is drawn each period stays, centres are less hopeful, shapes and tails are others.
Nothing is asked of the user: which way a driver hurts is its rank correlation with the outcome.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np
import pandas as pd

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.distributions.base import Distribution
from kindynos.distributions.moved import Departure, moved
from kindynos.errors import ModelError
from kindynos.inference.estimates import Estimate
from kindynos.processes.mean_reverting import MeanReverting
from kindynos.program.correlations import Correlation
from kindynos.program.quantities import (
    DistributionDriver,
    Driver,
    Line,
    PickingDriver,
    ProcessDriver,
)
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.results.simulate import simulate
from kindynos.results.statistic_text import ParsedStatistic, parse_statistic
from kindynos.sampling.streams import checked_seed
from kindynos.studies.model_sweep import checked_outcome
from kindynos.studies.paired import Paired
from kindynos.units.reading import read_unit

SINGLE = 3  # drivers that get a row of their own
TAIL_DF = 4.0  # of the t copula of "tails together"
FARTHEST = 4.0  # sds that a driver is moved when a goal is sought
WIDTHS = ("volatility", "sd", "jump_sd")  # parameters of processes that are widths


@dataclass(frozen=True)
class RobustnessRequest:
    """What is asked: see ``Model.robustness``."""

    outcome: str
    figure: str | None = None
    wider: float = 1.5
    together: float = 0.3
    kept: float = 0.8
    centre: float = 0.25
    goal: float | None = None
    measured: str = ""  # how the factor of wider ranges is known, where it is measured


@dataclass(frozen=True, eq=False)
class Robustness(Reported):
    """Figures of an outcome as stated, and under departures from what was stated.

    ``stated`` has the figures by name. ``table`` has a row for each departure and figure: the
    value, the ``difference`` from the stated one, and its 95 % ends ``low`` and ``high``, which are
    those of the sampling. ``singles`` are the departures of single drivers. ``not_moved`` names
    what could not depart, and why; ``needed`` says, where a goal was given, the median of a driver
    at which the first figure reaches it, and the percentile that this is as stated.
    """

    outcome: str
    stated: dict[str, Estimate]
    table: pd.DataFrame
    singles: tuple[str, ...]
    not_moved: dict[str, str]
    trials: int
    seed: int
    unit: str | None = None
    better: str = "high"
    missed: str = ""  # which figure is the chance of missing the target, where there is one
    tail: str = ""  # which figure is the percentile on the bad side
    goal: float | None = None
    needed: pd.DataFrame = field(default_factory=pd.DataFrame)
    measured: str = ""  # how the factor of wider ranges is known, where it is measured

    def __repr__(self) -> str:
        first = next(iter(self.stated))
        return (
            f"<robustness of {self.outcome}: {first} {self.stated[first]!r} as stated; "
            f"{len(self.table.index.unique(0))} departures>"
        )

    def moved(self, figure: str) -> pd.DataFrame:
        """Return the rows of a figure, the largest difference first."""
        rows = self.table[self.table.index.get_level_values("figure") == figure].droplevel("figure")
        return rows.reindex(rows["difference"].abs().sort_values(ascending=False).index)

    @delegated_to("kindynos.plots", "robustness")
    def plot(self, figure: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw how far each departure moves a figure, the first where none is named."""


def robustness(
    statement: Statement, request: RobustnessRequest, options: SimulationOptions
) -> Robustness:
    """Return what departures make of an outcome's figures; raises ModelError for a model without
    drivers.
    """
    checked_outcome(statement, request.outcome)
    if not statement.program.drivers:
        raise ModelError("the model has no drivers whose assumptions could be other")
    seed = checked_seed(options.seed)
    options = replace(options, seed=seed)
    case = _Case.of(statement, request, options)
    changed = {
        name: other for name, other in case.departures().items() if other is not case.statement
    }
    rows: dict[tuple[str, str], dict[str, float]] = {}
    for done, (name, other) in enumerate(changed.items(), start=2):
        result = case.result(other)
        if options.progress is not None:
            options.progress(done, len(changed) + 1)
        for label, statistic in case.figures.items():
            gap = Paired(case.as_stated, result).statistic(
                statistic.name, *statistic.numbers, **statistic.options
            )
            rows[name, label] = {
                "value": float(statistic.read(result)),
                "difference": float(gap),
                "low": gap.low,
                "high": gap.high,
            }
    table = pd.DataFrame.from_dict(
        rows, orient="index", columns=["value", "difference", "low", "high"]
    )
    table.index = pd.MultiIndex.from_tuples(list(rows), names=["departure", "figure"])
    outcome = case.as_stated
    return Robustness(
        request.outcome,
        {label: statistic.read(outcome) for label, statistic in case.figures.items()},
        table,
        tuple(f"{name} x {request.wider:g}" for name in case.first),
        case.not_moved,
        options.trials,
        seed,
        outcome.unit,
        outcome.better or "high",
        "" if outcome.target is None else parse_statistic(_missing(outcome)).label,
        parse_statistic(_tail(outcome)).label,
        request.goal,
        case.needed() if request.goal is not None else pd.DataFrame(),
        request.measured,
    )


@dataclass(frozen=True, eq=False)
class _Case:
    """A model with what is known of it as stated."""

    statement: Statement
    request: RobustnessRequest
    options: SimulationOptions
    as_stated: Result
    ranks: dict[str, float]  # rank correlations with the outcome; 0 where the sign is not certain
    first: tuple[str, ...]
    not_moved: dict[str, str]
    figures: dict[str, ParsedStatistic]

    @classmethod
    def of(
        cls, statement: Statement, request: RobustnessRequest, options: SimulationOptions
    ) -> _Case:
        run = simulate(statement.program, replace(options, progress=None))
        result = run[request.outcome]
        table = run.sensitivity(request.outcome, "rank")
        correlations = table["rank correlation"]
        certain = correlations.abs() > table["error"].fillna(0.0)
        certain_correlations = correlations.where(certain, 0.0).fillna(0.0)
        ranks = {str(name): float(rank) for name, rank in certain_correlations.items()}
        not_moved = _fixed(statement, ranks)
        first = tuple(str(name) for name in table.index if name not in not_moved and ranks[name])
        return cls(
            statement,
            request,
            options,
            result,
            ranks,
            first[:SINGLE],
            not_moved,
            _figures(result, request.figure),
        )

    @property
    def hurts(self) -> float:
        """The direction of the outcome that hurts."""
        return 1.0 if self.as_stated.better == "low" else -1.0

    @property
    def open(self) -> list[str]:
        """The drivers that can depart."""
        return [name for name in self.ranks if name not in self.not_moved]

    def result(self, statement: Statement) -> Result:
        """Return the outcome of a changed model on the same draws."""
        settings = replace(self.options, keep=[self.request.outcome], progress=None)
        return simulate(statement.program, settings)[self.request.outcome]

    def departures(self) -> dict[str, Statement]:
        """Return the models of all departures by name; the stated one where nothing departs."""
        wider, plain = self.request.wider, self.statement
        wide = self.widened(self.open)
        named = {f"ranges x {wider:g}": wide}
        named |= {f"{name} x {wider:g}": self.widened([name]) for name in self.first}
        named |= {
            f"bad news together {self.request.together:g}": self.together(plain),
            f"kept from period to period {self.request.kept:g}": self.persistent(),
            f"worse centres, {self.request.centre:g} sd of the outcome": self.shifted(),
            "other shapes": self.departed(self.open, Departure(shape=True)),
            f"tails together t{TAIL_DF:g}": self.tails(),
        }
        if self.together(plain) is not plain and wide is not plain:
            named["ranges and together"] = self.together(wide)
        return named

    def widened(self, names: Sequence[str]) -> Statement:
        """Return the model with wider ranges of some drivers."""
        return self.departed(names, Departure(wider=self.request.wider))

    def departed(
        self, names: Sequence[str], by: Departure, shifts: dict[str, float] | None = None
    ) -> Statement:
        """Return the model with drivers after a departure, and shifts of their own."""
        changes: dict[str, Any] = {}
        for name in names:
            driver = self.statement.quantities[name]
            own = by if shifts is None else replace(by, shift=shifts[name])
            if isinstance(driver, ProcessDriver):
                periods = (self.statement.timeline.periods or 1) * driver.dt
                parts = _of_process(driver, own, periods)
                changes |= {f"{name}.{key}": value for key, value in parts.items()}
                continue
            picks = isinstance(driver, PickingDriver)
            stated = _sized(self.statement, name) if picks else driver
            distribution = _distribution_of(stated)
            if stated is not None and distribution is not None:
                unit = read_unit(stated.unit)
                money = unit is not None and unit.is_money
                other = moved(distribution, own, money)
                changes |= {} if other is None else {stated.name: other}
        return self.statement.replace(**changes) if changes else self.statement

    def shifted(self) -> Statement:
        """Return the model with centres so much worse that the outcome moves by about a share of
        its sd: each driver by the share times its rank correlation.
        """
        shifts = {
            name: self.request.centre * self.hurts * self.ranks[name] * self.of_average(name)
            for name in self.open
        }
        return self.departed(self.open, Departure(), shifts)

    def of_average(self, name: str) -> float:
        """Return the sd of the average over the periods of what is drawn each period, over its
        own; 1 of other drivers.
        """
        driver, n = self.statement.quantities[name], self.statement.timeline.periods
        if not isinstance(driver, DistributionDriver) or not driver.each_period or n is None:
            return 1.0
        lags, kept = np.arange(1, n), driver.serial or 0.0
        return math.sqrt((n + 2 * float(((n - lags) * kept**lags).sum())) / n**2)

    def together(self, model: Statement) -> Statement:
        """Return a model with bad news together: its correlations R become (1 - w) R + w s s', with
        s the signs in which drivers hurt, where these are certain.
        """
        weight, entries = self.request.together, model.correlations
        plain = [one for one in entries if _is_plain(one)]
        others = [one for one in entries if not _is_plain(one)]  # these stay as they are
        bound = {name for one in others for name in one.names}
        pairs = {
            pair: one.value or 0.0 for one in plain for pair in combinations(sorted(one.names), 2)
        }
        free = sorted(
            name
            for name in self.open
            if self.ranks[name] and name not in bound and _is_drawn(model.quantities[name])
        )
        for one, two in combinations(free, 2):
            if _each(model, one) == _each(model, two):  # drawn alike
                signs = np.sign(self.ranks[one]) * np.sign(self.ranks[two])
                pairs[one, two] = (1 - weight) * pairs.get((one, two), 0.0) + weight * float(signs)
        if not pairs or (len(free) < 2 and plain):
            return model
        added = [Correlation(pair, value, repair=True) for pair, value in pairs.items()]
        return replace(model, correlations=(*others, *added))

    def persistent(self) -> Statement:
        """Return the model in which what is drawn each period stays from one to the next, but for
        drivers whose copula is not the gaussian one, which leaves none.
        """
        entries = self.statement.correlations
        bound = {name for one in entries if one.copula != "gaussian" for name in one.names}
        changed = {
            name: replace(driver, serial=self.request.kept)
            for name, driver in self.statement.quantities.items()
            if name in self.open
            and name not in bound
            and isinstance(driver, DistributionDriver)
            and not isinstance(driver, PickingDriver)
            and driver.each_period
            and (driver.serial or 0.0) < self.request.kept
        }
        if not changed:
            return self.statement
        return replace(self.statement, quantities={**self.statement.quantities, **changed})

    def tails(self) -> Statement:
        """Return the model in which what is stated to move together does so in its tails too."""
        entries, drivers = self.statement.correlations, self.statement.quantities
        linked = {name for entry in entries for name in entry.names}
        kept = any(getattr(drivers[name], "serial", None) is not None for name in linked)
        alike = all(len({_each(self.statement, n) for n in one.names}) == 1 for one in entries)
        if not entries or kept or not alike or not all(map(_is_plain, entries)):
            return self.statement  # a t copula goes with neither
        changed = tuple(replace(entry, copula="t", df=TAIL_DF) for entry in entries)
        return replace(self.statement, correlations=changed)

    def needed(self) -> pd.DataFrame:
        """Return by driver the median at which the first figure is the goal, and the percentile
        that this is as stated; NaN where no such median is near.
        """
        from scipy.optimize import brentq

        statistic = next(iter(self.figures.values()))
        rows: dict[str, dict[str, Any]] = {}
        for name in self.first:
            driver = self.statement.quantities[name]
            if not isinstance(driver, DistributionDriver) or isinstance(driver, PickingDriver):
                continue

            def gap(shift: float, name: str = name) -> float:
                other = self.departed([name], Departure(shift=shift))
                return float(statistic.read(self.result(other))) - float(self.request.goal or 0.0)

            ends = [gap(-FARTHEST), gap(FARTHEST)]
            rows[name] = {"median": math.nan, "percentile as stated": math.nan, "unit": driver.unit}
            if ends[0] * ends[1] <= 0:
                shift = float(brentq(gap, -FARTHEST, FARTHEST, xtol=0.02))
                unit = read_unit(driver.unit)
                money = unit is not None and unit.is_money
                other = moved(driver.distribution, Departure(shift=shift), money)
                median = float((other or driver.distribution).quantile(0.5))
                rows[name] = {
                    "median": median,
                    "percentile as stated": 100 * float(driver.distribution.cdf(median)),
                    "unit": driver.unit,
                }
        frame = pd.DataFrame.from_dict(
            rows, orient="index", columns=["median", "percentile as stated", "unit"]
        )
        frame["unit"] = pd.Series([row["unit"] for row in rows.values()], frame.index, object)
        return frame.rename_axis("driver")  # of objects, since texts would make NaN of no unit


def _missing(result: Result) -> str:
    """Return the chance of missing the target, as a statistic."""
    side = "above" if result.better == "low" else "below"
    return f"chance {side} {result.target!r}".removesuffix(".0")


def _tail(result: Result) -> str:
    """Return the percentile on the bad side, as a statistic."""
    return f"percentile {95 if result.better == 'low' else 5}"


def _figures(result: Result, asked: str | None) -> dict[str, ParsedStatistic]:
    """Return what is asked for, the chance of missing the target, or the mean, and the percentile
    on the bad side.

    Raises ModelError where the mean is not finite and nothing else is asked for.
    """
    if asked is None and result.target is None and not math.isfinite(float(result.mean)):
        raise ModelError(
            f"the mean of {result.name} is not finite, as where it may never happen; name a "
            "figure, such as 'chance above 12', or give the outcome a target"
        )
    usual = "mean" if result.target is None else _missing(result)
    parsed = [parse_statistic(text) for text in (asked, usual, _tail(result)) if text is not None]
    return {statistic.label: statistic for statistic in parsed}


def _fixed(statement: Statement, ranks: dict[str, float]) -> dict[str, str]:
    """Return why drivers cannot depart, by name."""
    why = {}
    for name in ranks:
        driver = statement.quantities[name]
        if isinstance(driver, ProcessDriver):
            if not any(key in driver.process.parameters for key in WIDTHS):
                why[name] = "a process without a volatility"
        elif isinstance(driver, PickingDriver):
            if _distribution_of(_sized(statement, name)) is None:
                why[name] = "it only picks the draws of what is stated elsewhere"
        elif not isinstance(driver, DistributionDriver):
            why[name] = "its parameters are other quantities"
    return why


def _sized(statement: Statement, picking: str) -> Line | None:
    """Return the claims whose sizes a driver picks, None where it picks something else."""
    lines = (q for q in statement.quantities.values() if isinstance(q, Line) and q.events)
    return next((line for line in lines if line.events and line.events.picking == picking), None)


def _distribution_of(quantity: Any) -> Distribution | None:
    """Return the distribution of a driver, or of the sizes of claims, whose parameters are all
    stated.
    """
    stated = quantity.events if isinstance(quantity, Line) else quantity
    distribution = getattr(stated, "distribution", None)
    return distribution if isinstance(distribution, Distribution) else None


def _of_process(driver: ProcessDriver, by: Departure, periods: float) -> dict[str, float]:
    """Return the parameters of a process that depart, by name: its widths, and its drift or level.

    A shift is in sds of the level, or of the average growth.
    """
    process, had = driver.process, driver.process.parameters
    changes = {key: float(had[key]) * by.wider for key in WIDTHS if key in had and by.wider != 1}
    if by.shift and isinstance(process, MeanReverting):
        gap = by.shift * had["volatility"] / math.sqrt(2 * had["speed"])
        level = had["level"]
        changes["level"] = float(level * math.exp(gap) if had.get("log") else level + gap)
    elif by.shift and "drift" in had and "volatility" in had:
        changes["drift"] = float(had["drift"] + by.shift * had["volatility"] / math.sqrt(periods))
    return changes


def _is_plain(entry: Correlation) -> bool:
    return entry.kind == "rank" and entry.copula == "gaussian" and entry.tau is None


def _is_drawn(quantity: Any) -> bool:
    return isinstance(quantity, DistributionDriver) and isinstance(
        quantity.distribution, Distribution
    )


def _each(model: Statement, name: str) -> bool:
    driver = model.quantities[name]
    return isinstance(driver, Driver) and driver.each_period
