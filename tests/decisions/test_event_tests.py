"""Tests of tests of events: Bayes' chances, what they are worth, and results by criterion."""

import json

import numpy as np

import kindynos as kd
from kindynos import Choice, Decision, Event, EventTest, Pay
from tests.common import DEMO, Case, run

DEMAND = Event("demand", {"high": (0.4, 12.0), "low": ("rest", -6.0)})
LAUNCH = Choice("launch?", {"launch": DEMAND, "drop": 0.0})
GOOD = {"high": 0.9, "low": 0.2}
SIGNALS = {"g": GOOD, "b": "rest"}


def survey(cost: float = 0.5, then=LAUNCH) -> Pay:
    return Pay(-cost, EventTest("survey", "demand", {"good": GOOD, "bad": "rest"}, then))


def route(**options) -> Decision:
    return Decision("new route", {"survey": survey(), "launch": DEMAND, "stay": 0.0}, **options)


class Bayes(Case):
    def test_a_test_that_may_be_bought(self):
        # good with 0.48, and then high with 0.75: 7.5; bad, and then drop
        solution = route().solve()
        self.assertEqual(solution.best, "survey")
        self.assertAlmostEqual(float(solution.value), 0.48 * 7.5 - 0.5)
        self.assertEqual(solution.value.error, 0.0)
        self.assertEqual(solution.policy["survey", "good"], "launch")
        self.assertEqual(solution.policy["survey", "bad"], "drop")
        after = solution.parts["survey", "good", "launch", "high"].chance
        self.assertAlmostEqual(after / solution.parts["survey", "good"].chance, 0.75)

    def test_it_agrees_with_the_worth_of_sample_information(self):
        plain = Decision("new route", {"launch": DEMAND, "stay": 0.0})
        signals = {"good": GOOD, "bad": {"high": 0.1, "low": 0.8}}
        told = plain.sample_information_value("demand", signals).attrs["worth"]
        worth = route().worth_of_tests().loc[("new route", "survey")]
        self.assertAlmostEqual(worth["worth"], told)
        self.assertAlmostEqual(worth["net of cost"], told - 0.5)
        self.assertTrue(worth["best"])
        self.assertEqual(worth["event"], "demand")
        dear = Decision("d", {"survey": survey(3.0), "launch": DEMAND}).worth_of_tests()
        self.assertAlmostEqual(dear["net of cost"].item(), told - 3.0)
        self.assertFalse(dear["best"].item())

    def test_two_tests_in_a_row(self):
        # two good signals: high with 0.81 * 0.4 of 0.81 * 0.4 + 0.04 * 0.6
        again = EventTest("second", "demand", {"good": GOOD, "bad": "rest"}, LAUNCH)
        solution = Decision("d", {"both": survey(0.0, again), "stay": 0.0}).solve()
        part = solution.parts["both", "good", "good", "launch", "high"]
        whole = solution.parts["both", "good", "good"]
        self.assertAlmostEqual(part.chance / whole.chance, 0.324 / (0.324 + 0.024))
        self.assertAlmostEqual(sum(solution.distribution("both")[1]), 1)

    def test_what_follows_may_depend_on_the_signal(self):
        then = {"good": DEMAND, "bad": -1.0}
        solution = Decision("d", {"survey": survey(0.0, then), "stay": 0.0}).solve()
        self.assertAlmostEqual(float(solution.value), 0.48 * 7.5 - 0.52)

    def test_in_the_same_trial_the_event_is_one_event(self):
        solution = route().solve(trials=20_000)
        # the survey brings more than launching at once where it warns of a low demand
        beats = solution.beats()
        self.assertAlmostEqual(beats.loc["survey", "launch"], 0.6 * 0.8)
        realized = solution.realized
        self.assertAlmostEqual(float(np.mean(realized["survey"])), 3.1, delta=0.2)

    def test_knowing_more_beside_the_test(self):
        worth = route().perfect_information()["worth"]
        self.assertAlmostEqual(worth["event demand"], 0.4 * 12 - 3.1)
        self.assertAlmostEqual(worth["everything"], 0.4 * 12 - 3.1)

    def test_errors_of_drawn_payoffs_from_both_sides(self):
        gaps, errors = [], []
        for seed in range(80):
            demand = Event("demand", {"high": ("chance", 12.0), "low": ("rest", -6.0)})
            choice = Choice("launch?", {"launch": demand, "drop": 0.0})
            given = {"chance": kd.Uniform(0.2, 0.6)}
            made = Decision(
                "d", {"survey": survey(0.5, choice), "launch": demand, "stay": 0.0}, given
            ).worth_of_tests(trials=400, seed=seed)
            gaps.append([made["net of cost"].item() - 1.9])
            errors.append([made["error of net"].item()])
        self.assertCalibrated(gaps, errors)


class Files(Case):
    def test_the_trial_summer_of_the_demo(self):
        decision = kd.load_decision(DEMO / "new_route.toml")
        test = decision.tests["trial summer"]
        self.assertAlmostEqual(test.signals["mixed"]["strong"], 0.2)
        solution = decision.solve()
        self.assertEqual(solution.best, "trial summer")
        table = solution.by_criterion()
        self.assertEqual(table.loc[("open now", "months"), "mean"], 8.0)
        self.assertAlmostEqual(
            table.loc[("open now", "jobs"), "mean"], 0.35 * 14 + 0.35 * 12 + 0.3 * 9
        )
        busy = 0.35 * 0.75 + 0.35 * 0.3 + 0.3 * 0.05
        quiet = 0.35 * 0.05 + 0.35 * 0.2 + 0.3 * 0.7
        self.assertAlmostEqual(solution.parts["trial summer", "busy"].chance, busy)
        months = table.loc[("trial summer", "months"), "mean"]
        self.assertAlmostEqual(months, 6 + 8 * (1 - quiet))

    def test_the_command_prints_tests_and_criteria(self):
        found = run("decide", str(DEMO / "new_route.toml"), "--trials", "2000")
        self.assertIn("What tests are worth", found.stdout)
        self.assertIn("By criterion", found.stdout)
        data = json.loads(
            run("decide", str(DEMO / "new_route.toml"), "--trials", "2000", "--json").stdout
        )
        self.assertEqual(data["tests"][0]["test"], "trial summer")
        self.assertEqual(len(data["by criterion"]), 9)


class Scores(Case):
    def test_a_score_that_is_no_sum_is_made_once_at_the_end(self):
        total = {"money": 5.0, "days": 2.0}
        for score in ("money * days", "money / days + 3", "max(money, days)", "7 + 0 * money"):
            decision = Decision(
                "Ways",
                {
                    "in two steps": Pay({"money": 2.0, "days": 1.0}, {"money": 3.0, "days": 1.0}),
                    "at once": total,
                    "after a chance": Pay(
                        {"money": 5.0},
                        Event("e", {"a": (0.5, {"days": 2.0}), "b": ("rest", {"days": 2.0})}),
                    ),
                },
                criteria={"money": "EUR", "days": "day"},
                score=score,
            )
            solution = decision.solve()
            values = solution.table()["value"].tolist()
            expected = eval(score, {}, {**total, "max": max})
            np.testing.assert_allclose(values, expected, err_msg=score)
            for brought in solution.realized.values():
                np.testing.assert_allclose(brought, expected)

    def test_with_draws_a_product_has_the_mean_of_products(self):
        decision = Decision(
            "Drawn",
            {
                "a": Pay({"money": kd.Normal(2, 1)}, {"money": 1.0, "days": kd.Normal(3, 1)}),
                "b": {"money": 0.0, "days": 0.0},
            },
            criteria={"money": "", "days": ""},
            score="money * money + days",
        )
        value = decision.solve(trials=20_000).table().loc["a", "value"]
        self.assertAlmostEqual(value, 3.0**2 + 1 + 3, delta=0.15)

    def test_a_criterion_that_a_path_says_nothing_of_is_named(self):
        decision = Decision(
            "Lacking",
            {"a": {"money": 3.0}, "b": {"money": 5.0, "days": 2.0}},
            criteria={"money": "", "days": ""},
            score="money * days",
        )
        with self.fails("decision 'Lacking', a: the payoff lacks the criterion 'days'"):
            decision.solve()

    def test_comparisons_that_contradict_each_other_are_refused(self):
        with self.fails("days against money is 2, and money against days is 3"):
            kd.pairwise_weights({("money", "days"): 3, ("days", "money"): 2})
        both = kd.pairwise_weights({("money", "days"): 4, ("days", "money"): 0.25})
        self.assertAlmostEqual(both.weights["money"], 0.8)


class Mistakes(Case):
    def test_what_cannot_be_is_refused(self):
        for signals, words in (
            ({"good": GOOD}, "at least two"),
            ({"good": GOOD, "bad": {"high": 0.2, "low": 0.8}}, "add up to 1.1"),
            ({"good": GOOD, "bad": {"high": 0.1}}, "same outcomes"),
            ({"good": {"high": 1.2, "low": 0.1}, "bad": "rest"}, "from 0 to 1"),
            ({"good": "rest", "bad": "rest"}, "at least two"),
        ):
            with self.subTest(signals=signals), self.fails(words):
                EventTest("survey", "demand", signals, LAUNCH)
        late = EventTest("survey", "demand", SIGNALS, 0.0)
        named = {"good": {"strong": 0.9, "low": 0.2}, "bad": "rest"}
        for alternatives, words in (
            ({"a": EventTest("s", "demands", SIGNALS, LAUNCH)}, "did you mean"),
            ({"a": EventTest("s", "demand", named, LAUNCH)}, "needs its chance for each"),
            ({"a": EventTest("demand", "demand", SIGNALS, 0.0), "b": DEMAND}, "same name"),
            ({"a": Event("demand", {"high": (1.0, late)})}, "comes after its event"),
            ({"a": survey(), "b": EventTest("survey", "demand", SIGNALS, DEMAND)}, "one test"),
        ):
            with self.subTest(words=words), self.fails(words):
                Decision("d", alternatives)
        with self.fails("no criteria"):
            route().solve().by_criterion()
        with self.fails("mean or the certainty"):
            route().worth_of_tests(by="percentile")
