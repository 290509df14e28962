"""What people write of cells in one line: "NPV = Out!B1, EUR, at least 0" for an outcome, "Price =
Inputs!C4: pert 40 50 70 EUR/t" for a driver, and "Price with Cost: 0.4" for a correlation.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from kindynos.distributions.registry import NUMBER, distribution_in_words
from kindynos.errors import ModelError
from kindynos.formula.parse import is_name
from kindynos.formula.tree import PERIOD
from kindynos.workbooks.labels import as_name

AIM = re.compile(rf"at (least|most)\s+({NUMBER.pattern})\s*(%?)")
BETTER = re.compile(r"(higher|lower) is better")


class Statement(NamedTuple):
    """A quantity in a line of text: its name, "" where the cell's label is to be taken, its cell,
    a driver's distribution, and what else is said of it.
    """

    name: str
    cell: str
    distribution: Any
    options: dict[str, Any]


def outcome_in(text: str) -> Statement:
    """Return the outcome that a text states; raises ModelError.

    >>> outcome_in("NPV = Out!B1, EUR, at least 0")
    Statement(name='NPV', cell='Out!B1', distribution=None, options={'unit': 'EUR', 'target': 0.0})
    """
    name, rest = _name_in(text)
    cell, *parts = [part.strip() for part in rest.split(",")]
    options: dict[str, Any] = {}
    for part in parts:
        aim, better = AIM.fullmatch(part), BETTER.fullmatch(part)
        if aim is not None:
            target = float(aim[2].replace("_", "")) / (100 if aim[3] else 1)
            said = {"target": target, **({"better": "low"} if aim[1] == "most" else {})}
        elif better is not None:
            said = {"better": "high" if better[1] == "higher" else "low"}
        elif part and not re.match(r"(at|above|below|over|under|[-+<>=\d])", part):
            said = {"unit": part}
        else:
            raise ModelError(
                f"cannot read {part!r:.40}; say CELL, or 'NAME = CELL, UNIT, at least TARGET', "
                "such as 'NPV = Out!B1, EUR, at least 0'"
            )
        twice = options.keys() & said.keys()
        if twice:
            raise ModelError(f"states its {min(twice)} twice")
        options |= said
    if not cell:
        raise ModelError("names no cell; say 'NPV = Out!B1, EUR, at least 0'")
    return Statement(name, cell, None, options)


def driver_in(text: str) -> Statement:
    """Return the driver that a text states, also in the short form "Inputs!C4=pert 40 50 70".
    Raises ModelError.

    >>> driver_in("Price = Inputs!C4: pert 40 50 70 EUR/t")[:2]
    ('Price', 'Inputs!C4')
    """
    match = re.fullmatch(r"(?:([^=]*)=)?\s*([^=]+?)\s*:\s+(.+)", text.strip(), re.S)
    name, cell, stated = ("", *text.partition("=")[::2]) if match is None else match.groups("")
    if not cell.strip() or not stated.strip()[:1].isalpha():
        raise ModelError(
            "say 'NAME = CELL: DISTRIBUTION PARAMETERS UNIT', such as 'Price = Inputs!C4: pert 40 "
            "50 70 EUR/t'"
        )
    distribution, unit = distribution_in_words(stated)
    options = {"unit": unit} if unit else {}
    return Statement(_as_stated(name), cell.strip(), distribution, options)


def correlation_in(text: str) -> tuple[str, str, float] | None:
    """Return the two drivers and the rank correlation of a text such as "Price with Cost: 0.4";
    None for another text.

    >>> correlation_in("Price with Cost: 0.4")
    ('Price', 'Cost', 0.4)
    """
    match = re.fullmatch(rf"([^=:]+?)\s+with\s+([^=:]+?)\s*:\s*({NUMBER.pattern})", text.strip())
    return None if match is None else (match[1], match[2], float(match[3]))


def _name_in(text: str) -> tuple[str, str]:
    name, equals, rest = text.partition("=")
    return (_as_stated(name), rest.strip()) if equals else ("", text.strip())


def _as_stated(name: str) -> str:
    """Return a name as it is written where formulas can use it, else one that they can."""
    name = name.strip()
    return name if is_name(name) and name != PERIOD else as_name(name)
