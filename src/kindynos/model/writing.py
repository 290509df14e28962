"""Writing a statement as a model file."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.registry import parameters_of
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ModelError
from kindynos.processes.base import Process
from kindynos.program.correlations import Correlation
from kindynos.program.program import Program
from kindynos.program.quantities import DependentDriver, DistributionDriver, Driver, Given, Line, ProcessDriver, Quantity
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline

_BARE = re.compile(r"[A-Za-z0-9_-]+")  # a key that needs no quotes


def to_toml(statement: Statement) -> str:
    """Return a statement as the text of a model file; raises ModelError for a line that is a function."""
    for quantity in statement.quantities.values():
        if isinstance(quantity, Line) and quantity.formula is None:
            raise ModelError(f"line {quantity.name!r} is a Python function, which a model file cannot hold")
    scenarios = [_table(f"scenarios.{name}", changes) for name, changes in statement.scenarios.items()]
    parts = _stated(statement.name, statement.timeline, list(statement.quantities.values()), statement.correlations)
    return "\n".join([*parts, *scenarios])


def stated(program: Program) -> str:
    """Return what a model file can hold of a program: all but its functions, and its formulas only if it has no functions."""
    lines = list(program.lines.values())
    kept = lines if all(line.formula is not None for line in lines) else []
    quantities: list[Quantity] = [*program.givens.values(), *program.drivers.values(), *kept]
    return "\n".join(_stated(program.name, program.timeline, quantities, program.correlations))


def _stated(name: str, timeline: Timeline, quantities: Sequence[Quantity], correlations: Sequence[Correlation]) -> list[str]:
    head: dict[str, Any] = {"name": name}
    if timeline.periods is not None:
        head |= {"periods": timeline.periods, "start": timeline.start, "every": timeline.every}
    parts = [_table("model", head)]
    parts += [_table(f"given.{q.name}", _given(q)) for q in quantities if isinstance(q, Given)]
    parts += [_table(f"drivers.{q.name}", _driver(q)) for q in quantities if isinstance(q, Driver)]
    for q in quantities:
        if isinstance(q, Line):
            entries = {"formula": q.formula, "unit": q.unit}
            place = "outcomes" if q.outcome else "lines"
            parts.append(
                _table(
                    f"{place}.{q.name}",
                    {**entries, "target": q.target, "better": q.better if q.better == "low" else None}
                    if q.outcome
                    else entries,
                )
            )
    parts += [f"[{_table('correlations', _correlation(entry)).replace(chr(10), ']' + chr(10), 1)}" for entry in correlations]
    return parts


def driver_table(name: str, stated: Distribution | Process, source: str, uncertain: bool = False) -> str:
    """Return a driver's table as a model file has it; with ``uncertain`` a process draws its parameters too.

    Raises ModelError for a process that a model file cannot learn again.
    """
    if isinstance(stated, Process):
        return _table(f"drivers.{name}", _driver(ProcessDriver(name, source=source, process=stated, uncertain=uncertain)))
    return _table(f"drivers.{name}", _driver(DistributionDriver(name, source=source, distribution=stated)))


def _given(given: Given) -> dict[str, Any]:
    return {"value": given.value, "unit": given.unit, "source": given.source}


def _driver(driver: Driver) -> dict[str, Any]:
    common = {"base": driver.base, "unit": driver.unit, "source": driver.source}
    if isinstance(driver, DistributionDriver | DependentDriver):
        return {**_distribution(driver.distribution), "each": driver.each, **common, "serial": driver.serial}
    assert isinstance(driver, ProcessDriver)
    if driver.uncertain and not _keeps_history(driver.process):
        raise ModelError(f"driver {driver.name!r} draws its fitted parameters, which a model file cannot hold")
    drawn = {"uncertain": True} if driver.uncertain else {}
    return {"process": driver.process.label, **driver.process.parameters, **drawn, "dt": driver.dt, **common}


def _keeps_history(process: Process) -> bool:
    """Whether a process can be learned again from the history that it keeps."""
    return bool(getattr(process, "history", ()))


def _correlation(entry: Correlation) -> dict[str, Any]:
    entries = {"between": list(entry.names), "value": entry.value, "kind": entry.kind, "copula": entry.copula}
    return {**entries, "df": entry.df, "parameter": entry.parameter, "tau": entry.tau, "repair": entry.repair}


def _distribution(distribution: Distribution | StatedDistribution) -> dict[str, Any]:
    return {"distribution": distribution.label, **parameters_of(distribution)}


def _table(name: str, entries: Mapping[str, Any]) -> str:
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
            "{ " + ", ".join(f"{key} = {_value(item)}" for key, item in _distribution(value).items() if item is not None) + " }"
        )
    if isinstance(value, tuple | list):
        return "[" + ", ".join(_value(item) for item in value) + "]"
    return repr(value)


def _text(text: str) -> str:
    """Return a TOML basic string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else f"\\U{ord(c):08x}" for c in escaped) + '"'
