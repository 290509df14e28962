"""Laws of one uncertain number. To add one: a class in a file here, and its line in CATALOGUE."""

from __future__ import annotations

from kindynos.distributions.base import Distribution
from kindynos.distributions.bounded import Beta, Pert, Triangular, Uniform
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.normal import LogNormal, Normal

CATALOGUE: dict[str, type[Distribution]] = {
    law.label: law for law in (Normal, LogNormal, Uniform, Triangular, Pert, Beta, Discrete)
}

__all__ = [
    "CATALOGUE",
    "Beta",
    "Discrete",
    "Distribution",
    "LogNormal",
    "Normal",
    "Pert",
    "Triangular",
    "Uniform",
]
