"""Regressors of a series that are known ahead, such as a fare that is set or days of trading."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import array_of, finite

MOST_REGRESSORS = 100


def exog_values(name: str, value: Any) -> dict[str, tuple[float, ...]]:
    """Return regressors by name, each a tuple of as many values as the others."""
    if not isinstance(value, Mapping):
        raise ParameterError(
            f"{name} must have one row of values for each regressor by name, such as "
            f"{{'fare': [42, 42, 45]}}, not {value!r:.40}"
        )
    by_name = {str(key): _known_values(str(key), column) for key, column in value.items()}
    lengths = {key: len(column) for key, column in by_name.items()}
    if len(set(lengths.values())) > 1:
        said = ", ".join(f"{key} {count}" for key, count in lengths.items())
        raise ParameterError(f"{name}: regressors differ in length ({said:.200})")
    return by_name


def effects_of(name: str, value: Any) -> dict[str, float]:
    """Return the effect of each regressor by name."""
    if not isinstance(value, Mapping):
        raise ParameterError(
            f"{name} must have one number for each regressor by name, such as {{'fare': -3.0}}, "
            f"not {value!r:.40}"
        )
    return {str(key): finite(f"{name}[{key!r}]", number) for key, number in value.items()}


def aligned(exog: Any, series: Any) -> dict[str, tuple[float, ...]]:
    """Return regressors by name from the first known value of a series on, also beyond its end.

    ``exog`` is a DataFrame, a pandas Series, a mapping from names to values, or an array ``(values,
    regressors)``. Where both have dates as their index, rows are matched by date. Raises
    ParameterError where a period of the series lacks a value.
    """
    if exog is None:
        return {}
    columns = _columns(exog)
    for name, regressor in columns.items():
        if regressor.ndim != 1:
            raise ParameterError(f"the regressor {name!r} must have one value a period")
    if not columns or len(columns) > MOST_REGRESSORS:
        raise ParameterError(
            f"exog needs 1 to {MOST_REGRESSORS} regressors, and has {len(columns)}"
        )
    values = array_of("series", series)
    begin = int(np.argmax(~np.isnan(values))) + _first_row(exog, series)
    by_name = {name: _known_values(name, column[begin:]) for name, column in columns.items()}
    needed = len(values) - int(np.argmax(~np.isnan(values)))
    for name, column in by_name.items():
        if len(column) < needed:
            raise ParameterError(
                f"the regressor {name!r} has {len(column)} values, and the series {needed}; it "
                "needs one for each period of the series, and one for each period to forecast"
            )
    return exog_values("exog", by_name)


def _columns(exog: Any) -> dict[str, Floats]:
    """Return the values of each regressor by name."""
    if hasattr(exog, "columns"):
        return {str(name): array_of(f"exog {name}", exog[name]) for name in exog.columns}
    if isinstance(exog, Mapping):
        return {str(name): array_of(f"exog {name}", exog[name]) for name in exog}
    table = array_of("exog", exog)
    if table.ndim == 1:
        return {str(getattr(exog, "name", None) or "exog"): table}
    if table.ndim != 2:
        raise ParameterError(
            f"exog must have one row per period and one column per regressor, not the shape "
            f"{table.shape}"
        )
    return {f"exog {i}": column for i, column in enumerate(table.T, start=1)}


def _first_row(exog: Any, series: Any) -> int:
    """Return the row of the regressors that belongs to the first value of the series."""
    dates, own = _dates_of(series), _dates_of(exog)
    if dates is None or own is None:
        return 0
    missing = ~dates.isin(own)
    if missing.any():
        raise ParameterError(
            f"the regressors have no row for {dates[int(np.argmax(missing))]:%Y-%m-%d}"
        )
    first = int(np.argmax(own == dates[0]))
    if not own[first : first + len(dates)].equals(dates):
        raise ParameterError(
            "the regressors must have the same dates as the series, in order, and go on after "
            "its end"
        )
    return first


def _dates_of(values: Any) -> Any:
    """Return the dates of a pandas object, None where it has none."""
    index: Any = getattr(values, "index", None)
    if hasattr(index, "to_timestamp"):
        index = index.to_timestamp()
    return index if hasattr(index, "year") and len(index) else None


def _known_values(name: str, values: Sequence[float] | Floats) -> tuple[float, ...]:
    array = array_of(f"regressor {name}", values)
    if array.ndim != 1:
        raise ParameterError(
            f"the regressor {name!r} must be flat, one value per period, not {array.shape}"
        )
    wrong = ~np.isfinite(array)
    if wrong.any():
        position = int(np.argmax(wrong))
        raise ParameterError(
            f"the regressor {name!r} has no number in row {position}; a regressor is known in "
            "every period"
        )
    return tuple(map(float, array))


def contribution(
    effects: Mapping[str, Any], exog: Mapping[str, Sequence[float]], span: slice
) -> Any:
    """Return what regressors add in a part of the periods ``(periods, 1)``, or with effects of each
    trial ``(periods, trials)``; 0 without regressors.
    """
    return sum(
        (np.array(exog[name][span])[:, None] * effect for name, effect in effects.items()), 0.0
    )
