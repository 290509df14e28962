"""Sheets and tables: quantities as pandas shows them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.estimate import Estimate
from kindynos.model.program import Program

if TYPE_CHECKING:
    from kindynos.results.run import Run

Floats = NDArray[np.float64]

PERCENTILES = (1, 5, 10, 25, 50, 75, 90, 95, 99)


def sheet(program: Program, values: Mapping[str, Floats]) -> pd.DataFrame:
    """Return one case as a sheet: quantities down, a column ``value`` for single numbers and one for each period.

    ``values`` holds numbers and rows ``(periods,)``; what has no place in a sheet, such as a table, is left out.
    """
    labels = program.timeline.labels
    rows = {}
    for name in [*program.givens, *program.drivers, *program.order]:
        if name not in values or program.kinds[name].table:
            continue
        value = np.asarray(values[name], dtype=np.float64)
        if program.kinds[name].row:
            rows[name] = [np.nan, *np.broadcast_to(value.reshape(-1), len(labels))]
        else:
            rows[name] = [float(value.reshape(-1)[0]), *[np.nan] * len(labels)]
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=["value", *labels])
    frame.index.name = "quantity"
    return frame


def outcome_table(run: Run) -> pd.DataFrame:
    """Return each outcome's statistics with their errors; of a row outcome, for each period."""
    records = []
    for name in run.outcomes:
        result = run[name]
        for period in range(len(result.values)) if result.is_row else [None]:
            label = name if period is None else f"{name} {result.labels[period]}"
            records += [(label, *record) for record in sheet_records(run, name, period)]
    frame = pd.DataFrame(records, columns=["outcome", "statistic", "value", "error", "low", "high", "note"])
    return frame.set_index(["outcome", "statistic"])


def sheet_records(run: Run, name: str, period: int | None = None) -> list[tuple[str, float, float, float, float, str]]:
    """Return an outcome's statistics: name, value, error, low, high and note; of a row outcome, in one period."""
    result = run[name]

    def pick(figure: Any) -> Estimate:
        chosen: Estimate = figure if period is None else figure[period]
        return chosen

    base = float(result.base if period is None else result.base[period])
    figures: list[tuple[str, Estimate]] = [("mean", pick(result.mean)), ("sd", pick(result.sd))]
    figures += [(f"P{q}", pick(result.percentile(q))) for q in PERCENTILES]
    figures += [("lowest", pick(result.lowest)), ("highest", pick(result.highest))]
    if result.target is not None:
        target = result.target
        figures.append((f"chance below {target:g}", pick(result.chance(below=target))))
        exactly = pick(result.chance(at=target))
        if exactly > 0:
            figures.append((f"chance at {target:g}", exactly))
        figures.append((f"chance above {target:g}", pick(result.chance(above=target))))
    figures.append(("base case", Estimate(base, note="every driver at its base value")))
    figures.append(("base case percentile", pick(result.percentile_of(base))))
    records = [(word, float(f), f.error, f.low, f.high, f.note or ("rough" if f.rough else "")) for word, f in figures]
    if result.bad:
        share = f"of {result.trials:,} trials; statistics are over the others"
        records.append(("trials without a value", float(result.bad), np.nan, np.nan, np.nan, share))
    for text, count in run.notes(name).items():
        records.append((f"trials with {text}", float(count), np.nan, np.nan, np.nan, f"of {result.trials:,}"))
    return records
