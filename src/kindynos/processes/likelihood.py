"""Maximum likelihood and its standard errors."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr
from kindynos.inference.intervals import ends_of_draws
from kindynos.sampling.streams import stream

Theta = tuple[float, ...]
Covariance = tuple[tuple[float, ...], ...]


def lowest(cost: Callable[[Floats], float], starts: Sequence[Sequence[float]]) -> Floats:
    """Return where a cost is lowest, sought from several starts by the Nelder-Mead method and then
    by gradients.
    """
    from scipy.optimize import minimize

    best = None
    for start in starts:
        rough = minimize(
            cost,
            np.asarray(start, dtype=np.float64),
            method="Nelder-Mead",
            options={"maxiter": 400, "maxfev": 600},
        )
        answer = minimize(cost, rough.x, method="BFGS", options={"maxiter": 60})
        answer = answer if answer.fun <= rough.fun else rough
        if best is None or answer.fun < best.fun:
            best = answer
    assert best is not None
    return np.asarray(best.x)


PROPOSALS, RESAMPLED, PROPOSAL_DF = 300, 150, 5  # of parameters by their likelihood
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
    answer = likelihood_optimum(cost, theta)
    return tuple(map(float, answer.theta)), answer.covariance()


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
        """Return ``count`` draws ``(parameters, count)``."""
        return np.asarray(self.thetas[:, likely_places(self.logs, count)])


def likely_places(logs: Floats, count: int) -> NDArray[np.int64]:
    """Return the places of ``count`` draws among proposals, each as often as the log of its weight
    says.
    """
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


def proposed(
    cost: Callable[[Floats], float],
    likelihood_optimum: LikelihoodOptimum,
    prior_sd: Sequence[float],
    count: int = PROPOSALS,
    prior: Prior | None = None,
) -> Proposed:
    """Return parameters to be drawn again by their likelihood times what is known before.

    They come from Student's t around the peak, and as many from the ``prior`` where there is one;
    without one a normal density around the peak with ``prior_sd`` sds bounds what the data do not
    tell. The same peak gives the same draws. Source: Rubin, in Bayesian Statistics 3 (1988),
    395-402.
    """
    generator = stream(0, "resampled", 0)
    values, vectors = np.linalg.eigh(np.array(likelihood_optimum.covariance(prior_sd)))
    factor = vectors * np.sqrt(np.maximum(values, 0))
    size = len(likelihood_optimum.theta)
    normals = generator.standard_normal((size, count))
    normals *= np.sqrt(PROPOSAL_DF / generator.chisquare(PROPOSAL_DF, count))
    thetas = likelihood_optimum.theta[:, None] + factor @ normals
    if prior is not None:
        thetas = np.concatenate([thetas, prior.draws(generator, count)], axis=1)
    gaps = thetas - likelihood_optimum.theta[:, None]
    lengths = ((np.linalg.pinv(factor) @ gaps) ** 2).sum(axis=0)
    density = -(PROPOSAL_DF + size) / 2 * np.log1p(lengths / PROPOSAL_DF)
    if prior is None:
        before = -0.5 * ((gaps / np.asarray(prior_sd)[:, None]) ** 2).sum(axis=0)
    else:
        before = prior.logs(thetas)
        constant = math.lgamma((PROPOSAL_DF + size) / 2) - math.lgamma(PROPOSAL_DF / 2)
        constant -= size / 2 * math.log(PROPOSAL_DF * math.pi)
        density += constant - 0.5 * float(np.log(values).sum())
        density = np.logaddexp(density, before)
    with np.errstate(all="ignore"):  # far away a likelihood may be 0
        costs = np.array([cost(theta) for theta in thetas.T])
        logs = before - costs - density
    return Proposed(thetas, costs, np.where(np.isfinite(logs), logs, -np.inf))


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
