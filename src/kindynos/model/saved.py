"""Saving a run and reading it again: one Parquet file with the kept values, and as its metadata
model, seed, plan and versions.

Values are stored to the bit, with a checksum. Formulas are stored, functions cannot be: a run of a
model with functions is read without them, unless the model is given again.
"""

from __future__ import annotations

import json
import math
import platform
from collections.abc import Mapping
from dataclasses import replace
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.atomic import check_writable, replacing
from kindynos.engine.available import check_memory
from kindynos.engine.blocks import Blocks
from kindynos.engine.precision import Precision
from kindynos.errors import FileError, KindynosError
from kindynos.formula.shapes import Shape
from kindynos.model.file import model_from_text
from kindynos.model.model import Model
from kindynos.model.writing import is_stated, stated
from kindynos.program.program import Program
from kindynos.program.quantities import Line
from kindynos.results.run import Run
from kindynos.results.trials import Drawing, RunRecord
from kindynos.sampling.plans import PLANS
from kindynos.sealing import seal_of_arrays, seal_of_facts
from kindynos.tables.files import check_file
from kindynos.tables.parquet import parquet_of
from kindynos.validate import checked, path_of

FORMAT = 3
KEY = b"kindynos"
PARTS: dict[str, Any] = {
    "model": str,
    "functions": bool,
    "lines": list,
    "base": dict,
    "plan": str,
    "seed": int,
    "blocks": list,
    "asked": int,
    "rounded from": int | None,
    "notes": list,
    "kept": dict,
    "checksum": str,
}
LINE: dict[str, Any] = {
    "name": str,
    "unit": str | None,
    "outcome": bool,
    "target": int | float | None,
    "needs": list,
    "row": bool,
    "random": bool,
}

SAVED = ("name", "unit", "outcome", "check", "target", "better", "missing")  # of a line


@checked
def save(run: Run, path: str | Path) -> None:
    """Write a run; see Run.save."""
    path = path_of("path", path)
    check_savable(path)
    arrow, parquet = parquet_of()
    values = {name: run[name].values for name in run.kept}
    columns = {
        f"{name}[{i}]" if rows.ndim == 2 else name: row
        for name, rows in values.items()
        for i, row in enumerate(np.atleast_2d(rows))
    }
    about = _about(run, values)
    about["seal"] = seal_of_facts(about)
    table = arrow.table(columns).replace_schema_metadata({KEY: json.dumps(about).encode()})
    with replacing(path) as temporary:
        parquet.write_table(table, temporary)


def check_savable(path: Path) -> None:
    """Raise FileError where a run could not be saved; for the time before a simulation that would
    be lost.
    """
    if path.suffix.lower() in (".csv", ".xlsx", ".json", ".toml", ".txt"):
        rule = (
            f"a run is saved as Parquet, not {path.suffix}; name the file "
            f"{path.with_suffix('.parquet').name}"
        )
        raise FileError(rule, file=str(path))
    check_writable(path)


@checked
def open_run(path: str | Path, model: Model | None = None) -> Run:
    """Return a saved run: it reads, compares and is drawn like a fresh one.

    ``model`` is needed only for the sheets of trials, and of lines not kept, of a model with Python
    functions; its outcomes are compared with the saved ones. Raises FileError for a file that is
    none, is damaged or has another format, and for a model that is not the run's.

    >>> import tempfile
    >>> from pathlib import Path
    >>> from kindynos import Model, Normal, open_run
    >>> model = Model("Kiosk")
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "3 * sales - 250")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     model.simulate(500, seed=1).save(Path(folder) / "kiosk.parquet")
    ...     open_run(Path(folder) / "kiosk.parquet").size
    500
    """
    path = path_of("path", path)
    check_file(path, math.inf)
    about, columns = _read(path)
    try:
        run = _opened(path, about, columns, model)
    except KindynosError as error:
        if error.file == str(path):
            raise
        raise FileError(f"its model cannot be read: {error}", file=str(path)) from None
    # the description is foreign data: whatever does not fit, the file is at fault
    except Exception as error:
        reason = (
            f"{type(error).__name__}: "
            f"{str(error).splitlines()[0] if str(error) else 'no reason given'}"
        )
        raise FileError(
            f"is damaged: its description cannot be read ({reason})", file=str(path)
        ) from None
    if model is not None:
        _check_same(path, run)
    return run


def _opened(
    path: Path, about: dict[str, Any], columns: dict[str, Floats], model: Model | None
) -> Run:
    _check_types(about)
    values = {}
    for name, rows in about["kept"].items():
        requested = [name] if rows is None else [f"{name}[{i}]" for i in range(rows)]
        if any(column not in columns for column in requested):
            raise FileError(f"is damaged: the values of {name!r} are missing", file=str(path))
        values[name] = (
            columns[name] if rows is None else np.stack([columns[column] for column in requested])
        )
    if seal_of_arrays(values) != about["checksum"]:
        raise FileError("is damaged: the values do not have their checksum", file=str(path))
    program = _program(about, model)
    trials, count, blocks_per_batch, planned = about["blocks"]
    blocks = Blocks(trials, count, blocks_per_batch, tuple(planned) if planned else None)
    if any(rows.shape[-1] != trials for rows in values.values()) or not set(values) <= set(
        program.lines
    ) | set(program.shapes):
        raise ValueError("the values do not belong to the model")
    record = RunRecord(
        requested=about["asked"],
        rounded_from=about["rounded from"],
        aims=tuple((Precision.of(aim), bool(met)) for aim, met in about.get("aims", ())),
        notes={(line, text): count for line, text, count in about["notes"]},
        base=_base(about) if program.recorded else None,
        processors=tuple(map(str, about.get("processors", ()))),
    )
    return Run(program, Drawing(PLANS.find(about["plan"]), about["seed"], blocks), values, record)


def _check_types(about: Mapping[str, Any]) -> None:
    """Raise TypeError for a description whose parts have other types than those written."""
    parts = [(key, about[key], kinds) for key, kinds in PARTS.items()]
    parts += [
        (f"a line's {key}", line[key], kinds)
        for line in about["lines"]
        for key, kinds in LINE.items()
    ]
    parts += [
        ("a note", entry, kind)
        for note in about["notes"]
        for entry, kind in zip(note, (str, str, int), strict=True)
    ]
    parts += [
        ("blocks", entry, int) for entry in (*about["blocks"][:3], *(about["blocks"][3] or ()))
    ]
    parts += [("kept", rows, int | None) for rows in about["kept"].values()]
    for name, value, kinds in parts:
        if not isinstance(value, kinds) or (isinstance(value, bool) and kinds is not bool):
            raise TypeError(f"{name} is {value!r:.40}")


def _base(about: Mapping[str, Any]) -> dict[str, Floats]:
    return {name: np.array(base, dtype=np.float64) for name, base in about["base"].items()}


def _check_same(path: Path, run: Run) -> None:
    try:
        run.trial(0)
    except KindynosError as error:
        raise FileError(
            f"the model given is not that of the run: {error}", file=str(path)
        ) from None


def _about(run: Run, values: Mapping[str, Floats]) -> dict[str, Any]:
    program, blocks = run.program, run.drawing.blocks
    kept = {name: None if rows.ndim == 1 else len(rows) for name, rows in values.items()}
    lines = [
        {
            **{key: getattr(line, key) for key in SAVED},
            "needs": [*line.needs, *line.needs_earlier],
            "row": program.shapes[line.name].row,
            "random": program.shapes[line.name].random,
        }
        for line in program.lines.values()
    ]
    return {
        "format": FORMAT,
        "versions": {
            "kindynos": version("kindynos"),
            "numpy": version("numpy"),
            "python": platform.python_version(),
        },
        "model": stated(program),
        "functions": not all(is_stated(line) for line in program.lines.values()),
        "lines": lines,
        "base": {name: np.asarray(base).tolist() for name, base in run.base.items()},
        "plan": run.drawing.plan.label,
        "seed": run.seed,
        "blocks": [blocks.trials, blocks.count, blocks.blocks_per_batch, blocks.planned],
        "asked": run.requested,
        "rounded from": run.provenance.rounded_from,
        "aims": [[aim.stated(), met] for aim, met in run.provenance.aims],
        "processors": list(run.provenance.processors),
        "notes": [[line, text, count] for (line, text), count in run.provenance.notes.items()],
        "kept": kept,
        "checksum": seal_of_arrays(values),
    }


def _read(path: Path) -> tuple[dict[str, Any], dict[str, Floats]]:
    _, parquet = parquet_of()
    try:
        # opened once, so that all of it is of one file where another one takes its place
        with path.open("rb") as stream, parquet.ParquetFile(stream) as file:
            size = file.metadata.num_rows * file.metadata.num_columns
            check_memory("its figures", 8.0 * size)
            table = file.read()
            metadata = file.schema_arrow.metadata or {}
        columns = {name: np.asarray(table[name].to_numpy()) for name in table.column_names}
    except FileNotFoundError:
        raise FileError("this file does not exist", file=str(path)) from None
    except KindynosError as error:
        raise FileError.of(error, file=str(path)) from None
    except Exception as error:  # pyarrow has many, and all mean that the file cannot be read
        raise FileError(
            f"is damaged, or no saved run: {str(error).splitlines()[0]}", file=str(path)
        ) from None
    if KEY not in metadata:
        raise FileError(
            "is a Parquet file, and no saved run; make one with run.save(path)", file=str(path)
        )
    try:
        about = json.loads(metadata[KEY])
        saved = about.get("versions", {}).get("kindynos", "another version")
    except (ValueError, AttributeError, RecursionError):
        raise FileError("is damaged: its description cannot be read", file=str(path)) from None
    if about.get("format") != FORMAT:
        raise FileError(
            f"was saved by kindynos {saved} in format {about.get('format')}; this version reads "
            f"{FORMAT}",
            file=str(path),
        )
    if about.get("seal") != seal_of_facts(about):
        raise FileError("is damaged: its description does not have its checksum", file=str(path))
    return about, columns


def _program(about: dict[str, Any], model: Model | None) -> Program:
    if model is not None:
        return model.compiled()
    program = model_from_text(about["model"]).compiled()
    if not about["functions"]:
        return program
    lines = {
        line["name"]: Line(
            line["name"],
            unit=line["unit"],
            outcome=line["outcome"],
            check=bool(line.get("check", False)),
            target=line["target"],
            better=line.get("better", "high"),
            missing=line.get("missing"),
            recorded_needs=tuple(line["needs"]),
        )
        for line in about["lines"]
    }
    shapes = {
        **program.shapes,
        **{line["name"]: Shape(line["row"], line["random"]) for line in about["lines"]},
    }
    return replace(program, lines=lines, shapes=shapes, steps=(), recorded=True)
