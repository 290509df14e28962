"""Processes by their names in model files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import Any, cast

from kindynos.errors import ModelError, nearest
from kindynos.processes import PROCESSES, Process


def process_named(name: str) -> type[Process]:
    """Return the process of that name; raises ModelError, with the nearest spelling, when there is none."""
    if name not in PROCESSES:
        raise ModelError(f"no process {name!r}{nearest(name, PROCESSES)}")
    return PROCESSES[name]


def process_from(name: str, parameters: Mapping[str, Any]) -> Process:
    """Return a process from its name and parameters, as a model file states them; raises ModelError or ParameterError.

    >>> process_from("random walk", {"start": 1.0, "drift": 0.0, "volatility": 0.5})
    RandomWalk(start=1.0, drift=0.0, volatility=0.5)
    """
    kind = process_named(name)
    known = [field.name for field in fields(kind) if field.name != "fitted"]
    needed = [field.name for field in fields(kind) if field.name in known and _required(field)]
    for given in parameters:
        if given not in known:
            raise ModelError(f"{name}: no parameter {given!r}{nearest(given, known)}")
    for parameter in needed:
        if parameter not in parameters:
            raise ModelError(f"{name}: the parameter {parameter!r} is missing; it has {', '.join(known)}")
    made: Any = kind  # every process is a dataclass, which the base class cannot say
    return cast(Process, made(**{key: tuple(value) if isinstance(value, list) else value for key, value in parameters.items()}))


def _required(field: Any) -> bool:
    from dataclasses import MISSING

    return field.default is MISSING and field.default_factory is MISSING
