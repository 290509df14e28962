"""Best weights as a terminal shows them, and as plain data."""

from __future__ import annotations

import math
from functools import partial
from typing import Any

import pandas as pd
from rich.console import Group
from rich.text import Text

from kindynos.formatting import number, per_cent, share_decimals, short, spoken, step_of
from kindynos.markets.allocation.allocation import Allocation
from kindynos.markets.allocation.before_after import BeforeAfter
from kindynos.markets.allocation.frontier import Frontier
from kindynos.markets.allocation.resampling import Resampled
from kindynos.markets.allocation.walk import WalkForward
from kindynos.reports.answers import allocation_answer, opening
from kindynos.reports.page.of_frontier import frontier_view, of_allocation
from kindynos.reports.prices import price_doubts, price_problems
from kindynos.reports.report import DataTable, Draw, Report
from kindynos.reports.summary import plain_value
from kindynos.reports.tables import FigureTable, Words, table_of

MOST_BINDING = 12
SHARES = ("chance of a loss", "mean maximum drawdown")
MOST_ROWS = 12


def allocated(
    allocation: Allocation,
    curve: Frontier,
    compared: BeforeAfter | None = None,
    sure: Resampled | None = None,
    walked: WalkForward | None = None,
) -> Report:
    """Return the weights, what holds them back, the frontier, before and after, and how sure they
    are.
    """
    prices = allocation.request.source.prices
    said = allocation_answer(allocation) + ([] if compared is None else [compared.verdict])
    parts = [
        *opening(said, price_doubts(prices)),
        _weights(allocation, compared),
        "",
        _figures(allocation),
    ]
    if len(allocation.binding()):
        parts += ["", _binding(allocation)]
    parts += ["", _frontier(curve)]
    if compared is not None:
        parts += ["", _before_after(compared)]
    if sure is not None:
        parts += ["", _resampled(sure), Text("\n".join(sure.sentences()))]
    if walked is not None:
        parts += ["", _walked(walked), Text(walked.verdict)]
    parts += ["", Text("\n".join(_notes(allocation, compared, sure)), style="dim")]
    parts += price_problems(prices)
    tables, figures = _tables_and_figures(allocation, curve, compared, sure, walked)
    return Report.of(
        parts,
        kind="allocation",
        facts=partial(_facts, allocation, sure, walked),
        tables=lambda: tables,
        figures=lambda: figures,
        result=allocation,
        view=lambda report: frontier_view(
            report, curve, allocation.weights, of_allocation(allocation, compared, sure, walked)
        ),
    )


def _tables_and_figures(
    allocation: Allocation,
    curve: Frontier,
    compared: BeforeAfter | None,
    sure: Resampled | None,
    walked: WalkForward | None,
) -> tuple[dict[str, pd.DataFrame | DataTable], dict[str, Draw]]:
    """Return the whole tables and the pictures of weights and of what was asked beside them."""
    tables: dict[str, pd.DataFrame | DataTable] = {
        "contributions": DataTable(allocation.contributions(), None, "weights"),
        "figures": allocation.table(),
        "binding": allocation.binding(),
        "frontier": curve.table(),
    }
    figures: dict[str, Draw] = {
        "frontier": partial(curve.plot, allocation, sure=sure),
        "frontier-weights": curve.plot_weights,
        "weights": allocation.plot,
    }
    if compared is not None:
        tables |= {
            "before and after": DataTable(compared.table(), "before and after", "before-after"),
            "trades": compared.trades(),
        }
        figures |= {
            "before-after": partial(compared.plot, "profit"),
            "max-drawdown": partial(compared.plot, "max_drawdown"),
        }
    if sure is not None:
        tables["resampled"], figures["resampled"] = sure.table(), sure.plot
    if walked is not None:
        tables["walk forward"] = DataTable(walked.table(), "walk forward", None)
        tables["values"] = DataTable(walked.values, None, "walk-forward")
        figures["walk-forward"] = walked.plot
    return tables, figures


def before_and_after(allocation: Allocation, compared: BeforeAfter) -> Group:
    """Return the weights and before and after alone."""
    return Group(_weights(allocation, compared), "", _before_after(compared))


def _percent(value: float) -> str:
    return f"{100 * value + 0.0:.1f} %"


def _weights(allocation: Allocation, compared: BeforeAfter | None) -> FigureTable:
    shares = allocation.contributions()
    today = allocation.today is not None
    columns = ["today", "best", "change"] if today else ["weight"]
    risks = ["share of variance today", "best"] if today else ["share of variance"]
    trades = (
        {} if compared is None else {str(name): row for name, row in compared.trades().iterrows()}
    )
    priced = all("shares" in row for row in trades.values()) and bool(trades)
    traded = ["trade in money", "in shares"] if priced else []
    table = table_of(
        f"Weights: {allocation.wanted}", "holding", *columns, *risks, *traded, scalable=True
    )
    for name, row in shares.iterrows():
        kinds = ("today", "best") if today else ("best",)
        weights = [row[f"weight, {kind}"] for kind in kinds]
        cells = [_percent(weight) for weight in weights] + (
            [f"{round(100 * (weights[1] - weights[0]), 1) + 0.0:+.1f}"] if today else []
        )
        cells += [_percent(row[f"share of risk, {kind}"]) for kind in kinds]
        if priced:
            trade = trades[str(name)]
            cells += [number(round(float(trade["money"]))), number(round(float(trade["shares"])))]
        table.add_row(str(name), *cells)
    return table


def _figures(allocation: Allocation) -> FigureTable:
    source = allocation.request.source
    figures = allocation.table()
    columns = list(figures.columns)
    yearly = [f"{label}, a year" for label in figures.columns] if source.per_year else []
    table = table_of(
        f"Figures each {source.period}, of the history or the moments", "", *columns, *yearly
    )
    for name, row in figures.iterrows():
        cells = [f"{value:.3f}" if name == "ratio" else per_cent(value, 3) for value in row]
        if yearly:
            power = {"mean": 1.0, "sd": 0.5, "ratio": 0.5}.get(str(name))
            scale = float(source.per_year or 1) ** (power or 0)
            shown = (
                f"{value * scale:.2f}" if name == "ratio" else per_cent(value * scale, 1)
                for value in row
            )
            cells += list(shown) if power else [""] * len(row)
        table.add_row(str(name), *cells)
    return table


def _binding(allocation: Allocation) -> FigureTable:
    aim, yearly = allocation.request.aim, allocation.request.source.per_year
    unit = spoken(str(aim.maximize or aim.minimize))
    by_year = yearly is not None and unit == "mean"
    table = table_of(
        f"What holds the weights back: the {unit}{' a year' if by_year else ''} would be better "
        "by so much if it were wider",
        "kind",
        Words("of"),
        "at",
        "better by",
        "if wider by",
    )
    for row in allocation.binding().head(MOST_BINDING).to_dict("records"):
        gain = float(row["gain"])
        shown = (
            "-"
            if math.isnan(gain)
            else per_cent(gain * (yearly or 1), 3)
            if by_year
            else short(gain)
        )
        wider = "1 % of itself" if row["kind"] == "limit" else "0.01"
        table.add_row(row["kind"], spoken(str(row["name"])), f"{row['value']:g}", shown, wider)
    return table


def _frontier(curve: Frontier) -> FigureTable:
    table = curve.table()
    names = curve.request.source.names
    replaced = spoken(curve.risk)
    exact = "its corners" if curve.risk == "sd" and len(table) != curve.points else "points of it"
    shown = table_of(
        f"The frontier of mean and {replaced}, each {curve.request.source.period}: {exact}",
        "mean",
        replaced,
        "ratio",
        *(name for name in names),
        numbers_first=True,
    )
    kept = (
        table
        if len(table) <= MOST_ROWS
        else table.iloc[sorted({round(i * (len(table) - 1) / 11) for i in range(12)})]
    )
    for _, row in kept.iterrows():
        figures = [per_cent(row["mean"], 3), per_cent(row[curve.risk], 3), f"{row['ratio']:.3f}"]
        shown.add_row(*figures, *(_percent(row[name]) for name in names))
    return shown


def _before_after(compared: BeforeAfter) -> FigureTable:
    money = compared.source.value != 1.0
    title = f"Before and after over {compared.span}, on the same {compared.before.size:,} draws"
    figures = ["today", "best", "difference", "of which by choosing"]
    if not compared.optimism.any():
        figures.pop()
    columns = [Words(""), *figures, "95 % error: the history", "the draws"]
    table = table_of(title, *columns, scalable=True, numbers_first=True)
    for name, row in compared.table().iterrows():
        share = name in SHARES or not money
        values = [e for e in (row["history error"], row["error"]) if not math.isnan(e)]
        step = None if share else step_of(max(values, default=0.0))
        decimals = share_decimals([max(values, default=0.0)])

        def shown(value: float, share: bool = share, step: Any = step, d: int = decimals) -> str:
            return per_cent(value, d) if share else number(value, step)

        errors = [
            "unknown" if math.isnan(row[c]) else f"± {shown(row[c], step=step_of(row[c]))}"
            for c in ("history error", "error")
        ]
        values = [row["before"], row["after"], row["difference"], row["optimism"]]
        table.add_row(str(name), *map(shown, values[: len(figures)]), *errors)
    if compared.cost:
        table.add_row(
            "cost of trades, once",
            "",
            number(round(compared.cost * compared.source.value)),
            *[""] * len(figures),
        )
    return table


def _resampled(sure: Resampled) -> FigureTable:
    table = table_of(
        f"How sure are these weights? {len(sure.draws):,} resampled histories",
        "holding",
        "weight",
        "average",
        "sd",
        "95 % interval",
    )
    for name, row in sure.table().iterrows():
        ends = f"{100 * row['low']:.1f} to {100 * row['high']:.1f} %"
        table.add_row(
            str(name), _percent(row["weight"]), _percent(row["average"]), _percent(row["sd"]), ends
        )
    return table


def _walked(walked: WalkForward) -> FigureTable:
    table = table_of(
        f"Out of sample: {len(walked.returns)} whole {walked.every}s, windows of {walked.window} "
        "returns",
        "rule",
        "mean a year",
        "sd a year",
        "maximum drawdown",
        "traded a year",
        "more than buy and hold",
    )
    for position, (name, row) in enumerate(walked.table().iterrows()):
        more = (
            ""
            if position == 1
            else f"{100 * row['more than buy and hold']:.1f} ± {100 * row['error of that']:.1f} %"
        )
        table.add_row(
            str(name),
            f"{100 * row['mean a year']:.1f} ± {100 * row['error']:.1f} %",
            _percent(row["sd a year"]),
            _percent(row["maximum drawdown"]),
            _percent(row["traded a year"]),
            more,
        )
    return table


def _notes(
    allocation: Allocation, compared: BeforeAfter | None, sure: Resampled | None
) -> list[str]:
    """Return what is to be said: where it starts from, limits that do not matter, and what was not
    met.
    """
    said = [f"Starts from {allocation.source}."]
    met = set(allocation.binding()["name"])
    period = allocation.request.source.period
    for name, limit in allocation.request.aim.limits.items():
        if name not in met:
            said.append(
                f"The limit {spoken(name)} {limit:g} does not bind; it is for one "
                f"{period}, as all figures are."
            )
    if (
        "value_at_risk" in allocation.request.aim.limits
        and allocation.request.source.returns is not None
    ):
        said.append(
            "The value at risk is kept within its limit by one on the expected shortfall; other "
            "weights may keep it with a higher mean."
        )
    if compared is not None and allocation.request.source.in_order:
        said.append(
            f"Before and after draw {period}s one by one, each holding from the distribution that "
            "fits it best."
        )
    if allocation.cost:
        spread = allocation.request.region.holding_period
        said.append(
            f"The cost of trades counts as spread over {spread:g} {period}s, for which the "
            "weights are held."
        )
    if sure is not None and sure.infeasible:
        said.append(
            f"In {sure.infeasible} resampled histories the limits could not be met; they took the "
            "least sd instead."
        )
    return said


def _facts(
    allocation: Allocation, sure: Resampled | None, walked: WalkForward | None
) -> dict[str, Any]:
    """Return the plain data beside the tables."""
    facts: dict[str, Any] = {
        "wanted": allocation.wanted,
        "source": allocation.source,
        "weights": {str(name): float(weight) for name, weight in allocation.weights.items()},
        "today": None
        if allocation.today is None
        else {str(name): float(weight) for name, weight in allocation.today.items()},
    }
    if sure is not None:
        facts["cannot tell"] = sure.sentences()
    if walked is not None:
        facts["verdict"] = walked.verdict
    return {key: plain_value(value) for key, value in facts.items()}


FLATTERED = (
    "Each point was chosen on the history that its figures come from, so they flatter it; "
    "Allocation.compare takes that part off for one choice of weights."
)


def frontier(curve: Frontier) -> Report:
    """Return a frontier: its points with their weights."""
    table = curve.table()
    risk = spoken(curve.risk)
    ends = [per_cent(float(table["mean"].iloc[position]), 3) for position in (0, -1)]
    said = f"The frontier goes from a mean of {ends[0]} to {ends[1]}, by the {risk}."
    return Report.of(
        [*opening([said]), _frontier(curve), Text(FLATTERED, style="dim")],
        kind="frontier",
        facts=lambda: {"source": curve.source},
        tables=lambda: {"frontier": table},
        figures=lambda: {"frontier": curve.plot, "frontier-weights": curve.plot_weights},
        result=curve,
        view=lambda report: frontier_view(report, curve),
    )


def holdings_table(allocation: Allocation) -> pd.DataFrame:
    """Return a table of holdings that commands read again: instrument and shares."""
    portfolio = allocation.portfolio()
    shares = (portfolio.values / portfolio.prices.frame.iloc[-1]).round(6)
    return pd.DataFrame({"instrument": portfolio.instruments, "shares": shares.to_numpy()})
