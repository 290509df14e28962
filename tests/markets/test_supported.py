"""One figure by the supported method, changes of holdings, and windows by dates."""

import math

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import HELD, PRICES, Case

LOSSES = HELD.losses()["loss"]


class Supported(Case):
    def test_the_first_in_order_that_nothing_contradicts_or_rejects(self):
        order = ["student", "filtered", "tail", "historical", "weighted", "normal"]
        names = ["Kupiec p-value", "independence p-value", "expected shortfall p-value"]
        generator = np.random.default_rng(8)
        clusters = np.exp(np.repeat(generator.normal(0, 0.8, 30), 30))
        for name, moves in (
            ("alike", stats.t(5).rvs(900, random_state=3)),
            ("clusters", clusters * generator.normal(size=900)),
        ):
            prices = 100 * np.exp(np.cumsum(0.01 * moves))
            dates = pd.bdate_range("2020-01-01", periods=900)
            held = kd.Portfolio(pd.DataFrame({"date": dates, "a": prices}), shares={"a": 1})
            found = held.supported_method(0.99)
            hardest = found.backtests[names].min(axis=1)
            doubts = {item: held.value_at_risk(0.99, item).doubt for item in order}
            if name == "clusters":
                order = ["filtered", *(item for item in order if item != "filtered")]
            free = [item for item in order if not doubts[item]] or order
            passed = [item for item in free if hardest[item] >= 0.05 / 3]
            with self.subTest(name):
                self.assertEqual(found.method, passed[0] if passed else hardest[free].idxmax())
                self.assertIn(f"p = {hardest[found.method]:.2g}", found.why)
                self.assertIn("each forecast from all days before it, at least 250", found.why)
        first = kd.Portfolio(PRICES, shares={"alpha": 1}).supported_method(0.99)
        self.assertNotEqual(first.method, "cornish fisher")

    def test_a_short_record_is_not_tested(self):
        short = kd.Portfolio(PRICES.frame.iloc[:120].reset_index(), shares={"alpha": 1})
        self.assertEqual(short.supported_method().method, "historical")
        self.assertIn("too few", short.supported_method().why)

    def test_back_tests_side_by_side_are_those_alone(self):
        table = HELD.backtests(window=250, level=0.99)
        for name in ("historical", "student"):
            alone = HELD.backtest(name, 250, 0.99)
            self.assertEqual(table.loc[name, "exceptions"], alone.exceptions)
            self.assertEqual(table.loc[name, "Kupiec p-value"], alone.kupiec.p_value)
            self.assertEqual(table.loc[name, "multiplier"], alone.multiplier)

    def test_the_multiplier_of_the_supervisors(self):
        published = {0: 3.0, 4: 3.0, 5: 3.4, 6: 3.5, 7: 3.65, 8: 3.75, 9: 3.85, 10: 4.0, 25: 4.0}
        for exceptions, multiplier in published.items():
            losses = np.r_[np.full(exceptions, 2.0), np.zeros(250 - exceptions)]
            before = np.full(30, 5.0)  # earlier exceptions do not count
            tested = kd.backtest(-np.r_[before, losses], 1.0, level=0.99)
            self.assertEqual(tested.multiplier, multiplier)
        self.assertTrue(math.isnan(kd.backtest(-np.zeros(200), 1.0, level=0.99).multiplier))
        self.assertTrue(math.isnan(kd.backtest(-np.zeros(300), 1.0, level=0.95).multiplier))


class Changes(Case):
    def test_a_change_is_that_of_the_portfolios(self):
        shares = HELD.shares.to_dict()
        more = kd.Portfolio(PRICES, shares={**shares, "gamma": shares.get("gamma", 0) + 50})
        for method in ("historical", "normal"):
            found = HELD.what_if({"gamma": 50}, 0.95, method)
            row = found.loc["value at risk"]
            self.assertAlmostEqual(row["before"], HELD.value_at_risk(0.95, method))
            self.assertAlmostEqual(row["after"], more.value_at_risk(0.95, method))
            self.assertTrue(row["low"] < row["difference"] < row["high"])
        closed = HELD.what_if({"alpha": -shares["alpha"]}, 0.95, "normal")
        left = {name: number for name, number in shares.items() if name != "alpha"}
        wanted = kd.Portfolio(PRICES, shares=left).value_at_risk(0.95, "normal")
        self.assertAlmostEqual(closed.loc["value at risk", "after"], wanted)

    def test_the_interval_is_that_of_the_history(self):
        found = HELD.what_if({"alpha": 30}, 0.95, "normal").loc["value at risk"]
        moves = PRICES.frame.pct_change().to_numpy()[1:]
        generator, values = np.random.default_rng(1), HELD.values.to_numpy()
        more = values + 30 * PRICES.frame.iloc[-1].to_numpy() * (
            np.array(PRICES.instruments) == "alpha"
        )
        z = stats.norm.ppf(0.95)
        gaps = []
        for _ in range(300):
            drawn = moves[generator.integers(0, len(moves), len(moves))]
            risks = [z * (drawn @ v).std(ddof=1) - (drawn @ v).mean() for v in (values, more)]
            gaps.append(risks[1] - risks[0])
        wanted = 1.96 * np.std(gaps)
        self.assertAlmostEqual((found["high"] - found["low"]) / 2 / wanted, 1, delta=0.25)

    def test_mistakes(self):
        for call, words in (
            (lambda: HELD.what_if({"alhpa": 3}), ("alhpa",)),
            (lambda: HELD.what_if({"alpha": "many"}), ("change of alpha",)),
            (lambda: HELD.what_if({"alpha": 3}, method="simulated"), ("another method",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Windows(Case):
    def test_dates_and_the_worst_stretch(self):
        dates = LOSSES.index
        text = f"{dates[100]:%Y-%m-%d}:{dates[299]:%Y-%m-%d}"
        figure = HELD.value_at_risk(0.95, window=text)
        self.assertAlmostEqual(
            float(figure), np.quantile(LOSSES.iloc[100:300], 0.95, method="weibull")
        )
        self.assertEqual((figure.returns, figure.first, figure.last), (200, dates[100], dates[299]))
        worst = HELD.value_at_risk(0.975, window="worst")
        stretches = np.lib.stride_tricks.sliding_window_view(LOSSES.to_numpy(), 250)
        self.assertAlmostEqual(
            float(worst), np.quantile(stretches, 0.975, axis=1, method="weibull").max()
        )
        table = HELD.risk_table([0.95], ["historical"], [None, text, "worst"])
        self.assertEqual(table.index.get_level_values("window").tolist(), ["all", text, "worst"])
        for window, words in (
            ("lately", ("'worst'",)),
            ("2001-01-01:2001-06-30", ("0 returns", "at least 8")),
            ("soon:later", ("a date such as",)),
        ):
            with self.subTest(window=window), self.fails(*words):
                HELD.value_at_risk(0.95, window=window)

    def test_no_stretch_is_worse_than_the_worst_by_the_method_and_level_asked_for(self):
        for seed in range(4):
            generator = np.random.default_rng(seed)
            swings = 0.01 * np.exp(np.cumsum(generator.normal(0, 0.06, 700)))
            prices = 100 * np.exp(np.cumsum(swings * generator.standard_t(5, 700)))
            dates = pd.bdate_range("2020-01-01", periods=700)
            held = kd.Portfolio(pd.DataFrame({"date": dates, "a": prices}), shares={"a": 1})
            ends = [f"{dates[i + 1]:%Y-%m-%d}:{dates[i + 250]:%Y-%m-%d}" for i in (0, 210, 449)]
            for method in ("historical", "filtered", "weighted", "normal", "tail"):
                with self.subTest(seed=seed, method=method):
                    table = held.risk_table([0.99, 0.95], [method], ["worst", *ends])
                    for level in (0.99, 0.95):
                        figures = table["value at risk"].xs(level, level="level")
                        self.assertEqual(figures.idxmax()[1], "worst")


class NotHeld(Case):
    def test_shocks_to_what_is_not_held_act_by_regression(self):
        held = kd.Portfolio(PRICES, shares={"alpha": 10})
        moves = PRICES.frame.pct_change().iloc[1:]
        slope = np.polyfit(moves["beta"], moves["alpha"], 1)[0]
        found = held.stress({"beta": -0.1})
        self.assertAlmostEqual(found.loc["alpha", "return"], -0.1 * slope)
        self.assertAlmostEqual(found.attrs["profit"], -0.1 * slope * held.value)
        self.assertEqual(found.loc["beta", "profit"], 0)

    def test_actual_profits(self):
        profits = pd.Series(-2 * LOSSES.to_numpy(), LOSSES.index)
        tested = HELD.backtest(actual=profits)
        np.testing.assert_allclose(tested.losses, 2 * LOSSES.to_numpy()[250:])
        with self.fails("dates as its index"):
            HELD.backtest(actual=profits.to_numpy())
