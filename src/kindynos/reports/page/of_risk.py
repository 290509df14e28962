"""What a page shows of what holdings may lose: each method's figure, what the holdings add, limits,
shocks, and the back-test through time.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import Any

import pandas as pd

from kindynos.formatting import number, per_cent, step_of
from kindynos.markets.backtesting import Backtest
from kindynos.reports.page.charts import Bars, Row, ThroughTime, bars, shares, through_time


def by_method(table: pd.DataFrame, chosen: str | None) -> Iterator[Bars]:
    """Yield the value at risk at the highest level by each method, with its interval; none of a
    single figure.
    """
    level = max(table.index.get_level_values("level"))
    rows = table.xs(level, level="level")
    several = rows.index.get_level_values("window").nunique() > 1
    if len(rows) < 2:
        return
    figures = []
    for (method, window), (_, row) in zip(rows.index, rows.iterrows(), strict=True):
        value, low, high = (float(row[f"value at risk{end}"]) for end in ("", " low", " high"))
        step = step_of((high - low) / 2 if math.isfinite(high) else value - low)
        name = f"{method}, {window}" if several else str(method)
        name += " (chosen)" if method == chosen else ""
        bounded = (low, high if math.isfinite(high) else value)
        kind = "" if method == chosen or chosen is None else "less"
        figures.append(Row(name, 0.0, value, number(value, step), *bounded, kind=kind))
    spacing, horizon = table.attrs["spacing"], table.attrs["horizon"]
    often = f"1 {spacing.stretch(horizon)} in {1 / (1 - level):.3g}"
    remark = "The line at the end of a bar is its 95 % interval."
    yield bars(f"Lost or more on {often}, by method", figures, remark=remark)


def of_holdings(parts: pd.DataFrame) -> Bars:
    """Return what each holding adds to the figure."""
    return shares("What adds to it", dict(parts["share"].sort_values(ascending=False)))


def of_limits(used: pd.DataFrame | None) -> Iterator[Bars]:
    """Yield how far each limit is used, with a line where it is broken."""
    if used is None:
        return
    rows = [
        Row(
            f"{row['figure']}, {row['scope']}",
            0.0,
            float(row["use"]),
            per_cent(row["use"], 0),
            kind="hurts" if row["state"] == "breach" else "",
        )
        for row in used.to_dict("records")
    ]
    yield bars("How far limits are used", rows, line=1.0, remark="The line is the limit.")


def of_shocks(shocks: Mapping[str, pd.DataFrame]) -> Iterator[Bars]:
    """Yield what shocks and stretches of history would bring, with what the history leaves open."""
    if not shocks:
        return
    rows = []
    for name, result in shocks.items():
        profit, error = float(result.attrs["profit"]), float(result.attrs.get("error", 0.0))
        ends = (profit - error, profit + error) if error else (math.nan, math.nan)
        text = number(profit, step_of(error) if error else 1.0)
        rows.append(
            Row(
                name.replace("=", " "), 0.0, profit, text, *ends, kind="hurts" if profit < 0 else ""
            )
        )
    yield bars("Profit or loss under shocks", rows)


def of_backtest(tested: Backtest, whose: str = "") -> ThroughTime:
    """Return losses through time beside the value at risk that was forecast."""
    facts: Any = tested.table()
    remark = (
        f"{tested.exceptions} of {tested.days:,} losses were larger than forecast (circles); "
        f"{tested.expected:.1f} are due."
    )
    return through_time(
        f"Losses beside what was forecast{f', {whose}' if whose else ''}",
        facts.index,
        facts["loss"].to_numpy(),
        facts["value at risk"].to_numpy(),
        facts["exception"].to_numpy(),
        remark,
    )
