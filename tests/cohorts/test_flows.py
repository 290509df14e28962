"""Tests of what comes and goes in cohorts, of their chances by period, and of their pictures."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case

TWO = {"a": {"b": 0.25}, "b": {"a": 0.5}}


class Flows(Case):
    def test_arrivals_may_be_a_driver_of_the_model(self):
        model = kd.Model("x", periods=6)
        model.driver("orders", kd.Poisson(3), each="period")
        model.given(scrapped=1.0)
        flows = {"arrivals": {"a": "orders"}, "departures": {"b": "scrapped"}}
        model.cohort("f", kd.Cohort(["a", "b"], {"a": 10}, TWO, remainder_state="same", **flows))
        model.outcome("all_things", "last(f_a) + last(f_b)")
        run = model.simulate(4000, seed=1)
        come = run.row("orders").values.sum(axis=0)
        things = run["all_things"].values
        self.assertTrue((things <= 10 + come).all() and (things >= 10 + come - 6).all())
        base = model.base_case()
        first = base.loc["f_a"].iloc[1]
        # nothing is in b to depart in the first period
        self.assertAlmostEqual(first, 10 * 0.75 + 3)
        self.assertAlmostEqual(float(run.row("f_a").mean[0]), first, delta=0.15)

    def test_chances_may_follow_a_row(self):
        model = kd.Model("x", periods=3)
        model.given("wear", [0.0, 0.5, 1.0])
        model.cohort(
            "f", kd.Cohort(["a", "b"], {"a": 1000}, {"a": {"b": "wear"}}, remainder_state="same")
        )
        model.outcome("left", "last(f_a)")
        run = model.simulate(2000, seed=1)
        counts = run.row("f_a").values
        np.testing.assert_array_equal(counts[0], 1000)
        self.assertAlmostEqual(counts[1].mean(), 500, delta=2)
        self.assertAlmostEqual(counts[1].std(), np.sqrt(250), delta=1)
        np.testing.assert_array_equal(counts[2], 0)
        np.testing.assert_allclose(model.base_case().loc["f_a"].iloc[1:], [1000, 500, 0])

    def test_a_chance_that_is_a_driver_spreads_counts_as_a_mixture(self):
        model = kd.Model("x", periods=1)
        model.driver("p", kd.Beta(4, 16))
        model.cohort(
            "f", kd.Cohort(["a", "b"], {"a": 50}, {"a": {"b": "p"}}, remainder_state="same")
        )
        model.outcome("gone", "last(f_b)")
        gone = model.simulate(20_000, seed=3)["gone"]
        exact = stats.betabinom(50, 4, 16)
        self.assertAlmostEqual(float(gone.mean), exact.mean(), delta=3 * gone.mean.error)
        self.assertAlmostEqual(float(gone.sd), exact.std(), delta=3 * gone.sd.error)
        self.assertAlmostEqual(float(gone.chance(at=8)), exact.pmf(8), delta=0.006)

    def test_ways_to_state_the_chances(self):
        frame = pd.DataFrame([[0.75, 0.25], [0.5, 0.5]], index=["a", "b"], columns=["a", "b"])
        same = [
            kd.Cohort(["a", "b"], {"a": 9}, TWO, remainder_state="same"),
            kd.Cohort(["a", "b"], {"a": 9}, frame),
            kd.Cohort(["a", "b"], {"a": 9}, frame.to_numpy()),
            kd.Cohort(
                ["a", "b"],
                {"a": 9},
                {"a": {"b": 0.25}, "b": {"a": 0.5}},
                remainder_state={"a": "a", "b": "b"},
            ),
            kd.Cohort(["a", "b"], {"a": 9}, [["0.75", 0.25], [0.5, "0.5"]]),
        ]
        for one in same:
            np.testing.assert_array_equal(one.array(), frame.to_numpy())
            np.testing.assert_array_equal(one.counts(4, 50, seed=2), same[0].counts(4, 50, seed=2))
        turns = kd.Cohort(
            ["a", "b"], {"a": 9}, [TWO, {"a": {"b": 1.0}, "b": {}}], remainder_state="same"
        )
        self.assertEqual(turns.periods, 2)
        short = kd.Cohort(["a", "b"], {"a": 1}, TWO, remainder_state="same", arrivals={"a": [1, 2]})
        np.testing.assert_allclose(turns.array(1), [[0, 1], [0, 1]])
        for ask, words in (
            (lambda: turns.counts(3, 10, seed=1), "stated for 2 periods"),
            (lambda: turns.steady_state(), "alike in all periods"),
            (lambda: short.counts(3, 9, seed=1), "arrivals of 'a' are 2"),
            (
                lambda: kd.Cohort(
                    ["a", "b"], {"a": 1}, TWO, remainder_state="same", arrivals={"a": 1.5}
                ),
                "whole numbers",
            ),
            (
                lambda: kd.Cohort(
                    ["a", "b"], {"a": 1}, TWO, remainder_state="same", arrivals={"a": "1 + x"}
                ),
                "the name of a quantity",
            ),
            (
                lambda: kd.Cohort(
                    ["a", "b"], {"a": 1}, TWO, remainder_state="same", departures={"a": 1}
                ).covariance(2),
                "no closed form",
            ),
        ):
            with self.subTest(words), self.fails(words):
                ask()

    def test_the_worth_of_things_and_the_price_of_moves(self):
        cohort = kd.Cohort(
            ["a", "b"],
            {"a": 40},
            TWO,
            remainder_state="same",
            value={"a": 3.0},
            cost={"a -> b": 7.0},
        )
        model = kd.Model("x", periods=5)
        model.cohort("f", cohort)
        model.outcome("v", "total(f_value)")
        found = model.simulate(20_000, seed=5)["v"]
        counts = cohort.expected(5).to_numpy()
        exact = 3 * counts[0, 1:].sum() - 7 * 0.25 * counts[0, :-1].sum()
        self.assertAlmostEqual(float(found.mean), exact, delta=2.5 * found.mean.error)
        self.assertAlmostEqual(model.base_case().loc["v", "value"], exact)

    def test_trials_share_draws_between_scenarios_of_a_model(self):
        model = kd.Model("x", periods=4)
        model.given(chance=0.2)
        model.cohort(
            "f", kd.Cohort(["a", "b"], {"a": 30}, {"a": {"b": "chance"}}, remainder_state="same")
        )
        model.outcome("left", "last(f_a)")
        compared = model.compare({"now": {}, "more": {"chance": 0.21}}, trials=4000, seed=1)
        row = compared.differences().loc[("left", "more", "mean")]
        self.assertTrue(row["paired"])
        alone = model.simulate(4000, seed=1)["left"].sd
        self.assertLess(row["error"], 1.96 * float(alone) * np.sqrt(2 / 4000) / 3)
        self.assertLess(abs(row["difference"] - 30 * (0.79**4 - 0.8**4)), 2 * row["error"])


class Pictures(Case):
    def test_fans_and_stacks_show_the_counts(self):
        result = kd.Cohort(["a", "b"], {"a": 40}, TWO, remainder_state="same").simulate(
            6, 3000, seed=1
        )
        axes = [ax for ax in result.plot().axes if ax.get_visible()]
        self.assertEqual([ax.get_title(loc="left") for ax in axes], ["a", "b"])
        mean = next(line for line in axes[0].lines if line.get_label() == "mean")
        np.testing.assert_allclose(mean.get_ydata(), result["a"].mean(axis=1))
        stacked = result.plot("stacked").axes[0]
        paths = [
            path
            for shape in stacked.collections
            for path in shape.get_paths()
            if len(path.vertices)
        ]
        top = max(float(path.vertices[:, 1].max()) for path in paths)
        self.assertAlmostEqual(top, 40, delta=4)
        self.assertEqual(result["b"].shape, (7, 3000))
        with self.fails("no state 'c'"):
            result["c"]
        with self.fails("same states, periods and trials"):
            result.against(3)
