"""The scores of drivers in two forms, each made from the other when it is first asked for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.normal_scores import normal_quantile
from kindynos.distributions.special import ndtr
from kindynos.sampling.plans import HIGHEST_SCORE, LOWEST_SCORE


class Scores(Mapping[str, Floats]):
    """Scores by name, ``(trials,)`` or ``(rows, trials)``: ``scores[name]`` are uniform,
    ``scores.normal(name)`` standard normal.

    A Gaussian copula gives normal scores, and normal drivers take them, so that for these the
    uniform ones are never worked out.
    """

    def __init__(
        self, uniform: Mapping[str, Floats], normal: Mapping[str, Floats] | None = None
    ) -> None:
        self._uniform = dict(uniform)
        self._normal = dict(normal or {})

    def __getitem__(self, name: str) -> Floats:
        if name not in self._uniform:
            self._uniform[name] = inside(ndtr(self._normal[name]))
        return self._uniform[name]

    def __contains__(self, name: object) -> bool:
        return name in self._uniform or name in self._normal

    def __iter__(self) -> Iterator[str]:
        return iter({**self._uniform, **self._normal})

    def __len__(self) -> int:
        return len({**self._uniform, **self._normal})

    def normal(self, name: str) -> Floats:
        """Return the normal scores of a name."""
        if name not in self._normal:
            self._normal[name] = normal_quantile(self._uniform[name])
        return self._normal[name]

    def replaced(self, others: Scores) -> Scores:
        """Return these scores with others in the place of those of the same names."""
        uniform = {name: row for name, row in self._uniform.items() if name not in others}
        normal = {name: row for name, row in self._normal.items() if name not in others}
        return Scores({**uniform, **others._uniform}, {**normal, **others._normal})


def joined(parts: Sequence[Scores], names: Iterable[str]) -> Scores:
    """Return the scores of names in neighbouring blocks, side by side."""
    if len(parts) == 1:
        return parts[0]
    uniform, normal = {}, {}
    for name in names:
        if all(name in part._uniform for part in parts):
            uniform[name] = np.concatenate([part._uniform[name] for part in parts], axis=-1)
        if all(name in part._normal for part in parts):
            normal[name] = np.concatenate([part._normal[name] for part in parts], axis=-1)
    return Scores(uniform, normal)


def inside(scores: Floats) -> Floats:
    """Return uniform scores, strictly between 0 and 1."""
    return np.clip(scores, LOWEST_SCORE, HIGHEST_SCORE)
