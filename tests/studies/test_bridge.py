"""Tests of bridges: what changed between two models, and how much each change explains."""

import json
from itertools import product
from unittest import mock

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.model.bridging import list_changes
from kindynos.model.file import model_from_text
from kindynos.reports.bridges import bridge_answer
from tests.common import DEMO, FERRY, Case, Folder, proof, run

OLD, NEW = DEMO / "night_ferry_last_year.toml", FERRY


def shop(price=3.0, cost=1.0, cups=100.0, spread=10.0, extra=None, name="cups", missing=None):
    model = kd.Model("Shop")
    model.given(price=price, cost=cost)
    model.driver(name, kd.Normal(cups, spread))
    model.line("income", f"(price - cost) * {name}")
    if extra is not None:
        model.driver("tips", kd.Normal(*extra))
    profit = "income" if extra is None else "income + tips"
    if missing is not None:  # below it there is no value
        profit += f" + 0 * log({name} - {missing})"
    model.outcome("profit", profit, unit="EUR", target=150)
    return model


class Parts(Folder):
    def test_they_are_the_value_of_shapley_of_a_product(self):
        # (p - c) * n from (3 - 1) * 100 to (4 - 1) * 120: each is the mean of both orders
        found = kd.bridge(shop(), shop(price=4.0, cups=120.0), trials=2_000, seed=1)
        self.assertAlmostEqual(float(found.before), 200, delta=0.1)
        self.assertAlmostEqual(float(found.after), 360, delta=0.1)
        self.assertAlmostEqual(found.parts["price"], 1 * (100 + 120) / 2, delta=0.1)
        self.assertAlmostEqual(found.parts["cups"], 20 * (2 + 3) / 2, delta=0.1)
        self.assertAlmostEqual(found.first["price"], 100, delta=0.1)
        self.assertAlmostEqual(found.last["price"], 120, delta=0.1)
        total = sum(float(part) for part in found.parts.values())
        self.assertAlmostEqual(total, float(found.after) - float(found.before), 9)
        ordered = kd.bridge(
            shop(), shop(price=4.0, cups=120.0), order=["cups"], trials=2_000, seed=1
        )
        self.assertAlmostEqual(ordered.in_order["cups"], 40, delta=0.1)
        self.assertAlmostEqual(ordered.in_order["price"], 120, delta=0.1)
        together = kd.bridge(
            shop(), shop(price=4.0, cups=120.0), groups={"all": ["price", "cups"]}, trials=300,
            seed=1,
        )  # fmt: skip
        self.assertEqual(list(together.parts), ["all"])
        with self.fails("no change 'pric'", "price"):
            kd.bridge(shop(), shop(price=4.0), order=["pric"], trials=300)

    def test_chances_and_percentiles_against_closed_forms(self):
        old, new = shop(), shop(cups=90.0, spread=20.0)
        chance = kd.bridge(old, new, statistic="chance", trials=40_000, seed=2)
        known = [stats.norm.cdf(150, 200, 20), stats.norm.cdf(150, 180, 40)]
        self.assertAlmostEqual(chance.before, known[0], delta=0.002)
        self.assertAlmostEqual(chance.after, known[1], delta=0.004)
        self.assertEqual(list(chance.parts), ["cups"])
        low = kd.bridge(
            old, new, statistic="percentile 5", trials=40_000, seed=2, sampling="random"
        )
        expected = stats.norm.ppf(0.05, 180, 40) - stats.norm.ppf(0.05, 200, 20)
        part = low.parts["cups"]
        self.assertTrue(part.low < expected < part.high)

    def test_more_than_ten_changes_and_a_run_of_each_mixture(self):
        names = [f"x{i}" for i in range(12)]

        def many(shift):
            model = kd.Model("Many")
            for place, name in enumerate(names):
                model.driver(name, kd.Normal(place + shift, 1))
            model.outcome("total", " + ".join(names))
            return model

        found = kd.bridge(many(0.0), many(0.5), trials=400, seed=3)
        self.assertEqual(len(found.parts), 12)
        for part in found.parts.values():
            self.assertAlmostEqual(part, 0.5, 6)  # a sum: in any order
        run_of_both = [many(s).simulate(400, 3)["total"].values for s in (0.0, 0.5)]
        self.assertEqual(float(found.before), float(np.mean(run_of_both[0])))

    def test_trials_without_a_value_are_told_and_weigh_nothing(self):
        old, new = shop(missing=90), shop(cups=110.0, missing=90)
        found = kd.bridge(old, new, trials=20_000, seed=4)
        shares = [stats.norm.cdf(90, mean, 10) for mean in (100, 110)]
        np.testing.assert_allclose(found.without_value, shares, atol=0.002)
        # the mean of a normal distribution cut at 90
        means = [2 * stats.truncnorm((90 - m) / 10, np.inf, m, 10).mean() for m in (100, 110)]
        self.assertAlmostEqual(found.parts["cups"], means[1] - means[0], delta=0.5)
        said = " ".join(bridge_answer(found))
        self.assertIn("15.9 % of the trials had no value before, 2.3 % have none now", said)

    def test_an_infinite_figure_cannot_be_divided(self):
        def ends(mean):
            model = kd.Model("Ends")
            model.driver("a", kd.Normal(mean, 1))
            model.outcome("b", "log(a)", missing="worst")
            return model

        with self.fails("cannot be divided among changes", kind=kd.RunError):
            kd.bridge(ends(1.0), ends(1.5), statistic="percentile 10", trials=2_000, seed=1)
        self.assertEqual(
            list(kd.bridge(ends(1.0), ends(1.5), statistic="percentile 90", seed=1).parts), ["a"]
        )

    @proof
    def test_errors_cover_what_many_draws_say(self):
        def two(price, cups, spread, missing):
            model = kd.Model("Two")
            model.given(price=price)
            model.driver("cups", kd.Normal(cups, spread))
            model.driver("tips", kd.Uniform(0, 30))
            lost = " + 0 * log(tips - 3)" if missing else ""  # a tenth has no value
            model.outcome("profit", f"price * cups + tips{lost}")
            return model

        statistics = ("mean", "chance below 300", "percentile 10")
        for missing, statistic, plan in product((False, True), statistics, ("random", "latin")):
            if (statistic, plan) == ("mean", "latin"):
                continue  # which blocks tell better than they say: half the error holds it too
            old, new = two(3.0, 100.0, 10.0, missing), two(3.2, 110.0, 15.0, missing)
            options = {"statistic": statistic, "sampling": plan}
            truth = kd.bridge(old, new, trials=400_000, seed=999, **options)
            bridges = [
                kd.bridge(old, new, trials=2_000, seed=seed, **options) for seed in range(200)
            ]
            for name in truth.parts:
                with self.subTest(statistic, plan=plan, missing=missing, part=name):
                    gaps = [float(b.parts[name]) - float(truth.parts[name]) for b in bridges]
                    self.assertCalibrated(gaps, [b.parts[name].error for b in bridges])


class Changes(Folder):
    def names(self, old, new):
        return sorted(change.name for change in list_changes(old, new)[0])

    def test_what_counts_as_a_change(self):
        self.assertEqual(self.names(shop(), shop()), [])
        self.assertEqual(self.names(shop(), shop(price=4.0, cups=90.0)), ["cups", "price"])
        # a new driver goes with the formula that uses it
        self.assertEqual(self.names(shop(), shop(extra=(5, 1))), ["tips"])
        other = shop().replace(cups=100.0)  # a driver that became a given figure
        self.assertEqual(self.names(shop(), other), ["cups"])
        spaced = model_from_text(
            '[model]\nname="x"\n[given]\na=1.0\n[outcomes.b]\nformula="( a+1 )"\n'
        )
        plain = model_from_text(
            '[model]\nname="y"\n[given]\na=1.0\n[outcomes.b]\nformula="a + 1"\n'
        )
        self.assertEqual(self.names(spaced, plain), [])
        joined = shop(extra=(5, 1))
        joined.correlate("cups", "tips", 0.5)
        self.assertEqual(self.names(shop(extra=(5, 1)), joined), ["correlation of cups and tips"])

    def test_renamed_quantities(self):
        same, names = list_changes(shop(), shop(name="coffees"))
        self.assertEqual((same, names), ([], {"cups": "coffees"}))
        moved, names = list_changes(shop(), shop(name="coffees", cups=90.0))
        self.assertEqual(
            ([change.name for change in moved], names), (["coffees"], {"cups": "coffees"})
        )

    def test_periods_and_functions(self):
        def plan(periods, growth):
            model = kd.Model("Plan", periods=periods)
            model.driver("a", kd.Normal(10, 1))

            @model.line
            def flow(a, period):
                return a + growth * period

            model.outcome("total", "total(flow)")
            return model

        with self.fails("'flow' is a row"):
            kd.bridge(plan(3, 0.0), plan(3, 1.0), "flow", trials=400, seed=1)
        found = kd.bridge(plan(3, 0.0), plan(5, 1.0), trials=400, seed=1)
        self.assertEqual(sorted(found.parts), ["flow", "periods"])
        # 3 a to 5 a + 15: the growth adds 6 over three periods, 15 over five
        self.assertAlmostEqual(found.parts["flow"], (6 + 15) / 2, delta=0.2)
        self.assertAlmostEqual(found.parts["periods"], 20 + (15 - 6) / 2, delta=0.3)

    def test_a_difference_that_no_change_shows_is_told(self):
        with mock.patch("kindynos.studies.bridge.changes_between", return_value=[]):
            found = kd.bridge(shop(), shop(price=4.0), trials=400, seed=1)
        self.assertEqual(list(found.parts), ["something unnamed"])
        self.assertAlmostEqual(found.parts["something unnamed"], 100, delta=0.1)


def shifted(unit="EUR", **options):
    model = kd.Model("shifted")
    model.given(a=0.0, b=0.0)
    model.driver("d", kd.Normal(0, 1))
    model.outcome("v", "a + b + 1000 + d", unit=unit, **options)
    return model


class Joined(Case):
    """What cannot be made alone is one change with what it needs."""

    def test_a_figure_that_became_a_row_and_a_driver_of_each_period(self):
        def model(fare, formula, cost, **options):
            made = kd.Model("Ferry", periods=3)
            made.given(fare=fare, cost=cost)
            made.driver("x", kd.Normal(100, 10), **options)
            made.outcome("value", formula, unit="EUR", target=0)
            return made

        old = model(10.0, "fare * x * 3 - cost", 2.0)
        new = model([10.0, 11, 12], "total(fare * x) - cost", 5.0, each="period")
        for formula, options, name in (
            ("total(fare) * x - cost", {}, "fare and value"),
            ("total(fare * x) - cost", {"each": "period"}, "fare, value and x"),
        ):
            new = model([10.0, 11, 12], formula, 5.0, **options)
            found = kd.bridge(old, new, trials=2000, seed=1)
            self.assertEqual(set(found.parts), {name, "cost"})
            self.assertAlmostEqual(found.parts[name], 300, delta=2)
            self.assertAlmostEqual(found.parts["cost"], -3, 6)
            words = [word for change in found.changes for word in change.words]
            drawn = any("drawn for each period" in word for word in words)
            self.assertEqual(drawn, bool(options))


class Terms(Case):
    """Ideas in one formula that name different quantities are changes of their own."""

    def test_a_tax_and_a_grant(self):
        def model(formula, **given):
            made = kd.Model("Ferry", periods=2)
            made.given(fee=4.0, **given)
            made.driver("sales", kd.Normal(100, 10))
            made.driver("costs", kd.Normal(60, 5))
            made.line("cash", formula)
            made.outcome("value", "cash", unit="EUR", target=0)
            return made

        old = model("sales - costs - fee")
        new = model("(sales - costs) * (1 - tax) + grant", tax=0.2, grant=5.0)
        found = kd.bridge(old, new, trials=1000, seed=1)
        self.assertEqual(set(found.parts), {"tax", "grant", "cash: without - fee"})
        for name, part in (("tax", -8), ("grant", 5), ("cash: without - fee", 4)):
            self.assertAlmostEqual(found.parts[name], part, delta=0.02)
        self.assertEqual(
            (found.parts["grant"].error, found.parts["cash: without - fee"].error), (0, 0)
        )
        self.assertGreater(found.parts["tax"].error, 0.001)
        tied = model("(sales - costs) * 0.8 + (sales if fee > 1 else 0) - fee")
        self.assertEqual(len(kd.bridge(old, tied, trials=500, seed=1).parts), 1)


class Figures(Case):
    def test_small_figures_beside_large_parts_are_shown(self):
        old = shifted()
        found = kd.bridge(old, old.replace(a=5e6, b=-5e6), seed=1)
        self.assertIn("is still 1,000 EUR: +5,000,000 from a", bridge_answer(found)[0])

    def test_a_changed_target_is_a_change_of_its_own(self):
        found = kd.bridge(shifted(target=999.0), shifted(target=1000.5), statistic="chance", seed=1)
        self.assertAlmostEqual(float(found.before), stats.norm.cdf(-1), places=3)
        self.assertAlmostEqual(float(found.after), stats.norm.cdf(0.5), places=3)
        self.assertEqual(found.changes[0].words, ("v: target 999 -> 1,000.5",))
        self.assertIn("below 1000.5 (before: below 999)", found.statistic)

    def test_other_units_are_refused(self):
        with self.fails("is in EUR in the old model and in thousand EUR in the new one"):
            kd.bridge(shifted(), shifted("thousand EUR"), seed=1)
        same = kd.bridge(shifted("EUR/year"), shifted("EUR a year"), seed=1)
        self.assertAlmostEqual(float(same.after), float(same.before))


class Commands(Folder):
    def test_the_ferry_of_last_year_and_of_now(self):
        words = ("bridge", OLD, NEW, "--seed", "11", "--trials", "2000")
        shown = run(*words, "--statistic", "chance")
        self.assertEqual((shown.returncode, shown.stderr), (0, ""))
        self.assertTrue(shown.stdout.startswith("The chance below 0 of net value rose from "))
        data = json.loads(run(*words, "--json").stdout)
        total = sum(row["part"] for row in data["parts"])
        self.assertAlmostEqual(total, data["after"]["value"] - data["before"]["value"], 3)
        for name, path in (("before", OLD), ("after", NEW)):
            alone = kd.load_model(path).simulate(2_000, 11)["net_value"].mean
            self.assertAlmostEqual(data[name]["value"], float(alone), 3)

    def test_printed_parts_are_as_they_are_and_rounding_makes_them_up(self):
        out = self.folder / "out"
        shown = run("bridge", OLD, NEW, "--seed", "3", "--trials", "1000", "--out", out).stdout
        rows = [line.split() for line in shown.partition("What changed")[0].splitlines()]
        names = ("before", "after", "load", "fare", "crew", "vessel", "energy", "rounding")
        figures = {
            row[0]: float(row[1].replace(",", ""))
            for row in rows
            if len(row) > 1 and row[0] in names and row[1].strip("+-").replace(",", "").isdigit()
        }
        parts = pd.read_csv(out / "bridge.csv", index_col="change")["part"]
        for name, part in parts.items():
            self.assertAlmostEqual(figures[name], part, delta=5_000)
        whole = figures.pop("after") - figures.pop("before")
        self.assertEqual(sum(figures.values()), whole)
        self.assertTrue((out / "bridge.png").exists())

    def test_saved_runs_nothing_and_mistakes(self):
        saved = self.folder / "old.parquet"
        kd.load_model(OLD).simulate(300, 1).save(saved)
        self.assertIn("5 changes", run("bridge", saved, NEW, "--changes").stdout)
        self.assertIn("Nothing that could move", run("bridge", NEW, NEW, "--trials", "300").stdout)
        self.assertIn("no outcome in common", run("bridge", NEW, DEMO / "dry_dock.toml").stderr)
        self.assertIn("--group", run("bridge", OLD, NEW, "--group", "x").stderr)
        self.assertIn("net_value", run("bridge", OLD, NEW, "--outcome", "net_valu").stderr)
