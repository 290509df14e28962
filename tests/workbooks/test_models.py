"""Models of workbooks: what cells are, how they are named, and what is refused."""

import io
import pickle
import tempfile
import unittest
import warnings
import zipfile
from pathlib import Path

import numpy as np
import openpyxl

import kindynos as kd
from kindynos.model.file import load_model
from kindynos.workbooks.labels import as_name
from tests.common import Case, Folder
from tests.workbooks.common import write

FERRY = kd.demo_file("night_ferry.xlsx")
PLAN = {
    "A1": "Plan", "A4": "Fare", "B4": 42, "A5": "Sold", "B5": 1000, "A6": "Sales", "B6": "=B4*B5",
    "A7": "Note", "B7": "later", "A9": "Year", "B9": 1, "C9": 2, "D9": 3,
    "A10": "Cost", "B10": 100, "C10": 110, "D10": 120, "A11": "Left", "B11": "=$B$6-B10",
    "C11": "=$B$6-C10", "D11": "=$B$6-D10", "A12": "Total", "B12": "=SUM(B11:D11)",
}  # fmt: skip


class NightFerry(Case):
    """The workbook and the model file say the same."""

    def test_base_case_and_draws_are_those_of_the_model_file(self):
        stated = load_model(kd.demo_file("night_ferry.toml"))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "night_ferry.xlsx")
            path.write_bytes(FERRY.read_bytes())
            text = kd.read_workbook(path)
            from kindynos.workbooks.files import model_of

            model = model_of(text)
            toml = Path(folder, "plan.toml")
            toml.write_text(model.to_toml())
            again = load_model(toml)
            for cells in (model, again):
                base, other = cells.base_case()["value"], stated.base_case()["value"]
                for name in ("net_value", "rate_of_return", "vessel", "load", "fare"):
                    self.assertAlmostEqual(base[name] / other[name], 1, delta=1e-9)
                run = cells.simulate(1_000, seed=3)
                told = stated.simulate(1_000, seed=3)
                for name in ("net_value", "rate_of_return"):
                    np.testing.assert_allclose(
                        run[name].values, told[name].values, rtol=1e-9, atol=1e-6
                    )
            cheaper = again.replace(fare=50).simulate(500, seed=3)["net_value"].mean
            told = stated.replace(fare=50).simulate(500, seed=3)["net_value"].mean
            self.assertAlmostEqual(float(cheaper), float(told), delta=1e-3)

    def test_all_formulas_agree(self):
        book = kd.read_workbook(FERRY)
        self.assertEqual(
            book.agreement.words, "186 of 186 formulas agree with the values stored in the file"
        )
        self.assertEqual(len(book.recalculate()), 0)
        self.assertEqual(book.sheets, ["Inputs", "Plan", "Summary", "uncertain"])
        functions = book.functions()
        self.assertTrue(functions["known"].all())
        self.assertEqual(functions.loc["NPV", "count"], 1)
        tree = book.precedents("Summary!B3")
        self.assertIn("Inputs!B11", tree)
        self.assertIn("Inputs!B4", tree["Plan!B14"]["Plan!B10"]["Plan!B6"])
        self.assertIn("Summary!B3", book.dependents("Inputs!B11"))


class PurserSheet(unittest.TestCase):
    """Cells that draw by themselves."""

    def setUp(self):
        self.book = kd.read_workbook(kd.demo_file("purser.xlsx"))
        self.model = self.book.model(outcomes={"result": "Evening!G13"})

    def test_each_call_is_a_driver_and_some_are_distributions(self):
        drivers = self.model.compiled().drivers
        self.assertEqual(
            {name: driver.distribution.label for name, driver in drivers.items()},
            {
                "guests": "normal",
                "weather_factor_draw": "uniform",
                "share_that_buys": "uniform",
                "broken": "integer uniform",
            },
        )
        self.assertEqual(drivers["share_that_buys"].distribution.high, 0.6)
        random = self.book.random()
        self.assertEqual(random.loc["Evening!C13", "distribution"], "unchanged formula")
        self.assertEqual(len(random), 800)

    def test_the_lookup_of_a_draw_has_its_chances(self):
        model = self.book.model(outcomes={"weather": "Evening!C13"})
        run = model.simulate(10_000, seed=1)
        shares = {factor: (run["weather"].values == factor).mean() for factor in (1.0, 0.9, 0.55)}
        for factor, share in ((1.0, 0.6), (0.9, 0.3), (0.55, 0.1)):
            self.assertAlmostEqual(shares[factor], share, delta=1e-3)

    def test_the_result_is_what_a_script_gives(self):
        run = self.model.simulate(2_000, seed=5)
        sheet = [run.trial(number)["value"] for number in (0, 7)]
        for trial in sheet:
            factor = (1.0, 0.9, 0.55)[
                np.searchsorted([0.6, 0.9], trial["weather_factor_draw"], "right")
            ]
            meals = min(trial["guests"] * factor * trial["share_that_buys"], 110)
            expected = np.floor(meals + 0.5) * (11.5 - 4.2) - trial["broken"] * 4.2
            self.assertAlmostEqual(trial["result"], expected, delta=1e-9)

    def test_it_travels_to_other_processes(self):
        line = self.model.compiled().lines["result"]
        again = pickle.loads(pickle.dumps(line.calculation))
        values = {
            name: np.array([0.2, 0.7]) if "draw" in name else np.array([200.0, 3.0])
            for name in line.needs
        }
        values["share_that_buys"] = np.array([0.4, 0.5])
        for name, found in line.calculation.evaluate(["result"], values, 2).items():
            np.testing.assert_array_equal(again.evaluate([name], values, 2)[name], found)
        self.assertEqual(again.needs("result"), line.needs)

    def test_a_sum_of_copies_keeps_them_independent(self):
        mean = self.book.model(outcomes={"mean": "Evening!E9"})
        self.assertEqual(len(mean.compiled().drivers), 800)
        one, many = self.model.simulate(2_000, seed=2), mean.simulate(2_000, seed=2)
        ratio = float(many["mean"].sd) / float(one["result"].sd)
        self.assertAlmostEqual(ratio, 1 / np.sqrt(200), delta=0.004)


class Recognition(Folder):
    def driver(self, formula: str, **cells):
        path = write(self.folder, {"A1": "Demand", "B1": formula, "C1": "=B1*2", **cells})
        model = kd.read_workbook(path).model(outcomes={"out": "Data!C1"})
        return model, model.compiled().drivers

    def test_inverses_are_the_distributions(self):
        for formula, distribution in (
            ("=NORMINV(RAND(),10,2)", kd.Normal(10, 2)),
            ("=NORMSINV(RAND())", kd.Normal(0, 1)),
            ("=LOGINV(RAND(),1,0.5)", kd.LogNormal.from_log(1, 0.5)),
            ("=BETAINV(RAND(),2,3,1,4)", kd.Beta(2, 3, 1, 4)),
            ("=GAMMAINV(RAND(),2,3)", kd.Gamma(2, 3)),
            ("=CRITBINOM(10,0.4,RAND())", kd.Binomial(10, 0.4)),
            ("=RANDBETWEEN(1,6)", kd.IntegerUniform(1, 6)),
            ("=RAND()", kd.Uniform(0, 1)),
            ("=3+RAND()*(7-3)", kd.Uniform(3, 7)),
        ):
            with self.subTest(formula):
                model, drivers = self.driver(formula)
                self.assertEqual(drivers["demand"].distribution, distribution)
                run = model.simulate(1_000, seed=1, sampling="latin")
                values = run["demand"].values
                np.testing.assert_allclose(run["out"].values, 2 * values, rtol=1e-12)

    def test_another_width_is_not_a_uniform_distribution_of_these_ends(self):
        model, drivers = self.driver("=3+RAND()*(7-2)")
        self.assertEqual(list(drivers), ["demand_draw"])
        values = model.simulate(1_000, seed=1)["out"].values / 2
        self.assertAlmostEqual(values.max(), 8, delta=0.02)

    def test_recognised_or_not_the_values_are_the_same(self):
        _, drivers = self.driver("=NORMINV(RAND(),10,2)+0")
        self.assertEqual(list(drivers), ["demand_draw"])
        plain = self.driver("=NORMINV(RAND(),10,2)+0")[0].simulate(4_000, seed=1)["out"]
        known = self.driver("=NORMINV(RAND(),10,2)")[0].simulate(4_000, seed=1)["out"]
        self.assertAlmostEqual(float(plain.sd) / float(known.sd), 1, delta=0.01)
        self.assertAlmostEqual(float(plain.mean) - float(known.mean), 0, delta=0.01)

    def test_parameters_that_are_drawn_too(self):
        cells = {"A2": "Level", "B2": "=10+5*RAND()"}
        model, drivers = self.driver("=NORMINV(RAND(),B2*2,1)", **cells)
        self.assertEqual(drivers["demand"].distribution.parameters["mean"], "demand_mean")
        self.assertEqual(list(drivers), ["demand", "level_draw"])
        run = model.simulate(4_000, seed=1, keep=["demand_mean"])
        left = run["demand"].values - run["demand_mean"].values
        self.assertAlmostEqual(left.std(), 1, delta=0.03)
        self.assertAlmostEqual(run["demand_mean"].values.min(), 20, delta=0.1)

    def test_the_sum_of_twelve_is_worked_out_as_it_stands(self):
        formula = "=" + "+".join(["RAND()"] * 12) + "-6"
        model, drivers = self.driver(formula)
        self.assertEqual(len(drivers), 12)
        out = model.simulate(4_000, seed=1)["out"]
        self.assertAlmostEqual(float(out.sd), 2, delta=0.06)


class CellsOfAModel(Folder):
    def book(self, cells=None, **more):
        path = write(self.folder, {**PLAN, **(cells or {}), **more})
        return kd.read_workbook(path)

    def test_rows_given_figures_and_lines(self):
        model = self.book().model(
            outcomes={"total": {"cell": "Data!B12", "unit": "EUR", "target": 0}},
            drivers={
                "sold": ("B5", kd.Normal(1000, 100)),
                "cost": ("B10:D10", kd.Uniform(90, 130)),
            },
            given={"fare": "B4"},
            lines={"left": "Data!B11:D11"},
        )
        self.assertEqual(model.periods, 3)
        run = model.simulate(1_000, seed=1, keep=["left"])
        self.assertEqual(run["left"].values.shape, (3, 1_000))
        sold, left = run["sold"].values, run["left"].values
        np.testing.assert_allclose(left, 42 * sold - run.row("cost").values, rtol=1e-12)
        np.testing.assert_allclose(run["total"].values, left.sum(axis=0), rtol=1e-12)
        self.assertEqual(run["total"].target, 0)
        self.assertEqual(model.base_case()["value"]["sold"], 1000)
        goal = model.solve("fare", outcome="total", mean=0, within=(0.01, 5), trials=1_000, seed=1)
        self.assertAlmostEqual(float(goal.value), 330 / 3_000, delta=0.001)

    def test_names(self):
        self.assertEqual(as_name("Net sales (EUR)"), "net_sales_eur")
        self.assertEqual(as_name("2027"), "x2027")
        self.assertEqual(as_name("Größe & Zahl"), "grosse_zahl")
        self.assertEqual(as_name("class"), "class_")
        self.assertEqual(as_name("§§"), "")

    def test_a_defined_name_is_a_cell(self):
        path = write(self.folder, PLAN)
        book = openpyxl.load_workbook(path)
        book.defined_names["Answer"] = openpyxl.workbook.defined_name.DefinedName(
            "Answer", attr_text="Data!$B$12"
        )
        book.save(path)
        model = kd.read_workbook(path).model(
            outcomes={"total": "Answer"}, drivers={"sold": ("B5", kd.Normal(1000, 100))}
        )
        self.assertEqual(model.base_case()["value"]["total"], 3 * 42_000 - 330)

    def test_a_process_fills_a_row_as_it_does_in_a_model(self):
        moving = kd.GeometricBrownianMotion(100, 0.02, 0.2)
        whole = self.book().model(outcomes={"total": "B12"}, drivers={"cost": ("B10:D10", moving)})
        plain = kd.Model("plan", periods=3)
        plain.driver("cost", moving)
        plain.outcome("total", "total(42 * 1000 - cost)")
        runs = [model.simulate(2_000, seed=5, keep=["cost"]) for model in (whole, plain)]
        for name in ("cost", "total"):
            one, other = (run[name].values for run in runs)
            np.testing.assert_allclose(one, other, rtol=1e-10)
        with self.fails("a process fills a row of cells"):
            self.book().model(outcomes={"total": "B12"}, drivers={"sold": ("B5", moving)})

    def test_a_cell_that_draws_takes_its_defined_name(self):
        path = write(self.folder, {**PLAN, "B5": "=NORMINV(RAND(),1000,100)"})
        book = openpyxl.load_workbook(path)
        for name, place in (("Guests", "Data!$B$5"), ("Half", "Data!$B$5/2"), ("Lost", "#REF!")):
            defined = openpyxl.workbook.defined_name.DefinedName(name, attr_text=place)
            book.defined_names[name] = defined
        book.save(path)
        model = kd.read_workbook(path).model(outcomes={"total": "B12"})
        self.assertEqual([driver.name for driver in model.compiled().drivers.values()], ["guests"])

    def test_what_is_refused(self):
        book = self.book()
        out = {"total": "B12"}
        normal = kd.Normal(1000, 100)
        for words, call in (
            ("no sheet 'Dat'; did you mean 'Data'", {"outcomes": {"total": "Dat!B12"}}),
            ("Data!B7 holds the text 'later'", {"drivers": {"x": ("B7", normal)}}),
            ("is no cell of the sheet", {"drivers": {"x": ("5B", normal)}}),
            ("lies beyond", {"outcomes": {"total": "Z99"}}),
            ("is already 'sold'", {"drivers": {"sold": ("B5", normal), "x": ("Data!B5", normal)}}),
            ("neither a row nor a column", {"given": {"x": "B10:C11"}}),
            ("driver 'x' is a cell and its distribution", {"drivers": {"x": "B5"}}),
            ("did you mean 'target'", {"outcomes": {"total": {"cell": "B12", "targt": 0}}}),
            ("the model has 2 periods", {"given": {"cost": "B10:D10"}, "periods": 2}),
        ):
            with self.subTest(words), self.fails(words):
                book.model(**{"outcomes": out, **call})
        with self.fails("name at least one outcome"):
            book.model(outcomes={})

    def test_an_outcome_that_depends_on_no_driver_runs(self):
        with self.assertWarnsRegex(kd.DataWarning, "year depends on no driver"):
            model = self.book().model(
                outcomes={"year": "B9"}, drivers={"sold": ("B5", kd.Normal(1000, 100))}
            )
        self.assertEqual(float(model.simulate(500, seed=1)["year"].mean), 1)

    def test_functions_that_are_not_known_matter_only_where_they_are_needed(self):
        book = self.book({"F1": "=CUBEVALUE(1)", "F2": "=F1+B5"})
        functions = book.functions()
        self.assertEqual(functions.loc["CUBEVALUE", "cells"], "Data!F1")
        self.assertFalse(functions.loc["CUBEVALUE", "known"])
        drivers = {"sold": ("B5", kd.Normal(1000, 100))}
        book.model(outcomes={"total": "B12"}, drivers=drivers)
        with self.fails("Data!F1: the function CUBEVALUE is not known"):
            book.model(outcomes={"other": "F2"}, drivers=drivers)

    def test_a_workbook_that_says_otherwise(self):
        path = write(self.folder, PLAN)
        data = _with_stored(path.read_bytes(), {"B6": 42_000, "B12": 1.0, "B11": 41_900})
        path.write_bytes(data)
        book = kd.read_workbook(path)
        self.assertIn("2 of 3 formulas agree", book.agreement.words)
        self.assertEqual(book.recalculate().loc["Data!B12", "stored"], 1.0)
        drivers = {"sold": ("B5", kd.Normal(1000, 100))}
        with self.fails("outcome 'total'", "Data!B12 is 125670 here and 1 in the file"):
            book.model(outcomes={"total": "B12"}, drivers=drivers)
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            model = book.model(outcomes={"total": "B12"}, drivers=drivers, accept_differences=True)
        self.assertIn("2 of 3 formulas agree", str(caught[0].message))
        self.assertEqual(model.base_case()["value"]["total"], 125_670)


def _with_stored(data: bytes, values: dict[str, float]) -> bytes:
    """Return a workbook with stored values beside some of its formulas."""
    found = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(found, "w") as new:
        for entry in old.namelist():
            content = old.read(entry)
            if entry.endswith("sheet1.xml"):
                text = content.decode()
                for cell, value in values.items():
                    begin = text.index(f'<c r="{cell}"')
                    end = text.index("</c>", begin)
                    part = text[begin:end].replace("<v />", "").replace("<v/>", "")
                    part = part.replace("<v></v>", "") + f"<v>{value}</v>"
                    text = text[:begin] + part + text[end:]
                content = text.encode()
            new.writestr(entry, content)
    return found.getvalue()


if __name__ == "__main__":
    unittest.main()
