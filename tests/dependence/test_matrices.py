"""Tests of matrices."""

import math

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.dependence import matrices
from kindynos.dependence.convert import of_tau
from tests.common import Case

DISTRIBUTIONS = (kd.Exponential(3), kd.Beta(2, 5), kd.Normal(0, 1))


def model(periods=None, **options) -> kd.Model:
    made = kd.Model("together", periods=periods)
    for name, distribution in zip("abc", DISTRIBUTIONS, strict=True):
        made.driver(name, distribution, **options)
    made.outcome("y", "a + b + c" if periods is None else "total(a + b + c)")
    return made


class Impossible(Case):
    def impossible(self, **options):
        made = model()
        for one, other, figure in (("a", "b", 0.9), ("b", "c", 0.9), ("a", "c", -0.5)):
            made.correlate(one, other, figure, **options)
        return made

    def test_is_an_error_that_names_the_pairs(self):
        with self.fails(
            "cannot hold together",
            "a with c (-0.500",
            "nearest",
            "nearest_correlation",
            "repair=True",
        ):
            self.impossible().simulate(1000)

    def test_is_repaired_and_said(self):
        run = self.impossible(repair=True).simulate(20_000, seed=1)
        self.assertEqual(len(run.facts()["repaired"]), 3)
        self.assertRegex(run.facts()["repaired"][0], r"a with b: 0\.900 became 0\.\d+")
        self.assertGreater(run.correlations["reached"][2], -0.35)

    def test_nearest_correlation_as_published(self):
        """Higham 2002, section 1: the nearest to this matrix has 0.7607 and 0.1573."""
        near = kd.nearest_correlation([[1, 1, 0], [1, 1, 1], [0, 1, 1]])
        np.testing.assert_allclose(near[[0, 1, 0], [1, 2, 2]], [0.7607, 0.7607, 0.1573], atol=5e-5)
        self.assertGreaterEqual(np.linalg.eigvalsh(near)[0], -1e-12)
        fine = np.array([[1, 0.2], [0.2, 1]])
        np.testing.assert_allclose(kd.nearest_correlation(fine), fine)
        held = kd.nearest_correlation(
            [[1, 0.9, -0.5], [0.9, 1, 0.9], [-0.5, 0.9, 1]], fixed=[(0, 1)]
        )
        self.assertEqual(held[0, 1], 0.9)
        self.assertGreaterEqual(np.linalg.eigvalsh(held)[0], -1e-6)
        heavy = kd.nearest_correlation(
            [[1, 0.9, -0.5], [0.9, 1, 0.9], [-0.5, 0.9, 1]], weights=[100, 100, 1]
        )
        self.assertLess(abs(heavy[0, 1] - 0.9), 0.02)

    def test_bad_input(self):
        rows = pd.DataFrame([[1.0, 0.3], [0.3, 1.0]], list("ab"), list("ab"))
        for what, options, fragments in (
            (("a", "b", 1.2), {}, ("from -1 to 1", "1.2")),
            (("a", "a", 0.2), {}, ("'a' cannot be correlated with itself",)),
            (("a", "hurdle", 0.2), {}, ("'hurdle' is a given figure or a line",)),
            (("a", "bb", 0.2), {}, ("'bb' is not declared", "did you mean 'b'?")),
            (("a", "p", 0.2), {"kind": "linear"}, ("not drawn alike", "level over all periods")),
            (("a", "p"), {"copula": "clayton", "tau": 0.2}, ("not drawn alike",)),
            (("a", "b"), {}, ("state one of a correlation",)),
            (("a", "b", 0.2), {"tau": 0.3}, ("state one of",)),
            (("a", "b", 0.2), {"kind": "pearson"}, ("kind", "'linear'", "'pearson'")),
            (("a", "b", 0.2), {"copula": "galton"}, ("copula", "'clayton'", "'galton'")),
            (("a", "b", 0.2), {"copula": "t"}, ("needs df=",)),
            (("a", "b", 0.2), {"df": 3}, ("takes no df",)),
            (("a", "b", 0.2), {"copula": "t", "df": -1}, ("df", "at least 0.5")),
            (
                ("a", "b", 0.2),
                {"copula": "t", "df": 3, "kind": "linear"},
                ("goes with the gaussian",),
            ),
            (("a", "b"), {"copula": "clayton", "parameter": -1}, ("clayton", "above 0", "-1")),
            (("a", "b"), {"copula": "gumbel", "parameter": 0.5}, ("gumbel", "at least 1", "0.5")),
            (
                ("a", "b", "c"),
                {"copula": "frank", "parameter": -2},
                ("above 0 for more than two drivers",),
            ),
            (("a", "b"), {"copula": "clayton", "tau": -0.2}, ("tau", "between 0 and 1", "-0.2")),
            (("a", "b", 0.5), {"copula": "clayton"}, ("parameter= or tau=",)),
            ((rows.rename(index={"a": "z"}),), {}, ("same names",)),
            (([[1, 0.3], [0.3, 1]],), {}, ("must be a DataFrame",)),
            ((rows.replace(0.3, 2.0),), {}, ("from -1 to 1", "a with b is 2")),
            ((rows.where(rows != 1.0, 0.9),), {}, ("diagonal must be 1", "0.9")),
            (
                (pd.DataFrame([[1, 0.3], [0.2, 1]], list("ab"), list("ab")),),
                {},
                ("symmetric", "0.3", "0.2"),
            ),
        ):
            made = kd.Model("m", periods=2)
            made.given(hurdle=0.1)
            for name, distribution in zip("abc", DISTRIBUTIONS, strict=True):
                made.driver(name, distribution)
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


class Taus(Case):
    def test_the_correlation_behind_a_tau(self):
        self.assertAlmostEqual(of_tau(0.5), np.sqrt(0.5))
        self.assertAlmostEqual(of_tau(1 / 3), 0.5)


class WorkedOut(Case):
    def test_a_matrix_from_records_is_taken_though_it_is_rounded(self):
        generator = np.random.default_rng(4)
        rounded = 0
        for _ in range(60):
            count = int(generator.integers(2, 9))
            names = [f"d{k}" for k in range(count)]
            matrix = np.corrcoef(generator.normal(size=(count, 40)))
            rounded += bool((np.diag(matrix) != 1).any())
            model = kd.Model("m")
            for name in names:
                model.driver(name, kd.Normal(0, 1))
            model.correlate(pd.DataFrame(matrix, names, names))
            stated = [entry.value for entry in model.correlations]
            np.testing.assert_allclose(stated, matrix[np.tril_indices(count, -1)], atol=1e-15)
        self.assertGreater(rounded, 10)
        for off in (1 + 1e-9, 1 - 1e-9):
            with self.fails("diagonal must be 1"):
                matrices.valid_matrix(np.array([[off, 0.5], [0.5, 1.0]]))
        for off in (1e-9, -1e-9):
            with self.fails("symmetric"):
                matrices.valid_matrix(np.array([[1.0, 0.5], [0.5 + off, 1.0]]))
        with self.fails("from -1 to 1"):
            matrices.valid_matrix(np.array([[1.0, 1.000001], [1.000001, 1.0]]))

    def test_hundreds_of_drivers_are_correlated_in_one_go(self):
        names = [f"d{k}" for k in range(150)]
        matrix = pd.DataFrame(np.full((150, 150), 0.3) + 0.7 * np.eye(150), names, names)
        model = kd.Model("m")
        for name in names:
            model.driver(name, kd.Normal(0, 1))
        model.correlate(matrix)
        model.correlate(matrix)  # the same again says nothing new
        self.assertEqual(len(model.correlations), 150 * 149 // 2)
        with self.fails("d3 and d7 are correlated already (0.3)"):
            model.correlate("d3", "d7", 0.4)
        model.outcome("y", " + ".join(names))
        found = model.simulate(2_000, seed=1)
        # the variance of a sum of n with correlation r is n + n (n - 1) r, of normal scores
        score = 2 * math.sin(math.pi / 6 * 0.3)
        sd = math.sqrt(150 + 150 * 149 * score)
        self.assertAlmostEqual(float(found["y"].sd) / sd, 1, delta=0.05)
