"""Printing a result as its command does: what ``show()`` of the results calls.

To add one: a function registered for its class, which derives from ``Reported``.
"""

from __future__ import annotations

from functools import singledispatch
from typing import Any

from kindynos.decisions.solve import CONSISTENT, Solution
from kindynos.errors import KindynosError
from kindynos.fitting.ranking import Ranking
from kindynos.fitting.series import SeriesRanking
from kindynos.fitting.track_record import TrackRecord
from kindynos.markets.backtesting import Backtest
from kindynos.markets.portfolio import LEVELS, Portfolio
from kindynos.reports import decisions, fits, markets, studies, text
from kindynos.reports import optimum as optima
from kindynos.reports.report import Report
from kindynos.results.read_trials import ReadTrials
from kindynos.results.run import Run
from kindynos.studies.comparison import Comparison
from kindynos.studies.goal import Goal
from kindynos.studies.optimum import Optimum
from kindynos.studies.sweep import Sweep

SEED = 1  # of what is simulated to be shown


def show(result: Any) -> None:
    """Print a result as its command does."""
    text.console().print(report_of(result))


@singledispatch
def report_of(result: Any) -> Report:
    """Return the report of a result; raises KindynosError for what has none."""
    raise KindynosError(f"show() has no report for {result!r:.60}")


report_of.register(Run, text.run)
report_of.register(Comparison, studies.comparison)
report_of.register(Sweep, studies.sweep)
report_of.register(Goal, studies.goal)
report_of.register(Optimum, optima.optimum)
report_of.register(TrackRecord, fits.track_record)
report_of.register(Backtest, markets.backtested)


@report_of.register
def _(solution: Solution) -> Report:
    options = {
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
def _(held: Portfolio) -> Report:
    return markets.risk(held, LEVELS, None, (None,), 1, whole=False)


@report_of.register
def _(found: ReadTrials) -> Report:
    return fits.trials(found, found.outcomes, None, None)
