"""Trials as a folder of Parquet files: written part by part while a run goes on, sealed by a
manifest, and read one quantity at a time.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from hashlib import blake2b
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.atomic import replacing
from kindynos.engine.available import check_memory
from kindynos.engine.blocks import Blocks
from kindynos.engine.fingerprint import versions
from kindynos.engine.simulation import BatchResult, Execution, collect
from kindynos.errors import FileError, RunError
from kindynos.program.batch import BatchTask
from kindynos.program.identity import identity
from kindynos.program.program import Program
from kindynos.results.result import Result
from kindynos.results.simulate import SimulationOptions, kept_names
from kindynos.sampling.plans import PLANS
from kindynos.tables.parquet import parquet_of
from kindynos.validate import checked, path_of

if TYPE_CHECKING:
    from concurrent.futures import Executor

MANIFEST = "_manifest.json"  # the underscore hides it from readers of a folder of Parquet
FORMAT = 1
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
        return [self.folder / piece["file"] for piece in self.manifest["parts"]]

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
            PLANS.find(self.manifest["plan"]).independent,
            unit=about["unit"],
            better=about["better"],
            target=about["target"],
        )

    def check(self) -> None:
        """Read all parts, and raise FileError for one that is missing or was changed."""
        for piece, file in zip(self.manifest["parts"], self.files, strict=True):
            if not file.exists():
                raise FileError("is missing from the trials", file=str(file))
            if _seal(file) != piece["seal"]:
                raise FileError("was changed since it was written", file=str(file))


@checked
def open_parts(folder: str | Path) -> TrialParts:
    """Return the trials of a run that were written with ``simulate(..., store="parts")``. Raises
    FileError for a folder without them, or with those of a run that has not ended.
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
    return TrialParts(path, manifest)


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
    manifest = _manifest(path) or {**about, "parts": [], "complete": False}
    for key, value in json.loads(json.dumps(about)).items():
        if manifest.get(key) != value:
            raise FileError(
                f"has trials of another run: its {key} differs; give another folder", file=str(path)
            )
    path.mkdir(parents=True, exist_ok=True)
    groups = _groups(blocks)
    done = {piece["group"] for piece in manifest["parts"]}
    waiting: dict[int, dict[int, Mapping[str, Floats]]] = {}
    home = {batch: group for group, batches in enumerate(groups) for batch in batches}

    def sink(batch: int, batch_result: BatchResult) -> None:
        group = home[batch]
        parts = waiting.setdefault(group, {})
        parts[batch] = batch_result.values
        if len(parts) < len(groups[group]):
            return
        file = f"part-{group:05}.parquet"
        columns = {
            name: np.concatenate([parts[item][name] for item in groups[group]]) for name in names
        }
        with replacing(path / file) as half:
            parquet.write_table(arrow.table(columns), half)
        first = blocks.part(groups[group].start).start
        manifest["parts"].append(
            {
                "group": group,
                "file": file,
                "first": first,
                "rows": len(columns[names[0]]),
                "seal": _seal(path / file),
            }
        )
        manifest["parts"].sort(key=lambda piece: piece["group"])
        _write(path, manifest)
        del waiting[group]

    workers: int | None = options.workers
    executor: Executor | None = options.executor
    if program.one_thread and executor is None:
        workers = 1
    task = BatchTask(program, plan, seed, blocks, tuple(names), options.on_bad == "error")
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
        if manifest["format"] == FORMAT and isinstance(manifest["parts"], list):
            return manifest
    except (OSError, ValueError, KeyError, TypeError):
        pass
    raise FileError("is no manifest of trials, or one of another version", file=str(path))


def _write(folder: Path, manifest: Mapping[str, Any]) -> None:
    with replacing(folder / MANIFEST) as half:
        half.write_text(json.dumps(manifest, indent=1), encoding="utf-8")


def _seal(file: Path) -> str:
    digest = blake2b(digest_size=16)
    with file.open("rb") as stream:
        while piece := stream.read(1 << 20):
            digest.update(piece)
    return digest.hexdigest()
