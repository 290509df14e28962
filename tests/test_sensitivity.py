"""What drives an outcome, against published and closed-form answers."""

import math
import warnings
from itertools import combinations

import matplotlib as mpl
import numpy as np
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from tests.common import Case, investment

mpl.use("Agg")
PI = math.pi


def ishigami() -> kd.Model:
    """The function of Ishigami and Homma (1990), with a = 7 and b = 0.1."""
    model = kd.Model("Ishigami")
    for i in (1, 2, 3):
        model.driver(f"x{i}", kd.Uniform(-PI, PI))

    @model.outcome
    def y(x1, x2, x3):
        return np.sin(x1) + 7 * np.sin(x2) ** 2 + 0.1 * x3**4 * np.sin(x1)

    return model


def linear(**correlations) -> kd.Model:
    model = kd.Model("linear")
    for name in "abc":
        model.driver(name, kd.Normal(0, 1))
    for pair, figure in correlations.items():
        model.correlate(pair[0], pair[1], figure, kind="linear")
    model.outcome("y", "a + 2 * b - c")
    return model


def by_year() -> kd.Model:
    """An outcome in which the early years weigh more."""
    model = kd.Model("years", periods=3, start=2030)
    model.driver("x", kd.Normal(1, 1), each="period")
    model.driver("z", kd.Normal(0, 1))
    model.outcome("y", "total(x * (4 - period)) + z")
    return model


class Shares(Case):
    def test_ishigami_at_65536_evaluations(self):
        variance = 0.5 + 49 / 8 + 0.1 * PI**4 / 5 + 0.01 * PI**8 / 18
        both = 0.01 * PI**8 * (1 / 18 - 1 / 50) / variance
        first = {"x1": 0.5 * (1 + 0.1 * PI**4 / 5) ** 2 / variance, "x2": 49 / 8 / variance, "x3": 0.0}
        for seed in (1, 2, 3):
            frame = ishigami().simulate(256, seed=seed).sensitivity("y", "sobol", evaluations=65_536)
            self.assertLessEqual(frame.attrs["evaluations"], 65_536)
            for name, share in first.items():
                total = share + (both if name != "x2" else 0)
                self.assertAlmostEqual(frame.loc[name, "first order"], share, delta=0.01)
                self.assertAlmostEqual(frame.loc[name, "total"], total, delta=0.01)

    def test_shapley_of_a_linear_model_with_correlated_normals(self):
        frame = linear(ab=0.5, ac=-0.3).simulate(256, seed=1).sensitivity("y", "shapley")
        matrix = np.array([[1, 0.5, -0.3], [0.5, 1, 0], [-0.3, 0, 1]])
        weights = np.array([1.0, 2.0, -1.0])
        variance = weights @ matrix @ weights

        def explained(chosen):
            part = list(chosen)
            joint = weights @ matrix[:, part]
            return joint @ np.linalg.solve(matrix[np.ix_(part, part)], joint) / variance if part else 0.0

        for place, name in enumerate("abc"):
            others = [i for i in range(3) if i != place]
            share = sum(
                (explained([*rest, place]) - explained(rest)) / (3 * math.comb(2, size))
                for size in range(3)
                for rest in combinations(others, size)
            )
            self.assertAlmostEqual(frame.loc[name, "share of variance"], share, delta=0.004)
        self.assertAlmostEqual(frame["share of variance"].sum(), 1, 9)

    def test_regression_of_a_linear_model(self):
        frame = linear().simulate(4000, seed=1).sensitivity("y", "regression")
        for name, weight in (("a", 1), ("b", 2), ("c", -1)):
            self.assertAlmostEqual(frame.loc[name, "coefficient"], weight / math.sqrt(6), delta=0.01)
        self.assertAlmostEqual(frame.attrs["r squared"], 1, 9)
        self.assertAlmostEqual(frame["share of variance"].sum(), 1, 9)
        values = by_year().simulate(2000, seed=1)
        frame = values.sensitivity("y", "regression")
        self.assertAlmostEqual(frame.loc["x", "coefficient"], math.sqrt(14 / 15), delta=0.02)

    def test_regression_against_scipy(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        model.outcome("y", "exp(3 * x)")
        run = model.simulate(500, seed=1, sampling="random")
        fit = stats.linregress(run["x"].values, run["y"].values)
        row = run.sensitivity("y", "regression").loc["x"]
        self.assertAlmostEqual(row["coefficient"], fit.rvalue, 9)
        scale = run["x"].values.std() / run["y"].values.std()
        self.assertAlmostEqual(row["error"], 1.959964 * fit.stderr * scale, 5)

    def test_far_from_linear_is_told(self):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            ishigami().simulate(1000, seed=1).sensitivity("y", "regression")
        self.assertIn("far from linear", str(caught[0].message))
        self.assertIs(caught[0].category, kd.FitWarning)


class ReadOffRuns(Case):
    def test_swing_moves_one_driver_at_a_time(self):
        frame = investment(price=kd.Uniform(280, 320)).simulate(300, seed=1).sensitivity("net_value", "swing")
        factor = sum(1.1**-t for t in range(1, 6))
        self.assertAlmostEqual(frame.attrs["base"], 90 * factor - 300)
        wide = 2 * 10 * stats.norm.ppf(0.9) * factor
        self.assertAlmostEqual(frame.loc["flow", "swing"], wide)
        self.assertAlmostEqual(frame.loc["price", "outcome at P10"], 90 * factor - 284)
        self.assertEqual(list(frame.index), ["flow", "price"])
        narrow = investment().simulate(300, seed=1).sensitivity("net_value", "swing", percentiles=(25, 75))
        self.assertAlmostEqual(narrow.loc["flow", "driver at P25"], 90 + 10 * stats.norm.ppf(0.25))

    def test_conditional_means_across_slices(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        model.driver("z", kd.Normal(0, 1))
        model.outcome("y", "10 * x + z")
        run = model.simulate(20_000, seed=1)
        frame = run.sensitivity("y", "conditional")
        np.testing.assert_allclose(frame.loc["x"].iloc[:10], np.arange(0.5, 10), atol=0.1)
        low = run.sensitivity("y", "conditional", percentile=5, slices=2)
        self.assertEqual((low.shape[1], low.attrs["figure"]), (3, "P5"))

    def test_tail_shows_the_drivers_of_the_worst_trials(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(100, 5))
        model.driver("noise", kd.Normal(0, 0.01))
        model.outcome("y", "x + noise")
        run = model.simulate(20_000, seed=1)
        frame = run.sensitivity("y", "tail", worst=0.05)
        self.assertAlmostEqual(frame.loc["x", "shift"], -stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05, delta=0.02)
        self.assertAlmostEqual(frame.loc["x", "mean, all"], 100, delta=0.01)
        self.assertLess(abs(frame.loc["noise", "shift"]), 0.15)
        self.assertGreater(run.sensitivity("y", "tail", side="high").loc["x", "shift"], 2)

    def test_period_by_period_the_early_years_matter(self):
        run = by_year().simulate(4000, seed=1)
        for method, column in (
            ("rank", "rank correlation"),
            ("regression", "coefficient"),
            ("swing", "swing"),
            ("conditional", "range"),
            ("sobol", "total"),
        ):
            frame = run.sensitivity("y", method, by_period=True)
            years = [frame.loc[f"x {year}", column] for year in (2030, 2031, 2032)]
            self.assertEqual(years, sorted(years, reverse=True), method)
        frame = run.sensitivity("y", "tail", by_period=True)
        self.assertEqual(frame.index[0], "x 2030")


class Asking(Case):
    def test_what_cannot_be_asked(self):
        linked, many = linear(ab=0.5).simulate(300, seed=1), kd.Model("many")
        student = linear().unlinked()
        student.correlate("a", "b", 0.5, copula="t", df=4)
        for i in range(13):
            many.driver(f"x{i}", kd.Normal(0, 1))
        many.outcome("y", " + ".join(f"x{i}" for i in range(13)))
        years = by_year()
        years.outcome("row", "2 * x")
        for run, options, words in (
            (linked, {"method": "sobol"}, ("a, b move together", "shapley")),
            (linked, {"method": "sobl"}, ("did you mean 'sobol'",)),
            (linked, {"method": "swing", "slices": 3}, ("no option 'slices'",)),
            (linked, {"method": "swing", "percentiles": (90, 10)}, ("percentiles",)),
            (linked, {"method": "conditional", "slices": 200}, ("200 slices",)),
            (linked, {"method": "tail", "worst": 0.001}, ("at least 5",)),
            (linked, {"method": "shapley", "evaluations": 10}, ("evaluations or more",)),
            (linked, {"method": "shapley", "by_period": True}, ("together",)),
            (linear().simulate(300), {"method": "sobol", "evaluations": 100}, ("evaluations or more",)),
            (linear().simulate(4), {"method": "regression"}, ("more than 5 trials",)),
            (student.simulate(300), {"method": "shapley"}, ("gaussian copula",)),
            (many.simulate(300), {"method": "shapley"}, ("up to 12",)),
            (years.simulate(300), {"name": "row"}, ("is a row",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                run.sensitivity(**{"name": "y", **options})

    def test_every_method_has_its_picture(self):
        from kindynos.results.sensitivity import METHODS

        run = linear().simulate(1000, seed=1)
        for method in METHODS:
            with self.subTest(method=method):
                ax = kd.plots.sensitivity(run, "y", method, ax=Figure().subplots())
                self.assertIn("y", ax.get_title(loc="left"))
                labels = [
                    text.get_text()
                    for text in (ax.get_legend().get_texts() if method == "conditional" else ax.get_yticklabels())
                ]
                self.assertEqual(labels[0], "b")
