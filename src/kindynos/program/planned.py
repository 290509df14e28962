"""A choice that is planned inside a model: when it is made, what is known then, and what its
options replace.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from kindynos.errors import ModelError
from kindynos.validate import listed, mapping, shown

Plan = tuple[tuple[str, str], ...]  # choices and the option of each, in order


@dataclass(frozen=True)
class PlannedChoice:
    """A choice made at the end of period ``at`` (its number, from 1), by what is then known of
    ``knowing``. ``options`` are replacements of given figures by name; ``after`` says which options
    of earlier choices leave this one open.
    """

    at: int
    knowing: tuple[str, ...]
    options: Mapping[str, Mapping[str, Any]]
    after: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(
        cls, at: Any, knowing: Any, options: Any, after: Any, labels: tuple[str, ...]
    ) -> PlannedChoice:
        """Return the choice of checked arguments; ``at`` may be the label of a period."""
        number = period_number("at", at, labels)
        by_name = mapping("options", options, "the replacements of each option by its name")
        if len(by_name) < 2:
            raise ModelError("needs at least two options; one may replace nothing: {}")
        for name, replacements in by_name.items():
            mapping(f"option {name!r}", replacements, "replacements of given figures by name")
        knowing_names = tuple(listed(knowing))
        if not knowing_names or not all(isinstance(name, str) for name in knowing_names):
            raise ModelError("knowing must name what is known when the choice is made")
        return cls(
            number,
            knowing_names,
            {str(name): dict(changes) for name, changes in by_name.items()},
            dict(mapping("after", after or {}, "the option of each earlier choice")),
        )

    def open_after(self, prefix: Plan) -> bool:
        """Return whether earlier choices leave this one open."""
        return all(dict(prefix).get(name) == option for name, option in self.after.items())


def period_number(argument: str, at: Any, labels: tuple[str, ...]) -> int:
    """Return the number of a period that is named by it or by its label."""
    names = [label.replace("-", " ") for label in labels]
    text = str(at).replace("-", " ")
    number = names.index(text) + 1 if text in names else at  # 2030 is a label too
    if not isinstance(number, int) or isinstance(number, bool) or not 1 <= number <= len(labels):
        raise ModelError(
            f"{argument} must be a period, from 1 to {len(labels)} or its label, not {shown(at)}"
        )
    return number


def plans_of(choices: Mapping[str, PlannedChoice]) -> list[Plan]:
    """Return all the plans that could be fixed today: an option for each choice that is open."""
    plans: list[Plan] = [()]
    for name, choice in choices.items():
        plans = [
            longer
            for plan in plans
            for longer in (
                [(*plan, (name, option)) for option in choice.options]
                if choice.open_after(plan)
                else [plan]
            )
        ]
    return plans


def replacements_of(
    choices: Mapping[str, PlannedChoice], plan: Iterable[tuple[str, str]]
) -> dict[str, Any]:
    """Return what the options of a plan replace."""
    replaced: dict[str, Any] = {}
    for name, option in plan:
        replaced |= choices[name].options[option]
    return replaced
