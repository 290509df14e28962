"""Back-tests of all methods side by side, and the method for one figure."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import pandas as pd

from kindynos.errors import ParameterError
from kindynos.handed_out import HandsOutCopies
from kindynos.inference.intervals import Z
from kindynos.markets.backtesting import Backtest, period_of, rolling_backtest
from kindynos.markets.exposure import Exposure
from kindynos.markets.history_error import resampled_places
from kindynos.markets.method import MEASURES, Method
from kindynos.markets.methods import METHODS
from kindynos.processes.clustering import clustering_test

WINDOW = 250  # returns behind the first forecast, or half the history where it is shorter
FEWEST_TESTED = 100  # periods, below which methods cannot be told apart
FEWEST_STRETCHES = 50  # of several periods that do not overlap
USUAL = "historical"
# The method for one figure is the first of these that no test rejects. Their order is by the error
# of a value at risk of a record of known truth, which no back-test of a few exceptions can tell.
# Where moves may come in clusters the filtered method goes first: there the others are far off for
# the day to come, and it costs less where they do not (benchmarks/risk_coverage.py).
PREFERENCE = ("student", "filtered", "tail", "historical", "weighted", "normal", "cornish fisher")
CALM = 0.2  # p-value of the test of clusters from which they are not reckoned with
TESTS = ("Kupiec p-value", "independence p-value", "expected shortfall p-value")
REJECTED = 0.05 / len(TESTS)  # least p-value of the three, below which a method is rejected


@dataclass(frozen=True, eq=False)
class SupportedMethod(HandsOutCopies):
    """The method for one figure, with ``why``, and the back-tests of all, one row per method, over
    a ``horizon`` in periods.
    """

    method: str
    why: str
    backtests: pd.DataFrame
    horizon: int = 1


def all_backtests(
    exposure: Exposure,
    window: int,
    level: float,
    actual: pd.Series | None = None,
    growing: bool = False,
    horizon: int = 1,
) -> dict[str, Backtest]:
    """Return the back-test of each method that forecasts period by period."""
    methods: list[Method] = [kind() for kind in METHODS.values() if kind.rolling]
    by_name = {}
    for method in methods:
        try:
            by_name[method.label] = rolling_backtest(
                exposure, method, window, level, actual, growing, horizon
            )
        except ParameterError:
            if method.label == USUAL:
                raise
    return by_name


def backtest_table(tests: dict[str, Backtest]) -> pd.DataFrame:
    """Return a row for each method: periods tested, exceptions, expected, zone, p-values, and the
    supervisors' multiplier.
    """
    rows = {}
    for name, tested in tests.items():
        shortfall = tested.shortfall
        rows[name] = {
            "tested": tested.days,
            "exceptions": tested.exceptions,
            "expected": tested.expected,
            "zone": tested.zone,
            "Kupiec p-value": tested.kupiec.p_value,
            "independence p-value": tested.independence.p_value,
            "conditional p-value": tested.conditional.p_value,
            "expected shortfall p-value": math.nan if shortfall is None else shortfall.p_value,
            "multiplier": tested.multiplier,
        }
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("method")


def hardest_test(table: pd.DataFrame) -> pd.Series:
    """Return the least p-value of each method: below ``REJECTED`` its back-test rejects it."""
    return table[list(TESTS)].min(axis=1)


def supported_method(exposure: Exposure, level: float, horizon: int = 1) -> SupportedMethod:
    """Return the method for one figure: the first in the order of ``PREFERENCE``, of clustered
    returns the filtered one before it, that nothing in the data contradicts (or of all, where each
    is contradicted) and that its back-test does not reject; where all are rejected, the one whose
    hardest test has the greatest p-value.

    The tests are Kupiec's, of independence, and of the expected shortfall, each at a third of 5 %,
    so that one right method in twenty is rejected. Picking the greatest p-value instead would
    follow chance: all right methods pass. Each forecast that is tested is made as the figure is,
    from all returns before it, and is of the horizon where the history has enough stretches of it,
    else of one period. Of short histories it is the historical method.
    """
    count = len(exposure.losses)
    window = min(WINDOW, count // 2)
    if (count - window) // horizon < FEWEST_STRETCHES:
        horizon = 1
    unit = exposure.spacing.unit
    if count - window < FEWEST_TESTED:
        why = f"{count} returns are too few to test methods against each other"
        return SupportedMethod(USUAL, why, pd.DataFrame())
    table = backtest_table(all_backtests(exposure, window, level, growing=True, horizon=horizon))
    table["hardest test"] = hardest_test(table)
    order: tuple[str, ...] = PREFERENCE
    if clustering_test(exposure.losses) < CALM:
        order = ("filtered", *(name for name in PREFERENCE if name != "filtered"))
    offered = [name for name in order if name in table.index]
    free = [name for name in offered if not METHODS[name]().doubt(exposure)]
    hardest = table.loc[free or offered, "hardest test"]
    passed = hardest[hardest >= REJECTED]
    among = "that nothing in the data contradicts" if free else "offered"
    tested = (
        f"over {int(table['tested'].iloc[0]):,} {period_of(exposure, horizon)}s, each forecast "
        f"from all {unit}s before it, at least {window}"
    )
    if len(passed):
        text = str(passed.index[0])
        why = (
            f"of the methods {among} it is the most accurate that passes its back-tests "
            f"({tested}; least p = {float(passed.iloc[0]):.2g})"
        )
    else:
        text = str(hardest.idxmax())
        why = (
            f"back-tests reject each of the methods {among}, and this one least ({tested}; "
            f"p = {float(hardest.max()):.2g})"
        )
    return SupportedMethod(text, why, table, horizon)


def paired_change(
    before: Exposure, after: Exposure, method: Method, level: float, horizon: int
) -> pd.DataFrame:
    """Return value at risk and expected shortfall before and after a change of holdings, and the
    difference with the 95 % interval that the history leaves of it: both are taken of the same
    histories drawn again.
    """
    if not method.rolling:
        raise ParameterError(f"{method.label!r} draws again; take another method")
    places = resampled_places(len(before.losses))
    rows = {}
    looked = [method.over(book, horizon) for book in (before, after)]
    drawn = [method.tail(book.losses[places], level, horizon) for book in (before, after)]
    for position, measure in enumerate(MEASURES):
        book, two = (taken.figure(e, measure, level, left) for taken, e, left in looked)
        reach = Z * float((np.asarray(drawn[1][position]) - drawn[0][position]).std(ddof=1))
        rows[measure.replace("_", " ")] = {
            "before": book,
            "after": two,
            "difference": two - book,
            "low": two - book - reach,
            "high": two - book + reach,
        }
    return pd.DataFrame.from_dict(rows, orient="index")
