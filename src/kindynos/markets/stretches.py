"""Stretches of a history by dates, and the worst one for today's holdings."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from kindynos.errors import ParameterError
from kindynos.markets.adjustments import checked_date
from kindynos.markets.exposure import Exposure
from kindynos.markets.from_history import Historical
from kindynos.markets.method import Method

Window = int | str | None  # the last N returns, a stretch of dates or "worst", or the whole history
WORST = "worst"
WORST_LENGTH = 250  # returns, or half the history where it is shorter
WORST_LEVEL = 0.975  # of the value at risk that is compared where none is asked for
FEWEST = 8  # returns


def stretch_of(exposure: Exposure, window: str) -> Exposure:
    """Return today's holdings with the moves of a stretch, "2008-01-01:2009-06-30" or "worst".

    Raises ParameterError for other texts, and for stretches with fewer than eight returns.
    """
    if window == WORST:
        return worst_stretch(exposure, Historical(), WORST_LEVEL)
    first, colon, last = window.partition(":")
    if not colon:
        raise ParameterError(
            f"window {window!r:.40}: say a number of returns, dates such as "
            "2008-01-01:2009-06-30, or 'worst'"
        )
    begin, end = (checked_date("window", end_text.strip()) for end_text in (first, last))
    inside = (exposure.dates >= begin) & (exposure.dates <= end)
    if inside.sum() < FEWEST:
        raise ParameterError(
            f"{begin:%Y-%m-%d} to {end:%Y-%m-%d} has {int(inside.sum())} returns of a history from "
            f"{exposure.dates[0]:%Y-%m-%d} to {exposure.dates[-1]:%Y-%m-%d}; at least {FEWEST} are "
            "needed"
        )
    places = np.flatnonzero(inside)
    return _cut(exposure, int(places[0]), int(places[-1]) + 1)


def worst_stretch(exposure: Exposure, method: Method, level: float) -> Exposure:
    """Return the stretch at whose end a method would have given today's holdings the highest value
    at risk.
    """
    losses = exposure.losses
    length = min(WORST_LENGTH, max(len(losses) // 2, FEWEST))
    ranked = method if method.rolling else Historical()
    q, _ = ranked.tail(sliding_window_view(losses, length), level)
    begin = int(np.argmax(q))
    return _cut(exposure, begin, begin + length)


def _cut(exposure: Exposure, begin: int, end: int) -> Exposure:
    return replace(
        exposure,
        returns=exposure.returns[begin:end],
        dates=exposure.dates[begin:end],
        window=end - begin,
    )
