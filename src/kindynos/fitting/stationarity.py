"""Does a series need differences, or logs? Tests, each with its p-value in words."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import fdtrc, ndtr, ndtri, stdtr
from kindynos.fitting.normality import Test, said

LAGS = 2  # values before, in the test of a season
FEWEST_LEFT = 4  # degrees of freedom of its errors, below which it tells nothing
MANY_SEASONAL = 0.64  # of the strength of a season, from which it is differenced
# Percentiles of the unit-root statistic with a constant, by number of values, of 24,000 simulated
# random walks each with the lags chosen as here, which few values make far lower; for many values
# those of Fuller, Introduction to Statistical Time Series (1976), table 8.5.2.
UNIT_ROOT_LEVELS = (0.01, 0.025, 0.05, 0.10, 0.90, 0.95, 0.975, 0.99)
UNIT_ROOT = {
    10: (-5.44, -4.46, -3.76, -3.16, -0.12, 0.35, 0.82, 1.38),
    12: (-5.33, -4.47, -3.85, -3.25, -0.04, 0.58, 1.15, 1.76),
    14: (-4.85, -4.14, -3.61, -3.07, -0.13, 0.39, 0.94, 1.61),
    16: (-4.94, -4.18, -3.68, -3.19, -0.12, 0.44, 1.02, 1.74),
    20: (-4.65, -4.05, -3.61, -3.13, -0.11, 0.41, 0.99, 1.69),
    24: (-4.62, -4.03, -3.64, -3.19, -0.10, 0.50, 1.15, 1.93),
    30: (-4.49, -4.00, -3.60, -3.15, -0.16, 0.42, 1.03, 1.82),
    36: (-4.28, -3.85, -3.45, -3.01, -0.22, 0.32, 0.87, 1.62),
    48: (-3.99, -3.55, -3.21, -2.83, -0.30, 0.17, 0.61, 1.17),
    60: (-3.91, -3.52, -3.19, -2.78, -0.33, 0.11, 0.49, 0.99),
    80: (-3.79, -3.38, -3.06, -2.72, -0.37, 0.06, 0.44, 0.92),
    120: (-3.68, -3.27, -2.98, -2.64, -0.41, 0.00, 0.34, 0.79),
    200: (-3.60, -3.22, -2.93, -2.61, -0.43, -0.04, 0.29, 0.68),
    400: (-3.49, -3.16, -2.90, -2.59, -0.43, -0.05, 0.28, 0.66),
    math.inf: (-3.43, -3.12, -2.86, -2.57, -0.44, -0.07, 0.23, 0.60),
}
# Source: Kwiatkowski, Phillips, Schmidt and Shin, Journal of Econometrics 54 (1992), table 1.
KPSS_LEVELS, KPSS_CONSTANT = (0.10, 0.05, 0.025, 0.01), (0.347, 0.463, 0.574, 0.739)


def unit_root(values: Floats) -> Test:
    """Test the hypothesis that the series has a unit root, so that shocks never fade, by an
    autoregression with a constant.

    The number of lagged differences is the one with the lowest AIC, which the percentiles allow
    for. Source: Dickey and Fuller,
    Econometrica 49 (1981); Said and Dickey, Biometrika 71 (1984).
    """
    x = values[~np.isnan(values)]
    most = min(int(12 * (len(x) / 100) ** 0.25), max((len(x) - 6) // 3, 0))
    change, level = np.diff(x), x[:-1]
    best: tuple[float, float] | None = None
    unit = float(np.abs(x).max()) or 1.0
    for lags in range(most + 1):
        target = change[most:]
        columns = [
            level[most:],
            np.full(len(target), unit),
            *(change[most - k : len(change) - k] for k in range(1, lags + 1)),
        ]
        design = np.stack(columns, axis=1)
        design, target = design / unit, target / unit
        crossed = np.linalg.pinv(design.T @ design)
        coefficients = crossed @ design.T @ target
        left = target - design @ coefficients
        square = float(left @ left)
        aic = len(target) * math.log(max(square / len(target), 1e-300)) + 2 * design.shape[1]
        if best is None or aic < best[0]:
            variance = square / max(len(target) - design.shape[1], 1)
            best = (
                aic,
                float(coefficients[0]) / math.sqrt(max(variance * float(crossed[0, 0]), 1e-300)),
            )
    assert best is not None
    p = _interpolated(best[1], _unit_root_percentiles(len(x)), UNIT_ROOT_LEVELS)
    return Test(
        "unit root",
        best[1],
        p,
        said(p, "no unit root: shocks fade", "a unit root is not ruled out: shocks may never fade"),
    )


def _unit_root_percentiles(count: int) -> list[float]:
    """Return the percentiles of the unit-root statistic for a number of values, between those that
    were simulated by one over the number.
    """
    inverse = [1 / number for number in reversed(UNIT_ROOT)]
    columns = zip(*reversed(UNIT_ROOT.values()), strict=True)
    return [float(np.interp(1 / count, inverse, column)) for column in columns]


def kpss(values: Floats) -> Test:
    """Test the hypothesis that the series is stationary around a level. Its p-value is known from
    0.01 to 0.10 only.
    """
    x = values[~np.isnan(values)]
    gaps = x - x.mean()
    lags = int(4 * (len(x) / 100) ** 0.25)
    long_run = float(gaps @ gaps) / len(x)
    for k in range(1, lags + 1):
        long_run += 2 * (1 - k / (lags + 1)) * float(gaps[k:] @ gaps[:-k]) / len(x)
    statistic = float((np.cumsum(gaps) ** 2).sum()) / len(x) ** 2 / max(long_run, 1e-300)
    p = min(max(float(np.interp(statistic, KPSS_CONSTANT, KPSS_LEVELS)), 0.01), 0.10)
    words = (
        "not stationary around a level" if p < 0.05 else "nothing speaks against a stationary level"
    )
    bound = "at most 0.01" if p <= 0.01 else ("at least 0.10" if p >= 0.10 else f"= {p:.2g}")
    return Test("KPSS", statistic, p, f"{words} (p {bound})")


def spread_against_level(values: Floats, season: int) -> Test:
    """Test whether the spread within a season (or eight values) grows with its level; the statistic
    is the power of it.

    A power of 1 means that changes are shares of the level, which logs turn into amounts. Source:
    Tukey, Exploratory Data Analysis (1977), chapter 4.
    """
    length = max(season, 8)
    parts = [values[i : i + length] for i in range(0, len(values) - length + 1, length)]
    parts = [part[~np.isnan(part)] for part in parts]
    seasons = [
        (float(part.mean()), float(part.std()))
        for part in parts
        if len(part) > 2 and part.std() > 0 and part.mean() > 0
    ]
    name = "spread against level"
    if len(seasons) < 4:
        return Test(
            name, math.nan, 1.0, "too few seasons to show whether the spread grows with the level"
        )
    level, spread = np.log(np.array(seasons)).T
    gaps = level - level.mean()
    if float(gaps @ gaps) < 1e-12:
        return Test(name, 0.0, 1.0, "the level does not change")
    slope = float(gaps @ spread) / float(gaps @ gaps)
    left = spread - spread.mean() - slope * gaps
    error = math.sqrt(max(float(left @ left) / (len(level) - 2) / float(gaps @ gaps), 1e-300))
    p = 1 - float(stdtr(np.array(len(level) - 2.0), np.array(slope / error)))
    return Test(
        name,
        slope,
        p,
        said(
            p,
            f"the spread grows with the level, power {slope:.2g}",
            "the spread does not grow with the level",
        ),
    )


def seasonal_strength(values: Floats, season: int) -> float:
    """Return how much of what is not trend is season, from 0 to 1. Source: Wang, Smith and Hyndman,
    Data Mining and Knowledge Discovery 13 (2006), 335-364.
    """
    x = filled(values)
    weights = np.ones(season + 1) / season if season % 2 == 0 else np.ones(season) / season
    if season % 2 == 0:
        weights[[0, -1]] /= 2
    trend = np.convolve(x, weights, mode="valid")
    first = len(weights) // 2
    gaps = x[first : first + len(trend)] - trend
    places = (np.arange(len(gaps)) + first) % season
    means = np.array(
        [gaps[places == i].mean() if (places == i).any() else 0.0 for i in range(season)]
    )
    rest = gaps - means[places]
    return max(0.0, 1 - float(rest.var()) / max(float(gaps.var()), 1e-300))


def has_season(values: Floats, season: int) -> Test:
    """Test the hypothesis that the series has no season: the F test of a mean for each place in
    the season, beside a trend and the two values before.

    It compares the squares that two regressions leave, with and without those means. A series with
    missing values loses those that follow them.
    """
    count = len(values)
    target = values[LAGS:]
    before = [values[LAGS - k : count - k] for k in range(1, LAGS + 1)]
    plain = np.stack([np.ones(count - LAGS), np.arange(LAGS, count) / count, *before], axis=1)
    numbers = np.arange(LAGS, count) % season
    has_value = ~np.isnan(target) & ~np.isnan(plain).any(axis=1)
    seasonal = (numbers[:, None] == np.arange(1, season)).astype(np.float64)
    whole = np.concatenate([plain, seasonal], axis=1)[has_value]
    left = int(has_value.sum()) - whole.shape[1]
    if left < FEWEST_LEFT:
        return Test("season", math.nan, 1.0, "too few values to show a season")
    without, within = (
        target[has_value] - design @ np.linalg.lstsq(design, target[has_value], rcond=None)[0]
        for design in (plain[has_value], whole)
    )
    rest = max(float(within @ within), 1e-300)
    statistic = (float(without @ without) - rest) / (season - 1) / (rest / left)
    p = float(fdtrc(season - 1.0, float(left), max(statistic, 0.0)))
    return Test("season", statistic, p, said(p, "it has a season", "no season is found"))


def filled(values: Floats) -> Floats:
    """Return a series with missing values on straight lines between their neighbours."""
    places = np.flatnonzero(~np.isnan(values))
    return np.asarray(np.interp(np.arange(len(values)), places, values[places]))


def _interpolated(statistic: float, at: Sequence[float], levels: Sequence[float]) -> float:
    """Return a p-value between tabulated ones, along the normal scale, continued by its last
    slopes.
    """
    scores, places = ndtri(np.array(levels)), np.array(at)
    if statistic <= places[0]:
        score = scores[0] + (statistic - places[0]) * (scores[1] - scores[0]) / (
            places[1] - places[0]
        )
    elif statistic >= places[-1]:
        score = scores[-1] + (statistic - places[-1]) * (scores[-1] - scores[-2]) / (
            places[-1] - places[-2]
        )
    else:
        score = float(np.interp(statistic, places, scores))
    return float(ndtr(np.array(score)))
