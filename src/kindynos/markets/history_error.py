"""The error that a short history causes in the figures of holdings: the same figures on histories
drawn from it again, in blocks, so that what follows each other stays together.

Source: Politis and Romano, Journal of the American Statistical Association 89 (1994), 1303-1313.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.inference.block_bootstrap import block_positions
from kindynos.inference.intervals import Z
from kindynos.inference.rows import loss_tail
from kindynos.sampling.streams import stream

HISTORIES = 200
CHOICES = 60  # histories on which weights are chosen again
MOST_VALUES = 40_000  # of one history's stretches that are looked at


@dataclass(frozen=True)
class Outcomes:
    """Profits in money and maximum drawdowns over stretches of one history ``(stretches,)``."""

    profits: Floats
    falls: Floats


def resampled_outcomes(gains: Floats, held_values: Floats, horizon: int) -> Iterator[Outcomes]:
    """Yield what values held ``(held,)`` would have earned over stretches of each history drawn
    again from their ``gains`` of each past period; at the end a history goes round.
    """
    for places in resampled_places(len(gains)):
        yield _outcomes(gains[places], held_values, horizon)


def _outcomes(gains: Floats, held_values: Floats, horizon: int) -> Outcomes:
    """Return the outcomes over stretches of the gains of values held, which go round at the end."""
    worth = float(held_values.sum())
    base = worth if worth > 0 else float(np.abs(held_values).sum())
    whole = np.concatenate([gains, np.resize(gains, horizon - 1)])
    stretches = sliding_window_view(whole, horizon)
    step = max(1, len(stretches) * horizon // MOST_VALUES)
    sums = np.cumsum(stretches[::step], axis=1)
    path = np.concatenate([np.zeros((len(sums), 1)), sums], axis=1)
    peaks = np.maximum.accumulate(path, axis=1)
    return Outcomes(sums[:, -1], ((peaks - path) / (base + peaks)).max(axis=1))


def history_errors(
    returns: Floats, values: Sequence[Floats], level: float, horizon: int
) -> pd.DataFrame:
    """Return the half-widths of the 95 % intervals that a history ``(returns, holdings)`` leaves of
    figures of several sets of values held ``(holdings,)``, and of the last less the first.

    Rows are mean, sd, value at risk, expected shortfall, chance of a loss and mean maximum drawdown
    over the horizon; columns the sets, by number, and "difference".
    """
    errors = np.array(
        [
            [
                _figures(resampled_outcome, level)
                for resampled_outcome in resampled_outcomes(returns @ value, value, horizon)
            ]
            for value in values
        ]
    )
    table = pd.DataFrame(Z * errors.std(axis=1, ddof=1).T, NAMES, range(len(values)))
    table["difference"] = Z * (errors[-1] - errors[0]).std(axis=0, ddof=1)
    return table


def choosing_optimism(
    returns: Floats,
    before: Floats,
    choose: Callable[[NDArray[np.int64]], tuple[Floats, Floats]],
    level: float,
    horizon: int,
    choices: int = CHOICES,
) -> Floats:
    """Return by how much the difference of each figure looks better or worse on average than it is,
    since the values after were chosen on the history that judges them.

    ``choose`` returns, of the positions of a history drawn again from ``returns``, its returns and
    the values that would be chosen on it. The optimism is the mean over such histories of the
    difference on the history that they were chosen on, less that on ``returns``: Efron, Journal of
    the American Statistical Association 78 (1983), 316-331.
    """

    def difference(history: Floats, after: Floats) -> Floats:
        figures = (
            np.array(_figures(_outcomes(history @ values, values, horizon), level))
            for values in (after, before)
        )
        return np.asarray(np.subtract(*figures))

    gaps = []
    for positions in resampled_places(len(returns))[:choices]:
        drawn, after = choose(positions)
        gaps.append(difference(drawn, after) - difference(returns, after))
    return np.asarray(np.mean(gaps, axis=0))


NAMES = [
    "mean",
    "sd",
    "value at risk",
    "expected shortfall",
    "chance of a loss",
    "mean maximum drawdown",
]


def _figures(outcomes: Outcomes, level: float) -> list[float]:
    q, beyond = loss_tail(-outcomes.profits[None], level)
    return [
        float(outcomes.profits.mean()),
        float(outcomes.profits.std(ddof=1)),
        float(q[0]),
        float(beyond[0]),
        float((outcomes.profits < 0).mean()),
        float(outcomes.falls.mean()),
    ]


def statistic_errors(
    gains: Floats, held_values: Floats, horizon: int, names: Sequence[tuple[str, str]]
) -> list[float]:
    """Return the half-width of what a history leaves of each statistic, by the names of its outcome
    ("profit" or "max_drawdown") and of itself, such as "P5"; NaN for others. ``gains`` are the
    profits of each past period.
    """
    drawn = list(resampled_outcomes(gains, held_values, horizon))
    by_outcome = {
        "profit": [path.profits for path in drawn],
        "max_drawdown": [path.falls for path in drawn],
    }
    errors = []
    for outcome, name in names:
        rows = by_outcome.get(outcome, [])
        values = np.array([_statistic(row, name) for row in rows])
        errors.append(Z * float(values.std(ddof=1)) if len(values) else math.nan)
    return errors


def _statistic(values: Floats, name: str) -> float:
    kind, _, rest = name.partition(" ")
    if name == "mean":
        return float(values.mean())
    if name == "sd":
        return float(values.std(ddof=1))
    if kind.startswith("P") and kind[1:].replace(".", "", 1).isdigit():
        return float(np.percentile(values, float(kind[1:])))
    if kind == "chance":
        side, _, level = rest.partition(" ")
        beyond = {"below": values < float(level), "above": values > float(level)}.get(side)
        return math.nan if beyond is None else float(beyond.mean())
    return math.nan


def resampled_places(count: int) -> NDArray[np.int64]:
    """Return places in the history ``(histories, count)``: blocks of random length, on average the
    cube root of the number of returns.
    """
    generator = stream(0, "history error", 0)
    return block_positions(generator, HISTORIES, count, round(count ** (1 / 3)))
