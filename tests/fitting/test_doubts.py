"""What looks wrong in a series: found where it is plain, seldom said of calm ones."""

import re
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.fitting.doubts import series_doubts
from tests.common import Case, run

MONTHS = 96
LABELS = [str(month) for month in range(MONTHS)]


def calm(kind, rng):
    """A calm monthly series of a kind, and its season."""
    months = np.arange(MONTHS)
    season = 0.2 * np.sin(2 * np.pi * months / 12)
    if kind == "walk":
        return 100 * np.exp(np.cumsum(rng.normal(0.002, 0.04, MONTHS))), 0
    if kind == "around 0":
        return rng.normal(0, 5, MONTHS), 12
    noise = rng.normal(0, 0.05, MONTHS) if kind != "t5" else 0.05 * rng.standard_t(5, MONTHS)
    return 1000 * np.exp(season + noise + (0.01 * months if kind == "trend" else 0)), 12


class Doubts(Case):
    def test_a_shift_beside_a_trend_is_told_without_the_trend(self):
        generator = np.random.default_rng(4)
        values = np.exp(0.02 * np.arange(96) + generator.normal(0, 0.01, 96))
        values[48:] *= 1.5
        (text,) = (doubt for doubt in series_doubts(values, 0, LABELS) if "shifted" in doubt)
        self.assertAlmostEqual(float(re.search(r"about (\d+) %", text)[1]), 50, delta=8)
        self.assertIn("higher", text)

    def test_calm_series_are_seldom_doubted(self):
        rng = np.random.default_rng(1)
        for kind in ("normal", "t5", "trend", "walk", "around 0"):
            told = sum(bool(series_doubts(*calm(kind, rng), LABELS)) for _ in range(40))
            self.assertLessEqual(told, 3, kind)

    def test_plain_mistakes_are_found(self):
        rng = np.random.default_rng(2)
        for kind in ("normal", "trend", "walk"):
            found = {"slipped": 0, "tenth": 0, "complete": 0}
            for _ in range(20):
                values, season = calm(kind, rng)
                place = int(rng.integers(10, 80))
                cases = (("slipped", place, 10), ("tenth", place, 0.1), ("complete", -1, 0.5))
                for word, at, factor in cases:
                    wrong = values.copy()
                    wrong[at] *= factor
                    said = " ".join(series_doubts(wrong, season, LABELS))
                    found[word] += word in said and (at == -1 or f"{place} is about" in said)
            self.assertGreaterEqual(min(found.values()), 18, (kind, found))

    def test_a_level_that_shifts(self):
        rng = np.random.default_rng(3)
        told = []
        for _ in range(20):
            values, season = calm("normal", rng)
            values[50:] *= 0.55
            told += [said for said in series_doubts(values, season, LABELS) if "shifted" in said]
        self.assertGreaterEqual(len(told), 18)
        places = [int(said.split()[1]) for said in told]
        self.assertLessEqual(abs(np.median(places) - 50), 2)
        self.assertTrue(any("45 % lower" in said or "44 % lower" in said for said in told), told)

    def test_short_and_constant_series_and_missing_values(self):
        self.assertEqual(series_doubts(np.ones(96), 12, LABELS), [])
        self.assertEqual(series_doubts(np.arange(10.0), 0, LABELS), [])
        values, season = calm("normal", np.random.default_rng(4))
        values[40] = np.nan
        self.assertEqual(series_doubts(values, season, LABELS), [])

    def test_they_stand_after_the_answer(self):
        frame = pd.read_csv(kd.demo_file("passengers.csv"))
        frame.loc[40, "passengers"] *= 10
        with TemporaryDirectory() as folder:
            file = Path(folder, "wrong.csv")
            frame.to_csv(file, index=False)
            named = ("--process", "smoothing: level x season", "--seed", "1", "--brief")
            lines = run("forecast", str(file), *named).stdout
        self.assertIn("To check: 2021-05 is about ten times", lines)


class Forecasts(Case):
    def test_a_named_process_alone_is_fitted(self):
        series = kd.read_series(kd.demo_file("passengers.csv"))
        found = kd.forecast(series, 12, "smoothing: level x season", seed=1, trials=200)
        self.assertEqual(found.ranking.names, ["smoothing: level x season"])
        with self.fails("did you mean 'smoothing: level x season'"):
            kd.forecast(series, 12, "smoothing: level x seasons")

    def test_regressors_reach_the_forecast(self):
        rng = np.random.default_rng(1)
        works = np.zeros(132)
        works[rng.choice(132, 30, replace=False)] = 1
        works[120:] = [1, 0] * 6
        values = 50 + 10 * works[:120] + rng.normal(0, 1, 120)
        exog = {"works": works}
        found = kd.forecast(values, process="arima (0,0,0)", exog=exog, season=0, seed=1)
        means = found.paths.mean(axis=1)
        self.assertEqual(len(means), 12)
        np.testing.assert_allclose(means, 50 + 10 * works[120:], atol=0.8)

    def test_trading_days_on_the_command_line(self):
        file = str(kd.demo_file("passengers.csv"))
        process = "log arima (1,0,0)(0,1,1)12 +c"
        options = ("--process", process, "--seed", "1", "--json")
        plain = run("forecast", file, *options).stdout
        days = run("forecast", file, *options, "--trading-days").stdout
        self.assertNotEqual(plain, days)
        self.assertIn(process, days)
        done = run("forecast", file, "--exog", "holidays")
        self.assertEqual(done.returncode, 2)
        self.assertIn("no column 'holidays'", done.stderr)


if __name__ == "__main__":
    unittest.main()
