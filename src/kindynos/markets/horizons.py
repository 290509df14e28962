"""What may happen over several periods: stretches of moves drawn from a history, all instruments
together, one by one or in blocks.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.markets.exposure import Exposure
from kindynos.sampling.streams import stream

Places = NDArray[np.int64]
SHORT, FEWEST = 60, 1_000  # periods, beyond which fewer stretches are drawn; and stretches
OF_A_ROW = 2_000  # stretches drawn of each of many histories


@dataclass(frozen=True, eq=False)
class DrawnFrom:
    """A history to draw from: an exposure, how likely each of its moves is ``(moves,)``, by how
    much larger or smaller those of each period are ``(periods,)``, and the mean length of the
    blocks that stay together.
    """

    exposure: Exposure
    weights: Floats
    path: Floats
    blocks: float = 1.0

    def places(self, count: int) -> list[Places]:
        """Return for each period which move each stretch has, of ``count`` of them, or of long ones
        of fewer.
        """
        periods = len(self.path)
        fewer = max(min(count, count * SHORT // periods), FEWEST)
        return list(_places(self.weights, periods, fewer, self.blocks))


def drawn_stretches(source: DrawnFrom, places: list[Places]) -> Exposure:
    """Return the exposure with moves over stretches ``(stretches, instruments)``: the sums of log
    returns, or of differences, that lie at ``places``, period by period.
    """
    exposure, absolute = source.exposure, source.exposure.differences
    with np.errstate(divide="ignore"):
        logs = np.log1p(np.where(absolute, 0.0, exposure.returns))
    steps = np.where(absolute, exposure.returns, logs)
    count = len(places[0])
    total = np.zeros((count, steps.shape[1]))
    for positions, scale in zip(places, source.path.tolist(), strict=True):
        total += (scale * steps).take(positions, axis=0)
    return replace(
        exposure,
        returns=np.where(absolute, total, np.expm1(total)),
        dates=pd.DatetimeIndex(np.resize(exposure.dates, count)),
        days=len(source.path) * exposure.days,
    )


def drawn_sums(
    rows: Floats, horizon: int, weights: Floats | None = None, paths: Floats | None = None
) -> Floats:
    """Return losses over stretches drawn from each row of losses, ``(rows, stretches)``; the rows
    themselves over one period. ``paths`` has by how much larger those of each period are ``(rows,
    periods)``.
    """
    if horizon == 1:
        return rows
    shares = np.ones(rows.shape[1]) if weights is None else weights
    total = np.zeros((len(rows), OF_A_ROW))
    for period, places in enumerate(_places(shares, horizon, OF_A_ROW)):
        step = rows[:, places]
        total += step if paths is None else step * paths[:, period : period + 1]
    return total


def _places(weights: Floats, horizon: int, count: int, blocks: float = 1.0) -> Iterator[Places]:
    """Yield for each period which move each of ``count`` stretches has ``(count,)``.

    A block begins in proportion to the weights, evenly spread over the stretches, and goes on with
    what followed in the history, which goes round at its end.
    """
    generator = stream(0, "stretches", horizon)
    moves, equal = len(weights), bool((weights == weights[0]).all())
    reached = np.cumsum(weights) / weights.sum()

    def begun() -> Places:
        levels = (generator.permutation(count) + generator.random(count)) / count
        places = (levels * moves).astype(np.int64) if equal else np.searchsorted(reached, levels)
        return np.minimum(places, moves - 1)

    places = begun()
    for period in range(horizon):
        if period:
            goes_on = generator.random(count) >= 1 / blocks
            places = np.where(goes_on, (places + 1) % moves, begun())
        yield places
