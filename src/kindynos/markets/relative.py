"""Returns beside those of a benchmark, and risk as it was through time."""

from __future__ import annotations

import math

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import t_point
from kindynos.markets.exposure import Exposure
from kindynos.markets.method import Method
from kindynos.validate import check_integer, checked


@checked
def against(returns: Floats, benchmark: Floats, per_year: float) -> dict[str, Estimate]:
    """Return how returns ``(n,)`` went with a benchmark's: beta, alpha, excess return, tracking
    error, correlation.

    Alpha and the excess return are a year's, as is the tracking error, the sd of the excess
    returns. The errors of beta and alpha hold where the size of the rest changes (White,
    Econometrica 48, 1980, 817-838); that of the excess return is that of a mean.
    """
    count = len(returns)
    gaps = benchmark - benchmark.mean()
    square = float(gaps @ gaps)
    if count < 8 or square <= 0:
        raise ParameterError("needs at least 8 returns of a benchmark that moves")
    beta = float(gaps @ returns) / square
    alpha = float(returns.mean()) - beta * float(benchmark.mean())
    rest = returns - alpha - beta * benchmark
    scale = count / (count - 2)
    of_beta = math.sqrt(scale * float((gaps**2) @ rest**2)) / square
    influence = 1 / count - float(benchmark.mean()) * gaps / square
    of_alpha = math.sqrt(scale * float(influence**2 @ rest**2))
    excess = returns - benchmark
    tracking = float(excess.std(ddof=1))
    point = t_point(count - 2)
    kurtosis = float(((excess - excess.mean()) ** 4).mean()) / max(float(excess.var()) ** 2, 1e-300)
    of_tracking = tracking * math.sqrt(max(kurtosis - 1, 0.0) / (4 * count))

    def figure(value: float, error: float) -> Estimate:
        return symmetrical(value, point * error)

    together = float(np.corrcoef(returns, benchmark)[0, 1]) if returns.std() > 0 else math.nan
    reach = point / math.sqrt(count)  # on Fisher's scale
    centre = math.atanh(min(max(together, -1 + 1e-15), 1 - 1e-15))
    year = math.sqrt(per_year)
    return {
        "beta": figure(beta, of_beta),
        "alpha a year": figure(alpha * per_year, of_alpha * per_year),
        "excess return a year": figure(
            float(excess.mean()) * per_year, tracking / math.sqrt(count) * per_year
        ),
        "tracking error a year": figure(tracking * year, of_tracking * year),
        "correlation": Estimate(together, math.tanh(centre - reach), math.tanh(centre + reach)),
    }


def relative_table(frame: pd.DataFrame, benchmark: pd.Series, per_year: float) -> pd.DataFrame:
    """Return a row for each column of returns, and columns of ``against`` with low and high."""
    rows = {}
    for name in frame.columns:
        table = against(
            frame[name].to_numpy(dtype=np.float64), benchmark.to_numpy(dtype=np.float64), per_year
        )
        rows[str(name)] = {
            f"{label}{end}": value
            for label, figure in table.items()
            for end, value in (("", float(figure)), (" low", figure.low), (" high", figure.high))
        }
    return pd.DataFrame.from_dict(rows, orient="index").rename_axis("instrument")


def rolling_risk(exposure: Exposure, method: Method, window: int, level: float) -> pd.DataFrame:
    """Return value at risk and expected shortfall of each window of losses, by its last date.

    Raises ParameterError for a window longer than the history, and for a method that simulates.
    """
    losses, dates = exposure.losses, exposure.dates
    size = check_integer("window", window, least=8)
    if size > len(losses):
        raise ParameterError(f"window {size} is longer than the history of {len(losses)} returns")
    if not method.rolling:
        raise ParameterError(
            f"{method.label!r} is not offered {exposure.spacing.unit} by {exposure.spacing.unit}; "
            "take historical, filtered or student"
        )
    q, beyond = method.tail(sliding_window_view(losses, size), level)
    frame = pd.DataFrame(
        {"value at risk": q, "expected shortfall": beyond},
        index=pd.DatetimeIndex(dates[size - 1 :], name="date"),
    )
    frame.attrs |= {"method": method.label, "window": size, "level": level}
    frame.attrs["unit"] = exposure.spacing.unit
    return frame
