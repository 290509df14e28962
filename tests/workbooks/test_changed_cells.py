"""Bridges between two workbooks: figures by label, formulas as formulas."""

import json

import openpyxl

import kindynos as kd
from tests.common import DEMO, Folder, run


class Bridges(Folder):
    def book(self, name, changes=(), sheet=True):
        """Save a copy of the demo's workbook, in which no figure is stated but by its cell."""
        book = openpyxl.load_workbook(DEMO / "night_ferry.xlsx")
        for row in book["uncertain"].iter_rows(min_row=3, max_row=13, max_col=5):
            for cell in row:
                cell.value = None
        for place, value in changes:
            page, _, address = place.partition("!")
            book[page][address] = value
        if not sheet:
            del book["uncertain"]
        path = self.folder / name
        book.save(path)
        return path

    def test_figures_and_formulas(self):
        old = self.book("old.xlsx")
        resale = "=IF(C3=MAX($B$3:$P$3),Inputs!$B$15*Inputs!$B$19,5000)"
        figures = (("Inputs!B4", 58), ("Inputs!B7", 3_200_000))
        new = self.book("new.xlsx", [*figures, ("Plan!C13", resale)])
        shown = run("bridge", old, new, "--trials", "1000", "--seed", "1")
        self.assertIn("fare     ", shown.stdout)
        self.assertIn("54 -> 58", shown.stdout)
        self.assertIn("3,050,000 -> 3,200,000", shown.stdout)
        self.assertIn(f"{resale.replace('5000', '0')} ->", " ".join(shown.stdout.split()))
        self.assertIn("+4,000", shown.stdout)  # 5,000 / 1.08 ** 2

    def test_each_changed_formula_is_a_change(self):
        old = self.book("old.xlsx")
        resale = "=IF({0}3=MAX($B$3:$P$3),Inputs!$B$15*Inputs!$B$19,{1})"
        changes = [(f"Plan!{c}13", resale.format(c, n)) for c, n in (("C", 50_000), ("E", 80_000))]
        new = self.book("new.xlsx", [*changes, ("Inputs!B4", 58)])
        words = ("bridge", old, new, "--trials", "500", "--seed", "1", "--json")
        told = json.loads(run(*words).stdout)
        parts = {row["change"]: row for row in told["parts"]}
        self.assertEqual(len(parts), 3)
        formulas = sorted(row["part"] for name, row in parts.items() if name != "fare")
        self.assertAlmostEqual(formulas[0], 50_000 / 1.08**2, places=3)
        self.assertAlmostEqual(formulas[1], 80_000 / 1.08**4, places=3)
        self.assertIn("Plan!E13: =IF(E3=MAX", json.dumps(told))
        # a sheet that is gone cannot be made alone: then all that is no figure is one change
        book = openpyxl.load_workbook(new)
        book.create_sheet("Notes")
        book.save(self.folder / "more.xlsx")
        told = json.loads(run("bridge", old, self.folder / "more.xlsx", *words[3:]).stdout)
        parts = {row["change"]: row["part"] for row in told["parts"]}
        self.assertEqual(set(parts), {"fare", "cells of the workbook"})
        self.assertAlmostEqual(parts["cells of the workbook"], sum(formulas), places=3)

    def test_the_parts_are_those_of_the_model_file(self):
        ferry = kd.load_model(DEMO / "night_ferry.toml")
        stated = kd.bridge(ferry, ferry.replace(fare=58.0), trials=1000, seed=1)
        shown = run(
            "bridge",
            self.book("old.xlsx"),
            self.book("new.xlsx", [("Inputs!B4", 58)]),
            *("--trials", "1000", "--seed", "1", "--json"),
        )
        self.assertEqual(shown.returncode, 0, shown.stderr)
        (part,) = json.loads(shown.stdout)["parts"]
        self.assertEqual(part["change"], "fare")
        self.assertAlmostEqual(part["part"] / float(stated.parts["fare"]), 1, 9)

    def test_without_the_sheet_a_cell_is_the_outcome(self):
        old = self.book("old.xlsx", sheet=False)
        new = self.book("new.xlsx", [("Inputs!B4", 58)], sheet=False)
        refused = run("bridge", old, new)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("Say --outcome CELL", refused.stderr)
        shown = run("bridge", old, new, "--outcome", "Summary!B3", "--brief", "--trials", "500")
        self.assertIn("from fare", shown.stdout)


class Folders(Folder):
    def test_results_stand_for_their_model(self):
        path = self.folder / "last.toml"
        path.write_text((DEMO / "night_ferry_last_year.toml").read_text())
        made = run("run", path, "--trials", "500", "--seed", "1", "--out", self.folder / "out")
        self.assertEqual(made.returncode, 0, made.stderr)
        words = ("bridge", self.folder / "out", DEMO / "night_ferry.toml", "--changes")
        self.assertIn("fare", run(*words).stdout)
        path.write_text(path.read_text() + "\n# changed\n")
        refused = run(*words)
        self.assertEqual(refused.returncode, 2)
        self.assertIn("has changed since or is gone", refused.stderr)
        empty = run("bridge", self.folder, DEMO / "night_ferry.toml")
        self.assertIn("holds no run.json", empty.stderr)
