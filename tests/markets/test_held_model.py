"""Tests of the run of a portfolio: drivers are the holdings' returns."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.markets.held_model import driver_names
from tests.common import HELD, PRICES, Case


class Runs(Case):
    def test_profit_is_that_of_the_returns(self):
        run = HELD.simulate(1, 3_000, seed=1, marginals="normal")
        self.assertEqual(run.drivers, PRICES.instruments)
        by_hand = sum(run[name].values * HELD.values[name] for name in run.drivers)
        np.testing.assert_allclose(run["profit"].values, by_hand)
        np.testing.assert_allclose(
            run["max_drawdown"].values, np.maximum(-by_hand / HELD.value, 0), atol=1e-15
        )
        sds = kd.markets.returns(PRICES).frame.std()
        self.assertAlmostEqual(run[PRICES.instruments[0]].sd / sds.iloc[0], 1, delta=0.05)
        sample = kd.markets.returns(PRICES).frame
        ranks = stats.spearmanr(run[run.drivers[0]].values, run[run.drivers[1]].values)[0]
        self.assertAlmostEqual(
            ranks, stats.spearmanr(sample.iloc[:, 0], sample.iloc[:, 1])[0], delta=0.03
        )

    def test_several_days(self):
        run = HELD.simulate(4, 500, seed=1, marginals="student", window=300)
        moves = np.stack([run.row(name).values for name in run.drivers])
        worth = (HELD.values.to_numpy()[:, None, None] * np.cumprod(1 + moves, axis=1)).sum(axis=0)
        np.testing.assert_allclose(run["profit"].values, worth[-1] - HELD.value)
        paths = np.vstack([np.full(500, HELD.value), worth])
        np.testing.assert_allclose(run["max_drawdown"].values, kd.max_drawdown(paths), atol=1e-12)

    def test_every_method_of_sensitivity(self):
        run = HELD.simulate(2, 2_000, seed=1, marginals="normal")
        largest = HELD.contributions(0.95, method="normal")["share"].idxmax()
        for method in ("rank", "regression", "swing", "conditional", "tail", "shapley"):
            options = {"evaluations": 16_384} if method == "shapley" else {}
            table = run.sensitivity("profit", method, **options)
            self.assertEqual((table.index[0], len(table)), (largest, 3), method)
        shares = run.sensitivity("profit", "shapley", evaluations=16_384)["share of variance"]
        self.assertAlmostEqual(shares.sum(), 1)
        cov = kd.markets.returns(PRICES).frame.cov().to_numpy()
        values = HELD.values.to_numpy()
        # of a linear profit with normal returns
        expected = values * (cov @ values) / (values @ cov @ values)
        np.testing.assert_allclose(shares[HELD.instruments], expected, atol=0.06)

    def test_given_marginals_and_wrong_input(self):
        given = dict.fromkeys(HELD.instruments, kd.Normal(0, 0.01))
        run = HELD.simulate(1, 2_000, seed=1, marginals=given, copula="t", df=4)
        self.assertAlmostEqual(run[HELD.instruments[0]].sd, 0.01, places=4)
        with self.fails("marginals need a distribution for"):
            HELD.simulate(1, 200, marginals={HELD.instruments[0]: kd.Normal(0, 1)})
        with self.fails("marginals must be one of"):
            HELD.simulate(1, 200, marginals="best")
        with self.fails("horizon"):
            HELD.simulate(0, 200)
        with self.fails("longer than the history"):
            HELD.simulate(1, 200, window=10_000)

    def test_names_that_a_model_cannot_use(self):
        self.assertEqual(
            driver_names(["A.B", "A B", "1x", "profit"]), ["A_B", "A_B_2", "x1x", "holding_profit"]
        )
        odd = [
            "class",
            "max",
            "return_a",
            "a",
            "value_a",
            "a-1",
        ]  # words of Python and of formulas, and the model's own
        self.assertEqual(
            driver_names(odd)[:5],
            ["holding_class", "holding_max", "holding_return_a", "a", "holding_value_a"],
        )
        rng = np.random.default_rng(1)
        frame = pd.DataFrame(
            100 * np.cumprod(1 + 0.01 * rng.standard_normal((60, 6)), axis=0), columns=odd
        )
        frame.insert(0, "date", pd.bdate_range("2027-01-01", periods=60).strftime("%Y-%m-%d"))
        run = kd.Portfolio(frame, shares=dict.fromkeys(odd, 1.0)).simulate(
            2, 300, seed=1, marginals="normal"
        )
        self.assertEqual(len(set(run.drivers)), 6)
        self.assertAlmostEqual(run.base["start_value"].item(), frame[odd].iloc[-1].sum())


class HistoryErrors(Case):
    def test_the_error_of_the_history_stands_before_that_of_the_draws(self):
        held = HELD
        table = held.simulate(trials=2000, seed=1).table().loc["profit"]
        self.assertLess(*(list(table.columns).index(c) for c in ("history error", "error")))
        gains = -held.losses()["loss"].to_numpy()
        root = np.sqrt(len(gains))
        self.assertAlmostEqual(
            table.loc["mean", "history error"] / (1.96 * gains.std() / root), 1, delta=0.2
        )
        share = (gains < 0).mean()
        of_share = 1.96 * np.sqrt(share * (1 - share)) / root
        self.assertAlmostEqual(
            table.loc["chance below 0", "history error"] / of_share, 1, delta=0.25
        )
        self.assertTrue(np.isnan(table.loc["lowest", "history error"]))
        self.assertGreater(table.loc["P5", "history error"], table.loc["P50", "history error"])
        longer = held.simulate(25, trials=2000, seed=1).table().loc["profit"]
        self.assertAlmostEqual(
            longer.loc["mean", "history error"] / table.loc["mean", "history error"], 25, delta=6
        )

    def test_before_and_after_tell_both(self):
        found = kd.allocate(HELD, minimize="sd")
        compared = found.compare(trials=3000, seed=1)
        table = compared.table()
        moves = kd.markets.returns(PRICES).frame[list(found.weights.index)].to_numpy()
        gap = moves @ (found.weights - found.today).to_numpy() * found.request.source.value
        wanted = 1.96 * gap.std() / np.sqrt(len(gap))
        self.assertAlmostEqual(table.loc["mean", "history error"] / wanted, 1, delta=0.2)
        reach = np.hypot(table["error"], table["history error"])
        np.testing.assert_allclose((table["high"] - table["low"]) / 2, reach, rtol=0.02)
        self.assertIn("cannot be told over 1 day", compared.verdict)
        moments = kd.Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["a", "b"])
        given = kd.allocate(moments, minimize="sd", today={"a": 0.5, "b": 0.5})
        stated = given.compare(trials=2000, seed=1)
        self.assertTrue(stated.table()["history error"].isna().all())
        self.assertIn("lowers the expected shortfall", stated.verdict)
