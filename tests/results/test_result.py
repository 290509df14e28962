"""Tests of result."""

import json
import math
import pickle

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case, investment


def additive() -> kd.Model:
    model = kd.Model("additive")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2", target=25)
    return model


class Reading(Case):
    @classmethod
    def setUpClass(cls):
        cls.run_ = investment().simulate(20_000, seed=7)
        cls.value = cls.run_["net_value"]
        annuity = float(kd.npv(0.1, [1.0] * 5))
        cls.truth = stats.norm(90 * annuity - 300, 10 * annuity)

    def assert_covers(self, estimate, truth):
        reach = 2.5 * estimate.error  # about five standard errors
        self.assertGreater(estimate.error, 0)
        self.assertLess(abs(estimate - truth), reach)

    def test_statistics_agree_with_the_normal_law(self):
        self.assert_covers(self.value.mean, self.truth.mean())
        self.assert_covers(self.value.sd, self.truth.std())
        self.assert_covers(self.value.median, self.truth.median())
        self.assertAlmostEqual(self.value.skewness, 0, delta=0.05)
        self.assertAlmostEqual(self.value.mode, self.truth.mean(), delta=self.truth.std() / 2)
        for q in (1, 5, 50, 99):
            self.assert_covers(self.value.percentile(q), self.truth.ppf(q / 100))
        self.assert_covers(self.value.chance(below=0), self.truth.cdf(0))
        self.assert_covers(
            self.value.chance(above=20, below=60), self.truth.cdf(60) - self.truth.cdf(20)
        )
        self.assert_covers(self.value.value_at_risk(0.95), -self.truth.ppf(0.05))
        self.assert_covers(
            self.value.value_at_risk(0.95, reference=100), 100 - self.truth.ppf(0.05)
        )
        shortfall = -(
            self.truth.mean() - self.truth.std() * stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05
        )
        self.assert_covers(self.value.expected_shortfall(0.95), shortfall)
        self.assert_covers(self.value.percentile_of(10), 100 * self.truth.cdf(10))
        low, high = self.value.central_range(0.80)
        self.assert_covers(low, self.truth.ppf(0.1))
        self.assert_covers(high, self.truth.ppf(0.9))

    def test_product_of_lognormals(self):
        model = kd.Model("product")
        model.driver("a", kd.LogNormal.from_log(1, 0.3))
        model.driver("b", kd.LogNormal.from_log(0, 0.4))
        model.outcome("y", "a * b")
        for sampling in ("latin", "random"):
            y, truth = (
                model.simulate(20_000, seed=2, sampling=sampling)["y"],
                stats.lognorm(0.5, scale=math.e),
            )
            self.assert_covers(y.mean, truth.mean())
            self.assert_covers(y.sd, truth.std())
            self.assert_covers(y.percentile(95), truth.ppf(0.95))

    def test_definitions_on_the_values(self):
        values = self.value.values
        self.assertEqual(self.value.percentile(5), np.percentile(values, 5))
        self.assertAlmostEqual(self.value.sd, values.std(ddof=1), places=9)
        self.assertEqual(self.value.lowest, values.min())
        self.assertIn("lowest of 20,000 trials", self.value.lowest.note)
        self.assertEqual(self.value.chance(below=0), np.mean(values < 0))
        self.assertEqual(self.value.chance(at=values[3]), 1 / 20_000)
        tail = np.sort(-values)[-1000:]
        self.assertAlmostEqual(self.value.expected_shortfall(0.95), tail.mean(), delta=0.01)

    def test_estimates_behave_as_floats(self):
        mean = self.value.mean
        self.assertEqual(mean.value, float(mean))
        self.assertEqual(f"{mean:.2f}", f"{float(mean):.2f}")
        self.assertLess(mean.low, mean)
        self.assertAlmostEqual(mean.error, (mean.high - mean.low) / 2)
        np.testing.assert_allclose((2 * mean - 1).low, 2 * mean.low - 1)
        self.assertIs(type(mean * mean), float)
        self.assertEqual(json.loads(json.dumps(mean)), float(mean))
        self.assertEqual(pd.Series([mean, self.value.sd]).dtype, np.float64)
        self.assertEqual(max(mean, 0.0), max(float(mean), 0.0))
        several = self.value.percentile([5, 50, 95])
        self.assertEqual(several.shape, (3,))
        self.assertEqual(several[1], self.value.median)
        self.assertEqual(several[1].low, several.low[1])
        self.assertIs(type(several * 2), np.ndarray)
        for thing in (mean, several):
            again = pickle.loads(pickle.dumps(thing))
            np.testing.assert_array_equal([again.low, again.high], [thing.low, thing.high])

    def test_errors_by_name(self):
        self.assertEqual(self.value.statistic("mean").error, self.value.mean.error)
        self.assertEqual(
            self.value.statistic("percentile", 5).error, self.value.percentile(5).error
        )
        self.assertEqual(
            self.value.statistic("chance", below=0).error, self.value.chance(below=0).error
        )
        with self.fails("'men'", "did you mean 'mean'?"):
            self.value.statistic("men")

    def test_few_trials_have_no_error(self):
        few = investment().simulate(150, seed=1)["net_value"]
        self.assertTrue(math.isnan(few.mean.error) and math.isnan(few.chance(below=0).error))
        enough = investment().simulate(200, seed=1)["net_value"]
        self.assertGreater(enough.mean.error, 0)

    def test_no_hits_in_antithetic_pairs_bound_what_pairs_can_tell(self):
        # an event that both trials of a pair have: nothing in 500 pairs says as much as in 500
        model = kd.Model("Pairs")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("far", "abs(x) > 6")
        bounds = {
            plan: model.simulate(1000, seed=1, sampling=plan)["far"].chance(above=0.5).high
            for plan in ("random", "antithetic")
        }
        self.assertAlmostEqual(bounds["random"], 1.96**2 / (1000 + 1.96**2), 4)
        self.assertAlmostEqual(bounds["antithetic"], 1.96**2 / (500 + 1.96**2), 4)

    def test_no_hits_never_means_no_error(self):
        never = self.value.chance(below=-1e9)
        self.assertEqual((never, never.low), (0, 0))
        self.assertGreater(never.high, 1e-4)

    def test_rows_give_all_per_period(self):
        row = self.run_["cash_flow"]
        self.assertEqual(row.mean.shape, (5,))
        self.assertEqual(row.percentile([5, 95]).shape, (2, 5))
        self.assertEqual(row.percentile([5, 95]).low.shape, (2, 5))
        self.assertEqual(row.statistic("mean").error.shape, (5,))
        self.assertIsInstance(row.mean[2], kd.Estimate)
        np.testing.assert_allclose(
            row.values, np.broadcast_to(self.run_["flow"].values, (5, 20_000))
        )

    def test_table(self):
        table = self.run_.table()
        self.assertEqual(table.loc[("net_value", "mean"), "value"], self.value.mean)
        self.assertEqual(table.loc[("net_value", "P5"), "error"], self.value.percentile(5).error)
        self.assertAlmostEqual(table.loc[("net_value", "base case"), "value"], self.truth.mean())
        self.assertAlmostEqual(
            table.loc[("net_value", "base case percentile"), "value"], 50, delta=1
        )
        sides = [
            table.loc[("net_value", f"chance {side} 0"), "value"] for side in ("below", "above")
        ]
        self.assertAlmostEqual(sum(sides), 1)

    def test_trials_and_single_trials(self):
        frame = self.run_.to_frame()
        self.assertEqual(list(frame.columns), ["flow", "net_value"])
        self.assertEqual(len(frame), 20_000)
        kept = investment().simulate(300, seed=7, keep="cash_flow").to_frame()
        self.assertIn("cash_flow 2031", kept.columns)
        for number in (0, 7, 11_111, 19_999):
            sheet = self.run_.trial(number)
            self.assertEqual(sheet.loc["net_value", "value"], self.value.values[number])
            self.assertEqual(sheet.loc["cash_flow", "2032"], sheet.loc["flow", "value"])
        with self.fails("there is no trial 20,000", "0 to 19,999"):
            self.run_.trial(20_000)
        with self.fails("no quantity 'net_valu'", "did you mean 'net_value'?"):
            _ = self.run_["net_valu"]

    def test_a_changed_function_is_noticed(self):
        factor = [1.0]
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        model.line("z", "x * 2")

        @model.outcome
        def y(z):
            return z * factor[0]

        run = model.simulate(500, seed=1)
        factor[0] = 2.0
        with self.fails("gives other values now"):
            run.trial(3)

    def test_facts(self):
        facts = self.run_.facts()
        self.assertEqual(
            (facts["seed"], facts["trials"], facts["sampling"], facts["blocks"]),
            (7, 20_000, "latin", 20),
        )
        self.assertIn("numpy", facts["versions"])
        self.assertEqual(
            additive().simulate(100, seed=1).facts()["assumed independent"],
            ["all drivers (x0, x1, x2)"],
        )

    def test_words(self):
        self.assertIn("20,000 trials", repr(self.run_))
        with self.fails("say which figure"):
            float(self.value)


class NumpyAndPandas(Case):
    @classmethod
    def setUpClass(cls):
        cls.run_ = investment().simulate(1000, seed=3, keep="cash_flow")

    def test_results_are_read_by_numpy_and_pandas(self):
        value, row = self.run_["net_value"], self.run_.row("cash_flow")
        self.assertEqual(np.mean(value), value.values.mean())
        self.assertEqual(np.std(value, ddof=1), value.values.std(ddof=1))
        self.assertEqual(np.mean(row), row.values.mean())
        np.testing.assert_array_equal(pd.Series(value), value.values)
        np.testing.assert_array_equal(pd.DataFrame(list(row)), row.values)
        self.assertEqual((len(value), len(row)), (1000, 5))

    def test_results_cannot_be_spoilt(self):
        before = self.run_.sensitivity("net_value")
        for name in ("net_value", "flow", "cash_flow"):
            with self.assertRaises(ValueError):
                self.run_[name].values.sort()
            with self.assertRaises(ValueError):
                np.asarray(self.run_[name])[0] = 0
        with self.assertRaises(TypeError):
            self.run_.base["net_value"] = 0.0
        with self.assertRaises(ValueError):
            self.run_.base["net_value"][0] = 0.0
        frame = self.run_.to_frame()
        frame["net_value"] = 0.0
        frame.iloc[:, 0] = 0.0
        pd.testing.assert_frame_equal(self.run_.sensitivity("net_value"), before)
        self.assertNotEqual(float(self.run_["net_value"].sd), 0)
