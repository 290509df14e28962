"""Tests of portfolio."""

import copy
import pickle

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import PRICES, Case, made


class Holding(Case):
    def test_weights_drift_or_are_set_back(self):
        weights = {"alpha": 0.5, "gamma": 0.5}
        left = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02")
        growth = (PRICES.frame.iloc[-1] / PRICES.frame.loc["2026-03-02"])[["alpha", "gamma"]]
        self.assertAlmostEqual(left.value, 5e5 * growth.sum())
        np.testing.assert_allclose(left.weights, growth / growth.sum())
        daily = kd.Portfolio(
            PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="daily"
        )
        np.testing.assert_allclose(daily.weights, 0.5)
        mean = PRICES.frame[["alpha", "gamma"]].pct_change().loc["2026-03-03":].mean(axis=1)
        self.assertAlmostEqual(daily.value, 1e6 * (1 + mean).prod(), 2)
        monthly = kd.Portfolio(
            PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="monthly"
        ).history()
        month = monthly.index.to_period("M")
        np.testing.assert_allclose(monthly["alpha"][1:][month[1:] != month[:-1]], 0.5)
        self.assertGreater(np.ptp(monthly["alpha"]), 0.01)
        self.assertEqual(kd.Portfolio(PRICES, weights=weights, value=5.0).value, 5.0)

    def test_mistakes(self):
        for options, words in (
            ({}, ("one of them (or positions=)",)),
            ({"shares": {"alpha": 1}, "weights": {"alpha": 1}}, ("one of them",)),
            ({"shares": {"alhpa": 1}}, ("did you mean 'alpha'",)),
            ({"weights": {"alpha": 0.5, "beta": 0.4}, "value": 1}, ("add up to 0.9",)),
            ({"weights": {"alpha": 1.5, "beta": -0.5}, "value": 1}, ("short=True",)),
            ({"shares": {"alpha": 1}, "value": 3}, ("value=",)),
            ({"shares": {"alpha": 1}, "as_of": "2020-01-01"}, ("not a date with prices",)),
            ({"weights": {"alpha": 1.0}, "rebalance": "yearly"}, ("rebalance",)),
            ({"shares": {}}, ("nothing",)),
            ({"shares": {"alpha": 0, "beta": 0}}, ("nothing",)),
            ({"shares": {"alpha": 1}, "as_of": "soon"}, ("as_of", "2027-12-31", "'soon'")),
            ({"weights": {"alpha": 60, "beta": 40}, "value": 1}, ("add up to 100", "0.6 for 60 %")),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.Portfolio(PRICES, **options)

    def test_a_table_of_prices_will_do(self):
        frame = made(60)
        self.assertEqual(kd.Portfolio(frame, shares={"alpha": 1}).value, frame["alpha"].iloc[-1])
        np.testing.assert_allclose(
            kd.markets.returns(frame).frame, kd.markets.returns(kd.read_prices(frame)).frame
        )
        with self.fails("prices", "DataFrame"):
            kd.Portfolio([1, 2], shares={"alpha": 1})

    def test_positions_that_are_worth_nothing_together(self):
        last = PRICES.frame.iloc[-1]
        held = kd.Portfolio(
            PRICES, shares={"alpha": last["beta"], "beta": -last["alpha"]}, short=True
        )
        figure = held.value_at_risk(0.95)
        self.assertGreater(figure, 0)
        self.assertAlmostEqual(figure.fraction, float(figure) / held.gross)
        with self.fails("add up to nothing"):
            _ = held.weights

    def test_amounts_of_money(self):
        held = kd.Portfolio(PRICES, amounts={"alpha": 600.0, "beta": 400.0})
        self.assertAlmostEqual(held.value, 1000)
        self.assertAlmostEqual(held.shares["alpha"], 600 / PRICES.frame["alpha"].iloc[-1])
        with self.fails("amounts have their value by the prices"):
            kd.Portfolio(PRICES, amounts={"alpha": 600.0}, value=5.0)
        with self.fails("one of them"):
            kd.Portfolio(PRICES, amounts={"alpha": 600.0}, shares={"beta": 1})

    def test_too_few_prices_for_any_figure(self):
        with self.fails("3 returns are too few"):
            kd.Portfolio(made(40).iloc[:4], shares={"alpha": 1}).value_at_risk(0.99)
        figure = kd.Portfolio(made(40).iloc[:20], shares={"alpha": 1}).value_at_risk(0.99)
        self.assertEqual(figure.high, np.inf)

    def test_facts_of_a_figure_survive_copying(self):
        figure = kd.Portfolio(PRICES, shares={"alpha": 1}).value_at_risk(0.95, "normal")
        for again in (pickle.loads(pickle.dumps(figure)), copy.copy(figure), copy.deepcopy(figure)):
            self.assertEqual((float(again), vars(again)), (float(figure), vars(figure)))


class TableSpec(Case):
    def test_beside_a_benchmark(self):
        rng = np.random.default_rng(1)
        index = 0.01 * rng.standard_normal(600)
        own = 0.0003 + 1.3 * index + 0.005 * rng.standard_normal(600)
        frame = made(601)[["date"]].assign(
            index=50 * np.cumprod(np.r_[1, 1 + index]), own=20 * np.cumprod(np.r_[1, 1 + own])
        )
        held = kd.Portfolio(frame, shares={"own": 10})
        found = held.against("index")
        line = stats.linregress(index, own)
        self.assertAlmostEqual(found["beta"], line.slope)
        self.assertAlmostEqual(found["alpha a year"], 252 * line.intercept)
        self.assertAlmostEqual(
            found["beta"].error / (stats.t.ppf(0.975, 598) * line.stderr), 1, delta=0.15
        )
        self.assertAlmostEqual(
            found["tracking error a year"], np.std(own - index, ddof=1) * 252**0.5
        )
        self.assertTrue(found["beta"].low < 1.3 < found["beta"].high)
        self.assertAlmostEqual(found["correlation"], line.rvalue)
        interval = stats.pearsonr(index, own).confidence_interval()
        self.assertAlmostEqual(found["correlation"].low, interval.low, delta=0.001)
        table = kd.markets.returns(frame).against("index")
        self.assertAlmostEqual(table.loc["own", "beta"], line.slope)
        np.testing.assert_allclose(
            kd.markets.returns(frame).excess("index").frame["own"], own - index, atol=1e-12
        )
        with self.fails("did you mean 'index'"):
            held.against("indx")

    def test_risk_and_correlation_through_time(self):
        held = kd.Portfolio(PRICES, shares={"alpha": 10, "beta": 5})
        table = held.rolling(100, 0.95)
        windows = np.lib.stride_tricks.sliding_window_view(held.exposure().losses, 100)
        np.testing.assert_allclose(
            table["value at risk"], np.quantile(windows, 0.95, axis=1, method="weibull")
        )
        found = kd.markets.returns(PRICES).rolling_correlation("alpha", "beta", 60)
        by_hand = PRICES.frame.pct_change().iloc[1:]
        np.testing.assert_allclose(
            found, by_hand["alpha"].rolling(60).corr(by_hand["beta"]).dropna()
        )
        for call, words in (
            (lambda: held.rolling(5000), ("window 5000",)),
            (lambda: held.rolling(100, method="simulated"), ("day by day",)),
            (
                lambda: kd.markets.returns(PRICES).rolling_correlation("alpha", "bet"),
                ("did you mean 'beta'",),
            ),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()

    def test_other_currencies(self):
        frame = made(100).assign(NOK=np.linspace(0.08, 0.1, 100))
        held = kd.Portfolio(frame, shares={"alpha": 10, "beta": 5}, currency={"beta": "NOK"})
        last = frame.iloc[-1]
        self.assertAlmostEqual(held.value, 10 * last["alpha"] + 5 * last["beta"] * 0.1)
        own = kd.Portfolio(
            frame.assign(beta=frame["beta"] * frame["NOK"]), shares={"alpha": 10, "beta": 5}
        )
        self.assertAlmostEqual(held.value_at_risk(0.95), own.value_at_risk(0.95))
        with self.fails("did you mean 'NOK'"):
            kd.Portfolio(frame, shares={"beta": 5}, currency={"beta": "NOKK"})

    def test_a_shock_is_a_move_in_the_own_market(self):
        rng = np.random.default_rng(3)
        frame = made(300).assign(USD=0.9 * np.exp(np.cumsum(rng.normal(0, 0.005, 300))))
        held = kd.Portfolio(frame, shares={"alpha": 10, "beta": 5}, currency={"alpha": "USD"})
        both = held.stress({"alpha": -0.2, "USD": -0.1})
        self.assertAlmostEqual(both.loc["alpha", "return"], 0.8 * 0.9 - 1)
        self.assertAlmostEqual(both.loc["alpha", "own market"], -0.2)
        self.assertAlmostEqual(both.loc["alpha", "exchange rate"], -0.1)
        worth = 10 * frame["alpha"].iloc[-1] * frame["USD"].iloc[-1]
        self.assertAlmostEqual(both.loc["alpha", "profit"], worth * (0.8 * 0.9 - 1))
        # alone, the exchange rate follows by its regression on the price in its own market
        alone = held.stress({"alpha": -0.2}).loc["alpha"]
        moves = frame[["alpha", "USD"]].pct_change().dropna()
        slope = moves.cov().loc["alpha", "USD"] / moves["alpha"].var()
        self.assertAlmostEqual(alone["exchange rate"], -0.2 * slope)
        self.assertAlmostEqual(alone["return"], 0.8 * (1 - 0.2 * slope) - 1)

    def test_the_root_of_time_is_doubted_where_returns_are_correlated(self):
        rng = np.random.default_rng(5)
        shocks = rng.normal(0, 0.01, 900)
        smoothed = np.convolve(shocks, [0.6, 0.3, 0.1], mode="valid")  # appraised values
        for moves, doubted in ((smoothed, True), (shocks, False)):
            prices = 100 * np.exp(np.cumsum(np.r_[0, moves]))
            dates = pd.bdate_range("2022-01-03", periods=len(prices))
            held = kd.Portfolio(pd.DataFrame({"date": dates, "fund": prices}), shares={"fund": 9})
            figure = held.value_at_risk(0.99, "student", horizon=10)
            self.assertEqual("correlated" in figure.doubt, doubted)
            self.assertNotIn("correlated", held.value_at_risk(0.99, "student").doubt)
            whole = held.value_at_risk(0.99, "historical", horizon=10, overlapping=True)
            self.assertNotIn("correlated", whole.doubt)
            if doubted:
                self.assertIn(f"a value at risk of {float(whole):,.0f} at 99 %", figure.doubt)

    def test_positions_that_a_function_values(self):
        today = PRICES.frame["alpha"].iloc[-1]
        linear = kd.Portfolio(
            PRICES, positions={"both": lambda prices: 10 * prices["alpha"] + 5 * prices["beta"]}
        )
        plain = kd.Portfolio(PRICES, shares={"alpha": 10, "beta": 5})
        self.assertAlmostEqual(linear.value, plain.value)
        for method in ("historical", "filtered", "tail", "normal"):
            self.assertAlmostEqual(
                linear.value_at_risk(0.95, method), plain.value_at_risk(0.95, method), 6
            )
        marginals = {name: kd.Normal(0, 0.01) for name in PRICES.instruments}
        drawn = [
            held.value_at_risk(0.95, "simulated", marginals=marginals) for held in (linear, plain)
        ]
        self.assertLess(abs(drawn[0] - drawn[1]), drawn[0].error)
        put = kd.Portfolio(
            PRICES,
            positions={
                "insured": lambda prices: (
                    10 * prices["alpha"] + 10 * np.maximum(today - prices["alpha"], 0)
                )
            },
        )
        self.assertAlmostEqual(put.value_at_risk(0.99), 0)  # what it insures cannot be lost
        for method in ("filtered", "weighted", "cornish fisher"):
            put.value_at_risk(0.99, method, horizon=10)  # a loss of 0 is a figure too
        self.assertAlmostEqual(put.paths(5, 50, seed=1).min(), put.value)
        with self.fails("one of them"):
            kd.Portfolio(PRICES, shares={"alpha": 1}, positions={"a": lambda prices: 1.0})

    def test_uncertain_paths_are_wider_by_the_error_of_the_history(self):
        # of a geometric Brownian motion: the mean log return of n has the variance v / n, so that
        # the end after h periods has h v + h² v / n instead of h v, in blocks about as much
        for process in ("geometric brownian motion", "bootstrap returns"):
            held = kd.Portfolio(made(250), shares={"alpha": 10})
            certain, wide = (
                np.log(held.paths(125, 4_000, 1, process=process, uncertain=uncertain)[-1])
                for uncertain in (False, True)
            )
            self.assertAlmostEqual(np.var(wide) / np.var(certain), 1.5, delta=0.3)
            self.assertAlmostEqual(np.mean(wide), np.mean(certain), delta=0.05)

    def test_paths_of_the_value(self):
        held = kd.Portfolio(PRICES, shares={"alpha": 10, "beta": 5})
        daily = held.exposure().losses / held.value
        for process in ("bootstrap returns", "geometric brownian motion"):
            made_paths = held.paths(1, 40_000, seed=2, process=process)
            self.assertTrue((made_paths[0] == held.value).all())
            self.assertAlmostEqual((made_paths[1] / held.value).std() / daily.std(), 1, delta=0.03)
        with self.fails("process"):
            held.paths(5, 5, seed=1, process="random")
        with self.fails("periods"):
            held.paths(b"x", 5, seed=1)
