"""Tests of what knowing is worth, against closed forms of normal differences."""

import math

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case, proof, repeats


def loss(mean, sd):
    """The mean of what the better of two options is ahead, less the better mean."""
    return sd * stats.norm.pdf(mean / sd) - abs(mean) * stats.norm.cdf(-abs(mean) / sd)


def linear(better="high"):
    """Build or not: a difference linear in normal drivers, of which two say nothing."""
    sign = -1 if better == "low" else 1
    model = kd.Model("Linear")
    model.given(build=0)
    for name in ("a", "b", "rest", "idle"):
        model.driver(name, kd.Normal(0, 1))
    model.driver("odd", kd.LogNormal(1, 2))
    text = f"{sign} * (100 * idle + build * (-20 + 60 * a + 30 * b + 100 * rest)) + 0 * odd"
    model.outcome("value", text, unit="EUR", better=better)
    model.scenario("yes", build=1)
    return model


SDS = {"a": 60, "b": 30, "rest": 100, "a and b": math.hypot(60, 30)}
EVERYTHING = math.sqrt(60**2 + 30**2 + 100**2)


class Knowing(Case):
    def table(self, seed=1, better="high", study_cost=None, **options):
        compared = linear(better).compare(**{"trials": 4000, "seed": seed, **options})
        return compared.worth_of_knowing("value", study_cost=study_cost)

    @proof
    def test_closed_forms_are_reached_and_noise_is_worth_nothing(self):
        for sampling in ("random", "latin"):
            gaps, errors = {name: [] for name in SDS}, {name: [] for name in SDS}
            for seed in range(repeats(150)):
                table = self.table(seed, sampling=sampling, trials=2000)
                for name, sd in SDS.items():
                    row = table.loc[name]
                    gaps[name].append(row["worth"] - loss(-20, sd))
                    errors[name].append(row["error"])
                    self.assertLess(row["worth"], 1.4 * loss(-20, sd) + 3)
                self.assertEqual(table.loc["idle", "worth"], 0)
                self.assertLess(table.loc["odd", "worth"] - table.loc["odd", "error"], 0.3)
            for name in SDS:
                with self.subTest(sampling=sampling, known=name):
                    self.assertLess(abs(np.mean(gaps[name])), 0.05 * loss(-20, SDS[name]) + 0.3)
                    self.assertCalibrated(gaps[name], errors[name])

    def test_costs_too_rank_and_studies_pay_or_do_not(self):
        costs = {"a": 3.0, "b": 1e3, "a and idle": 14.9}
        tables = [self.table(better=better, study_cost=costs) for better in ("high", "low")]
        np.testing.assert_allclose(tables[0]["worth"], tables[1]["worth"], atol=1e-9)
        table = tables[0]
        self.assertEqual(table.loc[list(costs), "pays"].tolist(), ["yes", "no", "cannot be told"])
        self.assertAlmostEqual(table.loc["a", "net"], table.loc["a", "worth"] - 3)
        self.assertAlmostEqual(table.loc["everything", "worth"], loss(-20, EVERYTHING), delta=2)
        self.assertTrue((table["fitted"] >= table["worth"]).all())
        # of what says nothing: the worth of a signal that 2,000 trials would just not show
        weak = EVERYTHING * (math.sqrt(math.log(2000)) + 1.645) / math.sqrt(2000)
        self.assertAlmostEqual(table.loc["idle", "error"] / loss(-20, weak), 1, delta=0.2)
        self.assertTrue(table["worth"].is_monotonic_decreasing)

    def test_three_options_and_what_happens_over_periods(self):
        """Of three options one is chosen by the average of a driver over four periods."""
        model = kd.Model("Three", periods=4)
        model.given(size=0)
        model.driver("price", kd.Normal(0, 2), each="period")
        model.outcome("value", "size * total(price) - 4 * (size == 2)")
        model.scenario("small", size=1)
        model.scenario("large", size=2)
        table = model.compare(trials=20_000, seed=2).worth_of_knowing("value")
        x = 4 * stats.norm.ppf((np.arange(100_000) + 0.5) / 100_000)
        wanted = np.max([0 * x, x, 2 * x - 4], axis=0).mean()
        self.assertAlmostEqual(table.loc["price", "worth"], wanted, delta=0.06)

    def test_what_follows_from_the_choice_is_not_known_before(self):
        model = linear()
        model.scenario("wide", b=kd.Normal(0, 3))
        compared = model.compare(trials=1000, seed=1)
        self.assertNotIn("b", compared.worth_of_knowing("value").index)
        with self.fails("'b' is not a driver of value that all scenarios share"):
            compared.worth_of_knowing("value", ["b"])
        with self.fails("study_cost: no 'rst' to know", "rest"):
            compared.worth_of_knowing("value", study_cost={"rst": 3})
        apart = kd.compare(
            {"one": linear().simulate(500, seed=1), "two": linear().simulate(500, seed=2)}
        )
        with self.fails("same draws"):
            apart.worth_of_knowing("value")
        model.outcome("never", "1 / max(a - 9, 0)")
        with self.fails("infinite"):
            model.compare(trials=1000, seed=1).worth_of_knowing("never")


class Decisions(Case):
    def test_later_choices_use_what_is_known(self):
        """Sell after a refusal, or keep what q says: against the exact integral."""
        later = kd.Choice("later", {"sell": 0.0, "keep": "q"})
        event = kd.Event("permit", {"granted": (0.5, 1.0), "refused": ("rest", later)})
        decision = kd.Decision("x", {"buy": event, "stay": 0.0}, given={"q": kd.Normal(-1, 2)})
        table = decision.perfect_information(trials=20_000, study_cost={"q": 0.1})
        wanted = 0.5 * (-stats.norm.cdf(-0.5) + 2 * stats.norm.pdf(0.5))
        self.assertAlmostEqual(table.loc["q", "worth"], wanted, delta=0.02)
        self.assertEqual(table.loc["q", "pays"], "yes")

    @proof
    def test_a_quantity_of_two_alternatives_is_worth_its_closed_form(self):
        gaps, errors = [], []
        for seed in range(repeats(200)):
            decision = kd.Decision(
                "x",
                {"go": "30 * q + 110 * z - 20", "stay": 0.0},
                given={"q": kd.Normal(0, 1), "z": kd.Normal(0, 1)},
            )
            row = decision.perfect_information(trials=2000, seed=seed).loc["q"]
            gaps.append(row["worth"] - loss(-20, 30))
            errors.append(row["error"])
        self.assertLess(abs(np.mean(gaps)), 0.5)  # by bins it was 2.7 of 4.5
        self.assertCalibrated(gaps, errors)
