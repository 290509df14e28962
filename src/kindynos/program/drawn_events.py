"""How the events of a trial are drawn: their number and sizes, or the defaults among loans."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.stated import StatedDistribution
from kindynos.events.defaults import Loans, defaulted
from kindynos.events.events import Events, drawn_events


@dataclass(frozen=True)
class DrawnEvents(ABC):
    """Events that are drawn; ``picking`` names the driver that picks them."""

    picking: str

    @property
    @abstractmethod
    def needs(self) -> tuple[str, ...]:
        """The names it uses."""

    @property
    @abstractmethod
    def in_words(self) -> str:
        """What they are."""

    @abstractmethod
    def drawn(self, values: Mapping[str, Floats]) -> Events:
        """Return the events for values of what it needs, both with the trials last."""


@dataclass(frozen=True)
class Sizes(DrawnEvents):
    """A number of events that is another quantity, ``count``, with sizes of a distribution whose
    parameters may be named.
    """

    picking: str
    count: str
    distribution: Distribution | StatedDistribution

    @property
    def needs(self) -> tuple[str, ...]:
        """The names it uses."""
        stated = self.distribution
        named = stated.names if isinstance(stated, StatedDistribution) else ()
        return tuple(dict.fromkeys((self.count, self.picking, *named)))

    @property
    def in_words(self) -> str:
        """The distribution of their size."""
        return f"{self.count} of {self.distribution!r:.200}"

    def drawn(self, values: Mapping[str, Floats]) -> Events:
        """Return the events, as ``drawn_events`` draws them."""
        stated = self.distribution

        def named(events: Events) -> dict[str, Floats]:
            assert isinstance(stated, StatedDistribution)
            return {name: events.each(values[name]) for name in stated.names}

        def sizes(scores: Floats, events: Events) -> Floats:
            if isinstance(stated, Distribution):
                return stated._quantile(scores)
            return stated.values(scores, named(events))

        def base(events: Events) -> Any:
            if isinstance(stated, Distribution):
                return stated.base_value
            return stated.base_values(named(events))

        return drawn_events(values[self.count], values[self.picking], sizes, base)


@dataclass(frozen=True)
class Defaults(DrawnEvents):
    """The losses of loans that default, which share a ``factor``; ``correlation`` is a number or
    the name of one. With ``group`` those of a group alone.
    """

    factor: str
    loans: Loans
    correlation: float | str
    group: str | None = None

    @property
    def needs(self) -> tuple[str, ...]:
        """The names it uses."""
        named = (self.correlation,) if isinstance(self.correlation, str) else ()
        return (self.picking, self.factor, *named)

    @property
    def in_words(self) -> str:
        """The number of loans and their amount."""
        amount = sum(self.loans.amounts)
        return (
            f"{len(self.loans.amounts):,} loans of {amount:,.10g}, correlation {self.correlation}"
        )

    def drawn(self, values: Mapping[str, Floats]) -> Events:
        """Return the losses, as ``defaulted`` draws them."""
        rho = self.correlation
        shared = values[rho] if isinstance(rho, str) else np.asarray(rho)
        return defaulted(self.loans, values[self.picking], values[self.factor], shared, self.group)
