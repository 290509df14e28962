"""The sentences that reports begin with and reviews find, over cases of every kind, as one text.

``python -m tests.reports.sentences`` writes ``sentences.txt``, which is meant to be read: each line
should be one that a native speaker would write.
"""

import warnings
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.model.review import review
from kindynos.reports.showing import report_of

WRITTEN = Path(__file__).with_name("sentences.txt")
TRIALS, SEED = 2_000, 1


def outcomes() -> Iterator[tuple[str, kd.Model]]:
    """Yield a model for each kind of outcome."""
    for label, formula, options in (
        ("an amount", "1e6 * x + 7e6", {"unit": "EUR", "target": 6e6}),
        ("a small amount", "x + 3", {"unit": "EUR a ticket"}),
        ("a cost", "x + 100", {"unit": "EUR", "better": "low", "target": 102}),
        ("a rate", "0.01 * x + 0.08", {"unit": "% a year", "target": 0.07}),
        ("a share", "0.01 * x + 0.5", {"unit": "share of seats"}),
        ("a count", "round(10 * x + 50)", {"unit": "ships"}),
        ("a condition", "x > 1", {}),
        ("often without a value", "sqrt(x)", {"target": 1}),
        ("hardly ever above 0", "max(x - 3.2, 0)", {"unit": "EUR"}),
        ("never above 0", "max(x - 9, 0)", {"unit": "EUR", "target": 1}),
        ("the same in every trial", "0 * x + 5", {"unit": "EUR"}),
        ("infinite in half of the trials", "(1e308 * 10) if x > 0 else 3", {}),
        ("without a value in any trial", "log(-1 - x * x)", {}),
        ("a row", "x + 3 + period", {"unit": "EUR"}),
    ):
        periods = {"periods": 3, "start": 2030} if label == "a row" else {}
        model = kd.Model("Case", **periods)
        model.driver("x", kd.Normal(0, 1), unit="points")
        model.driver("other_driver", kd.Uniform(0, 1))
        model.outcome("result", f"{formula} + 0 * other_driver", **options)
        yield label, model


def models() -> Iterator[tuple[str, kd.Model]]:
    """Yield models with something to be said of what they are made of."""
    works = kd.Model("Works")
    works.driver("strike", kd.EventImpact(0.1, kd.Normal(30, 5)))
    works.driver("fire", kd.EventImpact(0.02, kd.Normal(60, 9)))
    works.driver("works", kd.Normal(100, 10))
    works.outcome("cost", "works + strike + fire", unit="EUR", better="low", target=130)
    yield "risk events", works
    linked = kd.Model("Linked")
    for name in ("oil", "power", "gas"):
        linked.driver(name, kd.Normal(50, 8))
    linked.correlate("oil", "power", 0.8)
    linked.outcome("bill", "oil + power + gas", unit="EUR")
    yield "drivers that move together", linked
    held = kd.Model("Held", periods=4)
    held.driver("earned", kd.Normal(0.02, 0.05), each="period")
    held.line("balance", "100 * grow(earned)")
    held.outcome("last_balance", "last(balance)", unit="EUR", target=100)
    held.must_hold("solvent", "balance > 99")
    yield "a condition that must hold", held


def mistakes() -> Iterator[tuple[str, kd.Model]]:
    """Yield models with what a review finds, one kind in each."""
    rate = kd.Model("Rate")
    rate.given(hurdle=8.0, fare=50)
    rate.driver("growth", kd.Normal(2, 0.5), unit="% a year")
    rate.outcome("value", "fare * (1 + growth) / (1 + hurdle)")
    yield "rates typed as percentages", rate
    wide = kd.Model("Wide")
    wide.driver("price", kd.Normal(10, 40), unit="EUR")
    wide.driver("share_sold", kd.Normal(0.9, 0.2), unit="share of seats")
    wide.driver("unused", kd.Normal(1, 0.1))
    wide.outcome("sales", "price * share_sold", unit="EUR")
    yield "distributions out of proportion", wide
    units = kd.Model("Units")
    units.given("days", 250, unit="days a year")
    units.given("fixed", 40_000, unit="EUR a year")
    units.driver("cups", kd.Normal(100, 9), unit="cups a day")
    units.driver("price", kd.Normal(3, 0.1), unit="EUR a cup")
    units.driver("cost", kd.Normal(1, 0.1), unit="USD a cup")
    units.outcome("profit", "cups * (price - cost) - fixed + 0 * days", unit="EUR a year")
    yield "units that do not fit", units
    monthly = kd.Model("Monthly", periods=12, start="2030-01", every="month")
    monthly.driver("growth", kd.Normal(0.06, 0.01), unit="% a year")
    monthly.line("sales", "100 * grow(growth)", unit="EUR a month")
    monthly.outcome("total_sales", "total(sales)", unit="EUR")
    yield "a yearly rate in a monthly model", monthly
    target = kd.Model("Target")
    target.driver("x", kd.Normal(0.1, 0.02))
    target.outcome("rate_of_return", "x", unit="% a year", target=9)
    target.driver("lonely", kd.Normal(1, 0.2), base=9)
    yield "a target typed as a percentage", target
    nothing = kd.Model("Nothing")
    nothing.driver("x", kd.Normal(1, 0.1))
    nothing.line("twice", "2 * x")
    yield "no outcome", nothing


def prices() -> pd.DataFrame:
    """Return prices of three instruments with a late listing."""
    moves = np.random.default_rng(3).standard_t(5, (600, 3)) * 0.01
    dates = pd.bdate_range("2028-01-03", periods=600, name="date")
    frame = pd.DataFrame(100 * np.exp(moves.cumsum(axis=0)), dates, ["bond", "ferry", "hotel"])
    frame.loc[: frame.index[60], "hotel"] = np.nan
    return frame.reset_index()


def results() -> Iterator[tuple[str, object]]:
    """Yield a result of every kind that has an answer."""
    for label, model in [*outcomes(), *models()]:
        run = model.simulate(TRIALS, SEED)
        yield f"model: {label}", model
        yield f"run: {label}", run
        if label in ("an amount", "a rate", "a condition that must hold"):
            yield f"summary: {label}", model.simulate(100_000, SEED, store="summary")
        if label in dict(outcomes()) and label not in ("a row", "without a value in any trial"):
            changed = {"as stated": {}, "wider": {"x.sd": 1.5}, "as before": {}}
            yield f"comparison: {label}", model.compare(changed, trials=TRIALS, seed=SEED)
    plain = kd.Model("Plain")
    plain.given("fare", 50, unit="EUR")
    plain.driver("x", kd.Normal(0, 10))
    plain.outcome("gain", "1e5 * (fare - 45) + 1e5 * x", unit="EUR")
    yield "sweep", plain.sweep(fare=[40, 50, 60])
    fares = plain.sweep(fare=[50, 50.01], statistic="mean", trials=TRIALS, seed=SEED)
    yield "sweep, alike", fares
    options = {"trials": TRIALS, "seed": SEED}
    yield "goal", plain.solve("fare", "gain", mean=0, within=(30, 60), **options)
    yield (
        "goal, chance",
        plain.solve("fare", "gain", chance=0.9, above=0, within=(30, 90), **options),
    )
    yield "read", kd.read_trials(pd.DataFrame({"result": plain.simulate(500, 1)["gain"].values}))
    lease = kd.load_decision(kd.demo_file("lease_or_buy.toml"))
    yield "decision", lease.solve(trials=TRIALS)
    yield "decision, percentile", lease.solve("percentile", level=0.1, trials=TRIALS)
    held = kd.Portfolio(kd.read_prices(prices()), shares={"bond": 10, "ferry": 20, "hotel": 5})
    yield "risk", held
    yield "back-test", held.backtest("normal", 250, 0.99)
    yield "allocation", kd.allocate(held)
    values = np.random.default_rng(1).gamma(3, 2, 60)
    yield "distributions", kd.fit_distributions(values)
    months = pd.period_range("2028-01", periods=48, freq="M").to_timestamp()
    sales = pd.Series(
        100 + np.random.default_rng(2).normal(0, 3, 48).cumsum(), months, name="sales"
    )
    yield "forecast", kd.forecast(sales, rolling=False, seed=SEED)


def sentences() -> str:
    """Return all sentences, with what they are of."""
    lines = []
    with warnings.catch_warnings(action="ignore"):
        for label, result in results():
            said = report_of(result).answer
            lines += [f"# {label}", *(said or ["(no answer)"]), ""]
        for label, model in [*mistakes(), *models()]:
            found = review(model.compiled())
            lines += [f"# review: {label}", *(f"{item.name}: {item.text}" for item in found), ""]
    return "\n".join(lines)


if __name__ == "__main__":
    WRITTEN.write_text(sentences(), encoding="utf-8")
