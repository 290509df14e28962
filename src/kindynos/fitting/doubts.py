"""What looks wrong in a series before anything is fitted: a value ten times as large as its
neighbours, a last period that is not complete, a level that shifts.

Each value is compared with the median of those a season before and after it (without seasons, of
its neighbours), without the trend, on the logarithmic scale where all are above 0.
"""

from __future__ import annotations

import numpy as np

from kindynos.arrays import Floats

FEWEST = 24  # values
FAR = 7.5  # robust sds from which a value is far off
LEAST = 0.35  # of a value, by which it must be off besides
SLIP = (6.5, 15.0)  # times its neighbours, where a decimal point may have slipped
SHIFT = 2.5  # robust sds of the mean change of a season, from which a level has shifted


def series_doubts(values: Floats, season: int, labels: list[str]) -> list[str]:
    """Return what looks wrong in a series, a sentence each; ``labels`` say when each value is."""
    there = values[np.isfinite(values)]
    if len(there) < FEWEST or not np.ptp(there) > 0:
        return []
    positive = bool((there > 0).all())
    step = season if season > 1 and len(values) >= 3 * season else 1
    scale = np.log(values) if positive else values
    slope = float(np.nanmedian(scale[step:] - scale[:-step])) / step
    level = scale - slope * np.arange(len(scale))
    gaps = level - _expected(level, step)
    spread = 1.4826 * float(np.nanmedian(np.abs(gaps - np.nanmedian(gaps))))
    if not spread > 0:
        return []
    least = np.log1p(LEAST) if positive else 0.0
    far = np.flatnonzero(np.abs(gaps) > max(FAR * spread, least))
    doubts = []
    for place in far.tolist():
        ratio = float(np.exp(gaps[place])) if positive else float("nan")
        slipped = SLIP[0] <= max(ratio, 1 / ratio) <= SLIP[1] if positive else False
        if slipped:
            words = "is about ten times" if ratio > 1 else "is about a tenth of"
            doubts.append(f"{labels[place]} {words} what is around it: a slipped decimal point?")
        elif place == len(values) - 1 and gaps[place] < 0:
            doubts.append(
                f"the last value, {labels[place]}, lies far below what is usual: is the period "
                "complete?"
            )
        else:
            doubts.append(f"{labels[place]} lies far off what is around it")
    shift = _shift(level, step, positive)
    return [*doubts[:2], *([f"since {labels[shift[0]]} {shift[1]}"] if shift else [])]


def _expected(scale: Floats, step: int) -> Floats:
    """Return what each value is compared with: the median of those one and two seasons away, and
    without seasons of the two on either side.
    """
    count = len(scale)
    offsets = [-2 * step, -step, step, 2 * step]
    around = np.full((len(offsets), count), np.nan)
    for row, offset in enumerate(offsets):
        begin, end = max(-offset, 0), min(count - offset, count)
        around[row, begin:end] = scale[begin + offset : end + offset]
    has_value = np.isfinite(around).any(axis=0)
    expected = np.full(count, np.nan)
    expected[has_value] = np.nanmedian(around[:, has_value], axis=0)
    return expected


def _shift(scale: Floats, step: int, positive: bool) -> tuple[int, str] | None:
    """Return where the level of a series shifts for good, and in words by how much."""
    window = max(step, 6)
    if len(scale) < 4 * window:
        return None
    whole = np.nan_to_num(scale, nan=float(np.nanmedian(scale)))
    means = np.convolve(whole, np.ones(window) / window, "valid")
    changes = means[window:] - means[:-window]
    spread = 1.4826 * float(np.median(np.abs(changes - np.median(changes))))
    top = int(np.abs(changes - np.median(changes)).argmax())
    gap = float(changes[top] - np.median(changes))
    if not spread > 0 or abs(gap) < max(4 * SHIFT * spread, np.log1p(LEAST) if positive else 0):
        return None
    after = f"about {abs(np.expm1(gap)):.0%} ".replace("%", " %") if positive else "clearly "
    return top + window, f"it is {after}{'higher' if gap > 0 else 'lower'}: has the level shifted?"
