"""Tests of returns."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import PRICES, Case, made


class OfReturns(Case):
    def test_against_pandas(self):
        frame = PRICES.frame
        simple = kd.markets.returns(PRICES)
        np.testing.assert_allclose(simple.frame, frame.pct_change().iloc[1:])
        summary = simple.summary()
        np.testing.assert_allclose(summary["annual sd"], frame.pct_change().std() * 252**0.5)
        np.testing.assert_allclose(summary["skewness"], stats.skew(simple.frame))
        np.testing.assert_allclose(summary["excess kurtosis"], stats.kurtosis(simple.frame))
        np.testing.assert_allclose(simple.covariance(), frame.pct_change().cov())
        np.testing.assert_allclose(simple.correlation(), frame.pct_change().corr())
        weekly = kd.markets.returns(PRICES, "log", "week")
        np.testing.assert_allclose(
            weekly.frame, np.log(frame.resample("W-FRI").last()).diff().iloc[1:-1]
        )
        self.assertEqual(
            (weekly.per_year, kd.markets.returns(PRICES, every="month").per_year), (52, 12)
        )
        np.testing.assert_allclose(
            simple.rolling(50)["sd"], frame.pct_change().rolling(50).std().dropna()
        )

    def test_weighted_and_shrunk(self):
        simple = kd.markets.returns(PRICES)
        weights = 0.94 ** np.arange(len(simple.frame) - 1, -1, -1.0)
        wanted = np.cov(simple.frame.T, aweights=weights, ddof=0)
        np.testing.assert_allclose(simple.covariance("weighted", 0.94), wanted)
        short = kd.markets.returns(kd.read_prices(made(40)))
        sample, shrunk = (
            short.correlation(method).to_numpy()[np.triu_indices(3, 1)]
            for method in ("sample", "shrunk")
        )
        self.assertLess(np.ptp(shrunk), np.ptp(sample))  # towards one correlation for all
        self.assertAlmostEqual(shrunk.mean(), sample.mean(), 9)
        np.testing.assert_allclose(np.diag(short.covariance("shrunk")), np.diag(short.covariance()))

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.markets.returns(PRICES, "logs"), ("kind",)),
            (lambda: kd.markets.returns(PRICES, every="fortnight"), ("every",)),
            (lambda: kd.markets.returns(PRICES).covariance("robust"), ("method",)),
            (lambda: kd.markets.returns(PRICES).rolling(900), ("window 900", "599 returns")),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Shrinkage(Case):
    def test_shrinkage_by_its_formula(self):
        returns = kd.markets.returns(
            kd.read_prices(PRICES.frame.iloc[:80].reset_index())
        ).frame.to_numpy()
        count, size = returns.shape
        gaps = returns - returns.mean(axis=0)
        sample = gaps.T @ gaps / count
        sd = np.sqrt(np.diag(sample))
        average = np.mean([sample[i, j] / (sd[i] * sd[j]) for i in range(size) for j in range(i)])
        target = np.array(
            [
                [sample[i, i] if i == j else average * sd[i] * sd[j] for j in range(size)]
                for i in range(size)
            ]
        )
        pi = rho = 0.0
        for i in range(size):
            for j in range(size):
                term = np.mean((gaps[:, i] * gaps[:, j] - sample[i, j]) ** 2)
                pi += term
                if i == j:
                    rho += term
                    continue
                one = np.mean(
                    (gaps[:, i] ** 2 - sample[i, i]) * (gaps[:, i] * gaps[:, j] - sample[i, j])
                )
                two = np.mean(
                    (gaps[:, j] ** 2 - sample[j, j]) * (gaps[:, i] * gaps[:, j] - sample[i, j])
                )
                rho += average / 2 * (sd[j] / sd[i] * one + sd[i] / sd[j] * two)
        weight = np.clip((pi - rho) / ((sample - target) ** 2).sum() / count, 0, 1)
        wanted = (weight * target + (1 - weight) * sample) * count / (count - 1)
        found = kd.markets.returns(kd.read_prices(PRICES.frame.iloc[:80].reset_index())).covariance(
            "shrunk"
        )
        np.testing.assert_allclose(found, wanted, rtol=1e-9)
