"""A calculation that is there already, as the lines of a model: its arguments are the drivers, what
it returns the outcomes.
"""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any

from kindynos.errors import ModelError
from kindynos.program.quantities import Line
from kindynos.program.shared_call import SharedCall
from kindynos.validate import shown

OPTIONS = ("unit", "target", "better", "missing")


def outcome_lines(
    function: Callable[..., Any],
    inputs: Sequence[str],
    outcomes: str | Sequence[str] | Mapping[str, Mapping[str, Any] | float],
    each_trial: bool | None,
    base: Any = None,
) -> list[Line]:
    """Return the outcomes of a function of the named inputs, which share one call; see
    Model.from_function.
    """
    if base is not None:
        _check_fields(base, inputs)
        function = partial(_on_base, function, base)
    else:
        _check_arguments(function, inputs)
    listed = [outcomes] if isinstance(outcomes, str) else outcomes
    named: dict[str, Mapping[str, Any]] = (
        {name: _options_of(name, options) for name, options in listed.items()}
        if isinstance(listed, Mapping)
        else {name: {} for name in listed}
    )
    if not named:
        raise ModelError("name at least one outcome")
    call = SharedCall(function, tuple(named), tuple(inputs), each_trial)
    lines = []
    for name, options in named.items():
        for option in options:
            if option not in OPTIONS:
                raise ModelError(
                    f"outcome {name!r} takes unit, target, better and missing, not {option!r}",
                    unknown=option,
                    known=OPTIONS,
                )
        lines.append(Line(name, outcome=True, shared=call, **options))
    return lines


def _options_of(name: str, options: Any) -> Mapping[str, Any]:
    """Return what is said of an outcome; a number alone is its target."""
    if isinstance(options, int | float) and not isinstance(options, bool):
        return {"target": options}
    if not isinstance(options, Mapping):
        raise ModelError(
            f"outcome {name!r} takes a target, such as 0, or options such as {{'unit': 'EUR'}}, "
            f"not {shown(options)}"
        )
    return options


def _on_base(function: Callable[..., Any], base: Any, **inputs: Any) -> Any:
    """Call a function of one dataclass instance, with some of its fields replaced."""
    return function(dataclasses.replace(base, **inputs))


def _check_fields(base: Any, names: Sequence[str]) -> None:
    if not dataclasses.is_dataclass(base) or isinstance(base, type):
        raise ModelError(f"base must be an instance of a dataclass, not {shown(base)}")
    field_names = [field.name for field in dataclasses.fields(base) if field.init]
    for name in names:
        if name not in field_names:
            raise ModelError(
                f"the dataclass has no field {name!r}", unknown=name, known=field_names
            )


def _check_arguments(function: Callable[..., Any], names: Sequence[str]) -> None:
    try:
        parameters = inspect.signature(function).parameters
    except (TypeError, ValueError):
        raise ModelError(
            f"needs a function or an object that can be called, not {function!r:.60}"
        ) from None
    takes_any = any(p.kind is p.VAR_KEYWORD for p in parameters.values())
    argument_names = [
        p.name for p in parameters.values() if p.kind in (p.POSITIONAL_OR_KEYWORD, p.KEYWORD_ONLY)
    ]
    for name in names:
        if name not in argument_names and not takes_any:
            raise ModelError(
                f"the function has no argument {name!r}", unknown=name, known=argument_names
            )
    for p in parameters.values():
        if p.kind is p.POSITIONAL_ONLY or (
            p.default is p.empty and p.name in argument_names and p.name not in names
        ):
            raise ModelError(
                f"the argument {p.name!r} needs a driver or a given figure, or a default"
            )
