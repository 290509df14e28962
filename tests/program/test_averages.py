"""Processes by their averages over a period, against closed forms."""

import math
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

import kindynos as kd
from tests.common import Case

TRIALS = 20_000


def model(process, value="average", **options):
    made = kd.Model("m", periods=3)
    made.driver("price", process, value=value, **options)
    made.outcome("last_price", "last(price)")
    return made


class Averages(Case):
    def test_a_random_walk(self):
        run = model(kd.RandomWalk(100.0, 2.0, 10.0)).simulate(TRIALS, seed=1, keep=["price"])
        rows = run["price"].values
        for year in range(3):
            # the average of year n has the mean of its middle and the variance n - 1 + 1/3
            self.assertAlmostEqual(rows[year].mean(), 100 + 2 * (year + 0.5), delta=0.25)
            # by 12 steps of straight lines the third is (1 - 1 / 24^2) of a third or so
            sd = 10 * math.sqrt(year + 1 / 3)
            self.assertAlmostEqual(rows[year].std(), sd, delta=0.02 * sd)
        end = model(kd.RandomWalk(100.0, 2.0, 10.0), "end").simulate(TRIALS, seed=1, keep=["price"])
        ends = end["price"].values
        self.assertAlmostEqual(ends[0].std() / rows[0].std(), math.sqrt(3), delta=0.05)
        # the average of a year and its end: correlation (1/2) / sqrt(1/3)
        self.assertAlmostEqual(np.corrcoef(ends[0], rows[0])[0, 1], math.sqrt(3) / 2, delta=0.01)

    def test_growth_and_return_to_a_level(self):
        growth = kd.GeometricBrownianMotion(100.0, 0.1, 0.2)
        run = model(growth).simulate(TRIALS, seed=2, keep=["price"])
        mean = 100 * math.expm1(0.1) / 0.1  # of the integral of exp(0.1 t)
        self.assertAlmostEqual(run["price"].values[0].mean(), mean, delta=0.4)
        reverting = kd.MeanReverting(20.0, 10.0, 1.0, 2.0)
        run = model(reverting).simulate(TRIALS, seed=2, keep=["price"])
        mean = 10 + 10 * -math.expm1(-1.0)
        self.assertAlmostEqual(run["price"].values[0].mean(), mean, delta=0.05)
        base = run.base["price"][0, 0]
        self.assertAlmostEqual(base, mean, delta=0.02)

    def test_correlated_processes_and_files(self):
        made = model(kd.RandomWalk(100.0, 0.0, 10.0))
        made.driver("other", kd.RandomWalk(50.0, 0.0, 5.0), value="average")
        made.correlate("price", "other", 0.8, kind="linear")
        run = made.simulate(TRIALS, seed=1, keep=["price", "other"])
        a, b = (run[name].values[2] for name in ("price", "other"))
        self.assertAlmostEqual(np.corrcoef(a, b)[0, 1], 0.8 * (2 + 1 / 4) / (2 + 1 / 3), delta=0.02)
        with TemporaryDirectory() as folder:
            file = Path(folder, "m.toml")
            file.write_text(made.to_toml())
            self.assertIn('value = "average"', file.read_text())
            again = kd.load_model(file)
        np.testing.assert_array_equal(
            *(m.simulate(300, seed=2)["last_price"].values for m in (made, again))
        )
        wide = made.replace(**{"price.volatility": 20.0}).simulate(2000, seed=1, keep=["price"])
        self.assertAlmostEqual(wide["price"].values[0].std(), 20 / math.sqrt(3), delta=0.6)

    def test_what_has_no_average(self):
        for process, words in (
            (kd.Arima(ar=[0.5], sd=1.0), "continuous time"),
            (kd.Normal(0, 1), "belong to a process"),
        ):
            with self.fails(words):
                model(process)
        with self.fails("value must be one of 'end', 'average'"):
            model(kd.RandomWalk(100.0, 2.0, 10.0), "middle")


if __name__ == "__main__":
    unittest.main()
