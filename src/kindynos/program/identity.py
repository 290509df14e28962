"""What tells one program from another: all that decides a trial."""

from __future__ import annotations

from kindynos.program.calculation import Calculation
from kindynos.program.digests import digest_of
from kindynos.program.program import Program


def identity(program: Program) -> str:
    """Return a digest of what a program states, the same in every process."""
    return digest_of(
        program.name,
        repr(program.timeline),
        [(given.name, given.value, given.convert) for given in program.givens.values()],
        list(program.drivers.values()),
        [(line.name, line.formula, line.function) for line in program.lines.values()],
        [
            (line.name, line.shared.function, line.shared.inputs, line.shared.cohort)
            for line in program.lines.values()
            if line.shared is not None
        ],
        *[(line.name, line.events) for line in program.lines.values() if line.events is not None],
        [calculation.stated() for calculation in _calculations(program)],
        [repr(entry) for entry in program.correlations],
    )


def _calculations(program: Program) -> list[Calculation]:
    """Return what works out several lines together, each once."""
    calculations = {
        id(line.calculation): line.calculation
        for line in program.lines.values()
        if line.calculation is not None
    }
    return list(calculations.values())
