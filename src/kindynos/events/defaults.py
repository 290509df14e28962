"""The losses of a book of loans; each loan defaults once or not at all.

Loan i defaults where ``sqrt(rho) Z + sqrt(1 - rho) e_i`` lies below the normal quantile of its
chance: Z is a factor that all share, low in bad times, and e_i its own. Source: Vasicek, Risk 15
(2002), 160-162.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr, ndtri
from kindynos.errors import ModelError
from kindynos.events.events import AT_BASE, Events, scores_of_events


@dataclass(frozen=True)
class Loans:
    """What is lent, the chance that a loan defaults within the year, the share that is recovered
    then, and the group of each.
    """

    amounts: tuple[float, ...]
    chances: tuple[float, ...]
    recoveries: tuple[float, ...]
    groups: tuple[str, ...]

    @property
    def losses(self) -> Floats:
        """What is lost of each loan that defaults."""
        losses: Floats = np.array(self.amounts) * (1 - np.array(self.recoveries))
        return losses


def defaulted(
    loans: Loans, keys: Floats, factor: Floats, rho: Floats, group: str | None = None
) -> Events:
    """Return the losses of the loans that default in each trial, of a ``group`` alone where it is
    named; in the base case, where the key is 0, what each is expected to lose at its factor.

    A loan keeps its draws whatever the others are. Raises ModelError for a correlation outside 0 to
    1.
    """
    if not ((rho >= 0) & (rho < 1)).all():
        raise ModelError("the correlation of loans must be at least 0 and below 1")
    taken = np.array([group is None or own == group for own in loans.groups])
    count, trials = len(taken), keys.size
    cells = np.ascontiguousarray(np.broadcast_to(keys, (trials,)))
    scores = scores_of_events(cells, np.full(trials, count)).reshape(trials, count)[:, taken]
    chances, kinds = np.unique(np.array(loans.chances)[taken], return_inverse=True)
    shared = np.broadcast_to(np.asarray(rho), (trials,))[:, None]
    level = np.broadcast_to(factor, (trials,))[:, None]
    with np.errstate(divide="ignore"):  # of a chance of 0 or 1 the quantile is infinite
        given_factor = ndtr((ndtri(chances) - np.sqrt(shared) * level) / np.sqrt(1 - shared))
    chance = given_factor[:, kinds.reshape(-1)]
    defaults = scores < chance
    losses = np.broadcast_to(loans.losses[taken], defaults.shape)
    at_base = (cells == AT_BASE)[:, None]
    held = defaults | at_base
    sizes = np.where(at_base, chance * losses, losses)[held]
    return Events(held.sum(axis=1).astype(np.float64), sizes, cells)
