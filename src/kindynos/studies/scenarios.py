"""Simulating a model's scenarios on the same draws."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from kindynos.errors import ModelError
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.simulate import simulate
from kindynos.sampling.streams import checked_seed
from kindynos.studies.comparison import Comparison
from kindynos.validate import mapping

AS_STATED = "as stated"


def compare_scenarios(
    statement: Statement,
    scenarios: Mapping[str, Mapping[str, Any]] | None,
    options: SimulationOptions,
) -> Comparison:
    """Return a comparison of scenarios; see Model.compare."""
    if scenarios is None:
        if not statement.scenarios:
            raise ModelError(
                "the model has no scenarios; a model file states them as [scenarios.NAME], and "
                "Python as "
                "model.scenario('expensive', vessel=25e6)"
            )
        scenarios = {AS_STATED: {}, **statement.scenarios}
    scenarios = mapping("scenarios", scenarios, "the replacements of each scenario by its name")
    changed = {name: statement.scenario(name, changes) for name, changes in scenarios.items()}
    settings = replace(options, seed=checked_seed(options.seed))
    return Comparison({name: simulate(other.program, settings) for name, other in changed.items()})
