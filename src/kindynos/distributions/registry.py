"""Distributions by name, as model files and the command line give them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import MISSING, Field, fields
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.elicitation import from_percentiles
from kindynos.distributions.smooth import SmoothPercentiles, smooth_percentiles
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ParameterError
from kindynos.validate import instance, invalid_argument

# of parameters, which files written by earlier versions still use
_EARLIER_NAMES = {"law": "inner"}
NUMBER = re.compile(r"[-+]?(?:\d[\d_]*\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
PERCENTILE = re.compile(r"[Pp]\d{1,2}(?:\.\d+)?")
DEEPEST = 10  # distributions inside distributions


def distribution_from(
    name: str | None, parameters: Mapping[str, Any], depth: int = 0
) -> Distribution | StatedDistribution:
    """Return a distribution from its name and parameters; raises ParameterError for a wrong,
    missing or unknown one.

    With ``percentiles`` by level, ``{"10": 4, "90": 9}``, it is the member of the family that has
    them, or without a name a smooth distribution that does. ``depth`` is how deeply it is nested in
    others.
    """
    if isinstance(parameters.get("percentiles"), Mapping):
        return _by_percentiles(name, parameters)
    if name is None:
        raise ParameterError("needs the key 'distribution', or percentiles by level")
    distribution = CATALOGUE.find(name)
    by_name = {field.name: field for field in _fields(distribution)}
    parameters = {_EARLIER_NAMES.get(key, key): value for key, value in parameters.items()}
    for key, value in parameters.items():
        if key not in by_name:
            raise ParameterError(
                f"{name!r} has no parameter {key!r} (value {value!r:.40})",
                unknown=key,
                known=by_name,
            )
    for key, field in by_name.items():
        if key not in parameters and field.default is MISSING:
            raise ParameterError(
                f"{name!r} lacks the parameter {key!r}; it takes {', '.join(by_name)}"
            )
    return distribution(**{key: _inner(value, depth) for key, value in parameters.items()})


def distribution_in_words(text: str) -> tuple[Distribution | StatedDistribution, str]:
    """Return the distribution that a text such as "pert 40 50 70 EUR/t" states, its parameters in
    order, and the unit after them; raises ParameterError.

    A list of numbers is written out, the next one after its name; percentiles after theirs.

    >>> distribution_in_words("pert 40 50 70 EUR/t")
    (Pert(low=40, mode=50, high=70), 'EUR/t')
    >>> distribution_in_words("discrete 1 2 5 probabilities 0.5 0.3 0.2 crews")
    (Discrete(values=[1, 2, 5], probabilities=[0.5, 0.3, 0.2]), 'crews')
    >>> round(distribution_in_words("lognormal P10 40 P90 90 EUR")[0].percentile(90), 6)
    90.0
    """
    words = re.sub(r"[,;=]", " ", text).split()
    begin = next((i for i, word in enumerate(words) if _begins(word)), len(words))
    label, rest = " ".join(words[:begin]), words[begin:]
    if rest and PERCENTILE.fullmatch(rest[0]):
        stated: dict[str, float] = {}
        while len(rest) > 1 and PERCENTILE.fullmatch(rest[0]) and NUMBER.fullmatch(rest[1]):
            stated[rest[0][1:]] = _number(rest[1])
            rest = rest[2:]
        return distribution_from(label or None, {"percentiles": stated}), " ".join(rest)
    fields = [field for field in _fields(CATALOGUE.find(label)) if not field.kw_only]
    if fields and "Sequence" in str(fields[0].type):
        parameters, unit = _lists(rest, [field.name for field in fields])
        return distribution_from(label, parameters), unit
    names = [field.name for field in fields]
    end = next((i for i, word in enumerate(rest) if not NUMBER.fullmatch(word)), len(rest))
    if end > len(names):
        raise ParameterError(f"{label} takes {', '.join(names)}, and {end} numbers are stated")
    numbers = map(_number, rest[:end])
    return distribution_from(label, dict(zip(names, numbers, strict=False))), " ".join(rest[end:])


def _begins(word: str) -> bool:
    """Whether what a distribution is of begins with a word."""
    return bool(NUMBER.fullmatch(word) or PERCENTILE.fullmatch(word))


def _number(word: str) -> float:
    return float(word.replace("_", ""))


def _lists(words: Sequence[str], names: Sequence[str]) -> tuple[dict[str, list[float]], str]:
    """Return lists of numbers by parameter, the first one without its name, and what is left."""
    lists: dict[str, list[float]] = {names[0]: []}
    current = lists[names[0]]
    for position, word in enumerate(words):
        if NUMBER.fullmatch(word):
            current.append(_number(word))
        elif word.lower() in names and word.lower() not in lists:
            current = lists.setdefault(word.lower(), [])
        else:
            return lists, " ".join(words[position:])
    return lists, ""


def _by_percentiles(name: str | None, parameters: Mapping[str, Any]) -> Distribution:
    """Return the distribution with stated percentiles: of a family, or smooth between ends."""
    stated = {}
    for level, value in parameters["percentiles"].items():
        try:
            stated[float(level)] = value
        except ValueError:
            raise invalid_argument("a percentile", "a number such as 10", level) from None
    rest = {key: value for key, value in parameters.items() if key != "percentiles"}
    smooth = SmoothPercentiles.label
    allowed = ("low", "high") if name in (None, smooth) else ("fit",)
    for key in rest:
        if key not in allowed:
            raise ParameterError(
                f"with percentiles by level there is no {key!r}", unknown=key, known=allowed
            )
    if name is None or name == smooth:
        return smooth_percentiles(stated, **rest)
    instance("fit", rest.get("fit", False), bool, "true or false")
    return from_percentiles(name, stated, **rest)


def _inner(value: Any, depth: int) -> Any:
    """Return a parameter, with tables that state a distribution, alone or in a list, made into
    distributions.
    """
    if isinstance(value, list):
        return [_inner(part, depth) for part in value]
    if isinstance(value, Mapping):
        rest = dict(value)
        name = rest.pop("distribution", None)
        by_percentiles = name is None and isinstance(rest.get("percentiles"), Mapping)
        if not isinstance(name, str) and not by_percentiles:
            raise ParameterError(
                "a distribution inside a distribution needs the key 'distribution', and "
                f"{dict(value)!r:.60} has none"
            )
        if depth == DEEPEST:
            raise ParameterError(
                f"distributions may be nested {DEEPEST} deep, and these are nested deeper"
            )
        return distribution_from(name, rest, depth + 1)
    return value


def parameters_of(distribution: Distribution | StatedDistribution) -> dict[str, Any]:
    """Return a distribution's parameters by name."""
    if isinstance(distribution, StatedDistribution):
        missing = {
            field.name: field.default
            for field in _fields(distribution.kind)
            if field.default is not MISSING
        }
        return {**missing, **distribution.parameters}
    return {field.name: getattr(distribution, field.name) for field in _fields(type(distribution))}


_EXAMPLE_VALUES: dict[str, Any] = {
    "mean": 10.0,
    "sd": 2.0,
    "low": 2.0,
    "mode": 3.0,
    "high": 7.0,
    "a": 2.0,
    "b": 3.0,
    "shape": 2.0,
    "scale": 5.0,
    "location": 10.0,
    "df": 5.0,
    "trials": 20,
    "probability": 0.3,
    "successes": 3,
    "population": 50,
    "marked": 12,
    "drawn": 10,
    "values": [1.0, 2.0, 4.0, 7.0, 8.0],
    "edges": [0.0, 2.0, 4.0, 8.0],
    "factor": 2.0,
    "steps": False,
    "percentiles": [[5, 1.0], [25, 2.0], [50, 3.0], [75, 5.0], [95, 9.0]],
    "inner": {"distribution": "normal", "mean": 5.0, "sd": 2.0},
    "parts": [
        {"distribution": "normal", "mean": 5.0, "sd": 1.0},
        {"distribution": "normal", "mean": 9.0, "sd": 2.0},
    ],
    "count": {"distribution": "poisson", "mean": 3.0},
    "bias": 0.4,
    "widening": 1.8,
    "impact": {"distribution": "pert", "low": 2.0, "mode": 3.0, "high": 7.0},
    "size": {"distribution": "gamma", "shape": 2.0, "scale": 5.0},
}
_EXAMPLES: dict[str, dict[str, Any]] = {
    "beta": {"a": 14.0, "b": 9.0},
    "discrete": {"values": [10.0, 20.0, 40.0], "probabilities": [0.5, 0.3, 0.2]},
    "histogram": {"edges": [0.0, 2.0, 4.0, 8.0], "weights": [3.0, 5.0, 2.0]},
    "integer uniform": {"low": 1, "high": 6},
    "generalized extreme value": {"location": 10.0, "scale": 2.0, "shape": 0.2},
    "generalized pareto": {"location": 10.0, "scale": 2.0, "shape": 0.2},
    "johnson su": {"a": -1.0, "b": 1.5, "location": 10.0, "scale": 2.0},
    "uncertain": {
        "parts": [
            {"distribution": "normal", "mean": 5.0, "sd": 1.0},
            {"distribution": "normal", "mean": 6.0, "sd": 1.2},
        ]
    },
    "truncated": {"inner": _EXAMPLE_VALUES["inner"], "low": 3.0},
    "clipped": {"inner": _EXAMPLE_VALUES["inner"], "low": 3.0},
}


def example(distribution: type[Distribution]) -> Distribution:
    """Return a distribution of the family to show: with parameters that need no thought.

    >>> example(CATALOGUE.find("pert"))
    Pert(low=2, mode=3, high=7)
    """
    needed = [field.name for field in _fields(distribution) if field.default is MISSING]
    stated = _EXAMPLES.get(distribution.label) or {name: _EXAMPLE_VALUES[name] for name in needed}
    made: Any = distribution_from(distribution.label, stated)
    assert isinstance(made, Distribution)
    return made


def parameter_names(distribution: type[Distribution]) -> list[str]:
    """Return the names of a distribution's parameters, in order.

    >>> parameter_names(CATALOGUE.find("uniform"))
    ['low', 'high']
    """
    return [field.name for field in _fields(distribution)]


def _fields(distribution: type[Distribution]) -> tuple[Field[Any], ...]:
    kind: Any = distribution  # every distribution is a dataclass, which the base class cannot say
    return fields(kind)
