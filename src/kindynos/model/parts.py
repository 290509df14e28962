"""Trials as a folder of Parquet files: written part by part while a run goes on, sealed by a
manifest, and read one quantity at a time.
"""

from __future__ import annotations

import json
import warnings
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.atomic import replacing
from kindynos.engine.available import check_memory
from kindynos.engine.blocks import Blocks
from kindynos.engine.fingerprint import versions
from kindynos.engine.simulation import BatchResult, Execution, collect
from kindynos.errors import DataWarning, FileError, RunError
from kindynos.program.batch import BatchTask
from kindynos.program.identity import identity
from kindynos.program.program import Program
from kindynos.results.options import SimulationOptions
from kindynos.results.result import Result
from kindynos.results.simulate import kept_names
from kindynos.sampling.plans import PLANS
from kindynos.sealing import seal_of_facts, seal_of_file
from kindynos.tables.parquet import parquet_of
from kindynos.validate import checked, path_of

if TYPE_CHECKING:
    from concurrent.futures import Executor

MANIFEST = "_manifest.json"  # the underscore hides it from readers of a folder of Parquet
FORMAT = 3
ROWS = 1_000_000  # trials of a part, about


class TrialParts(Mapping[str, Result]):
    """The trials of a run in a folder, by quantity; each is read when it is asked for, and has the
    statistics of a run's outcome.

    The parts are plain Parquet files, ``part-00000.parquet`` and so on, in the order of the trials.
    """

    def __init__(self, folder: Path, manifest: Mapping[str, Any]) -> None:
        self.folder, self.manifest = folder, dict(manifest)
        trials, count, batch, planned = manifest["blocks"]
        self.blocks = Blocks(trials, count, batch, tuple(planned) if planned else None)

    @property
    def size(self) -> int:
        """The number of trials."""
        return self.blocks.trials

    def __repr__(self) -> str:
        name = self.manifest["model"]
        return f"<trials of {name!r} in {self.folder}: {self.size:,} in {len(self.files)} parts>"

    @property
    def files(self) -> list[Path]:
        """The files, in the order of the trials."""
        return [self.folder / part["file"] for part in self.manifest["parts"]]

    def __iter__(self) -> Iterator[str]:
        return iter(self.manifest["columns"])

    def __len__(self) -> int:
        return len(self.manifest["columns"])

    def __getitem__(self, name: str) -> Result:
        if name not in self.manifest["columns"]:
            raise RunError(
                f"the folder has no quantity {name!r:.60}",
                unknown=str(name),
                known=self.manifest["columns"],
            )
        about = self.manifest["columns"][name]
        check_memory("its trials", 8.0 * self.size)
        _, parquet = parquet_of()
        values = np.concatenate(
            [parquet.read_table(file, columns=[name])[name].to_numpy() for file in self.files]
        )
        return Result(
            name,
            values,
            self.blocks.bounds,
            PLANS.find(self.manifest["plan"]).together,
            unit=about["unit"],
            better=about["better"],
            target=about["target"],
        )

    def check(self) -> None:
        """Read all parts, and raise FileError for one that is missing or was changed, and for parts
        that are not those of the run, each once and in order.
        """
        groups = _groups(self.blocks)
        if [part.get("group") for part in self.manifest["parts"]] != list(range(len(groups))):
            raise FileError("does not have each part once, in order", file=str(self.folder))
        for part in self.manifest["parts"]:
            fault = _fault(self.folder, part, self.blocks)
            if fault:
                raise FileError(fault, file=str(self.folder / str(part.get("file"))))


@checked
def open_parts(folder: str | Path) -> TrialParts:
    """Return the trials of a run that were written with ``simulate(..., store="parts")``. Raises
    FileError for a folder without them, or with those of a run that has not ended, and for parts
    that are missing or were changed.

    >>> import tempfile
    >>> from kindynos import Model, Normal, open_parts
    >>> model = Model("Kiosk")
    >>> model.driver("sales", Normal(100, 10))
    >>> model.outcome("profit", "3 * sales - 250")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     _ = model.simulate(500, seed=1, store="parts", resume=folder + "/t")
    ...     open_parts(folder + "/t").size
    500
    """
    path = path_of("folder", folder)
    manifest = _manifest(path)
    if manifest is None:
        raise FileError("has no trials in parts", file=str(path))
    if not manifest["complete"]:
        raise FileError(
            "has the trials of a run that has not ended; simulate the same again to go on",
            file=str(path),
        )
    parts = TrialParts(path, manifest)
    parts.check()
    return parts


def _manifest_of(path: Path, about: Mapping[str, Any]) -> dict[str, Any]:
    """Return the manifest of a folder, or a fresh one; raises FileError for that of another run."""
    manifest = _manifest(path) or {**about, "parts": [], "complete": False}
    for key, value in json.loads(json.dumps(about)).items():
        if manifest.get(key) != value:
            raise FileError(
                f"has trials of another run: its {key} differs; give another folder", file=str(path)
            )
    return manifest


def simulate_parts(program: Program, options: SimulationOptions, folder: str | Path) -> TrialParts:
    """Write the trials of a run into a folder, and return them; parts that are there already, of
    the same run, are kept. See Model.simulate.
    """
    arrow, parquet = parquet_of()
    path = path_of("resume", folder)
    plan = PLANS.find(options.sampling)
    seed = options.checked_seed()
    names = [name for name in kept_names(program, options.keep) if not program.shapes[name].row]
    blocks = Blocks.cut(options.trials, program.periods, plan.powers_of_two, program.shares)
    about = _about(program, names, plan.label, seed, blocks)
    manifest = _manifest_of(path, about)
    path.mkdir(parents=True, exist_ok=True)
    groups = _groups(blocks)
    task = BatchTask(program, plan, seed, blocks, tuple(names), options.on_bad == "error")
    manifest["parts"] = _sound(path, manifest["parts"], blocks)
    done = {part["group"] for part in manifest["parts"]}
    if done:
        _check_anew(path, manifest["parts"][0], task, groups)
    waiting: dict[int, dict[int, Mapping[str, Floats]]] = {}
    home = {batch: group for group, batches in enumerate(groups) for batch in batches}

    def sink(batch: int, batch_result: BatchResult) -> None:
        group = home[batch]
        parts = waiting.setdefault(group, {})
        parts[batch] = batch_result.values
        if len(parts) < len(groups[group]):
            return
        file = _name(group)
        columns = {
            name: np.concatenate([parts[block][name] for block in groups[group]]) for name in names
        }
        with replacing(path / file) as half:
            parquet.write_table(arrow.table(columns), half)
        first, rows = blocks.part(groups[group].start).start, len(columns[names[0]])
        sealed = {"first": first, "rows": rows, "seal": seal_of_file(path / file)}
        manifest["parts"].append({"group": group, "file": file, **sealed})
        manifest["parts"].sort(key=lambda part: part["group"])
        _write(path, manifest)
        del waiting[group]

    workers: int | None = options.workers
    executor: Executor | None = options.executor
    if program.one_thread and executor is None:
        workers = 1
    finished = [batch for group in done for batch in groups[group]]
    batch_result = collect(
        task, blocks, Execution(workers, executor, options.progress), sink=sink, finished=finished
    )
    if batch_result.done < blocks.trials:
        raise RunError(
            f"stopped after {batch_result.done:,} of {blocks.trials:,} trials; the same again goes "
            "on"
        )
    manifest["complete"] = True
    _write(path, manifest)
    return TrialParts(path, manifest)


def _sound(
    folder: Path, parts: Sequence[Mapping[str, Any]], blocks: Blocks
) -> list[Mapping[str, Any]]:
    """Return the parts that are as they were written, each once; others are worked out again, with
    a warning.
    """
    sound: dict[int, Mapping[str, Any]] = {}
    for part in parts:
        fault = _fault(folder, part, blocks)
        if fault:
            warnings.warn(
                f"{folder}: the part {part.get('file')!r:.60} {fault}; it is worked out again",
                DataWarning,
                stacklevel=2,
            )
        else:
            sound[part["group"]] = part
    return [sound[group] for group in sorted(sound)]


def _fault(folder: Path, part: Mapping[str, Any], blocks: Blocks) -> str:
    """Return what is wrong with a part of the run, "" where nothing is: it has the name, the first
    trial and the number of trials of its place, and the seal of its file.
    """
    groups, group = _groups(blocks), part.get("group")
    if not isinstance(group, int) or isinstance(group, bool) or not 0 <= group < len(groups):
        return "belongs to no place of the run"
    first = blocks.part(groups[group].start).start
    rows = blocks.part(groups[group][-1]).stop - first
    if part.get("file") != _name(group) or part.get("first") != first:
        return "is not the one of its place"
    file = folder / _name(group)
    if not file.is_file():
        return "is missing from the trials"
    if part.get("rows") != rows or seal_of_file(file) != part.get("seal"):
        return "was changed since it was written"
    return ""


def _name(group: int) -> str:
    return f"part-{group:05}.parquet"


def _check_anew(
    folder: Path, part: Mapping[str, Any], task: BatchTask, groups: list[range]
) -> None:
    """Raise FileError where the first batch of a part, worked out again, has other trials."""
    _, parquet = parquet_of()
    file = folder / part["file"]
    values = task(groups[part["group"]].start).values
    stored = parquet.read_table(file)
    for name, again in values.items():
        old = stored[name].to_numpy()[: len(again)] if name in stored.column_names else None
        if old is None or not np.array_equal(old, again, equal_nan=True):
            raise FileError(
                f"has other trials of {name!r} than the model draws now: a function, or what it "
                "reads, was changed; give another folder",
                file=str(file),
            )


def _groups(blocks: Blocks) -> list[range]:
    """Return the batches of each part."""
    size = max(1, round(ROWS * blocks.batches / blocks.trials))
    return [
        range(begin, min(begin + size, blocks.batches)) for begin in range(0, blocks.batches, size)
    ]


def _about(
    program: Program, names: list[str], plan: str, seed: int, blocks: Blocks
) -> dict[str, Any]:
    columns = {}
    for name in names:
        line = program.lines.get(name)
        columns[name] = {
            "unit": program.unit(name),
            "better": "high" if line is None else line.better,
            "target": None if line is None else line.target,
        }
    return {
        "format": FORMAT,
        "model": program.name,
        "program": identity(program),
        "seed": seed,
        "plan": plan,
        "versions": versions(),
        "columns": columns,
        "blocks": [blocks.trials, blocks.count, blocks.blocks_per_batch, blocks.planned],
    }


def _manifest(folder: Path) -> dict[str, Any] | None:
    """Return the manifest of a folder, None where there is none; raises FileError for another
    file.
    """
    path = folder / MANIFEST
    if not path.exists():
        return None
    try:
        manifest: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
        is_readable = manifest["format"] == FORMAT and isinstance(manifest["parts"], list)
        sealed = manifest.pop("seal") == seal_of_facts(manifest)
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        is_readable = sealed = False
    if not is_readable:
        raise FileError("is no manifest of trials, or one of another version", file=str(path))
    if not sealed:
        raise FileError("was changed since it was written", file=str(path))
    return manifest


def _write(folder: Path, manifest: Mapping[str, Any]) -> None:
    sealed = {**manifest, "seal": seal_of_facts(manifest)}
    with replacing(folder / MANIFEST) as half:
        half.write_text(json.dumps(sealed, indent=1), encoding="utf-8")
