"""Writing a statement as a model file."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from typing import Any

from kindynos.cohorts.cohort import Cohort
from kindynos.distributions.base import Distribution
from kindynos.distributions.registry import parameters_of
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ModelError
from kindynos.processes.base import Process
from kindynos.program.correlations import Correlation
from kindynos.program.program import Program
from kindynos.program.quantities import (
    DependentDriver,
    DistributionDriver,
    Driver,
    Given,
    Line,
    ProcessDriver,
    Quantity,
)
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline

_BARE = re.compile(r"[A-Za-z0-9_-]+")  # a key that needs no quotes


def to_toml(statement: Statement) -> str:
    """Return a statement as the text of a model file; raises ModelError for a line that is a
    function.
    """
    for quantity in statement.quantities.values():
        if isinstance(quantity, Line) and quantity.formula is None and not is_cohort_row(quantity):
            raise ModelError(
                f"line {quantity.name!r} is a Python function, which a model file cannot hold"
            )
    scenarios = [
        _toml_table(f"scenarios.{name}", changes) for name, changes in statement.scenarios.items()
    ]
    parts = _stated(
        statement.name,
        statement.timeline,
        list(statement.quantities.values()),
        statement.correlations,
    )
    return "\n".join([*parts, *scenarios])


def stated(program: Program) -> str:
    """Return what a model file can hold of a program: all but its functions, and its formulas only
    if it has no functions.
    """
    lines = list(program.lines.values())
    kept = lines if all(line.formula is not None or is_cohort_row(line) for line in lines) else []
    quantities: list[Quantity] = [*program.givens.values(), *program.drivers.values(), *kept]
    return "\n".join(_stated(program.name, program.timeline, quantities, program.correlations))


def _stated(
    name: str,
    timeline: Timeline,
    quantities: Sequence[Quantity],
    correlations: Sequence[Correlation],
) -> list[str]:
    head: dict[str, Any] = {"name": name}
    if timeline.periods is not None:
        head |= {"periods": timeline.periods, "start": timeline.start, "every": timeline.every}
    parts = [_toml_table("model", head)]
    parts += [_toml_table(f"given.{q.name}", _given(q)) for q in quantities if isinstance(q, Given)]
    cohorts = cohorts_of(quantities)
    luck = {f"{key}_moves" for key in cohorts}
    parts += [
        _toml_table(f"drivers.{q.name}", _driver(q))
        for q in quantities
        if isinstance(q, Driver) and q.name not in luck
    ]
    parts += [text for key, cohort in cohorts.items() for text in _cohort(key, cohort)]
    for q in quantities:
        if isinstance(q, Line) and not is_cohort_row(q):
            entries = {"formula": q.formula, "unit": q.unit}
            place = "outcomes" if q.outcome else "lines"
            parts.append(
                _toml_table(
                    f"{place}.{q.name}",
                    {
                        **entries,
                        "target": q.target,
                        "better": q.better if q.better == "low" else None,
                    }
                    if q.outcome
                    else entries,
                )
            )
    parts += [
        f"[{_toml_table('correlations', _correlation(entry)).replace(chr(10), ']' + chr(10), 1)}"
        for entry in correlations
    ]
    return parts


def is_cohort_row(line: Line) -> bool:
    """Whether a line is a row of a cohort."""
    return line.shared is not None and line.shared.cohort is not None


def cohorts_of(quantities: Sequence[Quantity]) -> dict[str, Cohort]:
    """Return the cohorts among quantities by name; raises ModelError for one whose chances are
    drawn: no file can hold it.
    """
    found: dict[str, Cohort] = {}
    for quantity in quantities:
        call = quantity.shared if isinstance(quantity, Line) else None
        if call is not None and call.cohort is not None:
            function: Any = call.function
            if function.uncertain:
                raise ModelError(
                    f"{quantity.name!r} draws its chances, which a model file cannot hold"
                )
            found[call.inputs[0].removesuffix("_moves")] = call.cohort
    return found


def _cohort(name: str, cohort: Cohort) -> list[str]:
    """Return the tables of a cohort: its own, and one of chances for each state that things
    leave.
    """
    if cohort.periods is not None:
        raise ModelError(
            f"cohort {name!r} has chances for each period, which a model file cannot hold"
        )
    entries: dict[str, Any] = {"states": cohort.states, "start": _inline(cohort.start)}
    for key in ("arrivals", "departures", "value"):
        entries[key] = _inline(getattr(cohort, key)) if getattr(cohort, key) else None
    entries["cost"] = (
        _inline({f"{a} -> {b}": amount for (a, b), amount in cohort.cost.items()})
        if cohort.cost
        else None
    )
    parts = [_toml_table(f"cohorts.{name}", entries)]
    rows: Any = cohort.transition
    for i, state in enumerate(cohort.states):
        others = {
            cohort.states[j]: chance for j, chance in enumerate(rows[i]) if j != i and chance != 0.0
        }
        if others:
            lines = [
                f"{key if _BARE.fullmatch(key) else _text(key)} = {_value(value)}"
                for key, value in others.items()
            ]
            title = f"[cohorts.{name}.{state if _BARE.fullmatch(state) else _text(state)}]"
            parts.append("\n".join([title, *lines, f"remainder_state = {_text(state)}", ""]))
    return parts


class _Inline(dict[str, Any]):
    """A table that is written in one line."""


def _inline(entries: Mapping[str, Any]) -> _Inline:
    return _Inline(entries)


def driver_table(
    name: str, stated: Distribution | Process, source: str, uncertain: bool = False
) -> str:
    """Return a driver's table as a model file has it; with ``uncertain`` a process draws its
    parameters too.

    Raises ModelError for a process that a model file cannot fit again.
    """
    if isinstance(stated, Process):
        return _toml_table(
            f"drivers.{name}",
            _driver(ProcessDriver(name, source=source, process=stated, uncertain=uncertain)),
        )
    return _toml_table(
        f"drivers.{name}", _driver(DistributionDriver(name, source=source, distribution=stated))
    )


def _given(given: Given) -> dict[str, Any]:
    return {"value": given.value, "unit": given.unit, "source": given.source}


def _driver(driver: Driver) -> dict[str, Any]:
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
    drawn = {"uncertain": True} if driver.uncertain else {}
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


def _correlation(entry: Correlation) -> dict[str, Any]:
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


def _distribution(distribution: Distribution | StatedDistribution) -> dict[str, Any]:
    return {"distribution": distribution.label, **parameters_of(distribution)}


def _toml_table(name: str, entries: Mapping[str, Any]) -> str:
    lines = [f"{key} = {_value(value)}" for key, value in entries.items() if value is not None]
    head, _, key = name.partition(".")
    title = f"{head}.{key if _BARE.fullmatch(key) else _text(key)}" if key else head
    return "\n".join([f"[{title}]", *lines, ""])


def _value(value: Any) -> str:
    if isinstance(value, float) and math.isnan(value):
        return "nan"
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Process):
        stated = {"process": value.label, **value.parameters}
        return "{ " + ", ".join(f"{key} = {_value(item)}" for key, item in stated.items()) + " }"
    if isinstance(value, Distribution | StatedDistribution):
        return (
            "{ "
            + ", ".join(
                f"{key} = {_value(item)}"
                for key, item in _distribution(value).items()
                if item is not None
            )
            + " }"
        )
    if isinstance(value, _Inline):
        inside = (
            f"{key if _BARE.fullmatch(key) else _text(key)} = {_value(item)}"
            for key, item in value.items()
        )
        return "{ " + ", ".join(inside) + " }"
    if isinstance(value, tuple | list):
        return "[" + ", ".join(_value(item) for item in value) + "]"
    return repr(value)


def _text(text: str) -> str:
    """Return a TOML basic string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else f"\\U{ord(c):08x}" for c in escaped) + '"'
