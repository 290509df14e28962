"""Figures that are worked out when they are first read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

Figure = TypeVar("Figure")


@dataclass(frozen=True)
class Later(Mapping[str, Figure]):
    """Figures by name that ``source`` works out, as ``attribute``, when they are first read."""

    source: Any = field(repr=False, compare=False)
    attribute: str

    @property
    def _found(self) -> Mapping[str, Figure]:
        figures: Mapping[str, Figure] = getattr(self.source, self.attribute)
        return figures

    def __getitem__(self, name: str) -> Figure:
        return self._found[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._found)

    def __len__(self) -> int:
        return len(self._found)
