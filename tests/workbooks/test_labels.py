"""What cells say of themselves: formats, unit columns and labels; quantities in a line of text; and
the cells that a workbook proposes.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import openpyxl

import kindynos as kd
from kindynos.errors import KindynosError
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.cell_texts import driver_in, outcome_in
from kindynos.workbooks.cell_units import unit_of_format
from kindynos.workbooks.files import model_of
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.labels import name_of
from kindynos.workbooks.proposals import proposals
from kindynos.workbooks.reader import Formula
from kindynos.workbooks.workbook import Workbook
from tests.common import run
from tests.workbooks.common import write

# label, unit, value and a total beside it, as plans are laid out
PLAN = {
    "A1": "Item", "B1": "Unit", "C1": "2027", "D1": "2028", "E1": "Total",
    "A2": "Volume", "B2": "kt", "C2": 10, "D2": 12, "E2": "=C2+D2",
    "A3": "Price", "B3": "EUR/t", "C3": 50, "D3": 51,
    "A4": "Net sales", "B4": "EUR", "C4": "=C2*C3", "D4": "=D2*D3", "E4": "=C4+D4", "F4": "=E4/2",
    "A5": "Opening", "C5": 47588, "A6": "IRR", "C6": "=C3/400", "A7": "Loan", "C7": "=C4*2",
    "A8": "First year", "C8": 2031, "A9": "Growth", "B9": "% a year", "C9": 0.02,
}  # fmt: skip
FORMATS = {"C5": "d/m/yyyy", "C6": "0.0%", "C7": "[$€-407] #,##0.00", "C8": "yyyy", "C9": "0.0%"}


class Said(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), PLAN)
            book = openpyxl.load_workbook(path)
            for cell, code in FORMATS.items():
                book["Data"][cell].number_format = code
            book.save(path)
            cls.book = kd.read_workbook(path)

    def unit(self, cell):
        model = self.book.model(outcomes={"x": f"Data!{cell}"}, drivers={})
        return model.quantities["x"].unit

    def test_units_come_from_formats_and_from_the_unit_column(self):
        with self.assertWarns(kd.DataWarning):
            for cell, unit in (("C4", "EUR"), ("C6", "%"), ("C7", "EUR"), ("E2", "kt")):
                with self.subTest(cell):
                    self.assertEqual(self.unit(cell), unit)
        model = self.book.model(
            outcomes={"x": "Data!C4"},
            drivers={"price": ("Data!C3", kd.Normal(50, 5))},
            given={"growth": "Data!C9", "volume": {"cell": "Data!C2", "unit": "1,000 t"}},
        )
        units = {name: quantity.unit for name, quantity in model.quantities.items()}
        self.assertEqual(
            units, {"price": "EUR/t", "growth": "% a year", "volume": "1,000 t", "x": "EUR"}
        )

    def test_formats(self):
        for code, unit in {
            '#,##0 "kt"': "kt", "#,##0.00 €": "EUR", '_-* #,##0 "EUR"_-': "EUR", "$#,##0": "$",
            "mmm yy": "date", "yyyy-mm-dd hh:mm": "date", "hh:mm": None, "0.00E+00": None,
            "#,##0;(#,##0)": None, '0 %;[Red]-0 %': "%", "[$CHF] #,##0": "CHF", "General": None,
            '#,##0,"k EUR"': "EUR", '0.0,,"m EUR"': "EUR", '#,##0.0,,,"bn USD"': "USD",
            '#,##0"kt"': "kt", '#,##0,"kt"': "kt", '#,##0 "k EUR"': "k EUR",
        }.items():  # fmt: skip
            with self.subTest(code):
                self.assertEqual(unit_of_format(code), unit)

    def test_a_label_belongs_to_the_first_value_beside_it(self):
        names = {
            cell: name_of(self.book.graph, Cell("Data", int(cell[1]), ord(cell[0]) - 64))
            for cell in ("C2", "E2", "C3", "E4", "F4", "C6")
        }
        self.assertEqual(
            names,
            {
                "C2": "volume",
                "E2": "volume_total",
                "C3": "price",
                "E4": "net_sales_total",
                "F4": "cell_f4",
                "C6": "irr",
            },
        )

    def test_what_is_proposed(self):
        found = {item.name: item for item in proposals(self.book)}
        self.assertNotIn("net_sales_total", found)  # F4 reads it
        self.assertEqual(
            (found["irr"].kind, found["irr"].cell, found["irr"].unit), ("outcome", "Data!C6", "%")
        )
        self.assertEqual(found["volume_total"].why, "no other cell reads it")
        self.assertEqual((found["volume"].kind, found["volume"].unit), ("driver", "kt"))


class Controls(unittest.TestCase):
    def test_cells_that_are_called_checks_are_proposed_as_conditions(self):
        contents = kd.read_workbook(kd.demo_file("night_ferry.xlsx")).contents
        sheet = contents.sheets["Summary"]
        sheet.values |= {(9, 1): "Balance check", (9, 2): 0.0, (10, 1): "Profit", (10, 2): 0.0}
        sheet.formulas |= {(9, 2): Formula("B3-B3"), (10, 2): Formula("B3-B3")}
        book = Workbook(contents, Graph.of(contents))
        found = {item.name: item.kind for item in proposals(book)}
        self.assertEqual(found["balance_check"], "condition")
        self.assertEqual(found["profit"], "outcome")

    def test_a_result_that_only_a_check_reads_is_proposed_first(self):
        contents = kd.read_workbook(kd.demo_file("night_ferry.xlsx")).contents
        sheet = contents.sheets["Summary"]
        sheet.values |= {(9, 1): "Levelised cost", (10, 1): "Cost is plausible", (11, 1): "Twice"}
        sheet.values |= {(row, 2): 0.0 for row in (9, 10, 11)}
        sheet.formulas |= {(9, 2): Formula("B3-B3"), (10, 2): Formula("IF(B9<100,0,1)")}
        first = proposals(Workbook(contents, Graph.of(contents)))[0]
        self.assertEqual((first.name, first.why), ("levelised_cost", "only checks read it"))
        sheet.formulas |= {(11, 2): Formula("2*B9")}
        names = [item.name for item in proposals(Workbook(contents, Graph.of(contents)))]
        self.assertNotIn("levelised_cost", names)
        self.assertIn("cost_is_plausible", names)


class Lines(unittest.TestCase):
    def test_outcomes(self):
        for text, expected in {
            "Out!B1": ("", "Out!B1", {}),
            "NPV = Out!B1, EUR, at least 0": ("NPV", "Out!B1", {"unit": "EUR", "target": 0.0}),
            "Opening=B2, date, at most 47_588": (
                "Opening", "B2", {"unit": "date", "target": 47588.0, "better": "low"},
            ),
            "r = 'My plan'!B3, % a year, at least 8%": (
                "r", "'My plan'!B3", {"unit": "% a year", "target": 0.08},
            ),
            "Net sales (EUR) = B4, lower is better": ("net_sales_eur", "B4", {"better": "low"}),
        }.items():  # fmt: skip
            with self.subTest(text):
                name, cell, _, options = outcome_in(text)
                self.assertEqual((name, cell, options), expected)

    def test_drivers(self):
        for text, name, cell, kind, unit in (
            ("Price = Inputs!C4: pert 40 50 70 EUR/t", "Price", "Inputs!C4", kd.Pert, "EUR/t"),
            ("Inputs!C4: normal 1 2", "", "Inputs!C4", kd.Normal, None),
            ("Inputs!C4=normal 1 2", "", "Inputs!C4", kd.Normal, None),
            ("x = Inputs!B4:F4: uniform 1 2 % a year", "x", "Inputs!B4:F4", kd.Uniform, "% a year"),
            ("B1=student t 5 40 2", "", "B1", kd.StudentT, None),
        ):
            with self.subTest(text):
                found = driver_in(text)
                self.assertEqual((found.name, found.cell), (name, cell))
                self.assertIsInstance(found.distribution, kind)
                self.assertEqual(found.options.get("unit"), unit)

    def test_what_cannot_be_read(self):
        for read, text, words in (
            (outcome_in, "NPV = Out!B1, at leas 0", "cannot read 'at leas 0'"),
            (outcome_in, "NPV = Out!B1, EUR, USD", "states its unit twice"),
            (outcome_in, "NPV =", "names no cell"),
            (driver_in, "Price", "say 'NAME = CELL: DISTRIBUTION"),
            (driver_in, "Price = C4", "no distribution 'C4'"),
            (driver_in, "Price = C4: pert 1 2 3 4 5", "numbers are stated"),
            (driver_in, "Price = C4: prt 1 2 3", "did you mean 'pert'"),
        ):
            with self.subTest(text), self.assertRaisesRegex(KindynosError, words):
                read(text)

    def test_lists_percentiles_and_correlations_on_the_sheet(self):
        cells = {"A1": 2, "A2": 50, "A3": 5, "A4": 7, "A5": "=A1*A2+A3+A4"}
        rows = [
            ["drivers"],
            ["name", "cell", "distribution", "values", "probabilities", "P10", "P50", "P90"],
            ["Crews", "Data!A1", "discrete", "1; 2; 5", "0.5; 0.3; 0.2", None, None, None],
            ["Wage", "Data!A2", None, None, None, 40, 50, 70],
            ["Toll", "Data!A3: histogram 0 10 20 weights 3 1"],
            ["correlations"],
            ["first", "second", "value"],
            ["Crews", "wage", 0.5],
            ["Fuel = Data!A4: empirical 5 6 7 8 10 EUR"],
            ["Fuel with Wage: 0.3"],
            ["outcomes"],
            ["Cost = Data!A5, EUR, at most 120"],
        ]
        rows[4] = ["Toll = Data!A3: histogram 0 10 20 weights 3 1"]
        rows.insert(4, [None])
        for row, texts in enumerate(rows, start=1):
            for column, text in zip("ABCDEFGH", texts, strict=False):
                if text is not None:
                    cells[f"uncertain!{column}{row}"] = text
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            model = kd.load_model(path)
        stated = {name: model.quantities[name].distribution for name in ("Crews", "Toll", "Fuel")}
        self.assertEqual(stated["Crews"], kd.Discrete([1, 2, 5], [0.5, 0.3, 0.2]))
        self.assertEqual(stated["Toll"], kd.Histogram([0, 10, 20], [3, 1]))
        self.assertEqual(stated["Fuel"], kd.Empirical([5, 6, 7, 8, 10]))
        wage = model.quantities["Wage"].distribution
        np.testing.assert_allclose(wage.percentile([10, 50, 90]), [40, 50, 70], rtol=1e-6)
        pairs = {frozenset(entry.names): entry.value for entry in model.correlations}
        self.assertEqual(
            pairs, {frozenset({"Crews", "Wage"}): 0.5, frozenset({"Fuel", "Wage"}): 0.3}
        )

    def test_the_same_lines_on_the_sheet(self):
        cells = {"A1": 2, "A2": "=A1*3", "uncertain!A1": "drivers"}
        cells |= {"uncertain!A2": "Price = Data!A1: normal 2 0.1 EUR", "uncertain!A4": "outcomes"}
        cells |= {"uncertain!A5": "Sales = Data!A2, EUR, at least 6"}
        with tempfile.TemporaryDirectory() as folder:
            model = model_of(kd.read_workbook(write(Path(folder), cells)))
            cells["uncertain!A5"] = "Sales = Data!A2, at"
            wrong = write(Path(folder), cells, "wrong.xlsx")
            with self.assertRaisesRegex(
                KindynosError, "sheet 'uncertain', row 5: cannot read 'at'"
            ):
                model_of(kd.read_workbook(wrong))
        sales = model.quantities["Sales"]
        self.assertEqual((sales.unit, sales.target), ("EUR", 6.0))
        self.assertEqual(model.quantities["Price"].unit, "EUR")


class Dates(unittest.TestCase):
    def test_dates_and_years_are_shown_as_such(self):
        with tempfile.TemporaryDirectory() as folder:
            cells = {"A1": "Delay", "B1": 3, "A2": "Opening", "B2": "=47588+30*B1"}
            path = write(Path(folder), {**cells, "A3": "Year", "B3": "=2030+B1"})
            book = openpyxl.load_workbook(path)
            book["Data"]["B2"].number_format = "mmmm yyyy"
            book["Data"]["B3"].number_format = "yyyy"
            book.save(path)
            cells = ("--outcome", "Opening = Data!B2, at most 47700", "--outcome", "Data!B3")
            drivers = ("--driver", "Data!B1: normal 3 1 months", "--trials", "2000", "--seed", "1")
            shown = run("run", str(path), *cells, *drivers).stdout
        self.assertIn("it is above 5 August 2030", shown)
        self.assertRegex(shown, r"base case +14 July 2030")
        self.assertRegex(shown, r"P50 +13 July 2030 +± 0\.\d+ days")
        self.assertIn("Opening, date, target 5 August 2030", shown)
        self.assertRegex(shown, r"standard deviation +(29|30|31)\.\d+")
        self.assertRegex(shown, r"P50 +2033\.0")


if __name__ == "__main__":
    unittest.main()
