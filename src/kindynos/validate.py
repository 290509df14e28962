"""Checks on single values; each raises a ParameterError with the owner, the name, the rule and the value."""

from __future__ import annotations

import math
from collections.abc import Callable
from numbers import Integral, Real
from typing import Any

import numpy as np

from kindynos.errors import ParameterError


def wrong(owner: str, name: str, rule: str, value: object) -> ParameterError:
    """Return the error, for the caller to raise: ``Normal: sd must be above 0, not -2.0``."""
    return ParameterError(f"{owner}: {name} must be {rule}, not {shown(value)}")


def shown(value: object) -> str:
    """Return a value as it appears in a message: short, and plain for NumPy numbers."""
    if isinstance(value, Real) and not isinstance(value, bool | Integral):
        value = float(value)
    text = repr(value)
    return text if len(text) <= 80 else text[:77] + "..."


def finite(owner: str, name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be one finite number."""
    if isinstance(value, np.ndarray) and value.shape == ():
        value = value.item()
    if isinstance(value, bool) or not isinstance(value, Real):
        raise wrong(owner, name, "a number", value)
    try:
        number = float(value)
    except OverflowError:
        number = math.inf
    if not math.isfinite(number):
        raise wrong(owner, name, "a finite number", number)
    return number


def positive(owner: str, name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be above 0."""
    number = finite(owner, name, value)
    if number <= 0:
        raise wrong(owner, name, "above 0", number)
    return number


def share(owner: str, name: str, value: Any, *, closed: bool = True) -> float:
    """Return ``value`` as a float; it must be a fraction from 0 to 1 (between them, unless ``closed``)."""
    number = finite(owner, name, value)
    if closed and not 0 <= number <= 1:
        raise wrong(owner, name, "from 0 to 1", number)
    if not closed and not 0 < number < 1:
        raise wrong(owner, name, "between 0 and 1", number)
    return number


def whole(owner: str, name: str, value: Any, *, least: int | None = None) -> int:
    """Return ``value`` as an int; it must be a whole number, and at least ``least``."""
    rule = "a whole number" + ("" if least is None else f" of at least {least}")
    if isinstance(value, bool) or not isinstance(value, Integral):
        raise wrong(owner, name, rule, value)
    number = int(value)
    if least is not None and number < least:
        raise wrong(owner, name, rule, number)
    return number


def one_of(owner: str, name: str, value: Any, options: tuple[str, ...]) -> str:
    """Return ``value``; it must be one of ``options``."""
    if value not in options:
        raise wrong(owner, name, "one of " + ", ".join(map(repr, options)), value)
    return str(value)


def above(limit: float) -> Callable[[str, str, Any], float]:
    """Return a check that a value is a number above ``limit``."""

    def check(owner: str, name: str, value: Any) -> float:
        number = finite(owner, name, value)
        if number <= limit:
            raise wrong(owner, name, f"above {limit:g}", number)
        return number

    return check
