"""Kindynos: decisions under uncertainty. Model, simulate, and read risk with its sampling error.

Begin with a model: what is known, what is uncertain, and what is calculated from them.

    import kindynos as kd

    model = kd.Model("Tickets")
    model.given(fare=42.0)
    model.driver("sold", kd.Normal(1000, 100))
    model.outcome("sales", "fare * sold", unit="EUR", target=40_000)

Simulate it, and read the run:

    run = model.simulate(trials=10_000, seed=1)
    run.table()                               every figure with its 95 % sampling error
    run["sales"].chance(above=40_000)         .low, .high and .error beside it
    run.sensitivity("sales")                  which drivers matter
    kd.plots.distribution(run["sales"])

Where to look next:

    kd.load_model("file.toml")                the same model as a file model.compare, model.sweep,
    model.solve   scenarios, grids of values, goals model.optimize                            the
    best decisions, several at once, under constraints kd.Normal, kd.Pert, kd.Mixture, ...       40
    distributions; kd.from_percentiles makes one from an opinion kd.MeanReverting, kd.PathSet, ...
    processes for prices and rates kd.read_prices, kd.Portfolio              value at risk,
    backtests kd.allocate, kd.frontier                  the best weights, and how sure they are
    kd.fit_distributions, kd.fit_series       which distribution, which process; kd.read_trials
    kd.Cohort, kd.Decision                    things that change state, choices between alternatives
    kd.npv, kd.irr, kd.payback, ...           cash-flow measures on arrays, periods first and trials
    last

Names are loaded when first used, so that importing the package is quick.
"""

from __future__ import annotations

import re
from importlib import import_module
from typing import Any

__version__ = "0.1.0"

# The stub beside this file is the one list of public names and of the modules they come from.
with open(__file__.removesuffix("c").removesuffix(".py") + ".pyi", encoding="utf-8") as _file:
    _STUB = _file.read()
_HOMES = {
    name: module
    for module, name in re.findall(r"^from (\S+) import (\w+) as \w+$", _STUB, re.MULTILINE)
}

__all__ = [*_HOMES, "__version__"]  # noqa: PLE0604


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'kindynos' has no attribute {name!r}{_hint(name)}")
    home = _HOMES[name]
    value = (
        import_module(f"{home}.{name}")
        if home == "kindynos"
        else getattr(import_module(home), name)
    )
    globals()[name] = value
    return value


def _hint(name: str) -> str:
    from kindynos.errors import closest

    near = None if name.startswith("_") else closest(name, _HOMES)
    return f"; did you mean {near!r}?" if near else ""


def __dir__() -> list[str]:
    return sorted(__all__)
