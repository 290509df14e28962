"""A forecast as a terminal shows it, and as plain data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import pandas as pd
from rich.text import Text

from kindynos.cells import Cell
from kindynos.fitting.forecast import YEAR, Forecast
from kindynos.fitting.series import SeriesRanking
from kindynos.formatting import number, per_cent, step_of
from kindynos.model.writing import driver_table
from kindynos.reports.answers import opening
from kindynos.reports.page import of_fits
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import Report, only_files
from kindynos.reports.summary import plain_value
from kindynos.reports.tables import CODE, DOUBT, FigureTable, table_of


def doubt_lines(ranking: SeriesRanking) -> list[Text]:
    """Return what looks wrong in a series, as lines below an answer."""
    return [Text(f"To check: {doubt}", style=DOUBT) for doubt in ranking.doubts]


def forecast_report(
    name: str, forecast: Forecast, above: Sequence[float] = (), notes: Sequence[str] = ()
) -> Report:
    """Return a forecast: the next period and the total in a sentence, the table of periods, and the
    process as a driver of a model file.
    """
    table = forecast.table()
    total, count = forecast.total(), min(YEAR, len(table))
    chances = {figure: forecast.chance(figure) for figure in above}
    shown = _periods(name, forecast, table, chances)
    lines = driver_table(_driver_name(name), forecast.process, _source(forecast), uncertain=True)
    verdict = forecast.ranking.verdict
    how = [f"{verdict[:1].upper()}{verdict[1:]}."]
    if forecast.process_name != forecast.ranking.names[0]:
        how = [f"The process is {forecast.process_name}, as named; {verdict}."]
    how += [f"{note}." for note in notes]
    if forecast.raised:
        how.append(
            f"{per_cent(forecast.raised)} of the values drawn lie below 0, where the series has "
            "none, and count as 0; a model says so with max(..., 0)."
        )
    how.append(
        f"{forecast.paths.shape[1]:,} paths with parameters drawn too, seed {forecast.seed}."
    )
    whole = table.assign(**{f"above {f:g}": list(c) for f, c in chances.items()})
    return Report.of(
        [
            *opening(
                _sentences(name, _written(table.index[0], forecast), table, total, count),
                doubt_lines(forecast.ranking),
            ),
            shown,
            "",
            Text("\n".join(how), style="dim"),
            "",
            Text("As a driver of a model file, its parameters drawn too:\n"),
            Text(lines.rstrip(), style=CODE),
        ],
        kind="forecast",
        facts=lambda: plain_value(
            {
                "column": name,
                **_facts(forecast, table, chances),
                "notes": list(notes),
                "total": {"periods": count, **total},
                "driver": lines,
            }
        ),
        tables=lambda: only_files(forecast=whole),
        figures=lambda: {"forecast": forecast.plot},
        view=lambda report: charts_view(report, of_fits.of_forecast(forecast)),
        result=forecast,
    )


def _facts(forecast: Forecast, table: pd.DataFrame, chances: Mapping[float, Any]) -> dict[str, Any]:
    """Return what the plain data say of a forecast and of its periods."""
    return {
        "process": forecast.process_name,
        "seed": forecast.seed,
        "raised to 0": forecast.raised,
        "verdict": forecast.ranking.verdict,
        "doubts": forecast.ranking.doubts,
        "ahead": [{"period": str(period)[:10], **row} for period, row in table.iterrows()],
        "chances": [
            {"above": figure, "period": str(period)[:10], "chance": float(chance)}
            for figure, values in chances.items()
            for period, chance in zip(table.index, values, strict=True)
        ],
    }


def _periods(
    name: str, forecast: Forecast, table: pd.DataFrame, chances: Mapping[float, Sequence[float]]
) -> FigureTable:
    """Return the coming periods with their ranges, and the chances above figures."""
    step = step_of(float(table["P75"].iloc[0] - table["P25"].iloc[0]) / 20)
    columns = ["period", "median", "50 % lie between", "90 % lie between"]
    columns += [f"above {figure:,.10g}" for figure in chances]
    title = f"The coming {len(table)} periods of {name}"
    shown = table_of(title, *columns, numbers_first=True)
    for position, (period, row) in enumerate(table.iterrows()):
        ends = [
            Cell.of(number(row[low], step), " to ", number(row[high], step))
            for low, high in (("P25", "P75"), ("P5", "P95"))
        ]
        shares = [per_cent(float(values[position]), 1) for values in chances.values()]
        shown.add_row(_written(period, forecast), number(row["P50"], step), *ends, *shares)
    return shown


def _written(period: object, forecast: Forecast) -> str:
    """Return a period as it is written: a month without its day, a year alone."""
    return str(period)[: {"month": 7, "year": 4}.get(str(forecast.ranking.series.every), 10)]


def _sentences(
    name: str, when: str, table: pd.DataFrame, total: pd.Series, count: int
) -> list[str]:
    """Return the next period and the total of the first in two sentences."""
    first = table.iloc[0]
    step = step_of(float(first["P75"] - first["P25"]) / 20)
    ends = f"{number(first['P5'], step)} and {number(first['P95'], step)}"
    sentences = [
        f"For {when} the forecast of {name} is {number(first['P50'], step)}; "
        f"with a chance of 90 % it lies between {ends}."
    ]
    if count > 1:
        wide = step_of(float(total["P75"] - total["P25"]) / 20)
        sentences.append(
            f"The total of the next {count} periods is {number(total['P50'], wide)} "
            f"({number(total['P5'], wide)} to {number(total['P95'], wide)})."
        )
    return sentences


def _driver_name(name: str) -> str:
    """Return a name that a model file may have."""
    word = "".join(letter if letter.isalnum() else "_" for letter in name).strip("_").lower()
    return word if word.isidentifier() else f"series_{word}"


def _source(forecast: Forecast) -> str:
    fitted = forecast.process.fitted
    return "" if fitted is None else fitted.description
