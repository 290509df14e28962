"""Several processes whose shocks move together."""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence.matrices import cholesky_factor, conflicting_pairs, is_correlation_matrix
from kindynos.engine.available import check_memory
from kindynos.errors import FitWarning, ParameterError
from kindynos.processes.base import Process
from kindynos.processes.drawing import PathDraws, each_part
from kindynos.processes.series import InPeriods
from kindynos.processes.together import (
    REGIMES,
    TOGETHER,
    SharedShocks,
    mix,
    needs_search,
    of_changes,
    over_a_period,
    repaired,
    shared_shocks,
)
from kindynos.sampling.streams import Seed, checked_seed
from kindynos.validate import (
    array_of,
    check_integer,
    checked,
    checked_init,
    instance,
    invalid_argument,
    mapping,
    one_of,
    positive,
)

if TYPE_CHECKING:
    import pandas as pd

FAR = 0.05  # of a correlation that is not reached: it is reported


@checked_init
@dataclass(frozen=True)
class PathSet:
    """Processes by name, with the correlation matrix of their shocks.

    ``correlation`` is an array in the order of the names, or a DataFrame with them; without it they
    are independent. It is that of the returns of a period, of the logarithm or changes of values
    that may be negative; for values that return to a level, of the shocks at every instant, which
    is converted exactly to periods of any length.
    Processes with jumps, regimes or fat tails reach it, as far as they can, by ``jumps="together"``
    and ``regimes="together"``, which come together the more the stronger the correlation is;
    "apart" leaves them to each process, and ``regimes="common"`` gives all the same. ``reached``
    gives what results. With ``shared`` all have the very same shocks, as processes drawn from the
    same dates of a history must. Raises ParameterError for a matrix of the wrong shape or not
    positive definite, naming the most conflicting pairs.

    >>> from kindynos import GeometricBrownianMotion
    >>> made = GeometricBrownianMotion(100.0, 0.05, 0.2)
    >>> pair = PathSet({"a": made, "b": made}, correlation=[[1, 0.5], [0.5, 1]])
    >>> pair.paths(periods=12, trials=1000, seed=1, dt=1 / 12).shape
    (2, 13, 1000)
    """

    processes: Mapping[str, Process]
    correlation: Any = None
    jumps: str = field(default="together", kw_only=True)
    regimes: str = field(default="together", kw_only=True)
    shared: bool = field(default=False, kw_only=True)

    def __post_init__(self) -> None:
        processes = mapping("processes", self.processes, "processes by name")
        if not processes:
            raise ParameterError("needs at least one process")
        for name, process in processes.items():
            if not isinstance(process, Process):
                raise ParameterError(f"{name!r} must be a process, not {process!r:.60}")
        object.__setattr__(self, "processes", processes)
        if instance("shared", self.shared, bool, "True or False") and self.correlation is not None:
            raise ParameterError("shared= leaves no room for correlation=")
        one_of("jumps", self.jumps, TOGETHER)
        one_of("regimes", self.regimes, REGIMES)
        object.__setattr__(self, "correlation", self._checked())
        object.__setattr__(self, "_found", {})

    def _checked(self) -> Floats:
        dated = [name for name, process in self.processes.items() if process.dated]
        if self.correlation is not None and dated:
            raise ParameterError(
                f"{dated[0]!r} is drawn from the dates of a history, which no correlation of "
                "shocks can join; several move "
                "together as they did with BootstrapReturns.fit(DataFrame of their prices)"
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
                raise ParameterError(f"the correlation has no row and column {missing[0]!r}")
            given = given.loc[names, names]
        matrix = array_of("correlations", given)
        if matrix.shape != (len(names), len(names)):
            raise ParameterError(
                f"correlation must be {len(names)} by {len(names)}, not {matrix.shape}"
            )
        if not np.allclose(matrix, matrix.T, atol=1e-12) or not np.allclose(
            np.diag(matrix), 1, atol=1e-12
        ):
            raise ParameterError("correlation must be symmetric with ones on its diagonal")
        matrix = np.where(np.eye(len(names), dtype=bool), 1.0, (matrix + matrix.T) / 2)
        if np.abs(matrix).max() > 1 or not is_correlation_matrix(matrix):
            description = "; ".join(conflicting_pairs(matrix, names, float))
            raise ParameterError(
                f"these correlations cannot hold together: {description}. See "
                "kd.nearest_correlation(matrix)"
            )
        return matrix

    @classmethod
    @checked
    def fit(
        cls,
        frame: Any,
        process: type[Process],
        dt: float = 1.0,
        *,
        jumps: str = "together",
        regimes: str = "together",
        **options: Any,
    ) -> PathSet:
        """Return processes of a kind fitted to a DataFrame with a column of prices per instrument,
        with the correlations of their returns in the history.

        ``options`` go to the fit of each. Raises ParameterError for prices that cannot be used.

        >>> import pandas as pd
        >>> from kindynos import GeometricBrownianMotion
        >>> one, other = [10.0, 11, 10, 12, 11, 13, 12, 14], [5.0, 6, 5, 5, 5, 6, 6, 7]
        >>> made = PathSet.fit(pd.DataFrame({"a": one, "b": other}), GeometricBrownianMotion)
        >>> float(round(made.correlation[0, 1], 2))
        0.7
        """
        if not hasattr(frame, "columns"):
            raise ParameterError("needs a DataFrame with a column of prices per instrument")
        kind: Any = process
        dated = {} if issubclass(process, InPeriods) else {"dt": dt}
        members: dict[str, Process] = {
            str(name): kind.fit(frame[name].to_numpy(), **dated, **options)
            for name in frame.columns
        }
        fitted = list(members.values())
        shocks = [
            process._shocks_behind(frame[name].to_numpy(dtype=np.float64), dt)
            for name, process in members.items()
        ]
        matrix = np.atleast_2d(np.corrcoef(shocks)) / over_a_period(fitted, dt)
        np.fill_diagonal(matrix, 1.0)
        return cls(members, repaired(np.clip(matrix, -1, 1)), jumps=jumps, regimes=regimes)

    @checked
    def reached(self, dt: float = 1.0) -> pd.DataFrame:
        """Return the correlations of returns that result in periods ``dt`` long, as a DataFrame:
        those that were asked for, or what comes nearest where jumps and regimes leave no more. Of
        values that return to a level they are those of changes, once the start is forgotten.
        """
        import pandas as pd

        shared_shocks = self._shared_shocks(positive("dt", dt))
        with np.errstate(all="ignore"):
            matrix = (
                self.correlation * of_changes(list(self.processes.values()), dt)
                if shared_shocks is None
                else shared_shocks.reached
            )
        return pd.DataFrame(matrix, self.names, self.names)

    def _shared_shocks(self, dt: float) -> SharedShocks | None:
        """Return how shocks are correlated, None where the returns are those of the main ones."""
        processes = list(self.processes.values())
        related = not np.array_equal(self.correlation, np.eye(len(processes)))
        simple = not any(map(needs_search, processes)) or any(p.dated or p.gap for p in processes)
        if self.shared or simple or not related:
            return None
        by_step: dict[float, SharedShocks] = self.__dict__["_found"]
        if dt not in by_step:
            requested = self._in_period(dt)
            by_step[dt] = shared_shocks(processes, requested, dt, self.jumps, self.regimes)
            self._tell(by_step[dt], requested)
        return by_step[dt]

    def _in_period(self, dt: float) -> Floats:
        """Return the correlations of the shocks of periods ``dt`` long."""
        with np.errstate(all="ignore"):
            matrix: Floats = self.correlation * over_a_period(list(self.processes.values()), dt)
        if not np.isfinite(matrix).all() or (np.abs(np.diag(matrix) - 1) > 0.5).any():
            raise ParameterError(f"periods {dt:g} long are too short or too long to be worked out")
        return repaired(matrix)

    def _tell(self, shared_shocks: SharedShocks, requested: Floats) -> None:
        """Warn of a pair whose returns cannot be as correlated as was asked for."""
        gaps = np.abs(shared_shocks.reached - requested)
        i, j = np.unravel_index(int(gaps.argmax()), gaps.shape)
        if gaps[i, j] > FAR:
            text = (
                f"the returns of {self.names[i]} and {self.names[j]} reach a correlation of "
                f"{shared_shocks.reached[i, j]:.2f}, not {requested[i, j]:.2f}, since their "
                "jumps, regimes or fat tails leave no more; PathSet.reached has all"
            )
            warnings.warn(text, FitWarning, stacklevel=5)

    @property
    def names(self) -> list[str]:
        """The names, in order."""
        return list(self.processes)

    @checked
    def correlated_pairs(self, dt: float = 1.0) -> list[tuple[str, str, float]]:
        """Return the pairs of names whose shocks are correlated, with their correlation in periods
        ``dt`` long.
        """
        matrix = self._in_period(positive("dt", dt))
        pairs = [
            (self.names[j], first, i, j) for i, first in enumerate(self.names) for j in range(i)
        ]
        return [(a, b, float(matrix[i, j])) for a, b, i, j in pairs if self.correlation[i, j] != 0]

    @checked
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
            f"{trials:,} paths of {periods:,} periods of {len(self.processes)} processes",
            8.0 * len(self.processes) * (periods + 1) * trials,
        )
        path_values: Floats = np.empty((len(self.processes), periods + 1, trials))
        for position, process in enumerate(self.processes.values()):
            path_values[position, 0] = process.start_value

        def fill(span: slice, values: list[Floats]) -> None:
            for position, rows in enumerate(values):
                path_values[position, 1:, span] = rows

        self._each_block(draws, fill)
        return path_values

    @checked
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
            raise invalid_argument("function", "a function of paths", function)
        draws = self._draws(periods, trials, seed, dt, antithetic, False)
        outcomes: Floats = np.empty(trials)

        def fill(span: slice, values: list[Floats]) -> None:
            result = np.asarray(function(np.stack(values)), dtype=np.float64)
            if result.shape != (span.stop - span.start,):
                raise ParameterError(
                    f"the function must give one value a trial, not {result.shape}"
                )
            outcomes[span] = result

        self._each_block(draws, fill)
        return outcomes

    def _draws(
        self, periods: int, trials: int, seed: Seed, dt: float, antithetic: bool, matching: bool
    ) -> PathDraws:
        check_integer("periods", periods, least=1)
        check_integer("trials", trials, least=1)
        positive("dt", dt)
        check_memory(f"{trials:,} trials", 8.0 * trials)
        return PathDraws(periods, trials, checked_seed(seed), dt, antithetic, matching)

    def _each_block(self, draws: PathDraws, fill: Any) -> None:
        weights = cholesky_factor(self._in_period(draws.dt))
        processes = list(self.processes.values())
        extra = [process.shocks - 1 for process in processes]
        count, lead = len(processes), max(process.gap for process in processes)
        periods = lead + draws.periods
        if self.shared:
            self._each_shared_block(draws, fill)
            return
        independent = np.array_equal(weights, np.eye(count))
        together = self._shared_shocks(draws.dt)

        def work(block: int, span: slice) -> None:
            shocks = draws.normals((count + sum(extra)) * periods, span, block).reshape(
                count + sum(extra), periods, -1
            )
            main = shocks[:count]
            if not independent and together is None:
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
                if together is not None:
                    own = together.mixed(processes, own)
                fill(
                    span,
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

        def work(block: int, span: slice) -> None:
            shocks = draws.normals(rows * periods, span, block).reshape(rows, periods, -1)
            with np.errstate(over="ignore", under="ignore"):
                fill(
                    span,
                    [
                        process._ahead(
                            shocks[: process.shocks, lead - process.gap :].copy(), draws.dt, process
                        )
                        for process in processes
                    ],
                )

        each_part(work, draws.parts(rows * periods))
