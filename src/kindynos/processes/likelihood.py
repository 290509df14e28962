"""Maximum likelihood and its standard errors."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError
from kindynos.inference.intervals import ends_of_draws
from kindynos.sampling.streams import stream

SEARCH = {"maxiter": 100}
Theta = tuple[float, ...]
Covariance = tuple[tuple[float, ...], ...]


def lowest(cost: Callable[[Floats], float], starts: Sequence[Sequence[float]]) -> Floats:
    """Return where a cost is lowest, sought by gradients from several starts."""
    from scipy.optimize import minimize

    reached = [
        minimize(cost, np.asarray(start, dtype=np.float64), method="BFGS", options=SEARCH)
        for start in starts
    ]
    return np.asarray(min(reached, key=lambda solution: solution.fun).x)


PROPOSALS, RESAMPLED, PROPOSAL_DF = 300, 150, 5  # of parameters by their likelihood
ENOUGH, MOST_SOURCES = 100, 8  # effective proposals, and densities tried until there are as many
FEWEST_EFFECTIVE = 50
WIDE = 1_000  # of them for an interval
REJECTED = 1.92  # below the greatest log likelihood: outside a 95 % interval
FLAT = 1e-8  # of the steepest direction: along a flatter one, the data say nothing


@dataclass(frozen=True)
class LikelihoodOptimum:
    """Where a negative log likelihood is lowest, and its Hessian there."""

    theta: Floats
    hessian: Floats

    def covariance(self, prior_sd: Sequence[float] | None = None) -> Covariance:
        """Return the inverse of the Hessian, the covariance of the parameters.

        ``prior_sd`` are sds within which the parameters lie before any data are seen; they bound
        directions along which the data say nothing. Without them such directions have no variance.
        """
        hessian = (
            self.hessian
            if prior_sd is None
            else self.hessian + np.diag(1 / np.asarray(prior_sd) ** 2)
        )
        inverse = np.linalg.pinv(hessian, hermitian=True)
        values, vectors = np.linalg.eigh(inverse)
        # what is not a peak in some direction: the usual spread alone bounds it
        if prior_sd is not None:
            values = np.clip(values, None, float(np.max(prior_sd)) ** 2)
        covariance = vectors * np.maximum(values, 0) @ vectors.T
        return tuple(tuple(map(float, row)) for row in covariance)

    def errors(self, named: Callable[[Floats], Mapping[str, float]]) -> dict[str, float]:
        """Return the standard error of each figure of the parameters; infinite where the data do
        not tell it.
        """
        values, vectors = np.linalg.eigh(self.hessian)
        flat = values <= FLAT * max(float(values.max()), 0.0)
        steps = 1e-4 * np.maximum(np.abs(self.theta), 1e-2)
        names = list(named(self.theta))
        slopes = np.empty((len(names), len(self.theta)))
        for position, step in enumerate(steps.tolist()):
            up, down = self.theta.copy(), self.theta.copy()
            up[position] += step
            down[position] -= step
            high, low = named(up), named(down)
            slopes[:, position] = [(high[name] - low[name]) / (2 * step) for name in names]
        along = (slopes @ vectors) ** 2
        unknown = (along[:, flat] > 1e-10 * along.sum(axis=1, keepdims=True)).any(axis=1)
        variances = (along[:, ~flat] / values[~flat]).sum(axis=1)
        return {
            name: math.inf if lost else math.sqrt(max(float(v), 0.0))
            for name, lost, v in zip(names, unknown, variances, strict=True)
        }


def likelihood_optimum(
    cost: Callable[[Floats], float], theta: Sequence[float]
) -> LikelihoodOptimum:
    """Return the peak at parameters, with the Hessian of the negative log likelihood by
    differences.
    """
    centre = np.asarray(theta, dtype=np.float64)
    steps = 1e-4 * np.maximum(np.abs(centre), 1e-2)
    size = len(centre)
    hessian: Floats = np.empty((size, size))
    for i in range(size):
        for j in range(i + 1):
            a, b = np.zeros(size), np.zeros(size)
            a[i], b[j] = steps[i], steps[j]
            bend = (
                cost(centre + a + b)
                - cost(centre + a - b)
                - cost(centre - a + b)
                + cost(centre - a - b)
            )
            hessian[i, j] = hessian[j, i] = bend / (4 * steps[i] * steps[j])
    return LikelihoodOptimum(centre, hessian)


def at_the_peak(
    cost: Callable[[Floats], float], theta: Sequence[float]
) -> tuple[Theta, Covariance]:
    """Return the parameters and their covariance, the inverse of the Hessian of the negative log
    likelihood there.
    """
    optimum = likelihood_optimum(cost, theta)
    return tuple(map(float, optimum.theta)), optimum.covariance()


Sample = tuple[tuple[float, ...], ...]


def picked(sample: Sample, scores: Floats) -> Floats:
    """Return draws of parameters ``(parameters, trials)`` from a sample of them, by standard normal
    scores ``(trials,)``.
    """
    draws = np.array(sample)
    return np.asarray(
        draws[:, np.minimum((ndtr(scores) * draws.shape[1]).astype(np.int64), draws.shape[1] - 1)]
    )


@dataclass(frozen=True)
class Proposed:
    """Parameters proposed around a peak ``(parameters, count)``, the negative log likelihood of
    each, and how likely each is as a draw, in logs.
    """

    thetas: Floats
    costs: Floats
    logs: Floats

    def picked(self, count: int) -> Floats:
        """Return ``count`` draws ``(parameters, count)``; see ``likely_places``."""
        return np.asarray(self.thetas[:, likely_places(self.logs, count)])


def effective_number(logs: Floats) -> float:
    """Return how many equally likely draws tell as much as draws with weights in logs (Kish)."""
    weights = np.exp(logs - logs.max())
    return float(weights.sum() ** 2 / (weights**2).sum())


def likely_places(logs: Floats, count: int, fewest: float = FEWEST_EFFECTIVE) -> NDArray[np.int64]:
    """Return the places of ``count`` draws among proposals, each as often as the log of its weight
    says.

    Raises ParameterError where the proposals tell less than ``fewest`` draws of equal weight would.
    """
    borne = effective_number(logs)
    if borne < fewest:
        raise ParameterError(
            f"the series leaves the parameters too open to draw them: of {len(logs):,} sets that "
            f"were tried {borne:.0f} bear the weight, fewer than {fewest}; give a longer "
            "series or a simpler process"
        )
    shares = np.cumsum(np.exp(logs - logs.max()))
    positions = np.searchsorted(shares, (np.arange(count) + 0.5) / count * shares[-1])
    return np.asarray(np.minimum(positions, len(shares) - 1), dtype=np.int64)


def likely_interval(draws: Floats, allowed: Floats) -> tuple[float, float]:
    """Return a 95 % interval: that of draws of a figure, and all that the likelihood allows,
    whichever goes further.
    """
    low, high = ends_of_draws(draws)
    return min([low, *allowed.tolist()]), max([high, *allowed.tolist()])


class Prior(Protocol):
    """What is known of parameters before any data are seen."""

    def draws(self, generator: np.random.Generator, count: int) -> Floats:
        """Return draws ``(parameters, count)``."""

    def logs(self, thetas: Floats) -> Floats:
        """Return the logs of the density ``(count,)`` at parameters ``(parameters, count)``."""


@dataclass(frozen=True)
class Around:
    """Student's t about a centre ``(parameters,)``, from which parameters are proposed."""

    centre: Floats
    covariance: Floats

    @cached_property
    def _axes(self) -> tuple[Floats, Floats]:
        values, vectors = np.linalg.eigh(self.covariance)
        return values, vectors * np.sqrt(np.maximum(values, 0))

    def draws(self, generator: np.random.Generator, count: int) -> Floats:
        """Return draws ``(parameters, count)``."""
        normals = generator.standard_normal((len(self.centre), count))
        normals *= np.sqrt(PROPOSAL_DF / generator.chisquare(PROPOSAL_DF, count))
        return np.asarray(self.centre[:, None] + self._axes[1] @ normals)

    def logs(self, thetas: Floats) -> Floats:
        """Return the logs of the density ``(count,)`` at parameters ``(parameters, count)``."""
        values, factor = self._axes
        size = len(self.centre)
        lengths = ((np.linalg.pinv(factor) @ (thetas - self.centre[:, None])) ** 2).sum(axis=0)
        constant = math.lgamma((PROPOSAL_DF + size) / 2) - math.lgamma(PROPOSAL_DF / 2)
        constant -= size / 2 * math.log(PROPOSAL_DF * math.pi)
        constant -= 0.5 * float(np.log(values[values > 0]).sum())
        return np.asarray(constant - (PROPOSAL_DF + size) / 2 * np.log1p(lengths / PROPOSAL_DF))


def proposed(
    cost: Callable[[Floats], float],
    likelihood_optimum: LikelihoodOptimum,
    prior_sd: Sequence[float],
    count: int = PROPOSALS,
    prior: Prior | None = None,
) -> Proposed:
    """Return parameters to be drawn again by their likelihood times what is known before.

    They come from Student's t around the peak of that product, and as many from the ``prior`` where
    there is one; without one a normal density around the likelihood's peak with ``prior_sd`` sds
    bounds what the data do not tell. While few of them bear the weight, as many more come from a t
    with the weighted mean and covariance of those so far. The same peak gives the same draws.
    Sources: Rubin, in Bayesian Statistics 3 (1988), 395-402; Cornuet and others, Scandinavian
    Journal of Statistics 39 (2012), 798-812.
    """
    generator = stream(0, "resampled", 0)
    peak = (
        likelihood_optimum if prior is None else _likeliest(cost, likelihood_optimum.theta, prior)
    )

    def before(thetas: Floats) -> Floats:
        if prior is not None:
            return prior.logs(thetas)
        gaps = thetas - peak.theta[:, None]
        return np.asarray(-0.5 * ((gaps / np.asarray(prior_sd)[:, None]) ** 2).sum(axis=0))

    costs: list[Floats] = []

    def posterior(thetas: Floats) -> Floats:
        costs.append(_costs(cost, thetas))
        return before(thetas) - costs[-1]

    spread = np.array(peak.covariance(prior_sd))
    sources = [Around(peak.theta, spread), *([] if prior is None else [prior])]
    thetas, logs = adapted(posterior, sources, spread, generator, count, ENOUGH)
    return Proposed(thetas, np.concatenate(costs), logs)


def adapted(
    posterior: Callable[[Floats], Floats],
    sources: Sequence[Prior],
    spread: Floats,
    generator: np.random.Generator,
    count: int,
    enough: int,
) -> tuple[Floats, Floats]:
    """Return parameters ``(parameters, proposals)`` and the logs of their weights as draws.

    ``count`` come from each of the ``sources``. While they tell less than ``enough`` draws of equal
    weight would, as many more come from a t with the weighted mean and covariance of those so far,
    which is at least a part of ``spread``. ``posterior`` gives the logs ``(proposals,)`` of what
    they are to be drawn by; it is asked once of each, in order.
    """
    sources, thetas, logs = list(sources), np.empty((len(spread), 0)), np.empty(0)
    fresh = sources
    while True:
        for source in fresh:
            more = source.draws(generator, count)
            thetas = np.concatenate([thetas, more], axis=1)
            logs = np.concatenate([logs, posterior(more)])
        weights = logs - np.logaddexp.reduce([source.logs(thetas) for source in sources])
        weights = np.where(np.isfinite(weights), weights, -np.inf)
        if effective_number(weights) >= enough or len(sources) >= MOST_SOURCES:
            return thetas, weights
        fresh = [_around_weighted(thetas, weights, spread)]
        sources += fresh


def _costs(cost: Callable[[Floats], float], thetas: Floats) -> Floats:
    with np.errstate(all="ignore"):  # far away a likelihood may be 0
        return np.array([cost(theta) for theta in thetas.T])


def _around_weighted(thetas: Floats, logs: Floats, spread: Floats) -> Around:
    """Return a t with the mean and covariance of weighted proposals; weights are cut off at the
    root of their number times the mean, so that no few of them are all there is.
    """
    weights = np.exp(logs - logs.max())
    weights = np.minimum(weights, weights.mean() * math.sqrt(len(weights)))
    centre = np.average(thetas, axis=1, weights=weights)
    covariance = np.cov(thetas, aweights=weights, ddof=0).reshape(len(centre), -1)
    return Around(centre, 0.95 * covariance + 0.05 * spread)


def _likeliest(cost: Callable[[Floats], float], theta: Floats, prior: Prior) -> LikelihoodOptimum:
    """Return where the likelihood times the prior is greatest, which a likelihood without a peak
    in some direction leaves to the prior.
    """

    def both(theta: Floats) -> float:
        return cost(theta) - float(prior.logs(theta[:, None])[0])

    starts = prior.draws(stream(0, "starts", 0), PROPOSALS).T
    start = starts[np.argmin([both(start) for start in starts])]
    return likelihood_optimum(both, lowest(both, [theta.tolist(), start.tolist()]).tolist())


def resampled(
    cost: Callable[[Floats], float],
    likelihood_optimum: LikelihoodOptimum,
    prior_sd: Sequence[float],
    prior: Prior | None = None,
) -> Sample:
    """Return draws of the parameters ``(parameters, draws)`` in proportion to the likelihood, where
    it is far from normal.
    """
    draws = proposed(cost, likelihood_optimum, prior_sd, PROPOSALS, prior).picked(RESAMPLED)
    return tuple(tuple(row) for row in draws.tolist())


def likely_intervals(
    cost: Callable[[Floats], float],
    likelihood_optimum: LikelihoodOptimum,
    prior_sd: Sequence[float],
    named: Callable[[Floats], Mapping[str, float]],
    prior: Prior | None = None,
) -> dict[str, tuple[float, float]]:
    """Return a 95 % interval of each figure of the parameters; see ``likely_interval``."""
    tried = proposed(cost, likelihood_optimum, prior_sd, WIDE, prior)
    allowed = tried.costs - cost(likelihood_optimum.theta) < REJECTED
    within = np.concatenate([likelihood_optimum.theta[:, None], tried.thetas[:, allowed]], axis=1)
    draws = [named(theta) for theta in tried.picked(WIDE).T]
    near = [named(theta) for theta in within.T]
    return {
        name: likely_interval(
            np.array([draw[name] for draw in draws]), np.array([draw[name] for draw in near])
        )
        for name in near[0]
    }
