"""Tests of the sentences that come first: they say what the figures say, and no more than their
errors allow.
"""

import re

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.reports.answers import backtest_answer
from kindynos.reports.showing import report_of
from tests.common import Case, run


def said(result) -> str:
    return " ".join(report_of(result).answer)


def risk() -> kd.Event:
    return kd.Event("permit", {"granted": (0.6, 9e6), "refused": ("rest", -4e6)})


class Choices(Case):
    def test_the_best_by_how_much_and_how_often_it_loses(self):
        decision = kd.Decision("ferry", {"buy_it": risk(), "stay": 3e6}, unit="EUR")
        self.assertEqual(
            said(decision.solve()),
            "Buy it is best by the mean payoff, by 800,000 EUR over stay; "
            "buy it ends below 0 in 40.0 % of cases.",
        )

    def test_a_cost_is_least_and_no_loss(self):
        decision = kd.Decision("ferry", {"buy": 7.0, "stay": 3.0}, better="low")
        self.assertEqual(said(decision.solve()), "Stay is best by the mean payoff, by 4 over buy.")

    def test_two_within_their_errors_cannot_be_told_apart(self):
        # The mean of 1,000 normals has an error of 0.062: 0.01 is within it, 1 is not.
        for size, apart in ((0.01, False), (1.0, True)):
            decision = kd.Decision("x", {"go": "z", "stay": 0.0}, given={"z": kd.Normal(size, 1)})
            text = said(decision.solve(trials=1000, seed=1))
            self.assertEqual("cannot be told apart" in text, not apart)
            self.assertEqual("is best" in text, apart)

    def test_a_rule_that_is_not_consistent_says_so_in_a_sentence_of_its_own(self):
        text = said(
            kd.Decision("x", {"buy": risk(), "stay": 3e6}).solve(by="percentile", level=0.05)
        )
        self.assertIn(
            "Stay is best by the payoff that 5 % of cases fall short of, by 7 million", text
        )
        self.assertIn(". Such a rule is not consistent over time", text)


class Models(Case):
    def model(self) -> kd.Model:
        model = kd.Model("sum")
        model.given("level", 2.0)
        model.driver("large", kd.Normal(0, 3))
        model.driver("small", kd.Normal(0, 1))
        model.outcome("total", "level + large + small", unit="EUR")
        return model

    def test_what_many_trials_share_is_said_before_a_range(self):
        model = kd.Model("m")
        model.driver("hit", kd.Bernoulli(0.2))
        model.driver("size", kd.Normal(100.0, 10.0))
        model.outcome("loss", "hit * size", unit="EUR", better="low")
        run = model.simulate(4_000, seed=1)
        self.assertRegex(
            said(run),
            r"it is 0 EUR in 80.0 % \(± 1.*\) of the trials; 80 % of the others lie between 87",
        )
        model.outcome("step", "round(size / 4)")
        run = model.simulate(4_000, seed=1)
        low, high = run["step"].percentile([10, 90])
        inside = np.mean((run["step"].values >= low) & (run["step"].values <= high))
        self.assertGreater(inside, 0.82)
        self.assertIn(f"{100 * inside:.0f} % of the trials lie between", said(run))

    def test_what_may_never_come_is_said_first_and_ranks_last(self):
        model = kd.Model("m", periods=24)
        model.given(cash=100.0)
        model.driver("burn", kd.Normal(6, 2))
        model.driver("income", kd.Normal(2, 1))
        model.line("balance", "previous(balance, cash) - burn + income")
        model.outcome("runway", "first_period(balance < 0)")
        run = model.simulate(2_000, seed=1)
        self.assertRegex(said(run), r"^Runway never comes with a chance of 5\d.\d % \(± .*; where")
        rows = run.sensitivity("runway")["rank correlation"]
        self.assertLess(rows["burn"], -0.6)  # who burns more runs dry; trials that never do count
        self.assertGreater(rows["income"], 0.2)
        for method in ("sobol", "contributions", "conditional"):
            with self.fails("infinite in 5", "method 'rank'"):
                run.sensitivity("runway", method=method)
        compared = model.compare({"a": {}, "b": {"cash": 120.0}}, trials=2_000, seed=1)
        self.assertRegex(
            said(compared), "never comes with a chance of 5.* with 'a' and 6.* with 'b'"
        )

    def test_a_short_answer_keeps_what_would_change_it(self):
        model = kd.Model("m", periods=5)
        model.given(rate=8, idle=3)
        model.driver("income", kd.Normal(5, 1))
        model.outcome("value", "npv(rate, 0 * period + income)", unit="EUR")
        shown = str(report_of(model.simulate(400, seed=1)).brief())
        self.assertIn("8 means 800 %", shown)
        self.assertIn("idle: no line uses this given figure", shown)

    def test_a_sweep_says_where_it_is_highest_and_lowest(self):
        found = kd.sweep(lambda a, b: a - b, a=[1, 2], b=[3, 5])
        self.assertEqual(
            said(found),
            "Value (value) is highest, -1, at a 2 and b 3, and lowest, -4, at a 1 and b 5.",
        )

    def test_points_within_their_errors_cannot_be_told_apart(self):
        drawn = {"trials": 500, "seed": 1, "sampling": "random"}
        same = self.model().sweep({"large.sd": [3.0, 3.001]}, level=[2.0], **drawn)
        self.assertEqual(said(same), "Total (mean) cannot be told apart at the 2 points.")
        some = self.model().sweep({"large.sd": [3.0, 3.001]}, level=[2.0, 9.0], **drawn)
        self.assertRegex(
            said(some), r"At large.sd 3(.001)? and level 9 it cannot be told apart from the highest"
        )

    def test_points_on_the_same_draws_are_told_apart_by_pairs(self):
        swept = self.model().sweep(level=[2.0, 2.001, 2.002], trials=500, seed=1)
        self.assertNotIn("cannot be told apart", said(swept))
        behind = swept.behind("total")
        np.testing.assert_allclose(behind["gap"], [0.002, 0.001, 0.0], atol=1e-12)
        self.assertLess(behind["error"].max(), 1e-9)
        alike = kd.sweep(lambda a: abs(a), a=[-1.0, 0.0, 1.0])
        self.assertIn("At a 1 it cannot be told apart from the highest", said(alike))

    def test_an_optimum_is_that_of_fresh_draws(self):
        levels = {"level": [1.0, 4.0, 2.0]}
        found = self.model().optimize(levels, maximize="mean total", trials=500, seed=1)
        fresh = r"The mean of total is highest, (3\.99|4\.0[01]) EUR on fresh draws"
        self.assertRegex(said(found), fresh)
        self.assertTrue(said(found).endswith("at level 4."))


class Runs(Case):
    def model(self, target=None, unit="EUR", mean=10.0) -> kd.Model:
        model = kd.Model("x")
        model.driver("profit_made", kd.Normal(mean, 2))
        model.outcome("gain", "profit_made", unit=unit, target=target)
        return model

    def test_the_mean_and_the_chance_on_the_side_that_hurts(self):
        run = self.model(target=8.0).simulate(20_000, seed=1)  # one sd below the mean: 15.87 %
        self.assertRegex(
            said(run),
            r"^Gain is 10\.0\d* EUR on average; with a chance of 15\.[89]\d? % \(± 0\.\d+\) it is "
            r"below 8 EUR\.",
        )

    def test_without_a_target_the_range_of_most_trials(self):
        run = self.model().simulate(20_000, seed=1)  # 10 -+ 1.2816 sd
        self.assertRegex(
            said(run), r"; 80 % of the trials lie between 7\.4[34]\d* and 12\.[56]\d* EUR"
        )

    def test_large_amounts_are_millions_and_rates_per_cent(self):
        million = self.model(mean=25e6).simulate(2000, seed=1)
        self.assertIn("Gain is 25.0 million EUR on average", said(million))
        rate = self.model(mean=0.25, unit="% a year").simulate(2000, seed=1)
        self.assertRegex(said(rate), r"Gain is 2[45](\.\d+)? % a year on average")

    def test_both_ends_of_a_range_of_rates_are_per_cent(self):
        model = kd.Model("x")
        model.driver("z", kd.Uniform(0.1, 0.2))
        model.outcome("rate", "z", unit="% a year")
        text = said(model.simulate(4_000, seed=1))
        self.assertRegex(
            text, r"80 % of the trials lie between 1[01](\.\d+)? and 1[89](\.\d+)? % a"
        )

    def test_conditions_trials_without_a_value_and_rows(self):
        model = kd.Model("x", periods=3, start=2030)
        model.driver("z", kd.Normal(0, 1))
        model.outcome("breach", "z < 0")
        model.outcome("root", "log(z)")
        run = model.simulate(20_000, seed=1)
        self.assertRegex(said(run), r"^Breach is true with a chance of (49\.\d|50(\.\d)?) %")
        self.assertRegex(said(run), r"; (49\.\d|50(\.\d)?) % of the trials have no value\.")
        rows = kd.Model("x", periods=3, start=2030)
        rows.driver("z", kd.Normal(7, 1))
        rows.outcome("flow", "z + 0 * period", unit="EUR")
        text = said(rows.simulate(2000, seed=1))
        self.assertRegex(
            text, r"^Flow is on average 7\.00\d* EUR in 2030 and 7\.00\d* EUR in 2032\."
        )

    def test_scenarios_differ_or_cannot_be_told_apart(self):
        model = kd.Model("x")
        model.given("level", 1.0)
        model.driver("z", kd.Normal(0, 1))
        model.given("noise", 1.0)
        model.outcome("gain", "level + z * noise", unit="EUR")
        scenarios = {"as it is": {}, "two more": {"level": 3.0}, "the same": {"noise": 1.1}}
        text = said(model.compare(scenarios, trials=2000, seed=1, sampling="random"))
        best = (
            r"^Best on average is 'two more': gain is 2 EUR higher than with \S.*, and higher in "
        )
        self.assertRegex(text, rf"{best}100\.0 % of the trials\.")
        self.assertIn(" Gain is on average 2 EUR more with 'two more' than with 'as it is'.", text)
        self.assertIn("On average 'the same' cannot be told apart from 'as it is'.", text)

    def test_of_scenarios_the_best_is_named_as_far_as_it_can_be_told(self):
        model = kd.Model("x")
        model.given(level=0.0, noise=0.0)
        model.driver("z", kd.Normal(100, 10))
        model.driver("other", kd.Normal(0, 1))
        model.outcome("cost", "z + level + noise * other", unit="EUR", better="low")

        def compared(**scenarios):
            return model.compare({"now": {}, **scenarios}, trials=2_000, seed=1)

        sure = compared(cheap={"level": -5.0, "noise": 5.0})
        best = sure.best("cost")
        self.assertEqual((best.scenario, best.next_best, best.paired), ("cheap", "now", True))
        difference = sure.result("now", "cost").values - sure.result("cheap", "cost").values
        self.assertAlmostEqual(float(best.ahead), difference.mean())
        self.assertAlmostEqual(float(best.better_in), (difference > 0).mean())
        # of one trial in six the noise takes more than 5
        self.assertAlmostEqual(float(best.better_in), stats.norm.cdf(1), delta=0.02)
        self.assertRegex(
            said(sure),
            r"^Best on average is 'cheap': cost is (4\.9|5|5\.0)\d* EUR( \(95 % interval .+\))? "
            r"lower than with 'now', and lower in 8\d\.\d % of the trials\.",
        )
        for scenario in ({"noise": 5.0}, {"level": 0.0, "noise": 30.0}):
            self.assertIn("best on average cannot be told", said(compared(other=scenario)))
        self.assertEqual(
            said(compared(same={})), "The best mean is the same with 'now' and 'same'."
        )
        known = kd.compare({"now": model.simulate(500, 1), "told": kd.ReportedMean(90, 20, 400)})
        self.assertEqual(known.best("cost").scenario, "told")
        self.assertIn("Best on average is 'told': cost is 10.0 EUR (95 % interval 8.0", said(known))

    def test_a_driver_decides_most_where_its_share_is_surely_more_than_half(self):
        for sd, sentence in (
            (1.0, "Most of the spread of the gain comes from large"),
            (2.0, "depends most on large"),
        ):
            model = kd.Model("x")
            for name, spread in (("large", 2.2), ("other", sd), ("small", sd / 2)):
                model.driver(name, kd.Normal(0, spread))
            model.outcome("gain", "large + other + small")
            run = model.simulate(5000, seed=1)  # shares of 0.79, and of 0.49
            self.assertIn(sentence, said(run))


class Prices(Case):
    def test_where_a_price_may_end_and_the_level_asked_for(self):
        prices = kd.demo_file("heating_oil.csv")
        words = ("paths", str(prices), "--ahead", "60", "--trials", "2000", "--seed", "1")
        text = run(*words, "--above", "1.0", "--brief").stdout.replace("\n", " ")
        self.assertRegex(text, r"^After 60 days the price of heating_oil is 0\.7\d* in the middle")
        # P5 and P95 lie 1.645 sd of the log return of 60 days from the middle
        middle, low, high = map(float, re.findall(r"(0\.\d+)", text)[:3])
        reach = np.exp(1.645 * 0.3323 * np.sqrt(60 / 252))
        self.assertAlmostEqual(middle / low, reach, delta=0.02)
        self.assertAlmostEqual(high / middle, reach, delta=0.02)
        self.assertRegex(
            text,
            r"The chance of ending above 1 is \S+ %; after so short a history it may be "
            r"anything from .*\d % to \d",
        )

    def test_the_largest_weights_and_the_rest(self):
        words = ("allocate", str(kd.demo_file("treasury_prices.csv")), "--minimize", "sd")
        text = run(*words, "--resampled", "0", "--brief").stdout.replace("\n", " ")
        self.assertRegex(text, r"^The (least|lowest|smallest) sd")
        shares = [
            float(share) for share in re.findall(r"(\d+\.\d) %", text.split(" is reached ")[1])
        ]
        self.assertAlmostEqual(sum(shares), 100, delta=0.3)


class Drivers(Case):
    def test_contributions_name_the_first_or_the_two_that_are_alike(self):
        from kindynos.reports.studies import drivers

        for sd, text in (
            (1, r"Large contributes most to the variance of total: (89|90)\.\d % "),
            (3, r"contribute most to the variance of total\."),
        ):
            model = kd.Model("sum")
            model.driver("large", kd.Normal(0, 3))
            model.driver("small", kd.Normal(0, sd))
            model.outcome("total", "large + small")
            run = model.simulate(trials=4000, seed=1)
            self.assertRegex(" ".join(drivers(run, "total", "contributions").answer), text)


class Backtests(Case):
    def test_methods_that_a_test_speaks_against_are_named(self):
        hardest = pd.Series({"filtered": 0.5, "normal": 0.01, "tail": 0.9})
        self.assertEqual(
            backtest_answer(hardest, 0.05 / 3, 657, "day"),
            [
                "Over 657 days some test speaks against normal (p below 0.017); none against "
                "filtered or tail."
            ],
        )
        none = backtest_answer(hardest.drop("normal"), 0.05 / 3, 12, "month")
        self.assertEqual(none, ["Over 12 months no test speaks against filtered or tail."])
        every = backtest_answer(hardest[["normal"]], 0.05 / 3, 12, "month")
        self.assertEqual(
            every, ["Over 12 months some test speaks against normal (p below 0.017), which is all."]
        )
