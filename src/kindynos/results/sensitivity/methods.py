"""Every method of sensitivity by its name. To add one: a function of a run and an outcome, and its
line in METHODS.

A method's own options are its keyword-only parameters.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.program.quantities import DependentDriver
from kindynos.registry import Registry, check_options
from kindynos.results.sensitivity.contributions import contributions_sensitivity
from kindynos.results.sensitivity.rank import rank_sensitivity
from kindynos.results.sensitivity.regression import regression_sensitivity
from kindynos.results.sensitivity.shapley import shapley_sensitivity
from kindynos.results.sensitivity.slices import conditional_sensitivity, tail_sensitivity
from kindynos.results.sensitivity.swing import swing_sensitivity
from kindynos.results.sensitivity.variance import sobol_sensitivity
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import checked

if TYPE_CHECKING:
    import pandas as pd

METHODS: Registry[Callable[..., pd.DataFrame]] = Registry(
    "method of sensitivity",
    {
        "rank": rank_sensitivity,
        "regression": regression_sensitivity,
        "swing": swing_sensitivity,
        "conditional": conditional_sensitivity,
        "sobol": sobol_sensitivity,
        "shapley": shapley_sensitivity,
        "contributions": contributions_sensitivity,
        "tail": tail_sensitivity,
    },
)


def usual_method(run: SimulatedTrials, outcome: str) -> str:
    """Return the method by which an outcome is ranked by default: where drivers move together,
    shares of what each explains alone overlap, and a driver that picks the sizes of claims has no
    rank; contributions serve both. These need a value in the
    base case, from which they start, and the functions of the model.
    """
    if run.program.recorded or not (run.program.rests_on_events(outcome) or move_together(run)):
        return "rank"
    base = np.asarray(run.base[outcome], dtype=np.float64)
    finite = np.isfinite(base).all() and not np.isinf(run[outcome].values).any()
    return "contributions" if finite else "rank"


def move_together(run: SimulatedTrials) -> bool:
    """Return whether some drivers move together: by a correlation, or since one of them is a
    parameter of another.
    """
    drivers = run.program.drivers
    return any(len(group.names) > 1 for group in run.program.groups) or any(
        isinstance(driver, DependentDriver)
        and not drivers.keys().isdisjoint(run.program.ancestors([name]) - {name})
        for name, driver in drivers.items()
    )


def column_kind(method: str, column: str) -> str:
    """Return what a column of a method's table holds: figures of the "outcome" or the "driver" in
    their units, a "share", a "signed" number or the "error" of one.
    """
    if method in ("sobol", "shapley") or column.startswith(("share", "first", "error of")):
        return "share"
    if column == "chance":
        return "share"
    if column in ("rank correlation", "coefficient", "shift"):
        return "signed"
    if column == "error":
        return "error"
    return "driver" if method == "tail" or column.startswith("driver at") else "outcome"


def unit_of_driver(run: SimulatedTrials, label: str) -> str | None:
    """Return the unit of a driver, or of one of its periods, by the label of its row."""
    name = label if label in run.program.drivers else label.rpartition(" ")[0]
    return run.program.unit(name) if name in run.program.drivers else None


@checked
def sensitivity(
    run: SimulatedTrials, outcome: str, method: str, by_period: bool, options: Mapping[str, Any]
) -> pd.DataFrame:
    """Return the table of a method; raises ParameterError for an unknown method or option."""
    function = METHODS.find(method)
    check_options(f"sensitivity by {method}", function, options)
    with np.errstate(all="ignore"):  # of infinite values, and of values too large to be squared
        return function(run, outcome, by_period, **options)
