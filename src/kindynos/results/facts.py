"""How a run was made, as plain data."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pandas as pd

from kindynos.engine.fingerprint import versions
from kindynos.program.program import Program
from kindynos.program.quantities import DependentDriver, DistributionDriver, ProcessDriver
from kindynos.program.rules import ChoiceRule
from kindynos.results.trials import SimulatedTrials

MOST_NAMED = 12  # drivers that are listed one by one


def facts(run: SimulatedTrials, correlations: pd.DataFrame) -> dict[str, Any]:
    """Return the facts of a run; see Run.facts."""
    program, drawing, record = run.program, run.drawing, run.provenance
    partial = f"stopped after {run.size:,} of {run.requested:,} trials" if run.partial else ""
    rounded = (
        f"from the {record.rounded_from:,} trials requested, to whole blocks"
        if record.rounded_from
        else ""
    )
    copies = (
        f"single trials in {record.processes} processes, on copies of the function: the "
        "object here did not see the calls"
    )
    rules = {
        line.name: line.function.words
        for line in program.lines.values()
        if isinstance(line.function, ChoiceRule)
    }
    alone = f"single trials in this process: {record.hindered}" if record.hindered else ""
    return {
        "model": run.name,
        "trials": run.size,
        "sampling": drawing.plan.label,
        "blocks": drawing.blocks.count,
        "partial": partial,
        "rounded up": rounded,
        "processes": copies if record.processes else alone,
        "aims": {repr(aim): "met" if met else "not met" for aim, met in record.aims},
        "seed": run.seed,
        "assumed independent": _assumed_independent(program),
        "correlations": correlations.to_dict("records"),
        "repaired": [
            f"{r.first} with {r.second}: {r.requested:.3f} became {r.used:.3f}"
            for r in program.repairs
        ],
        "failed trials": {name: run[name].n_failed for name in run.outcomes if run[name].n_failed},
        "notes": {f"{line}: {text}": count for (line, text), count in record.notes.items()},
        "first failed": run.first_failed(),
        "versions": versions(),
        "processors": list(record.processors),
        **({"rules": rules} if rules else {}),
    }


def _first(names: Sequence[str]) -> list[str]:
    """Return the first names of many, and how many others there are."""
    if len(names) <= MOST_NAMED:
        return list(names)
    return [*names[: MOST_NAMED - 2], f"{len(names) - MOST_NAMED + 2:,} others"]


def _listed(names: Sequence[str]) -> str:
    return ", ".join(_first(names))


def sharing(program: Program) -> dict[str, tuple[str, ...]]:
    """Return the drivers that have the very same shocks, as those drawn from the dates of one
    history, by the first of them.
    """
    together: dict[str, tuple[str, ...]] = {}
    for name, driver in program.drivers.items():
        if isinstance(driver, ProcessDriver) and driver.shares is not None:
            together[driver.shares] = (*together.get(driver.shares, ()), name)
    return together


def _assumed_independent(program: Program) -> list[str]:
    groups = [group.names for group in program.groups if len(group.names) > 1]
    groups += [names for names in sharing(program).values() if len(names) > 1]
    linked = {name for names in groups for name in names}
    alone = [name for name in program.drivers if name not in linked]
    sets = [f"({_listed(names)})" for names in groups]
    independent = []
    dependent = {
        name: driver
        for name, driver in program.drivers.items()
        if isinstance(driver, DependentDriver)
    }
    alone = [
        f"{name} given {' and '.join(dependent[name].needs)}" if name in dependent else name
        for name in alone
    ]
    if not sets and len(alone) > 1:
        independent.append(f"all drivers ({_listed(alone)})")
    elif sets and len(sets) + len(alone) > 1:
        independent.append(f"these drivers and groups: {'; '.join([*sets, *_first(alone)])}")
    for name, driver in program.drivers.items():
        if (
            isinstance(driver, DistributionDriver | DependentDriver)
            and driver.each
            and driver.serial is None
        ):
            independent.append(f"{name} in different periods")
    return independent
