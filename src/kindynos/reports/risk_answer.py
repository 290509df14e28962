"""The risk of holdings at a glance: the answer in a sentence, one figure by the method that is
supported best with the others as a range, what each holding adds, and what changes and shocks would
do.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import number, step_of
from kindynos.literals import ReturnPeriod
from kindynos.markets.portfolio import Portfolio
from kindynos.markets.supported import SupportedMethod
from kindynos.reports.tables import DOUBT, table_of

MEASURES = ("value at risk", "expected shortfall")


@dataclass(frozen=True)
class Asked:
    """What is asked beside the figures: changes of holdings in shares, named shocks, stretches of
    history to come again, and the unit of money.
    """

    what_if: Mapping[str, float] = field(default_factory=dict)
    shocks: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    replays: tuple[tuple[str, str], ...] = ()
    unit: str = ""

    def money(self, value: float, step: float | None = None) -> str:
        """Return an amount with its unit."""
        return f"{number(value, step)}{f' {self.unit}' if self.unit else ''}"


def answer(
    held: Portfolio, table: pd.DataFrame, chosen: SupportedMethod, asked: Asked
) -> list[RenderableType]:
    """Return the answer in a sentence or two, and how the method was chosen."""
    horizon, spacing = table.attrs["horizon"], table.attrs["spacing"]
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level").droplevel("window")
    row = pd.Series(rows.loc[chosen.method])
    step = _step(row, "value at risk")
    often, unit = f"{1 / (1 - level):.3g}", spacing.stretch(horizon)
    low, high = float(row["value at risk low"]), float(row["value at risk high"])
    bounds = (
        f"{number(low, step)} to {number(high, step)}"
        if math.isfinite(high)
        else f"{number(low, step)} or more"
    )
    others = rows["value at risk"].drop(chosen.method)
    said = (
        f"Over {spacing.span(horizon)} the holdings, worth {asked.money(round(held.value))} on "
        f"{held.prices.dates[-1]:%Y-%m-%d}, lose more than about "
        f"{asked.money(float(row['value at risk']), step)} ({bounds}) on 1 {unit} in {often}"
    )
    if len(others):
        said += (
            f"; the other {len(others)} methods say {number(float(others.min()), step)} to "
            f"{number(float(others.max()), step)}"
        )
    beyond = _step(row, "expected shortfall")
    worst = f"{spacing.unit}s" if horizon == 1 else "stretches"
    why = f" The figure is that of the method {chosen.method!r}: {chosen.why}."
    doubt = str(row["doubt"])
    doubts = [Text(f"What contradicts it: {doubt}.", style=DOUBT)] if doubt else []
    return [
        Text(
            f"{said}. On these worst {worst} the loss is "
            f"{asked.money(float(row['expected shortfall']), beyond)} on average.{why}"
        ),
        *doubts,
    ]


def _step(row: pd.Series, name: str) -> float | None:
    value, low, high = (float(row[f"{name}{end}"]) for end in ("", " low", " high"))
    return step_of((high - low) / 2 if math.isfinite(high) else value - low)


def figures(table: pd.DataFrame, chosen: SupportedMethod, title: str) -> RenderableType:
    """Return both measures at each level by the chosen method, beside the range of the others."""
    shown = table_of(
        title,
        ("1 in", "right"),
        *[
            column
            for name in MEASURES
            for column in ((name, "right"), ("95 % interval", "right"), ("other methods", "right"))
        ],
        keys=1,
        together=3,
    )
    for level in sorted(set(table.index.get_level_values("level"))):
        rows = table.xs(level, level="level").droplevel("window")
        row, cells = pd.Series(rows.loc[chosen.method]), []
        for name in MEASURES:
            step, others = _step(row, name), rows[name].drop(chosen.method)
            low, high = float(row[f"{name} low"]), float(row[f"{name} high"])
            bounded = f"{number(low, step)} to {number(high, step)}"
            cells += [
                number(float(row[name]), step),
                bounded if math.isfinite(high) else f"at least {number(low, step)}",
                f"{number(float(others.min()), step)} to {number(float(others.max()), step)}"
                if len(others)
                else "",
            ]
        shown.add_row(f"{1 / (1 - level):.3g}", *cells)
    return shown


def holdings(parts: pd.DataFrame, span: str) -> list[RenderableType]:
    """Return what each holding adds to both measures, the largest first, what it would lose alone,
    and the exposures.
    """
    often = f"{1 / (1 - parts.attrs['level']):.3g}"
    adds = table_of(
        f"What each holding adds, 1 in {often}, {parts.attrs['method']}, over {span}",
        ("holding", "left"),
        ("value", "right"),
        ("adds to value at risk", "right"),
        ("share", "right"),
        ("to expected shortfall", "right"),
        ("alone", "right"),
        ("without it less by", "right"),
    )
    for name, row in parts.sort_values("component", ascending=False).iterrows():
        adds.add_row(
            str(name),
            number(round(row["value"])),
            number(round(row["component"])),
            f"{100 * row['share']:.1f} %",
            number(round(row["shortfall component"])),
            number(round(row["alone"])),
            number(round(row["incremental"])),
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


def full_contributions(
    held: Portfolio, level: float, method: Any, horizon: int, every: ReturnPeriod | None
) -> pd.DataFrame:
    """Return what each holding adds to value at risk and expected shortfall, and its own value at
    risk alone.
    """
    options: dict[str, Any] = {"method": method, "horizon": horizon, "every": every}
    parts = held.contributions(level, "value_at_risk", **options)
    beyond = held.contributions(level, "expected_shortfall", **options)
    parts["shortfall component"] = beyond["component"]
    alone: dict[str, float] = {}
    for name, shares in held.shares.items():
        if np.ptp(held.prices.frame[str(name)].to_numpy()) == 0:
            alone[str(name)] = 0.0
            continue
        own = Portfolio(held.market, shares={str(name): float(shares)}, short=True)
        alone[str(name)] = float(own.value_at_risk(level, method, horizon=horizon, every=every))
    parts["alone"] = pd.Series(alone)
    return parts


def changed(change: pd.DataFrame, asked: Asked, span: str) -> RenderableType:
    """Return what a change of holdings does to both measures, with its paired interval."""
    named = ", ".join(f"{shares:+,g} {name}" for name, shares in asked.what_if.items())
    table = table_of(
        f"With {named}, over {span}",
        ("", "left"),
        ("before", "right"),
        ("after", "right"),
        ("difference", "right"),
        ("95 % interval", "right"),
    )
    for name, row in change.iterrows():
        step = step_of((row["high"] - row["low"]) / 2)
        cells = [number(row[c], step) for c in ("before", "after", "difference", "low", "high")]
        table.add_row(str(name), *cells[:3], f"{cells[3]} to {cells[4]}")
    return table


def stressed(results: Mapping[str, pd.DataFrame]) -> RenderableType:
    """Return the profit of each holding under shocks and in stretches of history, a column
    each.
    """
    table = table_of(
        "Profit or loss under shocks", ("holding", "left"), *[(name, "right") for name in results]
    )
    first = next(iter(results.values()))
    for holding in first.index:
        cells = [
            ""
            if holding not in one.index or pd.isna(one.loc[holding, "profit"])
            else number(round(float(one.loc[holding, "profit"])))
            for one in results.values()
        ]
        table.add_row(str(holding), *cells)
    table.add_row("all", *[number(round(one.attrs["profit"])) for one in results.values()])
    return table
