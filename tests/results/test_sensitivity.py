"""Tests of sensitivity."""

import math
import warnings
from itertools import combinations

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from kindynos.inference.intervals import t_point
from kindynos.results.sensitivity.rank import first_order_share
from tests.common import Case, investment, ishigami, proof


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


def additive() -> kd.Model:
    model = kd.Model("additive")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2", target=25)
    return model


def alike(sds, correlation: float) -> kd.Model:
    """A sum of normal drivers of which each two are correlated alike."""
    model, names = kd.Model("alike"), [f"d{i}" for i in range(len(sds))]
    for name, sd in zip(names, sds, strict=True):
        model.driver(name, kd.Normal(10, sd))
    matrix = np.full((len(sds), len(sds)), correlation)
    np.fill_diagonal(matrix, 1)
    model.correlate(pd.DataFrame(matrix, names, names), kind="linear")
    model.outcome("y", " + ".join(names))
    return model


def shapley_of_alike(sds, correlation: float) -> np.ndarray:
    """The Shapley shares of such a sum: what one more of k known drivers explains depends on the
    first two moments of sums of k covariances, drawn without replacement.
    """
    count, joint = len(sds), sds * (1 - correlation) + correlation * np.sum(sds)
    shares = []
    for place, own in enumerate(joint):
        others, m = np.delete(joint, place), count - 1
        total, squares = others.sum(), (others**2).sum()
        gained = 0.0
        for k in range(count):
            mean = k * total / m
            square = k * squares / m + k * (k - 1) * (total**2 - squares) / (m * (m - 1))
            before = correlation * square / (1 + (k - 1) * correlation) if k else 0.0
            after = correlation * (square + 2 * own * mean + own**2) / (1 + k * correlation)
            gained += (own**2 + before - after) / (1 - correlation)
        shares.append(gained / count)
    return np.array(shares) / (sds @ joint)


class Shares(Case):
    def test_the_share_of_a_driver_of_two_values_is_that_between_its_groups(self):
        model = kd.Model("two")
        model.driver("on", kd.Bernoulli(0.2))
        model.driver("noise", kd.Normal(0, 3))
        model.outcome("y", "10 * on + noise")
        run = model.simulate(20_000, seed=1, sampling="random")
        on, y = run["on"].values, run["y"].values
        means = np.where(on == 1, y[on == 1].mean(), y[on == 0].mean())
        share = run.sensitivity("y").loc["on", "first-order share"]
        self.assertAlmostEqual(share, means.var() / y.var(), delta=0.002)
        spent = run.sensitivity("y", "sobol", evaluations=4096).attrs["evaluations"]
        self.assertEqual(spent % (2 + 2), 0)
        self.assertEqual(np.log2(spent / (2 + 2)) % 1, 0)

    def test_ishigami_at_65536_evaluations(self):
        variance = 0.5 + 49 / 8 + 0.1 * math.pi**4 / 5 + 0.01 * math.pi**8 / 18
        both = 0.01 * math.pi**8 * (1 / 18 - 1 / 50) / variance
        first = {
            "x1": 0.5 * (1 + 0.1 * math.pi**4 / 5) ** 2 / variance,
            "x2": 49 / 8 / variance,
            "x3": 0.0,
        }
        for seed in (1, 2, 3):
            frame = (
                ishigami().simulate(256, seed=seed).sensitivity("y", "sobol", evaluations=65_536)
            )
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
            return (
                joint @ np.linalg.solve(matrix[np.ix_(part, part)], joint) / variance
                if part
                else 0.0
            )

        for place, name in enumerate("abc"):
            others = [i for i in range(3) if i != place]
            share = sum(
                (explained([*rest, place]) - explained(rest)) / (3 * math.comb(2, size))
                for size in range(3)
                for rest in combinations(others, size)
            )
            self.assertAlmostEqual(frame.loc[name, "share of variance"], share, delta=0.004)
        self.assertAlmostEqual(frame["share of variance"].sum(), 1, 9)

    def test_shapley_of_sixty_correlated_drivers_of_a_sum(self):
        sds, names = np.linspace(0.1, 3, 60), [f"d{i}" for i in range(60)]
        run = alike(sds, 0.3).simulate(2000, seed=1)
        frame = run.sensitivity("y", "shapley", evaluations=40_000).loc[names]
        gaps = frame["share of variance"] - shapley_of_alike(sds, 0.3)
        self.assertLess(np.abs(gaps).max(), 0.0006)
        self.assertCalibrated(gaps, frame["error"])
        self.assertAlmostEqual(frame["share of variance"].sum(), 1, 12)

    def test_shapley_of_groups(self):
        # two groups: each is halfway between what it explains alone and what it explains besides
        weights = np.array([1.0, 2.0, -1.0])
        matrix = np.array([[1, 0.5, -0.3], [0.5, 1, 0], [-0.3, 0, 1]])
        variance = weights @ matrix @ weights
        alone = (weights @ matrix[:, 2]) ** 2 / variance
        joint = weights @ matrix[:, :2]
        both = joint @ np.linalg.solve(matrix[:2, :2], joint) / variance
        run = linear(ab=0.5, ac=-0.3).simulate(256, seed=1)
        frame = run.sensitivity("y", "shapley", groups={"pair": ["a", "b"]})
        self.assertAlmostEqual(
            frame.loc["c", "share of variance"], (alone + 1 - both) / 2, delta=1e-4
        )
        self.assertEqual(sorted(frame.index), ["c", "pair"])

    def test_by_period_is_true_or_false(self):
        with self.fails("by_period must be True or False"):
            linear().simulate(256, seed=1).sensitivity("y", None, [1.0, 2.0])

    def test_shapley_of_drivers_that_are_the_same(self):
        model = kd.Model("same")
        for name in "abc":
            model.driver(name, kd.Normal(0, 1))
        model.correlate("a", "b", 1.0)
        model.outcome("y", "a + b + c")
        frame = model.simulate(256, seed=1).sensitivity("y", "shapley")
        for name, share in (("a", 0.4), ("b", 0.4), ("c", 0.2)):
            self.assertAlmostEqual(frame.loc[name, "share of variance"], share, delta=0.001)

    def test_regression_of_a_linear_model(self):
        frame = linear().simulate(4000, seed=1).sensitivity("y", "regression")
        for name, weight in (("a", 1), ("b", 2), ("c", -1)):
            self.assertAlmostEqual(
                frame.loc[name, "coefficient"], weight / math.sqrt(6), delta=0.01
            )
        self.assertAlmostEqual(frame.attrs["r squared"], 1, 9)
        self.assertAlmostEqual(frame["share of r squared"].sum(), 1, 9)
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
        runs = [model.simulate(500, seed=seed, sampling="random") for seed in range(60)]
        found = [run.sensitivity("y", "regression").loc["x"] for run in runs]
        first, square, mixed = (np.exp(3) - 1) / 3, (np.exp(6) - 1) / 6, (2 * np.exp(3) + 1) / 9
        truth = (mixed - first / 2) / np.sqrt((square - first**2) / 12)
        self.assertCalibrated(
            [row["coefficient"] - truth for row in found], [row["error"] for row in found]
        )

    def test_far_from_linear_is_told(self):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            ishigami().simulate(1000, seed=1).sensitivity("y", "regression")
        self.assertIn("far from linear", str(caught[0].message))
        self.assertIs(caught[0].category, kd.FitWarning)


class ReadOffRuns(Case):
    def test_swing_moves_one_driver_at_a_time(self):
        frame = (
            investment(price=kd.Uniform(280, 320))
            .simulate(300, seed=1)
            .sensitivity("net_value", "swing")
        )
        factor = sum(1.1**-t for t in range(1, 6))
        self.assertAlmostEqual(frame.attrs["base"], 90 * factor - 300)
        wide = 2 * 10 * stats.norm.ppf(0.9) * factor
        self.assertAlmostEqual(frame.loc["flow", "swing"], wide)
        self.assertAlmostEqual(frame.loc["price", "outcome at P10"], 90 * factor - 284)
        self.assertEqual(list(frame.index), ["flow", "price"])
        narrow = (
            investment()
            .simulate(300, seed=1)
            .sensitivity("net_value", "swing", percentiles=(25, 75))
        )
        self.assertAlmostEqual(narrow.loc["flow", "driver at P25"], 90 + 10 * stats.norm.ppf(0.25))

    def test_shares_of_drivers_of_each_period(self):
        gaps, errors = [], []
        for seed in range(30):
            model = kd.Model("m", periods=30)
            model.driver("noise", kd.Normal(0, 1), each="period")
            model.driver("squared", kd.Normal(0, 1), each="period")
            model.driver("single", kd.Normal(0, 1))
            # variances: 2 of the square of a standard normal, 1 of the single, 0 of the noise
            model.outcome("y", "(total(squared) / 30 ** 0.5) ** 2 + single + 0 * total(noise)")
            frame = model.simulate(2000, seed=seed, sampling="random").sensitivity("y")
            gaps.append(
                [
                    frame.loc[n, "first-order share"] - t
                    for n, t in (("noise", 0), ("squared", 2 / 3))
                ]
            )
            errors.append(frame["error of share"].loc[["noise", "squared"]].tolist())
        self.assertCalibrated(gaps, errors)

    def test_nothing_is_said_of_interaction_that_errors_could_be(self):
        from kindynos.reports.rankings import ranking_remark

        model = kd.Model("m", periods=5)
        model.driver("a", kd.Normal(0, 1), each="period")
        model.driver("b", kd.Normal(0, 1))
        model.outcome("sum", "total(a) + b")
        model.outcome("product", "total(a) * b")
        model.outcome("constant", "3 + 0 * b")
        run = model.simulate(4000, seed=1)
        remarks = [ranking_remark(run.sensitivity(n), run[n]) for n in run.outcomes]
        self.assertIn("no interaction", remarks[0])
        self.assertRegex(remarks[1], r"(9\d|10\d)\.\d % ± .* is left for interaction")
        self.assertIn("the same in every trial", remarks[2])

    def test_a_rare_event_moves_between_its_values(self):
        model = kd.Model("m")
        model.driver("breach", kd.Discrete([0, 1], [0.9, 0.1]))
        model.driver("noise", kd.Normal(0, 1))
        model.outcome("y", "-100 * breach + noise")
        frame = model.simulate(500, seed=1).sensitivity("y", "swing")
        self.assertEqual(frame.index[0], "breach")
        self.assertAlmostEqual(frame.loc["breach", "swing"], 100)
        self.assertAlmostEqual(frame.loc["breach", "chance"], 0.1)
        self.assertTrue(np.isnan(frame.loc["noise", "chance"]))

    def test_a_driver_of_each_period_moves_as_its_periods_do_together(self):
        model = kd.Model("m", periods=25)
        model.driver("energy", kd.Normal(10, 2), each="period")
        model.driver("price", kd.Normal(0, 10))
        model.outcome("y", "price + total(energy)")
        frame = model.simulate(4096, seed=1).sensitivity("y", "swing")
        # the sum of 25 periods has the sd 2 x 5, as the price has: all at P90 would be 2 x 25
        for name in ("energy", "price"):
            self.assertAlmostEqual(
                frame.loc[name, "swing"], 2 * 10 * stats.norm.ppf(0.9), delta=0.8, msg=name
            )
        self.assertAlmostEqual(
            25 * frame.loc["energy", "driver at P90"], frame.loc["energy", "outcome at P90"]
        )
        single = model.simulate(500, seed=1).sensitivity("y", "swing", by_period=True)
        self.assertAlmostEqual(single.loc["energy 3", "swing"], 2 * 2 * stats.norm.ppf(0.9))

    def test_conditional_means_across_slices(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        model.driver("z", kd.Normal(0, 1))
        model.outcome("y", "10 * x + z")
        run = model.simulate(20_000, seed=1)
        frame = run.sensitivity("y", "conditional")
        np.testing.assert_allclose(frame.loc["x"].iloc[:10], np.arange(0.5, 10), atol=0.1)
        self.assertAlmostEqual(
            frame.attrs["errors"]["z"][0], 1.96 * (100 / 12) ** 0.5 / 2000**0.5, delta=0.02
        )
        low = run.sensitivity("y", "conditional", percentile=5, slices=2)
        self.assertEqual((low.shape[1], low.attrs["figure"]), (3, "P5"))

    def test_tail_shows_the_drivers_of_the_worst_trials(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(100, 5))
        model.driver("noise", kd.Normal(0, 0.01))
        model.outcome("y", "x + noise")
        run = model.simulate(20_000, seed=1)
        frame = run.sensitivity("y", "tail", worst=0.05)
        self.assertAlmostEqual(
            frame.loc["x", "shift"], -stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05, delta=0.02
        )
        self.assertAlmostEqual(frame.loc["x", "mean, all"], 100, delta=0.01)
        self.assertLess(abs(frame.loc["noise", "shift"]), 0.15)
        self.assertGreater(run.sensitivity("y", "tail", side="high").loc["x", "shift"], 2)
        truth = -stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05
        rows = [
            model.simulate(1000, seed=s, sampling="random").sensitivity("y", "tail").loc["x"]
            for s in range(60)
        ]
        self.assertCalibrated(
            [row["shift"] - truth for row in rows], [row["error"] for row in rows]
        )

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
        linked = linear(ab=0.5).simulate(300, seed=1)
        student = kd.Model.of(linear().statement.without_correlations())
        student.correlate("a", "b", 0.5, copula="t", df=4)
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
            (
                linear().simulate(300),
                {"method": "sobol", "evaluations": 100},
                ("evaluations or more",),
            ),
            (linear().simulate(4), {"method": "regression"}, ("more than 5 trials",)),
            (student.simulate(300), {"method": "shapley"}, ("gaussian copula",)),
            (linked, {"method": "shapley", "groups": {"g": "ab"}}, ("list of drivers",)),
            (linked, {"method": "shapley", "groups": {"g": ["a", "d"]}}, ("'d'", "not a driver")),
            (linked, {"method": "shapley", "groups": {"g": ["a"], "h": ["a"]}}, ("'g' and 'h'",)),
            (years.simulate(300), {"name": "row"}, ("is a row",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                run.sensitivity(**{"name": "y", **options})

    def test_every_method_has_its_picture(self):
        from kindynos.results.sensitivity.methods import METHODS

        run = linear().simulate(1000, seed=1)
        for method in METHODS:
            with self.subTest(method=method):
                ax = kd.plots.sensitivity(run, "y", method, ax=Figure().subplots())
                self.assertIn("y", ax.get_title(loc="left"))
                labels = [
                    text.get_text()
                    for text in (
                        ax.get_legend().get_texts()
                        if method == "conditional"
                        else ax.get_yticklabels()
                    )
                ]
                self.assertEqual(labels[0], "b")


class Ranks(Case):
    def test_rank_correlations(self):
        run = additive().simulate(20_000, seed=4)
        frame = run.sensitivity("y")
        self.assertEqual(list(frame.index), ["x2", "x1", "x0"])
        for i in range(3):
            expected = stats.spearmanr(run[f"x{i}"].values, run["y"].values).statistic
            self.assertAlmostEqual(frame.loc[f"x{i}", "rank correlation"], expected, places=10)
            pearson = (1 + i) / math.sqrt(14)
            self.assertAlmostEqual(
                expected,
                6 / math.pi * math.asin(pearson / 2),
                delta=3 * frame.loc[f"x{i}", "error"],
            )
            share, error = frame.loc[f"x{i}", ["first-order share", "error of share"]]
            self.assertLess(abs(share - (1 + i) ** 2 / 14), 1.5 * error)
            self.assertTrue(0.002 < error < 0.02)

    def test_first_order_shares_find_what_is_not_monotone(self):
        model = kd.Model("fold")
        for name in ("x", "z"):
            model.driver(name, kd.Uniform(-1, 1))
        model.outcome("y", "abs(x) + 0.1 * z")
        frame = model.simulate(10_000, seed=1).sensitivity("y")
        self.assertEqual(frame.index[0], "x")
        self.assertAlmostEqual(frame.loc["x", "first-order share"], 25 / 26, delta=0.005)
        self.assertAlmostEqual(frame.attrs["interaction"], 0, delta=0.03)
        self.assertFalse(frame.attrs["correlated"])

    def test_shares_of_weighted_trials_are_those_of_repeated_ones_wherever_they_lie(self):
        rng = np.random.default_rng(4)
        score = np.repeat(np.arange(300.0), 3)  # each value three times, so that copies are tied
        outcome = np.sin(score / 60) + 0.3 * rng.normal(size=900)
        often = rng.integers(1, 4, 300).repeat(3)
        bounds = np.arange(0, 901, 100)
        weighted = first_order_share(score, outcome, bounds, often.astype(float))
        self.assertAlmostEqual(
            first_order_share(score, 7 - 2 * outcome, bounds, often.astype(float)), weighted
        )
        every = np.repeat(np.arange(900), often)
        repeated = first_order_share(score[every], outcome[every], np.arange(len(every) + 1))
        self.assertAlmostEqual(weighted, repeated, delta=0.02)

    @proof
    def test_errors_of_first_order_shares_cover_the_truth(self):
        truth, hits, halved = np.array([1, 0.25, 0.18]) / 1.43, [], []
        for seed in range(40):
            model = kd.Model("shares")
            for i in range(3):
                model.driver(f"x{i}", kd.Normal(0, 1))
            model.outcome("y", "x0 + 0.5 * x1 + 0.3 * x2 * x2")
            frame = model.simulate(2000, seed=seed).sensitivity("y").loc[["x0", "x1", "x2"]]
            gap = np.abs(frame["first-order share"] - truth)
            hits.append(gap <= frame["error of share"])
            halved.append(gap <= frame["error of share"] / 2)
        self.assertGreater(np.mean(hits), 0.9)
        self.assertLess(np.mean(halved), 0.85)

    def test_ties_share_their_rank(self):
        model = kd.Model("ties")
        model.driver("a", kd.Discrete([0, 1, 2], [0.5, 0.3, 0.2]))
        model.driver("b", kd.Discrete([0, 1], [0.5, 0.5]))
        model.outcome("y", "a + b")
        run = model.simulate(5000, seed=1)
        expected = stats.spearmanr(run["a"].values, run["y"].values).statistic
        self.assertAlmostEqual(
            run.sensitivity("y").loc["a", "rank correlation"], expected, places=10
        )

    def test_a_driver_with_periods_counts_as_one(self):
        model = kd.Model("rows", periods=4)
        model.driver("x", kd.Normal(0, 1), each="period")
        model.driver("s", kd.Normal(0, 2))
        model.outcome("y", "total(x) - s")
        run = model.simulate(20_000, seed=1)
        whole, split = run.sensitivity("y"), run.sensitivity("y", by_period=True)
        self.assertEqual(len(whole), 2)
        self.assertAlmostEqual(whole.loc["x", "first-order share"], 0.5, delta=0.03)
        self.assertLess(whole.loc["s", "rank correlation"], -0.65)
        self.assertEqual(sorted(split.index), ["s", "x 1", "x 2", "x 3", "x 4"])
        self.assertAlmostEqual(split.loc["x 1", "rank correlation"], 0.34, delta=0.02)

    def test_rows_have_none(self):
        with self.fails("'cash_flow' is a row"):
            investment().simulate(300, seed=1).sensitivity("cash_flow")


class PublishedFunctions(Case):
    def test_the_g_function(self):
        # Saltelli and Sobol' (1995): the product of (|4 x - 2| + a) / (1 + a), with shares in
        # closed form.
        weights = (0.0, 1.0, 4.5, 9.0)
        model = kd.Model("g")
        for place in range(4):
            model.driver(f"x{place}", kd.Uniform(0, 1))
        parts = [f"(abs(4 * x{place} - 2) + {a}) / (1 + {a})" for place, a in enumerate(weights)]
        model.outcome("y", " * ".join(parts))
        alone = np.array([1 / (3 * (1 + a) ** 2) for a in weights])
        variance = np.prod(1 + alone) - 1
        frame = model.simulate(256, seed=1).sensitivity("y", "sobol")
        for place, part in enumerate(alone):
            self.assertAlmostEqual(
                frame.loc[f"x{place}", "first order"], part / variance, delta=0.01
            )
            total = part * np.prod(np.delete(1 + alone, place)) / variance
            self.assertAlmostEqual(frame.loc[f"x{place}", "total"], total, delta=0.01)

    def test_shapley_shares_split_an_interplay(self):
        # Without dependence a share is what is explained alone and an equal part of each interplay
        # (Owen 2014).
        variance = 0.5 + 49 / 8 + 0.1 * np.pi**4 / 5 + 0.01 * np.pi**8 / 18
        both = 0.01 * np.pi**8 * (1 / 18 - 1 / 50) / variance
        frame = ishigami().simulate(256, seed=2).sensitivity("y", "shapley")
        wanted = {
            "x1": 0.5 * (1 + 0.1 * np.pi**4 / 5) ** 2 / variance + both / 2,
            "x2": 49 / 8 / variance,
            "x3": both / 2,
        }
        for name, share in wanted.items():
            self.assertAlmostEqual(frame.loc[name, "share of variance"], share, delta=0.01)

    def test_conditional_means_of_a_function_that_is_not_monotone(self):
        frame = ishigami().simulate(40_000, seed=1).sensitivity("y", "conditional", slices=8)
        edges = np.linspace(-np.pi, np.pi, 9)
        # the mean of 7 sin² over each slice
        wanted = np.diff(3.5 * edges - 7 * np.sin(2 * edges) / 4) / np.diff(edges)
        np.testing.assert_allclose(frame.loc["x2"].iloc[:8], wanted, atol=0.15)


class BothSides(Case):
    @proof
    def test_errors_of_sobol_and_shapley_shares_are_their_spread_over_seeds(self):
        for method, column, error, point in (
            ("sobol", "first order", "error", t_point(7)),
            ("sobol", "total", "error of total", t_point(7)),
            ("shapley", "share of variance", "error", t_point(15)),
        ):
            frames = [
                ishigami()
                .simulate(200, seed=seed, workers=1)
                .sensitivity("y", method, evaluations=4096)
                .loc["x1"]
                for seed in range(24)
            ]
            spread = point * np.std([frame[column] for frame in frames], ddof=1)
            with self.subTest(method=method, column=column):
                self.assertTrue(0.5 < np.median([frame[error] for frame in frames]) / spread < 1.6)

    def test_the_error_of_a_rank_correlation(self):
        truth = 6 / math.pi * math.asin(1 / math.sqrt(2) / 2)
        gaps, errors = [], []
        for seed in range(60):
            model = kd.Model("pair")
            for name in ("x", "z"):
                model.driver(name, kd.Normal(0, 1))
            model.outcome("y", "x + z")
            frame = model.simulate(400, seed=seed, sampling="random", workers=1).sensitivity("y")
            gaps += list(frame["rank correlation"] - truth)
            errors += list(frame["error"])
        self.assertCalibrated(gaps, errors)
