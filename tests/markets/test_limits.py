"""Tests of limits of figures of risk: how far each is used, by the figures that are reported."""

import json

import pandas as pd

from kindynos.markets.limits import Limit, figures_of, limits_used, read_limits
from tests.cli.test_markets import TREASURY
from tests.common import DEMO, Folder, run


class Limits(Folder):
    def test_figures_of_holdings_groups_and_currencies_add_up(self):
        parts = pd.DataFrame(
            {"value": [600.0, 300.0, 100.0], "component": [30.0, 15.0, -5.0]}, index=["a", "b", "c"]
        )
        whole = {"value": 1_000.0, "value at risk": 40.0, "expected shortfall": 50.0}
        groups = {"group": {"a": "bonds", "c": "bonds"}, "currency": {"b": "USD", "c": "USD"}}
        figures = figures_of(whole, parts, groups)
        self.assertEqual(figures["adds to value at risk", "bonds"], 25.0)
        self.assertEqual(figures["value", "USD"], 400.0)
        self.assertAlmostEqual(figures["share of the value", "bonds"], 0.7)
        used = limits_used(
            [
                Limit("value at risk", 50.0),
                Limit("value", 390.0, "USD"),
                Limit("share of the value", 0.8, "bonds", warning=0.9),
            ],
            figures,
        )
        self.assertEqual(used["figure"].tolist(), ["value", "share of the value", "value at risk"])
        self.assertEqual(used["state"].tolist(), ["breach", "within", "within"])
        warned = limits_used([Limit("value at risk", 50.0, warning=0.7)], figures)
        self.assertEqual(warned["state"].tolist(), ["warning"])
        short = figures_of(whole, parts.assign(value=[-600.0, 1_500.0, 100.0]), {})
        sold = limits_used([Limit("value", 500.0, "a"), Limit("value", 700.0, "a")], short)
        self.assertEqual(sold["state"].tolist(), ["breach", "warning"])
        alike = figures_of(whole, parts, {"group": {"a": "a", "b": "a"}})
        self.assertEqual(alike["value", "a"], 900.0)  # a holding and a group of one name
        with self.fails("did you mean 'value at risk'"):
            limits_used([Limit("value at rsk", 1.0)], figures)
        with self.fails("no holding, group or currency 'bnds'", "did you mean 'bonds'"):
            limits_used([Limit("value", 1.0, "bnds")], figures)

    def test_what_groups_add_stands_in_the_report(self):
        book = DEMO / "treasury_positions.csv"
        prices = DEMO / "treasury_prices.csv"
        shown = json.loads(run("risk", prices, "--holdings", book, "--json").stdout)
        by_group = {row["group"]: row for row in shown["by group"]}
        self.assertEqual(set(by_group), {"shares", "loans", "cash"})
        for column in ("value", "component", "share"):
            held = sum(row[column] for row in shown["contributions"])
            self.assertAlmostEqual(sum(row[column] for row in by_group.values()), held, 6)
        self.assertEqual(by_group["cash"]["value"], 2_500_000)
        self.assertNotIn("by currency", shown)

    def test_a_file_of_limits(self):
        path = self.folder / "limits.csv"
        path.write_text("figure,scope,limit,warning\nValue at risk,,9,\nvalue,a,3,0.5\n")
        self.assertEqual(
            read_limits(path), [Limit("value at risk", 9.0), Limit("value", 3.0, "a", 0.5)]
        )
        path.write_text("figure,limit\nvalue,-2\n")
        with self.fails("row 2", "above 0"):
            read_limits(path)
        path.write_text("figure,most\nvalue,2\n")
        with self.fails("needs columns figure and limit"):
            read_limits(path)

    def test_a_breach_stands_after_the_answer_and_is_status_3(self):
        path = self.folder / "limits.csv"
        path.write_text("figure,scope,limit\nvalue at risk,whole,100000\nvalue,shipyard,9e6\n")
        broken = run("risk", *TREASURY, "--limits", path, "--brief")
        self.assertEqual(broken.returncode, 3, broken.stderr)
        self.assertRegex(
            broken.stdout, r"1 of 2 limits is broken: value at risk of the whole is 1\d\d %"
        )
        options = ("--windows", "250,all", "--methods", "historical,normal")
        several = run("risk", *TREASURY, "--limits", path, *options)
        self.assertEqual(several.returncode, 3, several.stderr)
        path.write_text("figure,scope,limit\nvalue at risk,whole,900000\n")
        held = run("risk", *TREASURY, "--limits", path, "--json")
        self.assertEqual(held.returncode, 0, held.stderr)
        row = json.loads(held.stdout)["limits"][0]
        self.assertEqual((row["state"], row["limit"]), ("within", 900_000))
        self.assertAlmostEqual(row["use"], row["is"] / 900_000)
