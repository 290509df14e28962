"""How strongly the shocks of processes must move together for their returns to have a correlation.

Where a process is moved by jumps, regimes or shocks with fat tails besides its main shock, returns
are correlated less than the main shocks are: jumps that come at times of their own, and regimes
that each enters alone, add what is not common. So all shocks are correlated alike, with one
strength per pair of processes: the main ones and the sizes of jumps with r, the scores that decide
when jumps come and regimes change with |r|^(1/4), so that they come together well before r is 1.
The strength that gives the returns the correlation asked for is found by simulation, with fixed
random numbers; where no strength does, it is the one that comes nearest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.matrices import cholesky_factor, is_correlation_matrix, nearest_correlation
from kindynos.processes.base import Process
from kindynos.processes.garch import Garch
from kindynos.processes.jumps import JumpDiffusion
from kindynos.processes.mean_reverting import MeanReverting
from kindynos.processes.regimes import RegimeSwitching
from kindynos.sampling.streams import stream

TOGETHER = ("together", "apart")
REGIMES = ("together", "common", "apart")
TIMES_POWER = 0.25  # of |r|, for the scores of when
STRONGEST = 0.995
ALL_BUT_1 = 1 - 1e-12  # the correlation of scores that are the same, but for rounding
PERIODS, TRIALS = 120, 1500  # simulated to see what results
STEPS = 12
LEAST = 0.02  # a correlation from which its ratio to the strength is taken
CHUNK = 2_048  # values of each process mixed at a time
NEAR = 0.004  # of a correlation: the sampling error of what is seen


def needs_search(process: Process) -> bool:
    """Return whether the returns of a process are not simply those of its main shock."""
    fat = isinstance(process, Garch) and process.df is not None
    return not process.dated and not process.gap and (process.shocks > 1 or fat)


def over_a_period(processes: Sequence[Process], dt: float) -> Floats:
    """Return by what the correlations of shocks at every instant are multiplied to be those of
    the shocks of a period ``dt`` long: below 1 for two values that return at different speeds.

    c(a + b) / sqrt(c(2a) c(2b)), where c(k) = (1 - exp(-k dt)) / k and a, b are the speeds. Source:
    Gillespie, Physical Review E 54 (1996), 2084-2091.
    """
    speeds = _speeds(processes)
    shared = _kept_of_shocks(speeds[:, None] + speeds, dt)
    return _scaled(shared)


def of_changes(processes: Sequence[Process], dt: float) -> Floats:
    """Return by what the correlations of shocks at every instant are multiplied to be those of the
    changes over periods ``dt`` long, once the start is forgotten.
    """
    speeds = _speeds(processes)
    sums = speeds[:, None] + speeds
    passed = -np.expm1(-speeds * dt)
    returning = np.outer(passed, passed) / np.where(sums > 0, sums, 1.0)
    shared = returning + _kept_of_shocks(sums, dt)
    return _scaled(shared)


def _scaled(covariances: Floats) -> Floats:
    own = np.diag(covariances)
    matrix: Floats = covariances / np.sqrt(np.outer(own, own))
    return matrix


def _speeds(processes: Sequence[Process]) -> Floats:
    return np.array(
        [process.speed if isinstance(process, MeanReverting) else 0.0 for process in processes]
    )


def _kept_of_shocks(speeds: Floats, dt: float) -> Floats:
    """Return what a period leaves of the shocks in it that fade at these speeds."""
    safe = np.where(speeds > 0, speeds, 1.0)
    return np.where(speeds > 0, -np.expm1(-safe * dt) / safe, dt)


@dataclass(frozen=True, eq=False)
class SharedShocks:
    """The correlations of shocks ``(processes, processes)``: of the ``main`` ones, of the ``sizes``
    of jumps, of the scores of when ``jumps`` come and ``regimes`` change; and what correlations of
    returns result (``reached``).
    """

    main: Floats
    sizes: Floats
    jumps: Floats
    regimes: Floats
    reached: Floats

    def mixed(self, processes: Sequence[Process], shocks: list[Floats]) -> list[Floats]:
        """Return the shocks of each process ``(shocks, periods, trials)`` made dependent, from
        independent ones of the same shapes.
        """
        copieds = [rows.copy() for rows in shocks]
        for position, matrix, members in self.rows(processes):
            if len(members) < 2:
                continue
            rows = np.stack([shocks[i][position] for i in members])
            mix(rows, cholesky_factor(matrix[np.ix_(members, members)]))
            for i, row in zip(members, rows, strict=True):
                copieds[i][position] = row
        return copieds

    def rows(self, processes: Sequence[Process]) -> list[tuple[int, Floats, list[int]]]:
        """Return which row of shocks is mixed, by which matrix, for which processes."""
        everyone = list(range(len(processes)))
        jumping = [i for i in everyone if isinstance(processes[i], JumpDiffusion)]
        switching = [i for i in everyone if isinstance(processes[i], RegimeSwitching)]
        return [
            (0, self.main, everyone),
            (1, self.jumps, jumping),
            (2, self.sizes, jumping),
            (1, self.regimes, switching),
        ]


def shared_shocks(
    processes: Sequence[Process], requested: Floats, dt: float, jumps: str, regimes: str
) -> SharedShocks:
    """Return the correlations of shocks that give returns the ``wanted`` ones, as nearly as can be,
    in periods ``dt`` long.
    """
    generator = stream(0, "together", 0)
    shocks = [generator.standard_normal((process.shocks, PERIODS, TRIALS)) for process in processes]
    apart = np.eye(len(processes))
    searched = np.array([needs_search(process) for process in processes])
    simple = ~(searched[:, None] | searched[None, :])  # what is new in them has that of the shocks

    def made(strength: Floats) -> SharedShocks:
        strength = repaired(strength)
        when = repaired(np.abs(strength) ** TIMES_POWER)
        common = np.full_like(apart, ALL_BUT_1) + (1 - ALL_BUT_1) * apart
        joined = SharedShocks(
            main=strength,
            sizes=apart if jumps == "apart" else strength,
            jumps=apart if jumps == "apart" else when,
            regimes={"apart": apart, "together": when, "common": common}[regimes],
            reached=apart,
        )
        reached = _correlations(processes, joined.mixed(processes, shocks), dt)
        return replace(joined, reached=np.where(simple, strength, reached))

    strength, joined = requested, made(requested)
    best, gap = joined, _gap(joined, requested)
    for _ in range(STEPS):
        if gap <= NEAR:
            break
        missing = requested - joined.reached
        values = np.where(np.abs(joined.reached) > LEAST, joined.reached, 1.0)
        slope = np.clip(np.abs(strength / values), 0.2, 3.0)
        strength = np.clip(strength + missing * slope, -STRONGEST, STRONGEST)
        np.fill_diagonal(strength, 1.0)
        joined = made(strength)
        if _gap(joined, requested) < gap:
            best, gap = joined, _gap(joined, requested)
    return best


def _gap(shared_shocks: SharedShocks, requested: Floats) -> float:
    return float(np.abs(shared_shocks.reached - requested).max())


def repaired(matrix: Floats) -> Floats:
    """Return a correlation matrix, or the nearest one to it."""
    return matrix if is_correlation_matrix(matrix) else nearest_correlation(matrix)


def _correlations(processes: Sequence[Process], shocks: list[Floats], dt: float) -> Floats:
    """Return the correlations of the returns of simulated paths, or of the changes of values that
    may be negative.
    """
    moves = []
    with np.errstate(over="ignore", under="ignore"):
        for process, own in zip(processes, shocks, strict=True):
            values = process._ahead(own, dt, process)
            values = np.log(values) if process.multiplies else values
            moves.append(np.diff(values, axis=0).ravel())
    return np.atleast_2d(np.corrcoef(np.array(moves)))


def mix(shocks: Floats, weights: Floats) -> None:
    """Make independent shocks ``(assets, periods, trials)`` dependent, in place, by a factor of
    their correlations.

    By small pieces, which stay in the cache and below the size at which the linear algebra library
    starts threads inside ours.
    """
    flat = shocks.reshape(len(weights), -1)
    for begin in range(0, flat.shape[1], CHUNK):
        columns = flat[:, begin : begin + CHUNK]
        columns[...] = weights @ columns
