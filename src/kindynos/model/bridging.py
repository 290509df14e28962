"""What changed from one model to another, and how much of the change of a figure each explains."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from kindynos.errors import ParameterError
from kindynos.model.file import load_model, model_from_text
from kindynos.model.model import Model
from kindynos.model.saved import open_run
from kindynos.model.writing import stated
from kindynos.program.differences import Change, changes_between, renamed
from kindynos.program.statement import Statement
from kindynos.results.run import Run
from kindynos.sampling.streams import Seed
from kindynos.studies.bridge import Bridge, BridgeRequest, bridge_between
from kindynos.validate import check_integer, checked

MOST_TRIALS = 10_000_000  # of each mixture; all are held at once


@checked
def bridge(
    old: Any,
    new: Any,
    outcome: str | None = None,
    statistic: str = "mean",
    order: Sequence[str] | None = None,
    groups: Mapping[str, Sequence[str]] | None = None,
    *,
    trials: int = 10_000,
    seed: Seed = None,
    sampling: str = "latin",
    progress: Callable[[int, int], object] | None = None,
) -> Bridge:
    """Return how a figure went from one model to another, change by change.

    ``old`` and ``new`` are models, runs, or the names of a model file or a saved run. ``outcome``
    is one that both have; default: the first. ``statistic`` is "mean", "percentile 5", "chance
    below 0" or the like; a chance without a figure is that of missing the target. Without an
    ``order`` each change explains the mean over all orders, exact up to 10 changes and from 20
    orders beyond; with one, what it adds in its turn. ``groups`` joins changes by name. Draws of
    what did not change are the same in all mixtures. Raises ModelError for models without an
    outcome in common, and ParameterError for a statistic without terms and unknown changes.

    >>> from kindynos import Model, Normal
    >>> old = Model("Kiosk")
    >>> old.given(price=3.0)
    >>> old.driver("cups", Normal(100, 10))
    >>> old.outcome("income", "price * cups")
    >>> found = bridge(old, old.replace(price=4.0), seed=1)
    >>> round(float(found.parts["price"]))
    100
    """
    check_integer("trials", trials, least=1, most=MOST_TRIALS)
    request = BridgeRequest(
        outcome, statistic, order, groups, int(trials), seed, sampling, progress
    )
    return bridge_between(statement_of("old", old), statement_of("new", new), request)


def list_changes(old: Any, new: Any) -> tuple[list[Change], dict[str, str]]:
    """Return what changed between two models, and what only has another name, without a run."""
    after = statement_of("new", new)
    before, names = renamed(statement_of("old", old), after)
    return changes_between(before, after), names


def statement_of(name: str, given: Any) -> Statement:
    """Return what a model, a run, or the file of one states; raises ParameterError for others."""
    if isinstance(given, Model):
        return given._statement
    if isinstance(given, Run):
        return model_from_text(stated(given.program))._statement
    if isinstance(given, str | Path):
        path = Path(given)
        if path.suffix == ".parquet":
            return statement_of(name, open_run(path))
        return load_model(path)._statement
    raise ParameterError(f"{name} must be a model, a run, or the name of a file, not {given!r:.60}")
