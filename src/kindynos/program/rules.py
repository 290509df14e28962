"""A policy inside a model: lines that take, in every trial, the option of a choice that is expected
to be best given what is known then, and the figures that the options replace.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from inspect import Parameter, Signature

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats

NOT_OPEN = -1.0  # the option of a choice that earlier ones have closed
Expects = Callable[[Floats], Floats]


@dataclass(frozen=True, eq=False)
class Branch:
    """A choice as it is come to: by which options of the earlier choices, by their numbers, and
    what tells the leads of its second option on, as found on each half of the trials.
    """

    before: tuple[int, ...]
    found: Sequence[Sequence[Expects]]

    def best(self, known: Floats) -> NDArray[np.int64]:
        """Return the option ``(trials,)`` that is expected to be best, by its number."""
        halves = [[expects(known) for expects in half] for half in self.found]
        leads = np.mean(halves, axis=0)
        best: NDArray[np.int64] = np.vstack([np.zeros(known.shape[1]), leads]).argmax(axis=0)
        return best


@dataclass(frozen=True, eq=False)
class ChoiceRule:
    """A line that is the number of the option taken, from 0, in each trial; it needs ``knowing``,
    by the value at the end of period ``at``, and the lines of the ``earlier`` choices.
    """

    at: int
    knowing: tuple[str, ...]
    earlier: tuple[str, ...]
    branches: tuple[Branch, ...]
    words: str  # the rule in words

    @property
    def __signature__(self) -> Signature:
        names = dict.fromkeys([*self.knowing, *self.earlier])
        return Signature([Parameter(name, Parameter.POSITIONAL_OR_KEYWORD) for name in names])

    def __call__(self, **values: Floats) -> Floats:
        """Return the number of the option taken ``(trials,)``."""
        rows = [np.asarray(values[name]) for name in self.knowing]
        known = np.stack(
            np.broadcast_arrays(*[row[self.at - 1] if row.ndim == 2 else row for row in rows])
        )
        taken = [np.asarray(values[name]) for name in self.earlier]
        options = np.full(np.broadcast_shapes(known.shape[1:], *[t.shape for t in taken]), NOT_OPEN)
        known = np.broadcast_to(known, (len(known), *options.shape))
        for branch in self.branches:
            here = np.ones(options.shape, dtype=bool)
            for option, number in zip(taken, branch.before, strict=True):
                here &= option == number
            if here.any():
                options[here] = branch.best(known[:, here])
        return options


@dataclass(frozen=True, eq=False)
class ReplacedFigure:
    """A line in place of a given figure: ``stated``, or what the options taken make of it, the
    later choice last. ``by_choice`` has for each choice what its options replace it by, if they do.
    """

    stated: Floats
    choices: tuple[str, ...]
    by_choice: tuple[tuple[Floats | None, ...], ...]

    @property
    def __signature__(self) -> Signature:
        return Signature([Parameter(n, Parameter.POSITIONAL_OR_KEYWORD) for n in self.choices])

    def __call__(self, **taken: Floats) -> Floats:
        """Return the figure ``(trials,)``, or ``(periods, trials)`` of a row."""
        figure = self.stated
        for choice, replacements in zip(self.choices, self.by_choice, strict=True):
            for number, value in enumerate(replacements):
                if value is not None:
                    figure = np.where(np.asarray(taken[choice]) == number, value, figure)
        return np.asarray(figure, dtype=np.float64)
