"""Tests of run."""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case, investment


class Trials(Case):
    def test_worst_and_nearest(self):
        run = investment().simulate(1000, seed=1)
        values = run["net_value"].values
        sheets = run.worst("net_value", 3)
        numbers = list(sheets.index.get_level_values("trial").unique())
        self.assertEqual(numbers, list(np.argsort(values)[:3]))
        self.assertEqual(sheets.loc[(numbers[0], "net_value"), "value"], values.min())
        self.assertEqual(
            run.worst("net_value", side="high").loc[(values.argmax(), "net_value"), "value"],
            values.max(),
        )
        sheet = run.nearest("net_value", 5)
        self.assertEqual(
            sheet.attrs["trial"], np.abs(values - run["net_value"].percentile(5)).argmin()
        )
        pd.testing.assert_frame_equal(sheet, run.trial(sheet.attrs["trial"]))

    def test_what_cannot_be_read(self):
        run = investment().simulate(100, seed=1)
        for call, words in (
            (lambda: run.worst("cash_flow"), ("is a row",)),
            (lambda: run.worst("net_value", 101), ("100 trials only",)),
            (lambda: run.worst("net_value", side="left"), ("side",)),
            (lambda: run.nearest("net_value", 105), ("from 0 to 100",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class WithoutAValue(Case):
    def test_half_of_the_trials_rank_worst(self):
        model = kd.Model("m")
        model.driver("flow", kd.Normal(90, 10))

        @model.line
        def raw(flow):
            return np.where(flow > 90, flow, np.nan)

        model.outcome("gain", "raw", missing="worst")
        model.outcome("cost", "raw", missing="worst", better="low")
        run = model.simulate(400, seed=1)
        lacking = np.isnan(run["gain"].values).mean()
        for q in (50, 100 * lacking):  # on the edge, and among those without a value
            self.assertEqual(run["gain"].percentile(q - 1), -np.inf)
            self.assertTrue(np.isnan(run["gain"].values[run.nearest("gain", q - 1).attrs["trial"]]))
        self.assertEqual(run["cost"].percentile(99), np.inf)
        self.assertEqual(run["gain"].percentile(50), -run["cost"].percentile(50))
        self.assertFalse(np.isnan(run["gain"].percentile(list(range(1, 100)))).any())


class Facts(Case):
    def test_rounding_up_is_said(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("y", "x")
        self.assertIn(
            "10,000", model.simulate(10_000, seed=1, sampling="sobol").facts()["rounded up"]
        )
        self.assertEqual(model.simulate(10_000, seed=1).facts()["rounded up"], "")
        self.assertEqual(model.simulate(16_384, seed=1, sampling="sobol").facts()["rounded up"], "")

    def test_replacing_a_correlated_driver(self):
        model = kd.Model("m")
        for name in "abc":
            model.driver(name, kd.Normal(0, 1))
        model.correlate("a", "b", 0.5)
        model.correlate("b", "c", 0.5)
        model.outcome("y", "a + b + c")
        other = model.replace(c=kd.Uniform(0, 1))
        self.assertEqual(len(other.correlations), 2)
        fixed = model.replace(a=1.0)
        self.assertEqual([link.names for link in fixed.correlations], [("b", "c")])
        self.assertEqual(fixed.simulate(300, seed=1)["y"].values.shape, (300,))
        self.assertEqual(len(model.correlations), 2)


class WithoutATarget(Case):
    def test_money_that_may_be_lost_has_its_chances_around_0(self):
        model = kd.Model("m")
        model.driver("a", kd.Normal(5, 10))
        model.outcome("profit", "a", unit="EUR")
        model.outcome("index", "a")
        model.outcome("square", "a * a", unit="EUR")
        run = model.simulate(2000, seed=1)
        rows = [key for key in run.table().index if "chance" in key[1]]
        self.assertEqual(rows, [("profit", "chance below 0"), ("profit", "chance above 0")])
        share = run.table().loc[rows[0], "value"]
        self.assertEqual(share, (run["profit"].values < 0).mean())
