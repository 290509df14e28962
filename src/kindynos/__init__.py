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

from kindynos.lazy import load_lazily

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = load_lazily(__name__, __file__, "__version__")
