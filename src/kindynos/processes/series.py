"""What processes that move in whole periods share: the series they are fitted to, and their
steps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.processes.base import Process, in_order
from kindynos.validate import array_of

FARTHEST = 100_000  # periods ahead


@dataclass(frozen=True)
class InPeriods(Process):
    """A process in steps of one period, which is its unit of time."""

    multiplies = False

    @property
    def gap(self) -> int:
        """The periods at the end of its history that have no value; forecasts begin after them."""
        history = getattr(self, "history", ())
        return len(history) - known_length(history)

    @property
    def known(self) -> Sequence[float]:
        """The history up to its last value, NaN for what is missing before."""
        history: Sequence[float] = getattr(self, "history", ())
        return history[: known_length(history)]

    def _whole_steps(self, dt: float) -> None:
        """Raise ParameterError for periods that are not one step long."""
        if dt != 1:
            raise ParameterError(f"moves in steps of one period, so that dt must be 1, not {dt:g}")

    def _periods_of(self, time: float, steps: int) -> int:
        if time != int(time):
            raise ParameterError(
                f"moves in whole periods; time must be a whole number, not {time:g}"
            )
        self._check_ahead(time)
        return int(time)

    def _check_ahead(self, time: float) -> None:
        """Raise ParameterError for a time so far ahead that forecasts would take minutes."""
        if time > FARTHEST:
            raise ParameterError(
                f"forecasts go at most {FARTHEST:,} periods ahead, not {time:,.0f}"
            )

    def expected(self, time: ArrayLike) -> float | Floats:
        times = array_of("time", time)
        if times.size and (times.min() < 0 or (times != np.floor(times)).any()):
            raise ParameterError("moves in whole periods; times must be whole numbers from 0 up")
        if not times.size:
            return times
        self._check_ahead(float(times.max()))
        path = np.concatenate(
            [[self.start_value], self._expected_values(max(int(times.max()), 1), 1.0)]
        )
        values = path[times.astype(np.int64)]
        return values if times.ndim else float(values)


def known_length(values: Sequence[float] | Floats) -> int:
    """Return the number of values up to the last that is not missing."""
    places = np.flatnonzero(~np.isnan(np.array(values, dtype=np.float64)))
    return int(places[-1]) + 1 if len(places) else 0


LARGEST = 1e80  # whose powers a float still holds
MOST_MISSING = 600  # values; a fit has one more unknown for each
CLOSE = 1e-3  # relative, of parameters that are refitted


def same_process(stated: Any, estimated: Any, names: Sequence[str]) -> Any:
    """Return a process that was refitted; raises ParameterError where it is another than the
    one stated.
    """
    for name in names:
        one, two = np.atleast_1d(getattr(stated, name)), np.atleast_1d(getattr(estimated, name))
        if not np.allclose(one.astype(float), two.astype(float), rtol=CLOSE, atol=CLOSE):
            raise ParameterError(
                f"its history gives {name} = {getattr(estimated, name)}, and "
                f"{getattr(stated, name)} is stated; uncertain "
                "parameters are those fitted to the history"
            )
    return estimated


def _check_missing(name: str, values: Floats) -> None:
    """Raise ParameterError for a series with too many missing values to be integrated out, such as
    months that are said to be days.
    """
    known = values[: known_length(values)]
    missing = int(np.isnan(known).sum())
    if missing > min(2 * (len(known) - missing), MOST_MISSING):
        raise ParameterError(
            f"{missing:,} of {len(known):,} values of {name} are missing; at most two in three may "
            f"be, and {MOST_MISSING}: are the values further apart than is said?"
        )


def series_values(name: str, series: Any, above_zero: bool, least: int = 0) -> tuple[float, ...]:
    """Return a flat series from its first value on as a tuple, with NaN for missing values.

    Raises ParameterError for values that cannot be used, and fewer than ``least`` of them.
    """
    values = array_of(name, [series] if np.isscalar(series) else in_order(series))
    if values.ndim != 1:
        raise ParameterError(f"{name} must be flat, one value a period, not {values.shape}")
    places = np.flatnonzero(~np.isnan(values))
    values = values[places[0] :] if len(places) else values[:0]
    if np.isinf(values).any():
        raise ParameterError(f"value {int(np.argmax(np.isinf(values)))} of {name} is infinite")
    if above_zero and (values <= 0).any():
        position = int(np.argmax(values <= 0))
        raise ParameterError(
            f"value {position} of {name} is {values[position]:g}; a log needs values above 0"
        )
    if least:
        _check_missing(name, values)
    if len(places) < least:
        raise ParameterError(f"needs at least {least} values, and {name} has {len(places)}")
    if least and float(np.nanmax(np.abs(values))) > LARGEST:
        raise ParameterError(
            f"{name} reaches {np.nanmax(np.abs(values)):.3g}; measure it in other units"
        )
    if least and np.ptp(values[~np.isnan(values)]) == 0:
        raise ParameterError(
            f"all values of {name} are equal, {values[0]:g}; there is nothing to estimate"
        )
    if least and np.nanmax(values) - np.nanmin(values) < 1 / LARGEST:
        raise ParameterError(f"{name} hardly changes; measure it in other units")
    return tuple(map(float, values))


def logs_of(values: Any) -> Floats:
    """Return the logs of values above 0, NaN where one is missing."""
    return np.log(np.array(values, dtype=np.float64))
