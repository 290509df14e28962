"""Tests of percentiles."""

import math
import tempfile
import warnings
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

import kindynos as kd
from tests.common import Case

TWO = (
    "normal",
    "logistic",
    "laplace",
    "gumbel",
    "cauchy",
    "uniform",
    "lognormal",
    "weibull",
    "log logistic",
    "gamma",
)


MORE = ("inverse gaussian", "pareto", "triangular", "pert")


GIVEN = {5: 1.0, 25: 2.0, 50: 3.0, 75: 5.0, 95: 9.0}


class Percentiles(Case):
    def test_two_are_met_exactly(self):
        for name in (*TWO, *MORE):
            for percentiles in ({10: 4.1, 90: 9.3}, {5: 100.0, 50: 130.0}, {25: 1e6, 75: 2.5e6}):
                if name in ("triangular", "pert") and 50 in percentiles:
                    continue
                with self.subTest(name=name, percentiles=percentiles):
                    distribution = kd.from_percentiles(name, percentiles)
                    self.assertEqual(distribution.label, name)
                    np.testing.assert_allclose(
                        distribution.percentile(list(percentiles)),
                        list(percentiles.values()),
                        rtol=1e-9,
                    )

    def test_three_are_met_exactly(self):
        for name in ("skew normal", "generalized extreme value", "generalized pareto", "pert"):
            with self.subTest(name=name):
                distribution = kd.from_percentiles(name, {10: 4.1, 50: 6, 90: 9.3})
                np.testing.assert_allclose(
                    distribution.percentile([10, 50, 90]), [4.1, 6, 9.3], rtol=1e-8
                )
        np.testing.assert_allclose(
            kd.from_percentiles("beta", {10: 0.2, 90: 0.7}).percentile([10, 90]),
            [0.2, 0.7],
            rtol=1e-9,
        )
        triangle = kd.Triangular(1, 3, 8)
        found = kd.from_percentiles("triangular", {q: triangle.percentile(q) for q in (10, 50, 90)})
        np.testing.assert_allclose([found.low, found.mode, found.high], [1, 3, 8], rtol=1e-6)

    def test_what_cannot_be_met_says_how_far_off(self):
        requested = {10: 4.1, 50: 6, 90: 9.3}
        with self.fails(
            "no normal distribution has all",
            "P10 is",
            "instead of 4.1",
            "fit=True",
            "smooth_percentiles",
        ):
            kd.from_percentiles("normal", requested)
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            distribution = kd.from_percentiles("normal", requested, fit=True)
        self.assertIs(caught[0].category, kd.FitWarning)
        self.assertIn("P90 is", str(caught[0].message))
        best = sum((distribution.percentile(list(requested)) - list(requested.values())) ** 2)
        for mean, sd in (
            (distribution.mean + 0.05, distribution.sd),
            (distribution.mean, distribution.sd * 1.03),
            (distribution.mean, distribution.sd * 0.97),
        ):
            self.assertGreater(
                sum(
                    (kd.Normal(mean, sd).percentile(list(requested)) - list(requested.values()))
                    ** 2
                ),
                best,
            )

    def test_ranges(self):
        distribution = kd.Normal.from_range(14, 19, coverage=0.90)
        self.assertAlmostEqual(distribution.mean, 16.5)
        self.assertAlmostEqual(distribution.sd, 2.5 / stats.norm.ppf(0.95))
        distribution = kd.LogNormal.from_range(14, 19)
        self.assertAlmostEqual(distribution.chance(above=14, below=19), 0.90)
        self.assertAlmostEqual(kd.Pert.from_range(14, 19, 0.8).mode, 16.5)

    def test_bad_input(self):
        for act, fragments in (
            (
                lambda: kd.from_percentiles("lognorml", {10: 1, 90: 2}),
                ("'lognorml'", "did you mean 'lognormal'?"),
            ),
            (
                lambda: kd.from_percentiles("poisson", {10: 1, 90: 2}),
                ("poisson distribution is not given by percentiles",),
            ),
            (
                lambda: kd.from_percentiles("normal", {10: 3, 90: 2}),
                ("must increase", "P90 = 2 follows P10 = 3"),
            ),
            (lambda: kd.from_percentiles("normal", {0: 1, 90: 2}), ("between 0 and 100", "0.0")),
            (lambda: kd.from_percentiles("normal", {50: 1}), ("at least 2", "not 1")),
            (lambda: kd.from_percentiles("lognormal", {10: -1, 90: 2}), ("above 0", "-1")),
            (lambda: kd.from_percentiles("beta", {10: 0.5, 90: 1.5}), ("between 0 and 1", "1.5")),
            (lambda: kd.from_percentiles("student t", {10: 1, 90: 2}), ("3 parameters",)),
            (lambda: kd.Normal.from_range(19, 14), ("low", "below high")),
            (lambda: kd.Normal.from_range(14, 19, 1.0), ("coverage", "between 0 and 1")),
            (lambda: kd.Poisson.from_range(1, 4), ("not given by percentiles",)),
            (
                lambda: kd.smooth_percentiles({5: 1, 95: 2}, low=1.5),
                ("low", "below the lowest", "1.5"),
            ),
            (lambda: kd.smooth_percentiles({5: 1, 95: 2}, high=2), ("high", "above the highest")),
            (
                lambda: kd.smooth_percentiles({5: 1, 95: float("nan")}),
                ("the value at P95", "finite"),
            ),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                act()


class Smooth(Case):
    def test_passes_through_all_percentiles(self):
        for low, high in ((None, None), (0, None), (None, 20), (0, 20)):
            distribution = kd.smooth_percentiles(GIVEN, low, high)
            with self.subTest(low=low, high=high):
                np.testing.assert_allclose(
                    distribution.percentile(list(GIVEN)), list(GIVEN.values()), rtol=1e-12
                )
                u = np.concatenate(
                    [
                        np.logspace(-10, -1, 40),
                        np.linspace(0.1, 0.9, 50),
                        1 - np.logspace(-1, -10, 40),
                    ]
                )
                u = np.unique(u)
                x = distribution.quantile(u)
                self.assertTrue((np.diff(x) > 0).all())
                np.testing.assert_allclose(distribution.cdf(x), u, rtol=0, atol=1e-10)
                self.assertTrue((x > (low if low is not None else -math.inf)).all())
                self.assertTrue((x < (high if high is not None else math.inf)).all())
                step = 1e-5
                middle = x[30:100]
                slope = (distribution.cdf(middle + step) - distribution.cdf(middle - step)) / (
                    2 * step
                )
                np.testing.assert_allclose(distribution.pdf(middle), slope, rtol=2e-3)
                self.assertAlmostEqual(
                    distribution.mean,
                    np.mean(distribution.quantile((np.arange(200_000) + 0.5) / 200_000)),
                    delta=1e-3,
                )

    def test_of_a_normals_percentiles_is_the_normal(self):
        q = np.array([5, 25, 50, 75, 95])
        distribution = kd.smooth_percentiles(
            dict(zip(q, stats.norm(10, 2).ppf(q / 100), strict=True))
        )
        self.assertAlmostEqual(distribution.mean, 10, places=6)
        self.assertAlmostEqual(
            distribution.percentile(99.9), stats.norm(10, 2).ppf(0.999), places=6
        )

    @settings(max_examples=50, deadline=None)
    @given(st.lists(st.floats(0.01, 100), min_size=3, max_size=7))
    def test_any_increasing_values_serve(self, steps):
        values = np.cumsum(steps)
        levels = np.linspace(5, 95, len(values))
        distribution = kd.smooth_percentiles(
            dict(zip(levels.tolist(), values.tolist(), strict=True))
        )
        np.testing.assert_allclose(distribution.percentile(levels), values, rtol=1e-9)
        self.assertTrue((np.diff(distribution.quantile(np.linspace(0.001, 0.999, 200))) > 0).all())


class FromFiles(Case):
    def test_distributions_inside_others_make_the_round_trip(self):
        model = kd.Model("m", periods=2)
        model.driver(
            "a", kd.Mixture([kd.Pert(1, 2, 4), kd.Normal(3, 1).truncate(0, None)], [0.7, 0.3])
        )
        model.driver("b", kd.Compound(kd.Poisson(2), kd.Gamma(2, 3)))
        model.driver("c", 2 * kd.Empirical([1, 2, 5], steps=True) + 3)
        model.driver(
            "d", kd.smooth_percentiles({5: 1, 50: 3, 95: 9}, low=0), each="period", serial=0.3
        )
        model.driver("e", kd.StudentT(5, 0, 1), each="period")
        model.correlate("d", "e", 0.4)
        model.correlate("a", "b", copula="clayton", tau=0.3)
        model.outcome("y", "a + b + c + total(d * e)")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            again = kd.load_model(path)
            self.assertEqual(dict(again.quantities), dict(model.quantities))
            self.assertEqual(again.correlations, model.correlations)
            np.testing.assert_array_equal(
                again.simulate(500, seed=1)["y"].values, model.simulate(500, seed=1)["y"].values
            )
            for old, new, fragments in (
                ('"clayton"', '"clayten"', ("[[correlations]] number 2", "'clayten'")),
                (
                    "value = 0.4",
                    "value = 1.4",
                    ("[[correlations]] number 1", "from -1 to 1", "1.4"),
                ),
                ("between", "betwen", ("correlations", "'betwen'", "did you mean 'between'?")),
                ('    "e",', '    "f",', ("'f' is not declared",)),
                ("shape = 2.0", "shape = -2.0", ("[drivers.b]", "Gamma: shape", "above 0", "-2.0")),
                (
                    'distribution = "gamma"',
                    'distribution = "gama"',
                    ("[drivers.b]", "'gama'", "did you mean 'gamma'?"),
                ),
            ):
                self.assertIn(old, model.to_toml())
                path.write_text(model.to_toml().replace(old, new, 1), encoding="utf-8")
                with self.subTest(new=new), self.fails(*fragments, kind=kd.FileError):
                    kd.load_model(path)
