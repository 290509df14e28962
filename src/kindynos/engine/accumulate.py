"""Trials by block, reduced to what their figures need: a worker sends a few numbers a block instead
of its trials, so that a run may be larger than memory.

Of each block: how many trials have a value, the sums of four powers, how many lie below each
bracket of a wanted percentile and what these add up to, the values inside the brackets, how many
lie below and at stated cut-offs, and the sums of products with companions, such as the drivers, of
which covariances are made. Put side by side in the order of the blocks, they are the
same for any number of workers.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.engine.blocks import Blocks

FARTHEST = 10  # values at either end that are kept
POWERS = 4


@dataclass(frozen=True)
class Wanted:
    """What is gathered of a quantity: brackets ``(n, 2)`` in which wanted percentiles lie, and
    cut-offs. Powers are of the distance from ``centre``, products of those and the distances of
    companions from theirs ``(k,)``.
    """

    centre: float
    brackets: Floats
    cuts: Floats
    companions: Floats = field(default_factory=lambda: np.empty(0))


@dataclass(frozen=True)
class BlockSums:
    """A quantity in some neighbouring blocks: each array has a row for each block. Values inside
    the brackets stand block by block, equal ones once with their number.
    """

    valid: NDArray[np.int64]
    powers: Floats
    below: NDArray[np.int64]
    sums_below: Floats
    distinct: NDArray[np.int64]  # values inside each bracket, equal ones once
    cut_below: NDArray[np.int64]
    cut_at: NDArray[np.int64]
    companions: Floats  # of each: the sum, that of squares, and that of products with the quantity
    tail_powers: Floats  # of all blocks: the second and the third power below each bracket
    farthest: Floats
    values: Floats = field(repr=False)
    counts: NDArray[np.int64] = field(repr=False)


ROWS: dict[str, tuple[type, tuple[str | int, ...]]] = {
    "valid": (np.int64, ()),
    "powers": (np.float64, (POWERS,)),
    "below": (np.int64, ("brackets",)),
    "sums_below": (np.float64, ("brackets",)),
    "distinct": (np.int64, ("brackets",)),
    "cut_below": (np.int64, ("cuts",)),
    "cut_at": (np.int64, ("cuts",)),
    "companions": (np.float64, ("companions", 3)),
}


def gather(
    values: Floats, bounds: Sequence[int], requested: Wanted, companions: Floats | None = None
) -> BlockSums:
    """Return what the values ``(trials,)`` of neighbouring blocks come to, and their products with
    companions ``(k, trials)``; ``bounds`` are the first trial of each block and the number of
    trials. NaN counts as no value.
    """
    lows, highs = requested.brackets[:, 0], requested.brackets[:, 1]
    rows: dict[str, list[Any]] = {name: [] for name in ROWS}
    beside = np.empty((0, len(values))) if companions is None else companions
    inside, counts, farthest = [], [], []
    tail_powers = np.zeros((len(lows), 2))
    for begin, end in pairwise(bounds):
        ordered = np.sort(values[begin:end])
        ordered = ordered[: len(ordered) - int(np.count_nonzero(np.isnan(ordered)))]
        gaps = ordered - requested.centre
        squares = gaps * gaps
        cubes = squares * gaps
        rows["valid"].append(len(ordered))
        with np.errstate(invalid="ignore"):  # of infinite values of either sign
            powers = (gaps.sum(), squares.sum(), cubes.sum(), (squares * squares).sum())
        rows["powers"].append(powers)
        first = np.searchsorted(ordered, lows, side="left")
        last = np.searchsorted(ordered, highs, side="right")
        rows["below"].append(first)
        rows["sums_below"].append(_up_to(gaps, first))
        tail_powers += np.column_stack([_up_to(squares, first), _up_to(cubes, first)])
        distinct = []
        for low, high in zip(first.tolist(), last.tolist(), strict=True):
            group = ordered[low:high]
            starts = np.flatnonzero(np.concatenate([[True], group[1:] != group[:-1]]))
            starts = starts[: len(group)]
            inside.append(group[starts])
            counts.append(np.diff(np.append(starts, len(group))))
            distinct.append(len(starts))
        rows["distinct"].append(distinct)
        rows["cut_below"].append(np.searchsorted(ordered, requested.cuts, side="left"))
        upper = np.searchsorted(ordered, requested.cuts, side="right")
        rows["cut_at"].append(upper - rows["cut_below"][-1])
        farthest.append(_ends(ordered))
        rows["companions"].append(_products(values[begin:end], beside[:, begin:end], requested))
    count = len(bounds) - 1
    arrays: dict[str, Any] = {
        name: np.array(rows[name], dtype=kind).reshape(
            (count, -1, *shape[1:]) if shape else (count,)
        )
        for name, (kind, shape) in ROWS.items()
    }
    return BlockSums(
        **arrays,
        tail_powers=tail_powers,
        farthest=_farthest(farthest),
        values=np.concatenate([*inside, np.empty(0)]),
        counts=np.concatenate([*counts, np.empty(0, dtype=np.int64)]),
    )


def _products(values: Floats, companions: Floats, requested: Wanted) -> Floats:
    """Return for each companion its sum, that of its squares, and that of its products with the
    quantity, over the trials in which this has a value ``(k, 3)``.
    """
    has_value = ~np.isnan(values)
    if not has_value.all():
        values, companions = values[has_value], companions[:, has_value]
    others = companions - requested.companions[:, None]
    with np.errstate(invalid="ignore"):
        products = others @ (values - requested.centre)
    squares = np.einsum("ij,ij->i", others, others)
    return np.stack([others.sum(axis=1), squares, products], axis=1)


def _up_to(terms: Floats, places: NDArray[np.int64]) -> Floats:
    """Return the sums of the terms before each place."""
    with np.errstate(invalid="ignore"):
        return np.concatenate([[0.0], np.cumsum(terms)])[places]


def _farthest(parts: Sequence[Floats]) -> Floats:
    """Return the values at either end of all parts, in order."""
    return _ends(np.sort(np.concatenate([*parts, np.empty(0)])))


def _ends(ordered: Floats) -> Floats:
    """Return the first and the last of ordered values."""
    if len(ordered) <= 2 * FARTHEST:
        return ordered
    return np.concatenate([ordered[:FARTHEST], ordered[-FARTHEST:]])


class Accumulator:
    """The blocks of a run, batch by batch: ``add`` what a batch gave, in any order, or ``merge``
    what another one has; ``merged`` when all are there. ``state`` and ``restore`` are for a
    checkpoint.
    """

    def __init__(self, blocks: Blocks, requested: Wanted) -> None:
        self.blocks, self.wanted = blocks, requested
        widths: dict[Any, Any] = {
            "brackets": len(requested.brackets),
            "cuts": len(requested.cuts),
            "companions": len(requested.companions),
        }
        self.rows: dict[str, Any] = {
            name: np.zeros((blocks.count, *(widths.get(width, width) for width in shape)), kind)
            for name, (kind, shape) in ROWS.items()
        }
        self.tail_powers = np.zeros((blocks.batches, len(requested.brackets), 2))
        self.farthest = np.empty(0)
        self.inside: dict[int, tuple[Floats, NDArray[np.int64]]] = {}

    def add(self, batch: int, block_sums: BlockSums) -> None:
        """Put what a batch gave in its place."""
        inside = self.blocks.in_batch(batch)
        for name, array in self.rows.items():
            array[inside.start : inside.stop] = getattr(block_sums, name)
        self.tail_powers[batch] = block_sums.tail_powers
        self.farthest = _farthest([self.farthest, block_sums.farthest])
        ones = bool((block_sums.counts == 1).all())  # nothing but single values, as usual
        counts = np.empty(0, dtype=np.int64) if ones else block_sums.counts
        self.inside[batch] = block_sums.values, counts

    def holds(self, batch: int, block_sums: BlockSums) -> bool:
        """Return whether what is here of a batch is what it gives, to the bit."""
        alone = Accumulator(self.blocks, self.wanted)
        alone.add(batch, block_sums)
        inside = self.blocks.in_batch(batch)
        rows = [
            np.array_equal(
                array[inside.start : inside.stop],
                alone.rows[name][inside.start : inside.stop],
                equal_nan=array.dtype.kind == "f",
            )
            for name, array in self.rows.items()
        ]
        pairs = zip(self.inside[batch], alone.inside[batch], strict=True)
        return all(rows) and all(np.array_equal(here, there) for here, there in pairs)

    def merge(self, other: Accumulator) -> None:
        """Take over the batches of another accumulator of the same blocks and wishes."""
        for batch in other.inside:
            inside = self.blocks.in_batch(batch)
            for name, array in self.rows.items():
                array[inside.start : inside.stop] = other.rows[name][inside.start : inside.stop]
            self.tail_powers[batch] = other.tail_powers[batch]
        self.farthest = _farthest([self.farthest, other.farthest])
        self.inside |= other.inside

    def merged(self) -> BlockSums:
        """Return all blocks side by side, in their order."""
        order = sorted(self.inside)
        values = [self.inside[batch][0] for batch in order]
        counts = [
            self.inside[batch][1]
            if len(self.inside[batch][1])
            else np.ones(len(self.inside[batch][0]), dtype=np.int64)
            for batch in order
        ]
        return BlockSums(
            **self.rows,
            tail_powers=self.tail_powers.sum(axis=0),
            farthest=self.farthest,
            values=np.concatenate([*values, np.empty(0)]),
            counts=np.concatenate([*counts, np.empty(0, dtype=np.int64)]),
        )

    def state(self) -> dict[str, NDArray[Any]]:
        """Return all of it as arrays."""
        order = sorted(self.inside)
        parts = [self.inside[batch] for batch in order]
        return {
            **self.rows,
            "tail_powers": self.tail_powers,
            "farthest": self.farthest,
            "batches": np.array(order, dtype=np.int64),
            "lengths": np.array([[len(v), len(c)] for v, c in parts], np.int64).reshape(-1, 2),
            "values": np.concatenate([*(v for v, _ in parts), np.empty(0)]),
            "counts": np.concatenate([*(c for _, c in parts), np.empty(0, dtype=np.int64)]),
        }

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """Take up what ``state`` gave."""
        self.rows = {name: np.array(state[name]) for name in self.rows}
        self.tail_powers = np.array(state["tail_powers"])
        self.farthest = np.array(state["farthest"])
        ends = np.cumsum(np.concatenate([np.zeros((1, 2), np.int64), state["lengths"]]), axis=0)
        for position, batch in enumerate(state["batches"].tolist()):
            (v, c), (v_end, c_end) = ends[position], ends[position + 1]
            self.inside[batch] = state["values"][v:v_end], state["counts"][c:c_end]
