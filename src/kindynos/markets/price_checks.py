"""What is doubtful about prices: found by each instrument's own scale, named, and held out where it
is hardly a price.

The scale of an instrument is 1.48 times the median distance of its moves from their median, over
its history or nearby, whichever is larger, so that neither a crash nor a single wrong price decides
it, and days of a crisis are compared with each other. It is not less than nine moves in ten ask
for, so that steady growth is its own measure.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats

TO_SD = 1.4826  # from the median size of normal moves to their sd
MOST, MOST_SD = 0.9, 1.645  # share of the moves that the scale must explain, and its normal score
NEARBY = 20  # moves on each side
FEWEST = 12  # moves from which a scale is taken
SPIKE = 8.0  # scales: there and back
JUMP = 20.0  # scales: there, by the ratio of a split, or where the prices begin or end
STAYS = 40.0  # scales: there, and it stays, without another sign of a mistake
CANCELS = 0.25  # of the way there, at most, that is left after the way back
LONGEST_SPIKE = 3  # dates
SLIP = 8.0  # times its neighbours, where there is no scale
GIVEN = "; used as given"  # a last price: the news of the day looks like a mistake
WHOLE = (2, 3, 4, 5, 6, 7, 8, 10, 12, 15, 20, 25, 30, 40, 50)
SPLITS = (*((n, 1) for n in WHOLE), *((1, n) for n in WHOLE), (3, 2), (4, 3), (5, 2), (5, 4))
SLIPS = (10, 1000)  # times, as by a decimal point
LEFT = 2.0  # scales: the most of a jump that a split leaves over, as the day's own move
LEFT_AT_MOST = 0.04
STALE = 5  # equal prices that follow each other, at least
UNLIKELY = 0.01  # the expected number of runs so long
MOST_RUNS = 2  # of equal prices; more are how the prices come
FEWEST_BELOW = 3  # values at 0 or below that are no mistakes
LEAST_RATE = 0.02  # of the median size: a value nearer to 0 may have no sensible returns
WILD = 5.0  # times the scale of all returns: those near 0, where it is differences that are alike


@dataclass(frozen=True)
class Doubt:
    """What is doubtful about the price at a place among the known ones, in words; ``held_out``
    where it counts as missing until it is confirmed.
    """

    place: int
    words: str
    held_out: bool = False


def doubts(values: Floats, absolute: bool) -> list[Doubt]:
    """Return what is doubtful about the known prices of one instrument ``(dates,)``, in their
    order.
    """
    if len(values) < 4 or (not absolute and values.min() <= 0):
        return []
    moves = np.diff(values) if absolute else np.diff(np.log(values))
    moves = moves - _usual(moves)
    scales = _scales(moves, absolute)
    doubtful, taken = [], np.zeros(len(values) + 1, dtype=bool)
    for doubt, width in _spikes(values, moves, scales):
        if not taken[doubt.place]:
            doubtful += [Doubt(doubt.place + k, doubt.words, True) for k in range(width)]
            taken[doubt.place : doubt.place + width + 1] = True
    for position in np.flatnonzero(np.abs(moves) > SPIKE * scales).tolist():
        if not (taken[position] or taken[position + 1]):
            doubtful += _jump(values, moves, scales, position, absolute)
    doubtful += _stale(values, moves)
    return sorted(doubtful, key=lambda doubt: doubt.place)


def _usual(moves: Floats) -> float:
    """Return the median of moves ``(moves,)``; 0 where a part of the prices stands still."""
    return 0.0 if (moves == 0).any() else float(np.median(moves))


def _scale(sizes: Floats) -> float:
    """Return the scale of the sizes of some moves ``(moves,)``."""
    most = float(np.quantile(sizes, MOST)) / MOST_SD
    return max(TO_SD * float(np.median(sizes)), most)


def _scales(moves: Floats, absolute: bool) -> Floats:
    """Return the scale that each move ``(moves,)`` is compared with; of few moves the one that
    makes eight times a price suspicious, and no difference.
    """
    sizes = np.abs(moves)
    moving = sizes[sizes > 0]
    if len(moving) < FEWEST:
        return np.full(len(moves), np.inf if absolute else np.log(SLIP) / SPIKE)
    overall = _scale(moving)
    scales = np.full(len(moves), overall)
    reach = 2 * NEARBY + 1
    # the scale nearby matters where a move is large beside that of the whole history
    for position in np.flatnonzero(sizes > SPIKE * overall).tolist():
        begin = min(max(position - NEARBY, 0), max(len(sizes) - reach, 0))
        scales[position] = max(overall, TO_SD * float(np.median(sizes[begin : begin + reach])))
    return scales


def _spikes(values: Floats, moves: Floats, scales: Floats) -> Iterator[tuple[Doubt, int]]:
    """Yield prices far from those before and after, which are near each other, with how many dates
    they last.
    """
    large = np.abs(moves) > SPIKE * scales
    for there in np.flatnonzero(large).tolist():
        for width in range(1, LONGEST_SPIKE + 1):
            back = there + width
            if back >= len(moves) or not large[back]:
                continue
            way = min(abs(moves[there]), abs(moves[back]))
            inner = np.abs(moves[there + 1 : back])
            left = abs(float(moves[there : back + 1].sum()))
            if left < CANCELS * way and not (inner > CANCELS * way).any():
                before, value, after = values[there], values[there + 1], values[back + 1]
                yield Doubt(there + 1, _stands(value, before, after, width)), width
                break


def _stands(value: float, before: float, after: float, width: int) -> str:
    lasting = "" if width == 1 else f", for {width} dates,"
    slip = ""
    if before > 0 and value > 0:
        power = np.log10(value / ((before + after) / 2))
        if abs(power) > 0.9 and abs(power - round(power)) < 0.06:
            slip = "; the decimal point may have slipped"
    return f"the price {value:g} stands{lasting} between {before:g} and {after:g}{slip}"


def _jump(
    values: Floats, moves: Floats, scales: Floats, position: int, absolute: bool
) -> list[Doubt]:
    """Return the doubt about a large move after which prices stay, or with which they begin or
    end.
    """
    before, after, size = (
        values[position],
        values[position + 1],
        abs(moves[position]) / scales[position],
    )
    words = f"the price goes from {before:g} to {after:g}"
    if not absolute:
        near = min(LEFT * scales[position], LEFT_AT_MOST)
        last = position == len(moves) - 1
        if last and any(abs(abs(moves[position]) - np.log(times)) < near for times in SLIPS):
            slipped = f"{words} at the end: the decimal point may have slipped{GIVEN}"
            return [Doubt(position + 1, slipped)]
        if abs(abs(moves[position]) - np.log(100)) < near:
            return [Doubt(position + 1, f"{words} and stays: perhaps pence and pounds")]
    if size < JUMP:
        return []
    if not absolute:
        for new, old in SPLITS:
            if abs(moves[position] + np.log(new / old)) < near:
                return [Doubt(position + 1, f"{words}, as by a split of {new}:{old}")]
    usual = f", {size:.0f} times its usual move"
    if position == 0:
        return [Doubt(0, f"the first price, {before:g}, is followed by {after:g}{usual}", True)]
    if position == len(moves) - 1:
        return [Doubt(position + 1, f"the last price, {after:g}, follows {before:g}{usual}{GIVEN}")]
    return [] if size < STAYS else [Doubt(position + 1, f"{words}{usual}, and stays")]


def _stale(values: Floats, moves: Floats) -> list[Doubt]:
    """Return where a price is repeated more often than its other moves allow."""
    still = np.concatenate([[False], moves == 0, [False]])
    if still[1:-1].all():
        return []
    edges = np.flatnonzero(np.diff(still.astype(int)))
    runs = [
        (begin, end - begin)
        for begin, end in edges.reshape(-1, 2).tolist()
        if end - begin + 1 >= STALE
    ]
    long = sum(length for _, length in runs)
    share = (float(still.sum()) - long + 0.5) / (len(moves) - long + 1)
    unlikely = [
        (begin, length)
        for begin, length in runs
        if len(moves) * min(share, 1.0) ** length < UNLIKELY
    ]
    if len(unlikely) > MOST_RUNS:
        return []
    return [
        Doubt(begin, f"the same price, {values[begin]:g}, on {length + 1} dates in a row")
        for begin, length in unlikely
    ]


def count_below(values: Floats) -> int:
    """Return the number of known values ``(dates,)`` at 0 or below where they are those of a yield,
    a spread or a rate: at least three, which follow from their neighbours. Otherwise 0: single ones
    are mistakes.
    """
    below = np.flatnonzero(values <= 0)
    if len(below) < FEWEST_BELOW:
        return 0
    moves = np.abs(np.diff(values))
    usual = TO_SD * float(np.median(moves[moves > 0])) if (moves > 0).any() else 0.0
    into, out_of = np.maximum(below - 1, 0), np.minimum(below, len(moves) - 1)
    apart = float(np.median(np.minimum(moves[into], moves[out_of])))
    return len(below) if apart <= SPIKE * usual else 0


def near_zero(values: Floats) -> str:
    """Return that known values above 0 ``(dates,)`` come so near to it that their returns make no
    sense, in words; "" where they do not.
    """
    if not len(values) or values.min() <= 0:
        return ""
    least = float(values.min())
    if least >= LEAST_RATE * float(values.max()):  # and so of the median
        return ""
    middle = float(np.median(values))
    if least >= LEAST_RATE * middle:
        return ""
    sizes = np.abs(np.diff(np.log(values)))
    place = int(np.argmin(values))
    around = sizes[max(place - NEARBY, 0) : place + NEARBY]
    if np.median(around) <= WILD * np.median(sizes[sizes > 0]):
        return ""  # returns are as large there as elsewhere: a price that grew or fell
    return f"it comes near 0 ({least:.3g}, and {middle:.3g} in the middle)"
