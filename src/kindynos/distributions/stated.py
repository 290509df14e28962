"""A distribution some of whose parameters are named: quantities of a model, which may differ from
trial to trial.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, fields
from functools import lru_cache
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError, ModelError, ParameterError

FEW = 64  # sets of parameters for which one distribution after the other is no slower
KEPT = 1024  # distributions


@dataclass(frozen=True)
class StatedDistribution:
    """What ``Binomial(trials="sold", probability=0.07)`` gives: a distribution for each value that
    ``sold`` may have.

    It is for drivers of models; its values, mean and chances are known only where the named
    quantities are.

    >>> from kindynos import Binomial
    >>> Binomial(trials="sold", probability=0.07)
    Binomial(trials='sold', probability=0.07)
    """

    kind: Any  # a subclass of Distribution, which is built on this module's user
    stated: tuple[tuple[str, Any], ...]

    @property
    def label(self) -> str:
        """The name of the distribution in model files."""
        return str(self.kind.label)

    @property
    def parameters(self) -> dict[str, Any]:
        """The parameters: numbers and names."""
        return dict(self.stated)

    @property
    def names(self) -> tuple[str, ...]:
        """The quantities that are named, in order of use."""
        return tuple(dict.fromkeys(name for _, value in self.stated for name in _names(value)))

    def __repr__(self) -> str:
        return (
            f"{self.kind.__name__}({', '.join(f'{name}={value!r}' for name, value in self.stated)})"
        )

    def __getattr__(self, name: str) -> Any:
        if not name.startswith("_") and name in {field.name for field in fields(self.kind)}.union(
            dir(self.kind)
        ):
            raise ModelError(
                f"{self!r} has no {name} of its own: {', '.join(self.names)} are quantities of "
                "a model"
            )
        raise AttributeError(name)

    def at(self, values: Mapping[str, float]) -> Any:
        """Return the distribution at values of what is named; raises ParameterError where they
        break a rule of it.
        """
        return _at(self, tuple(values[name] for name in self.names))

    def values(self, scores: Floats, named: Mapping[str, Floats]) -> Floats:
        """Return the values at scores, both with the trials last, where each has its own
        parameters.

        Raises ParameterError for parameters that the distribution cannot have.
        """
        arrays = np.broadcast_arrays(scores, *(named[name] for name in self.names))
        if self.kind.by_trial and all(
            isinstance(value, str | float | int) for _, value in self.stated
        ):
            arrayed = self._arrayed(named)
            if arrayed is not None:
                return np.array(np.broadcast_to(arrayed._quantile(arrays[0]), arrays[0].shape))
        return self._one_by_one(arrays, lambda distribution, score: distribution._quantile(score))

    def base_values(self, named: Mapping[str, Floats]) -> Floats:
        """Return the base value for each set of parameters; raises ParameterError as ``values``
        does.
        """
        arrays = np.broadcast_arrays(0.0, *(named[name] for name in self.names))
        return self._one_by_one(arrays, lambda distribution, _: distribution.base_value)

    def _one_by_one(self, arrays: tuple[Floats, ...], read: Callable[[Any, Floats], Any]) -> Floats:
        """Return what is read of each distribution at its scores, which are the first array."""
        scores, columns = (
            arrays[0].reshape(-1),
            np.stack([array.reshape(-1) for array in arrays[1:]]),
        )
        distinct, values = np.unique(columns, axis=1, return_inverse=True)
        values = values.reshape(-1)  # NumPy 2.0 gives two dimensions
        order = np.argsort(values, kind="stable")
        ends = np.cumsum(np.bincount(values, minlength=distinct.shape[1]))
        quantiles = np.empty(scores.size)
        for parameters, places in zip(distinct.T, np.split(order, ends[:-1]), strict=True):
            quantiles[places] = read(_at(self, tuple(parameters.tolist())), scores[places])
        return quantiles.reshape(arrays[0].shape)

    def _arrayed(self, named: Mapping[str, Floats]) -> Any:
        """Return one distribution whose parameters are arrays, None for few sets of them, which are
        better taken singly.
        """
        arrays = {name: named[name] for name in self.names}
        if max(array.size for array in arrays.values()) < FEW:
            return None
        ends = [
            {name: float(end(array)) for name, array in arrays.items()} for end in (np.min, np.max)
        ]
        if "__post_init__" in vars(self.kind):  # rules of several parameters together
            ends += [
                dict(zip(arrays, broadcast_array, strict=True))
                for broadcast_array in zip(
                    *map(_flat, np.broadcast_arrays(*arrays.values())), strict=True
                )
            ]
        # a rule of one parameter is an interval, which holds for all if it does for the ends
        for values in ends:
            self.at(values)
        made = object.__new__(self.kind)
        for name, value in self.stated:
            object.__setattr__(made, name, arrays.get(value, value))
        return made


def stated_distribution(
    kind: Any, arguments: tuple[Any, ...], named: Mapping[str, Any]
) -> StatedDistribution | None:
    """Return the distribution of a kind with names among its parameters, None where there are
    none.
    """
    parameter_fields = fields(kind)
    if len(arguments) > len(parameter_fields) or not set(named) <= {
        field.name for field in parameter_fields
    }:
        return None
    parameters = {
        **{field.name: value for field, value in zip(parameter_fields, arguments, strict=False)},
        **named,
    }
    scalars = {
        field.name for field in parameter_fields if str(field.type).startswith(("float", "int"))
    }
    by_name = {name: value for name, value in parameters.items() if any(_names(value))}
    wrong = [
        name
        for name, value in by_name.items()
        if isinstance(value, str) and not (name in scalars and value.isidentifier())
    ]
    if not by_name or wrong:
        return None
    return StatedDistribution(
        kind, tuple((name, _hashable(value)) for name, value in parameters.items())
    )


@lru_cache(maxsize=KEPT)
def _at(stated: StatedDistribution, values: tuple[float, ...]) -> Any:
    by_name = dict(zip(stated.names, values, strict=True))
    try:
        return stated.kind(**{name: _filled(value, by_name) for name, value in stated.stated})
    except ParameterError as error:
        said = ", ".join(f"{name} is {value:g}" for name, value in by_name.items())
        raise KindynosError(f"{error}, where {said}") from None


def _filled(value: Any, values: Mapping[str, float]) -> Any:
    """Return a parameter with the values of what it names; whole numbers as integers, which counts
    must be.
    """
    if isinstance(value, str):
        number = values[value]
        return int(number) if number.is_integer() else number
    if isinstance(value, StatedDistribution):
        return value.at(values)
    return tuple(_filled(part, values) for part in value) if isinstance(value, tuple) else value


def _names(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, StatedDistribution):
        yield from value.names
    elif isinstance(value, list | tuple):
        for part in value:
            if isinstance(part, StatedDistribution):
                yield from part.names


def _hashable(value: Any) -> Any:
    return tuple(map(_hashable, value)) if isinstance(value, list) else value


def _flat(array: Floats) -> list[float]:
    return list(array.reshape(-1).tolist())
