"""Tests of the errors of decisions: whatever is drawn has one, and only that."""

from dataclasses import replace

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case


def launch():
    """A launch whose payoffs are drawn, or nothing."""
    demand = kd.Event("demand", {"high": (0.4, kd.Normal(10, 6)), "low": (0.6, kd.Normal(-6, 6))})
    return kd.Decision("launch", {"launch": demand, "stay": 0.0})


class Errors(Case):
    def test_the_worth_of_knowing_an_event_has_an_error_that_holds(self):
        truth = 0.4 * 10  # launch in the good case alone, against 0.4 x 10 - 0.6 x 6 = 0.4
        gaps, errors = [], []
        for seed in range(60):
            row = launch().perfect_information(trials=400, seed=seed).loc["event demand"]
            gaps.append(row["worth"] - (truth - 0.4))
            errors.append(row["error"])
        self.assertCalibrated(gaps, errors)

    def test_with_hardly_any_aversion_to_risk_worth_and_error_are_those_of_means(self):
        wide = replace(launch(), risk_tolerance=1e5)
        for known in ("event demand", "everything"):
            row = launch().perfect_information(trials=400, seed=3).loc[known]
            other = wide.perfect_information(trials=400, seed=3, by="certainty equivalent")
            self.assertGreater(row["error"], 0.1)
            np.testing.assert_allclose(other.loc[known], row, rtol=1e-3)

    def test_a_test_of_an_event_has_an_error_that_holds(self):
        signals = {"good": {"high": 0.9, "low": 0.2}, "bad": {"high": 0.1, "low": 0.8}}
        # launch on "good": 0.36 x 10 - 0.12 x 6 = 2.88, against 0.4
        gaps, errors = [], []
        for seed in range(60):
            found = launch().sample_information_value("demand", signals, trials=400, seed=seed)
            gaps.append(found.attrs["worth"] - 2.48)
            errors.append(found.attrs["error"])
        self.assertCalibrated(gaps, errors)

    def test_the_value_of_the_best_of_close_alternatives_has_an_error_that_holds(self):
        for count, gap in ((2, 0.0), (5, 0.05), (3, 0.3)):
            held, narrow = 0, 0
            for seed in range(120):
                payoffs = np.random.default_rng(seed).normal(size=(400, count))
                payoffs[:, 0] += gap
                columns = {f"a{place}": payoffs[:, place] for place in range(count)}
                read = kd.read_trials(pd.DataFrame(columns))
                value = (
                    kd.Decision("d", {name: read[name] for name in columns}).solve(trials=400).value
                )
                held += value.low <= gap <= value.high
                narrow += abs(float(value) - gap) <= value.error / 2
            with self.subTest(count=count, gap=gap):
                self.assertGreaterEqual(held, 105)
                self.assertLessEqual(narrow, 100)

    def test_the_value_of_one_alternative_of_equal_ones_and_of_constants(self):
        values = np.arange(400.0)
        read = kd.read_trials(pd.DataFrame({"a": values, "same": values, "c": np.full(400, 3.0)}))
        plain = 1.96 * values.std(ddof=1) / 20
        for names, value, error in (
            (("a",), 199.5, plain),
            (("a", "same"), 199.5, plain),
            (("c",), 3.0, 0.0),
            (("c", "a"), 199.5, plain),
        ):
            for better, expected in (("high", value), ("low", 3.0 if "c" in names else value)):
                with self.subTest(names=names, better=better):
                    alternatives = {name: read[name] for name in names}
                    decision = kd.Decision("d", alternatives, better=better)
                    found = decision.solve(trials=400).value
                    self.assertAlmostEqual(float(found), expected)
                    self.assertAlmostEqual(
                        found.error, 0.0 if expected == 3.0 else error, delta=0.03 * plain
                    )

    def test_what_involves_no_draw_is_exact(self):
        event = kd.Event("demand", {"high": (0.4, 10.0), "low": (0.6, -6.0)})
        decision = kd.Decision("launch", {"launch": event, "stay": 0.0})
        row = decision.perfect_information().loc["event demand"]
        self.assertAlmostEqual(row["worth"], 3.6)
        self.assertEqual(row["error"], 0.0)
        for by in ("percentile", "expected shortfall"):
            self.assertEqual(decision.solve(by).value.error, 0.0)

    def test_few_distinct_payoffs_that_are_drawn_have_an_error(self):
        payoff = kd.Affine(kd.Poisson(2.0), 1000.0)
        values, errors = [], []
        for seed in range(80):
            found = kd.Decision("d", {"a": payoff, "b": -1.0}).solve(
                "expected shortfall", level=0.5, trials=1000, seed=seed
            )
            values.append(float(found.parts[("a",)].value))
            errors.append(found.parts[("a",)].value.error)
        # the worse half of a Poisson of mean 2: sum of k p(k) up to the median, by hand
        chances = np.exp(-2) * np.array([1, 2])  # of 0 and 1; the rest of the half is at 2
        truth = 1000 * (chances[1] + 2 * (0.5 - chances.sum())) / 0.5
        self.assertCalibrated([value - truth for value in values], errors)

    def test_a_stated_tolerance_of_risk_counts_without_being_asked_for(self):
        event = kd.Event("e", {"up": (0.5, 100.0), "down": (0.5, -80.0)})
        careful = kd.Decision("d", {"bet": event, "stay": 0.0}, risk_tolerance=50.0)
        self.assertEqual(
            (careful.solve().best, careful.solve().by), ("stay", "certainty equivalent")
        )
        self.assertEqual(careful.solve("mean").best, "bet")
        plain = kd.Decision("d", {"bet": event, "stay": 0.0})
        self.assertEqual((plain.solve().best, plain.solve().by), ("bet", "mean"))
        known = careful.perfect_information().loc["event e", "worth"]
        self.assertAlmostEqual(
            known, careful.perfect_information(by="certainty equivalent").loc["event e", "worth"]
        )

    def test_chances_and_regret_of_a_discrete_tree_are_exact(self):
        event = kd.Event("demand", {"high": (0.4, 10.0), "low": (0.6, -6.0)})
        other = kd.Event("wind", {"calm": (0.7, 3.0), "storm": (0.3, -8.0)})
        found = kd.Decision("d", {"launch": event, "sail": other, "stay": 0.0}).solve()
        beats, errors = found.beats(), found.beats(errors=True)
        self.assertAlmostEqual(beats.loc["launch", "stay"], 0.4)
        self.assertAlmostEqual(beats.loc["launch", "sail"], 0.4 + 0.6 * 0.3)
        self.assertAlmostEqual(beats.loc["sail", "launch"], 0.6 * 0.7)
        self.assertEqual(float(np.nansum(errors)), 0.0)
        regret = found.regret()
        # of staying: 10 with a high demand, else 3 in calm weather
        self.assertAlmostEqual(regret.loc["stay", "mean"], 0.4 * 10 + 0.6 * 0.7 * 3)
        self.assertAlmostEqual(regret.loc["stay", "best in"], 0.6 * 0.3)
        self.assertEqual(regret.loc["stay", "error"], 0.0)
        self.assertAlmostEqual(regret["best in"].sum(), 1.0)

    def test_chances_and_regret_of_drawn_payoffs_have_errors_that_hold(self):
        gaps, errors = [], []
        for seed in range(60):
            found = kd.Decision("d", {"a": kd.Normal(1, 2), "b": 0.0}).solve(trials=500, seed=seed)
            regret = found.regret().loc["b"]
            # of b: the mean of what a is above 0, 1 Phi(1/2) + 2 phi(1/2)
            gaps.append(
                [
                    found.beats().loc["a", "b"] - 0.6914625,
                    regret["mean"] - (0.6914625 + 2 * 0.3520653),
                ]
            )
            errors.append([found.beats(errors=True).loc["a", "b"], regret["error"]])
        self.assertCalibrated(gaps, errors)
