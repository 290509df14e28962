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

    Models      kd.Model, kd.load_model (the same as a file), kd.read_workbook (a spreadsheet);
                model.compare, model.sweep, model.solve, model.optimize
    Uncertainty kd.Normal, kd.Pert, kd.Mixture and 40 more; kd.from_percentiles for an opinion;
                kd.fit_distributions for records
    Time        kd.GeometricBrownianMotion, kd.MeanReverting, kd.PathSet and more;
                kd.fit_series for a series; kd.Cohort for fleets and other populations
    Money       kd.npv, kd.irr, kd.payback and more, on arrays (cash_flow[2] is year 3)
    Markets     kd.read_prices, kd.Portfolio for value at risk and back-tests;
                kd.allocate, kd.frontier for weights
    Choices     kd.Decision, kd.load_decision
    Results     run.show(), run.report("page.html"), run.to_excel("book.xlsx"), kd.plots;
                kd.read_trials for trials from elsewhere, kd.ProgressBar for long runs

Names are loaded when first used, so that importing the package is quick.
"""

from __future__ import annotations

from kindynos.lazy import load_lazily

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = load_lazily(__name__, __file__, "__version__")
