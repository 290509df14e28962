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
from kindynos.errors import ParameterError
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
    # whether the trials of a block are independent of each other
    independent: ClassVar[bool] = False
    # whether each row's scores fill equal strata, which dependence must keep whole
    stratified: ClassVar[bool] = False
    powers_of_two: ClassVar[bool] = False  # whether blocks must have such sizes

    @abstractmethod
    def scores(
        self,
        requests: Sequence[ScoreRequest],
        seed: int,
        block: int,
        trials: int,
        wanted: Container[str] | None = None,
    ) -> dict[str, Floats]:
        """Return the scores of the wanted among all of a model's requests: ``(trials,)``, or
        ``(rows, trials)``.
        """


class _ByStream(Plan):
    """A plan in which each driver's scores come from its own stream alone."""

    @abstractmethod
    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        """Return ``(rows, trials)`` scores between 0 and 1."""

    def scores(
        self,
        requests: Sequence[ScoreRequest],
        seed: int,
        block: int,
        trials: int,
        wanted: Container[str] | None = None,
    ) -> dict[str, Floats]:
        answer = {}
        for request in requests:
            if wanted is not None and request.name not in wanted:
                continue
            scores = self._place(stream(seed, request.name, block), request.rows or 1, trials)
            answer[request.name] = scores[0] if request.rows is None else scores
        return answer


class Random(_ByStream):
    """Independent draws."""

    label = "random"
    use = "independent draws: the plain plan, for comparison and for teaching"
    independent = True

    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        scores = generator.random((rows, trials))
        return np.maximum(scores, LOWEST_SCORE, out=scores)


class Latin(_ByStream):
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

    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        scores = np.empty((rows, trials))
        scores[:] = np.arange(trials)
        generator.permuted(scores, axis=1, out=scores)
        scores += generator.random((rows, trials))
        scores /= trials
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


class Antithetic(_ByStream):
    """Independent draws in pairs: the second trial of a pair has 1 - u where the first has u.

    Source: Hammersley and Morton, Proceedings of the Cambridge Philosophical Society 52 (1956),
    449-475.
    """

    label = "antithetic"
    use = "pairs of opposite trials; exact for what is symmetric and additive"

    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        scores = np.empty((rows, trials))
        half = (trials + 1) // 2
        scores[:, :half] = generator.random((rows, half))
        scores[:, half:] = 1 - scores[:, : trials - half]
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


class Sobol(Plan):
    """Sobol' points, scrambled anew in each block by a random linear map and shift of their digits,
    keyed by driver.

    Dimensions follow the order of declaration, numbers before rows. Sources: Joe and Kuo, SIAM
    Journal on Scientific Computing 30 (2008), 2635-2654; Matoušek, Journal of Complexity 14 (1998),
    527-556.
    """

    label = "sobol"
    use = (
        "points spread evenly in all dimensions together; the most exact for smooth models; "
        "trials are rounded up"
    )
    powers_of_two = True

    def scores(
        self,
        requests: Sequence[ScoreRequest],
        seed: int,
        block: int,
        trials: int,
        wanted: Container[str] | None = None,
    ) -> dict[str, Floats]:
        levels = max(trials - 1, 1).bit_length()
        answer, begin = {}, 0
        ordered = sorted(requests, key=lambda request: request.rows is not None)
        dimensions = sum(request.rows or 1 for request in ordered)
        if dimensions > MOST_DIMENSIONS:
            raise ParameterError(
                f"{dimensions:,} numbers a trial are more than its {MOST_DIMENSIONS:,} dimensions"
            )
        for request in ordered:
            rows = request.rows or 1
            if wanted is None or request.name in wanted:
                with _making:
                    directions = _directions(dimensions, levels)[begin : begin + rows]
                scores = _scrambled(directions, stream(seed, request.name, block), trials)
                answer[request.name] = scores[0] if request.rows is None else scores
            begin += rows
        return answer


MOST_DIMENSIONS = 21_201  # of the published direction numbers
DIGITS = 30
# SciPy sets up its table of direction numbers at first use, which some versions do wrongly in two
# threads
_making = Lock()


@lru_cache(maxsize=16)
def _directions(dimensions: int, levels: int) -> NDArray[np.int64]:
    """Return the direction numbers of each dimension, ``(dimensions, levels)``: the points whose
    Gray code is a power of 2.
    """
    from scipy.stats import qmc

    points = qmc.Sobol(dimensions, scramble=False, bits=DIGITS).random_base2(levels)
    return np.asarray((points[2 ** np.arange(1, levels + 1) - 1] * 2**DIGITS).T, dtype=np.int64)


def _scrambled(
    directions: NDArray[np.int64], generator: np.random.Generator, trials: int
) -> Floats:
    """Return ``(rows, trials)`` scrambled scores: lower triangular digits times direction numbers,
    a shift, and a fill-in.
    """
    rows, levels = directions.shape
    places = np.arange(DIGITS - 1, -1, -1)
    matrix = np.tril(generator.integers(0, 2, (rows, DIGITS, DIGITS)), -1) + np.eye(
        DIGITS, dtype=np.int64
    )
    digits = (directions[:, None, :] >> places[:, None]) & 1
    mixed = (((matrix @ digits) & 1) << places[:, None]).sum(axis=1)
    numbers = np.repeat(generator.integers(0, 2**DIGITS, (rows, 1)), trials, axis=1)
    index = np.arange(trials)
    for level in range(levels):
        numbers ^= ((index >> level) & 1) * mixed[:, level : level + 1]
    scores: Floats = (numbers + generator.random((rows, trials))) / 2**DIGITS
    return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


PLANS: Registry[Plan] = Registry(
    "sampling plan", {plan.label: plan for plan in (Random(), Latin(), Antithetic(), Sobol())}
)
