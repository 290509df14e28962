"""Tests of rankings of distributions."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case, proof


class Rankings(Case):
    def test_criteria_are_those_of_the_textbook(self):
        values = kd.Gamma(2, 3).sample(60, seed=1)
        ranking = kd.fit_distributions(values, ["normal", "gamma"], samples=19)
        theirs = stats.norm(*stats.norm.fit(values)).logpdf(values).sum()
        answer = ranking["normal"].fitted
        self.assertAlmostEqual(answer.aic, 4 - 2 * theirs)
        self.assertAlmostEqual(answer.bic, 2 * np.log(60) - 2 * theirs)
        self.assertAlmostEqual(answer.aicc, 4 - 2 * theirs + 12 / 57)
        gap = ranking["normal"].fitted.aic - ranking["gamma"].fitted.aic
        self.assertAlmostEqual(
            ranking.weights["gamma"] / ranking.weights["normal"], np.exp(gap / 2)
        )
        self.assertEqual(ranking.best.label, "gamma")
        average = ranking.average()
        self.assertAlmostEqual(
            average.mean, sum(ranking.weights[one.label] * one.mean for one in ranking)
        )

    def test_distances_are_scipys(self):
        values = kd.Normal(3, 2).sample(80, seed=1)
        ranking = kd.fit_distributions(values, ["normal", "gumbel"], samples=19)
        found = ranking.distances["normal"]
        fitted = stats.norm(values.mean(), values.std())
        self.assertAlmostEqual(found.kolmogorov_smirnov, stats.kstest(values, fitted.cdf).statistic)
        u = np.sort(fitted.cdf(values))
        ranks = 2 * np.arange(1, 81) - 1
        self.assertAlmostEqual(
            found.anderson_darling, -80 - (ranks * (np.log(u) + np.log(1 - u[::-1]))).mean()
        )

    @proof
    def test_bootstrap_p_values_are_uniform_under_the_null(self):
        for truth, name in (
            (kd.Gumbel(0, 1), "gumbel"),
            (kd.Normal(0, 1), "normal"),
            (kd.Poisson(5), "poisson"),
        ):
            p = [
                kd.fit_distributions(row, [name], samples=99).distances[name].anderson_darling_p
                for row in truth.sample((60, 25), seed=6)
            ]
            with self.subTest(name):
                self.assertGreater(stats.kstest(p, "uniform").pvalue, 0.01)
                self.assertTrue(0.3 < np.mean(p) < 0.7)

    def test_the_tabulated_p_value_would_be_too_large(self):
        values = kd.Normal(3, 2).sample(60, seed=8)
        found = kd.fit_distributions(values, ["normal"]).distances["normal"]
        tabulated = stats.kstest(values, stats.norm(values.mean(), values.std()).cdf).pvalue
        self.assertLess(found.kolmogorov_smirnov_p, tabulated)

    def test_it_chooses_candidates_and_says_what_it_left_out(self):
        measured = kd.fit_distributions(kd.Normal(0, 1).sample(50, seed=1), samples=19)
        self.assertIn("lie above 0", measured.left_out["gamma"])
        self.assertIn("must be given", measured.left_out["pert"])
        self.assertNotIn("poisson", measured.names)
        counted = kd.fit_distributions(kd.NegativeBinomial(3, 0.4).sample(100, seed=2), samples=19)
        self.assertEqual(counted.best.label, "negative binomial")
        heavy = kd.fit_distributions(kd.Cauchy(0, 1).sample(200, seed=1), samples=19)
        self.assertEqual(heavy.names[0], "cauchy")
        self.assertIn("student t by scale", heavy.names)
        table = measured.table()
        self.assertIn("left out", table.loc["gamma", "note"])
        self.assertEqual(list(table.index[: len(measured)]), measured.names)
        self.assertIn("cannot tell", measured.verdict)

    def test_bad_requests(self):
        values = np.arange(1.0, 21.0)
        ranking = kd.fit_distributions(values, ["gamma", "lognormal", kd.Weibull], samples=19)
        self.assertEqual(sorted(ranking.names), ["gamma", "lognormal", "weibull"])
        for ask, words in (
            (lambda: ranking["gama"], "did you mean 'gamma'"),
            (lambda: kd.fit_distributions(values, ["gama"]), "did you mean 'gamma'"),
            (lambda: kd.fit_distributions(values, criterion="aci"), "aic"),
            (lambda: kd.fit_distributions(values, ["mixture"]), "cannot be fitted"),
            (lambda: kd.fit_distributions(-values, ["gamma"]), "no candidate can be fitted"),
            (lambda: kd.fit_distributions(values, []), "a name, or a list"),
            (lambda: ranking.plot("histogram"), "density"),
        ):
            with self.subTest(words), self.fails(words):
                ask()

    def test_weighted_values_have_no_p_value(self):
        values = kd.Gamma(2, 3).sample(60, seed=1)
        found = kd.fit_distributions(values, ["gamma"], weights=np.tile([1, 2], 30))
        self.assertTrue(np.isnan(found.distances["gamma"].anderson_darling_p))
