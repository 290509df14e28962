"""Sampling plans: how the uniform scores of one block are laid out. Every block is a replicate of its plan.

To add a plan: a subclass of Plan with its ``label``, and its line in PLANS.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from kindynos.errors import ParameterError, nearest
from kindynos.sampling.streams import stream

Floats = NDArray[np.float64]

LOWEST_SCORE = 2.0**-54
HIGHEST_SCORE = 1 - 2.0**-53


@dataclass(frozen=True)
class Request:
    """The scores one driver needs: a number a trial (``rows`` is None), or ``rows`` numbers a trial."""

    name: str
    rows: int | None = None


class Plan(ABC):
    """A way to place the scores of a block; scores lie strictly between 0 and 1."""

    label: ClassVar[str]
    use: ClassVar[str]
    independent: ClassVar[bool] = False  # whether the trials of a block are independent of each other

    @abstractmethod
    def scores(self, requests: Sequence[Request], seed: int, block: int, trials: int) -> dict[str, Floats]:
        """Return each request's scores: ``(trials,)``, or ``(rows, trials)``."""


class _ByStream(Plan):
    """A plan in which each driver's scores come from its own stream alone."""

    @abstractmethod
    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        """Return ``(rows, trials)`` scores between 0 and 1."""

    def scores(self, requests: Sequence[Request], seed: int, block: int, trials: int) -> dict[str, Floats]:
        answer = {}
        for request in requests:
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
    """A Latin hypercube in each block: every driver has exactly one score in each of ``trials`` equal strata.

    Source: McKay, Beckman and Conover, Technometrics 21 (1979), 239-245.
    """

    label = "latin"
    use = "every part of each driver's range is visited evenly; the default, and rarely worse than random"

    def _place(self, generator: np.random.Generator, rows: int, trials: int) -> Floats:
        scores = np.empty((rows, trials))
        scores[:] = np.arange(trials)
        generator.permuted(scores, axis=1, out=scores)
        scores += generator.random((rows, trials))
        scores /= trials
        return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE, out=scores)


PLANS: dict[str, Plan] = {plan.label: plan for plan in (Random(), Latin())}


def plan_named(name: str) -> Plan:
    """Return the plan of that name; raises ParameterError, with the nearest spelling, when there is none."""
    if name not in PLANS:
        raise ParameterError(f"sampling must be one of {', '.join(map(repr, PLANS))}, not {name!r}{nearest(name, PLANS)}")
    return PLANS[name]
