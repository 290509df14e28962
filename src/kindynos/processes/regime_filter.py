"""The likelihood of two regimes, and its peak.

Parameters: the mean of log returns in regime 0 and 1, the logs of their sds, and the log odds of
leaving each.

Sources: Hamilton, Econometrica 57 (1989), 357-384; Dempster, Laird and Rubin, Journal of the Royal
Statistical Society B 39 (1977), 1-38, for the climb.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats

ROUNDS = 400
SHARP = 1e-7  # gain of log likelihood at which the climb ends
LEAST_SD = 1e-3  # of that of all returns: a regime of a single return would be infinitely likely


def filtered(returns: Floats, theta: Floats) -> tuple[float, float]:
    """Return the log likelihood of log returns and the chance of regime 1 after the last."""
    centre, sd = theta[:2], np.exp(np.clip(theta[2:4], -50, 50))
    leave = 1 / (1 + np.exp(-np.clip(theta[4:], -30, 30)))
    density = np.exp(-0.5 * ((returns[:, None] - centre) / sd) ** 2) / sd + 1e-300
    wild = float(leave[0] / leave.sum())
    out, back, logs = float(leave[0]), float(leave[1]), 0.0
    for calm_density, wild_density in density.tolist():
        both = (1 - wild) * calm_density + wild * wild_density
        logs += math.log(both)
        wild = wild * wild_density / both
        wild = wild * (1 - back) + (1 - wild) * out
    return logs - 0.9189385332046727 * len(returns), wild


def climbed(returns: Floats) -> Floats:
    """Return the parameters that make log returns likeliest, regime 0 being the calmer."""
    mean, sd = float(returns.mean()), float(returns.std())
    starts = [(0.7, 1.6, 0.05, 0.12), (0.8, 1.4, 0.12, 0.27), (0.9, 2.5, 0.01, 0.1)]
    climbs = [_climb(returns, mean, sd, *start) for start in starts]
    best = max(climbs, key=lambda item: item[0])[1]
    return best if best[2] <= best[3] else best[[1, 0, 3, 2, 5, 4]]


def _climb(
    returns: Floats, mean: float, sd: float, calm: float, wild: float, out: float, back: float
) -> tuple[float, Floats]:
    means, sds, leave = (
        np.array([mean, mean]),
        np.array([calm * sd, wild * sd]),
        np.array([out, back]),
    )
    last = -math.inf
    for _ in range(ROUNDS):
        density = np.exp(-0.5 * ((returns[:, None] - means) / sds) ** 2) / sds + 1e-300
        logs, in_wild, shifted = _smoothed(density, float(leave[0]), float(leave[1]))
        shares = np.stack([1 - in_wild, in_wild])
        weight = np.maximum(shares.sum(axis=1), 1e-9)
        means = shares @ returns / weight
        sds = np.sqrt(
            np.maximum(
                (shares * (returns - means[:, None]) ** 2).sum(axis=1) / weight,
                (LEAST_SD * sd) ** 2,
            )
        )
        leave = np.clip(shifted / np.maximum(shares[:, :-1].sum(axis=1), 1e-9), 1e-6, 1 - 1e-6)
        if logs - last < SHARP:
            break
        last = logs
    return last, np.concatenate([means, np.log(sds), np.log(leave / (1 - leave))])


def _smoothed(density: Floats, out: float, back: float) -> tuple[float, Floats, Floats]:
    """Return the log likelihood, the chance of regime 1 in each period by all returns, and the
    expected moves out of each.
    """
    ahead, filtered_wild, logs = [], [], 0.0
    wild = out / (out + back)
    for calm_density, wild_density in density.tolist():
        ahead.append(wild)
        both = (1 - wild) * calm_density + wild * wild_density
        logs += math.log(both)
        wild = wild * wild_density / both
        filtered_wild.append(wild)
        wild = wild * (1 - back) + (1 - wild) * out
    later = filtered_wild[-1]
    smoothed = [later]
    moved_out = moved_back = 0.0
    for position in range(len(filtered_wild) - 2, -1, -1):
        now, next_wild = filtered_wild[position], ahead[position + 1]
        to_wild, to_calm = later / max(next_wild, 1e-300), (1 - later) / max(1 - next_wild, 1e-300)
        moved_out += (1 - now) * out * to_wild
        moved_back += now * back * to_calm
        later = now * ((1 - back) * to_wild + back * to_calm)
        smoothed.append(later)
    return (
        logs - 0.9189385332046727 * len(density),
        np.array(smoothed[::-1]),
        np.array([moved_out, moved_back]),
    )
