"""A model in which what is swept may differ from point to point."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.registry import parameters_of
from kindynos.distributions.stated import StatedDistribution
from kindynos.program.quantities import DependentDriver, DistributionDriver, Quantity
from kindynos.program.statement import Statement


def as_drivers(statement: Statement, swept: Mapping[str, Floats]) -> Statement:
    """Return the model with what is swept as drivers, so that it may differ from point to point.

    A parameter such as ``vessel.mode`` becomes a driver of that name, and ``vessel`` one with a
    named parameter.
    """
    changed: dict[str, Quantity] = {}
    for name, values in swept.items():
        owner, dot, parameter = name.partition(".")
        old = statement.quantities[owner]
        distinct = np.unique(values)
        stand_in = Discrete(tuple(distinct), tuple(np.full(len(distinct), 1 / len(distinct))))
        if not dot:
            driver = statement.replace(**{name: stand_in}).quantities[name]
            assert isinstance(driver, DistributionDriver)
            # a mean of points might be no value it can have
            changed[name] = replace(driver, base=float(values[0]))
            continue
        old = changed.get(owner, old)
        assert isinstance(old, DistributionDriver | DependentDriver)
        distribution = old.distribution
        stated = {**parameters_of(distribution), parameter: name}
        kind = (
            distribution.kind
            if isinstance(distribution, StatedDistribution)
            else type(distribution)
        )
        changed[name] = DistributionDriver(name, float(values[0]), distribution=stand_in)
        changed[owner] = DependentDriver(
            owner,
            old.base,
            old.unit,
            distribution=StatedDistribution(kind, tuple(stated.items())),
            each=old.each,
        )
    return replace(
        statement, quantities={**statement.quantities, **changed}, correlations=(), scenarios={}
    )
