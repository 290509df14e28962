"""Figures of risk against formulas that stand outside the package."""

import numpy as np
import pandas as pd
from scipy import integrate, optimize, stats

import kindynos as kd
from kindynos.fitting.tail import drawn_tail, fit_tails
from kindynos.markets.from_moments import expansion_at, in_domain
from kindynos.markets.joint_fit import likely_copula
from kindynos.markets.volatility import clustering
from kindynos.processes.clustering import clustering_test
from tests.common import HELD, PRICES, Case

LOSSES = HELD.losses()["loss"].to_numpy()
RETURNS = PRICES.frame.pct_change().iloc[1:]


class Moments(Case):
    def test_cornish_fisher_is_its_polynomial(self):
        skew, excess = stats.skew(LOSSES), stats.kurtosis(LOSSES)
        self.assertGreater(abs(skew) + abs(excess), 0.01)

        def quantile(z):
            return (
                z
                + (z**2 - 1) * skew / 6
                + (z**3 - 3 * z) * excess / 24
                - (2 * z**3 - 5 * z) * skew**2 / 36
            )

        mean, sd = LOSSES.mean(), LOSSES.std(ddof=1)
        for z, horizon in ((2.0, 1), (2.5, 10)):
            level = float(stats.norm.cdf(z))
            figure = HELD.value_at_risk(level, "cornish fisher", horizon=horizon)
            wanted = mean * horizon + sd * horizon**0.5 * quantile(z)
            self.assertAlmostEqual(figure, wanted, delta=1e-9 * wanted)
            beyond = integrate.quad(lambda p: quantile(stats.norm.ppf(p)), level, 1)[0] / (
                1 - level
            )
            figure = HELD.expected_shortfall(level, "cornish fisher", horizon=horizon)
            wanted = mean * horizon + sd * horizon**0.5 * beyond
            self.assertAlmostEqual(figure, wanted, delta=2e-3 * wanted)

    def test_the_interval_of_a_normal_figure_counts_the_mean_of_every_day(self):
        n, sd, z = len(LOSSES), LOSSES.std(ddof=1), stats.norm.ppf(0.99)
        for horizon in (1, 10):
            for mean in (True, False):
                figure = HELD.value_at_risk(0.99, "normal", horizon=horizon, mean=mean)
                spread = sd * np.sqrt(horizon * (horizon * mean + z**2 / 2) / n)
                self.assertAlmostEqual(figure.error, 1.959964 * spread, delta=1e-6 * spread)

    def test_contributions_are_eulers(self):
        values = HELD.values.to_numpy()
        covariance = RETURNS.cov().to_numpy()
        sd = np.sqrt(values @ covariance @ values)
        for measure, reach in (
            ("value_at_risk", stats.norm.ppf(0.99)),
            ("expected_shortfall", stats.norm.pdf(stats.norm.ppf(0.99)) / 0.01),
        ):
            table = HELD.contributions(0.99, measure=measure, method="normal", mean=False)
            wanted = reach * values * (covariance @ values) / sd
            np.testing.assert_allclose(table["component"], wanted, rtol=1e-6)
            np.testing.assert_allclose(table["marginal"], wanted / values, rtol=1e-6)
            np.testing.assert_allclose(table["share"], wanted / wanted.sum(), rtol=1e-6)
            without = [values * (np.arange(3) != place) for place in range(3)]
            left = [reach * np.sqrt(one @ covariance @ one) for one in without]
            np.testing.assert_allclose(
                table["incremental"], table.attrs["total"] - np.array(left), rtol=1e-6
            )

    def test_the_shortfall_of_a_tail_below_its_threshold_is_near_the_mean_of_the_losses(self):
        days = pd.bdate_range("2024-01-01", periods=2001).strftime("%Y-%m-%d")
        returns = 0.01 * np.random.default_rng(5).standard_t(3, 2000)
        prices = 100 * np.cumprod(np.concatenate([[1.0], 1 + np.clip(returns, -0.5, 0.5)]))
        one = kd.Portfolio(
            kd.read_prices(pd.DataFrame({"date": days, "a": prices})), shares={"a": 1.0}
        )
        losses = np.sort(one.losses()["loss"].to_numpy())
        for level in (0.6, 0.8):
            figure = one.expected_shortfall(level, "tail")
            wanted = losses[round(level * len(losses)) :].mean()
            self.assertAlmostEqual(figure, wanted, delta=0.02 * wanted)


class Regression(Case):
    def test_beta_and_its_errors_are_whites(self):
        found = kd.markets.returns(PRICES).against("alpha").loc["beta"]
        x, y = RETURNS["alpha"].to_numpy(), RETURNS["beta"].to_numpy()
        design = np.column_stack([np.ones_like(x), x])
        inverse = np.linalg.inv(design.T @ design)
        alpha, beta = inverse @ design.T @ y
        gaps = y - alpha - beta * x
        n = len(x)
        middle = (design * gaps[:, None] ** 2).T @ design
        errors = np.sqrt(np.diag(inverse @ middle @ inverse) * n / (n - 2))
        t = stats.t.ppf(0.975, n - 2)
        self.assertAlmostEqual(found["beta"], beta)
        self.assertAlmostEqual(found["beta high"] - found["beta"], t * errors[1])
        self.assertAlmostEqual(found["alpha a year"], 252 * alpha)
        self.assertAlmostEqual(found["alpha a year high"], 252 * (alpha + t * errors[0]))
        excess = y - x
        self.assertAlmostEqual(found["tracking error a year"], excess.std(ddof=1) * 252**0.5)
        self.assertAlmostEqual(
            found["excess return a year high"] - found["excess return a year"],
            t * excess.std(ddof=1) / n**0.5 * 252,
        )
        kurtosis = stats.kurtosis(excess, fisher=False)
        self.assertAlmostEqual(
            found["tracking error a year high"] / found["tracking error a year"] - 1,
            t * np.sqrt((kurtosis - 1) / (4 * n)),
        )
        r = np.corrcoef(x, y)[0, 1]
        self.assertAlmostEqual(found["correlation high"], np.tanh(np.arctanh(r) + t / n**0.5))


class Clusters(Case):
    def test_the_test_is_ljung_and_boxs_of_ranks(self):
        sizes = np.abs(LOSSES - np.median(LOSSES))
        ranks, n = stats.rankdata(sizes), len(LOSSES)
        gaps = ranks - ranks.mean()
        found = [np.sum(gaps[lag:] * gaps[:-lag]) / np.sum(gaps**2) for lag in range(1, 11)]
        statistic = n * (n + 2) * sum(r**2 / (n - lag) for lag, r in enumerate(found, 1))
        self.assertAlmostEqual(clustering_test(LOSSES), stats.chi2.sf(statistic, 10))

    def test_the_factor_adds_up_weighted_autocorrelations_of_large_moves(self):
        rng = np.random.default_rng(2)
        losses = rng.standard_normal(400) * np.repeat(rng.uniform(0.3, 2.0, 20), 20)
        sizes = np.abs(losses - np.median(losses))
        large = (sizes > np.quantile(sizes, 0.8)) - 0.2
        most = int(3 * 400**0.5)
        total = sum(
            (1 - lag / (most + 1)) * np.sum(large[lag:] * large[:-lag]) / np.sum(large**2)
            for lag in range(1, most + 1)
        )
        # A loss beyond 90 % is one side of a large move; the sum is doubled for what fades slowly.
        share = (0.16 / 4) / 0.09
        self.assertAlmostEqual(clustering(losses), 1 + 2 * 2 * share * total, places=6)
        self.assertGreater(clustering(losses), 1.5)


class CornishFisher(Case):
    def test_where_the_cornish_fisher_expansion_rises(self):
        z = np.linspace(-4, 4, 20_001)
        for skew in (-1.2, -0.3, 0.0, 0.6):
            for excess in np.arange(-1.1, 8.2, 0.4):
                rises = bool((np.diff(expansion_at(z, skew, excess)) >= 0).all())
                self.assertEqual(bool(in_domain(skew, excess)), rises, (skew, excess))
        calm = np.random.default_rng(1).normal(size=(40, 500))
        skew, excess = stats.skew(calm, axis=1), stats.kurtosis(calm, axis=1)
        self.assertGreaterEqual(in_domain(skew, excess).sum(), 38)


class OneGiant(Case):
    def test_one_giant_does_not_take_the_tail_with_it(self):
        """Against the peak of the same penalized likelihood by SciPy."""
        losses = np.random.default_rng(1).standard_t(5, size=500)
        losses[100] = 1e5
        threshold = np.sort(losses)[-51]
        excesses = losses[losses > threshold] - threshold

        def misfit(theta):
            logs = stats.genpareto.logpdf(excesses, theta[0], scale=np.exp(theta[1]))
            return ((theta[0] - 0.1) / 0.2) ** 2 / 2 - logs.sum()

        shape, log_scale = optimize.minimize(misfit, [0.5, 0.0], method="Nelder-Mead").x
        wanted = threshold + np.exp(log_scale) * (10**shape - 1) / shape
        self.assertAlmostEqual(float(fit_tails(losses[None]).figures(0.99)[0][0]), wanted, places=2)
        low, high = np.percentile(drawn_tail(losses, 0.99)[0], [2.5, 97.5])
        self.assertTrue(0.6 * wanted < low < wanted < high < 1.8 * wanted, (low, wanted, high))


class JointTails(Case):
    """The copula of simulated days, by likelihood."""

    def held(self, df, count=800):
        generator = np.random.default_rng(6)
        lower = np.linalg.cholesky([[1, 0.5, 0.3], [0.5, 1, 0.4], [0.3, 0.4, 1]])
        draws = 0.008 * generator.standard_normal((count, 3)) @ lower.T
        if df:
            draws /= np.sqrt(generator.chisquare(df, count) / df)[:, None]
        days = pd.bdate_range("2020-01-01", periods=count + 1)
        grown = 100 * np.cumprod(1 + np.vstack([np.zeros(3), draws]), axis=0)
        frame = pd.DataFrame(grown, days, ["a", "b", "c"])
        prices = kd.read_prices(frame, keep_suspicious=True)
        return kd.Portfolio(prices, shares={"a": 10, "b": 10, "c": 10})

    def test_the_likelier_copula_is_taken(self):
        joint, apart = self.held(4), self.held(None)
        figure = joint.value_at_risk(0.99, "simulated", trials=2000)
        self.assertRegex(figure.description, r"t copula with [345] degrees of freedom")
        plain = apart.value_at_risk(0.99, "simulated", trials=2000)
        self.assertIn("gaussian copula", plain.description)
        self.assertEqual(plain.doubt, "")
        stated = joint.value_at_risk(0.99, "simulated", trials=2000, copula="gaussian")
        self.assertIn("come together more often than a Gaussian copula has it", stated.doubt)
        self.assertTrue(figure.low < figure < figure.high)

    def test_its_likelihood_is_that_of_the_densities(self):
        returns = self.held(4).exposure().returns
        found = likely_copula(returns)
        ranks = (stats.rankdata(returns, axis=0)) / (len(returns) + 1)
        matrix = 2 * np.sin(np.pi / 6 * stats.spearmanr(returns)[0])
        normal, fat = stats.norm.ppf(ranks), stats.t.ppf(ranks, found.df)
        gaussian = stats.multivariate_normal(np.zeros(3), matrix).logpdf(normal).sum()
        gaussian -= stats.norm.logpdf(normal).sum()
        student = stats.multivariate_t(np.zeros(3), matrix, found.df).logpdf(fat).sum()
        student -= stats.t.logpdf(fat, found.df).sum()
        self.assertAlmostEqual(found.gain, student - gaussian, delta=0.05)
