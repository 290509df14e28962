"""What drives an outcome: one function a method. To add one: a function of a run and an outcome, and its line in METHODS."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from kindynos.errors import ParameterError, nearest
from kindynos.results.sensitivity.rank import rank_sensitivity
from kindynos.results.sensitivity.regression import regression_sensitivity
from kindynos.results.sensitivity.shapley import shapley_sensitivity
from kindynos.results.sensitivity.slices import conditional_sensitivity, tail_sensitivity
from kindynos.results.sensitivity.swing import swing_sensitivity
from kindynos.results.sensitivity.variance import sobol_sensitivity

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.results.run import Run

METHODS: dict[str, Callable[..., pd.DataFrame]] = {
    "rank": rank_sensitivity,
    "regression": regression_sensitivity,
    "swing": swing_sensitivity,
    "conditional": conditional_sensitivity,
    "sobol": sobol_sensitivity,
    "shapley": shapley_sensitivity,
    "tail": tail_sensitivity,
}


def sensitivity(run: Run, outcome: str, method: str, by_period: bool, options: dict[str, Any]) -> pd.DataFrame:
    """Return the table of a method; raises ParameterError for a method or an option there is not."""
    if method not in METHODS:
        raise ParameterError(
            f"sensitivity: method must be one of {', '.join(METHODS)}, not {method!r}{nearest(method, METHODS)}"
        )
    function = METHODS[method]
    known = function.__code__.co_varnames[3 : function.__code__.co_argcount]
    for option in options:
        if option not in known:
            raise ParameterError(f"sensitivity: method {method!r} has no option {option!r}{nearest(option, known)}")
    return function(run, outcome, by_period, **options)
