"""Smoothed values, against the returns that were smoothed."""

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case, run


def smoothed(share, seed, months=180, sd=0.04):
    """Prices of appraisals, and the returns behind them."""
    behind = np.random.default_rng(seed).normal(0.004, sd, months)
    seen = np.empty(months)
    last = 0.004
    for month, own in enumerate(behind):
        last = seen[month] = (1 - share) * own + share * last
    return 100 * np.exp(np.cumsum(seen)), behind


def prices_of(**columns):
    dates = pd.period_range("2012-01", periods=len(next(iter(columns.values()))), freq="M")
    frame = pd.DataFrame(columns, pd.Index(dates.to_timestamp("M"), name="date"))
    return kd.read_prices(frame)


class Smoothing(Case):
    def test_the_spread_and_the_truth_of_the_returns(self):
        ratios, gaps, errors = [], [], []
        for seed in range(80):
            prices, behind = smoothed(0.6, seed)
            found = prices_of(fund=prices).without_smoothing("fund")
            returns = np.diff(np.log(found.frame["fund"].dropna().to_numpy()))
            ratios.append(returns.std() / behind.std())
            told = found.read.choices[-1]
            gaps.append(float(told.split("less ")[1].split(" (")[0]) - 0.6)
            errors.append(float(told.split("± ")[1].split(")")[0]))
            self.assertLess(abs(np.corrcoef(returns[1:], returns[:-1])[0, 1]), 0.25)
        self.assertAlmostEqual(np.mean(ratios), 1.0, delta=0.06)
        self.assertAlmostEqual(np.mean(gaps), 0.0, delta=0.011)  # the mean that is estimated too
        self.assertCalibrated(gaps, errors)

    def test_the_last_price_stays_and_others_are_left(self):
        prices, _ = smoothed(0.5, 1)
        other = 50 * np.exp(np.random.default_rng(2).normal(0, 0.03, 180).cumsum())
        table = prices_of(fund=prices, share=other)
        found = table.without_smoothing("fund")
        self.assertAlmostEqual(found.raw["fund"].iloc[-1], prices[-1])
        pd.testing.assert_series_equal(found.raw["share"], table.raw["share"])
        with self.fails("share have an autocorrelation", "nothing tells that they are smoothed"):
            table.without_smoothing("share")
        with self.fails("no instrument 'found'"):
            table.without_smoothing("found")
        with self.fails("has 19 returns; 24 are needed"):
            prices_of(fund=prices[:20]).without_smoothing("fund")

    def test_a_column_of_holdings(self):
        prices, _ = smoothed(0.6, 3)
        with TemporaryDirectory() as folder:
            file, held = Path(folder, "prices.csv"), Path(folder, "held.csv")
            prices_of(fund=prices).raw.to_csv(file)
            for word in ("yes", "no"):
                held.write_text(f"instrument,shares,smoothed\nfund,100,{word}\n")
                done = run("risk", str(file), "--holdings", str(held), "--methods", "normal")
                self.assertEqual("without smoothing" in done.stdout, word == "yes", done.stdout)
            held.write_text("instrument,shares,smoothed\nfund,100,maybe\n")
            done = run("risk", str(file), "--holdings", str(held))
            self.assertEqual(done.returncode, 2)
            self.assertIn("must be yes or no, not 'maybe'", done.stderr)


if __name__ == "__main__":
    unittest.main()
