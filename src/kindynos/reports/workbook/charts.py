"""Charts beside the tables of a workbook, drawn by the program that opens it."""

from __future__ import annotations

from typing import Any

import pandas as pd

from kindynos.formatting import spoken

MOST_BARS = 20
SERIES = {  # the tables that have a chart: its kind, the columns drawn, and its title
    "drivers": ("bar", ("rank correlation",), "What drives {}: rank correlation"),
    "rows": ("line", ("P5", "P25", "P50", "P75", "P95"), "{}: percentiles by period"),
    "percentiles": ("line", ("value",), "{} by percentile"),
}
GREYS = ("#9DB7CF", "#6B93BA", "#1F3F5F", "#6B93BA", "#9DB7CF")


def chart_of(book: Any, sheet: str, name: str, table: pd.DataFrame, levels: int) -> Any:
    """Return the chart of a table whose first ``levels`` columns are its index, for its first part;
    None of tables that have none.
    """
    if name not in SERIES or levels != 2 or not len(table):
        return None
    kind, columns, title = SERIES[name]
    places = [list(table.columns).index(column) for column in columns if column in table.columns]
    if not places:
        return None
    first = table.iloc[0, 0]
    count = int((table.iloc[:, 0] == first).sum())
    count = min(count, MOST_BARS) if kind == "bar" else count
    chart = book.add_chart({"type": kind})
    for position, colour in zip(places, GREYS if len(places) > 1 else GREYS[2:], strict=False):
        style = {"fill": {"color": colour}} if kind == "bar" else {"line": {"color": colour}}
        chart.add_series(
            {
                "name": str(table.columns[position]),
                "categories": [sheet, 1, 1, count, 1],
                "values": [sheet, 1, position, count, position],
                **style,
            }
        )
    chart.set_title({"name": title.format(spoken(str(first))), "name_font": {"size": 12}})
    if len(places) == 1:
        chart.set_legend({"none": True})
    if kind == "bar":
        chart.set_y_axis({"reverse": True, "label_position": "low"})
    chart.set_size({"width": 640, "height": 360})
    return chart
