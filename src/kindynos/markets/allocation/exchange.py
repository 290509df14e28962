"""Small exchanges between holdings, for an aim that is not convex: taken as long as one of them is
better.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kindynos.arrays import Floats
from kindynos.markets.allocation.region import Region
from kindynos.sampling.streams import stream

STEPS = (0.1, 0.03, 0.01, 0.003, 0.001, 0.0003)  # by which weights are exchanged, the longest first
TRIED = 400  # exchanges looked at together
PATIENCE = 100  # rounds


def exchanged(region: Region, start: Floats, worth: Callable[[Floats], Floats]) -> Floats:
    """Return weights from which no exchange that was looked at is better.

    ``worth`` gives of weights ``(holdings, cases)`` what is to be small, infinite where a limit is
    broken. An exchange moves a step from one holding to another, or towards a random mixture.
    """
    generator = stream(0, "exchanges", 0)
    count = len(start)
    best, reached = start, float(worth(start[:, None])[0])
    position, since = 0, 1  # the step, and how often it was better since the longest one
    for _ in range(PATIENCE):
        step = STEPS[position]
        moves = np.zeros((count, TRIED))
        pairs = np.argsort(generator.random((TRIED // 2, count)), axis=1)[:, :2]
        moves[pairs[:, 0], np.arange(TRIED // 2)] = step
        moves[pairs[:, 1], np.arange(TRIED // 2)] = -step
        mixed = generator.dirichlet(np.full(count, 0.5), TRIED - TRIED // 2).T
        moves[:, TRIED // 2 :] = 2 * step * (mixed - best[:, None])
        cases = best[:, None] + moves
        cases = cases[:, _inside(region, cases)]
        values = worth(cases) if cases.shape[1] else np.array([np.inf])
        if values.min() < reached - 1e-12:
            best, reached, since = cases[:, int(np.argmin(values))], float(values.min()), since + 1
        elif position + 1 < len(STEPS):
            position += 1
        elif since:
            position, since = 0, 0
        else:
            break
    return best


def _inside(region: Region, cases: Floats) -> Floats:
    """Return which weights ``(holdings, cases)`` the region allows."""
    kept = (cases >= region.lower[:, None]).all(axis=0) & (cases <= region.upper[:, None]).all(
        axis=0
    )
    for row in region.rows:
        coefficients = row.coefficients @ cases
        kept &= (coefficients >= row.low) & (coefficients <= row.high)
    if region.today is not None:
        traded = np.abs(cases - region.today[:, None]).sum(axis=0)
        kept &= traded <= (np.inf if region.turnover is None else region.turnover)
    if region.floor is not None:
        gains, least = region.floor
        charges = np.array([region.charge(case) for case in cases.T]) if region.cost else 0.0
        kept &= gains @ cases - charges >= least
    return np.asarray(kept)
