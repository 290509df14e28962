"""How often something happens, as it was fitted to yearly counts."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from kindynos.fitting.counts import CountFit
from kindynos.formatting import brief, number, p_value, step_of
from kindynos.reports.answers import opening
from kindynos.reports.report import DataTable, Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import Words, table_of

MOST = 1e4  # a size from which the counts are as good as Poisson


def counted(name: str, fitted: CountFit, notes: list[str]) -> Report:
    """Return the rate, whether the years scatter, and each year beside what was expected."""
    of = "a year" if (fitted.exposure == 1).all() else "a unit of exposure"
    rate = fitted.rate
    interval = f"{rate.low:.3g} to {rate.high:.3g}"
    words = f"The rate of {name} is {rate.value:.3g} {of} ({interval}); {fitted.verdict}."
    fit = table_of(f"{name}: the rate", "", "value", Words("95 % interval"))
    fit.add_row(f"rate, {of}", number(rate.value, step_of(rate.error)), interval)
    fit.add_row("variance over mean", number(fitted.dispersion, 0.01), p_value(fitted.p))
    ends = [f"{end:.3g}" if end < MOST else "any" for end in (fitted.size.low, fitted.size.high)]
    size = f"{fitted.size.value:.3g}" if fitted.size < MOST else "Poisson"
    fit.add_row("size of the negative binomial", size, " to ".join(ends))
    frame = fitted.table()
    years = table_of(f"{name}: year by year", "record", "exposure", "count", "expected")
    for record, row in frame.iterrows():
        figures = (brief(row["exposure"]), number(row["count"]), number(row["expected"], 0.1))
        years.add_row(str(record), *figures)
    how = "The interval of the rate is exact for Poisson counts, and of the scatter for others"
    said = [*notes, how]
    parts: list[Any] = [*opening([words]), fit, "", years]
    parts += ["", Text("\n".join(f"{note}." for note in said), style="dim")]
    return Report.of(
        parts,
        kind="counts",
        facts=lambda: plain_value(
            {
                "column": name,
                "notes": notes,
                "verdict": fitted.verdict,
                "rate": plain_estimate(fitted.rate),
                "size": plain_estimate(fitted.size),
                "variance over mean": fitted.dispersion,
                "p": fitted.p,
            }
        ),
        tables=lambda: {"years": DataTable(frame, "years", "years")},
    )
