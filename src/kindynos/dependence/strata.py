"""Stratified scores made dependent: mixed first, and put into strata after.

A Latin sample of n trials has one score in each of n equal strata. Mixed by a copula the scores of
a driver are uniform in every trial, but not one in each stratum; so each trial is given the stratum
of the rank that its mixed score has. Ranks of trials that are alike are uniform, and so is the
place within the stratum, so every score stays uniform. The place comes from the last digits of the
driver's own score, which do not bear on its rank.

Source: Iman and Conover, Communications in Statistics B11 (1982), 311-334, for dependence by ranks.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.scores import inside
from kindynos.distributions.special import ndtri

# trials of a block below which ranks weaken correlations enough to matter
ATTENUATED = 1_000
GRID = (0.3, 0.6, 0.8, 0.95, 1.0)  # correlations at which it is measured by how much
SAMPLE = 100_000
DIGITS = 2.0**12  # parts of a stratum, within which a score's place is taken


def in_strata(mixed: Floats, own: Floats) -> Floats:
    """Return stratified scores ``(..., trials)`` in the order of the mixed ones, from the last
    digits of the driver's ``own``.
    """
    trials = mixed.shape[-1]
    placed = own * (trials * DIGITS)
    placed -= np.floor(placed)
    placed += np.arange(trials)
    placed /= trials
    scores = np.empty(mixed.shape)
    np.put_along_axis(scores, np.argsort(mixed, axis=-1), inside(placed), axis=-1)
    return scores


def kept_correlation(trials: int, matrix: Floats, first_own: bool) -> Floats:
    """Return which part of each rank correlation is left in blocks of that many trials.

    ``matrix`` are the correlations of normal scores behind them. With ``first_own`` the first
    driver's scores are its own, in their strata from the beginning.
    """
    if not 3 <= trials <= ATTENUATED:
        return np.ones_like(matrix)
    with_own, both_mixed = _kept_on_grid(trials)
    kept = np.interp(np.abs(matrix), GRID, both_mixed)
    if first_own:
        kept[0] = kept[:, 0] = np.interp(np.abs(matrix[0]), GRID, with_own)
    return np.asarray(kept)


@lru_cache(maxsize=64)
def _kept_on_grid(trials: int) -> tuple[list[float], list[float]]:
    """Return the part kept at the correlations of GRID: of one driver's own scores and another's
    mixed ones, and of two that are both mixed; from samples that are the same each time.
    """
    generator = np.random.Generator(np.random.SFC64(0))
    strata = np.tile(np.arange(trials), (4, max(SAMPLE // trials, 20), 1))
    own = (generator.permuted(strata, axis=-1) + generator.random(strata.shape)) / trials
    a, b, c, d = ndtri(own)
    with_own, both_mixed = [], []
    for value in GRID[:-1]:
        rest = np.sqrt(1 - value**2)
        follows, follows_too = value * a + rest * b, value * c + rest * d
        requested = 6 / np.pi * np.arcsin(value / 2)
        mixed = in_strata(follows, own[1])
        with_own.append(float(12 * ((own[0] - 0.5) * (mixed - 0.5)).mean() / requested))
        scores = in_strata(0.6 * a + 0.8 * c, own[0])
        other = in_strata(0.6 * follows + 0.8 * follows_too, own[1])
        both_mixed.append(float(12 * ((scores - 0.5) * (other - 0.5)).mean() / requested))
    return [*with_own, 1.0], [*both_mixed, 1.0]
