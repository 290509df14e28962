"""Trials of a workbook recalculated by a spreadsheet program, where one is installed."""

from __future__ import annotations

import math
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from kindynos.workbooks.agreement import CLOSE, SMALL
from kindynos.workbooks.calculation import CellCalculation
from kindynos.workbooks.files import trial_workbook
from kindynos.workbooks.reader import read_contents

if TYPE_CHECKING:
    from kindynos.results.run import Run

PROGRAMS = ("soffice", "libreoffice")
PATIENCE = 120  # seconds for the program, beyond which it is left


@dataclass(frozen=True)
class Difference:
    """A cell whose value in a trial is another one in the spreadsheet program."""

    trial: int
    outcome: str
    cell: str
    ours: float
    theirs: object


@dataclass(frozen=True)
class Recalculated:
    """Trials that a spreadsheet program worked out again: how many values were compared, and which
    differ; ``problem`` says why there are none.
    """

    trials: tuple[int, ...]
    compared: int = 0
    differing: tuple[Difference, ...] = ()
    problem: str = ""

    @property
    def words(self) -> str:
        """What was found, in a sentence."""
        if self.problem:
            return f"Only the base case was compared with a spreadsheet program: {self.problem}."
        numbers = ", ".join(map(str, self.trials))
        if not self.differing:
            return (
                f"A low, a high and a middle trial ({numbers}) were recalculated by a spreadsheet "
                f"program: all {self.compared:,} values agree."
            )
        first = self.differing[0]
        more = f" and {len(self.differing) - 1:,} more" if len(self.differing) > 1 else ""
        return (
            f"A low, a high and a middle trial ({numbers}) were recalculated by a spreadsheet "
            f"program and differ: {first.outcome} in {first.cell} is {first.ours:.10g} here and "
            f"{first.theirs} there in trial {first.trial}{more}."
        )


def program() -> str | None:
    """Return the spreadsheet program that is installed; None for none."""
    return next((path for name in PROGRAMS if (path := shutil.which(name))), None)


def converted(paths: Sequence[Path], folder: Path) -> list[Path]:
    """Return workbooks as the spreadsheet program works them out, in another folder; raises OSError
    where there is no program, or it did not write them, and SubprocessError.
    """
    program_path = program()
    if program_path is None:
        raise FileNotFoundError("no spreadsheet program")
    options = [f"-env:UserInstallation=file://{folder}/profile", "--headless"]
    command = [
        program_path,
        *options,
        "--convert-to",
        "xlsx",
        "--outdir",
        str(folder),
        *map(str, paths),
    ]
    subprocess.run(command, capture_output=True, timeout=PATIENCE + len(paths), check=True)
    written = [folder / path.name for path in paths]
    if not all(path.is_file() for path in written):
        raise FileNotFoundError("not all workbooks were written")
    return written


def recalculated(run: Run, numbers: Sequence[int] | None = None) -> Recalculated:
    """Return how trials of a workbook's run compare with what a spreadsheet program gives for their
    draws: of its first outcome the lowest, the highest and one in between, unless stated.
    """
    chosen = tuple(_telling_trials(run) if numbers is None else numbers)
    if program() is None:
        return Recalculated(chosen, problem="none is installed")
    calculation = next(
        line.calculation
        for line in run.program.lines.values()
        if isinstance(line.calculation, CellCalculation)
    )
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        paths = [folder / f"trial{number}.xlsx" for number in chosen]
        for number, path in zip(chosen, paths, strict=True):
            trial_workbook(run, number, path)
        try:
            written = converted(paths, folder / "out")
        except (subprocess.SubprocessError, OSError):
            return Recalculated(chosen, problem="the one that is installed did not recalculate it")
        differing, compared = [], 0
        for number, path in zip(chosen, written, strict=True):
            contents = read_contents(path)
            for name in run.outcomes:
                output = calculation.outputs.get(name)
                if not isinstance(output, tuple):
                    continue
                ours = np.broadcast_to(run._trial_values(number)[name], (len(output),))
                for cell, value in zip(output, ours.tolist(), strict=True):
                    theirs = contents.sheets[cell.sheet].values.get((cell.row, cell.column))
                    compared += 1
                    if not _same(value, theirs):
                        differing.append(Difference(number, name, str(cell), value, theirs))
    return Recalculated(chosen, compared, tuple(differing))


def _telling_trials(run: Run) -> list[int]:
    """Return a low trial, a high one, and one in between, of the first outcome."""
    values = np.asarray(run[run.outcomes[0]].values, dtype=np.float64)
    values = values if values.ndim == 1 else values[-1]
    order = np.argsort(values, kind="stable")
    with_value = order[: int(np.isfinite(values).sum())]
    places = with_value if len(with_value) else order
    return list(dict.fromkeys(int(places[i]) for i in (0, -1, len(places) // 2)))


def _same(ours: float, theirs: object) -> bool:
    """Return whether two values are one; an error or a text is no value."""
    if isinstance(theirs, bool | float):
        return math.isclose(ours, float(theirs), rel_tol=CLOSE, abs_tol=SMALL)
    return math.isnan(ours) or (theirs is None and ours == 0)
