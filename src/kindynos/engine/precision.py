"""Running until an estimate is precise enough."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from kindynos.errors import ParameterError
from kindynos.validate import checked, finite, instance, positive

FEWEST_BLOCKS = 40  # before a run may stop: fewer make the error itself too uncertain to stop on
MOST_GROWTH = 2.0  # times as many trials in a round as before, at the most


class Precision:
    """An aim: a statistic of an outcome with a 95 % error of at most ``within``, or of that share
    of it (``relative``).

    The statistic is named as for ``run["name"].error``: ``Precision("net_value", "percentile", 5,
    within=1e4)``, ``Precision("net_value", "chance", below=0, within=0.005)``. Raises
    ParameterError for a width that is not above 0.

    >>> Precision("net_value", "mean", within=0.01, relative=True)
    Precision('net_value', 'mean', within=0.01, relative=True)
    """

    @checked
    def __init__(
        self,
        outcome: str,
        statistic: str,
        *arguments: Any,
        within: float,
        relative: bool = False,
        **options: Any,
    ) -> None:
        self.outcome, self.statistic, self.arguments, self.options = (
            outcome,
            statistic,
            arguments,
            options,
        )
        self.within = positive("within", within)
        self.relative = instance("relative", relative, bool, "True or False")
        for name, value in (("outcome", outcome), ("statistic", statistic)):
            instance(name, value, str, "a text")
        for argument in arguments:
            finite(f"the argument of {statistic}", argument)

    def __repr__(self) -> str:
        parts = [repr(self.outcome), repr(self.statistic), *map(repr, self.arguments)]
        parts += [f"{key}={value!r}" for key, value in self.options.items()]
        parts.append(f"within={self.within!r}")
        return f"Precision({', '.join([*parts, 'relative=True'] if self.relative else parts)})"

    def stated(self) -> dict[str, Any]:
        """Return the aim as plain data, from which ``Precision.of`` makes it again."""
        return {
            "outcome": self.outcome,
            "statistic": self.statistic,
            "arguments": list(self.arguments),
            "options": self.options,
            "within": self.within,
            "relative": self.relative,
        }

    @classmethod
    def of(cls, data: Mapping[str, Any]) -> Precision:
        """Return the aim that ``stated`` described."""
        options = {"within": data["within"], "relative": data["relative"], **data["options"]}
        return cls(data["outcome"], data["statistic"], *data["arguments"], **options)

    def missing(self, value: float, error: float) -> float:
        """Return the error over what is wanted: at most 1 when the aim is met; NaN where no error
        can be given.
        """
        within = self.within * abs(value) if self.relative else self.within
        return error / within if within > 0 else math.inf


def next_count(blocks: int, missing: float) -> int:
    """Return how many blocks to have after the next round, from how far the aim is missed; errors
    fall with the root.
    """
    if not math.isfinite(missing):
        return math.ceil(blocks * MOST_GROWTH)
    return max(blocks + 1, math.ceil(blocks * min(1.1 * missing**2, MOST_GROWTH)))


def as_aims(until: Any) -> list[Precision]:
    """Return one aim or several as a list; raises ParameterError for anything else."""
    aims = [until] if isinstance(until, Precision) else until
    if (
        not isinstance(aims, list | tuple)
        or not aims
        or not all(isinstance(aim, Precision) for aim in aims)
    ):
        raise ParameterError(
            f"until must be kd.Precision(...) or a list of them, not {until!r:.60}"
        )
    return list(aims)
