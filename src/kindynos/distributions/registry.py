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


def parameter_names(law: type[Distribution]) -> list[str]:
    """Return the names of a law's parameters, in order.

    >>> parameter_names(law_named("uniform"))
    ['low', 'high']
    """
    return [field.name for field in _fields(law)]


def _fields(law: type[Distribution]) -> tuple[Field[Any], ...]:
    kind: Any = law  # every law is a dataclass, which the base class cannot say
    return fields(kind)
