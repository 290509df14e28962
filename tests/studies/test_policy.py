"""Choices inside a model, against normal integrals and a lattice."""

import json
import math
import tempfile

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.reports.page.of_decision import of_policy
from tests.common import Case, Folder, proof, repeats, run


def plant():
    """In year 1 build small or large, or wait until year 2; power less 50 is earned from then
    on.
    """
    model = kd.Model("Plant", periods=6)
    model.given(first=0, second=0)
    model.driver("change", kd.Normal(0, 6), each="period")
    model.driver("noise", kd.Normal(0, 25), each="period")
    model.line("power", "previous(power, 52) + change", unit="EUR")
    model.line(
        "size",
        "(period > 1) * ((first == 1) + 2.2 * (first == 2))"
        "+ (period > 2) * (first == 0) * ((second == 1) + 2.2 * (second == 2))",
    )
    model.line(
        "price",
        "30 * (first == 1) + 110 * (first == 2)"
        "+ (first == 0) * (30 * (second == 1) + 110 * (second == 2))",
    )
    model.outcome("value", "total(size * (power - 50 + noise)) - price", unit="EUR", target=0)
    sizes = {"small": 1, "large": 2}
    first = {"wait": {}} | {name: {"first": size} for name, size in sizes.items()}
    second = {"none": {}} | {name: {"second": size} for name, size in sizes.items()}
    model.choice("start", 1, ["power"], first)
    model.choice("later", 2, "power", second, after={"start": "wait"})
    return model


def plant_truth():
    """By normal integrals: the value, and the power above which to build in year 1."""
    p = 52 + 6 * stats.norm.ppf((np.arange(20_000) + 0.5) / 20_000)
    grid = np.linspace(-20, 125, 40_001)
    nodes, weights = np.polynomial.hermite_e.hermegauss(101)
    later = np.maximum(0, np.maximum(4 * (grid - 50) - 30, 8.8 * (grid - 50) - 110))
    pairs = zip(nodes, weights, strict=True)
    wait = sum(w * np.interp(p + 6 * z, grid, later) for z, w in pairs) / weights.sum()
    build = np.maximum(5 * (p - 50) - 30, 11 * (p - 50) - 110)
    return np.maximum(wait, build).mean(), p[build > wait].min()


def put(dates=10):
    """An option to sell at 40 what costs 36 now, on ten dates of a year, once."""
    model = kd.Model("Put", periods=dates)
    model.given(sold=0)
    process = kd.GeometricBrownianMotion(36.0, 0.06 / dates, 0.2 / math.sqrt(dates))
    model.driver("price", process)
    discounted = f"max(40 - price, 0) * exp(-{0.06 / dates} * period)"
    model.outcome("value", f"total((period == sold) * {discounted})")
    before = None
    for date in range(1, dates + 1):
        options = {"hold": {}, "sell": {"sold": date}}
        model.choice(f"date{date}", date, ["price"], options, after=before)
        before = {f"date{date}": "hold"}
    return model


def put_truth(dates=10, steps=5000):
    """By a binomial lattice with those dates only."""
    up, rate = math.exp(0.2 / math.sqrt(steps)), math.exp(0.06 / steps)

    def price(step):
        return 36 * up ** (2.0 * np.arange(step + 1) - step)

    q, value = (rate - 1 / up) / (up - 1 / up), np.maximum(40 - price(steps), 0)
    for step in range(steps - 1, -1, -1):
        value = (q * value[1:] + (1 - q) * value[:-1]) / rate
        if step and step % (steps // dates) == 0:
            value = np.maximum(value, 40 - price(step))
    return value[0]


class Policies(Case):
    @proof
    def test_values_are_those_of_integrals_and_the_lattice(self):
        for model, truth, below in ((plant(), plant_truth()[0], 0.3), (put(), put_truth(), 0.06)):
            gaps, held = [], []
            for seed in range(repeats(60)):
                found = model.policy("value", trials=4000, seed=seed).value
                gaps.append(float(found) - truth)
                held.append(found.low <= truth <= found.high)
            with self.subTest(model=model.name):
                self.assertGreaterEqual(np.sum(held), stats.binom.ppf(1e-3, len(held), 0.93))
                self.assertTrue(-below < np.mean(gaps) < below / 3, np.mean(gaps))

    def test_the_rule_is_told_in_words_and_followed(self):
        found = plant().policy("value", trials=20_000, seed=1)
        at = float(found.rules["start"].split("small if power is above ")[1].partition(";")[0])
        self.assertAlmostEqual(at, plant_truth()[1], delta=1.0)
        chooses = found.shares["chooses"]
        self.assertAlmostEqual(chooses["start"].sum(), 1)
        expected = stats.norm.sf((at - 52) / 6)
        self.assertAlmostEqual(1 - chooses["start", "wait"], expected, delta=0.02)
        comes = found.shares.loc["later"]["comes to it"].iloc[0]
        self.assertAlmostEqual(comes, chooses["start", "wait"])
        self.assertEqual(found.best, "start: wait, later: none")
        self.assertAlmostEqual(float(found.worth), float(found.value))
        self.assertAlmostEqual(found.table.loc["the policy", "mean"], float(found.value))
        self.assertAlmostEqual(found.table.loc["the policy", "error"], found.value.error)
        chart = of_policy(found)
        self.assertEqual(chart.title, "What choosing later makes of value")
        fixed = [pair.split(",") for pair in chart.lines[1]["points"].split()]
        self.assertEqual(len({across for across, _ in fixed}), 1)  # of what is never built, 0
        fixed = plant().replace(first=2).simulate(20_000, seed=1)["value"]
        self.assertAlmostEqual(found.table.loc["start: large", "mean"], float(fixed.mean))
        small = found.under["start: small"]
        self.assertAlmostEqual(found.table.loc["start: small", "P50"], np.median(small), places=0)

    def test_a_model_follows_its_policy_in_every_kind_of_run(self):
        model = plant()
        found = model.policy("value", trials=4000, seed=1)
        follows = model.with_policy(found)
        same = follows.simulate(4000, seed=1)
        # the rule is the mean of the two that judged each other's halves
        alike = np.isclose(same["value"].values, found.under["the policy"])
        self.assertGreater(alike.mean(), 0.95)
        start, later = (same[f"{name}_option"].values for name in ("start", "later"))
        np.testing.assert_array_equal(later == -1, start != 0)
        sizes = same["size"].values
        np.testing.assert_array_equal(sizes[1][start == 2], 2.2)
        np.testing.assert_array_equal(sizes[2][later == 1], 1)
        plans = {name: np.round(v, 6) for name, v in found.under.items() if name != "the policy"}
        large = start == 2
        np.testing.assert_allclose(
            same["value"].values[large], plans["start: large"][large], atol=1e-5
        )
        fresh = follows.simulate(20_000, seed=9)
        gap = math.hypot(fresh["value"].mean.error, found.value.error)
        self.assertAlmostEqual(float(fresh["value"].mean), float(found.value), delta=1.3 * gap)
        self.assertEqual(fresh.facts()["rules"]["start_option"], found.rules["start"])
        # extended, resumed and summarised
        first = follows.simulate(2000, seed=9)
        longer = first.extend(2000)
        np.testing.assert_array_equal(longer["value"].values[:2000], first["value"].values)
        self.assertEqual(longer.facts()["rules"], fresh.facts()["rules"])
        short = follows.simulate(100_000, seed=9, store="summary")["value"].mean
        self.assertAlmostEqual(float(short), float(found.value), delta=1.3 * found.value.error)
        with tempfile.TemporaryDirectory() as folder:
            parts = follows.simulate(3000, seed=2, store="parts", resume=folder)
            again = follows.simulate(3000, seed=2, store="parts", resume=folder)
            self.assertEqual(float(parts["value"].mean), float(again["value"].mean))
            others = model.with_policy(model.policy("value", trials=4000, seed=2))
            with self.assertRaises(kd.KindynosError):
                others.simulate(3000, seed=2, store="parts", resume=folder)

    def test_a_figure_that_a_distribution_takes_and_a_row(self):
        model = kd.Model("Site", periods=2)
        model.given(wide=1.0, rent=[5.0, 5.0])
        model.driver("demand", kd.Normal(0, 2), each="period")
        model.driver("noise", kd.Normal(0, "wide"))
        model.outcome("value", "last(rent) * at(demand, 1) + noise")
        model.choice("move", 1, ["demand"], {"stay": {}, "move": {"rent": [5.0, 1.0]}})
        found = model.policy("value", trials=4000, seed=1)
        # 5 d where d is above 0, else 1 d: 4 E max(d, 0) more than moving
        self.assertAlmostEqual(float(found.worth), 4 * 2 * stats.norm.pdf(0), delta=0.3)
        run = model.with_policy(found).simulate(4000, seed=3)
        self.assertEqual(set(run["rent"].values[1].tolist()), {1.0, 5.0})
        self.assertEqual(set(run["rent"].values[0].tolist()), {5.0})
        other = kd.Model("Other", periods=2)
        other.given(rent=[5.0, 5.0])
        other.outcome("value", "last(rent)")
        with self.fails("the policy is of another model"):
            other.with_policy(found)
        with self.fails("a number of trials"):
            model.policy("value", trials=4000, seed=1, max_seconds=1)

    def test_noise_is_worth_nothing_and_costs_are_chosen_low(self):
        model = kd.Model("Cost", periods=3)
        model.given(plan=0)
        model.driver("noise", kd.Normal(0, 1), each="period")
        model.driver("wear", kd.Normal(0, 10))
        model.outcome("cost", "100 + (plan == 1) * wear", better="low")
        options = {"keep": {}, "renew": {"plan": 1}}
        model.choice("blind", 2, ["noise"], options)
        found = model.policy("cost", trials=4000, seed=1)
        self.assertEqual(float(found.worth), 0)
        self.assertEqual(found.rules["blind"], found.best.partition(": ")[2])
        seeing = kd.Model("Cost", periods=3)
        seeing.given(plan=0)
        seeing.driver("wear", kd.Normal(0, 10))
        seeing.outcome("cost", "100 + (plan == 1) * wear", better="low")
        seeing.choice("seen", 3, "wear", options)
        found = seeing.policy("cost", trials=20_000, seed=1)
        self.assertAlmostEqual(float(found.value), 100 - 10 / math.sqrt(2 * math.pi), delta=0.15)

    def test_what_cannot_be_known_or_chosen_is_refused(self):
        model = plant()
        model.line("next_year", "following(power, 0)")
        options = {"no": {}, "yes": {"second": 1}}
        for knowing, at, words in (
            ("next_year", 3, "depends on draws after period 3"),
            ("value", 3, "follows from the choice (by second)"),
            ("powr", 3, "no quantity 'powr' to know"),
            ("power", 9, "from 1 to 6"),
        ):
            with self.subTest(knowing=knowing), self.fails(words, "choice 'late'"):
                refused = plant()
                refused.line("next_year", "following(power, 0)")
                refused.choice("late", at, [knowing], options)
                refused.policy("value", trials=200, seed=1)
        for wrong, words in (
            ({"no": {}}, "at least two options"),
            ({"no": {}, "yes": {"power": 1}}, "'power', which is no given figure"),
            ({"no": {}, "yes": {"secnd": 1}}, "second"),
        ):
            with self.subTest(options=wrong), self.fails(words):
                plant().choice("late", 3, ["power"], wrong)
        with self.fails("'power' is a row"):
            plant().policy("power", trials=200, seed=1)
        with self.fails("not chosen before"):
            plant().choice("late", 3, ["power"], options, after={"start": "small one"})
        with self.fails("the model has no choices"):
            kd.load_model(kd.demo_file("night_ferry.toml")).policy("net_value")
        single = kd.Model("x")
        single.given(second=0)
        with self.fails("needs periods="):
            single.choice("late", 1, ["power"], options)


class Files(Folder):
    def test_a_model_file_states_them_and_is_written_again(self):
        model = kd.load_model(kd.demo_file("second_ferry.toml"))
        self.assertEqual(model.choices["second"].at, 3)
        options = {"leave": {"ferries": 0}, "charter": {"ferries": 1}}
        model.choice("by_number", 2031, "demand", options)
        self.assertEqual(model.choices["by_number"].at, 4)
        model = kd.load_model(kd.demo_file("second_ferry.toml"))
        again = self.folder / "again.toml"
        again.write_text(model.to_toml())
        self.assertEqual(kd.load_model(again).choices, model.choices)
        told = run("decide", again, "--trials", "2000", "--json").stdout
        found = model.policy("value", trials=2000, seed=1)
        data = json.loads(told)
        self.assertEqual(data["schema"], "kindynos.policy/1")
        self.assertAlmostEqual(data["worth"]["value"], float(found.worth))
        self.assertIn("charter if demand is above 35", data["rules"]["second"])
        again.write_text(again.read_text().replace("knowing", "knows"))
        refused = run("decide", again)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("knows", refused.stderr)
