"""The risk of holdings at a glance: the answer in a sentence, one figure by the method that is
supported best with the others as a range, what each holding adds, and what changes and shocks would
do.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import pandas as pd
from rich.console import Group, RenderableType
from rich.text import Text

from kindynos.formatting import between, number, per_cent, step_of
from kindynos.literals import ReturnPeriod, StressOthers
from kindynos.markets.backtesting import Backtest, rolling_backtest
from kindynos.markets.limits import WHOLE, Limit, figures_of, limits_used
from kindynos.markets.methods import METHODS, method_of
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.supported import USUAL, WINDOW, SupportedMethod
from kindynos.reports.tables import DOUBT, Words, table_from, table_of, whole

MEASURES = ("value at risk", "expected shortfall")


@dataclass(frozen=True)
class Asked:
    """What is asked beside the figures: changes of holdings in shares, named shocks, stretches of
    history to come again, the unit of money, limits, with the groups that they may be of, and
    whether what is not shocked follows.
    """

    what_if: Mapping[str, float] = field(default_factory=dict)
    shocks: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    replays: tuple[tuple[str, str], ...] = ()
    unit: str = ""
    limits: tuple[Limit, ...] = ()
    groups: Mapping[str, Mapping[str, str]] = field(default_factory=dict)  # by kind and holding
    others: StressOthers = "follow"  # what the instruments without a shock do

    def money(self, value: float, step: float | None = None) -> str:
        """Return an amount with its unit."""
        return f"{number(value, step)}{f' {self.unit}' if self.unit else ''}"


def limits_table(
    portfolio: Portfolio, table: pd.DataFrame, method: str, parts: pd.DataFrame, asked: Asked
) -> pd.DataFrame | None:
    """Return how far each limit is used, by the figures of a method at the highest level; None
    where there are no limits.
    """
    if not asked.limits:
        return None
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level")
    row = rows[rows.index.get_level_values("method") == method].iloc[0]  # of the first window
    whole = {name: float(row[name]) for name in ("value at risk", "expected shortfall")}
    whole["value"] = float(portfolio.value)
    return limits_used(list(asked.limits), figures_of(whole, parts, asked.groups))


def limits_said(used: pd.DataFrame | None) -> list[RenderableType]:
    """Return which limits are broken, the first after the answer, and how far all are used."""
    if used is None:
        return []
    rows = used.to_dict("records")
    scopes = {WHOLE: "the whole"}
    named = [f"{row['figure']} of {scopes.get(row['scope'], row['scope'])}" for row in rows]
    shares = [per_cent(row["use"], 0) for row in rows]
    broken = sum(row["state"] == "breach" for row in rows)  # the most used are first
    if not broken:
        text = f"All {len(rows)} limits hold; the most used, {named[0]}, is at {shares[0]}."
        return [Text(text)]
    pairs = zip(named[:broken], shares, strict=False)
    each = "; ".join(f"{name} is {share} of its limit" for name, share in pairs)
    count = f"{broken} of {len(rows)} limits {'is' if broken == 1 else 'are'} broken"
    return [Text(f"{count}: {each}.", style=f"bold {DOUBT}")]


def limits_shown(used: pd.DataFrame) -> RenderableType:
    """Return the table of all limits, the most used first."""
    shown = table_of("Limits", Words("figure"), Words("of"), "is", "limit", "use", Words(""))
    for row in used.to_dict("records"):
        written = per_cent if row["figure"].startswith("share") else _whole_number
        amounts = [written(row["is"]), written(row["limit"])]
        shown.add_row(row["figure"], row["scope"], *amounts, per_cent(row["use"], 0), row["state"])
    return shown


def _whole_number(amount: float) -> str:
    return number(round(amount))


def answer(
    portfolio: Portfolio, table: pd.DataFrame, supported_method: SupportedMethod, asked: Asked
) -> list[RenderableType]:
    """Return the answer in a sentence or two, and how the method was chosen."""
    horizon, spacing = table.attrs["horizon"], table.attrs["spacing"]
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level").droplevel("window")
    row = pd.Series(rows.loc[supported_method.method])
    step = step_within(row, "value at risk")
    often, unit = f"{1 / (1 - level):.3g}", spacing.stretch(horizon)
    low, high = float(row["value at risk low"]), float(row["value at risk high"])
    bounds = between(low, high, step, "{} or more")
    others = rows["value at risk"].drop(supported_method.method)
    said = (
        f"Over {spacing.span(horizon)} the holdings, worth {asked.money(round(portfolio.value))} "
        f"on {portfolio.prices.dates[-1]:%Y-%m-%d}, lose more than about "
        f"{asked.money(float(row['value at risk']), step)} ({bounds}) on 1 {unit} in {often}"
    )
    if len(others):
        said += (
            f"; the other {len(others)} methods say {number(float(others.min()), step)} to "
            f"{number(float(others.max()), step)}"
        )
    beyond = step_within(row, "expected shortfall")
    worst = f"{spacing.unit}s" if horizon == 1 else "stretches"
    why = f" The figure is that of the method {supported_method.method!r}: {supported_method.why}."
    if horizon > supported_method.horizon and len(supported_method.backtests):
        why += (
            f" Its back-test is of 1 {spacing.unit}: that losses over {spacing.span(horizon)} "
            f"follow from those is not tested."
        )
    doubt = str(row["doubt"])
    doubts = [Text(f"What contradicts it: {doubt}.", style=DOUBT)] if doubt else []
    return [
        Text(
            f"{said}. On these worst {worst} the loss is "
            f"{asked.money(float(row['expected shortfall']), beyond)} on average.{why}"
        ),
        *doubts,
    ]


def range_answer(portfolio: Portfolio, table: pd.DataFrame, asked: Asked) -> str:
    """Return the range of the value at risk by all methods and windows of a table in a sentence."""
    horizon, spacing = table.attrs["horizon"], table.attrs["spacing"]
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level")
    values = rows["value at risk"]
    step = step_within(pd.Series(rows.iloc[0]), "value at risk")
    ends = [asked.money(float(value), step) for value in (values.min(), values.max())]
    methods = list(dict.fromkeys(rows.index.get_level_values("method")))
    by = f"{len(methods)} methods" if len(methods) > 1 else f"the method {methods[0]!r}"
    loss = f"about {ends[0]}" if ends[0] == ends[1] else f"{ends[0]} to {ends[1]}"
    return (
        f"Over {spacing.span(horizon)} the holdings, worth {asked.money(round(portfolio.value))} "
        f"on {portfolio.prices.dates[-1]:%Y-%m-%d}, lose more than {loss} on 1 "
        f"{spacing.stretch(horizon)} in {1 / (1 - level):.3g}, by {by}."
    )


def keys(
    portfolio: Portfolio, table: pd.DataFrame, supported_method: SupportedMethod, asked: Asked
) -> list[tuple[str, str, str, bool]]:
    """Return the figures at a glance: both measures at the highest level, what other methods say,
    and what the holdings are worth.
    """
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level").droplevel("window")
    row, often = pd.Series(rows.loc[supported_method.method]), f"{1 / (1 - level):.3g}"
    spacing, horizon = table.attrs["spacing"], table.attrs["horizon"]
    figures: list[tuple[str, str, str, bool]] = []
    for name in MEASURES:
        step = step_within(row, name)
        low, high = float(row[f"{name} low"]), float(row[f"{name} high"])
        ends = f"{number(low, step)} to {number(high, step)}"
        note = ends if math.isfinite(high) else f"at least {number(low, step)}"
        label = f"{name[:1].upper()}{name[1:]}"
        label += f", 1 {spacing.stretch(horizon)} in {often}" if not figures else ""
        figures.append((label, number(float(row[name]), step), note, not figures))
    others = rows[MEASURES[0]].drop(supported_method.method)
    if len(others):
        step = step_within(row, MEASURES[0])
        ends = "–".join(number(float(end), step) for end in (others.min(), others.max()))
        figures.append((f"By the other {len(others)} methods", ends, "value at risk", False))
    worth = portfolio.value
    share = f"{100 * float(row[MEASURES[0]]) / worth:.1f} %" if worth > 0 else ""
    date = f"{portfolio.prices.dates[-1]:%Y-%m-%d}"
    figures.append(("The holdings are worth", asked.money(round(worth)), f"on {date}", False))
    if share:
        figures.append(("Value at risk of that", share, f"method {supported_method.method}", False))
    return figures


def step_within(row: pd.Series, name: str) -> float | None:
    """Return the step that the interval of a figure leaves meaningful."""
    value, low, high = (float(row[f"{name}{end}"]) for end in ("", " low", " high"))
    return step_of((high - low) / 2 if math.isfinite(high) else value - low)


def with_interval(row: pd.Series, name: str) -> list[str]:
    """Return a figure and its interval as they are shown."""
    step = step_within(row, name)
    return [
        number(float(row[name]), step),
        between(float(row[f"{name} low"]), float(row[f"{name} high"]), step),
    ]


def figures(table: pd.DataFrame, supported_method: SupportedMethod, title: str) -> RenderableType:
    """Return both measures at each level by the chosen method, beside the range of the others."""
    shown = table_of(
        title,
        "1 in",
        *[column for name in MEASURES for column in (name, "95 % interval", "other methods")],
        keys=1,
        together=3,
        numbers_first=True,
    )
    for level in sorted(set(table.index.get_level_values("level"))):
        rows = table.xs(level, level="level").droplevel("window")
        row, cells = pd.Series(rows.loc[supported_method.method]), []
        for name in MEASURES:
            step, others = step_within(row, name), rows[name].drop(supported_method.method)
            cells += [
                *with_interval(row, name),
                between(float(others.min()), float(others.max()), step) if len(others) else "",
            ]
        shown.add_row(f"{1 / (1 - level):.3g}", *cells)
    return shown


def share_of(row: Any) -> str:
    """Return the share of a row in per cent, a tiny one below 0 as 0.0 %."""
    return f"{round(100 * row['share'], 1) + 0.0:.1f} %"


def holdings(parts: pd.DataFrame, span: str) -> list[RenderableType]:
    """Return what each holding adds to both measures, the largest first, what it would lose alone,
    and the exposures.
    """
    often = f"{1 / (1 - parts.attrs['level']):.3g}"
    adds = table_from(
        f"What each holding adds, 1 in {often}, {parts.attrs['method']}, over {span}",
        parts.sort_values("component", ascending=False).rename_axis("holding"),
        {
            "holding": "holding",
            "value": whole("value"),
            "adds to value at risk": whole("component"),
            "share": share_of,
            "to expected shortfall": whole("shortfall component"),
            "alone": whole("alone"),
            "without it less by": whole("incremental"),
        },
    )
    gross, net = float(parts["value"].abs().sum()), float(parts["value"].sum())
    alone, total = float(parts["alone"].sum()), float(parts.attrs["total"])
    said = (
        f"Gross exposure {number(round(gross))}, net {number(round(net))}. The holdings' own "
        f"values at risk add up to {number(round(alone))}; together it is {number(round(total))}, "
        f"{100 * (1 - total / alone):.0f} % less."
        if alone > 0
        else f"Gross exposure {number(round(gross))}, net {number(round(net))}."
    )
    return [adds, Text(said)]


def by_group(
    parts: pd.DataFrame, asked: Asked
) -> dict[str, tuple[pd.DataFrame, RenderableType | None]]:
    """Return what each group and each currency adds, by the kind of grouping, where the holdings
    state some: the data, and how they are shown.
    """
    tables: dict[str, tuple[pd.DataFrame, RenderableType | None]] = {}
    sums = ["value", "component", "share", "shortfall component"]
    for kind, members in asked.groups.items():
        if not members:
            continue
        rest = "no group" if kind == "group" else asked.unit or "own currency"
        names = [members.get(str(name), rest) for name in parts.index]
        table = parts[[name for name in sums if name in parts]].groupby(names).sum()
        table = table.sort_values("component", ascending=False).rename_axis(kind)
        shown = table_from(
            f"What each {kind} adds to the value at risk",
            table,
            {
                kind: kind,
                "value": whole("value"),
                "adds": whole("component"),
                "share": share_of,
                **(
                    {"to expected shortfall": whole("shortfall component")}
                    if "shortfall component" in table
                    else {}
                ),
            },
        )
        tables[f"by {kind}"] = (table, shown)
    return tables


def full_contributions(
    portfolio: Portfolio, level: float, method: Any, horizon: int, every: ReturnPeriod | None
) -> pd.DataFrame:
    """Return what each holding adds to value at risk and expected shortfall, and its own value at
    risk alone.
    """
    options: dict[str, Any] = {"method": method, "horizon": horizon, "every": every}
    parts = portfolio.contributions(level, "value_at_risk", **options)
    beyond = portfolio.contributions(level, "expected_shortfall", **options)
    parts["shortfall component"] = beyond["component"]
    parts["alone"] = portfolio.values_at_risk_alone(level, method, horizon, every)
    return parts


def changed(change: pd.DataFrame, asked: Asked, span: str) -> RenderableType:
    """Return what a change of holdings does to both measures, with its paired interval."""
    named = ", ".join(f"{shares:+,g} {name}" for name, shares in asked.what_if.items())
    steps = [step_of(half) for half in (change["high"] - change["low"]) / 2]
    stepped = change.assign(step=pd.Series(steps, index=change.index))
    return table_from(
        f"With {named}, over {span}",
        stepped.rename_axis("measure"),
        {
            "": "measure",
            **{name: _stepped(name) for name in ("before", "after", "difference")},
            "95 % interval": lambda row: between(row["low"], row["high"], row["step"]),
        },
    )


def _stepped(name: str) -> Callable[[Any], str]:
    """Return what prints a column of a row to the row's step."""
    return lambda row: number(row[name], row["step"])


def sensitivities_shown(table: pd.DataFrame) -> RenderableType | None:
    """Return what a small move of each term of the positions earns; None without terms."""
    if not len(table):
        return None
    shown = table_of(
        "What a small move earns", Words("position"), Words("of"), "is", Words("a move of"), "earns"
    )
    last = None
    for (name, term), row in zip(table.index, table.to_dict("records"), strict=True):
        written = number if term == "underlying" else per_cent
        level = "" if pd.isna(row["at"]) else written(row["at"])
        money = number(row["money"], step_of(abs(row["money"]) / 100))
        shown.add_row("" if name == last else str(name), str(term), level, row["per"], money)
        last = name
    return shown


def shaken(portfolio: Portfolio, asked: Asked) -> dict[str, pd.DataFrame]:
    """Return what shocks and stretches of history would bring, by name."""
    results = {
        name: portfolio.stress(shocks, others=asked.others) for name, shocks in asked.shocks.items()
    }
    return results | {
        f"{first} to {last}": portfolio.replay(first, last) for first, last in asked.replays
    }


def judging_backtest(
    portfolio: Portfolio, supported: SupportedMethod, level: float, every: ReturnPeriod | None
) -> Backtest:
    """Return the back-test by which the method was judged: of growing windows, at its horizon."""
    exposure = portfolio.exposure(every=every)
    name = supported.method if METHODS[supported.method].rolling else USUAL
    window = min(WINDOW, len(exposure.losses) // 2)
    return rolling_backtest(
        exposure, method_of(name, {}), window, level, growing=True, horizon=supported.horizon
    )


def stressed(results: Mapping[str, pd.DataFrame]) -> RenderableType:
    """Return the profit of each holding under shocks and in stretches of history, a column
    each.
    """
    table = table_of("Profit or loss under shocks", "holding", *results)
    first = next(iter(results.values()))
    for holding in first.index:
        cells = [
            ""
            if holding not in result.index or pd.isna(result.loc[holding, "profit"])
            else number(round(float(result.loc[holding, "profit"])))
            for result in results.values()
        ]
        table.add_row(str(holding), *cells)
    table.add_row("all", *[number(round(result.attrs["profit"])) for result in results.values()])
    errors = [result.attrs.get("error", 0.0) for result in results.values()]
    if any(errors):
        shown = [number(error, step_of(error)) if error else "" for error in errors]
        table.add_row("± by the history", *shown)
    abroad = [Text(line, style="dim") for line in _abroad(results)]
    return Group(table, *abroad) if abroad else table


def _abroad(results: Mapping[str, pd.DataFrame]) -> list[str]:
    """Return of each holding in another currency how it moves in its own market and in all."""
    lines = []
    for label, result in results.items():
        if "own market" not in result:
            continue
        moved = result[(result["exchange rate"] != 0) & (result["value"] != 0)]
        parts = [
            f"{name} {per_cent(row['own market'], 1)} in its own market, the exchange rate "
            f"{per_cent(row['exchange rate'], 1)}, together {per_cent(row['return'], 1)}"
            for name, row in moved.iterrows()
        ]
        if parts:
            lines.append(f"{label}: {'; '.join(parts)}.")
    return lines
