"""How a process was fitted to a series."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class FittedSeries:
    """How a process was fitted to a series.

    ``standard_errors`` are those of its parameters, infinite where the series tells nothing of
    one, and ``intervals`` 95 % intervals where few values make those errors wrong; ``theta`` the
    parameters on the scale of the fit, with their ``covariance`` there, from which
    ``uncertain=True`` draws; ``description`` shows what was used or dropped.
    """

    observations: int
    dt: float
    standard_errors: Mapping[str, float]
    theta: tuple[float, ...]
    covariance: tuple[tuple[float, ...], ...]
    description: str
    intervals: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    estimated: Any = None  # what else the process needs to draw its parameters
    log_likelihood: float | None = None  # of the values as they are modelled
    jacobian: float = 0.0  # to add for that of the values themselves, where their logs are modelled
    parameter_count: int = 0
    # parameters whose best value lies at an end
    at_bound: Mapping[str, str] = field(default_factory=dict)
    of: Mapping[str, Any] | None = None  # the parameters it belongs to
