"""Every process by its name in model files. To add one: its class in a file beside this one, and
its place here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, fields
from typing import Any, cast

from kindynos.errors import ModelError
from kindynos.processes.arima import Arima
from kindynos.processes.base import Process
from kindynos.processes.bootstrap import BootstrapReturns
from kindynos.processes.brownian import GeometricBrownianMotion, RandomWalk
from kindynos.processes.garch import Garch
from kindynos.processes.jumps import JumpDiffusion
from kindynos.processes.mean_reverting import MeanReverting
from kindynos.processes.regimes import RegimeSwitching
from kindynos.processes.smoothing import ExponentialSmoothing
from kindynos.registry import Registry

_CLASSES: tuple[type[Process], ...] = (
    *(GeometricBrownianMotion, RandomWalk, MeanReverting, JumpDiffusion, RegimeSwitching),
    *(BootstrapReturns, Arima, ExponentialSmoothing, Garch),
)
PROCESSES: Registry[type[Process]] = Registry(
    "process", {process.label: process for process in _CLASSES}
)


def process_from(name: str, parameters: Mapping[str, Any]) -> Process:
    """Return a process from its name and parameters, as a model file states them; raises ModelError
    or ParameterError.

    >>> process_from("random walk", {"start": 1.0, "drift": 0.0, "volatility": 0.5})
    RandomWalk(start=1.0, drift=0.0, volatility=0.5)
    """
    kind = PROCESSES.find(name)
    names = [field.name for field in fields(kind) if not field.kw_only]
    needed = [field.name for field in fields(kind) if field.name in names and _required(field)]
    for given in parameters:
        if given not in names:
            raise ModelError(f"no parameter {given!r}", owner=f"{name}", unknown=given, known=names)
    for parameter in needed:
        if parameter not in parameters:
            raise ModelError(
                f"the parameter {parameter!r} is missing; it has {', '.join(names)}",
                owner=f"{name}",
            )
    made: Any = kind  # every process is a dataclass, which the base class cannot say
    return cast(
        Process,
        made(
            **{
                key: tuple(value) if isinstance(value, list) else value
                for key, value in parameters.items()
            }
        ),
    )


def _required(field: Field[Any]) -> bool:
    return field.default is MISSING and field.default_factory is MISSING
