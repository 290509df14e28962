"""Several processes whose shocks move together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.dependence.matrices import can_be, clashes, factor
from kindynos.errors import ParameterError
from kindynos.processes.base import Process
from kindynos.processes.drawing import Draws, on_all
from kindynos.validate import positive, whole

Floats = NDArray[np.float64]

CHUNK = 2_048  # values of each asset mixed at a time


@dataclass(frozen=True)
class PathSet:
    """Processes by name, with the correlation matrix of their shocks period by period.

    ``correlation`` is an array in the order of the names, or a DataFrame with them; without it they are independent. Raises
    ParameterError for a matrix that does not fit or cannot be, naming the pairs that clash most.

    >>> from kindynos import GeometricBrownianMotion
    >>> made = GeometricBrownianMotion(100.0, 0.05, 0.2)
    >>> pair = PathSet({"a": made, "b": made}, correlation=[[1, 0.5], [0.5, 1]])
    >>> pair.paths(periods=12, trials=1000, seed=1, dt=1 / 12).shape
    (2, 13, 1000)
    """

    processes: Mapping[str, Process]
    correlation: Any = None

    def __post_init__(self) -> None:
        if not self.processes:
            raise ParameterError("PathSet: needs at least one process")
        for name, process in self.processes.items():
            if not isinstance(process, Process):
                raise ParameterError(f"PathSet: {name!r} must be a process, not {process!r:.60}")
        object.__setattr__(self, "processes", dict(self.processes))
        object.__setattr__(self, "correlation", self._checked())

    def _checked(self) -> Floats:
        names = self.names
        if self.correlation is None:
            return np.eye(len(names))
        given = self.correlation
        if hasattr(given, "loc"):
            missing = [name for name in names if name not in given.index or name not in given.columns]
            if missing:
                raise ParameterError(f"PathSet: the correlation has no row and column {missing[0]!r}")
            given = given.loc[names, names]
        matrix = np.asarray(given, dtype=np.float64)
        if matrix.shape != (len(names), len(names)):
            raise ParameterError(f"PathSet: correlation must be {len(names)} by {len(names)}, not {matrix.shape}")
        if not np.allclose(matrix, matrix.T, atol=1e-12) or not np.allclose(np.diag(matrix), 1, atol=1e-12):
            raise ParameterError("PathSet: correlation must be symmetric with ones on its diagonal")
        matrix = np.where(np.eye(len(names), dtype=bool), 1.0, (matrix + matrix.T) / 2)
        if np.abs(matrix).max() > 1 or not can_be(matrix):
            said = "; ".join(clashes(matrix, names, float))
            raise ParameterError(f"PathSet: these correlations cannot all be: {said}. See kd.nearest_correlation(matrix)")
        return matrix

    @property
    def names(self) -> list[str]:
        """The names, in order."""
        return list(self.processes)

    def paths(
        self,
        periods: int,
        trials: int,
        seed: int,
        dt: float = 1.0,
        *,
        antithetic: bool = False,
        moment_matching: bool = False,
    ) -> Floats:
        """Return simulated paths ``(assets, periods + 1, trials)``, the start in row 0; options as for ``Process.paths``.

        Raises ParameterError for wrong numbers.
        """
        draws = self._draws(periods, trials, seed, dt, antithetic, moment_matching)
        answer: Floats = np.empty((len(self.processes), periods + 1, trials))
        for place, process in enumerate(self.processes.values()):
            answer[place, 0] = process.start_value

        def fill(part: slice, values: list[Floats]) -> None:
            for place, rows in enumerate(values):
                answer[place, 1:, part] = rows

        self._each_block(draws, fill)
        return answer

    def outcome(
        self, function: Any, periods: int, trials: int, seed: int, dt: float = 1.0, *, antithetic: bool = False
    ) -> Floats:
        """Return what a function of paths ``(assets, periods, trials)`` gives for each trial, without holding all the paths.

        It is called block by block, and must return ``(trials,)``. Memory is bounded by the blocks.
        """
        draws = self._draws(periods, trials, seed, dt, antithetic, False)
        answer: Floats = np.empty(trials)

        def fill(part: slice, values: list[Floats]) -> None:
            found = np.asarray(function(np.stack(values)), dtype=np.float64)
            if found.shape != (part.stop - part.start,):
                raise ParameterError(f"PathSet.outcome: the function must give one value a trial, not {found.shape}")
            answer[part] = found

        self._each_block(draws, fill)
        return answer

    def _draws(self, periods: int, trials: int, seed: int, dt: float, antithetic: bool, matching: bool) -> Draws:
        whole("PathSet.paths", "periods", periods, least=1)
        whole("PathSet.paths", "trials", trials, least=1)
        whole("PathSet.paths", "seed", seed, least=0)
        positive("PathSet.paths", "dt", dt)
        return Draws(periods, trials, seed, dt, antithetic, matching)

    def _each_block(self, draws: Draws, fill: Any) -> None:
        weights = factor(np.asarray(self.correlation))
        processes = list(self.processes.values())
        extra = [process.shocks - 1 for process in processes]
        count, periods = len(processes), draws.periods
        independent = np.array_equal(weights, np.eye(count))

        def work(block: int, part: slice) -> None:
            shocks = draws.normals((count + sum(extra)) * periods, part, block).reshape(count + sum(extra), periods, -1)
            main = shocks[:count]
            if not independent:
                mix(main, weights)
            others = np.split(shocks[count:], np.cumsum(extra)[:-1]) if sum(extra) else [shocks[:0]] * count
            with np.errstate(over="ignore", under="ignore"):
                own = [np.concatenate([main[i : i + 1], others[i]]) if extra[i] else main[i : i + 1] for i in range(count)]
                fill(part, [process.evolve(own[i], draws.dt, process) for i, process in enumerate(processes)])

        on_all(work, draws.parts((count + sum(extra)) * periods))


def mix(shocks: Floats, weights: Floats) -> None:
    """Make independent shocks ``(assets, periods, trials)`` dependent, in place, by a factor of their correlations.

    By small pieces, which stay in the cache and below the size at which the linear algebra library starts threads inside ours.
    """
    flat = shocks.reshape(len(weights), -1)
    for begin in range(0, flat.shape[1], CHUNK):
        part = flat[:, begin : begin + CHUNK]
        part[...] = weights @ part
