"""Several processes whose shocks move together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.matrices import cholesky_factor, conflicting_pairs, is_correlation_matrix
from kindynos.engine.available import check_memory
from kindynos.errors import ParameterError
from kindynos.processes.base import Process
from kindynos.processes.drawing import PathDraws, each_part
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import array_of, check_integer, instance, invalid_argument, mapping, positive

CHUNK = 2_048  # values of each asset mixed at a time


@dataclass(frozen=True)
class PathSet:
    """Processes by name, with the correlation matrix of their shocks period by period.

    ``correlation`` is an array in the order of the names, or a DataFrame with them; without it they
    are independent. With ``shared`` all have the very same shocks, as processes drawn from the same
    dates of a history must. Raises ParameterError for a matrix of the wrong shape or not positive
    definite, naming the most conflicting pairs.

    >>> from kindynos import GeometricBrownianMotion
    >>> made = GeometricBrownianMotion(100.0, 0.05, 0.2)
    >>> pair = PathSet({"a": made, "b": made}, correlation=[[1, 0.5], [0.5, 1]])
    >>> pair.paths(periods=12, trials=1000, seed=1, dt=1 / 12).shape
    (2, 13, 1000)
    """

    processes: Mapping[str, Process]
    correlation: Any = None
    shared: bool = field(default=False, kw_only=True)

    def __post_init__(self) -> None:
        processes = mapping("PathSet", "processes", self.processes, "processes by name")
        if not processes:
            raise ParameterError("needs at least one process", owner="PathSet")
        for name, process in processes.items():
            if not isinstance(process, Process):
                raise ParameterError(
                    f"{name!r} must be a process, not {process!r:.60}", owner="PathSet"
                )
        object.__setattr__(self, "processes", processes)
        if (
            instance("PathSet", "shared", self.shared, bool, "True or False")
            and self.correlation is not None
        ):
            raise ParameterError("shared= leaves no room for correlation=", owner="PathSet")
        object.__setattr__(self, "correlation", self._checked())

    def _checked(self) -> Floats:
        dated = [name for name, process in self.processes.items() if process.dated]
        if self.correlation is not None and dated:
            raise ParameterError(
                f"{dated[0]!r} is drawn from the dates of a history, which no correlation of "
                "shocks can join; several move "
                "together as they did with BootstrapReturns.fit(DataFrame of their prices)",
                owner="PathSet",
            )
        names = self.names
        if self.correlation is None:
            return np.eye(len(names))
        given = self.correlation
        if hasattr(given, "loc"):
            missing = [
                name for name in names if name not in given.index or name not in given.columns
            ]
            if missing:
                raise ParameterError(
                    f"the correlation has no row and column {missing[0]!r}", owner="PathSet"
                )
            given = given.loc[names, names]
        matrix = array_of("PathSet", "correlations", given)
        if matrix.shape != (len(names), len(names)):
            raise ParameterError(
                f"correlation must be {len(names)} by {len(names)}, not {matrix.shape}",
                owner="PathSet",
            )
        if not np.allclose(matrix, matrix.T, atol=1e-12) or not np.allclose(
            np.diag(matrix), 1, atol=1e-12
        ):
            raise ParameterError(
                "correlation must be symmetric with ones on its diagonal", owner="PathSet"
            )
        matrix = np.where(np.eye(len(names), dtype=bool), 1.0, (matrix + matrix.T) / 2)
        if np.abs(matrix).max() > 1 or not is_correlation_matrix(matrix):
            description = "; ".join(conflicting_pairs(matrix, names, float))
            raise ParameterError(
                f"these correlations cannot hold together: {description}. See "
                "kd.nearest_correlation(matrix)",
                owner="PathSet",
            )
        return matrix

    @property
    def names(self) -> list[str]:
        """The names, in order."""
        return list(self.processes)

    def correlated_pairs(self) -> list[tuple[str, str, float]]:
        """Return the pairs of names whose shocks are correlated, with their correlation."""
        pairs = [
            (self.names[j], first, i, j) for i, first in enumerate(self.names) for j in range(i)
        ]
        return [
            (a, b, float(self.correlation[i, j]))
            for a, b, i, j in pairs
            if self.correlation[i, j] != 0
        ]

    def paths(
        self,
        periods: int,
        trials: int,
        seed: Seed = None,
        dt: float = 1.0,
        *,
        antithetic: bool = False,
        moment_matching: bool = False,
    ) -> Floats:
        """Return simulated paths ``(assets, periods + 1, trials)``, the start in row 0; options as
        for ``Process.paths``.

        Raises ParameterError for wrong numbers.
        """
        draws = self._draws(periods, trials, seed, dt, antithetic, moment_matching)
        check_memory(
            "PathSet.paths",
            f"{trials:,} paths of {periods:,} periods of {len(self.processes)} processes",
            8.0 * len(self.processes) * (periods + 1) * trials,
        )
        answer: Floats = np.empty((len(self.processes), periods + 1, trials))
        for place, process in enumerate(self.processes.values()):
            answer[place, 0] = process.start_value

        def fill(part: slice, values: list[Floats]) -> None:
            for place, rows in enumerate(values):
                answer[place, 1:, part] = rows

        self._each_block(draws, fill)
        return answer

    def outcome(
        self,
        function: Any,
        periods: int,
        trials: int,
        seed: Seed = None,
        dt: float = 1.0,
        *,
        antithetic: bool = False,
    ) -> Floats:
        """Return what a function of paths ``(assets, periods, trials)`` gives for each trial,
        without holding all the paths.

        It is called block by block, and must return ``(trials,)``. Memory is bounded by the blocks.
        """
        if not callable(function):
            raise invalid_argument("PathSet.outcome", "function", "a function of paths", function)
        draws = self._draws(periods, trials, seed, dt, antithetic, False)
        answer: Floats = np.empty(trials)

        def fill(part: slice, values: list[Floats]) -> None:
            found = np.asarray(function(np.stack(values)), dtype=np.float64)
            if found.shape != (part.stop - part.start,):
                raise ParameterError(
                    f"the function must give one value a trial, not {found.shape}",
                    owner="PathSet.outcome",
                )
            answer[part] = found

        self._each_block(draws, fill)
        return answer

    def _draws(
        self, periods: int, trials: int, seed: Seed, dt: float, antithetic: bool, matching: bool
    ) -> PathDraws:
        check_integer("PathSet.paths", "periods", periods, least=1)
        check_integer("PathSet.paths", "trials", trials, least=1)
        positive("PathSet.paths", "dt", dt)
        check_memory("PathSet.paths", f"{trials:,} trials", 8.0 * trials)
        return PathDraws(periods, trials, checked_seed(seed), dt, antithetic, matching)

    def _each_block(self, draws: PathDraws, fill: Any) -> None:
        weights = cholesky_factor(np.asarray(self.correlation))
        processes = list(self.processes.values())
        extra = [process.shocks - 1 for process in processes]
        count, lead = len(processes), max(process.gap for process in processes)
        periods = lead + draws.periods
        if self.shared:
            self._each_shared_block(draws, fill)
            return
        independent = np.array_equal(weights, np.eye(count))

        def work(block: int, part: slice) -> None:
            shocks = draws.normals((count + sum(extra)) * periods, part, block).reshape(
                count + sum(extra), periods, -1
            )
            main = shocks[:count]
            if not independent:
                mix(main, weights)
            others = (
                np.split(shocks[count:], np.cumsum(extra)[:-1])
                if sum(extra)
                else [shocks[:0]] * count
            )
            with np.errstate(over="ignore", under="ignore"):
                own = [
                    np.concatenate([main[i : i + 1], others[i]]) if extra[i] else main[i : i + 1]
                    for i in range(count)
                ]
                fill(
                    part,
                    [
                        process._ahead(own[i][:, lead - process.gap :], draws.dt, process)
                        for i, process in enumerate(processes)
                    ],
                )

        each_part(work, draws.parts((count + sum(extra)) * periods))

    def _each_shared_block(self, draws: PathDraws, fill: Any) -> None:
        processes = list(self.processes.values())
        rows = max(process.shocks for process in processes)
        lead = max(process.gap for process in processes)
        periods = lead + draws.periods

        def work(block: int, part: slice) -> None:
            shocks = draws.normals(rows * periods, part, block).reshape(rows, periods, -1)
            with np.errstate(over="ignore", under="ignore"):
                fill(
                    part,
                    [
                        process._ahead(
                            shocks[: process.shocks, lead - process.gap :].copy(), draws.dt, process
                        )
                        for process in processes
                    ],
                )

        each_part(work, draws.parts(rows * periods))


def mix(shocks: Floats, weights: Floats) -> None:
    """Make independent shocks ``(assets, periods, trials)`` dependent, in place, by a factor of
    their correlations.

    By small pieces, which stay in the cache and below the size at which the linear algebra library
    starts threads inside ours.
    """
    flat = shocks.reshape(len(weights), -1)
    for begin in range(0, flat.shape[1], CHUNK):
        part = flat[:, begin : begin + CHUNK]
        part[...] = weights @ part
