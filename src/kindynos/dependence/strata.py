"""An exact passage between stratified scores and independent ones, which keeps their order.

Of n independent uniform scores in order, U(1) < ... < U(n), the powers of ratios (U(r) / U(r+1))^r,
with U(n+1) = 1, are independent and uniform: 1 - U(r) / U(r+1) is the least of r uniform gaps. So a
Latin sample, whose r-th score in order is (r - 1 + eta) / n with independent uniform eta, and an
independent sample stand for each other one to one: eta is that power. Copulas mix the independent
form, exactly; what comes out is made stratified again, uniform within every stratum.

Source: Lurie and Hartley, American Statistician 26 (1972), 26-27, for making ordered uniform scores
one by one.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr

SMALLEST_ETA = 1e-300
# trials of a block below which the passage weakens correlations enough to matter
ATTENUATED = 1_000
GRID = (0.3, 0.6, 0.8, 0.95, 1.0)  # correlations at which it is measured by how much
SAMPLE = 40_000


def independent_from_stratified(scores: Floats) -> Floats:
    """Return independent scores in the order of stratified ones, along the last axis, ``(...,
    trials)``.
    """
    trials = scores.shape[-1]
    scaled = scores * trials
    rank = np.minimum(scaled.astype(np.int64), trials - 1)
    eta = np.full(scores.shape, 0.5)  # for the rank that rounding may leave out
    np.put_along_axis(eta, rank, scaled - rank, axis=-1)
    np.maximum(eta, SMALLEST_ETA, out=eta)
    steps = np.log(eta, out=eta)
    steps /= np.arange(1, trials + 1)
    logs = np.cumsum(steps[..., ::-1], axis=-1)[..., ::-1]
    return np.asarray(np.exp(np.take_along_axis(logs, rank, axis=-1)))


def stratified_from_independent(scores: Floats) -> Floats:
    """Return stratified scores in the order of independent ones, along the last axis: the inverse
    of the other passage.
    """
    trials = scores.shape[-1]
    order = np.argsort(scores, axis=-1)
    logs = np.log(np.take_along_axis(scores, order, axis=-1))
    gaps = np.empty(scores.shape)
    gaps[..., :-1] = logs[..., :-1] - logs[..., 1:]
    gaps[..., -1] = logs[..., -1]
    gaps *= np.arange(1, trials + 1)
    placed = np.exp(gaps, out=gaps)
    placed += np.arange(trials)
    placed /= trials
    answer = np.empty(scores.shape)
    np.put_along_axis(answer, order, placed, axis=-1)
    return answer


def kept_correlation(trials: int, correlation: Floats) -> Floats:
    """Return which part of rank correlations is left after the passage, in blocks of that many
    trials.

    ``correlation`` are those of normal scores behind them.
    """
    if not 3 <= trials <= ATTENUATED:
        return np.ones_like(correlation)
    return np.asarray(np.interp(np.abs(correlation), GRID, _kept_on_grid(trials)))


@lru_cache(maxsize=64)
def _kept_on_grid(trials: int) -> tuple[float, ...]:
    """Return the part kept at the correlations of GRID, from samples that are the same each
    time.
    """
    generator = np.random.Generator(np.random.SFC64(0))
    one, other = generator.standard_normal((2, max(SAMPLE // trials, 20), trials))
    found = []
    for value in GRID[:-1]:
        mixed = value * one + np.sqrt(1 - value**2) * other
        loose = [ndtr(scores) for scores in (one, mixed)]
        strict = [stratified_from_independent(scores) for scores in loose]
        before, after = (
            np.corrcoef(a.reshape(-1), b.reshape(-1))[0, 1] for a, b in (loose, strict)
        )
        found.append(float(after / before))
    return (*found, 1.0)
