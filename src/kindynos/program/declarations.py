"""Checking what a model declares: names, given values, drivers and function lines."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from itertools import pairwise
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ModelError, ParameterError
from kindynos.formula.parse import is_name
from kindynos.formula.tree import PERIOD
from kindynos.processes.base import Process
from kindynos.program.quantities import (
    DependentDriver,
    DistributionDriver,
    GivenValue,
    ProcessDriver,
)
from kindynos.validate import finite, invalid_argument, one_of, positive, shown

LONGEST_NAME = 100


def check_name(name: Any) -> str:
    """Return the name of a quantity; raises ModelError for one that formulas could not use."""
    if not is_name(name):
        raise ModelError(
            f"{name!r:.60} cannot be a name: it must be an identifier such as 'fuel_price', and "
            "no word of Python"
        )
    if len(name) > LONGEST_NAME:
        raise ModelError(
            f"a name may have {LONGEST_NAME} characters, and {name[:20]}... has {len(name)}"
        )
    if name == PERIOD:
        raise ModelError(f"{name!r} cannot be a name: it stands for the number of the period")
    return str(name)


def distribution_driver(
    name: str,
    distribution: Distribution | StatedDistribution,
    periods: int | None,
    *,
    each: Any = None,
    base: Any = None,
    unit: str | None = None,
    source: str | None = None,
    serial: Any = None,
) -> DistributionDriver | DependentDriver:
    """Return a driver with a distribution, of checked arguments; raises ModelError or
    ParameterError.
    """
    owner = f"driver {name!r}"
    if not isinstance(distribution, Distribution | StatedDistribution):
        raise ModelError(
            f"needs a distribution such as Normal(10, 2), not {shown(distribution)}", owner=owner
        )
    if each is not None:
        one_of(owner, "each", each, ("period",))
        if periods is None:
            raise ModelError("each='period' needs a model with periods", owner=owner)
    if serial is not None:
        if each is None:
            raise ModelError("serial= needs each='period'", owner=owner)
        if not -1 < finite(owner, "serial", serial) < 1:
            raise ParameterError(f"serial must be between -1 and 1, not {serial!r}", owner=owner)
    if base is None and isinstance(distribution, Distribution):
        finite(owner, "the mean, its base value (give base= instead),", distribution.mean)
    checked = _base_value(owner, distribution, base)
    if isinstance(distribution, StatedDistribution):
        return DependentDriver(
            name, checked, unit, source, distribution=distribution, each=each, serial=serial
        )
    return DistributionDriver(
        name, checked, unit, source, distribution=distribution, each=each, serial=serial
    )


def _base_value(
    owner: str, distribution: Distribution | StatedDistribution, base: Any
) -> float | None:
    """Return a stated base value, of ``"mode"`` the likeliest one."""
    if isinstance(base, str) and base == "mode":
        base = (
            getattr(distribution, "mode", None) if isinstance(distribution, Distribution) else None
        )
        if base is None:
            raise ModelError(
                "base='mode' needs a distribution with a stated mode, such as Triangular or Pert",
                owner=owner,
            )
    return None if base is None else finite(owner, "base", base)


def process_driver(
    name: str,
    process: Process,
    periods: int | None,
    *,
    each: Any = None,
    base: Any = None,
    unit: str | None = None,
    source: str | None = None,
    serial: Any = None,
    dt: float = 1.0,
    uncertain: bool = False,
    shares: str | None = None,
) -> ProcessDriver:
    """Return a driver that is a process, of checked arguments; raises ModelError or
    ParameterError.
    """
    owner = f"driver {name!r}"
    if periods is None:
        raise ModelError("a process needs a model with periods", owner=owner)
    if each is not None or serial is not None:
        raise ModelError(
            "a process has its own course; each= and serial= belong to distributions", owner=owner
        )
    if uncertain and process.fitted is None:
        raise ModelError(
            f"uncertain=True needs a fitted process, such as {type(process).__name__}.fit(prices)",
            owner=owner,
        )
    positive(owner, "dt", dt)
    checked = None if base is None else finite(owner, "base", base)
    return ProcessDriver(
        name, checked, unit, source, process=process, dt=dt, uncertain=uncertain, shares=shares
    )


def check_signature(name: str, function: Callable[..., Any]) -> None:
    """Raise ModelError unless every parameter of the function is a plain name without a default."""
    owner = f"line {name!r}"
    try:
        parameters = inspect.signature(function).parameters.values()
    except (TypeError, ValueError):
        raise ModelError(
            f"a line is a Python function or a formula, not {function!r:.60}", owner=owner
        ) from None
    for parameter in parameters:
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            raise ModelError(f"name every quantity it needs; {parameter} could be any", owner=owner)
        if parameter.kind is parameter.POSITIONAL_ONLY:
            raise ModelError(
                f"parameter {parameter.name!r} is positional-only; remove the '/'", owner=owner
            )
        if parameter.default is not parameter.empty:
            raise ModelError(
                f"parameter {parameter.name!r} has a default, which would hide a missing quantity; "
                f"remove it and say model.given({parameter.name}={parameter.default!r})",
                owner=owner,
            )


def given_value(name: str, value: Any, periods: int | None) -> GivenValue:
    """Return a given value, checked: a finite number, a row of ``periods`` numbers, or pairs that
    make a table.
    """
    owner = f"given {name!r}"
    if isinstance(value, dict):
        value = list(value.items())
    if isinstance(value, str) or not (
        hasattr(value, "__len__") and getattr(value, "shape", None) != ()
    ):
        return finite(owner, "the value", value)
    items = value.tolist() if hasattr(value, "tolist") else list(value)
    if items and all(isinstance(item, list | tuple) for item in items):
        if all(len(item) == 1 for item in items):
            items = [item[0] for item in items]
        else:
            return _lookup_table(owner, items)
    row = tuple(finite(owner, f"the value of period {i + 1}", item) for i, item in enumerate(items))
    if periods is None:
        raise ModelError(
            f"a row needs a model with periods; say Model(..., periods={len(row)})", owner=owner
        )
    if len(row) != periods:
        raise ModelError(
            f"a row needs one number per period, {periods}, not {len(row)}", owner=owner
        )
    return row


def _lookup_table(owner: str, items: list[Any]) -> tuple[tuple[float, float], ...]:
    pairs = []
    for i, item in enumerate(items):
        if len(item) != 2:
            raise invalid_argument(
                owner, f"row {i + 1} of the table", "a pair of key and value", item
            )
        pairs.append(
            (finite(owner, f"key {i + 1}", item[0]), finite(owner, f"value {i + 1}", item[1]))
        )
    for earlier, later in pairwise(pairs):
        if later[0] <= earlier[0]:
            raise ModelError(
                f"the keys of a table must increase, and {later[0]!r} follows {earlier[0]!r}",
                owner=owner,
            )
    return tuple(pairs)
