"""Positions that a function values: shocks go through the function, and time passes."""

import math

import numpy as np
import pandas as pd
from scipy.stats import norm

import kindynos as kd
from tests.common import PRICES, Case

TODAY = float(PRICES.frame["alpha"].iloc[-1])
VOLATILITY = 0.2


def option(price, days, strike=TODAY, put=False):
    """Return what a European option is worth at no rate of interest (Black and Scholes 1973)."""
    time = (60 - days) / 252
    reach = VOLATILITY * math.sqrt(time)
    first = np.log(price / strike) / reach + reach / 2
    call = price * norm.cdf(first) - strike * norm.cdf(first - reach)
    return call - price + strike if put else call


def straddle(prices, days):
    """Return what 100 short straddles are worth."""
    alpha = prices["alpha"]
    return -100 * (option(alpha, days) + option(alpha, days, put=True))


SHORT = kd.Portfolio(PRICES, revalue=straddle)


class Valued(Case):
    def test_shocks_go_through_the_function(self):
        table = SHORT.stress({"alpha": -0.2})
        lost = straddle({"alpha": np.array([0.8 * TODAY])}, 0)[0] - SHORT.value
        self.assertAlmostEqual(table.attrs["profit"], lost)
        self.assertAlmostEqual(table.loc["positions", "profit"], lost)
        self.assertLess(lost, -400)
        self.assertEqual(table.loc["alpha", "return"], -0.2)
        again = SHORT.replay(PRICES.dates[10], PRICES.dates[20])
        ratio = PRICES.frame["alpha"].iloc[20] / PRICES.frame["alpha"].iloc[10]
        self.assertAlmostEqual(
            again.attrs["profit"],
            straddle({"alpha": np.array([TODAY * ratio])}, 10)[0] - SHORT.value,
        )

    def test_time_passes(self):
        logs = np.log1p(PRICES.frame["alpha"].pct_change().to_numpy()[1:])
        generator = np.random.default_rng(1)
        for horizon in (1, 10):
            sums = generator.choice(logs, (horizon, 100_000)).sum(axis=0) if horizon > 1 else logs
            losses = SHORT.value - straddle({"alpha": TODAY * np.exp(sums)}, horizon)
            figure = SHORT.value_at_risk(0.95, horizon=horizon)
            self.assertAlmostEqual(float(figure) / np.quantile(losses, 0.95), 1, delta=0.03)
            self.assertGreater(float(figure), 0)
        self.assertIn("10 days drawn from them together", figure.description)
        long = kd.Portfolio(PRICES, revalue=lambda prices, days: -straddle(prices, days))
        calm = kd.Portfolio(PRICES, revalue=lambda prices: -straddle(prices, 0))
        self.assertGreater(long.value_at_risk(0.95), calm.value_at_risk(0.95))  # it wears off
        drawn = SHORT.value_at_risk(0.95, "simulated", horizon=10, trials=4000)
        self.assertAlmostEqual(float(drawn) / float(figure), 1, delta=0.25)
        ends = SHORT.paths(10, 500, seed=1)
        self.assertEqual(ends[0, 0], SHORT.value)
        self.assertGreater(np.median(ends[-1]), SHORT.value)  # who sold it earns by waiting

    def test_values_through_time(self):
        self.assertEqual(SHORT.history()["value"].tolist(), [SHORT.value])
        before = kd.Portfolio(PRICES, revalue=straddle, as_of=PRICES.dates[-6]).history()
        past = straddle({"alpha": PRICES.frame["alpha"].to_numpy()[-6:-5]}, -5)[0]
        self.assertAlmostEqual(before["value"].iloc[0], past)
        self.assertAlmostEqual(before["value"].iloc[-1], SHORT.value)

    def test_which_functions_take_the_days(self):
        strike = 2.0
        for revalue in (
            lambda prices: 2.0 * prices["alpha"],
            lambda prices, strike=strike: strike * prices["alpha"],
            lambda prices, days=0.0: 2.0 * prices["alpha"] + days,
            lambda prices, passed: 2.0 * prices["alpha"] + passed,
        ):
            held = kd.Portfolio(PRICES, revalue=revalue)
            gained = float(held.replay(PRICES.dates[10], PRICES.dates[15]).attrs["profit"])
            moved = 2 * TODAY * (PRICES.frame["alpha"].iloc[15] / PRICES.frame["alpha"].iloc[10])
            self.assertIn(round(gained - moved + 2 * TODAY, 6), (0, 5))
        monthly = kd.Portfolio(PRICES, revalue=lambda prices, days: prices["alpha"] * 0 - days)
        self.assertAlmostEqual(float(monthly.value_at_risk(0.9, every="month")), 21)

    def test_what_cannot_be_told_apart_is_refused(self):
        for call, words in (
            (SHORT.contributions, ("told apart by instrument",)),
            (SHORT.simulate, ("value_at_risk(level, 'simulated')",)),
            (lambda: kd.allocate(SHORT, minimize="sd"), ("no weights to choose",)),
        ):
            with self.fails(*words):
                call()


DAYS = pd.bdate_range("2024-01-01", periods=500).strftime("%Y-%m-%d")
YIELDS = 0.004 * np.sin(np.arange(500) / 40) + np.cumsum(
    np.random.default_rng(5).normal(0, 0.0004, 500)
)
RATES = pd.DataFrame(
    {"date": DAYS, "y10": YIELDS, "share": 50 * np.exp(np.cumsum(YIELDS - YIELDS.mean()))}
)


class Differences(Case):
    def test_rates_keep_their_days(self):
        self.assertLess(YIELDS.min(), 0)
        with self.assertWarnsRegex(kd.DataWarning, "changes are taken as differences"):
            found = kd.read_prices(RATES)
        stated = kd.read_prices(RATES, changes={"y10": "absolute"})
        for read in (found, stated):
            self.assertEqual((len(read.frame), read.changes), (500, {"y10": "absolute"}))
            self.assertNotIn("not above 0", read.problems["kind"].tolist())
        moves = kd.markets.returns(stated)
        np.testing.assert_allclose(moves.frame["y10"], np.diff(YIELDS))
        np.testing.assert_allclose(
            kd.markets.returns(stated, "log").frame["share"], np.diff(np.log(RATES["share"]))
        )
        with self.assertWarns(kd.DataWarning):
            taken = kd.read_prices(RATES, changes={"y10": "relative"})
        self.assertLess(len(taken.frame), 500)
        with self.fails("'absolut'", "must be one of"):
            kd.read_prices(RATES, changes={"y10": "absolut"})
        with self.fails("did you mean 'y10'"):
            kd.read_prices(RATES, changes={"y1": "absolute"})

    def test_a_value_near_0_is_proposed(self):
        near = RATES.assign(y10=np.abs(YIELDS) + 1e-6)
        with self.assertWarnsRegex(kd.DataWarning, r"comes near 0 .*changes={'y10': 'absolute'}"):
            read = kd.read_prices(near)
        self.assertEqual(read.changes, {})

    def test_figures_of_risk(self):
        read = kd.read_prices(RATES, changes={"y10": "absolute"})
        bond = kd.Portfolio(read, revalue=lambda prices: 1e6 * np.exp(-8 * prices["y10"]))
        worth = 1e6 * np.exp(-8 * (YIELDS[-1] + np.diff(YIELDS)))
        losses = bond.value - worth
        np.testing.assert_allclose(bond.losses()["loss"], losses)
        shocked = bond.stress({"y10": 0.01})
        gained = 1e6 * (np.exp(-8 * (YIELDS[-1] + 0.01)) - np.exp(-8 * YIELDS[-1]))
        self.assertAlmostEqual(shocked.attrs["profit"], gained)
        drawn = bond.value_at_risk(0.99, "simulated", trials=5000)
        self.assertAlmostEqual(float(drawn) / np.quantile(losses, 0.99), 1, delta=0.2)

        # Futures on such a value are held in numbers: a difference times the number.
        held = kd.Portfolio(read, shares={"y10": -1000, "share": 2}, short=True)
        own = (
            -1000 * np.diff(YIELDS)
            + 2 * RATES["share"].iloc[-1] * (RATES["share"].pct_change().to_numpy()[1:])
        )
        np.testing.assert_allclose(held.losses()["loss"], -own)
        parts = held.contributions(0.95)
        self.assertAlmostEqual(parts["component"].sum(), parts.attrs["total"])
        over = held.exposure().over(5)
        np.testing.assert_allclose(over.returns[:, 0], YIELDS[5:] - YIELDS[:-5])
        for process in ("bootstrap returns", "geometric brownian motion"):
            ahead = held.paths(1, 20_000, 1, process=process)
            self.assertAlmostEqual((ahead[1] - held.value).std() / own.std(), 1, delta=0.05)
        with self.fails("'simulated'"):
            held.simulate(trials=500)

    def test_stated_on_the_portfolio(self):
        with self.assertWarns(kd.DataWarning):
            near = kd.read_prices(RATES.assign(y10=np.abs(YIELDS) + 1e-6))
        held = kd.Portfolio(near, shares={"y10": 10}, changes={"y10": "absolute"})
        self.assertEqual(held.prices.changes, {"y10": "absolute"})
        self.assertAlmostEqual(held.losses()["loss"].iloc[0], -10 * np.diff(np.abs(YIELDS))[0])


class ShortBooks(Case):
    def setUp(self):
        frame = PRICES.frame.reset_index()
        frame["twin"] = frame["alpha"] * 2
        self.prices = kd.read_prices(frame)

    def test_figures_are_of_the_gross_exposure(self):
        short = kd.Portfolio(self.prices, shares={"alpha": -10}, short=True)
        self.assertEqual(
            (short.gross, short.base), (-short.value, (-short.value, "gross exposure"))
        )
        beside = short.against("alpha")
        self.assertAlmostEqual(beside["beta"], -1)
        self.assertEqual(beside.attrs["base"], "gross exposure")
        figure = short.value_at_risk(0.99)
        self.assertAlmostEqual(figure.fraction, float(figure) / short.gross)
        self.assertGreater(figure.fraction, 0)

    def test_a_book_that_costs_nothing(self):
        book = kd.Portfolio(self.prices, shares={"alpha": 2, "twin": -1}, short=True)
        self.assertAlmostEqual(book.value, 0)
        self.assertAlmostEqual(float(book.value_at_risk(0.99)), 0)
        hedged = kd.Portfolio(
            self.prices,
            shares={
                "alpha": 10,
                "beta": -book.prices.frame["alpha"].iloc[-1]
                * 10
                / self.prices.frame["beta"].iloc[-1],
            },
            short=True,
        )
        self.assertAlmostEqual(hedged.value, 0)
        gains = -hedged.losses()["loss"].to_numpy() / hedged.gross
        alpha = self.prices.frame["alpha"].pct_change().to_numpy()[1:]
        slope = np.cov(gains, alpha)[0, 1] / alpha.var(ddof=1)
        self.assertAlmostEqual(float(hedged.against("alpha")["beta"]), slope)
        table = hedged.risk_table([0.99], ["historical", "normal"])
        self.assertTrue(np.isfinite(table["value at risk %"]).all())


class Replays(Case):
    def test_the_last_price_at_or_before_each_end_counts(self):
        frame = PRICES.frame.reset_index()
        frame.loc[20, "beta"] = np.nan
        held = kd.Portfolio(kd.read_prices(frame), shares={"alpha": 10, "beta": 5})
        dates, prices = PRICES.dates, PRICES.frame
        into = held.replay(dates[19], dates[20])
        self.assertAlmostEqual(
            into.loc["alpha", "return"], prices["alpha"].iloc[20] / prices["alpha"].iloc[19] - 1
        )
        self.assertEqual(into.loc["beta", "return"], 0)
        out = held.replay(dates[20], dates[21])
        self.assertAlmostEqual(
            out.loc["beta", "return"], prices["beta"].iloc[21] / prices["beta"].iloc[19] - 1
        )
        self.assertAlmostEqual(
            out.loc["alpha", "return"], prices["alpha"].iloc[21] / prices["alpha"].iloc[20] - 1
        )
        for one, other in ((1, 2), (5, 9)):  # two steps make the whole way
            parts = [
                held.replay(dates[20 - one], dates[20]),
                held.replay(dates[20], dates[20 + other]),
            ]
            whole = held.replay(dates[20 - one], dates[20 + other])
            product = (1 + parts[0]["return"]) * (1 + parts[1]["return"]) - 1
            np.testing.assert_allclose(product, whole["return"])
