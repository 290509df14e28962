"""Printing a result as its command does: what ``show()`` of the results calls.

To add one: a function registered for its class, which derives from ``Reported``.
"""

from __future__ import annotations

from dataclasses import replace
from functools import singledispatch
from typing import Any

from kindynos.cohorts.cohort import Cohort
from kindynos.cohorts.result import CohortResult
from kindynos.decisions.solve import CONSISTENT, Solution
from kindynos.distributions.base import Distribution
from kindynos.errors import KindynosError
from kindynos.fitting.counts import CountFit
from kindynos.fitting.forecast import Forecast
from kindynos.fitting.jointly import JointFit
from kindynos.fitting.ranking import Ranking
from kindynos.fitting.series import SeriesRanking
from kindynos.fitting.track_record import TrackRecord
from kindynos.formatting import titled
from kindynos.inference.estimates import Estimate, Estimates
from kindynos.markets.allocation.allocation import Allocation
from kindynos.markets.allocation.frontier import Frontier
from kindynos.markets.backtesting import Backtest
from kindynos.markets.portfolio import LEVELS, Portfolio
from kindynos.model.model import Model
from kindynos.processes.base import Process
from kindynos.reports import (
    allocation,
    decisions,
    fits,
    markets,
    models,
    quantities,
    studies,
    summaries,
)
from kindynos.reports import optimum as optima
from kindynos.reports.bridges import bridge_report
from kindynos.reports.console import console
from kindynos.reports.counts import counted
from kindynos.reports.forecasts import forecast_report
from kindynos.reports.frontier import frontier_report
from kindynos.reports.jointly import joint_fit
from kindynos.reports.origin import Origin, model_of, titles_of
from kindynos.reports.policy import policy_report
from kindynos.reports.report import Report
from kindynos.reports.robustness import robustness_report
from kindynos.reports.runs import run_report
from kindynos.results.read_trials import ReadTrials
from kindynos.results.result import Result, RowResult
from kindynos.results.run import Run
from kindynos.results.summary_run import SummaryRun
from kindynos.studies.bridge import Bridge
from kindynos.studies.comparison import Comparison
from kindynos.studies.frontier import ModelFrontier
from kindynos.studies.goal import Goal
from kindynos.studies.optimum import Optimum
from kindynos.studies.policy import Policy
from kindynos.studies.robustness import Robustness
from kindynos.studies.sweep import Sweep

POINTS = 25  # of a frontier
SEED = 1  # of what is simulated to be shown


def show(result: Any) -> None:
    """Print a result as its command does."""
    with titled(titles_of(result)):
        console().print(report_of(result))


def signed(result: Any, author: str = "", note: str = "") -> Report:
    """Return the report of a result, with who made it and the fingerprint of its model."""
    origin = Origin(author=author, note=note, model=model_of(result))
    return replace(report_of(result), origin=origin)


def to_json(result: Any) -> str:
    """Return the plain data of a result as JSON."""
    return signed(result).json()


@singledispatch
def report_of(result: Any) -> Report:
    """Return the report of a result; raises KindynosError for what has none."""
    raise KindynosError(f"show() has no report for {result!r:.60}")


report_of.register(Run, run_report)
report_of.register(SummaryRun, summaries.summarized)
report_of.register(Model, models.checked)
report_of.register(Estimate, quantities.estimate)
report_of.register(Estimates, quantities.estimates)
report_of.register(Result, quantities.result)
report_of.register(RowResult, quantities.row_result)
report_of.register(Distribution, quantities.distribution)
report_of.register(Process, quantities.process)
report_of.register(Cohort, quantities.cohort)
report_of.register(CohortResult, quantities.counts)
report_of.register(Comparison, studies.comparison)
report_of.register(Sweep, studies.sweep)
report_of.register(Goal, studies.goal)
report_of.register(Robustness, robustness_report)
report_of.register(Policy, policy_report)
report_of.register(ModelFrontier, frontier_report)
report_of.register(Bridge, bridge_report)
report_of.register(Optimum, optima.optimum)
report_of.register(JointFit, lambda fitted: joint_fit(fitted, []))
report_of.register(CountFit, lambda fitted: counted("what was counted", fitted, []))
report_of.register(TrackRecord, fits.track_record)
report_of.register(Backtest, markets.backtested)


@report_of.register
def _(solution: Solution) -> Report:
    options: dict[str, Any] = {
        "by": solution.by,
        "level": solution.level if solution.by == "percentile" else None,
        "trials": solution.trials,
        "seed": solution.draws.seed,
    }
    if solution.by not in CONSISTENT:
        return decisions.decided(solution, None, {})
    decision = solution.decision
    worth = decision.perfect_information(**options)
    return decisions.decided(solution, worth, {}, decision.worth_of_tests(**options))


@report_of.register
def _(ranking: Ranking) -> Report:
    return fits.distributions("values", ranking, ranking.best, [])


@report_of.register
def _(ranking: SeriesRanking) -> Report:
    return fits.series("series", ranking, ranking.names[0], ranking.horizon, SEED, [])


@report_of.register
def _(result: Forecast) -> Report:
    return forecast_report("series", result)


@report_of.register
def _(portfolio: Portfolio) -> Report:
    return markets.risk(portfolio, LEVELS, None, (None,), 1, whole=False)


@report_of.register
def _(result: Allocation) -> Report:
    request = result.request
    plain = replace(request, aim=replace(request.aim, maximize=None, minimize="sd", limits={}))
    return allocation.allocated(result, Frontier(plain, "sd", POINTS))


@report_of.register
def _(curve: Frontier) -> Report:
    return allocation.frontier(curve)


@report_of.register
def _(read_trials: ReadTrials) -> Report:
    return fits.trials(read_trials, read_trials.outcomes, None, None)
