"""Columns that were fitted together: their distributions, and how they move together."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from kindynos.fitting.jointly import SHARE, JointFit, tail_dependence
from kindynos.formatting import number, per_cent, short
from kindynos.reports.answers import opening
from kindynos.reports.page.of_fits import of_joint_fit
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_value
from kindynos.reports.tables import Words, table_of


def joint_fit(fitted: JointFit, notes: list[str]) -> Report:
    """Return the distribution of each column, Kendall's tau of each two, and the copulas."""
    frame = fitted.table()
    (first, second), tau = next(iter(fitted.tau.items()))
    words = [
        f"{fitted.verdict[:1].upper()}{fitted.verdict[1:]}. Kendall's tau of {first} and {second} "
        f"is {tau.value:.2f} ({tau.low:.2f} to {tau.high:.2f})."
    ]
    margins = table_of("Each column alone", "column", Words("distribution"), Words("parameters"))
    for name, ranking in fitted.margins.items():
        best = ranking.best
        stated = ", ".join(f"{key} {short(x)}" for key, x in best.fitted.estimates.items())
        margins.add_row(name, best.label, stated)
    share = f"{100 * SHARE:g} %"
    ends = (f"lowest {share}", f"highest {share}")
    pairs = table_of("Each two together", "columns", "tau", "low", "high", *ends)
    for pair, row in zip(fitted.tau, frame.to_dict("records"), strict=True):
        figures = [number(row[key], 0.01) for key in ("tau", "low", "high")]
        shared = [per_cent(row[key], 0) for key in ("lowest together", "highest together")]
        pairs.add_row(", ".join(pair), *figures, *shared)
    copulas = table_of("Copulas, by AIC", "copula", "AIC", "df", "lowest", "highest")
    rows = []
    for label, (aic, df) in sorted(fitted.copulas.items(), key=lambda item: item[1][0]):
        lower, upper = tail_dependence(label, tau.value, df)
        tail_cells = ("" if df is None else number(df), per_cent(lower, 0), per_cent(upper, 0))
        copulas.add_row(label, number(aic, 0.1), *tail_cells)
        tails = {"lower tail": lower, "upper tail": upper}
        rows.append({"copula": label, "aic": aic, "df": df, **tails})
    said = [
        *notes,
        "Rows share their dates: what is drawn of one column belongs to what is drawn of others",
        f"Lowest and highest: of the {share} at that end of one column, how many are there in the "
        "other too; of copulas in the limit. What they share at random is the share itself",
    ]
    parts: list[Any] = [*opening(words), margins, "", pairs, "", copulas]
    parts += ["", Text("\n".join(f"{note}." for note in said), style="dim")]
    stated_as = {name: repr(ranking.best) for name, ranking in fitted.margins.items()}
    return Report.of(
        parts,
        kind="joint-fit",
        heading=f"{', '.join(fitted.names[:-1])} and {fitted.names[-1]} together",
        facts=lambda: plain_value(
            {"verdict": fitted.verdict, "notes": notes, "margins": stated_as, "copulas": rows}
        ),
        tables=lambda: {"pairs": DataTable(frame, "pairs", "pairs")},
        view=lambda report: charts_view(report, of_joint_fit(fitted)),
    )
