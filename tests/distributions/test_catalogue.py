"""Tests of catalogue."""

import math
import tempfile
from pathlib import Path

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import example, parameters_of
from kindynos.processes.registry import PROCESSES
from tests.common import Case

DISTRIBUTIONS = {name: example(distribution) for name, distribution in CATALOGUE.items()}


SMOOTH = {
    name: distribution for name, distribution in DISTRIBUTIONS.items() if not distribution.has_atoms
}


U = np.concatenate(
    [np.logspace(-9, -2, 30), np.linspace(0.01, 0.99, 99), 1 - np.logspace(-2, -9, 30)]
)


NAMES = [
    *kd.__all__,
    "Affine",
    "Truncated",
    "Clipped",
    "SmoothPercentiles",
    "Uncertain",
    "Recalibrated",
]


class EveryDistribution(Case):
    def test_quantiles_rise_and_stay_in_the_support(self):
        for name, distribution in DISTRIBUTIONS.items():
            with self.subTest(name=name):
                x = distribution.quantile(U)
                low, high = distribution.support
                self.assertTrue((np.diff(x) >= 0).all())
                self.assertTrue((x >= low).all() and (x <= high).all())

    def test_cdf_and_quantile_undo_each_other(self):
        for name, distribution in DISTRIBUTIONS.items():
            with self.subTest(name=name):
                x = distribution.quantile(U)
                if distribution.has_atoms:
                    self.assertTrue((distribution.cdf(x) >= U - 1e-6).all())
                else:
                    np.testing.assert_allclose(distribution.cdf(x), U, rtol=0, atol=1e-10)

    def test_both_tails_meet(self):
        for name, distribution in SMOOTH.items():
            with self.subTest(name=name):
                middle = U[(U > 0.01) & (U < 0.99)]
                scale = distribution.quantile(0.9) - distribution.quantile(0.1)
                np.testing.assert_allclose(
                    distribution._upper_quantile(1 - middle),
                    distribution.quantile(middle),
                    atol=1e-9 * scale,
                )
                x = distribution.quantile(middle)
                above = np.array([distribution.chance(above=value) for value in x])
                np.testing.assert_allclose(distribution.cdf(x) + above, 1, atol=1e-12)

    def test_density_is_the_slope_of_the_cdf(self):
        for name, distribution in SMOOTH.items():
            if name in ("histogram", "empirical", "uniform", "triangular"):
                continue  # corners
            with self.subTest(name=name):
                x = distribution.quantile(np.linspace(0.03, 0.97, 41))
                step = 1e-5 * (distribution.quantile(0.9) - distribution.quantile(0.1))
                slope = (distribution.cdf(x + step) - distribution.cdf(x - step)) / (2 * step)
                density = distribution.pdf(x)
                np.testing.assert_allclose(density, slope, rtol=5e-3, atol=1e-6 * density.max())

    def test_masses_add_up(self):
        for name, distribution in DISTRIBUTIONS.items():
            if not distribution.discrete:
                continue
            with self.subTest(name=name):
                values, masses = distribution._atoms
                self.assertAlmostEqual(masses.sum(), 1, places=12)
                np.testing.assert_allclose(distribution.pmf(values), masses, atol=1e-12)
                self.assertAlmostEqual(distribution.mean, values @ masses, places=9)
                self.assertAlmostEqual(
                    distribution.variance, (values - distribution.mean) ** 2 @ masses, places=8
                )

    def test_moments_agree_with_many_draws(self):
        for name, distribution in DISTRIBUTIONS.items():
            if not math.isfinite(distribution.skewness):
                continue
            with self.subTest(name=name):
                u = (np.arange(400_000) + 0.5) / 400_000
                x = distribution.quantile(u)
                heavy = (
                    0.05
                    if name
                    in (
                        "pareto",
                        "generalized pareto",
                        "generalized extreme value",
                        "log logistic",
                        "student t",
                    )
                    else 0.01
                )
                self.assertAlmostEqual(x.mean(), distribution.mean, delta=heavy * distribution.sd)
                self.assertAlmostEqual(x.std(), distribution.sd, delta=2 * heavy * distribution.sd)

    def test_samples_pass_a_test_of_fit(self):
        for name, distribution in SMOOTH.items():
            for seed in (3, 4):
                with self.subTest(name=name, seed=seed):
                    self.assertGreater(
                        stats.kstest(distribution.sample(2000, seed=seed), distribution.cdf).pvalue,
                        1e-4,
                    )

    def test_drivers_of_every_law_under_every_plan(self):
        model = kd.Model("all")
        for place, distribution in enumerate(DISTRIBUTIONS.values()):
            model.driver(f"x{place}", distribution, base=float(distribution.percentile(50)))
        for sampling in ("latin", "random", "antithetic", "sobol"):
            run = model.simulate(2048, seed=6, sampling=sampling)
            for place, (name, distribution) in enumerate(DISTRIBUTIONS.items()):
                with self.subTest(name=name, sampling=sampling):
                    values = run[f"x{place}"].values
                    quartiles = np.array(
                        [np.mean(values <= distribution.quantile(q)) for q in (0.25, 0.5, 0.75)]
                    )
                    expected = distribution.cdf(distribution.quantile([0.25, 0.5, 0.75]))
                    np.testing.assert_allclose(quartiles, expected, atol=0.06)

    def test_round_trip_through_repr_and_file(self):
        model = kd.Model("all")
        for place, distribution in enumerate(DISTRIBUTIONS.values()):
            self.assertEqual(
                eval(repr(distribution), {name: getattr(kd, name) for name in NAMES}), distribution
            )
            model.driver(f"x{place}", distribution, base=1.0)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "all.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            self.assertEqual(dict(kd.load_model(path).quantities), dict(model.quantities))

    def test_nothing_that_is_no_number_goes_in(self):
        for distribution in DISTRIBUTIONS.values():
            for name, value in parameters_of(distribution).items():
                if isinstance(value, float):
                    for bad in (math.nan, math.inf, "3", None, [1.0]):
                        if bad is None and name in ("low", "high", "bandwidth"):
                            continue
                        with (
                            self.subTest(distribution=distribution, name=name, bad=bad),
                            self.fails(name),
                        ):
                            type(distribution)(**{**parameters_of(distribution), name: bad})

    def test_nan_in_nan_out(self):
        for name, distribution in DISTRIBUTIONS.items():
            with self.subTest(name=name):
                self.assertTrue(math.isnan(distribution.cdf(math.nan)))
                self.assertTrue(math.isnan(distribution.quantile(math.nan)))


class Shortfalls(Case):
    """Value at risk and expected shortfall of runs against closed forms of the distributions."""

    def test_closed_forms(self):
        level, tail = 0.95, 0.05
        z = stats.norm.ppf(level)
        cases = {
            kd.Normal(0, 2): 2 * stats.norm.pdf(z) / tail,
            -1 * kd.Exponential(3): 3 * (1 - math.log(tail)),
            -1 * kd.LogNormal.from_log(0, 0.5): math.exp(0.125) * stats.norm.cdf(0.5 - z) / tail,
            -1 * kd.Pareto(3, 1): 3 / 2 * tail ** (-1 / 3),
            -1 * kd.Uniform(0, 1): 1 - tail / 2,
            -1 * kd.GeneralizedPareto(0, 1, 0.2): ((tail**-0.2 - 1) / 0.2 + 1) / 0.8,
            kd.Logistic(0, math.pi / math.sqrt(3)): (
                -tail * math.log(tail) - (1 - tail) * math.log(1 - tail)
            )
            / tail,
            kd.Laplace(0, math.sqrt(2)): 1 - math.log(2 * tail),
        }
        for distribution, shortfall in cases.items():
            model = kd.Model("m")
            model.driver("x", distribution)
            model.driver("noise", kd.Normal(0, 1))
            model.outcome("y", "x + 0 * noise")
            for sampling in ("random", "latin", "sobol"):
                y = model.simulate(40_000, seed=5, sampling=sampling)["y"]
                with self.subTest(distribution=distribution, sampling=sampling):
                    found = y.expected_shortfall(level)
                    self.assertAlmostEqual(found, shortfall, delta=3 * max(found.error, 1e-3))
                    risk = y.value_at_risk(level)
                    self.assertAlmostEqual(
                        risk, -distribution.quantile(tail), delta=3 * max(risk.error, 1e-3)
                    )
                    self.assertGreater(found, risk)


class Docstrings(Case):
    def test_every_parameter_is_described_under_its_heading(self):
        for registry in (CATALOGUE, PROCESSES):
            for label, kind in registry.items():
                with self.subTest(label):
                    self.assertTrue(kind.formula and kind.about)
                    for heading in ("Parameters", "Raises", "Notes", "Examples"):
                        self.assertIn(f"\n{heading}\n{'-' * len(heading)}\n", kind.__doc__)
                    for name in kind.__annotations__:
                        self.assertIn(f"\n{name} : ", kind.__doc__)
