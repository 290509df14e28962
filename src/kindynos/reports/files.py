"""The files of a run: its trials, summary and figures."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from kindynos.errors import FileError
from kindynos.reports.summary import as_json, summary
from kindynos.results.run import Run


def write_run(run: Run, stage: Path, parquet: bool = False) -> list[str]:
    """Write trials, summary and figures of a run into a folder; return the names of the files."""
    trials = f"trials.{'parquet' if parquet else 'csv'}"
    write_trials(run, stage / trials)
    (stage / "summary.json").write_text(as_json(summary(run)), encoding="utf-8")
    return [trials, "summary.json", *_write_figures(run, stage)]


def write_trials(run: Run, path: Path) -> None:
    """Write the trials as CSV, or as Parquet by the file's name; raises FileError without what
    Parquet needs.
    """
    if path.suffix != ".parquet":
        run.to_frame().to_csv(path)
        return
    try:
        run.to_frame().to_parquet(path)
    except ImportError:
        raise FileError("trials as Parquet need pyarrow: pip install 'kindynos[parquet]'") from None


def _write_figures(run: Run, stage: Path) -> list[str]:
    from kindynos.plots import distribution, fan, save_figure, sensitivity

    names = []
    for outcome in run.outcomes:
        draw = fan if run[outcome].is_row else distribution
        save_figure(stage / f"{outcome}.png", partial(draw, run[outcome]))
        names.append(f"{outcome}.png")
        if not run[outcome].is_row and run.drivers:
            save_figure(stage / f"{outcome}-drivers.png", partial(sensitivity, run, outcome))
            names.append(f"{outcome}-drivers.png")
    for name in run.kept:
        if run[name].is_row and name not in run.outcomes:
            save_figure(stage / f"{name}.png", partial(fan, run[name]))
            names.append(f"{name}.png")
    return names
