"""Drivers whose distributions have named parameters: figures, rows, lines and other drivers."""

import math
import pickle
import unittest

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import example, parameters_of
from kindynos.model.file import model_from_text
from tests.common import proof


def overbooked(**options):
    model = kd.Model("Berths")
    model.given(sold=194, fare=95.0)
    model.driver("no_shows", kd.Binomial(trials="sold", probability=0.07), **options)
    model.outcome("shows", "sold - no_shows")
    return model


def hierarchy(periods=None):
    model = kd.Model("Uncertain mean", periods=periods)
    model.driver("level", kd.Normal(100, 30))
    model.driver("sales", kd.Normal("level", 40), each="period" if periods else None)
    model.outcome("result", "total(sales)" if periods else "sales + 0")
    return model


class Figures(unittest.TestCase):
    def test_a_figure_that_changes_takes_the_distribution_along(self):
        swept = overbooked().sweep(sold=[194, 250], statistic="mean", trials=2000, seed=1)
        for sold, mean in zip((194, 250), swept.table()["shows"], strict=True):
            self.assertAlmostEqual(mean, sold * 0.93, delta=0.05)
        self.assertAlmostEqual(
            overbooked().replace(sold=300).simulate(2000, seed=1)["no_shows"].mean, 21, delta=0.05
        )
        base = overbooked().sweep(sold=[100, 200, 300], statistic="base").table()["shows"]
        np.testing.assert_allclose(base, [93, 186, 279])

    def test_the_same_numbers_as_with_the_figure_itself(self):
        plain = kd.Model("Berths")
        plain.given(sold=194, fare=95.0)
        plain.driver("no_shows", kd.Binomial(194, 0.07))
        plain.outcome("shows", "sold - no_shows")
        one, two = (model.simulate(500, seed=3)["shows"].values for model in (plain, overbooked()))
        np.testing.assert_array_equal(one, two)

    def test_parameters_are_replaced_and_swept(self):
        changed = overbooked().replace(**{"no_shows.probability": 0.5})
        self.assertEqual(float(changed.base_case().loc["no_shows", "value"]), 97)
        swept = overbooked().sweep(
            sold=[100, 200], statistic="base", **{"no_shows.probability": [0.1, 0.2]}
        )
        np.testing.assert_allclose(swept.table()["shows"], [90, 80, 180, 160])

    def test_a_given_base_value_stands(self):
        self.assertEqual(float(overbooked(base=14).base_case().loc["shows", "value"]), 180)


class Rows(unittest.TestCase):
    def test_a_row_among_the_parameters_makes_a_row(self):
        model = kd.Model("Ramp", periods=3)
        model.given(ramp=[10.0, 20.0, 30.0])
        model.driver("demand", kd.Normal(mean="ramp", sd=2))
        model.driver("yearly", kd.Normal(mean="ramp", sd=2), each="period")
        model.outcome("all_demand", "total(demand)")
        model.outcome("all_yearly", "total(yearly)")
        run = model.simulate(4000, seed=2)
        np.testing.assert_allclose(run.row("demand").values.mean(axis=1), [10, 20, 30], atol=0.01)
        # one draw moves all the periods
        self.assertAlmostEqual(run["all_demand"].sd, 6, delta=0.05)
        self.assertAlmostEqual(run["all_yearly"].sd, 2 * math.sqrt(3), delta=0.08)
        np.testing.assert_allclose(run.base["yearly"][:, 0], [10, 20, 30])


class Drivers(unittest.TestCase):
    def test_a_normal_with_a_normal_mean(self):
        run = hierarchy().simulate(20_000, seed=5, sampling="random")
        self.assertAlmostEqual(run["sales"].sd, 50, delta=1)
        self.assertGreater(stats.kstest(run["sales"].values, stats.norm(100, 50).cdf).pvalue, 0.01)
        np.testing.assert_allclose(
            np.corrcoef(run["level"].values, run["sales"].values)[0, 1], 0.6, atol=0.02
        )

    @proof
    def test_a_poisson_with_a_gamma_mean_is_negative_binomial(self):
        model = kd.Model("Calls")
        model.driver("rate", kd.Gamma(3, 4))
        model.driver("calls", kd.Poisson("rate"))
        model.outcome("answered", "calls")
        counts = model.simulate(8000, seed=1, sampling="random")["calls"].values
        self.assertTrue((counts == np.round(counts)).all())
        self.assertAlmostEqual(counts.mean(), 12, delta=0.3)
        self.assertAlmostEqual(counts.var(), 12 + 3 * 16, delta=4)

    def test_a_line_among_the_parameters(self):
        model = kd.Model("Lines")
        model.given(seats=100)
        model.driver("load", kd.Uniform(0.5, 1.0))
        model.line("expected", "seats * load")
        model.driver("sold", kd.Triangular(0, "expected", 150))
        model.outcome("income", "sold * 2")
        self.assertAlmostEqual(
            model.simulate(4000, seed=1)["income"].mean, 2 * (0 + 75 + 150) / 3, delta=1
        )

    def test_shares_of_variance(self):
        run = hierarchy().simulate(2000, seed=1)
        for method, column in (("sobol", "first order"), ("shapley", "share of variance")):
            shares = run.sensitivity("result", method=method)[column]
            self.assertAlmostEqual(shares["level"], 0.36, delta=0.02, msg=method)
            self.assertAlmostEqual(shares["sales"], 0.64, delta=0.02, msg=method)

    def test_swings_and_the_base_case(self):
        swing = hierarchy().simulate(500, seed=1).sensitivity("result", method="swing")
        self.assertEqual(swing.attrs["base"], 100)
        self.assertAlmostEqual(swing.loc["level", "swing"], 60 * stats.norm.ppf(0.9), places=6)
        self.assertAlmostEqual(
            swing.loc["sales", "driver at P90"], 100 + 40 * stats.norm.ppf(0.9), places=6
        )

    def test_the_same_draws_for_any_workers_and_in_one_trial(self):
        model = hierarchy(periods=4)
        one, two = (model.simulate(9000, seed=7, workers=workers) for workers in (1, 3))
        np.testing.assert_array_equal(one["result"].values, two["result"].values)
        np.testing.assert_allclose(
            model.inputs(11, trials=9000, seed=7)["sales"], one.row("sales").values[:, 11]
        )
        again = pickle.loads(pickle.dumps(model)).simulate(9000, seed=7)
        np.testing.assert_array_equal(one["result"].values, again["result"].values)

    def test_every_distribution_with_array_parameters_agrees_with_itself_one_by_one(self):
        rng = np.random.default_rng(4)
        scores, scale = rng.random(200), rng.uniform(0.9, 1.1, 200)
        tried = 0
        for label, kind in CATALOGUE.items():
            if not kind.by_trial:
                continue
            (name, value), *rest = parameters_of(example(kind)).items()
            stated = kind(**{name: "x"}, **dict(rest))
            found = stated.values(scores, {"x": value * scale})
            alone = [
                kind(**{name: value * s}, **dict(rest)).quantile(u)
                for s, u in zip(scale, scores, strict=True)
            ]
            np.testing.assert_allclose(found, alone, rtol=1e-12, err_msg=label)
            tried += 1
        self.assertGreater(tried, 10)


class Files(unittest.TestCase):
    TEXT = """
[model]
name = "Berths"
[given]
sold = 194
[drivers.no_shows]
distribution = "binomial"
trials = "sold"
probability = 0.07
[outcomes]
shows = "sold - no_shows"
[scenarios.more]
sold = 250
"""

    def test_written_and_read_again(self):
        model = model_from_text(self.TEXT)
        self.assertEqual(model.quantities["no_shows"].needs, ("sold",))
        again = model_from_text(model.to_toml())
        self.assertEqual(again.quantities["no_shows"], model.quantities["no_shows"])
        self.assertAlmostEqual(
            model.compare(trials=500, seed=1).runs["more"]["no_shows"].mean, 17.5, delta=0.1
        )

    def test_mistakes(self):
        for old, new, message in (
            ('"sold"', '"sald"', r"no_shows\].*'sald' among its parameters, .*did you mean 'sold'"),
            ('"sold"', '"shows"', "no_shows.*circle|circle.*no_shows|calculated from it"),
            ("sold = 194", "sold = 194.5", "trials must be a whole number.*where sold is 194.5"),
            ("sold = 194", "sold = [[1, 2], [3, 4]]", "a parameter cannot be the table 'sold'"),
        ):
            with self.subTest(new), self.assertRaisesRegex(kd.KindynosError, message):
                model_from_text(self.TEXT.replace(old, new))

    def test_it_has_no_values_of_its_own(self):
        with self.assertRaisesRegex(kd.ModelError, "no mean of its own: sold"):
            _ = kd.Poisson("sold").mean
        with self.assertRaisesRegex(kd.ParameterError, "mean must be"):
            kd.Normal("3,5", 1)

    def test_parameters_that_cannot_be_are_said_with_their_values(self):
        model = kd.Model("Bad")
        model.driver("sd_of_it", kd.Normal(1, 1))
        model.driver("x", kd.Normal(0, "sd_of_it"))
        model.outcome("y", "x")
        with self.assertRaisesRegex(
            kd.KindynosError, r"driver 'x': .*sd must be above 0, not -\d.*where sd_of_it is -\d"
        ):
            model.simulate(1000, seed=1)
