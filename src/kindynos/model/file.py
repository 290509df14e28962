"""Model files: TOML, checked on reading. Reading one runs no code, and reports all its mistakes at
once.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.registry import distribution_from, distribution_in_words
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import FileError, KindynosError, Mistakes, ModelError
from kindynos.model.model import Model
from kindynos.processes.base import Process
from kindynos.processes.registry import process_from
from kindynos.program.drawn_events import Sizes
from kindynos.program.order import undeclared
from kindynos.program.quantities import Line
from kindynos.program.statement import MOST_QUANTITIES
from kindynos.tables.toml import parse_toml, read_toml
from kindynos.validate import checked

WORKBOOKS = (".xlsx", ".xlsm", ".xltx", ".xltm", ".xls", ".xlsb", ".ods")  # endings of workbooks
FIRST_WORDS = {label.partition(" ")[0] for label in CATALOGUE}  # of a distribution in words


@checked
def load_model(path: str | Path) -> Model:
    """Return the model in a TOML file, or that of a workbook with a sheet ``uncertain``.

    Raises FileError for the mistakes in it, all at once: each with table, key, value and rule.

    >>> from tempfile import TemporaryDirectory
    >>> with TemporaryDirectory() as folder:
    ...     file = Path(folder, "tickets.toml")
    ...     _ = file.write_text(
    ...         '[model]\\nname = "Tickets"\\n[given]\\nfare = 42\\n'
    ...         '[outcomes]\\nsales = "fare * 1000"'
    ...     )
    ...     load_model(file)
    <model 'Tickets': 1 given figure, 0 drivers, 1 line>
    """
    path = Path(path)
    if path.suffix.lower() in WORKBOOKS:
        from kindynos.workbooks.files import model_of
        from kindynos.workbooks.workbook import read_workbook

        return model_of(read_workbook(path))
    return _ModelReader(str(path)).model(read_toml(path))


def model_from_text(text: str, source: str = "model") -> Model:
    """Return the model in the text of a model file; errors name the ``source``."""
    return _ModelReader(source).model(parse_toml(text.encode("utf-8", "replace"), source))


def _is_in_words(text: str) -> bool:
    """Return whether a text states a distribution, right or wrong, and not a formula, in which no
    number follows a name.
    """
    return text.partition(" ")[0] in FIRST_WORDS or re.match(r"[a-z]\w* [\d.]", text) is not None


class _ModelReader:
    """Turns a document into a model and collects the mistakes on the way, each with its table."""

    def __init__(self, file: str) -> None:
        self.file = file
        self.mistakes = Mistakes(file)

    def model(self, document: dict[str, Any]) -> Model:
        """Return the model; raises FileError for all the mistakes."""
        from kindynos.model.schema import Content, content_of

        content = content_of(document)
        if not isinstance(content, Content):
            raise FileError.of_all(self.file, content)
        names = [
            *content.given,
            *content.drivers,
            *content.cohorts,
            *content.claims,
            *content.loans,
            *content.events,
            *content.lines,
            *content.outcomes,
            *content.checks,
        ]
        if len(names) > MOST_QUANTITIES:
            raise FileError(
                f"a model may have {MOST_QUANTITIES:,} quantities, and this one has {len(names):,}",
                file=self.file,
            )
        model = self._declared(content)
        for quantity, error in undeclared(
            model.quantities, model.statement.timeline, [*names, *model.quantities]
        ):
            table = f"[drivers.{quantity.name}]"
            if isinstance(quantity, Line) and quantity.events is not None:
                kind = "claims" if isinstance(quantity.events, Sizes) else "loans"
                table = f"[{kind}.{quantity.name}]"
            elif isinstance(quantity, Line):
                kind = "outcomes" if quantity.outcome else "checks" if quantity.check else "lines"
                table = f"[{kind}] {quantity.name}"
            self.mistakes.collected.append(error.with_context(table=table))
        if not self.mistakes.collected:
            with self.mistakes.at(table=""):
                model.compiled()
        self.mistakes.report()
        return model

    def _declared(self, content: Any) -> Model:
        head = content.model
        try:
            model = Model(head.name, head.periods, head.start, head.every)
        except KindynosError as error:
            raise FileError.of_all(self.file, [error.with_context(table="[model]")]) from None
        self._cells(model, content)
        for name, given in content.given.items():
            if given.cell is not None:
                continue
            with self.mistakes.at(table=f"[given] {name}"):
                model.given(
                    name,
                    self._read(given.value),
                    unit=given.unit,
                    source=given.source,
                    convert=given.convert,
                )
        self._drivers(model, content)
        for name, table in content.cohorts.items():
            with self.mistakes.at(table=f"[cohorts.{name}]"):
                model.cohort(name, _cohort(table))
        self._happenings(model, content)
        for position, entry in enumerate(content.correlations):
            with self.mistakes.at(table=f"[[correlations]] number {position + 1}"):
                self._correlate(model, entry)
        self._lines(model, content)
        self._titles(model, content)
        for name, changes in content.scenarios.items():
            with self.mistakes.at(table=f"[scenarios.{name}]"):
                model.scenario(name, **{key: _replacement(value) for key, value in changes.items()})
        for name, choice in content.choices.items():
            with self.mistakes.at(table=f"[choices.{name}]"):
                model.choice(name, choice.at, choice.knowing, choice.options, choice.after)
        return model

    def _happenings(self, model: Model, content: Any) -> None:
        """Add claims, loans, and events with a date."""
        for name, table in content.claims.items():
            with self.mistakes.at(table=f"[claims.{name}]"):
                options = table.model_dump(include={"each", "unit", "source"})
                count, _ = self._distribution(table.count)
                size, unit = self._distribution(table.size)
                options["unit"] = options["unit"] or unit or None
                model.claims(name, count, size, **options)
        for name, table in content.loans.items():
            with self.mistakes.at(table=f"[loans.{name}]"):
                options = table.model_dump(include={"correlation", "unit"})
                model.loans(self._loans(table), name, **options)
        for name, table in content.events.items():
            with self.mistakes.at(table=f"[events.{name}]"):
                stated = table.model_dump()
                brings = stated.pop("brings")
                if not isinstance(brings, str) or _is_in_words(brings):
                    brings, unit = self._distribution(brings)
                    stated["unit"] = stated["unit"] or unit or None
                model.event(name, brings=brings, **stated)

    def _lines(self, model: Model, content: Any) -> None:
        """Add the lines and outcomes that are formulas, and the checks."""
        for name, line in content.lines.items():
            if line.formula is None:
                continue
            with self.mistakes.at(table=f"[lines] {name}"):
                model.line(name, line.formula, unit=line.unit)
        for name, outcome in content.outcomes.items():
            if outcome.formula is None:
                continue
            with self.mistakes.at(table=f"[outcomes] {name}"):
                model.outcome(
                    name,
                    outcome.formula,
                    unit=outcome.unit,
                    target=outcome.target,
                    better=outcome.better,
                    missing=outcome.missing,
                )
        for name, check in content.checks.items():
            with self.mistakes.at(table=f"[checks] {name}"):
                model.must_hold(name, check.formula, tolerance=check.tolerance)

    def _titles(self, model: Model, content: Any) -> None:
        """Say what people call quantities."""
        for kind in ("given", "drivers", "lines", "outcomes"):
            for name, entry in getattr(content, kind).items():
                if entry.title is not None and name in model.statement.quantities:
                    with self.mistakes.at(table=f"[{kind}.{name}]"):
                        model.title(name, entry.title)

    def _cells(self, model: Model, content: Any) -> None:
        """Add what is stated of cells of the workbook that the model rests on."""
        kinds = {
            "given": content.given,
            "drivers": content.drivers,
            "lines": content.lines,
            "outcomes": content.outcomes,
        }
        tables = {
            kind: {name: entry for name, entry in table.items() if entry.cell is not None}
            for kind, table in kinds.items()
        }
        if content.model.workbook is None:
            for kind, table in tables.items():
                for name in table:
                    with self.mistakes.at(table=f"[{kind}.{name}]"):
                        raise FileError("cell needs workbook = in [model], the file it is in")
            return
        from kindynos.workbooks.modelling import cells_of_file

        with self.mistakes.at(table="[model] workbook"):
            drivers = {}
            for name, entry in tables["drivers"].items():
                stated, options = _stated_driver(entry)
                drivers[name] = entry.cell, stated, options
            cells_of_file(
                model,
                self._beside(content.model.workbook),
                {**tables, "drivers": drivers},
                content.model.accept_differences,
            )

    def _drivers(self, model: Model, content: Any) -> None:
        for name, driver in content.drivers.items():
            if driver.cell is not None:
                continue
            with self.mistakes.at(table=f"[drivers.{name}]"):
                read = {key: self._read(value) for key, value in self._lives(driver).items()}
                stated, options = _stated_driver(driver, read)
                model.driver(name, stated, **options)
        for stated_file in content.driver_tables:
            with self.mistakes.at(table="[drivers] table"):
                defaults = stated_file.model_dump(exclude={"file"}, exclude_none=True)
                model.drivers_from(self._beside(stated_file.file), **defaults)

    def _lives(self, driver: Any) -> dict[str, Any]:
        """Return the parameters of a driver; of ``survival``, a file of chances to die, and ``age``
        those of the age at death.
        """
        parameters = dict(driver.parameters)
        if driver.distribution != Discrete.label or "survival" not in parameters:
            return parameters
        table, age = parameters.pop("survival"), parameters.pop("age", None)
        if parameters:
            raise ModelError(f"with survival there is no {next(iter(parameters))}, but age")
        ages = Discrete.from_survival(self._beside(str(table)), age)
        return {"values": list(ages.values), "probabilities": list(ages.probabilities)}

    def _loans(self, table: Any) -> Any:
        """Return the table of loans: a file beside the model, or its columns."""
        columns = table.model_dump(
            include={"amount", "chance", "recovery", "group"}, exclude_none=True
        )
        if (table.table is None) == (not columns):
            raise ModelError("say table, a file beside the model, or the columns, and not both")
        if table.table is not None:
            return self._beside(table.table)
        if len({len(column) for column in columns.values()}) > 1:
            raise ModelError(f"{', '.join(columns)} must have as many values as each other")
        import pandas as pd

        return pd.DataFrame(columns)

    def _distribution(self, value: Any) -> tuple[Any, str]:
        """Return the distribution that a table or a text such as "pert 1 2 4 EUR" states, and the
        unit; other texts, which name a quantity, as they are.
        """
        if isinstance(value, str) and " " in value.strip():
            return distribution_in_words(value)
        if not isinstance(value, Mapping):
            return value, ""
        parameters = {key: self._read(stated) for key, stated in value.items()}
        label, process = parameters.pop("distribution", None), parameters.pop("process", None)
        return _distribution_or_process(label, process, parameters), ""

    def _read(self, value: Any) -> Any:
        """Return a value as it is, or the numbers of the column of a file beside the model that it
        names: ``{ file = "passengers.csv", column = "day" }``. With ``distribution``, and
        ``process`` alike, each row of the file has the parameters of one:
        ``{ file = "repair_parts.csv", distribution = "lognormal" }``.
        """
        if not isinstance(value, Mapping) or "file" not in value:
            return value
        from kindynos.fitting.records import read_values

        if set(value) == {"file", "distribution"}:
            return self._parts(value["file"], value["distribution"])

        unknown = [key for key in value if key not in ("file", "column")]
        if unknown:
            raise ModelError(
                f"values of a file have no {unknown[0]}", unknown=unknown[0], known=("column",)
            )
        numbers = read_values(self._beside(value["file"]), value.get("column"))
        missing = sum(map(math.isnan, numbers.tolist()))
        if missing:
            raise FileError(f"{missing} of {len(numbers)} values are missing", file=value["file"])
        return numbers.tolist()

    def _parts(self, file: str, distribution: str) -> list[dict[str, Any]]:
        """Return the parameters of distributions of one kind, one in each row of a file."""
        from kindynos.tables.reader import read_table

        table = read_table(self._beside(file))
        rows = zip(*(table.numbers(name).tolist() for name in table.names), strict=True)
        return [
            {"distribution": distribution, **dict(zip(table.names, r, strict=True))} for r in rows
        ]

    def _beside(self, file: str) -> Path:
        """Return the path of a file that is named from the model file on."""
        if not file or Path(file).is_absolute() or ".." in Path(file).parts:
            raise FileError(f"{file!r:.80} must be the name of a file beside the model")
        return Path(self.file).parent / file

    def _correlate(self, model: Model, entry: Any) -> None:
        """Add an entry of [[correlations]]: of two drivers or more by name, of all in a table, or a
        matrix in a file.
        """
        from kindynos.model.driver_table import read_matrix

        options = entry.model_dump(exclude={"between", "among", "matrix", "value"})
        stated = [key for key in ("between", "among", "matrix") if getattr(entry, key)]
        if len(stated) != 1:
            raise ModelError("say one of between, among and matrix")
        if entry.matrix is not None:
            if entry.value is not None:
                raise ModelError("a matrix has its values in its file")
            model.correlate(read_matrix(self._beside(entry.matrix)), **options)
            return
        names = entry.between or entry.among
        if isinstance(names, str):
            names = _drivers_of_table(model, names)
        model.correlate(*names, *([] if entry.value is None else [entry.value]), **options)


def _stated_driver(
    driver: Any, parameters: Mapping[str, Any] | None = None
) -> tuple[Distribution | StatedDistribution | Process, dict[str, Any]]:
    """Return what a driver's table states, and its options; ``parameters`` are those that it states
    where they are as they are written.
    """
    options = driver.model_dump(
        include={"each", "base", "unit", "source", "serial", "dt"}, exclude_none=True
    )
    if driver.value != "end":
        options["value"] = driver.value
    own = driver.parameters if parameters is None else parameters
    stated = _distribution_or_process(driver.distribution, driver.process, own)
    if driver.uncertain:
        return _refit(stated), {**options, "uncertain": True}
    return stated, options


def _drivers_of_table(model: Model, name: str) -> list[str]:
    """Return the drivers that a table has declared."""
    lines = {n: q for n, q in model.quantities.items() if isinstance(q, Line)}
    tables = [n for n, line in lines.items() if (line.formula or "").startswith("sum_of(")]
    if name not in tables:
        raise ModelError(f"no table of drivers {name!r:.60}", unknown=name, known=tables)
    return list(lines[name].needs)


def _distribution_or_process(
    distribution: str | None, process: str | None, parameters: Mapping[str, Any]
) -> Distribution | StatedDistribution | Process:
    if distribution is None and process is None and "percentiles" not in parameters:
        raise ModelError("the key 'distribution' is missing, or 'process' for a series")
    if distribution is not None and process is not None:
        raise ModelError("say distribution or process, and not both")
    return (
        distribution_from(distribution, parameters)
        if process is None
        else process_from(process, parameters)
    )


def _cohort(table: Any) -> Cohort:
    """Return a cohort from its table; the state that takes the rest may be told in the table of
    each state.
    """
    chances, rests = table.chances, {}
    for state, row in chances.items():
        if not isinstance(row, dict):
            raise ModelError(
                f"no key {state!r}",
                unknown=state,
                known=[*table.states, "start", "remainder_state", "arrivals", "departures"],
            )
        remainder = row.pop("remainder_state", table.remainder_state)
        if remainder is not None:
            rests[state] = remainder
    return Cohort(
        table.states,
        table.start,
        chances,
        rests,
        arrivals=table.arrivals,
        departures=table.departures,
        value=table.value,
        cost=table.cost,
    )


def _refit(stated: Any) -> Process:
    """Return a process refitted from its history, so that its parameters can be drawn; raises
    ModelError for others.
    """
    if not isinstance(stated, Process):
        raise ModelError(
            "uncertain belongs to a process; a distribution is written as 'uncertain', with "
            "its parts"
        )
    return stated.refit()


def _replacement(value: Any) -> Any:
    """Return what stands in for a quantity: a distribution or a process stated as a table, as that
    of a driver, whose unit stays as it is; or a figure.
    """
    if isinstance(value, dict) and {"distribution", "process", "percentiles"} & set(value):
        parameters = {
            key: stated
            for key, stated in value.items()
            if key not in ("distribution", "process", "unit", "source", "title")
        }
        return _distribution_or_process(value.get("distribution"), value.get("process"), parameters)
    return value
