"""Tests of decisions as people state them in files, with several criteria, whole models and drawn
chances.
"""

import tempfile
from pathlib import Path

import numpy as np

import kindynos as kd
from kindynos.inference.sample import Sample
from tests.common import Case, run

CRITERIA = """
[decision]
name = "Yard"
score = "money - 4000 * days - 90 * emissions"

[decision.criteria]
money = "EUR"
days = "day"
emissions = "t"

[decision.given]
delay = { distribution = "poisson", mean = 3 }

[decision.alternatives.near]
payoff = { money = -210_000, days = "5 + delay", emissions = 120 }

[decision.alternatives.far]
pay = { money = -20_000 }
choice = "how fast"

[decision.alternatives.far.alternatives]
slow = { money = -130_000, days = 16, emissions = 300 }
fast = { payoff = { money = -165_000, days = 9, emissions = 340 } }
"""
WITH_MODEL = """
[decision]
name = "Berths"
unit = "EUR"

[decision.alternatives]
"as now" = { model = "berths.toml", outcome = "profit" }
fewer = { model = "berths.toml", outcome = "profit", set = { sold = 186 } }
"""


class Files(Case):
    def loaded(self, text, *beside):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "decision.toml")
        path.write_text(text, encoding="utf-8")
        for name in beside:
            Path(folder.name, name).write_bytes(kd.demo_file(name).read_bytes())
        return kd.load_decision(path)

    def test_criteria_are_combined_by_the_score(self):
        decision = self.loaded(CRITERIA)
        # A payment on the way is scored alone: -20,000; slow: -130,000 - 64,000 - 27,000, fast:
        # -165,000 - 36,000 - 30,600.
        found = decision.solve(trials=40_000)
        self.assertEqual(found.policy["far",], "slow")
        self.assertAlmostEqual(float(found.parts["far",].value), -20_000 - 221_000)
        self.assertAlmostEqual(
            float(found.parts["near",].value), -210_000 - 4000 * 8 - 10_800, delta=200
        )
        self.assertEqual(found.best, "far")
        self.assertEqual(found.parts["far",].value.error, 0)

    def test_whole_models_play_out_on_the_decisions_seed(self):
        decision = self.loaded(WITH_MODEL, "berths.toml")
        found = decision.solve(trials=4000, seed=11)
        model = kd.load_model(kd.demo_file("berths.toml"))
        for name, changed in (("as now", model), ("fewer", model.replace(sold=186))):
            run = changed.simulate(4000, seed=11)
            self.assertAlmostEqual(float(found.parts[name,].value), float(run["profit"].mean))
            np.testing.assert_allclose(found.realized[name], run["profit"].values)
        self.assertEqual(found.table().index[0], found.best)

    def test_a_decision_is_no_model(self):
        path = str(kd.demo_file("lease_or_buy.toml"))
        with self.fails("lease_or_buy.toml", "kindynos decide", kind=kd.FileError):
            kd.load_model(path)
        answer = run("run", path)
        self.assertEqual((answer.returncode, answer.stderr.count("\n")), (2, 1))

    def test_a_missing_key_or_model_is_named(self):
        with self.fails("no key 'sett'", "did you mean 'set'", kind=kd.FileError):
            self.loaded(WITH_MODEL.replace("set = {", "sett = {"), "berths.toml")
        with self.fails("berths.toml", "cannot be read", kind=kd.FileError):
            self.loaded(WITH_MODEL)
        with self.fails("'monney'", "did you mean 'money'", kind=kd.FileError):
            self.loaded(CRITERIA.replace("slow = { money", "slow = { monney"))
        with self.fails("is not TOML", kind=kd.FileError):
            self.loaded("[decision")


class Chances(Case):
    def test_a_drawn_chance_counts_by_its_mean(self):
        drawn = kd.Event("e", {"up": (kd.Beta(2, 6), 100.0), "down": ("rest", -10.0)})
        value = kd.Decision("d", {"a": drawn}).solve(trials=30_000).value
        self.assertAlmostEqual(float(value), 0.25 * 110 - 10, delta=value.error * 1.5)

    def test_a_chance_that_leaves_0_to_1_is_an_error(self):
        wild = kd.Event("e", {"up": ("p", 1.0), "down": ("rest", 0.0)})
        with self.fails("event 'e'", "outside 0 to 1"):
            kd.Decision("d", {"a": wild}, given={"p": kd.Normal(0.9, 0.3)}).solve()
        with self.fails("the chance of 'up' must lie from 0 to 1"):
            kd.Event("e", {"up": (kd.Normal(0.5, 0.1), 1.0), "down": ("rest", 0.0)})

    def test_realized_payoffs_follow_the_chances(self):
        event = kd.Event("e", {"a": (0.2, 1.0), "b": (0.5, 2.0), "c": ("rest", 3.0)})
        found = kd.Decision("d", {"x": event, "y": event}).solve(trials=40_000)
        shares = [(found.realized["x"] == value).mean() for value in (1, 2, 3)]
        np.testing.assert_allclose(shares, [0.2, 0.5, 0.3], atol=0.008)
        np.testing.assert_array_equal(found.realized["x"], found.realized["y"])

    def test_a_certain_test_is_worth_perfect_information(self):
        event = kd.Event("e", {"good": (0.3, 50.0), "bad": ("rest", -20.0)})
        decision = kd.Decision("d", {"go": event, "stay": 0.0})
        sure = decision.sample_information_value(
            "e", {"yes": {"good": 1.0, "bad": 0.0}, "no": {"good": 0.0, "bad": 1.0}}
        )
        self.assertAlmostEqual(
            sure.attrs["worth"], decision.perfect_information().loc["event e", "worth"]
        )
        blind = decision.sample_information_value(
            "e", {"yes": {"good": 0.4, "bad": 0.4}, "no": {"good": 0.6, "bad": 0.6}}
        )
        self.assertAlmostEqual(blind.attrs["worth"], 0)
        np.testing.assert_allclose(blind["chance of good"], 0.3)

    def test_an_averse_holder_pays_by_the_certainty_equivalent(self):
        event = kd.Event("e", {"good": (0.5, 100.0), "bad": ("rest", -60.0)})
        decision = kd.Decision("d", {"go": event, "stay": 0.0}, risk_tolerance=100.0)
        found = decision.solve("certainty equivalent")
        self.assertEqual(found.best, "stay")
        worth = decision.perfect_information(by="certainty equivalent").loc["event e", "worth"]
        self.assertAlmostEqual(worth, -100 * np.log(0.5 * np.exp(-1) + 0.5))


class Figures(Case):
    def test_weighted_figures_are_those_of_repeated_values(self):
        rng = np.random.default_rng(1)
        values, counts = rng.standard_normal(60), rng.integers(1, 5, 60)
        repeated = np.sort(np.repeat(values, counts))
        for level in (0.05, 0.3, 0.9):
            expected = repeated[int(np.ceil(level * len(repeated))) - 1]
            self.assertEqual(Sample.of(values, counts.astype(float)).reached(level), expected)
        part = 0.25 * len(repeated)
        whole, rest = int(part), part - int(part)
        tail = (repeated[:whole].sum() + rest * repeated[whole]) / part
        self.assertAlmostEqual(Sample.of(values, counts.astype(float)).tail_mean(0.25), tail)

    def test_errors_of_percentiles_hold_from_both_sides(self):
        gaps, errors = [], []
        for seed in range(80):
            value = (
                kd.Decision("d", {"a": kd.Normal(0, 1)})
                .solve("percentile", level=0.1, trials=800, seed=seed)
                .value
            )
            gap = -1.2815516 - value
            gaps.append(gap)
            errors.append(value.high - value if gap > 0 else value - value.low)
        self.assertCalibrated(gaps, errors)

    def test_the_table_of_parts_is_the_tree(self):
        found = kd.load_decision(kd.demo_file("lease_or_buy.toml")).solve(trials=500)
        parts = found.nodes()
        self.assertEqual(len(parts), 16)
        self.assertEqual(set(parts["kind"]), {"choice", "event", "payoff"})
        self.assertAlmostEqual(
            parts.set_index("branches").loc["buy > refused > sell", "chance"], 0.35
        )
        self.assertAlmostEqual(
            float(found.regret()["mean"].min()), float(found.regret().loc[found.best, "mean"])
        )
