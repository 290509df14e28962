"""Laws of series: prices, rates and levels through time, and several of them together."""

from __future__ import annotations

from kindynos.processes.base import Fitted, Process
from kindynos.processes.bootstrap import BootstrapReturns
from kindynos.processes.brownian import GeometricBrownianMotion, MeanReverting, RandomWalk
from kindynos.processes.jumps import JumpDiffusion, RegimeSwitching
from kindynos.processes.pathset import PathSet

PROCESSES: dict[str, type[Process]] = {
    process.label: process
    for process in (GeometricBrownianMotion, RandomWalk, MeanReverting, JumpDiffusion, RegimeSwitching, BootstrapReturns)
}

__all__ = [
    "PROCESSES",
    "BootstrapReturns",
    "Fitted",
    "GeometricBrownianMotion",
    "JumpDiffusion",
    "MeanReverting",
    "PathSet",
    "Process",
    "RandomWalk",
    "RegimeSwitching",
]
