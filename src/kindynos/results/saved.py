"""Saving a run and reading it again: one Parquet file with the kept values, and as its metadata model, seed, plan and versions.

Values are stored to the bit, with a checksum. Formulas are stored, functions cannot be: a run of a model with functions is read
without them, unless the model is given again.
"""

from __future__ import annotations

import json
import os
import platform
from collections.abc import Mapping
from dataclasses import replace
from hashlib import blake2b
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.engine.blocks import Blocks
from kindynos.errors import FileError, KindynosError
from kindynos.model.formula.kinds import Kind
from kindynos.model.program import Program
from kindynos.model.quantities import Line
from kindynos.results.run import Run
from kindynos.sampling.plans import plan_named

if TYPE_CHECKING:
    from kindynos.model.model import Model

Floats = NDArray[np.float64]

FORMAT = 1
KEY = b"kindynos"


def save(run: Run, path: Path) -> None:
    """Write a run; see Run.save."""
    arrow, parquet = _arrow()
    values = {name: run[name].values for name in run.kept}
    columns = {
        f"{name}[{i}]" if rows.ndim == 2 else name: row
        for name, rows in values.items()
        for i, row in enumerate(np.atleast_2d(rows))
    }
    about = json.dumps(_about(run, values))
    table = arrow.table(columns).replace_schema_metadata({KEY: about.encode()})
    part = path.with_name(f".{path.name}.part")
    try:
        parquet.write_table(table, part)
        os.replace(part, path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise FileError(f"{path}: cannot be written: {error.strerror or error}") from None


def open_run(path: str | Path, model: Model | None = None) -> Run:
    """Return a saved run: it reads, compares and is drawn like a fresh one.

    ``model`` is needed only for the sheets of trials, and of lines not kept, of a model with Python functions; its outcomes
    are compared with the saved ones. Raises FileError for a file that is none, is damaged or has another format, and for a
    model that is not the run's.
    """
    path = Path(path)
    about, columns = _read(path)
    values = {}
    for name, rows in about["kept"].items():
        wanted = [name] if rows is None else [f"{name}[{i}]" for i in range(rows)]
        if any(column not in columns for column in wanted):
            raise FileError(f"{path}: is damaged: the values of {name!r} are missing")
        values[name] = columns[name] if rows is None else np.stack([columns[column] for column in wanted])
    if _checksum(values) != about["checksum"]:
        raise FileError(f"{path}: is damaged: the values do not have their checksum")
    try:
        program = _program(about, model)
        trials, count, together, pitch = about["blocks"]
        blocks = Blocks(trials, count, together, tuple(pitch) if pitch else None)
    except (KindynosError, KeyError, TypeError, ValueError) as error:
        raise FileError(f"{path}: its model cannot be read: {error}") from None
    notes = {(line, text): count for line, text, count in about["notes"]}
    run = Run(program, plan_named(about["plan"]), about["seed"], blocks, values, notes, about["asked"])
    run.rounded_from = about["rounded from"]
    if program.recorded:
        run.base = {name: np.array(base, dtype=np.float64) for name, base in about["base"].items()}
    elif model is not None:
        _check_same(path, run)
    return run


def _check_same(path: Path, run: Run) -> None:
    try:
        run.trial(0)
    except KindynosError as error:
        raise FileError(f"{path}: the model given is not that of the run: {error}") from None


def _about(run: Run, values: Mapping[str, Floats]) -> dict[str, Any]:
    from kindynos.model.file import stated

    program, blocks = run.program, run.blocks
    kept = {name: None if rows.ndim == 1 else len(rows) for name, rows in values.items()}
    lines = [
        {
            **{key: getattr(line, key) for key in ("name", "unit", "outcome", "target")},
            "needs": [*line.needs, *line.needs_earlier],
            "row": program.kinds[line.name].row,
            "random": program.kinds[line.name].random,
        }
        for line in program.lines.values()
    ]
    return {
        "format": FORMAT,
        "versions": {"kindynos": version("kindynos"), "numpy": version("numpy"), "python": platform.python_version()},
        "model": stated(program),
        "functions": any(line.formula is None for line in program.lines.values()),
        "lines": lines,
        "base": {name: np.asarray(base).tolist() for name, base in run.base.items()},
        "plan": run.draws[0],
        "seed": run.seed,
        "blocks": [blocks.trials, blocks.count, blocks.together, blocks.pitch],
        "asked": run.asked,
        "rounded from": run.rounded_from,
        "notes": [[line, text, count] for (line, text), count in run.all_notes.items()],
        "kept": kept,
        "checksum": _checksum(values),
    }


def _checksum(values: Mapping[str, Floats]) -> str:
    digest = blake2b(digest_size=16)
    for name, rows in values.items():
        digest.update(name.encode())
        digest.update(np.ascontiguousarray(rows, dtype="<f8").tobytes())
    return digest.hexdigest()


def _read(path: Path) -> tuple[dict[str, Any], dict[str, Floats]]:
    _, parquet = _arrow()
    try:
        table = parquet.read_table(path)
        metadata = table.schema.metadata or {}
    except FileNotFoundError:
        raise FileError(f"{path}: there is no such file") from None
    except Exception as error:  # pyarrow has many, and all mean that the file cannot be read
        raise FileError(f"{path}: is damaged, or no saved run: {str(error).splitlines()[0]}") from None
    if KEY not in metadata:
        raise FileError(f"{path}: is a Parquet file, and no saved run; make one with run.save(path)")
    about = json.loads(metadata[KEY])
    if about.get("format") != FORMAT:
        saved = about.get("versions", {}).get("kindynos", "another version")
        raise FileError(f"{path}: was saved by kindynos {saved} in format {about.get('format')}; this version reads {FORMAT}")
    return about, {name: table[name].to_numpy() for name in table.column_names}


def _program(about: dict[str, Any], model: Model | None) -> Program:
    from kindynos.model.file import model_from_text

    if model is not None:
        return model.compiled()
    program = model_from_text(about["model"]).compiled()
    if not about["functions"]:
        return program
    lines = {
        line["name"]: Line(
            line["name"], unit=line["unit"], outcome=line["outcome"], target=line["target"], recorded_needs=tuple(line["needs"])
        )
        for line in about["lines"]
    }
    kinds = {**program.kinds, **{line["name"]: Kind(line["row"], line["random"]) for line in about["lines"]}}
    return replace(program, lines=lines, kinds=kinds, steps=(), recorded=True)


def _arrow() -> tuple[Any, Any]:
    try:
        import pyarrow
        import pyarrow.parquet
    except ImportError:
        raise FileError("saving and opening runs needs pyarrow: pip install 'kindynos[parquet]'") from None
    return pyarrow, pyarrow.parquet
