"""A run: the result of simulating a model."""

from __future__ import annotations

import platform
from collections.abc import Iterable, Mapping
from functools import cached_property
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.engine.precision import Precision
from kindynos.engine.simulation import BatchAnswer, Crew, collect
from kindynos.errors import RunError, nearest
from kindynos.model.program import Program
from kindynos.results.result import Result
from kindynos.sampling.plans import Plan
from kindynos.validate import one_of, whole

if TYPE_CHECKING:
    import pandas as pd

Floats = NDArray[np.float64]


class Run:
    """What a simulation gave. ``run["name"]`` reads one quantity; see also table, trials, trial, sensitivity and facts.

    Outcomes and drivers with one number a trial are kept, and what was asked for with ``keep=``. Anything else is worked
    out again from the seed when it is read, and compared with what was kept.
    """

    def __init__(
        self,
        program: Program,
        plan: Plan,
        seed: int,
        blocks: Blocks,
        values: Mapping[str, Floats],
        notes: Mapping[tuple[str, str], int],
        asked: int | None = None,
    ) -> None:
        self._program = program
        self._plan = plan
        self._blocks = blocks
        self._values = dict(values)
        self._kept = tuple(values)
        self._notes = dict(notes)
        self._results: dict[str, Result] = {}
        self.seed = seed
        self.asked = blocks.trials if asked is None else asked
        self.rounded_from: int | None = None
        self.aims: list[tuple[Precision, bool]] = []

    @property
    def size(self) -> int:
        """The number of trials."""
        return self._blocks.trials

    @property
    def program(self) -> Program:
        """The model as it was run."""
        return self._program

    @property
    def draws(self) -> tuple[str, int, Blocks]:
        """What decides the draws: two runs in which it is alike share those of drivers of one name."""
        return self._plan.label, self.seed, self._blocks

    @property
    def blocks(self) -> Blocks:
        """The blocks of trials."""
        return self._blocks

    @property
    def partial(self) -> bool:
        """Whether the run was stopped before all its trials were done."""
        return self.size < self.asked

    @property
    def all_notes(self) -> dict[tuple[str, str], int]:
        """What was said of some trials, by line, with their number."""
        return dict(self._notes)

    @property
    def name(self) -> str:
        """The model's name."""
        return self._program.name

    @property
    def outcomes(self) -> list[str]:
        """The names of the outcomes."""
        return self._program.outcomes

    @property
    def kept(self) -> list[str]:
        """The names of the quantities held in memory."""
        return list(self._kept)

    @property
    def drivers(self) -> list[str]:
        """The names of the drivers."""
        return list(self._program.drivers)

    @property
    def labels(self) -> list[str]:
        """The labels of the periods."""
        return self._program.timeline.labels

    def __repr__(self) -> str:
        return f"<run of {self.name!r}: {self.size:,} trials, {self._plan.label} plan, seed {self.seed}>"

    def __getitem__(self, name: str) -> Result:
        """Return a quantity of the run; raises RunError, with the nearest spelling, for one it has not."""
        if name not in self._results:
            kind = self._program.kinds.get(name)
            if kind is None or kind.table:
                raise RunError(f"the run has no quantity {name!r}{nearest(name, self._program.kinds)}")
            if name not in self._values:
                self._values.update(self._redrawn([name]))
            self._results[name] = self._result(name)
        return self._results[name]

    def _result(self, name: str) -> Result:
        program = self._program
        quantity: Any = program.lines.get(name) or program.drivers.get(name) or program.givens[name]
        base = self.base[name]
        return Result(
            name=name,
            values=self._values[name],
            bounds=self._blocks.bounds,
            independent=self._plan.independent,
            unit=quantity.unit,
            target=getattr(quantity, "target", None),
            base=base[:, 0] if base.ndim == 2 else float(base.reshape(-1)[0]),
            labels=tuple(self.labels) if program.kinds[name].row else (),
        )

    @cached_property
    def base(self) -> Mapping[str, Floats]:
        """Every quantity in the base case, as one trial."""
        return self._program.evaluate(self._program.base_values(), 1)[0]

    def _batch(self, batch: int, names: Iterable[str] | None = None) -> dict[str, Floats]:
        """Return quantities of a batch, drawn again from the seed; raises RunError if outcomes differ from those kept."""
        from kindynos.results.simulate import BatchTask

        everything = [name for name, kind in self._program.kinds.items() if not kind.table]
        wanted = everything if names is None else list(names)
        lines = [name for name in wanted if name in self._program.lines]
        checks = [name for name in self.outcomes if name in self._values] if lines else []
        task = BatchTask(self._program, self._plan, self.seed, self._blocks, tuple(dict.fromkeys([*wanted, *checks])))
        values = dict(task(batch).values)
        for name in checks:
            if not np.array_equal(values[name], self._values[name][..., self._blocks.part(batch)], equal_nan=True):
                raise RunError(
                    f"outcome {name!r} gives other values now than in the run; a function or what it reads has changed"
                )
        return {name: values[name] for name in wanted}

    def shocks(self, name: str) -> Floats:
        """Return the scores from which a driver was drawn, drawn again from the seed: those that its correlations are of."""
        parts = [
            self._program.scores(self._plan, self.seed, block, self._blocks.size(block), {name})[name]
            for block in range(self._blocks.count)
        ]
        return np.concatenate(parts, axis=-1)

    def _redrawn(self, names: Iterable[str]) -> dict[str, Floats]:
        wanted = list(names)
        return collect(lambda batch: BatchAnswer(self._batch(batch, wanted)), self._blocks, Crew()).values

    def trials(self, *rows: str) -> pd.DataFrame:
        """Return a DataFrame with a row a trial: drivers of one number, outcomes, and kept rows and those named.

        A row of the model has a column a period, named ``cash_flow 2028``.
        """
        import pandas as pd

        columns: dict[str, Floats] = {}
        for name in dict.fromkeys([*self._kept, *rows]):
            result = self[name]
            if result.is_row:
                columns |= {f"{name} {label}": row for label, row in zip(self.labels, result.values, strict=True)}
            else:
                columns[name] = result.values
        return pd.DataFrame(columns, index=pd.RangeIndex(self.size, name="trial"))

    def trial(self, number: int) -> pd.DataFrame:
        """Return the whole sheet of one trial, redrawn from the seed: quantities down, periods across.

        Raises RunError for a number that is not a trial of the run.
        """
        from kindynos.results.sheet import sheet

        whole("trial", "the number", number, least=0)
        if number >= self.size:
            raise RunError(f"trial {number:,}: the run has trials 0 to {self.size - 1:,}")
        batch, place = self._blocks.find(number)
        values = {name: value[..., place] for name, value in self._batch(batch).items()}
        return sheet(self._program, values)

    def worst(self, name: str, n: int = 1, side: str = "low") -> pd.DataFrame:
        """Return the whole sheets of the ``n`` trials in which a quantity is lowest, or with ``side="high"`` highest.

        The worst comes first; rows are (trial, quantity). Raises RunError for a row, or more trials than there are.
        """
        import pandas as pd

        one_of("worst", "side", side, ("low", "high"))
        values = self._numbers(name)
        order = np.argsort(values, kind="stable")[: np.count_nonzero(~np.isnan(values))]  # NaN comes last
        if whole("worst", "n", n, least=1) > len(order):
            raise RunError(f"worst: {name!r} has a value in {len(order):,} trials only")
        chosen = order[:n] if side == "low" else order[::-1][:n]
        return pd.concat({int(number): self.trial(int(number)) for number in chosen}, names=["trial"])

    def nearest(self, name: str, percentile: float) -> pd.DataFrame:
        """Return the whole sheet of the trial in which a quantity is nearest to its percentile.

        ``attrs["trial"]`` is its number. Raises RunError for a row or without a value.
        """
        values = self._numbers(name)
        if np.isnan(values).all():
            raise RunError(f"nearest: {name!r} has no trial with a value")
        with np.errstate(invalid="ignore"):  # infinite less infinite
            gaps = np.abs(values - float(self[name].percentile(percentile)))
        number = int(np.nanargmin(gaps))
        sheet = self.trial(number)
        sheet.attrs["trial"] = number
        return sheet

    def _numbers(self, name: str) -> Floats:
        if self[name].is_row:
            raise RunError(f"{name!r} is a row; ask for a quantity with one number a trial, such as total({name})")
        return self[name].values

    def save(self, path: str | Path) -> None:
        """Write the run to a Parquet file with all that is needed to read it again; see ``open_run``.

        Needs pyarrow, the extra ``kindynos[parquet]``. Raises FileError where it cannot be written.
        """
        from kindynos.results.saved import save

        save(self, Path(path))

    def table(self) -> pd.DataFrame:
        """Return each outcome's figures with their errors: a row a statistic, columns value, error, low, high.

        The base case's value and its percentile among the trials stand in it, and what is to be said of trials that failed.
        """
        from kindynos.results.sheet import outcome_table

        return outcome_table(self)

    def sensitivity(self, name: str, method: str = "rank", by_period: bool = False, **options: Any) -> pd.DataFrame:
        """Return what drives a quantity, a row a driver, the strongest first.

        ``method`` is "rank" (Spearman's correlation), "regression" (standardised coefficients), "swing" (each driver at its P10
        and P90 alone), "conditional" (the outcome across slices of each driver), "sobol" (first-order and total shares of
        independent drivers), "shapley" (shares with correlated drivers too) or "tail" (the drivers in the worst trials). A
        driver with a value each period counts as one, or period by period with ``by_period``. ``options`` are the method's
        own: see its function in ``kindynos.results.sensitivity``. Raises RunError for a row: name one period's line instead.
        """
        from kindynos.results.sensitivity import sensitivity

        return sensitivity(self, name, method, by_period, options)

    def survival(self, name: str) -> pd.DataFrame:
        """Return the share of trials in which a first period has not come yet, after each period, with its 95 % interval.

        ``name`` is an outcome or a line made by ``first_period``, such as the first period of ruin. Raises RunError for others.
        """
        import pandas as pd

        result, labels = self[name], self.labels
        number = result.values
        if result.is_row or not labels or not ((number >= 1) & (number == np.floor(number)) | np.isnan(number)).all():
            raise RunError(f"survival: {name!r} is not the number of a period; make it with first_period(condition)")
        shares = [result.chance(above=float(period)) for period in range(1, len(labels) + 1)]
        rows = [(float(share), share.error, share.low, share.high) for share in shares]
        return pd.DataFrame(rows, columns=["share", "error", "low", "high"], index=pd.Index(labels, name="period"))

    def convergence(self, name: str, statistic: str = "mean", *arguments: Any, **options: Any) -> pd.DataFrame:
        """Return a statistic and its error after more and more trials: a row for each number of them."""
        import pandas as pd

        from kindynos.results.statistics import Sample
        from kindynos.results.statistics import statistic as find

        result = self[name]
        if result.is_row:
            raise RunError(f"convergence: {name!r} is a row; ask for a number, such as last({name})")
        bounds = self._blocks.bounds
        stops = np.unique(np.geomspace(2, self._blocks.count, 40).astype(int)) if self._blocks.count > 1 else np.array([1])
        compute, rows = find(statistic), []
        for blocks in stops:
            part = Sample(result.values[: bounds[blocks]], bounds[: blocks + 1], self._plan.independent)
            figure = compute(part, *arguments, **options)
            rows.append((int(bounds[blocks]), float(figure), figure.error, figure.low, figure.high))
        return pd.DataFrame(rows, columns=["trials", "value", "error", "low", "high"]).set_index("trials")

    def correlations(self) -> pd.DataFrame:
        """Return for each stated pair what was asked and the rank correlation that was reached, with its error.

        For drivers with a value each period it is the average over the periods; for ``kind="linear"`` the linear correlation.
        """
        from kindynos.results.correlations import reached_correlations

        return reached_correlations(self, self._program.links)

    def notes(self, name: str) -> dict[str, int]:
        """Return what was said of some trials of a quantity or of what it is made from, with their number."""
        said = self._program.ancestors([name])
        found: dict[str, int] = {}
        for (line, text), count in self._notes.items():
            if line in said:
                label = text if line == name else f"{text} in {line}"
                found[label] = found.get(label, 0) + count
        return found

    def facts(self) -> dict[str, Any]:
        """Return how the run was made: plan, blocks, seed, versions, what is assumed independent, failed trials."""
        groups = self._program.together
        linked = {name for group in groups if len(group.names) > 1 for name in group.names}
        alone = [name for name in self._program.drivers if name not in linked]
        sets = [", ".join(group.names) for group in groups if len(group.names) > 1]
        assumed = []
        if not sets and len(alone) > 1:
            assumed.append(f"all drivers of each other: {', '.join(alone)}")
        elif sets and len(sets) + len(alone) > 1:
            assumed.append(f"of each other: {'; '.join([f'({names})' for names in sets] + alone)}")
        periodic = [name for name, driver in self._program.drivers.items() if driver.each and driver.serial is None]
        assumed.extend(f"{name} in one period of {name} in another" for name in periodic)
        return {
            "model": self.name,
            "trials": self.size,
            "sampling": self._plan.label,
            "blocks": self._blocks.count,
            "partial": f"stopped after {self.size:,} of {self.asked:,} trials" if self.partial else "",
            "rounded up": f"from the {self.rounded_from:,} trials asked for, to whole blocks" if self.rounded_from else "",
            "aims": {repr(aim): "met" if met else "not met" for aim, met in self.aims},
            "seed": self.seed,
            "assumed independent": assumed,
            "correlations": self.correlations().to_dict("records"),
            "repaired": [f"{r.first} with {r.second}: {r.asked:.3f} became {r.used:.3f}" for r in self._program.repairs],
            "bad trials": {name: self[name].bad for name in self.outcomes if self[name].bad},
            "notes": {f"{line}: {text}": count for (line, text), count in self._notes.items()},
            "first bad": self._first_bad(),
            "versions": {
                "python": platform.python_version(),
                **{package: version(package) for package in ("kindynos", "numpy", "scipy")},
            },
        }

    def _first_bad(self) -> dict[str, str]:
        """Return for each outcome with failed trials the first such trial and the line where it began."""
        found = {}
        for name in self.outcomes:
            if not self[name].bad:
                continue
            failed = np.isnan(self[name].values).reshape(-1, self.size).any(axis=0)
            number = int(np.argmax(failed))
            batch, place = self._blocks.find(number)
            values = self._batch(batch)
            upstream = self._program.ancestors([name])
            order = [line for line in values if line in upstream]
            began = next(line for line in order if np.isnan(values[line][..., place]).any())
            found[name] = f"trial {number}, first in {began!r}"
        return found
