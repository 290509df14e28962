"""Volatility that clusters: exponentially weighted, or by a GARCH(1,1) model, with its forecast
over several days.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.fitting.diagnostics import autocorrelations, ljung_box
from kindynos.memory import remembered
from kindynos.processes.garch import FEWEST, GarchLikelihood, conditional_variances
from kindynos.processes.likelihood import likelihood_optimum, resampled
from kindynos.validate import check_integer

# of the weight of a day in an exponentially weighted variance, as is common for daily returns
DECAY = 0.94
SLOW = 2.0  # the factor on autocorrelations that are cut off; found by benchmarks/risk_coverage
MOST_OPEN = 5.0  # times; of a kurtosis of 11, beyond which a sample's says little
# of the volatility of the whole row: below it, a quiet stretch would be blown up without limit
LEAST = 1e-6


def weighted_volatility(rows: Floats, decay: float = DECAY) -> Floats:
    """Return the exponentially weighted volatility at each day's start ``(rows, days + 1)``; the
    first is the row's own.

    The last is the forecast for the day after the row, and for every day beyond it.
    """
    squares = (rows**2).mean(axis=1)
    least = LEAST * np.sqrt(squares)
    path = np.empty((rows.shape[1] + 1, len(rows)))  # a day a row, which is far quicker
    path[0] = squares
    path[1:] = (1 - decay) * rows.T**2
    for day in range(1, len(path)):
        path[day] += decay * path[day - 1]
    return np.ascontiguousarray(np.maximum(np.sqrt(path), least).T)


def garch_volatility(rows: Floats, reaction: float, persistence: float) -> Floats:
    """Return the volatility at each day's start ``(rows, days + 1)`` by a GARCH(1,1) model around
    each row's mean square.
    """
    squares = rows**2
    variance = squares.mean(axis=1)
    path = conditional_variances(squares, variance, reaction, persistence)
    return np.asarray(np.sqrt(np.maximum(path, LEAST**2 * variance[:, None])))


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
    drawn: Floats  # reactions and persistences that the likelihood leaves open (2, draws)

    def forecast(self, days: int) -> Floats:
        """Return the forecast sd of each of the next days, which goes to the long-run one by
        ``persistence`` a day.
        """
        gap = self.volatility[-1] ** 2 - self.variance
        ahead = np.arange(check_integer("forecast", "days", days, least=1))
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
        raise ParameterError(
            f"needs at least {FEWEST} finite returns in a row that are not all 0", owner="garch"
        )
    model = GarchLikelihood(returns, student=False, autoregressive=False)
    theta = model.best().theta
    found = model.named(theta)
    volatility = model.volatilities(theta)

    # Shocks that are not normal leave the parameters (kurtosis - 1) / 2 times as open as a normal
    # likelihood says.
    squares = (model.shocks(found) / volatility[:-1]) ** 2
    kurtosis = float((squares**2).mean()) / float(squares.mean()) ** 2
    open_by = min(max((kurtosis - 1) / 2, 1.0), MOST_OPEN)

    def quasi_likelihood(theta: Floats) -> float:
        return model.cost(theta) / open_by

    optimum = likelihood_optimum(quasi_likelihood, theta.tolist())
    draws = [
        model.named(one) for one in np.array(resampled(quasi_likelihood, optimum, model.prior_sd)).T
    ]
    variance = float(returns.var())
    constant = 0.5 * len(returns) * (math.log(2 * math.pi * variance) + 1)
    return GarchVolatility(
        found["reaction"],
        found["persistence"],
        found["volatility"] ** 2,
        np.maximum(volatility, LEAST * math.sqrt(variance)),
        constant - model.cost(theta),
        np.array([[one[name] for one in draws] for name in ("reaction", "persistence")]),
    )


def clustering(losses: Floats) -> float:
    """Return by how much clustered volatility cuts what losses say about their tail: 1 for
    independent ones.

    It is 1 + 2 x the sum of the autocorrelations of large losses (beyond the 90 % quantile), told
    from those of large moves in either direction, of which there are more: over 3 x the root of the
    number of days, with weights that fall to 0 (Newey and West, Econometrica 55, 1987, 703-708).
    The sum is doubled, since about half of what fades slowly lies beyond them.
    """
    sizes = np.abs(losses - np.median(losses))
    large = (sizes > np.quantile(sizes, 0.8)).astype(np.float64)
    large -= large.mean()
    count, most = len(losses), min(int(3 * math.sqrt(len(losses))), len(losses) - 1)
    spectrum = np.fft.rfft(large, 2 * count)
    products = np.fft.irfft(spectrum * spectrum.conj(), 2 * count)[: most + 1]
    if products[0] <= 0:
        return 1.0
    weights = 1 - np.arange(1, most + 1) / (most + 1)
    # A loss beyond 90 % is one side of a large move: their covariance is a quarter of that of the
    # large moves.
    share = (0.2 * 0.8 / 4) / (0.1 * 0.9)
    return max(1.0, 1 + 2 * SLOW * share * float(weights @ (products[1:] / products[0])))


def clustering_test(losses: Floats, lags: int = 10) -> float:
    """Return the p-value of a test that large moves do not cluster: autocorrelations of the ranks
    of their sizes.

    It is Ljung and Box's test; of squared returns see McLeod and Li, Journal of Time Series
    Analysis 4 (1983), 269-273. Ranks keep one crash from deciding it.
    """
    ranks = np.argsort(np.argsort(np.abs(losses - np.median(losses)))).astype(np.float64)
    lags = min(lags, len(losses) // 4)
    return ljung_box(autocorrelations(ranks, lags), len(losses), lags).p
