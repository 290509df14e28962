"""What tells one program from another: its quantities, with the code of its functions."""

from __future__ import annotations

import hashlib
from types import CodeType
from typing import Any

from kindynos.program.program import Program


def identity(program: Program) -> str:
    """Return a digest of what a program states, the same in every process."""
    parts: list[Any] = [program.name, program.timeline]
    parts += [(given.name, given.value, given.convert) for given in program.givens.values()]
    parts += [repr(driver) for driver in program.drivers.values()]
    parts += [(line.name, line.formula, _code(line.function)) for line in program.lines.values()]
    parts += [repr(entry) for entry in program.correlations]
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:32]


def _code(function: Any) -> str:
    code = getattr(function, "__code__", None)
    return _of(code) if isinstance(code, CodeType) else repr(type(function))


def _of(code: CodeType) -> str:
    """Return what a function does: its code, and that of functions inside it."""
    inner = [
        _of(co_const) if isinstance(co_const, CodeType) else repr(co_const)
        for co_const in code.co_consts
    ]
    return repr((code.co_code, code.co_names, inner))
