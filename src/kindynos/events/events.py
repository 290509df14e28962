"""The events of all trials as one flat array of sizes, with how many of them each trial has.

Event k of a cell (a trial, or a trial's period) is drawn from the cell's own key and from k alone:
it stays as it is when the number of events of any cell changes, so that runs under two counts share
all the events they can.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import ModelError

AT_BASE = 0.0  # the key of a cell in the base case, which no trial draws: each event has base size
MOST_EVENTS = 50_000_000  # of one slice of trials: 400 MB of sizes
STEP, FIRST, SECOND = 0x9E3779B97F4A7C15, 0xBF58476D1CE4E5B9, 0x94D049BB133111EB


@dataclass(frozen=True, eq=False)
class Events:
    """Sizes ``(events,)``, cell by cell, and the number of events of each cell: ``counts`` are
    ``(trials,)`` or ``(periods, trials)``, NaN where it is not known.

    Events times or divided by a number, a value per trial or a row are events of such sizes.

    >>> storms = Events(np.array([2.0, 0.0, 1.0]), np.array([3.0, 4.0, 8.0]))
    >>> storms.reduced(np.add), np.multiply(storms, np.array([1.0, 1.0, 2.0])).sizes
    (array([7., 0., 8.]), array([ 3.,  4., 16.]))
    """

    counts: Floats
    sizes: Floats
    keys: Floats | None = None  # of the cells, from which the moments of events follow
    placed: Floats | None = None  # the moments themselves, once some events were left out

    @cached_property
    def moments(self) -> Floats:
        """When each event happens, as a share of the year or the period, from 0 to 1: at random,
        and in the base case evenly spread.
        """
        if self.placed is not None:
            return self.placed
        if self.keys is None:
            raise ModelError("the moments of these events are not known")
        starts = np.repeat(np.cumsum(self.whole) - self.whole, self.whole)
        places = np.arange(len(self.sizes)) - starts
        evenly = (places + 0.5) / np.repeat(np.maximum(self.whole, 1), self.whole)
        at_base = np.repeat(self.keys == AT_BASE, self.whole)
        # keys below 0 are used for nothing else
        return np.where(at_base, evenly, scores_of_events(-self.keys, self.whole))

    def only(self, kept: NDArray[np.bool_]) -> Events:
        """Return those of the events that are kept, ``(events,)`` of true and false."""
        ones = self.with_sizes(kept.astype(np.float64))
        return Events(ones.reduced(np.add), self.sizes[kept], None, self.moments[kept])

    @cached_property
    def whole(self) -> NDArray[np.int64]:
        """The number of events of each cell, in the order of the sizes; 0 where it is not known."""
        return np.nan_to_num(self.counts, nan=0.0).reshape(-1).astype(np.int64)

    def each(self, value: Any) -> Floats:
        """Return a number, a value per trial or a row as one value per event."""
        array = np.asarray(value, dtype=np.float64)
        if array.size == 1:
            return array.reshape(())
        return np.repeat(np.broadcast_to(array, self.counts.shape).reshape(-1), self.whole)

    def with_sizes(self, sizes: Floats) -> Events:
        """Return events of other sizes in the same cells."""
        return replace(self, sizes=sizes)

    def reduced(self, operation: np.ufunc) -> Floats:
        """Return the sum, or the maximum, of each cell, in the shape of the counts: 0 without
        events, NaN where the number of events is not known.
        """
        reduced = np.zeros(len(self.whole))
        filled = self.whole > 0  # reduceat would give an empty cell the first event of the next
        starts = (np.cumsum(self.whole) - self.whole)[filled]
        if len(starts):
            reduced[filled] = operation.reduceat(self.sizes, starts)
        return np.where(np.isnan(self.counts), np.nan, reduced.reshape(self.counts.shape))

    def __array_ufunc__(
        self, operation: np.ufunc, method: str, *inputs: Any, **options: Any
    ) -> Any:
        if method != "__call__" or options or sum(isinstance(x, Events) for x in inputs) != 1:
            return NotImplemented
        flat = [x.sizes if isinstance(x, Events) else self.each(x) for x in inputs]
        return self.with_sizes(operation(*flat))


def drawn_events(
    counts: Floats, keys: Floats, size: Callable[[Floats, Events], Floats], base: Callable[..., Any]
) -> Events:
    """Return the events of cells with keys between 0 and 1, ``(trials,)`` or ``(periods, trials)``.

    ``counts`` broadcast to the keys, and the nearest whole number is taken; ``size`` gives sizes at
    scores between 0 and 1, one per event, and ``base`` those of the base case, where the key of a
    cell is 0. Raises ModelError for counts below 0 or infinite, and for more events than can be
    held.
    """
    rounded = np.rint(np.broadcast_to(counts, np.broadcast_shapes(np.shape(counts), keys.shape)))
    if (rounded < 0).any() or np.isinf(rounded).any():
        wrong = rounded[(rounded < 0) | np.isinf(rounded)].flat[0]
        raise ModelError(f"the number of events must be finite and at least 0, not {wrong:g}")
    total = float(np.nansum(rounded))
    if total > MOST_EVENTS:
        raise ModelError(
            f"{total:,.0f} events at a time are more than can be held, {MOST_EVENTS:,}; claims of "
            "this many events are better one driver, their sum"
        )
    cells = np.ascontiguousarray(np.broadcast_to(keys, rounded.shape)).reshape(-1)
    empty = Events(rounded, np.empty(0), cells)
    at_base = np.repeat(cells == AT_BASE, empty.whole)
    if at_base.all():
        return empty.with_sizes(np.array(np.broadcast_to(base(empty), at_base.shape)))
    sizes = size(scores_of_events(cells, empty.whole), empty)
    if at_base.any():
        sizes = np.where(at_base, base(empty), sizes)
    return empty.with_sizes(sizes)


def scores_of_events(keys: Floats, counts: NDArray[np.int64]) -> Floats:
    """Return a score strictly between 0 and 1 for each event, from the key of its cell and its
    place there: the output of SplitMix64 from a state that the key decides.

    Source: Steele, Lea and Flood, OOPSLA (2014), 453-472.

    >>> bool((scores_of_events(np.array([0.3]), np.array([3]))[:2]
    ...       == scores_of_events(np.array([0.3]), np.array([2]))).all())
    True
    """
    states = _mixed(np.ascontiguousarray(keys, dtype=np.float64).view(np.uint64).copy())
    starts = (np.cumsum(counts) - counts).astype(np.uint64)
    places = np.arange(1, int(counts.sum()) + 1, dtype=np.uint64)
    places *= np.uint64(STEP)
    places += np.repeat(states - starts * np.uint64(STEP), counts)
    # of 52 digits: with one more, half of the last would round to 1
    mixed = _mixed(places) >> np.uint64(12)
    scores: Floats = (mixed.astype(np.float64) + 0.5) * 2.0**-52
    return scores


def _mixed(words: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """Mix the digits of words, in place."""
    for shift, factor in ((30, FIRST), (27, SECOND)):
        words ^= words >> np.uint64(shift)
        words *= np.uint64(factor)
    words ^= words >> np.uint64(31)
    return words
