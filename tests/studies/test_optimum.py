"""Tests of the best decisions of a model: problems with known answers, their errors, constraints,
and fresh draws.
"""

from itertools import product

import numpy as np
from scipy import optimize, stats

import kindynos as kd
from kindynos.reports.answers import answer
from tests.common import DEMO, FERRY, Case, investment, proof


def newsvendor():
    model = kd.Model("Newsvendor")
    model.given(order=100.0, price=5.0, cost=3.0)
    model.driver("demand", kd.Normal(1000, 200))
    model.outcome("profit", "price * min(order, demand) - cost * order", unit="EUR")
    return model


def limited():
    """The mean of v is highest at (3, 2); the chance of a loss limits the distance from (0, 0)."""
    model = kd.Model("Limited")
    model.given(x=0.0, y=0.0)
    model.driver("z", kd.Normal(0, 1))
    model.driver("w", kd.Normal(0, 1))
    model.outcome("v", "-(x - 3)**2 - (y - 2)**2 + 0.1 * z * x")
    model.outcome("loss", "x * z + y * w - 3")
    return model


LIMIT = "chance above 0 of loss <= 0.05"


class KnownAnswers(Case):
    @proof
    def test_newsvendor(self):
        # the quantile of Arrow, Harris and Marschak (1951)
        truth = stats.norm(1000, 200).ppf(1 - 3 / 5)
        # p times the mean demand below, at q
        best = 5 * (1000 - 200 * stats.norm.pdf(stats.norm.ppf(0.4)) / 0.4) * 0.4
        gaps, errors = [], []
        for seed in range(25):
            found = newsvendor().optimize(
                {"order": (400, 1600)},
                maximize="mean profit",
                trials=2_000,
                seed=seed,
                sampling="random",
            )
            gaps.append(found.decisions["order"] - truth)
            errors.append(found.decisions["order"].error)
            self.assertLessEqual(len(found.evaluations), 200)
        self.assertCalibrated(gaps, errors)
        found = newsvendor().optimize({"order": (400, 1600)}, maximize="mean profit", seed=1)
        self.assertLess(abs(found.decisions["order"] - truth), 1.5 * found.decisions["order"].error)
        self.assertLess(abs(found.objective - best), 2 * found.objective.error)
        self.assertEqual(found.unit, "EUR")

    def test_a_quadratic_under_a_chance_limit(self):
        model = kd.Model("Quadratic")
        model.given(x=1.0)
        model.driver("z", kd.Normal(0, 1))
        model.outcome("gain", "10 * x - x * x + 2 * x * z")
        model.outcome("loss", "x * z - 3")
        found = model.optimize(
            {"x": (0, 8)}, maximize="mean gain", subject_to=[LIMIT], trials=20_000, seed=3
        )
        self.assertLess(
            abs(found.decisions["x"] - 3 / stats.norm.ppf(0.95)), found.decisions["x"].error
        )
        table = found.constraints().iloc[0]
        self.assertTrue(table["binds"] and table["low"] <= 0.05 <= table["high"])
        self.assertEqual(table["kept"], "perhaps")
        self.assertIn("binds", found.sentences()[-1])
        free = model.optimize(
            {"x": (0, 8)},
            maximize="mean gain",
            subject_to="chance above 0 of loss <= 90 %",
            trials=4_000,
            seed=3,
        )
        self.assertLess(abs(free.decisions["x"] - 5), free.decisions["x"].error)
        self.assertEqual(list(free.constraints()[["binds", "kept"]].iloc[0]), [False, "yes"])

    def test_one_driver_under_latin_whose_blocks_all_have_the_same_share(self):
        # P(30 - x + a < 0) <= 0.1 with a of sd 10 binds at x = 30 + 10 z(0.1)
        model = kd.Model("One")
        model.given(x=5.0)
        model.driver("a", kd.Normal(0, 10))
        model.outcome("gain", "x")
        model.outcome("margin", "30 - x + a")
        truth = 30 + 10 * stats.norm.ppf(0.1)
        gaps, errors = [], []
        for seed in range(30):
            best = model.optimize(
                {"x": (0.0, 30.0)},
                maximize="mean gain",
                subject_to="chance below 0 margin <= 0.1",
                trials=1_000,
                seed=seed,
                evaluations=60,
            ).decisions["x"]
            gaps.append(abs(best - truth))
            errors.append(best.error)
        held = np.mean(np.array(gaps) <= errors)
        self.assertGreaterEqual(held, 0.86)
        self.assertLess(np.mean(np.array(gaps) <= np.array(errors) / 3), 0.9)

    def test_a_narrow_region_is_found_where_all_chances_around_it_are_1(self):
        # only near x = 0.777 and y = 0.123 is the margin above 0; the highest x there is known
        model = kd.Model("Narrow")
        model.given(x=0.0, y=0.0)
        model.driver("a", kd.Normal(0, 0.01))
        model.outcome("gain", "x")
        model.outcome("margin", "0.03 - 30 * ((x - 0.777)**2 + (y - 0.123)**2) + a / 10")
        best = model.optimize(
            {"x": (0.0, 1.0), "y": (0.0, 1.0)},
            maximize="mean gain",
            subject_to="chance below 0 margin <= 0.1",
            trials=1_000,
            seed=1,
        ).decisions
        reach = np.sqrt((0.03 - 1e-3 * stats.norm.ppf(0.9)) / 30)
        self.assertAlmostEqual(best["x"], 0.777 + reach, delta=5e-4)
        self.assertAlmostEqual(best["y"], 0.123, delta=5e-3)

    def test_slopes_that_point_nowhere_do_not_lead_away_from_the_best(self):
        # The chance is flat along the limit: the slopes lead to a fare of 54, 4 % worse.
        for trials in (5_000, 20_000):
            found = kd.load_model(DEMO / "best_fare.toml").optimize(
                {"fare": (40, 75), "crossings": (400, 1000)},
                maximize="mean passengers",
                subject_to=["chance below 0 of net_value <= 0.2"],
                trials=trials,
                seed=11,
            )
            tried = found.evaluations
            kept = tried[tried["allowed"]]["mean of passengers"].max()
            self.assertLess(abs(found.objective / kept - 1), 0.01)
            for name, width in (("fare", 35), ("crossings", 600)):
                self.assertFalse(found.decisions[name].error > width / 2)

    @proof
    def test_two_decisions_under_a_chance_limit(self):
        reach = 3 / stats.norm.ppf(0.95)
        truth = optimize.minimize(
            lambda p: (p[0] - 3) ** 2 + (p[1] - 2) ** 2,
            [1, 1],
            constraints={"type": "eq", "fun": lambda p: np.hypot(*p) - reach},
        ).x
        gaps, errors = [], []
        for seed in range(10):
            found = limited().optimize(
                {"x": (0, 5), "y": (0, 5)},
                maximize="mean v",
                subject_to=[LIMIT],
                trials=4_000,
                seed=seed,
            )
            gaps += [found.decisions["x"] - truth[0], found.decisions["y"] - truth[1]]
            errors += [found.decisions["x"].error, found.decisions["y"].error]
            self.assertLessEqual(len(found.evaluations), 200)
        self.assertCalibrated(gaps, errors)

    def test_two_peaks(self):
        model = kd.Model("Peaks")
        model.given(a=0.0, b=0.0)
        model.driver("e", kd.Normal(0, 0.1))
        peaks = (
            "3 * exp(-((a-2)**2 + (b-2)**2) / 2 - 0.3*(a-2)*(b-2)) + 3.5 * exp(-((a+2)**2 + "
            "(b+1)**2) / 2 - 0.3*(a+2)*(b+1))"
        )
        model.outcome("v", f"{peaks} + e")

        def height(p):
            a, b = p
            first = 3 * np.exp(-((a - 2) ** 2 + (b - 2) ** 2) / 2 - 0.3 * (a - 2) * (b - 2))
            return -first - 3.5 * np.exp(
                -((a + 2) ** 2 + (b + 1) ** 2) / 2 - 0.3 * (a + 2) * (b + 1)
            )

        truth = optimize.minimize(height, [-2, -1], tol=1e-12).x
        found = model.optimize(
            {"a": (-5, 5), "b": (-5, 5)}, maximize="mean v", trials=1_000, seed=1
        )
        for name, value in zip("ab", truth, strict=True):
            self.assertLess(abs(found.decisions[name] - value), 2 * found.decisions[name].error)
        self.assertLessEqual(len(found.evaluations), 200)
        worst = model.optimize({"a": (-5, 5), "b": (-5, 5)}, minimize="mean v", trials=400, seed=1)
        self.assertLess(abs(worst.found), 0.01)

    def test_whole_numbers_and_lists(self):
        model = kd.Model("Fleet")
        model.given(ferries=1.0, fare=40.0, kind=1.0)
        model.driver("demand", kd.Normal(100, 10))
        model.outcome(
            "profit",
            "fare * min(demand * (3 - fare / 40), 25 * ferries) - 700 * ferries - 50 * (kind "
            "- 2)**2",
        )
        found = model.optimize(
            {"ferries": range(1, 12), "fare": (20, 100), "kind": [1, 2, 3]},
            maximize="mean profit",
            seed=1,
        )
        rng = np.random.default_rng(5)
        demand = 100 + 10 * rng.standard_normal(4_000)
        best = max(
            (float((fare * np.minimum(demand * (3 - fare / 40), 25 * n) - 700 * n).mean()), n, fare)
            for n in range(1, 12)
            for fare in np.linspace(20, 100, 161)
        )
        self.assertEqual((found.decisions["ferries"], found.decisions["kind"]), (best[1], 2.0))
        self.assertAlmostEqual(found.decisions["fare"], best[2], delta=1.0)
        self.assertTrue(np.isnan(found.decisions["kind"].error))


class Draws(Case):
    def test_array_evaluation_equals_single_runs(self):
        model = kd.load_model(FERRY)
        found = model.optimize(
            {"fare": (45, 65), "crossings": [600, 680]},
            maximize="mean net_value",
            trials=600,
            seed=5,
            evaluations=20,
        )
        for row in found.evaluations.head(4).to_dict("records"):
            run = model.replace(fare=row["fare"], crossings=row["crossings"]).simulate(600, seed=5)
            self.assertEqual(row["mean of net_value"], float(run["net_value"].mean))
        self.assertNotEqual(found.run.seed, 5)
        again = model.optimize(
            {"fare": (45, 65), "crossings": [600, 680]},
            maximize="mean net_value",
            trials=600,
            seed=5,
            evaluations=20,
        )
        self.assertEqual(again.decisions, found.decisions)

    def test_parameters_of_distributions(self):
        found = investment().optimize(
            {"flow.mean": (80, 100)},
            maximize="percentile 5 of net_value",
            trials=500,
            seed=1,
            evaluations=20,
        )
        self.assertEqual((found.decisions["flow.mean"], found.ends), (100.0, {"flow.mean": 100.0}))
        self.assertIn("the end of its range", " ".join(found.sentences()))

    @proof
    def test_the_search_is_too_hopeful_and_fresh_draws_are_not(self):
        model = kd.Model("Lottery")
        model.given(which=0.0)
        for place in range(12):
            model.driver(f"z{place}", kd.Normal(0, 1))
        sums = " + ".join(f"(z{place} if abs(which - {place}) < 0.1 else 0)" for place in range(12))
        model.outcome("v", sums)
        options = {"maximize": "mean v", "trials": 400, "sampling": "random", "evaluations": 40}
        found = [
            model.optimize({"which": list(range(12))}, seed=seed, **options) for seed in range(20)
        ]
        # the highest of twelve means of noise
        self.assertGreater(np.mean([float(one.found) for one in found]), 0.05)
        self.assertLess(abs(np.mean([float(one.objective) for one in found])), 0.03)

    def test_progress_and_stopping(self):
        heard = []
        newsvendor().optimize(
            {"order": (400, 1600)},
            maximize="mean profit",
            trials=300,
            seed=1,
            progress=lambda *a: heard.append(a),
        )
        self.assertEqual(heard[0], (1, 200))
        with self.fails("stopped", kind=kd.StoppedError):
            newsvendor().optimize(
                {"order": (400, 1600)},
                maximize="mean profit",
                trials=300,
                seed=1,
                progress=lambda *a: False,
            )


class Counts(Case):
    def test_never_more_evaluations_than_were_allowed(self):
        for most in (10, 15, 25, 40, 70):
            found = limited().optimize(
                {"x": (0, 5), "y": (0, 5)},
                maximize="mean v",
                subject_to=[LIMIT],
                trials=400,
                seed=1,
                evaluations=most,
            )
            self.assertLessEqual(len(found.evaluations), most)
            self.assertTrue(found.evaluations["allowed"].any())
            table = found.evaluations
            best = table[
                (table["x"] == found.decisions["x"]) & (table["y"] == found.decisions["y"])
            ]
            self.assertTrue(best["allowed"].all() and len(best) == 1)


class Sets(Case):
    """Decisions of yes or no, against all sets."""

    def pipeline(self, count, seed):
        generator = np.random.default_rng(seed)
        values, costs = (generator.uniform(3, 20, count).round(1) for _ in range(2))
        budget = round(0.45 * costs.sum() + 0.037, 3)  # which no set meets exactly
        model = kd.Model("Pipeline")
        model.given(**{f"d{k}": 0 for k in range(count)})
        model.driver("scale", kd.Normal(1, 0.2))
        total = " + ".join(f"{x} * d{k}" for k, x in enumerate(values))
        model.outcome("gain", f"scale * ({total}) - 3 * d0 * d1 + 2 * d2 * d3")
        model.outcome("cost", " + ".join(f"{x} * d{k}" for k, x in enumerate(costs)))
        sets = np.array(list(product((0, 1), repeat=count)))
        gains = sets @ values - 3 * sets[:, 0] * sets[:, 1] + 2 * sets[:, 2] * sets[:, 3]
        best = sets[np.where(sets @ costs <= budget, gains, -np.inf).argmax()]
        found = model.optimize(
            {f"d{k}": [0, 1] for k in range(count)},
            maximize="mean gain",
            subject_to=f"mean cost <= {budget}",
            trials=200,
            seed=1,
        )
        return found, best

    def test_the_best_set_is_found(self):
        for count in (7, 8, 12):
            for seed in range(2):
                found, best = self.pipeline(count, seed)
                with self.subTest(decisions=count, seed=seed):
                    self.assertEqual([float(x) for x in found.decisions.values()], best.tolist())
                    self.assertEqual(len(found.evaluations), min(2**count, 200))
                    self.assertEqual(found.tried_all, count == 7)
                    row = found.constraints().iloc[0]
                    self.assertFalse(row["binds"] and row["limit"] - row["on fresh draws"] > 2)
                    self.assertNotIn("nan", " ".join(found.sentences()))

    def test_a_usable_answer_stands_beside_one_at_its_limit(self):
        model = kd.Model("Price")
        model.given(price=10.0)
        model.driver("cost", kd.Normal(10, 2))
        model.outcome("gain", "price - cost")
        model.outcome("sales", "100 - 3 * price")
        found = model.optimize(
            {"price": (8, 20)},
            maximize="mean sales",
            subject_to="chance above 0 of gain >= 97.5 %",
            trials=4_000,
            seed=2,
        )
        self.assertEqual(found.constraints()["kept"][0], "perhaps")
        price = found.inside.decisions["price"]
        self.assertGreater(price, 10 + 2 * stats.norm.ppf(0.975))
        self.assertLess(price, 10 + 2 * stats.norm.ppf(0.9925))
        self.assertGreater(found.inside.figures[0].low, 0.975)
        self.assertRegex(answer(found)[-1], "At price 14.* it is kept for certain .*98")


class Refused(Case):
    def test_messages(self):
        model = investment()
        price = {"price": (200, 400)}
        for options, words in (
            ({"decisions": {}}, ("nothing to decide",)),
            ({"decisions": {"price": (400, 200)}}, ("a low and a high end, not 400 and 200",)),
            ({"decisions": {"prise": (1, 2)}}, ("no 'prise'", "did you mean 'price'")),
            ({"decisions": {"price": "high"}}, ("price", "a number")),
            ({"maximize": None}, ("say one of maximize=",)),
            ({"minimize": "sd net_value"}, ("say one of maximize=",)),
            ({"maximize": "net_value"}, ("say a statistic and an outcome",)),
            ({"maximize": "men net_value"}, ("no statistic 'men'", "did you mean 'mean'")),
            ({"maximize": "mean net_valve"}, ("did you mean 'net_value'",)),
            ({"maximize": "mean cash_flow"}, ("is a row",)),
            ({"subject_to": ["chance below 0 of net_value"]}, ("a constraint is such as",)),
            ({"subject_to": ["chance below 0 of net_value <= 5"]}, ("a chance is from 0 to 1",)),
            ({"subject_to": ["mean net_value >= lots"]}, ("must be a number, not 'lots'",)),
            ({"evaluations": 3}, ("evaluations", "at least 10")),
        ):
            with self.subTest(options=options), self.fails(*words):
                model.optimize(
                    **{
                        "decisions": price,
                        "maximize": "mean net_value",
                        "trials": 200,
                        "seed": 1,
                        **options,
                    }
                )

    def test_constraints_that_cannot_be_kept_say_what_comes_nearest(self):
        with self.fails(
            "no decisions keep mean of net_value at least 1e+06",
            "there it is",
            "price=200",
            kind=kd.GoalError,
        ):
            investment().optimize(
                {"price": (200, 400)},
                maximize="mean net_value",
                subject_to="mean net_value >= 1e6",
                trials=200,
                seed=1,
            )
