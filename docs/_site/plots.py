"""An example of each function that draws, run to make its picture on the page of the function."""

from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")

import matplotlib.pyplot as plt

BEGIN = "import kindynos as kd\n"
FERRY = 'model = kd.load_model(kd.demo_file("night_ferry.toml"))\n'
RUN = FERRY + ('run = model.simulate(5_000, seed=1, keep=["cash_flow"])\n')
PRICES = 'prices = kd.read_prices(kd.demo_file("treasury_prices.csv"))\n'
THREE = PRICES + 'three = prices.subset(["shipyard", "wind_farm", "grain_store"])\n'
HELD = PRICES + 'portfolio = kd.Portfolio(prices, shares={"shipyard": 400, "wind_farm": 900})\n'
BEST = THREE + 'best = kd.allocate(three, minimize="sd")\n'
FRONTIER = THREE + "curve = kd.frontier(three)\n"
RETURNS = PRICES + "returns = kd.markets.returns(prices)\n"
BILLS = 'bills = kd.read_values(kd.demo_file("repair_bills.csv"), "bill")\n'
OIL = 'oil = kd.read_series(kd.demo_file("heating_oil.csv"))\n'
RISEN = "process = kd.GeometricBrownianMotion(80.0, 0.03, 0.3)\n"
PATHS = RISEN + "paths = process.paths(36, 2_000, seed=1, dt=1 / 12)\n"
FARES = 'model = kd.load_model(kd.demo_file("best_fare.toml"))\n'
PASSENGERS = (
    'passengers = kd.read_series(kd.demo_file("passengers.csv"))\n'
    'ranking = kd.fit_series(passengers, ["exponential smoothing"])\n'
)

EXAMPLES = {
    "allocation": HELD + "kd.plots.allocation(portfolio)",
    "backtest": HELD + 'kd.plots.backtest(portfolio.backtest("weighted", level=0.95))',
    "before_after": BEST
    + 'today = {"shipyard": 0.6, "wind_farm": 0.3, "grain_store": 0.1}\n'
    + "kd.plots.before_after(best.compare(against=today, seed=1))",
    "best_weights": BEST + "kd.plots.best_weights(best)",
    "bridge": FERRY
    + 'last_year = kd.load_model(kd.demo_file("night_ferry_last_year.toml"))\n'
    + 'kd.plots.bridge(kd.bridge(last_year, model, "net_value", trials=2_000, seed=1))',
    "cohort": 'chances = {"deck": {"mate": 0.1}, "mate": {}}\n'
    + 'crew = kd.Cohort(["deck", "mate"], {"deck": 60}, chances, remainder_state="same")\n'
    + "kd.plots.cohort(crew.simulate(10, 2_000, seed=1))",
    "comparison": FERRY
    + 'fares = {"dear": {"fare": 58}, "cheap": {"fare": 50}}\n'
    + 'kd.plots.comparison(model.compare(fares, 5_000, 1), "net_value")',
    "convergence": RUN + 'kd.plots.convergence(run, "net_value", "percentile", 5)',
    "correlation_map": RETURNS + "kd.plots.correlation_map(returns)",
    "decision": 'demand = kd.Event("demand", {"high": (0.4, 3.0e6), "low": (0.6, -1.0e6)})\n'
    + 'decision = kd.Decision("Second ferry", {"buy": demand, "wait": 0.0})\n'
    + "kd.plots.decision(decision.solve())",
    "density": "kd.plots.density(kd.Pert(17.5e6, 19e6, 26e6), between=(18e6, 22e6))",
    "diagnostics": OIL + "kd.plots.diagnostics(kd.diagnose(oil.pct_change().dropna()))",
    "distribution": RUN + 'kd.plots.distribution(run["net_value"])',
    "efficient_decisions": FARES
    + 'aims = ("mean net_value", "mean passengers")\n'
    + 'curve = model.frontier({"fare": (40, 75)}, aims[0], against=aims[1], trials=500, seed=1)\n'
    + "kd.plots.efficient_decisions(curve)",
    "fan": RUN + 'kd.plots.fan(run["cash_flow"])',
    "fans": FERRY
    + 'fares = {"dear": {"fare": 58}, "cheap": {"fare": 50}}\n'
    + 'model.outcome("by_year", "running_total(cash_flow)", unit="EUR")\n'
    + 'kd.plots.fans(model.compare(fares, 5_000, 1), "by_year")',
    "fitted_distributions": BILLS + "kd.plots.fitted_distributions(kd.fit_distributions(bills))",
    "frontier": FRONTIER + "kd.plots.frontier(curve)",
    "frontier_weights": FRONTIER + "kd.plots.frontier_weights(curve)",
    "goal": FERRY
    + 'goal = model.solve("fare", "net_value", within=(45, 65), mean=8e6, seed=1)\n'
    + "kd.plots.goal(goal)",
    "growth_against_drawdown": PATHS + "kd.plots.growth_against_drawdown(paths, per_year=12)",
    "max_drawdowns": PATHS + "kd.plots.max_drawdowns(kd.max_drawdown(paths))",
    "normality": BILLS + "kd.plots.normality(kd.normality(bills))",
    "optimum": FARES
    + 'aim = {"maximize": "mean net_value", "trials": 1_000, "seed": 1}\n'
    + 'kd.plots.optimum(model.optimize({"fare": (40, 75)}, **aim))',
    "paths_fan": PATHS + 'kd.plots.paths_fan(paths, above=120, name="gas price")',
    "policy": 'model = kd.load_model(kd.demo_file("second_ferry.toml"))\n'
    + 'kd.plots.policy(model.policy("value", trials=4_000, seed=1))',
    "portfolio_value": PRICES
    + 'held = {"shipyard": 400, "wind_farm": 900}\n'
    + 'portfolio = kd.Portfolio(prices, shares=held, as_of="2026-01-05")\n'
    + "kd.plots.portfolio_value(portfolio)",
    "prices_rebased": PRICES + "kd.plots.prices_rebased(prices)",
    "quantity": RUN + 'kd.plots.quantity(run, "cash_flow")',
    "resampled_weights": BEST + "kd.plots.resampled_weights(best.resampled(40, seed=1))",
    "return_periods": 'model = kd.load_model(kd.demo_file("vessel_claims.toml"))\n'
    + "run = model.simulate(5_000, seed=1)\n"
    + "kd.plots.return_periods(run[run.outcomes[0]])",
    "returns_through_time": RETURNS + "kd.plots.returns_through_time(returns)",
    "risk_levels": HELD + "kd.plots.risk_levels(portfolio.risk_table())",
    "robustness": FERRY
    + 'departed = model.robustness("net_value", trials=1_000, seed=1)\n'
    + "kd.plots.robustness(departed)",
    "rolling_correlation": RETURNS
    + 'kd.plots.rolling_correlation(returns.rolling_correlation("shipyard", "island_hotels"))',
    "rolling_risk": HELD + "kd.plots.rolling_risk(portfolio.rolling(250))",
    "scatter": FERRY
    + "trials = kd.read_trials(model.simulate(2_000, seed=1).to_frame())\n"
    + 'kd.plots.scatter(trials, "net_value", "rate_of_return")',
    "scatter_of": RUN + 'kd.plots.scatter_of(run.joint("net_value", "rate_of_return"))',
    "sensitivity": RUN + 'kd.plots.sensitivity(run, "net_value", "swing")',
    "series_fan": PASSENGERS + "kd.plots.series_fan(ranking)",
    "survival": 'model = kd.Model("Pump", periods=10)\n'
    + 'model.driver("life", kd.Weibull(2.0, 8.0))\n'
    + 'model.outcome("broken", "first_period(period > life)")\n'
    + 'kd.plots.survival(model.simulate(5_000, seed=1), "broken")',
    "sweep": FERRY + "swept = model.sweep(fare=[48, 51, 54, 57, 60], trials=1_000, seed=1)\n"
    "kd.plots.sweep(swept)",
    "track_record": 'record = kd.track_record(kd.demo_file("past_estimates.csv"))\n'
    + "kd.plots.track_record(record)",
    "underwater": PRICES + 'kd.plots.underwater(prices.frame["shipyard"])',
    "walk_forward": BEST + 'kd.plots.walk_forward(best.walk_forward("quarter", window=200))',
}


def draw(name: str, folder: Path) -> str:
    """Run an example, and return the name of the file with what it drew."""
    path = folder / "pictures" / f"plot-{name.replace('_', '-')}.png"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        plt.close("all")
        exec(BEGIN + EXAMPLES[name], {})
        plt.gcf().savefig(path, dpi=75)
        plt.close("all")
    return path.name
