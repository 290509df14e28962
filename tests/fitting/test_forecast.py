"""Tests of forecasts: their ranges, totals and chances against closed forms."""

import json
import math

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.model.file import model_from_text
from kindynos.reports.showing import report_of
from tests.common import DEMO, Case, run


class Forecasts(Case):
    def test_of_a_random_walk(self):
        # h steps ahead of n: about Student's t, with the variance of h steps; the total of h
        # periods has the variance h (h + 1) (2 h + 1) / 6 of one step
        rng = np.random.default_rng(4)
        walk = np.cumsum(rng.normal(0, 2.0, 400))
        coming = kd.forecast(walk, 6, "arima (0,1,0)", candidates=["arima (0,1,0)"], seed=1)
        sd = float(np.diff(walk).std())
        table = coming.table()
        for steps in (1, 4, 6):
            row = table.iloc[steps - 1]
            self.assertAlmostEqual(row["P50"], walk[-1], delta=0.1 * sd * math.sqrt(steps))
            wide = (row["P95"] - row["P5"]) / (2 * stats.norm.ppf(0.95) * sd * math.sqrt(steps))
            self.assertAlmostEqual(wide, 1, delta=0.04)
        total, spread = coming.total(), sd * math.sqrt(6 * 7 * 13 / 6)
        self.assertAlmostEqual(total["mean"], 6 * walk[-1], delta=0.05 * spread)
        self.assertAlmostEqual((total["P75"] - total["P25"]) / (1.349 * spread), 1, delta=0.05)
        above = walk[-1] + sd
        for steps in (1, 4):
            chance = coming.chance(above)[steps - 1]
            self.assertAlmostEqual(chance, stats.norm.sf(1 / math.sqrt(steps)), delta=0.02)
            self.assertTrue(chance.low < chance < chance.high)
        with self.fails("periods"):
            coming.total(7)
        with self.fails("process", "arima (0,1,0)"):
            kd.forecast(walk, 6, "arima (0,1,1)", candidates=["arima (0,1,0)"])

    def test_the_command_and_its_driver(self):
        words = ["forecast", DEMO / "passengers.csv", "--no-rolling", "--seed", "1", "--ahead", "3"]
        shown = run(*words, "--above", "30000")
        self.assertEqual((shown.returncode, shown.stderr), (0, ""))
        self.assertTrue(shown.stdout.startswith("For 2028-01 the forecast of passengers is "))
        data = json.loads(run(*words, "--json").stdout)
        self.assertAlmostEqual(sum(row["mean"] for row in data["ahead"]), data["total"]["mean"])
        text = "[model]\nname = 'x'\nperiods = 3\n" + data["driver"]
        model = model_from_text(text + '[outcomes.first]\nformula = "at(passengers, 1)"\n')
        first = model.simulate(20_000, seed=2)["first"]
        self.assertAlmostEqual(float(first.mean) / data["ahead"][0]["mean"], 1, delta=0.005)
        self.assertAlmostEqual(float(first.percentile(5)) / data["ahead"][0]["P5"], 1, delta=0.01)

    def test_values_below_0_count_as_0_where_the_series_has_none(self):
        generator = np.random.default_rng(1)
        counts = np.maximum(generator.normal(2.0, 2.0, 60), 0.0)
        options = {"process": "arima (0,0,0)", "candidates": ["arima (0,0,0)"], "seed": 1}
        coming = kd.forecast(counts, 4, **options)
        free = kd.forecast(counts, 4, below_zero=True, **options)
        self.assertEqual((float(coming.paths.min()), free.raised), (0.0, 0.0))
        self.assertLess(float(free.paths.min()), 0.0)
        self.assertAlmostEqual(coming.raised, float((free.paths < 0).mean()))
        np.testing.assert_array_equal(coming.paths, np.maximum(free.paths, 0.0))
        moved = kd.forecast(counts - 1.0, 4, **options)
        self.assertEqual(moved.raised, 0.0)
        said = [line for part in report_of(coming).sections for line in part.sentences]
        self.assertIn("count as 0", " ".join(said))

    def test_random_walks_do_not_get_a_season(self):
        seasonal = 0
        for seed in range(1):
            rng = np.random.default_rng(seed)
            dates = pd.date_range("2015-01-31", periods=120, freq="ME")
            walk = pd.Series(100 + np.cumsum(rng.normal(0, 1, 120)), dates)
            ranking = kd.fit_series(walk, rolling=False)
            seasonal += "season" in ranking.names[0]
            self.assertIn("smoothing: level", ranking.names)  # plain smoothing is offered
        self.assertEqual(seasonal, 0)
