"""Volatility that clusters: whether it does, a GARCH(1,1) model of it, and how much less values
with clusters tell about their sd.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.formatting import p_value
from kindynos.inference.autocorrelation import autocorrelations, portmanteau
from kindynos.inference.intervals import UPPER, Z
from kindynos.memory import remembered
from kindynos.processes.garch import FEWEST, GarchLikelihood
from kindynos.processes.likelihood import likelihood_optimum, resampled
from kindynos.validate import check_integer, checked

MOST_OPEN = 5.0  # times; of a kurtosis of 11, beyond which a sample's says little
# of the volatility of the whole row: below it, a quiet stretch would be blown up without limit
LEAST = 1e-6
OWN = 0.9  # the least share of different values, where they follow each other in time
CERTAIN = 0.01  # the p-value of the test below which values do cluster
DOUBTFUL = 0.05  # that of the test below which values are taken to cluster
MOST_PERSISTENT = 0.998  # of drawn models: beyond it nothing bounds what a sample tells
LEAST_LEFT = 0.5  # of 1 - persistence squared, of drawn models whose kurtosis may be infinite


@dataclass(frozen=True)
class GarchVolatility:
    """The volatility of returns by a GARCH(1,1) model: variance = (1 - a - b) long-run variance +
    a shock² + b variance before.

    ``reaction`` is a and ``persistence`` a + b; ``volatility`` are the sds at each day's start, the
    last that of the day to come. ``gain`` is how much likelier it makes the returns than a constant
    volatility, in log likelihood.

    Source: Bollerslev, Journal of Econometrics 31 (1986), 307-327.
    """

    reaction: float
    persistence: float
    variance: float
    volatility: Floats
    gain: float
    drawn: Floats  # reactions and persistences that the likelihood allows (2, draws)

    @checked
    def forecast(self, days: int) -> Floats:
        """Return the forecast sd of each of the next days, which goes to the long-run one by
        ``persistence`` a day.
        """
        gap = self.volatility[-1] ** 2 - self.variance
        ahead = np.arange(check_integer("days", days, least=1))
        return np.asarray(np.sqrt(self.variance + gap * self.persistence**ahead))


@remembered
def fit_garch(returns: Floats) -> GarchVolatility:
    """Return the GARCH(1,1) model that makes returns ``(days,)`` likeliest, in the form that
    measures of risk need: the model of ``Garch.fit(..., shocks="normal")``.

    Normal shocks are assumed for the fit, which serves others too (Bollerslev and Wooldridge,
    Econometric Reviews 11, 1992). Raises ParameterError for fewer than 50 returns, or returns that
    are not finite or all 0.
    """
    if len(returns) < FEWEST or not np.isfinite(returns).all() or not returns.any():
        raise ParameterError(f"needs at least {FEWEST} finite returns in a row that are not all 0")
    model = GarchLikelihood(returns, student=False, autoregressive=False)
    theta = model.best().theta
    named = model.named(theta)
    volatility = model.volatilities(theta)

    # Shocks that are not normal leave the parameters (kurtosis - 1) / 2 times as open as a normal
    # likelihood says.
    squares = (model.shocks(named) / volatility[:-1]) ** 2
    kurtosis = float((squares**2).mean()) / float(squares.mean()) ** 2
    open_by = min(max((kurtosis - 1) / 2, 1.0), MOST_OPEN)

    def quasi_likelihood(theta: Floats) -> float:
        return model.cost(theta) / open_by

    optimum = likelihood_optimum(quasi_likelihood, theta.tolist())
    draws = [
        model.named(draw)
        for draw in np.array(resampled(quasi_likelihood, optimum, model.prior_sd)).T
    ]
    variance = float(returns.var())
    constant = 0.5 * len(returns) * (math.log(2 * math.pi * variance) + 1)
    return GarchVolatility(
        named["reaction"],
        named["persistence"],
        named["volatility"] ** 2,
        np.maximum(volatility, LEAST * math.sqrt(variance)),
        constant - model.cost(theta),
        np.array([[draw[name] for draw in draws] for name in ("reaction", "persistence")]),
    )


def clustering_test(losses: Floats, lags: int = 10) -> float:
    """Return the p-value of a test that large moves do not cluster: autocorrelations of the ranks
    of their sizes.

    It is Ljung and Box's test; of squared returns see McLeod and Li, Journal of Time Series
    Analysis 4 (1983), 269-273. Ranks keep one crash from deciding it.
    """
    ranks = np.argsort(np.argsort(np.abs(losses - np.median(losses)))).astype(np.float64)
    lags = min(lags, len(losses) // 4)
    return portmanteau(autocorrelations(ranks, lags), len(losses), lags)[1]


@remembered
def log_sd_variance(values: Floats) -> tuple[float, str]:
    """Return the variance of the log of the sd of values ``(values,)`` in their order, and what it
    rests on, in words; "" where they show no clusters.

    Of independent values with kurtosis k it is (k - 1) / (4 n), at least that of normal ones,
    1 / (2 n). Where large moves come in clusters, squares follow each other with autocorrelations
    that fade by the persistence of a GARCH(1,1) model, which the values do not decide either: the
    variance is that of a normal distribution whose 95 % interval is that of all models drawn.
    Source: He and Teräsvirta, Journal of Econometrics 92 (1999), 173-192, for the autocorrelations.
    """
    count = len(values)
    gaps = values - values.mean()
    squares = gaps**2
    kurtosis = float((squares**2).mean()) / max(float(squares.mean()) ** 2, 1e-300)
    plain = max((kurtosis - 1) / (4 * count), 1 / (2 * count))
    if count < FEWEST or listed(values):
        return plain, ""
    p = clustering_test(values)
    if p >= DOUBTFUL:
        return plain, ""
    model = fit_garch(gaps)
    shocks = (gaps / model.volatility[:-1]) ** 2
    own = min(float((shocks**2).mean()) / float(shocks.mean()) ** 2, 3 * MOST_OPEN)
    reaction, persistence = model.drawn[0], np.minimum(model.drawn[1], MOST_PERSISTENT)
    memory = np.maximum(persistence - reaction, 0.0)
    left = 1 - persistence**2
    fourth = left / np.maximum(left - (own - 1) * reaction**2, LEAST_LEFT * left)
    of_squares = own * fourth - 1
    rest = np.maximum(1 - memory**2 - 2 * reaction * memory, 1e-12)
    first = reaction * (1 - memory * persistence) / rest * of_squares
    lags = np.arange(1, count)[:, None]
    fading = ((1 - lags / count) * persistence ** (lags - 1)).sum(axis=0)
    sds = np.sqrt((of_squares + 2 * first * fading) / count) / 2
    reach = _mixture_reach(sds)
    verb = "come" if p < CERTAIN else "may come"
    words = f"large moves {verb} in clusters ({p_value(p)})"
    return max((reach / Z) ** 2, plain), words


@remembered
def less_told(values: Floats, own_tails: bool) -> tuple[float, str]:
    """Return by how much clusters widen the variance of what values ``(values,)`` in their order
    tell, 1 where they show none, and the test in words.

    It is beside what a fit counts on: independent values with their kurtosis, for a family that has
    tails of its own, else that of a normal distribution.
    """
    variance, words = log_sd_variance(values)
    if not words:
        return 1.0, ""
    independent = 1 / (2 * len(values))
    if own_tails:
        squares = (values - values.mean()) ** 2
        kurtosis = float((squares**2).mean()) / float(squares.mean()) ** 2
        independent = max((kurtosis - 1) / (4 * len(values)), independent)
    return max(variance / independent, 1.0), words


def _mixture_reach(sds: Floats) -> float:
    """Return where 97.5 % of a mixture of normal distributions around 0 lie below."""
    from scipy.optimize import brentq

    return float(brentq(lambda x: ndtr(x / sds).mean() - UPPER, 0.0, 3 * Z * float(sds.max())))


def listed(values: Floats) -> bool:
    """Return whether values are a list that says nothing of time: in ascending or descending order,
    or with values that are there several times.
    """
    steps = np.diff(values)
    in_order = bool((steps >= 0).all() or (steps <= 0).all())
    return in_order or len(np.unique(values)) < OWN * len(values)
