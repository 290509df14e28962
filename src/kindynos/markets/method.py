"""What a method of value at risk and expected shortfall is. To add one, see ``methods.METHODS``.

A method is stated once, for rows of losses: the figure of today is that of one row, a rolling
backtest that of a row for each day. Losses are positive. Over several days methods that fit
moments let the figure of one day grow with the root of their number (its mean with the number);
those of the history add up days that are drawn from it. A method's options are its fields.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from kindynos.arrays import Floats
from kindynos.formatting import p_value
from kindynos.inference.estimates import Estimate
from kindynos.markets.exposure import Exposure
from kindynos.processes.clustering import clustering_test

MEASURES = ("value_at_risk", "expected_shortfall")
Tail = Callable[..., tuple[Floats, Floats]]
DOUBTFUL = 0.01  # the p-value of a test below which an assumption is called contradicted
NEAR = 1e-6  # the step of differences, as a share of the largest loss


@dataclass(frozen=True, kw_only=True)
class Method(ABC):
    """A way from past losses to a figure of risk."""

    label: ClassVar[str]
    use: ClassVar[str]
    rolling: ClassVar[bool] = True  # whether a figure of every day's window can be had at once

    @abstractmethod
    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        """Return value at risk and expected shortfall of each row of losses ``(rows, losses)``."""

    @abstractmethod
    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        """Return a figure with the 95 % interval in which estimation and sampling error leave
        it.
        """

    @abstractmethod
    def description(self, exposure: Exposure, horizon: int) -> str:
        """Return how a figure was made, in words."""

    def stretched(self, exposure: Exposure, horizon: int) -> tuple[Exposure, int]:
        """Return the exposure that a figure over a horizon is taken from, and the horizon that is
        left to scale by.
        """
        return exposure.scaled_over(horizon)

    def over(self, exposure: Exposure, horizon: int) -> tuple[Method, Exposure, int]:
        """Return what a figure over a horizon is taken from: a method, the exposure, and the
        horizon that is left to scale by.
        """
        return self, *self.stretched(exposure, horizon)

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        """Return the losses that quantiles are taken of, and their weights, which add up to 1."""
        return losses, np.full(len(losses), 1 / len(losses))

    def held(self, losses: Floats) -> Tail:
        """Return ``tail`` with what is fitted to these losses, such as degrees of freedom, held as
        it is.
        """
        return self.tail

    def refitted(self, losses: Floats) -> Tail:
        """Return ``tail`` of histories like these losses, with what is fitted to each as far apart
        as fits would be.
        """
        return self.held(losses)

    def figure(self, exposure: Exposure, measure: str, level: float, horizon: int) -> float:
        """Return a figure without its interval."""
        return float(self.tail(exposure.losses[None], level, horizon)[MEASURES.index(measure)][0])

    def shares(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Floats:
        """Return by how much the figure grows with each instrument's value ``(instruments,)``,
        times that value.

        By Euler's theorem they add up to the figure. Here they are central differences, with fitted
        shapes held as they are.
        """
        position, losses = MEASURES.index(measure), exposure.losses
        own = exposure.own_losses
        step = NEAR * float(np.abs(losses).max()) / np.maximum(np.abs(own).max(axis=0), 1e-300)
        shifted = (own * step).T
        figures = self.held(losses)(
            np.concatenate([losses + shifted, losses - shifted]), level, horizon
        )[position]
        count = own.shape[1]
        return np.asarray((figures[:count] - figures[count:]) / (2 * step))

    def doubt(self, exposure: Exposure) -> str:
        """Return what in the data contradicts the method's assumptions, in words; "" where nothing
        was found.
        """
        return _clusters(exposure.losses)

    def sampling_error(self, exposure: Exposure, measure: str, level: float, horizon: int) -> float:
        """Return the half-width of the interval that simulation alone would leave: 0 for a method
        without draws.
        """
        return 0.0


def _clusters(losses: Floats) -> str:
    p = clustering_test(losses) if len(losses) >= 40 else 1.0
    return (
        ""
        if p >= DOUBTFUL
        else f"large moves come in clusters ({p_value(p)}): today's volatility is not the window's"
    )


def scaled(exposure: Exposure, horizon: int) -> str:
    """Return the words for the figure of one period that stands for several."""
    if horizon == 1:
        return ""
    what = "one" if exposure.book.in_proportion else "moves of one"
    return f", {what} {exposure.spacing.unit} times the root of {horizon}"


def around(value: float, low: float, high: float, factor: float = 1.0, note: str = "") -> Estimate:
    """Return a figure with its interval, all times a factor."""
    return Estimate(value * factor, low * factor, high * factor, note=note)


def root(horizon: int) -> float:
    """Return the factor from one period to several independent ones."""
    return math.sqrt(horizon)
