"""A validation report: what a reader who did not make a figure of risk needs to judge it by."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pandas as pd
from rich.console import RenderableType

from kindynos.errors import ParameterError
from kindynos.formatting import brief, per_cent
from kindynos.literals import ReturnPeriod
from kindynos.markets.backtesting import Backtest
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.stretches import Window
from kindynos.markets.supported import SupportedMethod
from kindynos.markets.verdicts import chance_of_rejection
from kindynos.reports import risk_answer
from kindynos.reports.markets import backtest_table
from kindynos.reports.page import of_risk
from kindynos.reports.page.view import charts_view
from kindynos.reports.prices import price_doubts, price_problems
from kindynos.reports.report import Report
from kindynos.reports.tables import FigureTable, Words, table_from, table_of, whole

SIZE = 0.05  # at which the number of exceptions is tested
TIMES = (1.0, 1.5, 2.0, 3.0)  # as many exceptions as are due, whose power is shown
WINDOWS = (250, 500)  # beside the whole history
FEW_DUE = 5  # exceptions, below which few wrong forecasts fail
WORST = 5  # losses of the history that are listed


def validated(
    portfolio: Portfolio,
    level: float,
    horizon: int,
    every: ReturnPeriod | None,
    asked: risk_answer.Asked,
) -> Report:
    """Return the validation of one figure: the data, the method and why, back-tests at the horizon
    and what they can see, other windows, the worst of the history, and what is not covered.
    """
    supported = portfolio.supported_method(level, every=every, horizon=horizon)
    table = portfolio.risk_table([level], None, [None], horizon, every)
    tested = risk_answer.judging_backtest(portfolio, supported, level, every)
    windows = _by_window(portfolio, supported, level, horizon, every)
    power = _power(tested)
    worst = _worst_losses(portfolio, every)
    shocks = risk_answer.shaken(portfolio, asked)
    shown: list[RenderableType] = [risk_answer.stressed(shocks), ""] if shocks else []
    limits = _limits(portfolio, supported, tested, horizon)
    parts: list[RenderableType] = [
        *risk_answer.answer(portfolio, table, supported, asked),
        *price_doubts(portfolio.prices),
        "",
        _data_table(portfolio, level, every),
        "",
        *_backtests(supported, tested),
        _power_table(power, tested),
        "",
        _windows_table(windows, supported, level),
        "",
        _worst_table(worst, portfolio),
        "",
        *shown,
        _limits_table(limits),
        *price_problems(portfolio.prices),
    ]
    return Report.of(
        parts,
        kind="validation",
        heading=f"Validation of the value at risk, 1 in {1 / (1 - level):.3g}",
        facts=lambda: {
            "record": portfolio.record(),
            "value": portfolio.value,
            "level": level,
            "horizon": horizon,
            "tested horizon": supported.horizon,
            "method": supported.method,
            "why": supported.why,
            "suspicious prices": portfolio.prices.doubts,
            "not covered": limits,
        },
        tables=lambda: {
            "risk": table.assign(first=table["first"].astype(str), last=table["last"].astype(str)),
            "backtests": supported.backtests,
            "power": power,
            "windows": windows,
            "worst": worst.assign(date=worst["date"].dt.strftime("%Y-%m-%d")),
            **{f"stress {name}": moves for name, moves in shocks.items()},
        },
        figures=lambda: {"backtest": tested.plot},
        view=lambda report: charts_view(
            report,
            *of_risk.by_method(table, supported.method),
            *of_risk.of_shocks(shocks),
            of_risk.of_backtest(tested),
        ),
    )


def _data_table(portfolio: Portfolio, level: float, every: ReturnPeriod | None) -> FigureTable:
    """Return which prices and holdings the figure is of."""
    exposure = portfolio.exposure(every=every)
    record: Mapping[str, Any] = portfolio.record()
    prices = portfolio.prices
    table = table_of(f"Value at risk at {level:g}: the data", Words(""), Words("value"))
    table.add_row("prices", str(record.get("prices") or "given in Python"))
    if record.get("checksum"):
        table.add_row("their checksum", str(record["checksum"])[:16])
    table.add_row("holdings", f"{len(portfolio.book.names)}, worth {brief(portfolio.value)}")
    first, last = exposure.dates[0], exposure.dates[-1]
    count = f"{len(exposure.losses):,}, each {exposure.spacing.unit}"
    table.add_row("returns", f"{count}, from {first:%Y-%m-%d} to {last:%Y-%m-%d}")
    table.add_row("missing prices", prices.description)
    table.add_row("doubtful prices", str(len(prices.doubts)) if prices.doubts else "none")
    table.add_row("version", f"kindynos {record['version']}")
    return table


def _backtests(supported: SupportedMethod, tested: Backtest) -> list[RenderableType]:
    if supported.backtests.empty:
        return []
    windows = f"growing windows of at least {tested.window} returns"
    return [backtest_table(supported.backtests, tested, windows), ""]


def _power(tested: Backtest) -> pd.DataFrame:
    """Return how often the test of the number of exceptions would reject forecasts by how wrong
    they are.
    """
    right = 1 - tested.level
    rows = {
        times: chance_of_rejection(tested.days, right, min(times * right, 1.0), SIZE)
        for times in TIMES
    }
    frame = pd.DataFrame({"rejected": pd.Series(rows)})
    return frame.rename_axis("exceptions, times those due")


def _power_table(power: pd.DataFrame, tested: Backtest) -> FigureTable:
    title = (
        f"What the test of the number of exceptions can see in {tested.days:,} {tested.unit}s, at "
        f"{100 * SIZE:g} %"
    )
    table = table_of(title, "exceptions, times those due", "rejected", Words(""))
    for times, chance in power["rejected"].items():
        meaning = "its size: right forecasts" if times == 1 else "its power"
        table.add_row(f"{float(str(times)):g}", per_cent(float(chance)), meaning)
    return table


def _by_window(
    portfolio: Portfolio,
    supported: SupportedMethod,
    level: float,
    horizon: int,
    every: ReturnPeriod | None,
) -> pd.DataFrame:
    """Return the figure by the same method from shorter windows, and from the worst stretch."""
    count = len(portfolio.exposure(every=every).losses)
    windows: list[Window] = [*(size for size in WINDOWS if size < count), None]
    method: Any = supported.method
    rows = {}
    for window in (*windows, "worst"):
        try:
            figure = portfolio.value_at_risk(level, method, window, horizon, every)
        except ParameterError:  # a window that the method cannot use
            continue
        label = "all" if window is None else str(window)
        ends = {"value at risk low": figure.low, "value at risk high": figure.high}
        rows[label] = {"value at risk": float(figure), **ends}
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("window")


def _windows_table(windows: pd.DataFrame, supported: SupportedMethod, level: float) -> FigureTable:
    title = f"Value at risk at {level:g} by {supported.method}, from other windows of the history"
    table = table_of(
        title, "returns behind it", "value at risk", "95 % interval", numbers_first=True
    )
    for label, row in windows.iterrows():
        name = "the worst stretch" if label == "worst" else str(label)
        table.add_row(name, *risk_answer.with_interval(row, "value at risk"))
    return table


def _worst_losses(portfolio: Portfolio, every: ReturnPeriod | None) -> pd.DataFrame:
    """Return the largest losses that today's holdings would have had in the history."""
    exposure = portfolio.exposure(every=every)
    losses = pd.Series(exposure.losses, exposure.dates, name="loss").nlargest(WORST)
    return losses.rename_axis("date").reset_index()


def _worst_table(worst: pd.DataFrame, portfolio: Portfolio) -> FigureTable:
    share = abs(portfolio.base[0])
    return table_from(
        "The largest losses of the history, for today's holdings",
        worst.set_index("date"),
        {
            "date": lambda row: f"{row['date']:%Y-%m-%d}",
            "loss": whole("loss"),
            f"share of the {portfolio.base[1]}": lambda row: per_cent(row["loss"] / share),
        },
    )


def _limits_table(limits: dict[str, str]) -> FigureTable:
    table = table_of("What the figure does not cover", Words(""), Words("what it leaves out"))
    for topic, limit in limits.items():
        table.add_row(topic, limit)
    return table


def _limits(
    portfolio: Portfolio, supported: SupportedMethod, tested: Backtest, horizon: int
) -> dict[str, str]:
    """Return what a reader must know that the figure leaves out, a sentence for each topic."""
    limits = {
        "trading": "Holdings are those of today, and are not traded over the horizon.",
        "selling": "Prices are those of the file: what it would cost to sell is not in them.",
        "the unseen": "A loss of a kind that the history does not hold is in no method.",
    }
    if tested.expected < FEW_DUE:
        limits["the test"] = (
            f"Only {tested.expected:.1f} exceptions are due in the {tested.days:,} {tested.unit}s, "
            "and few wrong forecasts fail such a test."
        )
    if horizon > supported.horizon:
        limits["the horizon"] = (
            f"The back-test is of 1 {tested.unit}; that losses over a horizon of {horizon} follow "
            "is not tested."
        )
    if len(portfolio.prices.problems):
        count = len(portfolio.prices.problems)
        limits["prices"] = f"{count} gaps and doubts were dealt with as listed below."
    return limits
