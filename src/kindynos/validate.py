"""Checks on single values; each raises a ParameterError with the name, the rule and the value.

``checked`` marks what users call: it checks arguments by their annotations, and names itself as the
owner of errors raised inside.
"""

from __future__ import annotations

import math
import re
import sys
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial, wraps
from inspect import Parameter, signature, unwrap
from numbers import Integral, Real
from os import PathLike
from pathlib import Path
from typing import Any, ParamSpec, TypeVar, cast

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError, ParameterError, concerning
from kindynos.printable import is_unseen

Kind = TypeVar("Kind")
Arguments = ParamSpec("Arguments")
LONGEST_RANGE = 100_000_000  # numbers that are written out
PER_CENT = re.compile(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*%\s*")
Answer = TypeVar("Answer")
Rule = Callable[[str, Any], Any]


def invalid_argument(name: str, rule: str, value: object, hint: str = "") -> ParameterError:
    """Return the error, for the caller to raise: ``Normal: sd must be above 0, not -2.0``."""
    problem = f"{name} must be {rule}, not {shown(value)}{hint}"
    return ParameterError(problem, name=name, rule=rule, value=value)


def shown(value: object) -> str:
    """Return a value as it appears in a message: short, and plain for NumPy numbers."""
    if isinstance(value, Real) and not isinstance(value, bool | Integral):
        value = float(value)
    try:
        text = repr(value)
    except Exception:  # an integer of more digits than Python writes, or a repr that fails
        many = isinstance(value, int)
        return "a number of thousands of digits" if many else f"a {type(value).__name__}"
    return text if len(text) <= 80 else text[:77] + "..."


def finite(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be one finite number."""
    figure = number(name, value)
    if not math.isfinite(figure):
        raise invalid_argument(name, "a finite number", figure)
    return figure


def number(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be one number, which may be infinite or NaN."""
    if np.ma.isMaskedArray(value) and np.ma.getmaskarray(value).any():
        raise invalid_argument(name, "a number that is not masked", value)
    if isinstance(value, np.ndarray) and value.shape == ():
        value = value.item()
    if isinstance(value, bool) or not isinstance(value, Real):
        raise invalid_argument(name, "a number", value)
    try:
        return float(value)
    except OverflowError:
        return math.copysign(math.inf, 1 if bool(value > 0) else -1)  # type: ignore[operator]


def positive(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be above 0."""
    number = finite(name, value)
    if number <= 0:
        raise invalid_argument(name, "above 0", number)
    return number


def volatility(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be above 0, and a float must hold its square."""
    number = positive(name, value)
    if number > 1e150:
        raise invalid_argument(name, "at most 1e150", number)
    return number


def fraction(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must lie from 0 to 1."""
    number = finite(name, value)
    if not 0 <= number <= 1:
        raise invalid_argument(name, "from 0 to 1", number)
    return number


def proper_fraction(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must lie strictly between 0 and 1."""
    number = finite(name, value)
    if not 0 < number < 1:
        raise invalid_argument(name, "between 0 and 1", number)
    return number


def confidence_level(name: str, value: Any) -> float:
    """Return ``value`` as a float: the level of a value at risk or an expected shortfall, from 0.5
    up and below 1. A percentage, or the share of the tail, is refused with what was meant.
    """
    level = finite(name, value)
    meant = level / 100 if 1 < level < 100 else 1 - level
    if not 0.5 <= level < 1:
        hint = (
            f"; say {meant:g} for the worst {100 * (1 - meant):.4g} %" if 0.5 <= meant < 1 else ""
        )
        raise invalid_argument(name, "from 0.5 up and below 1, such as 0.95", level, hint)
    return level


def check_integer(
    name: str, value: Any, *, least: int | None = None, most: int | None = None
) -> int:
    """Return ``value`` as an int; it must be a whole number from ``least`` to ``most``."""
    rule = "a whole number" + ("" if least is None else f" of at least {least}")
    if isinstance(value, bool) or not isinstance(value, Integral):
        raise invalid_argument(name, rule, value)
    number = int(value)
    if least is not None and number < least:
        raise invalid_argument(name, rule, number)
    if most is not None and number > most:
        raise invalid_argument(name, f"at most {most:,}", number)
    return number


def raw_figure(text: str) -> float:
    """Return the figure that a text states, as a fraction where it carries the sign of per cent;
    raises ValueError for another text.

    >>> raw_figure("9%"), raw_figure("0.09"), raw_figure("1e6")
    (0.09, 0.09, 1000000.0)
    """
    percent = PER_CENT.fullmatch(text)
    return float(f"{float(percent[1]) / 100:.15g}") if percent else float(text)


def threshold(name: str, value: Any) -> float:
    """Return a figure that something is held against: a number, or a text with the sign of per
    cent.

    >>> threshold("target", 0.09), threshold("target", "9%")
    (0.09, 0.09)
    """
    if isinstance(value, str) and PER_CENT.fullmatch(value):
        return raw_figure(value)
    return number(name, value)


def chance_bounds(
    above: Any, below: Any, at: Any = None
) -> tuple[float | None, float | None, float | None]:
    """Return the figures of a chance: those that it is above and below, or the one that it is at.

    Raises ParameterError for none of them, for ``at`` together with the others, and for a range
    that holds nothing.
    """
    given = [
        None if value is None else (threshold if name == "at" else not_nan)(name, value)
        for name, value in (("above", above), ("below", below), ("at", at))
    ]
    if at is not None and (above is not None or below is not None):
        raise ParameterError("at cannot be combined with above or below")
    if at is None and above is None and below is None:
        raise ParameterError("say above=, below=, or both for a range, or at=")
    low, high, single = given
    if low is not None and high is not None and low >= high:
        raise ParameterError(
            f"nothing lies above {low:g} and below {high:g}; for a range, above is its low end "
            "and below its high end"
        )
    return low, high, single


def not_nan(name: str, value: Any) -> float:
    """Return ``value`` as a float; it must be a number, which may be infinite."""
    figure = threshold(name, value)
    if math.isnan(figure):
        raise invalid_argument(name, "a number", figure)
    return figure


def path_of(name: str, value: Any) -> Path:
    """Return ``value``, the path of a file, as a Path."""
    path: Any = instance(name, value, (str, PathLike), "the path of a file")
    return Path(path)


def listed(value: Any) -> list[Any]:
    """Return a value, or several in a list, tuple or array, as a list."""
    if isinstance(value, np.ndarray):
        return list(value.reshape(-1).tolist())
    several = isinstance(value, Iterable) and not isinstance(value, str | bytes | Mapping)
    return list(value) if several else [value]


def check_length(name: str, value: Any) -> None:
    """Raise ParameterError for a range that is too long to be written out."""
    if isinstance(value, range) and len(value) > LONGEST_RANGE:
        raise ParameterError(
            f"{name} must have at most {LONGEST_RANGE:,} numbers, and this range has more"
        )


def array_of(name: str, value: Any) -> Floats:
    """Return ``value`` as an array of floats, any shape; it must hold real numbers only;
    NaN counts as one.
    """
    if type(value) is np.ndarray and value.dtype == np.float64:
        return value
    check_length(name, value)
    if np.ma.isMaskedArray(value) and np.ma.getmaskarray(value).any():
        raise invalid_argument(name, "without masked values; fill them first", value)
    try:
        array = np.asarray(value)
        if array.dtype.kind in "buif":
            return array.astype(np.float64)
        if array.dtype.kind != "O":
            raise TypeError
        if any(isinstance(number, str | bytes) for number in array.flat):
            raise TypeError
        return np.array([float(number) for number in array.flat], dtype=np.float64).reshape(
            array.shape
        )
    except OverflowError:
        raise invalid_argument(name, "numbers that a float can hold", value) from None
    except (TypeError, ValueError):
        raise invalid_argument(name, "numbers in a rectangular array", value) from None


def words(name: str, value: Any) -> str | None:
    """Return a text that people read, or None; it may hold no control characters, which a terminal
    would obey.
    """
    if value is None:
        return None
    if not isinstance(value, str):
        raise invalid_argument(name, "a text", value)
    if any(is_unseen(c) for c in value):
        raise invalid_argument(name, "without control characters", value)
    return value


def mapping(name: str, value: Any, rule: str) -> dict[Any, Any]:
    """Return ``value``, a mapping or a pandas Series, as a dict; the rule says what of what."""
    if hasattr(value, "to_dict") and not hasattr(value, "columns"):
        value = value.to_dict()
    if not isinstance(value, Mapping):
        raise invalid_argument(name, rule, value)
    return dict(value)


def instance(name: str, value: Any, kind: type[Kind] | tuple[type[Kind], ...], rule: str) -> Kind:
    """Return ``value``; it must be of a kind, which the rule describes."""
    if not isinstance(value, kind):
        raise invalid_argument(name, rule, value)
    return value


def check_call(function: Callable[..., Any], /, *arguments: Any, **named: Any) -> None:
    """Raise ParameterError, with the nearest spelling, for arguments that a function does not take
    or lacks.
    """
    all_of_them = signature(function).parameters.values()
    values = [p for p in all_of_them if p.kind not in (p.VAR_POSITIONAL, p.VAR_KEYWORD)]
    open_ended = {p.kind for p in all_of_them}
    if values and values[0].name in ("self", "cls", "sample"):  # what the caller did not write
        values, arguments = values[1:], arguments[1:]
    placed = [p.name for p in values if p.kind is not p.KEYWORD_ONLY]
    usage = ", ".join(
        p.name + ("=" if p.kind is p.KEYWORD_ONLY or p.default is not p.empty else "")
        for p in values
    )
    for name in named:
        if name not in [p.name for p in values] and Parameter.VAR_KEYWORD not in open_ended:
            raise ParameterError(
                f"takes no {name!r}", name=name, unknown=name, known=[p.name for p in values]
            )
    if len(arguments) > len(placed) and Parameter.VAR_POSITIONAL not in open_ended:
        count = f"{len(arguments)} argument{'' if len(arguments) == 1 else 's'} without a name"
        raise ParameterError(f"takes {usage or 'no arguments'}, and has {count}")
    for parameter in values[len(arguments) :]:
        name, by_name = parameter.name, parameter.kind is not parameter.POSITIONAL_ONLY
        if parameter.default is parameter.empty and not (by_name and name in named):
            by_place = "" if by_name or name not in named else ", given without its name"
            raise ParameterError(f"lacks {name!r}{by_place}; it takes {usage}", name=name)


def flag(name: str, value: Any) -> bool:
    """Return ``value``; it must be True or False."""
    return bool(instance(name, value, (bool, np.bool_), "True or False"))


def one_of(name: str, value: Any, options: Iterable[str]) -> str:
    """Return ``value``; it must be one of ``options``."""
    choices = tuple(options)
    if not isinstance(value, str) or value not in choices:
        raise invalid_argument(name, "one of " + ", ".join(map(repr, choices)), value)
    return str(value)


# Types of arguments that ``checked`` knows by their names in annotations.
Integer = int
Natural = int
Count = int
Finite = float
Positive = float
Fraction = float
ProperFraction = float
Level = float
Horizon = int
MOST_AHEAD = 10_000  # periods of a horizon
_ARGUMENTS: dict[str, Rule] = {
    "Integer": check_integer,
    "Natural": partial(check_integer, least=0),
    "Count": partial(check_integer, least=1),
    "Finite": finite,
    "Positive": positive,
    "Fraction": fraction,
    "ProperFraction": proper_fraction,
    "Level": confidence_level,
    "Horizon": partial(check_integer, least=1, most=MOST_AHEAD),
    "bool": flag,
    "str": lambda name, value: instance(name, value, str, "a text"),
}


def _rule_of(annotation: Any) -> Rule | None:
    """Return the check of an argument by its annotation, None for one that has none."""
    if not isinstance(annotation, str):
        return None
    plain, optional, _ = annotation.partition(" | None")
    is_function = plain.startswith("Callable[") or plain == "Progress"
    rule = _called_back if is_function else _ARGUMENTS.get(plain)
    if rule is None or (optional and not annotation.endswith(" | None")):
        return None
    return partial(_unless_none, rule) if optional else rule


def _called_back(name: str, value: Any) -> Any:
    """Return ``value``; it must be a function."""
    if not callable(value):
        raise invalid_argument(name, "a function", value)
    return value


def _unless_none(rule: Rule, name: str, value: Any) -> Any:
    """Return ``value`` by a rule, or None."""
    if value is None:
        return None
    try:
        return rule(name, value)
    except ParameterError as error:
        if error.rule is None:
            raise
        either = error.rule.replace("True or False", "True, False")
        raise invalid_argument(name, f"{either} or None", value) from None


def checked(function: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
    """Make a function or method that users call answer mistakes in plain words.

    Arguments annotated ``Count``, ``Level`` and so on are checked, and passed on as their rule
    returns them. Errors raised inside that name no owner get the name of the function: of a class
    method with its class, of ``__init__`` and ``__post_init__`` that of the class alone. For a call
    that does not fit the function they tell the nearest spelling.

    >>> @checked
    ... def repeat(times: Count) -> str:
    ...     return "ha" * times
    >>> repeat(0)
    Traceback (most recent call last):
    ...
    kindynos.errors.ParameterError: repeat: times must be a whole number of at least 1, not 0
    >>> repeat(time=2)
    Traceback (most recent call last):
    ...
    kindynos.errors.ParameterError: repeat: takes no 'time'; did you mean 'times'?
    """
    placed = unwrap(function).__code__.co_argcount  # others are given by name alone
    rules = [
        (position if position < placed else sys.maxsize, name, rule)
        for position, name in enumerate(_parameters(function))
        if (rule := _rule_of(function.__annotations__.get(name))) is not None
    ]

    @wraps(function)
    def call(*arguments: Any, **named: Any) -> Any:
        try:
            given = list(arguments)
            for position, name, rule in rules:
                if position < len(given):
                    given[position] = rule(name, given[position])
                elif name in named:
                    named[name] = rule(name, named[name])
            return function(*given, **named)
        except TypeError:
            with concerning(_called(function, arguments)):
                check_call(function, *arguments, **named)
            raise
        except KindynosError:
            with concerning(_called(function, arguments)):
                raise
        except Exception:
            with concerning(_called(function, arguments)):
                _check_shown(arguments, named)
            raise

    return cast("Callable[Arguments, Answer]", call)


def _check_shown(arguments: Sequence[Any], named: Mapping[str, Any]) -> None:
    """Raise ParameterError for an argument that no message can show, since its repr fails."""
    for value in (*arguments, *named.values()):
        try:
            repr(value)
        except Exception as error:
            problem = f"an argument of the type {type(value).__name__} cannot be shown: {error}"
            raise ParameterError(problem) from None


def checked_init(kind: type[Kind]) -> type[Kind]:
    """Make the construction of a class answer mistakes in plain words; see ``checked``."""
    setattr(kind, "__init__", checked(kind.__init__))  # noqa: B010  # which mypy forbids to assign
    return kind


def owner_is(template: str) -> Callable[[Callable[Arguments, Answer]], Callable[Arguments, Answer]]:
    """Return a decorator that names the owner of a function's errors, made from its arguments.

    >>> @owner_is("driver {name!r}")
    ... def spread(name, sd):
    ...     return positive("sd", sd)
    >>> spread("fare", -1)
    Traceback (most recent call last):
    ...
    kindynos.errors.ParameterError: driver 'fare': sd must be above 0, not -1.0
    """

    def decorate(function: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
        @wraps(function)
        def call(*arguments: Arguments.args, **named: Arguments.kwargs) -> Answer:
            try:
                return function(*arguments, **named)
            except KindynosError:
                given = signature(function).bind(*arguments, **named).arguments
                with concerning(template.format(**given)):
                    raise

        return call

    return decorate


def _parameters(function: Callable[..., Any]) -> tuple[str, ...]:
    """Return the names of all parameters, in their order."""
    code = unwrap(function).__code__
    names: tuple[str, ...] = code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
    return names


def _called(function: Callable[..., Any], arguments: Sequence[Any]) -> str:
    """Return how the function was called, as errors name it."""
    first: Any = arguments[0] if arguments else None
    if function.__name__ in ("__init__", "__post_init__"):
        return type(first).__name__
    of_class = isinstance(first, type) and "." in function.__qualname__
    return f"{first.__name__}.{function.__name__}" if of_class else function.__name__


def above(limit: float) -> Rule:
    """Return a check that a value is a number above ``limit``."""

    def check(name: str, value: Any) -> float:
        number = finite(name, value)
        if number <= limit:
            raise invalid_argument(name, f"above {limit:g}", number)
        return number

    return check


def known_name(what: str, value: Any, names: Iterable[str]) -> str:
    """Return ``value``; it must be one of the known names of what it is."""
    listed = list(names)
    if not isinstance(value, str) or value not in listed:
        text = shown(value)[:40]
        unknown = value[:40] if isinstance(value, str) else text
        raise ParameterError(f"no {what} {text}", unknown=unknown, known=listed)
    return value


def names_in(name: str, value: Any) -> list[Any]:
    """Return ``value``, one name or several, as a list; it must hold at least one."""
    if isinstance(value, str):
        return [value]
    if isinstance(value, np.ndarray):
        value = value.tolist()
    listed = list(value) if isinstance(value, Iterable) and not isinstance(value, Mapping) else []
    if not listed or any(isinstance(entry, list | dict | set) for entry in listed):
        raise invalid_argument(name, "a name, or a list of them", value)
    return listed
