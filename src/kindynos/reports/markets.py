"""Risk tables and backtests as a terminal shows them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import number, per_cent
from kindynos.literals import ReturnPeriod, RiskMethod
from kindynos.markets.backtesting import Backtest
from kindynos.markets.methods import METHODS
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.prices import Prices
from kindynos.markets.simulation import Simulated
from kindynos.markets.stretches import Window
from kindynos.markets.supported import REJECTED, SupportedMethod, hardest_test
from kindynos.registry import declared_options
from kindynos.reports import risk_answer
from kindynos.reports.answers import backtest_answer, exceptions_sentence, opening
from kindynos.reports.page import of_risk
from kindynos.reports.page.charts import ThroughTime
from kindynos.reports.page.view import charts_view
from kindynos.reports.prices import price_doubts, price_problems
from kindynos.reports.report import DataTable, Draw, Report, only_files
from kindynos.reports.summary import plain_rows, plain_value
from kindynos.reports.tables import DOUBT, FigureTable, Words, decimals, table_from, table_of, whole

BROKEN = 3  # the exit status of a command where a limit is broken
ROLLING = 250  # returns behind each rolling figure
NOTHING_MORE = risk_answer.Asked()


def risk(
    portfolio: Portfolio,
    levels: Sequence[float],
    methods: Sequence[RiskMethod] | None,
    windows: Sequence[Window],
    horizon: int,
    benchmark: str | None = None,
    every: ReturnPeriod | None = None,
    *,
    whole: bool = True,
    asked: risk_answer.Asked = NOTHING_MORE,
    **options: Any,
) -> Report:
    """Return the risk of a portfolio: with ``whole`` the table of all methods, levels and windows
    and what each holding adds to the first, else the answer at a glance; what changes and shocks
    would do, a benchmark, and how the prices were read.
    """
    shaken = risk_answer.shaken(portfolio, asked)  # first: a wrong name ends it before long work
    table = portfolio.risk_table(levels, methods, windows, horizon, every, **options)
    supported = None if whole else _supported(portfolio, table, max(levels), every, horizon)
    method: Any = table.index[0][0] if supported is None else supported.method
    own = {
        name: value for name, value in options.items() if name in declared_options(METHODS[method])
    }
    if supported is not None:
        parts = risk_answer.full_contributions(portfolio, max(levels), method, horizon, every)
    else:
        parts = portfolio.contributions(
            max(levels), window=windows[0], method=method, horizon=horizon, every=every, **own
        )
    beside = portfolio.against(benchmark, windows[0], every) if benchmark else None
    used = risk_answer.limits_table(portfolio, table, method, parts, asked)
    further = {
        **_changed(portfolio, asked, max(levels), method, windows[0], horizon, every),
        **_shocked(shaken),
        **_of_terms(portfolio),
        **risk_answer.by_group(parts, asked),
        **({} if used is None else {"limits": (used, risk_answer.limits_shown(used))}),
    }
    shown: list[RenderableType] = [part for _, part in further.values() if part is not None]
    stated = _stated(table, levels, windows, horizon, every, options)
    spaced = [entry for part in shown for entry in ("", part)]
    sentence, *rest = (
        _risk_parts(portfolio, table, parts, beside, spaced, asked)
        if supported is None
        else _at_a_glance(portfolio, table, supported, parts, beside, spaced, asked)
    )
    return Report.of(
        [sentence, *risk_answer.limits_said(used), *rest],
        kind="risk",
        status=BROKEN if used is not None and (used["state"] == "breach").any() else 0,
        heading=f"What the holdings may lose over {table.attrs['spacing'].span(horizon)}",
        facts=lambda: (
            _risk_facts(portfolio, table, beside, stated)
            | ({} if supported is None else {"method": supported.method, "why": supported.why})
        ),
        tables=lambda: {
            "risk": table.assign(first=table["first"].astype(str), last=table["last"].astype(str)),
            "contributions": parts,
            **only_files(losses=portfolio.losses(method, windows[0], horizon, every, **own)),
            **({} if supported is None else {"backtests": supported.backtests}),
            **{name: frame for name, (frame, _) in further.items()},
        },
        figures=partial(_risk_pictures, portfolio, table, max(levels), method, every, own),
        glance=lambda: (
            () if supported is None else risk_answer.keys(portfolio, table, supported, asked)
        ),
        view=lambda report: charts_view(
            report,
            *of_risk.by_method(table, None if supported is None else supported.method),
            of_risk.of_holdings(parts),
            *of_risk.of_limits(used),
            *of_risk.of_shocks(shaken),
            *_tested(portfolio, supported, max(levels), every),
        ),
    )


def _tested(
    portfolio: Portfolio,
    supported: SupportedMethod | None,
    level: float,
    every: ReturnPeriod | None,
) -> Iterator[ThroughTime]:
    """Yield the back-test by which the method was chosen, if one was."""
    if supported is not None:
        yield of_risk.of_backtest(risk_answer.judging_backtest(portfolio, supported, level, every))


def _stated(
    table: pd.DataFrame,
    levels: Sequence[float],
    windows: Sequence[Window],
    horizon: int,
    every: ReturnPeriod | None,
    options: Mapping[str, Any],
) -> dict[str, Any]:
    """Return what was asked for, as plain data."""
    return {
        "levels": list(levels),
        "methods": list(dict.fromkeys(table.index.get_level_values("method"))),
        "windows": ["all" if window is None else window for window in windows],
        "horizon": horizon,
        "every": every,
        "seed": options.get("seed", Simulated.seed),
        "trials": options.get("trials", Simulated.trials),
        **options,
    }


def _at_a_glance(
    portfolio: Portfolio,
    table: pd.DataFrame,
    supported_method: SupportedMethod,
    parts: pd.DataFrame,
    beside: pd.Series | None,
    further: Sequence[RenderableType],
    asked: risk_answer.Asked,
) -> list[RenderableType]:
    """Return the answer, one figure by the chosen method, and what the holdings add."""
    span = table.attrs["spacing"].span(table.attrs["horizon"])
    return [
        *risk_answer.answer(portfolio, table, supported_method, asked),
        *price_doubts(portfolio.prices),
        "",
        risk_answer.figures(
            table, supported_method, f"Losses over {span}, by {supported_method.method}"
        ),
        "",
        *risk_answer.holdings(parts, span),
        *further,
        *_beside(beside),
        Text(f"{_meaning(portfolio, table)} All methods: --whole.", style="dim"),
        *price_problems(portfolio.prices),
    ]


def _supported(
    portfolio: Portfolio,
    table: pd.DataFrame,
    level: float,
    every: ReturnPeriod | None,
    horizon: int,
) -> SupportedMethod:
    """Return the method for one figure, of those in the table."""
    supported = portfolio.supported_method(level, every=every, horizon=horizon)
    methods = list(dict.fromkeys(table.index.get_level_values("method")))
    if supported.method in methods:
        return supported
    return replace(
        supported, method=str(methods[0]), why=f"{supported.method!r} has no figure here"
    )


Further = dict[str, tuple[pd.DataFrame, RenderableType | None]]


def _changed(
    portfolio: Portfolio,
    asked: risk_answer.Asked,
    level: float,
    method: RiskMethod,
    window: Window,
    horizon: int,
    every: ReturnPeriod | None,
) -> Further:
    """Return what changes of holdings would do: the data, and how they are shown."""
    if not asked.what_if:
        return {}
    span = portfolio.prices.every(every).spacing.span(horizon)
    rolling = method if METHODS[method].rolling else "historical"
    change = portfolio.what_if(asked.what_if, level, rolling, window, horizon, every)
    return {"what if": (change, risk_answer.changed(change, asked, span))}


def _of_terms(portfolio: Portfolio) -> Further:
    """Return how positions move with their terms; nothing of instruments, which have none."""
    if portfolio.book.in_proportion:
        return {}
    terms = portfolio.sensitivities()
    return {"sensitivities": (terms, risk_answer.sensitivities_shown(terms))}


def _shocked(results: Mapping[str, pd.DataFrame]) -> Further:
    """Return what shocks would do, by name: the data, and how they are shown, all together."""
    shown = risk_answer.stressed(results) if results else None
    return {
        f"stress: {name}": (result, shown if position == 0 else None)
        for position, (name, result) in enumerate(results.items())
    }


def _risk_pictures(
    portfolio: Portfolio,
    table: pd.DataFrame,
    level: float,
    method: RiskMethod,
    every: ReturnPeriod | None,
    own: dict[str, Any],
) -> dict[str, Draw]:
    from kindynos import plots
    from kindynos.markets.return_series import returns

    pictures: dict[str, Draw] = {
        "risk": partial(plots.risk_levels, table, level),
        "prices": partial(plots.prices_rebased, portfolio.prices),
    }
    frame = portfolio.prices.frame
    moving = [name for name in portfolio.instruments if frame[name].nunique() > 1]
    if moving:
        together = returns(portfolio.prices.subset(moving), every=every)
        pictures["correlation"] = partial(plots.correlation_map, together)
    if portfolio.book.in_proportion:
        pictures["allocation"] = partial(plots.allocation, portfolio)
    values = portfolio.constant_value()
    if values.min() > 0:
        pictures["underwater"] = partial(plots.underwater, values)
    if METHODS[method].rolling:
        size = min(ROLLING, len(portfolio.exposure(every=every).losses) // 2)
        through_time = portfolio.rolling(size, level, method, every, **own)
        pictures["rolling"] = partial(plots.rolling_risk, through_time)
    return pictures


def _risk_facts(
    portfolio: Portfolio, table: pd.DataFrame, beside: pd.Series | None, stated: dict[str, Any]
) -> dict[str, Any]:
    compared = None
    if beside is not None:
        compared = {
            str(name): {"value": float(f), "low": f.low, "high": f.high}
            for name, f in beside.items()
        }
    return {
        "record": {**portfolio.record(), "options": stated},
        "value": portfolio.value,
        "prices": portfolio.prices.description,
        "problems": plain_rows(portfolio.prices.problems.astype(str)),
        "horizon": table.attrs["horizon"],
        "period": table.attrs["spacing"].unit,
        "contributions": None,  # where there are some, its table takes this place
        "benchmark": compared,
    }


def _risk_parts(
    portfolio: Portfolio,
    table: pd.DataFrame,
    parts: pd.DataFrame,
    beside: pd.Series | None,
    further: Sequence[RenderableType],
    asked: risk_answer.Asked,
) -> list[RenderableType]:
    horizon, spacing = table.attrs["horizon"], table.attrs["spacing"]
    span = spacing.span(horizon)
    title = f"Losses of holdings worth {number(round(portfolio.value))} over {span}"
    columns = [Words("method"), "window", "1 in", "value at risk", "95 % interval"]
    shown = table_of(
        title,
        *columns,
        "%",
        "expected shortfall",
        "95 % interval",
        "%",
        keys=3,
        scalable=True,
        together=3,
        numbers_first=True,
    )
    notes, marked = _doubts(table)
    last = None
    for (method, window, level), (_, row) in zip(table.index, table.iterrows(), strict=True):
        cells = [
            cell
            for name in risk_answer.MEASURES
            for cell in (*risk_answer.with_interval(row, name), f"{row[f'{name} %']:.2f}")
        ]
        same = (method, window) == last
        last = (method, window)
        label = f"{method} *" if str(method) in marked else str(method)
        shown.add_row(
            "" if same else label,
            "" if same else f"{row['returns']}",
            f"{1 / (1 - level):.3g}",
            *cells,
        )
    notes += [
        Text(f"Left out: {name.replace(', all', '')}. {reason}.")
        for name, reason in table.attrs["left out"].items()
    ]
    return [
        Text(risk_answer.range_answer(portfolio, table, asked)),
        *price_doubts(portfolio.prices),
        "",
        shown,
        *notes,
        *_sampled(table),
        *_added(parts, span),
        *further,
        *_beside(beside),
        Text(_meaning(portfolio, table), style="dim"),
        *price_problems(portfolio.prices),
    ]


def _meaning(portfolio: Portfolio, table: pd.DataFrame) -> str:
    """Return what the figures mean, what shares are of, and which returns are behind them."""
    horizon, spacing = table.attrs["horizon"], table.attrs["spacing"]
    base, base_name = table.attrs["base"]
    of_gross = (
        f" Shares in per cent are of the gross exposure of {number(round(base))}, since short "
        "holdings are set against long ones in the value."
        if base_name != "value"
        else ""
    )
    first, end = table["first"].min(), table["last"].max()
    return (
        "A value at risk is a loss exceeded on about 1 "
        f"{spacing.stretch(horizon)} in as many as its column '1 in' says, not the most that can "
        "be lost. The intervals include the estimation error; 'at least' means that it does not "
        f"bound the figure from above.{of_gross} Returns from {first:%Y-%m-%d} to {end:%Y-%m-%d}; "
        f"{portfolio.prices.description}."
    )


def _added(parts: pd.DataFrame, span: str) -> list[RenderableType]:
    """Return what each holding adds to the first figure."""
    often = f"{1 / (1 - parts.attrs['level']):.3g}"
    adds = table_from(
        f"What each holding adds to the value at risk, 1 in {often}, {parts.attrs['method']}, "
        f"over {span}",
        parts.rename_axis("holding"),
        {
            "holding": "holding",
            "value": whole("value"),
            "adds": whole("component"),
            "share": risk_answer.share_of,
            "without it less by": whole("incremental"),
        },
    )
    return ["", adds]


def _beside(beside: pd.Series | None) -> list[RenderableType]:
    """Return how the holdings would have gone with a benchmark."""
    if beside is None:
        return []
    table = table_of(f"Today's holdings beside {beside.name}", "", "value", "95 % interval")
    for name, figure in beside.items():
        shown = per_cent if str(name).endswith("a year") else _two_decimals
        label = str(name).replace(" a year", ", a year")
        table.add_row(label, shown(float(figure)), f"{shown(figure.low)} to {shown(figure.high)}")
    return ["", table]


def _two_decimals(value: float) -> str:
    return f"{round(value, 2) + 0.0:.2f}"  # without a sign before 0


def _doubts(table: pd.DataFrame) -> tuple[list[Text], set[str]]:
    """Return what in the data contradicts which methods, a line each, and the names of these
    methods.
    """
    rows = table[table["doubt"] != ""].reset_index().drop_duplicates(["method", "window"])
    several = table.index.get_level_values("window").nunique() > 1
    by_name: dict[str, list[str]] = {}
    for method, window, doubt in zip(rows["method"], rows["window"], rows["doubt"], strict=True):
        where = (
            "" if not several else " (whole history)" if window == "all" else f" (window {window})"
        )
        by_name.setdefault(str(doubt), []).append(f"{method}{where}")
    return [Text(f"* {', '.join(names)}: {doubt}.") for doubt, names in by_name.items()], set(
        map(str, rows["method"])
    )


def _sampled(table: pd.DataFrame) -> list[Text]:
    """Return a line on the part of the intervals that the number of simulated days decides."""
    errors = table["value at risk sampling error"]
    if not (errors > 0).any():
        return []
    drawn = table[errors > 0]
    share = float(
        (
            drawn["value at risk sampling error"]
            / (drawn["value at risk high"] - drawn["value at risk low"])
        ).max()
    )
    name = str(drawn.index[0][0])
    return [
        Text(
            f"Of the intervals of {name!r}, the number of its simulated paths decides at most "
            f"{200 * share:.0f} %.",
            style="dim",
        )
    ]


def backtest_table(table: pd.DataFrame, tested: Backtest, windows: str = "") -> FigureTable:
    """Return the back-tests of all methods side by side; what they share is that of one of them."""
    title = (
        f"Back-tests at {tested.level:g}, {windows or f'windows of {tested.window} returns'}, "
        f"{tested.days:,} {tested.unit}s, {tested.expected:.1f} exceptions expected"
    )
    return table_from(
        title,
        table.rename_axis("method"),
        {
            "method": "method",
            "exceptions": whole("exceptions"),
            Words("zone"): "zone",
            "Kupiec p": decimals("Kupiec p-value", 3),
            "independence p": decimals("independence p-value", 3),
            "both p": decimals("conditional p-value", 3),
            "shortfall p": decimals("expected shortfall p-value", 3),
            "multiplier": decimals("multiplier", 2),
        },
    )


def backtests(portfolio: Portfolio, table: pd.DataFrame, tested: Backtest) -> Report:
    """Return the back-tests of all methods side by side, and that of one of them in full."""
    note = (
        "A small p speaks against a method. The multiplier of capital is that of the supervisors' "
        "rule for the exceptions of the last 250 days at 99 %."
    )
    tested_table = backtested(tested, portfolio.prices)
    return Report.of(
        [
            *opening(
                backtest_answer(hardest_test(table), REJECTED, tested.days, tested.unit),
                [*_left_out(tested), *price_doubts(portfolio.prices)],
            ),
            backtest_table(table, tested),
            Text(note, style="dim"),
            *price_problems(portfolio.prices),
        ],
        kind="backtests",
        facts=lambda: {**tested_table.facts(), "record": portfolio.record()},
        tables=lambda: {"backtests": table, **tested_table.tables()},
        figures=tested_table.figures,
        view=lambda report: charts_view(report, of_risk.of_backtest(tested, tested.method)),
    )


def _left_out(tested: Backtest) -> list[Text]:
    """Return which actual profits were left out, a line each."""
    return [Text(note, style=DOUBT) for note in tested.notes]


def _verdict(tested: Backtest) -> FigureTable:
    """Return exceptions, the multiplier and the tests of one method."""
    window = "" if tested.window is None else f", window {tested.window}"
    title = f"{tested.method}{window}, level {tested.level:g}: {tested.zone} zone"
    table = table_of(title, "", "value", Words(""))
    table.add_row(f"{tested.unit}s tested", f"{tested.days:,}", "")
    table.add_row(
        "exceptions", str(tested.exceptions), f"{tested.expected:.1f} expected of right forecasts"
    )
    if not math.isnan(tested.multiplier):
        meaning = "of capital, by the supervisors' rule for the last 250 days"
        table.add_row("multiplier", f"{tested.multiplier:.2f}", meaning)
    tests = [
        ("Kupiec", tested.kupiec, "a small p: too many or too few exceptions"),
        (
            "independence",
            tested.independence,
            "a small p: exceptions come in clusters (Christoffersen)",
        ),
        ("both", tested.conditional, "a small p: one or the other"),
    ]
    if tested.shortfall is not None:
        tests.append(
            (
                "expected shortfall",
                tested.shortfall,
                "a small p: losses beyond were larger than forecast (its power at half as far "
                f"again: {per_cent(tested.shortfall_power(1.5))})",
            )
        )
    for name, verdict, meaning in tests:
        table.add_row(f"{name} p-value", f"{verdict.p_value:.3f}", meaning)
    return table


def backtested(tested: Backtest, prices: Prices | None = None) -> Report:
    """Return the verdict on a method, and the days it failed, with what is suspicious about the
    prices first.
    """
    hits = tested.table()[lambda frame: frame["exception"]]
    days = table_from(
        "Exceptions",
        hits.tail(15).rename_axis("date"),
        {
            "date": lambda row: str(row["date"])[:10],  # or the number of the day
            "loss": whole("loss"),
            "forecast": whole("value at risk"),
        },
    )
    hit_days = pd.DataFrame(hits.drop(columns="exception"))
    hit_days.index = hit_days.index.astype(str)
    left = len(hits) - 15
    description = (
        "The supervisors' zone is by the number of "
        f"exceptions{'' if left <= 0 else f'; {left} earlier {tested.unit}s are not shown'}."
        f"{'' if prices is None else f' Prices: {prices.description}.'}"
    )
    return Report.of(
        [
            *opening([exceptions_sentence(tested)], [*_left_out(tested), *price_doubts(prices)]),
            _verdict(tested),
            "",
            days,
            Text(description, style="dim"),
            *price_problems(prices),
        ],
        kind="backtest",
        heading=f"Back-test of value at risk by {tested.method}",
        facts=lambda: {
            "method": tested.method,
            "window": tested.window,
            "level": tested.level,
            **{str(name): plain_value(value) for name, value in tested.summary().items()},
            "unit": tested.unit,
            "notes": list(tested.notes),
            "suspicious prices": [] if prices is None else prices.doubts,
        },
        tables=lambda: {
            "exception days": DataTable(hit_days, "exception days", None),
            **only_files(backtest=tested.table()),
        },
        figures=lambda: {"backtest": tested.plot},
        view=lambda report: charts_view(report, of_risk.of_backtest(tested)),
    )
