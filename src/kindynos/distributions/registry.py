"""Laws by name, as model files and the command line give them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, fields
from typing import Any

from kindynos.distributions import CATALOGUE, Distribution
from kindynos.errors import ParameterError, nearest


def law_named(name: str) -> type[Distribution]:
    """Return the class of a distribution by its name in words; raises ParameterError with the nearest spelling.

    >>> law_named("pert").__name__
    'Pert'
    """
    if name not in CATALOGUE:
        raise ParameterError(f"no distribution {name!r}{nearest(name, CATALOGUE)}")
    return CATALOGUE[name]


def law_from(name: str, parameters: Mapping[str, Any]) -> Distribution:
    """Return a distribution from its name and parameters; raises ParameterError for a wrong, missing or unknown one."""
    law = law_named(name)
    known = {field.name: field for field in _fields(law)}
    for key, value in parameters.items():
        if key not in known:
            raise ParameterError(f"{name!r} has no parameter {key!r} (value {value!r:.40}){nearest(key, known)}")
    for key, field in known.items():
        if key not in parameters and field.default is MISSING:
            raise ParameterError(f"{name!r} lacks the parameter {key!r}; it takes {', '.join(known)}")
    return law(**{key: _inner(value) for key, value in parameters.items()})


def _inner(value: Any) -> Any:
    """Return a parameter, with tables that state a distribution, alone or in a list, made into laws."""
    if isinstance(value, list):
        return [_inner(item) for item in value]
    if isinstance(value, Mapping):
        rest = dict(value)
        name = rest.pop("distribution", None)
        if not isinstance(name, str):
            raise ParameterError(f"a law inside a law needs the key 'distribution', and {dict(value)!r:.60} has none")
        return law_from(name, rest)
    return value


def parameters_of(law: Distribution) -> dict[str, Any]:
    """Return a law's parameters by name."""
    return {field.name: getattr(law, field.name) for field in _fields(type(law))}


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
    "law": {"distribution": "normal", "mean": 5.0, "sd": 2.0},
    "parts": [{"distribution": "normal", "mean": 5.0, "sd": 1.0}, {"distribution": "normal", "mean": 9.0, "sd": 2.0}],
    "count": {"distribution": "poisson", "mean": 3.0},
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
    "truncated": {"law": _EXAMPLE_VALUES["law"], "low": 3.0},
    "clipped": {"law": _EXAMPLE_VALUES["law"], "low": 3.0},
}


def example(law: type[Distribution]) -> Distribution:
    """Return a law of the family to show: with parameters that need no thought.

    >>> example(law_named("pert"))
    Pert(low=2, mode=3, high=7)
    """
    needed = [field.name for field in _fields(law) if field.default is MISSING]
    return law_from(law.label, _EXAMPLES.get(law.label) or {name: _EXAMPLE_VALUES[name] for name in needed})


def parameter_names(law: type[Distribution]) -> list[str]:
    """Return the names of a law's parameters, in order.

    >>> parameter_names(law_named("uniform"))
    ['low', 'high']
    """
    return [field.name for field in _fields(law)]


def _fields(law: type[Distribution]) -> tuple[Field[Any], ...]:
    kind: Any = law  # every law is a dataclass, which the base class cannot say
    return fields(kind)
