"""Estimation error of a risk method by trying it on histories like the one at hand, whose true risk
is known.

The histories are drawn from Student's t shocks with a volatility that follows a GARCH(1,1) model,
or is constant; degrees of freedom and model differ from one to the next, as the fits leave them
open. On each, the method's figure is divided by the true figure of the day after; the truth behind
the figure of the real history is taken to lie where these ratios say. It held the truth in 90 to 99
% of samples (``benchmarks/risk_coverage``).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable
from typing import Protocol

import numpy as np

from kindynos.arrays import Floats
from kindynos.fitting.student import drawn_student, student_tail
from kindynos.inference.intervals import ends_of_draws
from kindynos.memory import remembered
from kindynos.processes.clustering import fit_garch
from kindynos.sampling.streams import stream

HISTORIES = 1_000  # the ends of intervals move by 1 to 3 % with their stream
BEFORE = 100  # days that pass before each history, so that its volatility starts anywhere
LEAST_TRUTH = 0.2  # sds: a figure nearer to 0 cannot be set in proportion
LEAST_DF = 2.6  # below it the sd of shocks is hardly defined
FEWEST = 50  # losses from which a volatility model can be fitted


class FittedMethod(Hashable, Protocol):
    """A method of risk; see ``Method.refitted``."""

    def refitted(self, losses: Floats) -> Callable[..., tuple[Floats, Floats]]:
        """Return its figures of rows of losses, fitted to each."""


def true_ratios(
    method: FittedMethod,
    losses: Floats,
    level: float,
    *,
    clustered: bool,
    least_df: float = LEAST_DF,
) -> tuple[Floats, Floats]:
    """Return what a method's value at risk and expected shortfall are of the true ones,
    ``(histories,)`` each.
    """
    return _ratios(method, losses, level, clustered, least_df)


@remembered
def _ratios(
    method: FittedMethod, losses: Floats, level: float, clustered: bool, least_df: float
) -> tuple[Floats, Floats]:
    rows, ends, df = _histories(losses, clustered, least_df)
    figures, truths = (
        method.refitted(losses)(rows, level),
        [figure * np.sqrt((df - 2) / df) for figure in student_tail(df, level)],
    )
    return _ratio(figures[0], truths[0], ends), _ratio(figures[1], truths[1], ends)


def _ratio(figures: Floats, truth: Floats, ends: Floats) -> Floats:
    return np.full(HISTORIES, np.nan) if truth.min() < LEAST_TRUTH else figures / (truth * ends)


def bounds(value: float, ratios: Floats) -> tuple[float, float]:
    """Return the ends of the 95 % interval of the truth behind a figure."""
    low, high = ends_of_draws(ratios)
    if np.isnan(low):
        return math.nan, math.nan
    if low <= 0 or value <= 0:
        return (-math.inf, math.inf) if value <= 0 else (value / high, math.inf)
    return value / high, value / low


@remembered
def _histories(losses: Floats, clustered: bool, least_df: float) -> tuple[Floats, Floats, Floats]:
    """Return histories of losses ``(histories, days)``, the sd of the day after each, and its
    degrees of freedom.
    """
    days = len(losses)
    reaction, persistence, shocks = np.zeros(HISTORIES), np.zeros(HISTORIES), losses
    if clustered and days >= FEWEST:
        model = fit_garch(losses)
        reaction, persistence = (np.resize(draws, HISTORIES) for draws in model.drawn)
        shocks = losses / model.volatility[:-1]
    df = np.maximum(drawn_student(np.ascontiguousarray(shocks)).df[:HISTORIES], least_df)
    generator = stream(0, "histories", 0)
    draws = generator.standard_t(df, (days + BEFORE, HISTORIES)) * np.sqrt((df - 2) / df)
    rows = np.empty((days, HISTORIES))
    variance = np.ones(HISTORIES)
    for t, shock in enumerate(draws):
        if t >= BEFORE:
            rows[t - BEFORE] = np.sqrt(variance) * shock
        variance = (1 - persistence) + variance * (persistence - reaction + reaction * shock**2)
    return np.ascontiguousarray(rows.T), np.sqrt(variance), df
