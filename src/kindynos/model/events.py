"""Events with a date: what comes with a chance in a period, what it brings then, and what must have
come before it. They are stated by quantities of other kinds, from which formulas go on.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any

from kindynos.distributions.base import Distribution
from kindynos.distributions.discrete import Discrete
from kindynos.distributions.registry import distribution_from
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import ModelError
from kindynos.program.planned import period_number
from kindynos.program.quantities import check_name
from kindynos.validate import listed


@dataclass(frozen=True)
class EventParts:
    """What states an event: its period, or the distribution of it; whether it comes; the
    distribution of what it brings, if it is one; and the formulas of its lines by name.
    """

    when: int | Distribution
    comes: Distribution | StatedDistribution
    brings: Distribution | StatedDistribution | None
    lines: dict[str, str]


def event_parts(
    name: str,
    when: Any,
    chance: Any,
    brings: Any,
    needs: str | Sequence[str],
    labels: tuple[str, ...],
    known: Collection[str],
) -> EventParts:
    """Return what states an event in a model with these periods and quantities."""
    check_name(name)
    if not labels:
        raise ModelError("an event has a period; the model needs periods=")
    places = [period_number("when", one, labels) for one in listed(when)]
    if not places:
        raise ModelError("when must be a period, or several")
    before = listed(needs)
    for other in before:
        if f"{other}_happened" not in known:
            raise ModelError(f"needs {other!r}, which is no event that is stated before it")
    equal = [1 / len(places)] * len(places)
    in_time = [f"{n}_happened * ({n}_when <= {name}_when)" for n in before]
    drawn = brings if isinstance(brings, Distribution | StatedDistribution) else None
    amount = f"{name}_brings" if drawn is not None else brings
    amount = f"({amount})" if isinstance(amount, str) else repr(amount)
    return EventParts(
        places[0] if len(places) == 1 else Discrete(places, equal),
        distribution_from("bernoulli", {"probability": chance}),
        drawn,
        {
            f"{name}_happened": " * ".join([f"{name}_comes", *in_time]),
            name: f"({amount} if period == {name}_when else 0) * {name}_happened",
        },
    )
