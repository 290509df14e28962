"""Histories of late listings from a proxy, against series whose whole history is known."""

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.cli.risk import read_portfolio
from tests.common import Case, Folder


def whole(seed, count=900):
    """Return prices of two instruments, the second of which follows the first by 0.8."""
    rng = np.random.default_rng(seed)
    first = rng.normal(0, 0.01, count)
    second = 0.001 + 0.8 * first + rng.normal(0, 0.006, count)
    dates = pd.bdate_range("2024-01-01", periods=count)
    frame = pd.DataFrame({"old": first, "new": second}, dates)
    return 100 * (1 + frame).cumprod()


def late(frame, dates=500):
    """Return prices as if the second instrument had none on the first dates."""
    return kd.read_prices(frame.assign(new=frame["new"].where(np.arange(len(frame)) >= dates)))


class Proxies(Case):
    def test_the_history_before_is_like_the_true_one(self):
        ratios, gaps, errors = [], [], []
        for seed in range(40):
            frame = whole(seed)
            filled = late(frame).with_proxies({"new": "old"})
            self.assertEqual(len(filled.frame), len(frame))
            np.testing.assert_allclose(filled.frame.iloc[500:], frame.iloc[500:])
            moves = filled.frame.pct_change().iloc[1:500]
            true = frame.pct_change().iloc[1:500]
            own_drift = (moves["new"] - 0.8 * moves["old"]).mean()
            spread = moves["new"].std() / true["new"].std()
            ratios.append([spread, moves.corr().iloc[0, 1], own_drift])
            said = filled.read.choices[-1]
            slope, error = said.split("times ")[1].split(") on")[0].split(" (± ")
            gaps.append(float(slope) - 0.8)
            errors.append(float(error) + 0.005)  # as printed
        spread, correlation, drift = np.mean(ratios, axis=0)
        self.assertAlmostEqual(drift, 0.001, delta=0.0003)
        self.assertAlmostEqual(spread, 1, delta=0.02)
        self.assertAlmostEqual(correlation, 0.8, delta=0.01)  # of 0.8 x 0.01 beside 0.006
        self.assertCalibrated(gaps, errors)
        self.assertIn("on 500 dates, with what is left (", said)

    def test_risk_of_both_keeps_the_dates(self):
        prices = late(whole(3))
        amounts = {"old": 1000.0, "new": 1000.0}
        short = kd.Portfolio(prices, amounts=amounts)
        long = kd.Portfolio(prices.with_proxies({"new": "old"}), amounts=amounts)
        sd = 1000 * np.hypot(1.8 * 0.01, 0.006)
        self.assertEqual([len(held.losses()) for held in (short, long)], [399, 899])
        self.assertAlmostEqual(
            float(long.value_at_risk(0.95, "normal")) / (1.645 * sd), 1, delta=0.08
        )
        self.assertEqual(long.market.problems["kind"].tolist(), [])

    def test_differences_and_dates_that_the_proxy_lacks(self):
        frame = whole(5)
        frame["new"] = 0.03 + np.cumsum(0.1 * np.diff(np.log(frame["old"]), prepend=np.log(100)))
        frame.loc[frame.index[:100], "old"] = np.nan
        lacking = frame.assign(new=frame["new"].where(np.arange(900) >= 400))
        prices = kd.read_prices(lacking, changes={"new": "absolute"})
        filled = prices.with_proxies({"new": "old"})
        self.assertEqual(filled.raw["new"].first_valid_index(), frame.index[100])
        np.testing.assert_allclose(filled.frame["new"], frame["new"].iloc[100:], atol=2e-3)

    def test_what_is_available_keeps_the_record_of_those_that_were_there(self):
        whole_covariance = 1e-4 * np.array([[1, 0.3, 0.9], [0.3, 2, 1.3], [0.9, 1.3, 2.2]])
        ratios = []
        for seed in range(30):
            rng = np.random.default_rng(seed)
            moves = rng.multivariate_normal([0, 0, 0.0005], whole_covariance, 1000)
            dates = pd.bdate_range("2022-01-03", periods=1000)
            prices = 100 * (1 + pd.DataFrame(moves, dates, ["a", "b", "c"])).cumprod()
            lacking = prices.assign(c=prices["c"].where(np.arange(1000) >= 700))
            lacking.loc[dates[200], "b"] = np.nan  # dropped, and no end of what is continued
            lacking.loc[dates[:300], "b"] = np.nan if seed % 2 else lacking["b"].iloc[:300]
            there = kd.read_prices(lacking, "available")
            self.assertEqual(len(there.frame), 1000 if seed % 2 else 999)
            kept = list({"a": "a", "b": "b"} if seed % 2 == 0 else {"a": "a"})
            np.testing.assert_array_equal(there.frame[kept], lacking.loc[there.dates, kept])
            ratios.append(np.cov(there.moves.T) / whole_covariance)
        np.testing.assert_allclose(np.mean(ratios, axis=0), 1, atol=0.06)
        words = [choice.split(" on ")[0] for choice in there.read.choices]
        self.assertEqual(
            [word.split(" times ")[0] for word in words],
            [
                "b before 2023-02-27: the moves of a",
                "c before 2024-09-09: the moves of 2 others by regression",
            ],
        )
        self.assertEqual(there.problems["kind"].tolist(), [])

    def test_mistakes(self):
        prices = late(whole(1))
        for proxies, words in (
            ({"new": "olt"}, ("did you mean 'old'",)),
            ({"new": "new"}, ("cannot be its own proxy",)),
            ("old", ("instruments by instrument",)),
        ):
            with self.subTest(proxies=proxies), self.fails(*words):
                prices.with_proxies(proxies)
        few = late(whole(1), 890)
        with self.fails("9 moves on the same dates; at least 30"):
            few.with_proxies({"new": "old"})
        calm = whole(1).assign(old=5.0)
        with self.assertWarns(kd.DataWarning):
            still = late(calm)
        with self.fails("the proxy of new does not move"):
            still.with_proxies({"new": "old"})


class Files(Folder):
    def test_a_column_of_holdings(self):
        prices, held = self.folder / "prices.csv", self.folder / "held.csv"
        late(whole(2)).raw.rename_axis("date").to_csv(prices)
        held.write_text("instrument,shares,proxy\nnew,10,old\n")
        portfolio = read_portfolio(prices, held, None, "drop")
        self.assertEqual((portfolio.instruments, len(portfolio.losses())), (["new"], 899))
        self.assertIn("new before 2025-12-01: the moves of old", portfolio.prices.read.choices[-1])
