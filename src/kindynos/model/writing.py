"""Writing a statement as a model file."""

from __future__ import annotations

import re
import textwrap
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.base import Distribution
from kindynos.distributions.registry import parameters_of
from kindynos.distributions.stated import StatedDistribution
from kindynos.distributions.uncertain import Uncertain
from kindynos.errors import ModelError
from kindynos.formula.parse import is_name
from kindynos.model.claims import claims_of, own_count
from kindynos.model.driver_table import as_name
from kindynos.model.loans import loans_of
from kindynos.processes.base import Process
from kindynos.program.calculation import Calculation
from kindynos.program.correlations import Correlation
from kindynos.program.drawn_events import Defaults, Sizes
from kindynos.program.planned import PlannedChoice
from kindynos.program.program import Program
from kindynos.program.quantities import (
    AveragedDriver,
    DependentDriver,
    DistributionDriver,
    Driver,
    Given,
    Line,
    PickingDriver,
    ProcessDriver,
    Quantity,
)
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline

Table = dict[str, Any]
NUMBERS = re.compile(r"\[\n((?: *[-+.\w]+,\n)+) *\]")  # a list of numbers, one a line
WIDTH = 92  # of a line of them


def to_toml(statement: Statement) -> str:
    """Return a statement as the text of a model file; raises ModelError for a line that is a
    function.
    """
    for quantity in statement.quantities.values():
        if not isinstance(quantity, Line) or quantity.calculation is not None:
            continue
        if not is_stated(quantity):
            raise ModelError(
                f"line {quantity.name!r} is a Python function, which a model file cannot hold"
            )
    quantities = list(statement.quantities.values())
    tables = _tables(
        statement.name, statement.timeline, quantities, statement.correlations, statement.titles
    )
    calculation = next(
        (q.calculation for q in quantities if isinstance(q, Line) and q.calculation is not None),
        None,
    )
    if calculation is not None:
        _rest_on(tables, calculation)
    if statement.scenarios:
        tables["scenarios"] = statement.scenarios
    if statement.choices:
        tables["choices"] = {name: _choice(one) for name, one in statement.choices.items()}
    return _text(tables)


def _choice(choice: PlannedChoice) -> Table:
    table = {"at": choice.at, "knowing": list(choice.knowing), "options": dict(choice.options)}
    return {**table, "after": dict(choice.after)} if choice.after else table


def _rest_on(tables: Table, calculation: Calculation) -> None:
    """Have the tables of a model file name the cells that its quantities are, and leave out what
    follows from the file that they are in.
    """
    tables["model"]["workbook"] = Path(calculation.file).name
    for kind in ("given", "drivers", "lines", "outcomes"):
        entries = tables.get(kind, {})
        for name in list(entries):
            if name in calculation.implied:
                del entries[name]
                continue
            position = calculation.place_of(name)
            if position is not None:
                entries[name] = {"cell": position, **entries[name]}
        if not entries:
            tables.pop(kind, None)


def stated(program: Program) -> str:
    """Return what a model file can hold of a program: all but its functions, and its formulas only
    if it has no functions.
    """
    lines = list(program.lines.values())
    kept = lines if all(is_stated(line) for line in lines) else []
    quantities: list[Quantity] = [*program.givens.values(), *program.drivers.values(), *kept]
    stated = (program.name, program.timeline, quantities, program.correlations)
    return _text(_tables(*stated, dict(program.titles)))


def _text(tables: Mapping[str, Any]) -> str:
    import tomli_w

    return NUMBERS.sub(_in_rows, tomli_w.dumps(_plain(tables)))


def _in_rows(numbers: re.Match[str]) -> str:
    """Return a list of numbers, one a line, with as many on a line as there is room for."""
    text = " ".join(numbers[1].split())
    return "[\n" + textwrap.indent("\n".join(textwrap.wrap(text, WIDTH)), "    ") + "\n]"


def _plain(value: Any) -> Any:
    """Return a value of what TOML knows; entries that are None are left out."""
    if isinstance(value, Process):
        return _plain({"process": value.label, **value.parameters})
    if isinstance(value, Distribution | StatedDistribution):
        return _plain(_distribution(value))
    if isinstance(value, Mapping):
        return {str(key): _plain(part) for key, part in value.items() if part is not None}
    if isinstance(value, tuple | list):
        return [_plain(part) for part in value]
    return value


def _tables(
    name: str,
    timeline: Timeline,
    quantities: Sequence[Quantity],
    correlations: Sequence[Correlation],
    titles: Mapping[str, str],
) -> Table:
    """Return the tables of a model file, in the order in which it is read."""
    head: Table = {"name": name}
    if timeline.periods is not None:
        head |= {"periods": timeline.periods, "start": timeline.start, "every": timeline.every}
    cohorts = cohorts_of(quantities)
    claims, loans = claims_of(quantities), loans_of(quantities)
    factors = {book.factor for book in loans.values()}
    by_name = {q.name: q for q in quantities}
    counts = {s.count for key, s in claims.items() if own_count(key, s, by_name)}
    lines = [q for q in quantities if isinstance(q, Line) and q.events is None]
    lines = [line for line in lines if not is_cohort_row(line)]
    elsewhere = {*counts, *factors}  # drivers that the tables of claims and loans state
    drivers = [
        q
        for q in quantities
        if isinstance(q, Driver) and not isinstance(q, PickingDriver) and q.name not in elsewhere
    ]
    tables: Table = {
        "model": head,
        "given": {q.name: _given(q) for q in quantities if isinstance(q, Given)},
        "drivers": {q.name: _driver(q) for q in drivers},
        "cohorts": {key: _cohort(key, cohort) for key, cohort in cohorts.items()},
        "claims": {n: _claims(n, sizes, by_name) for n, sizes in claims.items()},
        "loans": {key: _loans(book, by_name[key].unit) for key, book in loans.items()},
        "lines": {q.name: _line(q) for q in lines if not q.outcome and not q.check},
        "outcomes": {q.name: _line(q) for q in lines if q.outcome},
        "checks": {q.name: {"formula": q.formula} for q in lines if q.check},
        "correlations": [_correlation(entry) for entry in correlations],
    }
    for kind in ("given", "drivers", "lines", "outcomes"):
        for name in titles.keys() & tables[kind].keys():
            tables[kind][name] |= {"title": titles[name]}
    return {key: table for key, table in tables.items() if table}


def _claims(name: str, sizes: Sizes, quantities: Mapping[str, Quantity]) -> Table:
    """Return the table of claims; their number by its distribution, or by its name."""
    picking, count = quantities[sizes.picking], own_count(name, sizes, quantities)
    assert isinstance(picking, PickingDriver)
    return {
        "count": sizes.count if count is None else _distribution(count.distribution),
        "size": _distribution(sizes.distribution),
        "each": picking.each,
        "unit": quantities[name].unit,
        "source": picking.source,
    }


def _loans(book: Defaults, unit: str | None) -> Table:
    """Return the table of a book of loans, with a list for each of its columns."""
    loans = book.loans
    columns: Table = {
        "amount": loans.amounts,
        "chance": loans.chances,
        "recovery": loans.recoveries,
        "group": loans.groups if any(loans.groups) else None,
    }
    return {**columns, "correlation": book.correlation, "unit": unit}


def is_stated(line: Line) -> bool:
    """Whether a model file can hold a line."""
    return line.formula is not None or line.events is not None or is_cohort_row(line)


def _line(line: Line) -> Table:
    entries = {"formula": line.formula, "unit": line.unit}
    if line.outcome:
        better = line.better if line.better == "low" else None
        entries |= {"target": line.target, "better": better, "missing": line.missing}
    return entries


def is_cohort_row(line: Line) -> bool:
    """Whether a line is a row of a cohort."""
    return line.shared is not None and line.shared.cohort is not None


def cohorts_of(quantities: Sequence[Quantity]) -> dict[str, Cohort]:
    """Return the cohorts among quantities by name; raises ModelError for one whose chances are
    drawn: no file can hold it.
    """
    cohorts: dict[str, Cohort] = {}
    for quantity in quantities:
        call = quantity.shared if isinstance(quantity, Line) else None
        if call is not None and call.cohort is not None:
            function: Any = call.function
            if function.uncertain:
                raise ModelError(
                    f"{quantity.name!r} draws its chances, which a model file cannot hold"
                )
            cohorts[call.inputs[0].removesuffix("_moves")] = call.cohort
    return cohorts


def _cohort(name: str, cohort: Cohort) -> Table:
    """Return the table of a cohort, with one table of chances for each state that things leave."""
    if cohort.periods is not None:
        raise ModelError(
            f"cohort {name!r} has chances for each period, which a model file cannot hold"
        )
    table: Table = {"states": cohort.states, "start": cohort.start}
    table |= {key: getattr(cohort, key) for key in ("arrivals", "departures", "value")}
    table["cost"] = {f"{a} -> {b}": amount for (a, b), amount in cohort.cost.items()}
    table = {key: entry for key, entry in table.items() if entry}
    rows: Any = cohort.transition
    for i, state in enumerate(cohort.states):
        others = {
            cohort.states[j]: chance for j, chance in enumerate(rows[i]) if j != i and chance != 0.0
        }
        if others:
            table[state] = {**others, "remainder_state": state}
    return table


def driver_table(
    name: str,
    stated: Distribution | Process,
    source: str,
    uncertain: bool = False,
    parts_file: str | None = None,
) -> str:
    """Return a driver's table as a model file has it; with ``uncertain`` a process draws its
    parameters too. The parts of a distribution are in ``parts_file`` where it is named.

    Raises ModelError for a process that a model file cannot fit again.
    """
    driver: Driver
    if isinstance(stated, Process):
        driver = ProcessDriver(name, source=source, process=stated, uncertain=uncertain)
    else:
        driver = DistributionDriver(name, source=source, distribution=stated)
    table = _driver(driver)
    if parts_file is not None:
        assert isinstance(stated, Uncertain)
        del table["weights"]  # all alike
        table["parts"] = {"file": parts_file, "distribution": stated.parts[0].label}
    return _text({"drivers": {name: table}})


def joint_tables(
    margins: Mapping[str, Distribution], correlations: Sequence[Mapping[str, Any]], source: str
) -> str:
    """Return drivers and how they move together, as a model file has them; columns get names that
    formulas can use.
    """
    names = {column: column if is_name(column) else as_name(column) for column in margins}
    if len(set(names.values())) < len(names):
        raise ModelError(f"two columns would have one name: {', '.join(names.values())}")
    drivers = {
        names[column]: _driver(DistributionDriver(names[column], source=source, distribution=one))
        for column, one in margins.items()
    }
    entries = [
        {
            "between": [names[column] for column in entry["names"]],
            **{key: value for key, value in entry.items() if key != "names"},
        }
        for entry in correlations
    ]
    return _text({"drivers": drivers, "correlations": entries})


def _given(given: Given) -> Table:
    entries = {"value": given.value, "unit": given.unit, "source": given.source}
    return {**entries, "convert": True} if given.convert else entries


def _driver(driver: Driver) -> Table:
    common = {"base": driver.base, "unit": driver.unit, "source": driver.source}
    if isinstance(driver, DistributionDriver | DependentDriver):
        return {
            **_distribution(driver.distribution),
            "each": driver.each,
            **common,
            "serial": driver.serial,
        }
    assert isinstance(driver, ProcessDriver)
    if driver.uncertain and not _keeps_history(driver.process):
        raise ModelError(
            f"driver {driver.name!r} draws its fitted parameters, which a model file cannot hold"
        )
    drawn: Table = {"uncertain": True} if driver.uncertain else {}
    drawn |= {"value": "average"} if isinstance(driver, AveragedDriver) else {}
    return {
        "process": driver.process.label,
        **driver.process.parameters,
        **drawn,
        "dt": driver.dt,
        **common,
    }


def _keeps_history(process: Process) -> bool:
    """Whether a process can be refitted from the history that it keeps."""
    return bool(getattr(process, "history", ()))


def _correlation(entry: Correlation) -> Table:
    entries = {
        "between": list(entry.names),
        "value": entry.value,
        "kind": entry.kind,
        "copula": entry.copula,
    }
    return {
        **entries,
        "df": entry.df,
        "parameter": entry.parameter,
        "tau": entry.tau,
        "repair": entry.repair,
    }


def _distribution(distribution: Distribution | StatedDistribution) -> Table:
    return {"distribution": distribution.label, **parameters_of(distribution)}
