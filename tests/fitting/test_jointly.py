"""Columns fitted together: copulas against SciPy and closed forms, and the right one or none."""

import unittest
from collections import Counter

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.fitting import jointly
from tests.common import Case, run


def drawn(copula, count, seed, tau=0.4, df=None):
    """Records of two columns that a copula joins."""
    model = kd.Model("pair")
    model.driver("hull", kd.LogNormal(3, 2))
    model.driver("pier", kd.Normal(0, 1))
    options = {} if df is None else {"df": df}
    model.correlate("hull", "pier", copula=copula, tau=tau, **options)
    model.outcome("sum", "hull + pier")
    return model.simulate(count, seed=seed, sampling="random").to_frame()[["hull", "pier"]]


class Copulas(Case):
    def test_densities_integrate_to_one_and_have_their_tau(self):
        grid = (np.arange(300) + 0.5) / 300
        u, v = np.meshgrid(grid, grid)
        for label, parameter in (("clayton", 2.0), ("gumbel", 2.0), ("frank", 5.736)):  # tau 0.5
            density = np.exp(jointly.ARCHIMEDEAN[label](u.ravel(), v.ravel(), parameter))
            mass = density.reshape(u.shape) / grid.size**2
            self.assertAlmostEqual(mass.sum(), 1, delta=0.02, msg=label)
            below = mass.cumsum(axis=0).cumsum(axis=1)
            self.assertAlmostEqual(4 * (below * mass).sum() - 1, 0.5, delta=0.03, msg=label)

    def test_elliptical_densities_are_those_of_scipy(self):
        rho = np.array([[1, 0.3, 0.1], [0.3, 1, -0.2], [0.1, -0.2, 1]])
        scores = np.random.default_rng(1).random((50, 3))
        x = stats.norm.ppf(scores)
        exact = stats.multivariate_normal([0, 0, 0], rho).logpdf(x) - stats.norm.logpdf(x).sum(
            axis=1
        )
        self.assertAlmostEqual(jointly._gaussian(x, rho), exact.sum())
        y = stats.t.ppf(scores, 4)
        exact = stats.multivariate_t([0, 0, 0], rho, 4).logpdf(y) - stats.t.logpdf(y, 4).sum(axis=1)
        self.assertAlmostEqual(jointly._student(scores, rho, 4.0), exact.sum())

    def test_tail_dependence(self):
        self.assertEqual(jointly.tail_dependence("gaussian", 0.5, None), (0.0, 0.0))
        self.assertAlmostEqual(jointly.tail_dependence("clayton", 0.5, None)[0], 2**-0.5)
        self.assertAlmostEqual(jointly.tail_dependence("gumbel", 0.5, None)[1], 2 - 2**0.5)
        lower, upper = jointly.tail_dependence("t", 0.0, 3.0)
        self.assertAlmostEqual(lower, 2 * stats.t.cdf(-2, 4))
        self.assertEqual(lower, upper)

    def test_the_right_copula_or_none(self):
        found = Counter()
        for label, df in (
            ("gaussian", None),
            ("t", 3),
            ("clayton", None),
            ("gumbel", None),
            ("frank", None),
        ):
            for seed in range(8):
                records = drawn(label, 400, seed, df=df).to_numpy()
                fitted = jointly.JointFit({}, records, jointly.copulas_of(records))
                found["wrong" if label not in fitted.alike else len(fitted.alike)] += 1
        self.assertLessEqual(found["wrong"], 3, found)
        self.assertGreaterEqual(found[1], 30, found)


class Fits(Case):
    def test_tau_has_its_interval(self):
        gaps, errors = [], []
        for seed in range(120):
            fitted = jointly.JointFit(
                {"hull": 0, "pier": 0}, drawn("gaussian", 100, seed).to_numpy(), {}
            )
            tau = fitted.tau["hull", "pier"]
            gaps.append(tau - 0.4), errors.append(tau.error)
        self.assertCalibrated(gaps, errors)

    def test_what_is_pasted_moves_together_as_the_records_do(self):
        records = drawn("clayton", 600, 1, tau=0.5)
        fitted = kd.fit_jointly(records)
        self.assertEqual((fitted.best, fitted.names), ("clayton", ["hull", "pier"]))
        model = kd.Model("again")
        for name, ranking in fitted.margins.items():
            model.driver(name, ranking.best)
        for entry in fitted.correlations:
            model.correlate(*entry.pop("names"), **entry)
        model.outcome("sum", "hull + pier")
        again = model.simulate(4000, seed=1).to_frame()
        tau = stats.kendalltau(again["hull"], again["pier"]).statistic
        self.assertAlmostEqual(tau, fitted.tau["hull", "pier"], delta=0.03)
        self.assertAlmostEqual(again["hull"].mean(), records["hull"].mean(), delta=0.2)

    def test_three_columns_and_missing_values(self):
        frame = drawn("gaussian", 200, 3)
        frame["third"] = frame["pier"] + np.random.default_rng(1).normal(size=200)
        frame.loc[3, "hull"] = np.nan
        fitted = kd.fit_jointly(frame)
        self.assertEqual(len(fitted.records), 199)
        self.assertEqual(set(fitted.copulas), {"gaussian", "t"})
        self.assertEqual(len(fitted.table()), 3)

    def test_what_cannot_be_fitted(self):
        frame = drawn("gaussian", 40, 1)
        for records, columns, words in (
            (frame, ["hull"], "2 to 10"),
            (frame, ["hull", "peer"], "did you mean 'pier'"),
            (frame.head(20), None, "needs 30 records with all columns, and has 20"),
            (pd.DataFrame({"a": [1.0] * 40, "b": range(40)}), None, "same in all records"),
        ):
            with self.fails(words):
                kd.fit_jointly(records, columns)

    def test_the_command(self):
        file = str(kd.demo_file("fuel_hedging.csv"))
        shown = run("fit", file, "--jointly", "growth,max_drawdown").stdout
        self.assertIn("Gaussian joins the columns best", shown)
        self.assertIn("Rows share their dates", shown)
        pasted = run("fit", file, "--jointly", "growth,max_drawdown", "--as-drivers").stdout
        self.assertEqual(pasted.count("[drivers."), 2)
        self.assertIn("tau = 0.44", pasted)
        for options, words in (
            (("--as-drivers",), "goes with --jointly"),
            (("--jointly", "growth,max_drawdown", "--column", "growth"), "names its columns"),
            (("--jointly", "growth,drawdown"), "did you mean 'max_drawdown'"),
        ):
            done = run("fit", file, *options)
            self.assertEqual(done.returncode, 2)
            self.assertIn(words, done.stderr)


if __name__ == "__main__":
    unittest.main()
