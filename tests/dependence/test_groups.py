"""Tests of groups."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.dependence.convert import of_rank_t, rank_of_t
from kindynos.model.review import review
from kindynos.sampling.plans import PLANS
from tests.common import Case, proof

DISTRIBUTIONS = (kd.Exponential(3), kd.Beta(2, 5), kd.Normal(0, 1))


def model(periods=None, **options) -> kd.Model:
    made = kd.Model("together", periods=periods)
    for name, distribution in zip("abc", DISTRIBUTIONS, strict=True):
        made.driver(name, distribution, **options)
    made.outcome("y", "a + b + c" if periods is None else "total(a + b + c)")
    return made


def spearman(x, y) -> float:
    return stats.spearmanr(x, y).statistic


class Reached(Case):
    @proof
    def test_rank_correlations_under_every_plan(self):
        for sampling in PLANS:
            for options in ({}, {"copula": "t", "df": 3}):
                with self.subTest(sampling=sampling, **options):
                    made = model()
                    made.correlate("a", "b", 0.4, **options)
                    made.correlate("b", "c", -0.5, **options)
                    run = made.simulate(16_384, seed=3, sampling=sampling)
                    self.assertAlmostEqual(
                        spearman(run["a"].values, run["b"].values), 0.4, delta=0.03
                    )
                    self.assertAlmostEqual(
                        spearman(run["b"].values, run["c"].values), -0.5, delta=0.03
                    )
                    reached = run.correlations
                    self.assertAlmostEqual(
                        reached["reached"][0], spearman(run["a"].values, run["b"].values)
                    )
                    self.assertEqual(reached["requested"].tolist(), [0.4, -0.5])

    def test_a_single_number_moves_with_the_level_of_what_is_drawn_each_period(self):
        made = kd.Model("Site", periods=5)
        made.driver("cost", kd.Exponential(3))
        made.driver("wage", kd.Normal(50, 5), each="period")
        made.driver("fuel", kd.GeometricBrownianMotion(50.0, 0.02, 0.3))
        made.driver("tide", kd.MeanReverting(50.0, 60.0, 1.5, 8.0))
        made.driver("delay", kd.Uniform(0, 1))
        made.outcome("y", "cost + delay + total(wage * fuel * tide)")
        made.correlate("tide", "delay", 0.2)
        made.correlate("cost", "wage", 0.5)
        made.correlate("wage", "fuel", 0.3)
        made.correlate("fuel", "delay", -0.7)
        told = {entry.name: entry.text for entry in review(made.compiled())}
        self.assertIn("with the level of wage over all 5 periods", told["cost and wage"])
        self.assertIn("a single period it is about 0.22", told["cost and wage"])
        for sampling in PLANS:
            with self.subTest(sampling=sampling):
                run = made.simulate(16_384, seed=3, sampling=sampling)
                cost, wage, fuel, reverting, delay = (
                    run[name].values for name in ("cost", "wage", "fuel", "tide", "delay")
                )
                for one, other, stated in (
                    (cost, wage.mean(axis=0), 0.5),
                    (wage[2], np.log(fuel[2] / fuel[1]), 0.3),
                    (fuel.mean(axis=0), delay, -0.7),
                    (cost, wage[3], 0.5 / np.sqrt(5)),
                    (reverting.mean(axis=0), delay, 0.2),
                    (cost, delay, 0.0),
                ):
                    self.assertAlmostEqual(spearman(one, other), stated, delta=0.03)
                self.assertAlmostEqual(cost.mean(), 3, delta=0.1)
                self.assertAlmostEqual(stats.kstest(delay, "uniform").statistic, 0, delta=0.012)
                reached = run.correlations["reached"]
                self.assertAlmostEqual(reached[0], spearman(reverting.mean(axis=0), delay))
                self.assertAlmostEqual(reached[1], spearman(cost, wage.mean(axis=0)))
                np.testing.assert_allclose(reached, [0.2, 0.5, 0.3, -0.7], atol=0.025)
        with self.fails("are drawn alike, not that of wage, fuel, tide, cost, delay"):
            run.sensitivity("y", "shapley")

    def test_levels_of_what_is_kept_from_period_to_period(self):
        made = kd.Model("Site", periods=5)
        made.driver("cost", kd.Exponential(3))
        made.driver("wage", kd.Normal(50, 5), each="period", serial=0.7)
        made.driver("rent", kd.Normal(9, 1), each="period", serial=0.2)
        made.driver("fuel", kd.Normal(9, 1), each="period")
        made.outcome("y", "cost + total(wage + rent + fuel)")
        made.correlate("wage", "rent", 0.4)
        made.correlate("rent", "fuel", 0.3)
        for name, stated in (("wage", 0.6), ("rent", 0.5), ("fuel", -0.2)):
            made.correlate("cost", name, stated)
        for sampling in ("random", "latin"):
            with self.subTest(sampling=sampling):
                run = made.simulate(16_384, seed=4, sampling=sampling)
                cost, wage, rent, fuel = (run[n].values for n in ("cost", "wage", "rent", "fuel"))
                for one, other, stated in (
                    (cost, wage.mean(axis=0), 0.6),
                    (cost, rent.mean(axis=0), 0.5),
                    (cost, fuel.mean(axis=0), -0.2),
                    (wage[2], wage[3], 0.7),
                    (rent[0], rent[1], 0.2),
                    (wage[3], rent[3], 0.4),
                    (rent[4], fuel[4], 0.3),
                ):
                    self.assertAlmostEqual(spearman(one, other), stated, delta=0.025)
        departed = made.robustness("y", trials=200, seed=1)
        self.assertIn("kept from period to period 0.8", departed.moved("mean").index)

    def test_levels_that_hang_on_their_periods_unlike(self):
        """A process counts its first shocks most, what is drawn each period all of them alike:
        their levels are less correlated than their shocks are, by 15 / sqrt(5 x 55).
        """
        made = kd.Model("Site", periods=5)
        made.driver("cost", kd.Normal(9, 1))
        made.driver("wage", kd.Normal(50, 5), each="period")
        made.driver("fuel", kd.GeometricBrownianMotion(50.0, 0.0, 0.1))
        made.outcome("y", "cost + total(wage * fuel)")
        for *names, stated in (
            ("wage", "fuel", 0.95),
            ("cost", "wage", 0.6),
            ("cost", "fuel", 0.4),
        ):
            made.correlate(*names, stated)
        run = made.simulate(16_384, seed=5)
        cost, wage, fuel = (run[name].values for name in ("cost", "wage", "fuel"))
        self.assertAlmostEqual(spearman(cost, wage.mean(axis=0)), 0.6, delta=0.025)
        self.assertAlmostEqual(spearman(cost, fuel.mean(axis=0)), 0.4, delta=0.025)
        apart = 0.95 * 15 / np.sqrt(5 * 55)
        self.assertAlmostEqual(spearman(wage.mean(axis=0), fuel.mean(axis=0)), apart, delta=0.02)

    def test_kendalls_tau_of_archimedean_copulas(self):
        for copula, parameter, tau in (
            ("clayton", 2, 0.5),
            ("gumbel", 2, 0.5),
            ("frank", 5.736283, 0.5),
            ("gumbel", 1, 0),
        ):
            for statement in ({"parameter": parameter}, {"tau": tau}):
                if tau == 0 and "tau" in statement:
                    continue
                with self.subTest(copula=copula, **statement):
                    made = model()
                    made.correlate("a", "b", "c", copula=copula, **statement)
                    run = made.simulate(4000, seed=2)
                    for one, other in ("ab", "bc", "ac"):
                        found = stats.kendalltau(run[one].values, run[other].values).statistic
                        self.assertAlmostEqual(found, tau, delta=0.035)
        made = model()
        made.correlate("a", "b", copula="frank", tau=-0.4)
        run = made.simulate(4000, seed=2)
        self.assertAlmostEqual(
            stats.kendalltau(run["a"].values, run["b"].values).statistic, -0.4, delta=0.03
        )

    def test_tails_come_together_as_published(self):
        """Below a level u, Clayton's joint chance is (2 u**-p - 1)**(-1/p); the t copula's is its
        bivariate cdf.
        """
        level = 0.01
        made = model()
        made.correlate("a", "b", copula="clayton", parameter=2)
        run = made.simulate(200_000, seed=1)
        low = [
            run[n].values < distribution.quantile(level)
            for n, distribution in zip("ab", DISTRIBUTIONS[:2], strict=True)
        ]
        self.assertAlmostEqual((low[0] & low[1]).mean(), (2 * level**-2 - 1) ** -0.5, delta=0.0007)
        made = model()
        made.correlate("a", "b", 0.5, copula="t", df=3)
        run = made.simulate(200_000, seed=1)
        low = [
            run[n].values < distribution.quantile(level)
            for n, distribution in zip("ab", DISTRIBUTIONS[:2], strict=True)
        ]
        correlation = of_rank_t(0.5, 3)
        point = stats.t.ppf(level, 3)
        joint = stats.multivariate_t([0, 0], [[1, correlation], [correlation, 1]], df=3).cdf(
            [point, point], random_state=1
        )
        self.assertAlmostEqual((low[0] & low[1]).mean(), joint, delta=0.0006)

    def test_rank_of_t_copula(self):
        rng = np.random.default_rng(1)
        normal = rng.multivariate_normal([0, 0], [[1, 0.6], [0.6, 1]], 400_000) / np.sqrt(
            rng.chisquare(2, (400_000, 1)) / 2
        )
        self.assertAlmostEqual(rank_of_t(0.6, 2), spearman(*normal.T), delta=0.004)
        self.assertAlmostEqual(of_rank_t(rank_of_t(0.3, 4), 4), 0.3, places=6)

    def test_linear_correlation(self):
        made = kd.Model("m")
        made.driver("a", kd.LogNormal(1, 1))
        made.driver("b", kd.Exponential(2))
        made.correlate("a", "b", 0.5, kind="linear")
        run = made.simulate(100_000, seed=1)
        self.assertAlmostEqual(
            np.corrcoef(run["a"].values, run["b"].values)[0, 1], 0.5, delta=0.015
        )
        made = kd.Model("m")
        made.driver("a", kd.LogNormal(1, 3))
        made.driver("b", kd.LogNormal(1, 3))
        made.correlate("a", "b", -0.9, kind="linear")
        with self.fails("a with b", "from -0.1", "-0.9 was requested"):
            made.base_case()

    def test_linear_and_rank_correlations_of_discrete_drivers(self):
        pair = {"a": kd.Poisson(1), "b": kd.Bernoulli(0.3)}
        model = kd.Model("counts")
        for name, distribution in pair.items():
            model.driver(name, distribution)
        model.correlate("a", "b", 0.5, kind="linear")
        model.outcome("y", "a + b")
        run = model.simulate(100_000, seed=1)
        self.assertAlmostEqual(
            np.corrcoef(run["a"].values, run["b"].values)[0, 1], 0.5, delta=0.008
        )
        ranked = kd.Model("ties")
        for name, distribution in pair.items():
            ranked.driver(name, distribution)
        ranked.correlate("a", "b", 0.5)
        ranked.outcome("y", "a + b")
        found = ranked.simulate(50_000, seed=1)
        reached = stats.spearmanr(found["a"].values, found["b"].values)[0]
        findings = review(ranked.compiled())
        self.assertTrue(
            any(f"comes out as {reached:.2f}" in finding.text for finding in findings), findings
        )

    def test_the_nearest_matrix_is_accepted(self):
        rng = np.random.default_rng(1)
        names = list("abcde")
        for _ in range(10):
            asked = rng.uniform(-1, 1, (5, 5))
            asked = (asked + asked.T) / 2
            np.fill_diagonal(asked, 1)
            model = kd.Model("m")
            for name in names:
                model.driver(name, kd.Normal(0, 1))
            model.outcome("y", "a + b + c + d + e")
            model.correlate(pd.DataFrame(kd.nearest_correlation(asked), names, names))
            self.assertEqual(model.simulate(300, seed=1).size, 300)

    def test_a_matrix(self):
        requested = pd.DataFrame(
            [[1, 0.3, 0.1], [0.3, 1, -0.4], [0.1, -0.4, 1]], list("abc"), list("abc")
        )
        made = model()
        made.correlate(requested)
        run = made.simulate(20_000, seed=1)
        found = pd.DataFrame({n: run[n].values for n in "abc"}).corr("spearman")
        self.assertLess((found - requested).abs().to_numpy().max(), 0.02)

    def test_period_by_period_and_serial(self):
        made = kd.Model("m", periods=6)
        made.driver("a", kd.Normal(0, 1), each="period", serial=0.6)
        made.driver("b", kd.Exponential(1), each="period", serial=0.2)
        made.correlate("a", "b", 0.5)
        made.outcome("y", "total(a + b)")
        for sampling in ("latin", "random"):
            run = made.simulate(20_000, seed=1, sampling=sampling)
            a, b = run["a"].values, run["b"].values
            for t in range(6):
                self.assertAlmostEqual(spearman(a[t], b[t]), 0.5, delta=0.025)
            for t in range(5):
                self.assertAlmostEqual(spearman(a[t], a[t + 1]), 0.6, delta=0.02)
                self.assertAlmostEqual(spearman(b[t], b[t + 1]), 0.2, delta=0.03)

    def test_every_stratum_stays_occupied(self):
        for options in ({}, {"copula": "t", "df": 4}):
            made = kd.Model("m", periods=3)
            for name in "ab":
                made.driver(
                    name,
                    kd.Uniform(0, 1),
                    each="period",
                    **({"serial": 0.5} if not options else {}),
                )
            made.correlate("a", "b", 0.7, **options)
            run = made.simulate(2000, seed=1)
            for row in (*run["a"].values, *run["b"].values):
                for block in row.reshape(20, 100):
                    np.testing.assert_array_equal(np.sort(np.floor(block * 100)), np.arange(100))

    def test_the_first_driver_and_those_apart_keep_their_draws(self):
        plain, made = model(), model()
        made.correlate("a", "b", 0.8)
        for sampling in ("latin", "random"):
            before, after = (m.simulate(3000, seed=5, sampling=sampling) for m in (plain, made))
            for name in "ac":
                np.testing.assert_array_equal(before[name].values, after[name].values)
            self.assertFalse((before["b"].values == after["b"].values).any())

    def test_redrawing_and_facts(self):
        made = model()
        made.correlate("a", "b", 0.8)
        run = made.simulate(3000, seed=5)
        self.assertEqual(run.trial(7).loc["b", "value"], run["b"].values[7])
        self.assertEqual(
            run.facts()["assumed independent"], ["these drivers and groups: (a, b); c"]
        )
