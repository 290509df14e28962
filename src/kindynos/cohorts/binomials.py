"""Binomial counts by inverting their cdf at uniform scores, so that they move smoothly with the
chance and the number.

A small change of either moves few counts, and then by one; drawn by rejection they would all
change.
"""

from __future__ import annotations

from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.counts import log_choose
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import betaincc, xlog1py, xlogy

TABLED = 256  # things up to which quantiles come from a table of cdfs
PARTS = 64  # of the scores
MOST_BYTES = 2**27  # of tables that are kept
WIDE = 20.0  # sd from which the expansion serves, where it lies clear of a boundary
MOST_STEPS = 60  # by one, from the approximate quantile to the exact one
_GOLDEN, _FIRST, _SECOND = (
    np.uint64(v) for v in (0x9E3779B97F4A7C15, 0xBF58476D1CE4E5B9, 0x94D049BB133111EB)
)


def split(scores: Floats, number: int) -> Floats:
    """Return another uniform score for each, as good as independent of it and of those with other
    ``number``s; 0 keeps it.

    The bits of the score are mixed by the finalizer of Steele, Lea and Flood, ACM SIGPLAN Notices
    49 (2014), 453-472.
    """
    if number == 0:
        return scores
    with np.errstate(over="ignore"):
        bits = np.ascontiguousarray(scores).view(np.uint64) + _GOLDEN * np.uint64(number)
        bits ^= bits >> np.uint64(30)
        bits *= _FIRST
        bits ^= bits >> np.uint64(27)
        bits *= _SECOND
        bits ^= bits >> np.uint64(31)
    return ((bits >> np.uint64(11)).astype(np.float64) + 0.5) * 2.0**-53


Table = tuple[Floats, NDArray[np.uint16]]


class _Tables:
    """Tables of quantiles by the most things and the chance, the latest used within a bound on
    their memory: a cohort in which each state leads to each other needs one for each move.
    """

    def __init__(self) -> None:
        self.kept: dict[tuple[int, float], Table] = {}
        self.size = 0
        self.lock = Lock()

    def of(self, most: int, chance: float) -> Table:
        """Return the table of up to ``most`` things, made where it is not there."""
        key = (most, chance)
        with self.lock:
            table = self.kept.pop(key, None)
            if table is not None:
                self.kept[key] = table  # at the end, as the latest used
                return table
        table = _quantile_table(most, chance)
        with self.lock:
            self.size += 0 if key in self.kept else _bytes(table)
            self.kept[key] = table
            while self.size > MOST_BYTES and len(self.kept) > 1:
                self.size -= _bytes(self.kept.pop(next(iter(self.kept))))
        return table


def _bytes(table: Table) -> int:
    return sum(array.nbytes for array in table)


def _quantile_table(most: int, chance: float) -> Table:
    """Return the cdfs of all numbers of things up to ``most``, a row each, and where to begin in it
    for each part of the scores.

    Of one thing more, at most k move if it stays and at most k of the others move, or it moves and
    at most k - 1 do: F(k; n) = (1 - p) F(k; n - 1) + p F(k - 1; n - 1).
    """
    cdf = np.ones((most + 1, most + 1))
    for n in range(1, most + 1):
        before = cdf[n - 1]
        cdf[n, :n] = (1 - chance) * before[:n]
        cdf[n, 1:n] += chance * before[: n - 1]
    begin = np.stack([np.searchsorted(row, np.arange(PARTS) / PARTS) for row in cdf])
    return cdf, np.minimum(begin, most).astype(np.uint16)


_TABLES = _Tables()


def binomial_quantile(scores: Floats, number: Floats, chance: Any) -> Floats:
    """Return how many of ``number (trials,)`` things move, each with a chance, at uniform scores
    ``(trials,)``.

    The chance is one, or one per trial.
    """
    n = np.broadcast_to(number, scores.shape)
    if np.ndim(chance) == 0:
        chance = float(chance)
        if chance <= 0:
            return np.zeros(len(scores))
        if chance >= 1:
            return np.array(n, dtype=np.float64)
        most = int(number.max()) if number.size else 0
        if most <= TABLED:
            return _from_table(
                scores,
                n.astype(np.int64),
                *_TABLES.of(max(16, 1 << (most - 1).bit_length()), chance),
            )
    return _by_steps(scores, n.astype(np.float64), np.broadcast_to(chance, scores.shape))


def _from_table(u: Floats, n: NDArray[np.int64], cdf: Floats, begin: NDArray[np.uint16]) -> Floats:
    k = begin[n, (u * PARTS).astype(np.int64)].astype(np.int64)
    k += cdf[n, k] < u
    left = np.flatnonzero(cdf[n, k] < u)
    while len(left):
        k[left] += 1
        left = left[cdf[n[left], k[left]] < u[left]]
    return k.astype(np.float64)


def _by_steps(u: Floats, n: Floats, p: Floats) -> Floats:
    """Return quantiles from the expansion around the normal ones, and where that leaves a doubt, by
    steps of one.

    Source: Cornish and Fisher, Revue de l'Institut International de Statistique 5 (1938), 307-320,
    of a count with an even fraction added to it.
    """
    variance = n * p * (1 - p)
    sd, z = np.sqrt(variance), normal_quantile(u)
    lean = 1 - 2 * p
    with np.errstate(all="ignore"):
        third = (
            (1 - 6 * p * (1 - p)) * (z**3 - 3 * z) / 24 - lean**2 * (2 * z**3 - 5 * z) / 36 + z / 24
        )
        values = n * p + sd * z + lean / 6 * (z * z - 1) + np.where(sd > 1, third / sd, 0.0)
        fraction = np.abs(values - np.floor(values) - 0.5)
        doubtful = ~((sd > WIDE) & (fraction > 0.01 + (2 + z**4) / (4 * variance)))
    k = np.clip(np.ceil(values - 0.5), 0, n)
    where = np.flatnonzero(doubtful)
    if len(where):
        k[where] = _stepped(u[where], n[where], p[where], k[where])
    return k


def _stepped(u: Floats, n: Floats, p: Floats, k: Floats) -> Floats:
    """Return the smallest counts whose cdf reaches the scores, from counts nearby."""
    here = _cdf(k, n, p)
    active = np.arange(len(u))
    for _ in range(MOST_STEPS):  # up, as long as the cdf is below the score
        active = active[(here[active] < u[active]) & (k[active] < n[active])]
        if not len(active):
            break
        k[active] += 1
        here[active] = _cdf(k[active], n[active], p[active])
    active = np.arange(len(u))
    for _ in range(MOST_STEPS):  # down, as long as one less would do
        before = here[active] - _mass(k[active], n[active], p[active])
        down = (before >= u[active]) & (k[active] > 0)
        active, before = active[down], before[down]
        if not len(active):
            break
        k[active] -= 1
        here[active] = before
    return k


def _cdf(k: Floats, n: Floats, p: Floats) -> Floats:
    return np.where(k >= n, 1.0, betaincc(k + 1, np.maximum(n - k, 1e-300), p))


def _mass(k: Floats, n: Floats, p: Floats) -> Floats:
    with np.errstate(all="ignore"):
        return np.nan_to_num(np.exp(log_choose(n, k) + xlogy(k, p) + xlog1py(n - k, -p)))
