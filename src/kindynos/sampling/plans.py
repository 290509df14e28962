"""Sampling plans: how the uniform scores of one block are laid out. Every block is a replicate of
its plan.

To add a plan: a subclass of Plan with its ``label``, and its line in PLANS.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Container, Sequence
from dataclasses import dataclass
from functools import lru_cache
from threading import Lock
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.registry import Registry
from kindynos.sampling.streams import stream

LOWEST_SCORE = 2.0**-54
HIGHEST_SCORE = 1 - 2.0**-53


@dataclass(frozen=True)
class ScoreRequest:
    """The scores one driver needs: one number per trial (``rows`` is None), or ``rows`` numbers a
    trial.
    """

    name: str
    rows: int | None = None


class Plan(ABC):
    """A way to place the scores of a block; scores lie strictly between 0 and 1."""

    label: ClassVar[str]
    use: ClassVar[str]
    # how many trials of a block depend on each other: 1 for none, 0 for all of them
    together: ClassVar[int] = 0
    # whether each row's scores fill equal strata, which dependence must keep whole
    stratified: ClassVar[bool] = False
    powers_of_two: ClassVar[bool] = False  # whether blocks must have such sizes

    def scores(
        self,
        requests: Sequence[ScoreRequest],
        seed: int,
        block: int,
        trials: int,
        requested: Container[str] | None = None,
    ) -> dict[str, Floats]:
        """Return the scores of the wanted among all of a model's requests: ``(trials,)``, or
        ``(rows, trials)``.
        """
        by_name = {}
        for request in requests:
            if requested is not None and request.name not in requested:
                continue
            scores = self._place(_Key(seed, request.name, block), request.rows or 1, trials)
            by_name[request.name] = scores[0] if request.rows is None else scores
        return by_name

    @abstractmethod
    def _place(self, key: _Key, rows: int, trials: int) -> Floats:
        """Return ``(rows, trials)`` scores between 0 and 1. They depend on the key alone, and each
        row only on its place: a model with more periods has the same scores in the first ones.
        """


@dataclass(frozen=True)
class _Key:
    """What scores are keyed by: the seed, the name of the driver and the block."""

    seed: int
    name: str
    block: int

    def stream(self, *use: str) -> np.random.Generator:
        """Return the random stream of the block, for a use."""
        return stream(self.seed, self.name, self.block, *use)


class Random(Plan):
    """Independent draws."""

    label = "random"
    use = "independent draws: the plain plan, for comparison and for teaching"
    together = 1

    def _place(self, key: _Key, rows: int, trials: int) -> Floats:
        scores = key.stream().random((rows, trials))
        return np.maximum(scores, LOWEST_SCORE, out=scores)


class Latin(Plan):
    """A Latin hypercube in each block: every driver has exactly one score in each of ``trials``
    equal strata.

    Source: McKay, Beckman and Conover, Technometrics 21 (1979), 239-245.
    """

    label = "latin"
    use = (
        "every part of each driver's range is visited evenly; the default, and rarely worse "
        "than random"
    )
    stratified = True

    def _place(self, key: _Key, rows: int, trials: int) -> Floats:
        generator, scores = key.stream(), np.empty((rows, trials))
        for row in range(rows):
            scores[row] = generator.permutation(trials)
            scores[row] += generator.random(trials)
        scores /= trials
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


class Antithetic(Plan):
    """Independent draws in pairs: the second trial of a pair has 1 - u where the first has u.

    Source: Hammersley and Morton, Proceedings of the Cambridge Philosophical Society 52 (1956),
    449-475.
    """

    label = "antithetic"
    use = "pairs of opposite trials; exact for what is symmetric and additive"
    together = 2

    def _place(self, key: _Key, rows: int, trials: int) -> Floats:
        scores = np.empty((rows, trials))
        half = (trials + 1) // 2
        scores[:, :half] = key.stream().random((rows, half))
        scores[:, half:] = 1 - scores[:, : trials - half]
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


class Sobol(Plan):
    """Sobol' points, scrambled in each block by a random linear map and shift of their digits.

    The direction numbers of a driver are keyed by its name: its odd initial numbers are drawn at
    random, for a primitive polynomial of so high a degree that the recursion is not reached. So no
    driver depends on the others of its model, at the price of pairs that are spread less evenly
    than those of the first dimensions of a table. Sources: Sobol', USSR Computational Mathematics
    and Mathematical Physics 7 (1967), 86-112; Matoušek, Journal of Complexity 14 (1998), 527-556.
    """

    label = "sobol"
    use = (
        "points spread evenly in all dimensions together; the most exact for smooth models; "
        "trials are rounded up"
    )
    powers_of_two = True

    def _place(self, key: _Key, rows: int, trials: int) -> Floats:
        generator = stream(key.seed, key.name, "directions")
        return self._scrambled(key, _directions(generator, rows, _levels(trials)), trials)

    def _scrambled(self, key: _Key, directions: NDArray[np.int64], trials: int) -> Floats:
        """Return scores from the digits of direction numbers, ``(rows, digits, levels)``."""
        rows, _, levels = directions.shape
        matrices, shifts = key.stream("matrix"), key.stream("shift")
        lower = np.tril(matrices.integers(0, 2, (rows, DIGITS, DIGITS)), -1)
        digits = (lower + np.eye(DIGITS, dtype=np.int64)) @ directions & 1
        # each direction number as a whole number, the first digit highest
        mixed = (digits << np.arange(DIGITS - 1, -1, -1)[:, None]).sum(axis=1)
        numbers = np.repeat(shifts.integers(0, 2**DIGITS, (rows, 1)), trials, axis=1)
        index = np.arange(trials)
        for level in range(levels):
            numbers ^= ((index >> level) & 1) * mixed[:, level : level + 1]
        scores: Floats = (numbers + key.stream("fill").random((rows, trials))) / 2**DIGITS
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


DIGITS = 30


def _levels(trials: int) -> int:
    """Return how many binary digits number the trials."""
    return max(trials - 1, 1).bit_length()


def _directions(generator: np.random.Generator, rows: int, levels: int) -> NDArray[np.int64]:
    """Return the digits of direction numbers, ``(rows, digits, levels)``: the number of level k has
    k digits at random and a 1 at its end, so that any 2^k points in a row fill 2^k strata.
    """
    above = np.triu(generator.integers(0, 2, (rows, DIGITS, DIGITS)), 1)
    digits: NDArray[np.int64] = (above + np.eye(DIGITS, dtype=np.int64))[:, :, :levels]
    return digits


class SobolInOrder(Sobol):
    """Sobol' points by the first dimensions of the published table, in the order of the requests:
    pairs are spread more evenly than by names, for methods that share no draws with others.

    Source: Joe and Kuo, SIAM Journal on Scientific Computing 30 (2008), 2635-2654.
    """

    def scores(
        self,
        requests: Sequence[ScoreRequest],
        seed: int,
        block: int,
        trials: int,
        requested: Container[str] | None = None,
    ) -> dict[str, Floats]:
        """Return the scores of the wanted among all requests; see ``Plan.scores``."""
        dimensions = sum(request.rows or 1 for request in requests)
        if dimensions > MOST_DIMENSIONS:
            return super().scores(requests, seed, block, trials, requested)
        with _making:
            directions = _published(dimensions, _levels(trials))
        by_name, begin = {}, 0
        for request in requests:
            rows = request.rows or 1
            if requested is None or request.name in requested:
                key, own = _Key(seed, request.name, block), directions[begin : begin + rows]
                scores = self._scrambled(key, own, trials)
                by_name[request.name] = scores[0] if request.rows is None else scores
            begin += rows
        return by_name


MOST_DIMENSIONS = 21_201  # of the published direction numbers
# SciPy sets up its table of direction numbers at first use, which some versions do wrongly in two
# threads
_making = Lock()


@lru_cache(maxsize=16)
def _published(dimensions: int, levels: int) -> NDArray[np.int64]:
    """Return the digits of the published direction numbers, ``(dimensions, digits, levels)``: those
    of the points whose Gray code is a power of 2.
    """
    from scipy.stats import qmc

    points = qmc.Sobol(dimensions, scramble=False, bits=DIGITS).random_base2(levels)
    numbers = (points[2 ** np.arange(1, levels + 1) - 1] * 2**DIGITS).T.astype(np.int64)
    digits: NDArray[np.int64] = (numbers[:, None, :] >> np.arange(DIGITS - 1, -1, -1)[:, None]) & 1
    return digits


PLANS: Registry[Plan] = Registry(
    "sampling plan", {plan.label: plan for plan in (Random(), Latin(), Antithetic(), Sobol())}
)
