"""Simulating a model's scenarios on the same draws."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from kindynos.errors import KindynosError, ModelError
from kindynos.results.comparison import Comparison
from kindynos.sampling.streams import fresh_seed
from kindynos.validate import shown

if TYPE_CHECKING:
    from kindynos.model.model import Model

AS_STATED = "as stated"


def compare(
    model: Model, scenarios: Mapping[str, Mapping[str, Any]] | None, trials: int, seed: int | None, options: Mapping[str, Any]
) -> Comparison:
    """Return a comparison of scenarios; see Model.compare."""
    if scenarios is None:
        if not model.scenarios:
            raise ModelError("compare: the model has no scenarios; say compare({'as planned': {}, 'dearer': {'vessel': 25e6}})")
        scenarios = {AS_STATED: {}, **model.scenarios}
    models = {name: _changed(model, name, changes) for name, changes in scenarios.items()}
    common = fresh_seed() if seed is None else seed
    return Comparison({name: changed.simulate(trials, common, **options) for name, changed in models.items()})


def _changed(model: Model, name: str, changes: Mapping[str, Any]) -> Model:
    if not isinstance(changes, Mapping):
        raise ModelError(
            f"compare: scenario {name!r} must be replacements by name, such as {{'fare': 45.0}}, not {shown(changes)}"
        )
    try:
        return model.replace(**changes)
    except KindynosError as error:
        raise type(error)(f"scenario {name!r}: {str(error).removeprefix('replace: ')}") from None
