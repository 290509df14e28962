"""Tests of drivers, risks and correlations from tables."""

import io
from pathlib import Path

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.model.review import review
from tests.common import DEMO, Folder, run

ITEMS = """name,distribution,low,mode,high,unit,source,base
hull,pert,10,12,18,EUR,yard,12
engine,triangular,5,6,9,EUR,,
paint,uniform,1,,2,EUR,,
"""
RISKS = """name,chance,distribution,low,mode,high,impact,base
strike,0.2,pert,2,4,9,,0
fine,0.05,,,,,10,0
"""
MODEL = """[model]
name = "Budget"
[drivers]
table = ["items.csv", "risks.csv"]
[drivers.extra]
distribution = "normal"
mean = 3
sd = 1
{correlations}
[outcomes.cost]
formula = "sum_of('items') + sum_of(\\"risks\\") + extra"
better = "low"
"""


class Tables(Folder):
    def model(self, correlations="", items=ITEMS, risks=RISKS) -> kd.Model:
        (self.folder / "items.csv").write_text(items)
        (self.folder / "risks.csv").write_text(risks)
        file = self.folder / "budget.toml"
        file.write_text(MODEL.format(correlations=correlations))
        return kd.load_model(file)

    def test_each_row_is_a_driver_and_a_chance_makes_a_risk(self):
        model = self.model()
        hull = model.quantities["hull"]
        self.assertEqual(hull.distribution, kd.Pert(10, 12, 18))
        self.assertEqual((hull.base, hull.unit, hull.source), (12.0, "EUR", "yard"))
        self.assertEqual(model.quantities["paint"].distribution, kd.Uniform(1, 2))
        self.assertEqual(
            model.quantities["strike"].distribution, kd.EventImpact(0.2, kd.Pert(2, 4, 9))
        )
        self.assertEqual(
            model.quantities["fine"].distribution, kd.EventImpact(0.05, kd.Discrete([10], [1]))
        )
        base = model.base_case()["value"]
        self.assertAlmostEqual(base["cost"], 12 + 20 / 3 + 1.5 + 0 + 0 + 3)
        made = model.simulate(2000, seed=1)
        mean = kd.Pert(10, 12, 18).mean + 20 / 3 + 1.5 + 0.2 * 4.5 + 0.5 + 3
        self.assertAlmostEqual(float(made["cost"].mean), mean, delta=0.01)
        self.assertEqual([f.name for f in review(model.compiled()) if "sd" in f.text], [])

    def test_it_is_the_same_from_a_frame_and_written_out(self):
        model = kd.Model("Budget")
        names = model.drivers_from(pd.read_csv(io.StringIO(ITEMS)), "items")
        self.assertEqual(names, ["hull", "engine", "paint"])
        model.outcome("cost", "2 * sum_of('items')")
        again = kd.Model("Budget")
        (self.folder / "again.toml").write_text(model.to_toml())
        again = kd.load_model(self.folder / "again.toml")
        np.testing.assert_array_equal(
            again.simulate(300, seed=1)["cost"].values, model.simulate(300, seed=1)["cost"].values
        )
        saved = self.folder / "run.parquet"
        self.model().simulate(300, seed=1).save(saved)
        self.assertEqual(kd.open_run(saved).trial(3).loc["cost", "value"] > 0, True)

    def test_correlations_among_a_table_or_from_a_matrix(self):
        among = self.model('[[correlations]]\namong = "items"\nvalue = 0.5\n')
        named = self.model('[[correlations]]\namong = ["hull", "engine", "paint"]\nvalue = 0.5\n')
        lower = "part,hull,engine,paint\nhull,1,,\nengine,0.5,1,\npaint,0.5,0.5,1\n"
        (self.folder / "matrix.csv").write_text(lower)
        (self.folder / "unnamed.csv").write_text(lower.replace("part", ""))
        matrices = [
            self.model(f'[[correlations]]\nmatrix = "{file}.csv"\n')
            for file in ("matrix", "unnamed")
        ]
        first = among.simulate(400, seed=2)
        for other in (named, *matrices):
            np.testing.assert_array_equal(
                first["cost"].values, other.simulate(400, seed=2)["cost"].values
            )
        self.assertEqual(len(first.correlations), 3)
        stated = kd.Model.of(among.statement.without_correlations())
        stated.correlate("hull", "engine", "paint", 0.5)
        np.testing.assert_array_equal(
            first["cost"].values, stated.simulate(400, seed=2)["cost"].values
        )

    def test_mistakes_are_told_with_their_rows(self):
        for items, words in (
            (ITEMS.replace("12,18", "19,18"), ("items.csv, row 2", "mode")),
            (ITEMS.replace("triangular", "triangle"), ("row 3", "did you mean 'triangular'")),
            (ITEMS.replace("engine", "hull"), ("row 3", "'hull' is there already")),
            (ITEMS.replace("engine", "main engine"), ("row 3", "main engine")),
            (ITEMS.replace("pert", "").replace("uniform", ""), ("2 mistakes", "no distribution")),
            (ITEMS.replace("5,6,9", "5,six,9"), ("row 3", "'six'")),
            (ITEMS.replace("low", "lowst"), ("row 2", "no parameter 'lowst'")),
            (ITEMS.replace("name", "itm"), ("name and distribution",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                self.model(items=items)
        for risks, words in (
            (RISKS.replace("0.2", "1.2"), ("risks.csv, row 2", "probability")),
            (RISKS.replace("0.05", ""), ("row 3", "no chance")),
            (RISKS.replace(",10,0", ",,0"), ("row 3", "no distribution")),
            (RISKS.replace("9,,0", "9,5,0"), ("row 2", "not both")),
        ):
            with self.subTest(words=words), self.fails(*words):
                self.model(risks=risks)
        for correlations, words in (
            ('among = "item"\nvalue = 0.5', ("no table of drivers", "did you mean 'items'")),
            ('matrix = "../x.csv"', ("beside the model",)),
            ('matrix = "items.csv"', ("items.csv, row 2", "not a number")),
            ('among = "items"\nbetween = ["hull", "paint"]\nvalue = 0.1', ("one of between",)),
            (
                'among = "items"\nvalue = 0.5\n[[correlations]]\nbetween = ["paint", "hull"]\n'
                "value = 0.2",
                ("correlated already (0.5)",),
            ),
        ):
            with self.subTest(words=words), self.fails(*words):
                self.model(f"[[correlations]]\n{correlations}\n")

    def test_sum_of_takes_a_table_or_values(self):
        model = kd.Model("m")
        model.driver("a", kd.Uniform(0, 1))
        model.given(b=2.0)
        model.line("plain", "a + b")
        model.outcome("y", "sum_of(a, b, 3)")
        self.assertAlmostEqual(model.base_case().loc["y", "value"], 5.5)
        for formula, words in (
            ("sum_of('plain')", ("no table of drivers 'plain'",)),
            ("sum_of(a)", ("in quotes",)),
            ("sum_of()", ("two or more",)),
        ):
            with self.subTest(formula=formula), self.fails(*words):
                again = kd.Model.of(model.statement)
                again.outcome("z", formula)
                again.base_case()

    def test_a_table_that_fails_leaves_the_model_as_it_was(self):
        model = kd.Model("m")
        model.driver("paint", kd.Uniform(0, 1))
        (self.folder / "items.csv").write_text(ITEMS)
        with self.fails("'paint' is already"):
            model.drivers_from(self.folder / "items.csv")
        self.assertEqual(list(model.quantities), ["paint"])


class Defaults(Folder):
    """A sheet that people have: items in words, three points, what they share stated once."""

    def test_headings_and_what_rows_do_not_state(self):
        path = self.folder / "risks.csv"
        path.write_text(
            "Item,Minimum,Most likely,Maximum,Probability\n"
            "Hull repair (steel),10,20,50,\n2nd dock,5,10,30,20%\n"
        )
        model = kd.Model("Risks")
        names = model.drivers_from(path, distribution="pert", unit="EUR")
        self.assertEqual(names, ["hull_repair_steel", "x2nd_dock"])
        repair = model.quantities["hull_repair_steel"]
        self.assertEqual((repair.distribution, repair.unit), (kd.Pert(10, 20, 50), "EUR"))
        text = '[model]\nname = "Risks"\n[drivers]\ntable = {}\n[outcomes]\ncost = {}\n'
        table = '{ file = "risks.csv", distribution = "pert", unit = "EUR" }'
        file = self.folder / "risks.toml"
        file.write_text(text.format(table, "\"sum_of('risks')\""))
        loaded = kd.load_model(file)
        self.assertEqual(loaded.quantities["x2nd_dock"], model.quantities["x2nd_dock"])
        file.write_text(text.format(f"[{table}]", "\"sum_of('risks')\""))
        self.assertEqual(dict(kd.load_model(file).quantities), dict(loaded.quantities))
        with self.fails("did you mean 'distribution'"):
            kd.Model("x").drivers_from(path, distributoin="pert")
        file.write_text(text.format('{ file = "risks.csv", distributon = "pert" }', '"1"'))
        with self.fails("distributon"):
            kd.load_model(file)


class Register(Folder):
    def test_the_terminal_of_the_demo(self):
        model = kd.load_model(DEMO / "terminal.toml")
        self.assertLess(len(Path(DEMO / "terminal.toml").read_text().splitlines()), 40)
        made = model.simulate(2000, seed=11)
        register = made.risk_register("cost")
        self.assertEqual(len(register), 12)
        wall = register.loc["old_wall_under_quay"]
        self.assertAlmostEqual(wall["expected"], 0.3 * (300e3 + 4 * 900e3 + 2.6e6) / 6, places=4)
        whole = made.sensitivity("cost", "contributions", to="contingency")
        reserve = float(made["cost"].percentile(80)) - float(made["cost"].base)
        self.assertAlmostEqual(whole["contribution"].sum() / reserve, 1, 9)
        # what a risk adds to dear projects is at least what it adds to all of them
        self.assertGreater(wall["contribution"], wall["expected"])
        with self.fails("no risk event"):
            kd.load_model(DEMO / "hydrofoil.toml").simulate(300, seed=1).risk_register(
                "cost_per_passenger"
            )

    def test_run_prints_it_and_tells_many_correlations_in_one_line(self):
        found = run("run", str(DEMO / "terminal.toml"), "--trials", "400", "--seed", "1")
        self.assertIn("Risk register: the risks are", found.stdout)
        self.assertIn("Of 1,770 correlations each was reached to within", found.stdout)
        self.assertIn("52 others", found.stdout)
        self.assertLess(len(found.stdout.splitlines()), 90)
