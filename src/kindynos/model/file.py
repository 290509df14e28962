"""Model files: TOML, checked on reading. Reading one runs no code."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from kindynos.distributions import Distribution
from kindynos.distributions.registry import law_from, parameters_of
from kindynos.errors import FileError, KindynosError, ModelError
from kindynos.model.links import Link
from kindynos.model.model import Model
from kindynos.model.program import Program
from kindynos.model.quantities import Driver, Given, Line, Quantity
from kindynos.model.timeline import Timeline
from kindynos.processes import Process
from kindynos.processes.registry import process_from

_BARE = re.compile(r"[A-Za-z0-9_-]+")  # a key that needs no quotes
LARGEST = 1_000_000  # bytes of a model file


def load_model(path: str | Path) -> Model:
    """Return the model in a TOML file. Raises FileError, naming file, table, key, value and rule, for any mistake in it.

    >>> from tempfile import TemporaryDirectory
    >>> with TemporaryDirectory() as folder:
    ...     file = Path(folder, "tickets.toml")
    ...     _ = file.write_text('[model]\\nname = "Tickets"\\n[given]\\nfare = 42\\n[outcomes]\\nsales = "fare * 1000"')
    ...     load_model(file)
    <model 'Tickets': 1 given figure, 0 drivers, 1 line>
    """
    path = Path(path)
    return _built(path, _read(path))


def model_from_text(text: str, source: str = "model") -> Model:
    """Return the model in the text of a model file; errors name the ``source``."""
    return _built(Path(source), tomllib.loads(text))


def _built(path: Path, document: dict[str, Any]) -> Model:
    from kindynos.model.schema import checked

    content = checked(path, document)
    head = content.model
    try:
        model = Model(head.name, head.periods, head.start, head.every)
    except KindynosError as error:
        raise FileError(f"{path}: [model]: {error}") from None
    for name, given in content.given.items():
        with _place(path, f"[given] {name}"):
            model.given(name, given.value, unit=given.unit, source=given.source)
    for name, driver in content.drivers.items():
        with _place(path, f"[drivers.{name}]"):
            options = driver.model_dump(include={"each", "base", "unit", "source", "serial", "dt"}, exclude_none=True)
            model.driver(name, _law_or_process(driver.distribution, driver.process, driver.parameters), **options)
    for place, entry in enumerate(content.correlations):
        with _place(path, f"[[correlations]] number {place + 1}"):
            options = entry.model_dump(exclude={"between", "value"})
            model.correlate(*entry.between, *([] if entry.value is None else [entry.value]), **options)
    for name, line in content.lines.items():
        with _place(path, f"[lines] {name}"):
            model.line(name, line.formula, unit=line.unit)
    for name, outcome in content.outcomes.items():
        with _place(path, f"[outcomes] {name}"):
            model.outcome(name, outcome.formula, unit=outcome.unit, target=outcome.target)
    for name, changes in content.scenarios.items():
        with _place(path, f"[scenarios.{name}]"):
            model.scenario(name, **{key: _replacement(value) for key, value in changes.items()})
    with _place(path, ""):
        model.compiled()
    return model


def _law_or_process(distribution: str | None, process: str | None, parameters: Mapping[str, Any]) -> Distribution | Process:
    if distribution is None and process is None:
        raise ModelError("the key 'distribution' is missing, or 'process' for a series")
    if distribution is not None and process is not None:
        raise ModelError("say distribution or process, and not both")
    return law_from(distribution, parameters) if distribution is not None else process_from(str(process), parameters)


def _replacement(value: Any) -> Any:
    """Return what stands in for a quantity: a law or a process stated as a table, or a figure."""
    if isinstance(value, dict) and ("distribution" in value or "process" in value):
        parameters = {key: item for key, item in value.items() if key not in ("distribution", "process")}
        return _law_or_process(value.get("distribution"), value.get("process"), parameters)
    return value


def _read(path: Path) -> dict[str, Any]:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise FileError(f"{path}: cannot be read: {error.strerror or error}") from None
    if len(data) > LARGEST:
        raise FileError(f"{path}: a model file may have {LARGEST:,} bytes, and this one has {len(data):,}")
    try:
        return tomllib.loads(data.decode("utf-8"))
    except UnicodeDecodeError as error:
        raise FileError(f"{path}: is not UTF-8 text (byte {error.start})") from None
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        raise FileError(f"{path}: is not TOML: {error or 'it is nested too deeply'}") from None


class _place:  # noqa: N801  # read as a word in a with statement
    """Puts the file and the table before the message of an error."""

    def __init__(self, path: Path, place: str) -> None:
        self.prefix = f"{path}: {place + ': ' if place else ''}"

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, KindynosError):
            raise FileError(f"{self.prefix}{error}") from None


def to_toml(model: Model) -> str:
    """Return a model as the text of a model file; raises ModelError for a line that is a function."""
    for quantity in model.quantities.values():
        if isinstance(quantity, Line) and quantity.formula is None:
            raise ModelError(f"line {quantity.name!r} is a Python function, which a model file cannot hold")
    scenarios = [_table(f"scenarios.{name}", changes) for name, changes in model.scenarios.items()]
    parts = _stated(model.name, model.timeline, list(model.quantities.values()), model.links)
    return "\n".join([*parts, *scenarios])


def stated(program: Program) -> str:
    """Return what a model file can hold of a program: all but its functions, and its formulas only if it has no functions."""
    lines = list(program.lines.values())
    kept = lines if all(line.formula is not None for line in lines) else []
    quantities: list[Quantity] = [*program.givens.values(), *program.drivers.values(), *kept]
    return "\n".join(_stated(program.name, program.timeline, quantities, program.links))


def _stated(name: str, timeline: Timeline, quantities: Sequence[Quantity], links: Sequence[Link]) -> list[str]:
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
            parts.append(_table(f"{place}.{q.name}", {**entries, "target": q.target} if q.outcome else entries))
    parts += [f"[{_table('correlations', _link(link)).replace(chr(10), ']' + chr(10), 1)}" for link in links]
    return parts


def _given(given: Given) -> dict[str, Any]:
    return {"value": given.value, "unit": given.unit, "source": given.source}


def _driver(driver: Driver) -> dict[str, Any]:
    return {
        **(_law(driver.law) if driver.process is None else _stated_process(driver)),
        "each": driver.each,
        "base": driver.base,
        "unit": driver.unit,
        "source": driver.source,
        "serial": driver.serial,
    }


def _link(link: Link) -> dict[str, Any]:
    entries = {"between": list(link.names), "value": link.figure, "kind": link.kind, "copula": link.copula}
    return {**entries, "df": link.df, "parameter": link.parameter, "tau": link.tau, "repair": link.repair}


def _law(law: Distribution) -> dict[str, Any]:
    return {"distribution": law.label, **parameters_of(law)}


def _stated_process(driver: Driver) -> dict[str, Any]:
    assert driver.process is not None
    if driver.uncertain:
        raise ModelError(f"driver {driver.name!r} draws its fitted parameters, which a model file cannot hold")
    return {"process": driver.process.label, **driver.process.parameters, "dt": driver.dt}


def _table(name: str, entries: Mapping[str, Any]) -> str:
    lines = [f"{key} = {_value(value)}" for key, value in entries.items() if value is not None]
    head, _, key = name.partition(".")
    title = f"{head}.{key if _BARE.fullmatch(key) else _text(key)}" if key else head
    return "\n".join([f"[{title}]", *lines, ""])


def _value(value: Any) -> str:
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, Process):
        stated = {"process": value.label, **value.parameters}
        return "{ " + ", ".join(f"{key} = {_value(item)}" for key, item in stated.items()) + " }"
    if isinstance(value, Distribution):
        return "{ " + ", ".join(f"{key} = {_value(item)}" for key, item in _law(value).items() if item is not None) + " }"
    if isinstance(value, tuple | list):
        return "[" + ", ".join(_value(item) for item in value) + "]"
    return repr(value)


def _text(text: str) -> str:
    """Return a TOML basic string."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return '"' + "".join(c if c.isprintable() else f"\\u{ord(c):04x}" for c in escaped) + '"'
