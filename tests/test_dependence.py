"""Drivers that move together: what is asked is reached, strata stay whole, and what cannot be is said."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.dependence.convert import of_rank_t, rank_of_t
from kindynos.sampling.plans import PLANS
from tests.common import Case

LAWS = (kd.Exponential(3), kd.Beta(2, 5), kd.Normal(0, 1))


def model(periods=None, **options) -> kd.Model:
    made = kd.Model("together", periods=periods)
    for name, law in zip("abc", LAWS, strict=True):
        made.driver(name, law, **options)
    made.outcome("y", "a + b + c" if periods is None else "total(a + b + c)")
    return made


def spearman(x, y) -> float:
    return stats.spearmanr(x, y).statistic


class Reached(Case):
    def test_rank_correlations_under_every_plan(self):
        for sampling in PLANS:
            for options in ({}, {"copula": "t", "df": 3}):
                with self.subTest(sampling=sampling, **options):
                    made = model()
                    made.correlate("a", "b", 0.4, **options)
                    made.correlate("b", "c", -0.5, **options)
                    run = made.simulate(16_384, seed=3, sampling=sampling)
                    self.assertAlmostEqual(spearman(run["a"].values, run["b"].values), 0.4, delta=0.03)
                    self.assertAlmostEqual(spearman(run["b"].values, run["c"].values), -0.5, delta=0.03)
                    reached = run.correlations()
                    self.assertAlmostEqual(reached["reached"][0], spearman(run["a"].values, run["b"].values))
                    self.assertEqual(reached["asked"].tolist(), [0.4, -0.5])

    def test_kendalls_tau_of_archimedean_copulas(self):
        for copula, parameter, tau in (("clayton", 2, 0.5), ("gumbel", 2, 0.5), ("frank", 5.736283, 0.5), ("gumbel", 1, 0)):
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
        self.assertAlmostEqual(stats.kendalltau(run["a"].values, run["b"].values).statistic, -0.4, delta=0.03)

    def test_tails_come_together_as_published(self):
        """Below a level u, Clayton's joint chance is (2 u**-p - 1)**(-1/p); the t copula's is its bivariate cdf."""
        level = 0.01
        made = model()
        made.correlate("a", "b", copula="clayton", parameter=2)
        run = made.simulate(200_000, seed=1)
        low = [run[n].values < law.quantile(level) for n, law in zip("ab", LAWS[:2], strict=True)]
        self.assertAlmostEqual((low[0] & low[1]).mean(), (2 * level**-2 - 1) ** -0.5, delta=0.0007)
        made = model()
        made.correlate("a", "b", 0.5, copula="t", df=3)
        run = made.simulate(200_000, seed=1)
        low = [run[n].values < law.quantile(level) for n, law in zip("ab", LAWS[:2], strict=True)]
        correlation = of_rank_t(0.5, 3)
        point = stats.t.ppf(level, 3)
        joint = stats.multivariate_t([0, 0], [[1, correlation], [correlation, 1]], df=3).cdf([point, point], random_state=1)
        self.assertAlmostEqual((low[0] & low[1]).mean(), joint, delta=0.0006)

    def test_rank_of_t_copula(self):
        rng = np.random.default_rng(1)
        normal = rng.multivariate_normal([0, 0], [[1, 0.6], [0.6, 1]], 400_000) / np.sqrt(rng.chisquare(2, (400_000, 1)) / 2)
        self.assertAlmostEqual(rank_of_t(0.6, 2), spearman(*normal.T), delta=0.004)
        self.assertAlmostEqual(of_rank_t(rank_of_t(0.3, 4), 4), 0.3, places=6)

    def test_linear_correlation(self):
        made = kd.Model("m")
        made.driver("a", kd.LogNormal(1, 1))
        made.driver("b", kd.Exponential(2))
        made.correlate("a", "b", 0.5, kind="linear")
        run = made.simulate(100_000, seed=1)
        self.assertAlmostEqual(np.corrcoef(run["a"].values, run["b"].values)[0, 1], 0.5, delta=0.015)
        made = kd.Model("m")
        made.driver("a", kd.LogNormal(1, 3))
        made.driver("b", kd.LogNormal(1, 3))
        made.correlate("a", "b", -0.9, kind="linear")
        with self.fails("a with b", "from -0.1", "-0.9 is asked"):
            made.base_case()

    def test_a_matrix(self):
        asked = pd.DataFrame([[1, 0.3, 0.1], [0.3, 1, -0.4], [0.1, -0.4, 1]], list("abc"), list("abc"))
        made = model()
        made.correlate(asked)
        run = made.simulate(20_000, seed=1)
        found = pd.DataFrame({n: run[n].values for n in "abc"}).corr("spearman")
        self.assertLess((found - asked).abs().to_numpy().max(), 0.02)

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
                made.driver(name, kd.Uniform(0, 1), each="period", **({"serial": 0.5} if not options else {}))
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
        self.assertEqual(run.facts()["assumed independent"], ["of each other: (a, b); c"])


class CannotBe(Case):
    def impossible(self, **options):
        made = model()
        for one, other, figure in (("a", "b", 0.9), ("b", "c", 0.9), ("a", "c", -0.5)):
            made.correlate(one, other, figure, **options)
        return made

    def test_is_an_error_that_names_the_pairs(self):
        with self.fails("cannot all be", "a with c (-0.500", "nearest", "nearest_correlation", "repair=True"):
            self.impossible().simulate(1000)

    def test_is_repaired_and_said(self):
        run = self.impossible(repair=True).simulate(20_000, seed=1)
        self.assertEqual(len(run.facts()["repaired"]), 3)
        self.assertRegex(run.facts()["repaired"][0], r"a with b: 0\.900 became 0\.\d+")
        self.assertGreater(run.correlations()["reached"][2], -0.35)

    def test_nearest_correlation_as_published(self):
        """Higham 2002, section 1: the nearest to this matrix has 0.7607 and 0.1573."""
        near = kd.nearest_correlation([[1, 1, 0], [1, 1, 1], [0, 1, 1]])
        np.testing.assert_allclose(near[[0, 1, 0], [1, 2, 2]], [0.7607, 0.7607, 0.1573], atol=5e-5)
        self.assertGreaterEqual(np.linalg.eigvalsh(near)[0], -1e-12)
        fine = np.array([[1, 0.2], [0.2, 1]])
        np.testing.assert_allclose(kd.nearest_correlation(fine), fine)
        held = kd.nearest_correlation([[1, 0.9, -0.5], [0.9, 1, 0.9], [-0.5, 0.9, 1]], fixed=[(0, 1)])
        self.assertEqual(held[0, 1], 0.9)
        self.assertGreaterEqual(np.linalg.eigvalsh(held)[0], -1e-6)
        heavy = kd.nearest_correlation([[1, 0.9, -0.5], [0.9, 1, 0.9], [-0.5, 0.9, 1]], weights=[100, 100, 1])
        self.assertLess(abs(heavy[0, 1] - 0.9), 0.02)

    def test_bad_input(self):
        rows = pd.DataFrame([[1.0, 0.3], [0.3, 1.0]], list("ab"), list("ab"))
        for what, options, fragments in (
            (("a", "b", 1.2), {}, ("from -1 to 1", "1.2")),
            (("a", "a", 0.2), {}, ("'a' cannot be correlated with itself",)),
            (("a", "hurdle", 0.2), {}, ("'hurdle' is a given figure or a line",)),
            (("a", "bb", 0.2), {}, ("'bb' is not declared", "did you mean 'b'?")),
            (("a", "p", 0.2), {}, ("not drawn alike",)),
            (("a", "b"), {}, ("state one of a correlation",)),
            (("a", "b", 0.2), {"tau": 0.3}, ("state one of",)),
            (("a", "b", 0.2), {"kind": "pearson"}, ("kind", "'linear'", "'pearson'")),
            (("a", "b", 0.2), {"copula": "galton"}, ("copula", "'clayton'", "'galton'")),
            (("a", "b", 0.2), {"copula": "t"}, ("needs df=",)),
            (("a", "b", 0.2), {"df": 3}, ("takes no df",)),
            (("a", "b", 0.2), {"copula": "t", "df": -1}, ("df", "above 0")),
            (("a", "b", 0.2), {"copula": "t", "df": 3, "kind": "linear"}, ("goes with the gaussian",)),
            (("a", "b"), {"copula": "clayton", "parameter": -1}, ("clayton", "above 0", "-1")),
            (("a", "b"), {"copula": "gumbel", "parameter": 0.5}, ("gumbel", "at least 1", "0.5")),
            (("a", "b", "c"), {"copula": "frank", "parameter": -2}, ("above 0 for more than two drivers",)),
            (("a", "b"), {"copula": "clayton", "tau": -0.2}, ("tau", "between 0 and 1", "-0.2")),
            (("a", "b", 0.5), {"copula": "clayton"}, ("parameter= or tau=",)),
            (("a", "b", "c", 0.5), {}, ("of two drivers", "matrix")),
            ((rows.rename(index={"a": "z"}),), {}, ("same names",)),
            (([[1, 0.3], [0.3, 1]],), {}, ("must be a DataFrame",)),
            ((rows.replace(0.3, 2.0),), {}, ("from -1 to 1", "a with b is 2")),
            ((rows.where(rows != 1.0, 0.9),), {}, ("diagonal must be 1", "0.9")),
            ((pd.DataFrame([[1, 0.3], [0.2, 1]], list("ab"), list("ab")),), {}, ("symmetric", "0.3", "0.2")),
        ):
            made = kd.Model("m", periods=2)
            made.given(hurdle=0.1)
            for name, law in zip("abc", LAWS, strict=True):
                made.driver(name, law)
            made.driver("p", kd.Normal(0, 1), each="period")
            with self.subTest(what=what, options=options), self.fails(*fragments):
                made.correlate(*what, **options)
                made.base_case()
        made = model()
        made.correlate("a", "b", 0.3)
        made.correlate("a", "b", 0.3)  # the same again is no clash
        with self.fails("correlated already (0.3)"):
            made.correlate("b", "a", 0.4)
        made.correlate("b", "c", copula="clayton", parameter=1)
        with self.fails("hang together", "one copula"):
            made.base_case()
        with self.fails("serial= needs each"):
            made.driver("s", kd.Normal(0, 1), serial=0.4)
        with self.fails("serial must be between -1 and 1", "1.5"):
            kd.Model("m", periods=2).driver("s", kd.Normal(0, 1), each="period", serial=1.5)
