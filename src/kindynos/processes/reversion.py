"""How fast a series returns to its level: the estimate of least squares is far too fast, and is
corrected here.

Over n steps let each value be 1 - c / n times the one before, around a level. What least squares
finds for c has a distribution that hangs on c alone, nearly; a trend-free random walk (c = 0) gives
about 4.4 in the median. So c is sought for which half of such series would give less than was
found, and the ends of the interval alike.

Sources: Andrews, Econometrica 61 (1993), 139-165; Hansen, Review of Economics and Statistics 81
(1999), 594-607; the test against a random walk is that of Dickey and Fuller, Journal of the
American Statistical Association 74 (1979), 427-431.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtri
from kindynos.processes.fading import fading_sum
from kindynos.sampling.streams import stream

STEPS, SERIES = 250, 1000  # of the simulated series
PULLS = np.concatenate([[0.0], np.geomspace(0.25, 120, 36)])
MOST = 50.0  # beyond it the normal approximation is the better one
# of confidence
LEVELS = np.concatenate([[0.001, 0.005], np.linspace(0.01, 0.99, 99), [0.995, 0.999]])


@dataclass(frozen=True)
class Reversion:
    """What a series says about its pull c: the ``median``, ``quantiles`` at LEVELS, and the p-value
    of a random walk.
    """

    median: float
    quantiles: tuple[float, ...]
    p_value: float

    def at(self, level: float) -> float:
        """Return the pull below which the truth lies with such confidence."""
        return float(np.interp(level, LEVELS, self.quantiles))


def reversion(slope: float, steps: int, level_stated: bool = False) -> Reversion:
    """Return what least squares' slope on the value before, from that many steps, says about the
    pull; with a stated level it is the slope through that level, which is off by less.

    For a pull beyond the table the estimate is normal around the truth: bias and spread are those
    of Kendall, Biometrika 41 (1954), 403-404.
    """
    pull = steps * (1 - slope)
    table = _null_table(level_stated)
    # the chance of less than was found, by pull
    below = np.array([np.searchsorted(row, pull) / SERIES for row in table])
    p_value = 1 - float(below[0])
    if pull > MOST:
        corrected = slope + (2 * slope if level_stated else 1 + 3 * slope) / steps
        spread = steps * np.sqrt(max(1 - slope**2, 1e-12) / steps)
        quantiles = np.maximum(steps * (1 - corrected) + spread * ndtri(LEVELS), 0.0)
        return Reversion(
            float(np.interp(0.5, LEVELS, quantiles)), tuple(quantiles.tolist()), p_value
        )
    # The more it pulls the rarer is so low an estimate: confidence that c lies below a pull is the
    # chance of less, turned.
    falling = np.minimum.accumulate(below)
    quantiles = np.interp(LEVELS, 1 - falling, PULLS)
    return Reversion(float(np.interp(0.5, LEVELS, quantiles)), tuple(quantiles.tolist()), p_value)


@lru_cache(maxsize=2)
def _null_table(level_stated: bool) -> Floats:
    """Return sorted estimates of c ``(pulls, series)`` from simulated series of each true pull, all
    with the same shocks.
    """
    shocks = stream(0, "reversion", 0).standard_normal((SERIES, STEPS))
    start = stream(0, "reversion", 1).standard_normal(SERIES)
    table: Floats = np.empty((len(PULLS), SERIES))
    for position, pull in enumerate(PULLS.tolist()):
        kept = max(1 - pull / STEPS, 0.0)
        # a random walk's start does not matter
        first = start / np.sqrt(1 - kept**2) if pull else np.zeros(SERIES)
        series = fading_sum(np.hstack([first[:, None], shocks]), kept)
        before = series[:, :-1]
        if not level_stated:
            before = before - before.mean(axis=1, keepdims=True)
        slope = (before * series[:, 1:]).sum(axis=1) / (before**2).sum(axis=1)
        table[position] = np.sort(STEPS * (1 - slope))
    return table
