"""Named things of one sort: looking one up, suggesting a spelling, and listing them for help and
docs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from inspect import Parameter, signature
from typing import Any, Generic, TypeVar

from kindynos.errors import ParameterError

Entry = TypeVar("Entry")


class Registry(Mapping[str, Entry], Generic[Entry]):
    """Entries of one sort by name, in the order in which help and docs list them.

    >>> Registry("plan", {"latin": 1, "random": 2}).find("latn")
    Traceback (most recent call last):
    ...
    kindynos.errors.ParameterError: no plan 'latn'; did you mean 'latin'?
    """

    def __init__(self, sort: str, entries: Mapping[str, Entry]) -> None:
        self.sort = sort
        self._entries = dict(entries)

    def __getitem__(self, name: str) -> Entry:
        return self._entries[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._entries)

    def __len__(self) -> int:
        return len(self._entries)

    def __repr__(self) -> str:
        return f"<{self.sort}: {', '.join(self)}>"

    def find(self, name: Any) -> Entry:
        """Return the entry of that name; raises ParameterError, with the nearest spelling, when
        there is none.
        """
        if not isinstance(name, str) or name not in self._entries:
            raise ParameterError(
                f"no {self.sort} {name!r:.60}", name=self.sort, unknown=name, known=self._entries
            )
        return self._entries[name]


def declared_options(function: Callable[..., Any]) -> tuple[str, ...]:
    """Return the names of a function's options: its keyword-only parameters."""
    return tuple(
        p.name for p in signature(function).parameters.values() if p.kind is Parameter.KEYWORD_ONLY
    )


def check_options(owner: str, function: Callable[..., Any], options: Mapping[str, Any]) -> None:
    """Raise ParameterError, with the nearest spelling, for an option that the function does not
    declare.
    """
    declared = declared_options(function)
    for option in options:
        if option not in declared:
            raise ParameterError(
                f"no option {option!r}", owner=owner, name=option, unknown=option, known=declared
            )
