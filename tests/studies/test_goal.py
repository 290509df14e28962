"""Tests of goal."""

import math

import numpy as np
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from kindynos.reports import studies
from tests.common import Case, investment, proof, repeats, reserve

FACTOR = sum(1.1**-t for t in range(1, 6))


class Goals(Case):
    def test_chance_mean_and_percentile_against_closed_forms(self):
        model = investment()
        options = {"within": (200.0, 500.0), "trials": 20_000, "seed": 2}
        chance = model.solve("price", "net_value", chance=0.8, above=0, **options)
        wanted = FACTOR * (90 + 10 * stats.norm.ppf(0.2))
        self.assertLess(abs(chance.value - wanted), 1.5 * chance.value.error)
        self.assertLessEqual(len(chance.evaluations), 25)
        mean = model.solve("price", "net_value", mean=10.0, **options)
        self.assertLess(abs(mean.value - (90 * FACTOR - 10)), 1e-4 * 300 + 1.5 * mean.value.error)
        low = model.solve(
            "flow.mean",
            "net_value",
            percentile=5,
            equals=0,
            within=(60, 120),
            trials=20_000,
            seed=2,
        )
        wanted = 300 / FACTOR - 10 * stats.norm.ppf(0.05)
        self.assertLess(abs(low.value - wanted), 1e-4 * 60 + 1.5 * low.value.error)

    def test_its_tolerance_and_count(self):
        model = kd.Model("m")
        model.given(x=1.0)
        model.driver("z", kd.Uniform(-0.5, 0.5))
        model.outcome("y", "exp(9 * x) + z")
        for goal in (2.0, 50.0, 5000.0):
            found = model.solve("x", "y", mean=goal, within=(0.0, 1.0), trials=1000, seed=1)
            self.assertAlmostEqual(float(found.value), np.log(goal) / 9, delta=2e-4)
            self.assertLessEqual(len(found.evaluations), 25)

    def test_a_goal_out_of_reach_says_what_is_reached(self):
        with self.fails("no price from 200 to 250", "chance above 0", "0.1", kind=kd.GoalError):
            investment().solve(
                "price", "net_value", chance=0.1, above=0, within=(200, 250), trials=500, seed=1
            )

    def test_picture(self):
        found = investment().solve(
            "price", "net_value", chance=0.5, above=0, within=(200, 500), trials=500, seed=1
        )
        ax = found.plot(ax=Figure().subplots())
        self.assertIn("50.0 %", ax.get_title(loc="left"))
        self.assertIn(
            "reached at", " ".join(text.get_text() for text in ax.get_legend().get_texts())
        )

    def test_mistakes(self):
        model = investment()
        for options, words in (
            ({}, ("chance=0.8",)),
            ({"mean": 1.0, "chance": 0.5}, ("say one of",)),
            ({"chance": 0.5}, ("above= or below=",)),
            ({"chance": 80, "above": 0}, ("chance", "from 0 to 1")),
            ({"percentile": 5}, ("equals=",)),
            ({"mean": 1.0, "within": (3, 2)}, ("low and a high",)),
            ({"mean": 1.0, "name": "net_value"}, ("is a line",)),
            ({"mean": 1.0, "outcome": "net_valve"}, ("did you mean 'net_value'",)),
            ({"mean": 1.0, "outcome": "cash_flow"}, ("is a row",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                model.solve(
                    **{"name": "price", "outcome": "net_value", "within": (1, 2), **options}
                )


class HorizonsThatVary(Case):
    def test_the_horizon_is_swept(self):
        swept = reserve(earned=kd.Normal(0.01, 1e-9)).sweep(last=[8, 20, 40], outcome="final")
        for last, value in zip((8, 20, 40), swept.values["final"], strict=True):
            balance = kd.roll_forward(
                100.0, 0.01, [5.0 - 40.0 * ((t + 1) % 4 == 0) for t in range(last)]
            )
            self.assertAlmostEqual(value, balance[-1], 4)

    def test_the_horizon_is_solved_for(self):
        model = kd.Model("fund", periods=60)
        model.given(last=10)
        model.driver("earned", kd.Normal(0.02, 0.01), each="period")
        model.outcome("end", "at(roll_forward(100, earned, 5), last)")
        found = model.solve("last", "end", mean=400.0, within=(1, 60), trials=2000, seed=1)
        balance = kd.roll_forward(100.0, 0.02, 5.0, periods=60)
        self.assertEqual(np.ceil(found.value), kd.first_period(balance >= 400))

    def test_quarters_are_labelled_in_sheets_and_survival(self):
        run_ = reserve().simulate(300, seed=1)
        self.assertEqual(run_.trial(0).columns[-1], "2037 Q4")
        self.assertEqual(run_.survival("ruin").index[-1], "2037 Q4")


class Errors(Case):
    def test_goals(self):
        hits = 0
        for seed in range(12):
            found = investment().solve(
                "price",
                "net_value",
                chance=0.8,
                above=0,
                within=(200, 500),
                trials=1000,
                seed=seed,
                sampling="random",
            )
            wanted = sum(1.1**-t for t in range(1, 6)) * (90 + 10 * stats.norm.ppf(0.2))
            hits += found.value.low - 0.03 <= wanted <= found.value.high + 0.03
        self.assertGreaterEqual(hits, 9)


class BothSides(Case):
    @proof
    def test_the_error_of_a_goal(self):
        # y = x - z with z standard normal: the chance of y above 0 is 0.8 at x = 0.8416, and moves
        # by the density there.
        truth, density = 0.8416212, 0.2799619
        gaps, errors = [], []
        for seed in range(repeats(90)):
            model = kd.Model("goal")
            model.given(x=0.0)
            model.driver("z", kd.Normal(0, 1))
            model.outcome("y", "x - z")
            found = model.solve(
                "x",
                "y",
                chance=0.8,
                above=0,
                within=(0, 2),
                trials=500,
                seed=seed,
                sampling="random",
            ).value
            gaps.append(found - truth)
            errors.append(found.error)
        self.assertCalibrated(gaps, errors)
        held = 0
        # far out in a wide range, where the statistic is nearly flat on one side
        for seed in range(24):
            wide = model.solve(
                "x",
                "y",
                chance=0.99,
                above=0,
                within=(0, 20),
                trials=1000,
                seed=seed,
                sampling="random",
            ).value
            held += wide.low <= 2.3263479 <= wide.high
        self.assertGreaterEqual(held, 20)
        self.assertAlmostEqual(
            np.median(errors), 1.96 * 0.4 / 500**0.5 / density, delta=0.3 * np.median(errors)
        )


class Shapes(Case):
    def model(self):
        model = kd.Model("Shapes")
        model.given(a=3.0, fare=50.0)
        model.driver("x", kd.Normal(0, 1))
        model.outcome("hump", "7e6 - 2e4 * (fare - 55.5) ** 2 + 1e3 * x")
        model.outcome("step", "floor(a) + 0 * x")
        model.outcome("twice", "(fare - 45) * (fare - 70) + 0.1 * x")
        return model

    def solve(self, name, outcome, **goal):
        return self.model().solve(name, outcome, **goal, trials=2_000, seed=1)

    def test_an_extreme_between_the_values_tried_first_is_sought(self):
        found = self.solve("fare", "hump", mean=6.999e6, within=(20, 95))
        root = math.sqrt(1e3 / 2e4)
        self.assertAlmostEqual(float(found.value), 55.5 - root, delta=0.03)
        self.assertAlmostEqual(found.others[0], 55.5 + root, delta=0.15)
        with self.fails("no fare from 20 to 95 makes the mean of hump 8,000,000"):
            self.solve("fare", "hump", mean=8e6, within=(20, 95))
        lowest = self.solve("fare", "twice", mean=-156.0, within=(30, 80))
        self.assertAlmostEqual(float(lowest.value), 57.5 - 0.5, delta=0.05)

    def test_every_crossing_is_named(self):
        found = self.solve("fare", "twice", mean=0, within=(30, 80))
        self.assertAlmostEqual(float(found.value), 45, delta=0.01)
        self.assertEqual(len(found.others), 1)
        self.assertAlmostEqual(found.others[0], 70, delta=0.1)
        report = studies.goal(found)
        self.assertIn("It is reached at about 70", " ".join(report.sections[0].sentences))

    def test_a_jump_is_no_solution(self):
        found = self.solve("a", "step", mean=2.5, within=(1, 5.2))
        self.assertEqual(found.jump, (2.0, 3.0))
        self.assertTrue(math.isnan(found.value.error))
        words = studies.goal(found).answer[0]
        self.assertIn("No a makes the mean of step 2.5: it jumps from 2 to 3 at 3", words)
        self.assertIsNone(self.solve("fare", "twice", mean=0, within=(30, 60)).jump)

    def test_the_base_case_is_solved_for(self):
        found = self.solve("fare", "hump", base=5e6, within=(20, 55))
        self.assertAlmostEqual(float(found.value), 45.5, delta=0.01)
        self.assertEqual(found.value.error, 0.0)
