"""Rates of yearly counts, against closed forms, exact intervals and simulated years."""

import math
import unittest

import numpy as np
from scipy import optimize, stats

import kindynos as kd
from kindynos.fitting.counts import fit_counts
from tests.common import Case, run

COUNTS = [6, 2, 7, 3, 14, 5, 4, 4, 7, 14, 2, 8]
EXPOSURE = [33, 34, 34, 35, 36, 37, 37, 38, 39, 40, 40, 41]


def years(rng, rate, size, exposure):
    means = rate * exposure
    return rng.poisson(means if math.isinf(size) else rng.gamma(size, means / size))


class Rates(Case):
    def test_a_poisson_rate_has_its_exact_interval(self):
        fitted = fit_counts([4, 7, 5, 9, 6, 3, 8], [36, 38, 38, 40, 41, 41, 42])
        self.assertFalse(fitted.scattered)
        self.assertAlmostEqual(fitted.rate, 42 / 276)
        self.assertAlmostEqual(fitted.rate.low, stats.gamma.ppf(0.025, 42) / 276)
        self.assertAlmostEqual(fitted.rate.high, stats.gamma.ppf(0.975, 43) / 276)
        self.assertEqual(fitted.distribution(42), kd.Poisson(42 / 276 * 42))

    def test_the_size_is_the_likeliest(self):
        fitted = fit_counts(COUNTS, EXPOSURE)

        def misfit(theta):
            k, rate = np.exp(theta)
            p = k / (k + rate * np.array(EXPOSURE))
            return -stats.nbinom.logpmf(COUNTS, k, p).sum()

        best = optimize.minimize(misfit, [1.0, -1.8], method="Nelder-Mead", tol=1e-9)
        self.assertAlmostEqual(math.log(fitted.size), best.x[0], delta=0.03)
        drop = []
        for end in (fitted.size.low, fitted.size.high):
            along = optimize.minimize_scalar(
                lambda rate, end=end: misfit([math.log(end), rate]),
                bounds=(-4, 0),
                method="bounded",
            )
            drop.append(along.fun - best.fun)
        np.testing.assert_allclose(drop, 1.92, atol=0.12)
        self.assertAlmostEqual(
            fitted.dispersion,
            stats.chisquare(COUNTS, sum(COUNTS) * np.array(EXPOSURE) / sum(EXPOSURE)).statistic
            / 11,
        )

    def test_the_test_of_scatter_has_its_size_and_intervals_hold_the_rate(self):
        rng = np.random.default_rng(1)
        exposure = np.linspace(20, 40, 12)
        for size, low, high in ((math.inf, 0.01, 0.06), (3.0, 0.88, 1.0)):
            fits = [fit_counts(years(rng, 0.4, size, exposure), exposure) for _ in range(250)]
            found = np.mean([fitted.scattered for fitted in fits])
            self.assertTrue(low <= found <= high, (size, found))
            rates = [fitted.rate for fitted in fits]
            held = np.mean([rate.low <= 0.4 <= rate.high for rate in rates])
            self.assertTrue(0.905 <= held <= 0.985, (size, held))
            half = np.mean([abs(rate - 0.4) <= rate.error / 2 for rate in rates])
            self.assertLessEqual(half, 0.78, size)

    def test_next_year_with_an_uncertain_rate(self):
        fitted = fit_counts([0, 1, 0, 2, 1, 0], [10, 10, 10, 10, 10, 10])
        nxt = fitted.distribution(10, uncertain=True)
        self.assertAlmostEqual(nxt.mean, 4.5 / 60 * 10)
        self.assertAlmostEqual(nxt.variance, 0.75 * (1 + 10 / 60))
        scattered = fit_counts(COUNTS, EXPOSURE)
        plain, wide = (scattered.distribution(41, uncertain=u) for u in (False, True))
        self.assertAlmostEqual(plain.mean, scattered.rate * 41)
        self.assertGreater(wide.variance, 1.05 * plain.variance)
        nothing = fit_counts([0] * 6)
        self.assertEqual((nothing.rate.low, nothing.p), (0.0, 1.0))
        with self.fails("uncertain=True"):
            nothing.distribution()
        self.assertAlmostEqual(nothing.distribution(uncertain=True).mean, 0.5 / 6)

    def test_what_is_no_count(self):
        for counts, exposure, words in (
            ([1, 2, 3], None, "at least 5"),
            ([1, 2, 3, 4.5, 1], None, "whole numbers"),
            ([1, 2, 3, -1, 1], None, "whole numbers"),
            ([1, 2, 3, 4, 1], [1, 2], "one for each of the 5"),
            ([1, 2, 3, 4, 1], [1, 2, 0, 1, 1], "above 0"),
        ):
            with self.fails(words):
                kd.fit_counts(counts, exposure)


class Command(Case):
    def test_counts_and_an_index(self):
        demo = {name: str(kd.demo_file(name)) for name in ("claims_by_year.csv", "claim_sizes.csv")}
        by_year = ("fit", demo["claims_by_year.csv"], "--column", "claims", "--exposure")
        self.assertIn("negative binomial", run(*by_year, "vessels", "--brief").stdout)
        self.assertIn("a year", run(*by_year, "1", "--brief").stdout)
        driver = run(*by_year, "vessels", "--as-driver", "hulls").stdout
        self.assertIn('distribution = "negative binomial"', driver)
        text = run(
            "fit", demo["claim_sizes.csv"], "--column", "amount", "--index", "price_index"
        ).stdout
        self.assertIn("Values are brought to the level of the last one by price_index (0.68", text)
        for options, words in (
            ((*by_year, "vessel"), "did you mean 'vessels'"),
            ((*by_year, "vessels", "--series"), "--exposure goes with counts"),
            (
                ("fit", demo["claim_sizes.csv"], "--column", "amount", "--index", "prices"),
                "price_index",
            ),
        ):
            done = run(*options)
            self.assertEqual(done.returncode, 2)
            self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
