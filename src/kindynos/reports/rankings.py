"""What moves an outcome: the ranking of its drivers in a table and a sentence."""

from __future__ import annotations

import pandas as pd
from rich.console import Group
from rich.text import Text

from kindynos.formatting import per_cent, share_with_error, signed_with_error
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.reports.contributions import with_correlations
from kindynos.reports.tables import table_of
from kindynos.results.result import Result
from kindynos.results.run import Run
from kindynos.results.sensitivity.methods import usual_method


def ranking(run: Run, name: str) -> Group:
    """Return what moves an outcome: a table of its drivers and a sentence."""
    frame = run.sensitivity(name)
    if usual_method(run, name) == "contributions":
        return with_correlations(run, name, frame)
    table = table_of(
        f"What moves {name}",
        "driver",
        "rank correlation",
        "95 % error",
        "first-order share of variance",
        "95 % error",
    )
    for driver, row in frame.iterrows():
        correlation = symmetrical(row["rank correlation"], row["error"])
        share = share_with_error(alone_share(row))
        table.add_row(str(driver), *signed_with_error(correlation), *share)
    return Group(table, Text(ranking_remark(frame, run[name]), style="dim"))


def alone_share(row: pd.Series) -> Estimate:
    """Return a first-order share of a ranking with its error; an estimate below 0 stands for none,
    and one above 1 for all.
    """
    value, error = min(max(row["first-order share"], 0.0), 1.0), row["error of share"]
    return symmetrical(value, error)


def ranking_remark(frame: pd.DataFrame, result: Result) -> str:
    """Return what the shares of a ranking leave, or that they overlap, and which trials they are
    of.
    """
    if result.n_failed:
        lacking = per_cent(result.n_failed / result.size)
        decided = frame.attrs.get("decides a value")
        most = "" if decided is None else f"; whether there is one is decided most by {decided}"
        return f"{lacking} of the trials have no value{most}. The shares are of the others."
    if float(result.sd) == 0:
        return "It is the same in every trial, so that nothing moves it."
    if frame.attrs["correlated"]:
        return (
            "Some drivers move together, so their shares overlap; contributions and shapley divide "
            "the variance among them."
        )
    rest, error = frame.attrs["interaction"], frame.attrs["error of interaction"]
    alone = "A share is what a driver explains alone"
    if rest > error:
        return (
            f"{alone}; {100 * rest:.1f} % ± {100 * error:.1f} is left for interaction between them."
        )
    if error != error:
        return f"{alone}."
    return f"{alone}; no interaction between drivers can be told from the errors of the shares."
