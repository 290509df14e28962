"""Claims in a model: how many, how large, each drawn in every trial."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.bounded import Uniform
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ModelError
from kindynos.events.events import AT_BASE
from kindynos.program.drawn_events import Sizes
from kindynos.program.quantities import (
    DependentDriver,
    DistributionDriver,
    Line,
    PickingDriver,
    Quantity,
    distribution_driver,
)
from kindynos.validate import one_of, owner_is, shown


@owner_is("claims {name!r}")
def declarations(
    name: str,
    count: Any,
    size: Any,
    periods: int | None,
    each: str | None,
    unit: str | None,
    source: str | None,
) -> list[Quantity]:
    """Return the drivers of the number of claims and of what picks them, and the line of the claims
    themselves; raises ModelError or ParameterError.
    """
    if not isinstance(size, Distribution | StatedDistribution):
        raise ModelError(f"size must be a distribution such as Pareto(2.5, 1e5), not {shown(size)}")
    if each is not None:
        one_of("each", each, ("period",))
    if each is not None and periods is None:
        raise ModelError("each='period' needs a model with periods")
    picking = PickingDriver(
        f"{name}_events", AT_BASE, source=source, distribution=Uniform(0.0, 1.0), each=each
    )
    quantities: list[Quantity] = []
    if not isinstance(count, str):
        quantities.append(_count(f"{name}_count", count, periods, each, source))
        count = quantities[0].name
    quantities.append(picking)
    sizes = Sizes(picking.name, count, size)
    return [*quantities, Line(name, events=sizes, unit=unit)]


def _count(
    name: str, count: Any, periods: int | None, each: str | None, source: str | None
) -> DistributionDriver | DependentDriver:
    """Return the driver of the number of claims."""
    kind = count.kind if isinstance(count, StatedDistribution) else count
    if not isinstance(count, Distribution | StatedDistribution) or not kind.discrete:
        raise ModelError(
            "count must be a distribution of whole numbers such as Poisson(12), or the name of a "
            f"driver or a line, not {shown(count)}"
        )
    return distribution_driver(name, count, periods, each=each, source=source)


def own_count(
    name: str, sizes: Sizes, quantities: Mapping[str, Quantity]
) -> DistributionDriver | DependentDriver | None:
    """Return the driver that was declared with the claims as their number, which is written in
    their table; None where the number is another quantity.
    """
    picking, count = quantities[sizes.picking], quantities.get(sizes.count)
    assert isinstance(picking, PickingDriver)
    if not isinstance(count, DistributionDriver | DependentDriver):
        return None
    about = (count.each, count.source, count.base, count.unit, count.serial)
    own = count.name == f"{name}_count" and about == (picking.each, picking.source, *[None] * 3)
    return count if own else None


def claims_of(quantities: Sequence[Quantity]) -> dict[str, Sizes]:
    """Return how claims are drawn, by name."""
    lines = [q for q in quantities if isinstance(q, Line)]
    return {line.name: line.events for line in lines if isinstance(line.events, Sizes)}
