"""A run from its JSON: the model simulated again, and compared with the figures there."""

from __future__ import annotations

import json
import math
from typing import Any

from kindynos.errors import FileError, RunError
from kindynos.model.file import model_from_text
from kindynos.results.run import Run

SAME = 1e-9  # of a figure, or of its error where that is larger


def run_from_json(text: str) -> Run:
    """Return the run of JSON that ``Run.to_json`` or ``kindynos run --json`` gave; see
    ``Run.from_json``.
    """
    data = _data(text)
    if data["model_file"] is None:
        raise RunError(
            "its model has functions or rests on other files, which JSON does not hold; simulate "
            f"the model with trials={data['trials']}, seed={data['seed']}"
        )
    model = model_from_text(data["model_file"], "model_file")
    run = model.simulate(data["trials"], data["seed"], sampling=data["sampling"])
    for name, figures in data["outcomes"].items():
        mean = figures.get("mean") if isinstance(figures, dict) else None
        there = mean.get("value") if isinstance(mean, dict) else None
        if not isinstance(there, float | int) or name not in run.outcomes:
            continue  # of an outcome that may never happen the mean is a word
        here = float(run[name].mean)
        size = max(abs(there), abs(run[name].mean.error if math.isfinite(here) else 0.0))
        if not abs(here - there) <= SAME * size:
            raise RunError(
                f"its trials are others now: the mean of {name} is {here:.12g}, and {there:.12g} "
                "there; another version made it, or a run that was extended or stopped"
            )
    return run


def _data(text: str) -> dict[str, Any]:
    """Return the data of a run; raises FileError for anything else."""
    try:
        data = json.loads(text)
    except (TypeError, ValueError, RecursionError) as error:
        raise FileError(f"is no JSON: {str(error)[:80]}") from None
    kinds = {"model_file": str | None, "trials": int, "seed": int, "sampling": str}
    is_ours = isinstance(data, dict) and isinstance(data.get("outcomes"), dict)
    if not is_ours or any(not isinstance(data.get(k, 0.5), kind) for k, kind in kinds.items()):
        raise FileError("is not the JSON of a run, as run.to_json() or kindynos run --json gives")
    return dict(data)
