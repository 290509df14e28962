"""Units of calculations without a formula: how functions of Python and workbooks scale."""

import unittest

import numpy as np
import openpyxl

import kindynos as kd
from kindynos.model.unit_findings import unit_review
from kindynos.workbooks.files import model_of
from tests.common import Folder
from tests.workbooks.common import write

UNITS = {
    "cups": "cups a day", "days": "days a season", "price": "EUR a cup", "cost": "EUR a cup",
    "fixed": "EUR",
}  # fmt: skip
BASE = {"cups": 90.0, "days": 150.0, "price": 4.2, "cost": 1.5, "fixed": 25_000.0}


def findings(function, **units):
    """What is found in a kiosk whose profit is a function."""
    model = kd.Model("Kiosk")
    for name, value in BASE.items():
        unit = {**UNITS, **units}[name]
        model.driver(name, kd.Uniform(0.9 * value, 1.1 * value), unit=unit)
    function.__name__ = "profit"
    model.outcome(unit=units.get("profit", "EUR"))(function)
    return unit_review(model.compiled()).found


class Functions(unittest.TestCase):
    def test_right_ones_are_silent(self):
        def plain(days, cups, price, cost, fixed):
            return days * cups * (price - cost) - fixed

        def with_a_constant(days, cups, price, cost, fixed):
            return days * cups * (price - cost) - fixed - 3000.0

        def with_brackets(days, cups, price, cost, fixed):
            profit = days * cups * (price - cost) - fixed
            return profit - np.where(profit > 10_000, 0.2 * (profit - 10_000), 0)

        def with_a_cap(days, cups, price, cost, fixed):
            return days * np.minimum(cups, 120) * (price - cost) - fixed

        def in_whole_cups(days, cups, price, cost, fixed):
            return np.floor(days * cups * (price - cost)) - fixed

        for function in (plain, with_a_constant, with_brackets, with_a_cap, in_whole_cups):
            label = function.__name__
            with self.subTest(label):
                self.assertEqual(findings(function), [])

    def test_a_figure_inside_may_have_any_unit(self):
        """Whoever writes the price into the function has no unit for it."""
        model = kd.Model("Kiosk")
        model.driver("cups", kd.Uniform(80, 100), unit="cups")
        model.driver("fixed", kd.Uniform(80, 100), unit="EUR")

        @model.outcome(unit="EUR")
        def profit(cups, fixed):
            return cups * 4.2 - fixed

        self.assertEqual(unit_review(model.compiled()).found, [])

    def test_wrong_ones_are_found_with_what_would_mend_them(self):
        def right(days, cups, price, cost, fixed):
            return days * cups * (price - cost) - fixed

        def without_days(days, cups, price, cost, fixed):
            return cups * (price - cost) - fixed

        for function, units, words in (
            (right, {"fixed": "USD"}, "it would if fixed (USD) had EUR in its unit"),
            (right, {"cost": "USD a cup"}, "it would if cost (USD a cup) had EUR"),
            (without_days, {}, "does not scale with time"),
        ):
            with self.subTest(units):
                (finding,) = findings(function, **units)
                self.assertEqual(finding.name, "profit")
                self.assertIn(words, finding.text)


class Workbooks(Folder):
    def test_a_price_in_a_cell_without_a_name_may_have_any_unit(self):
        cells = {"A1": "Volume", "B1": "kt", "C1": 10, "A2": "Price", "B2": "EUR/t", "C2": 50}
        cells |= {"A3": "Sales", "B3": "EUR", "C3": "=C1*C2"}
        book = kd.read_workbook(write(self.folder, cells))
        model = book.model(
            outcomes={"sales": "Data!C3"}, drivers={"volume": ("Data!C1", kd.Normal(10, 1))}
        )
        self.assertEqual(unit_review(model.compiled()).found, [])

    def found(self, **units):
        book = openpyxl.load_workbook(kd.demo_file("night_ferry.xlsx"))
        for row in book["uncertain"].iter_rows():
            if row[0].value in units:
                column = 3 if row[2].value in ("pert", "beta", "normal", "lognormal") else 2
                row[column].value = units[row[0].value]
        path = self.folder / "ferry.xlsx"
        book.save(path)
        return unit_review(model_of(kd.read_workbook(path)).compiled()).found

    def test_a_wrong_currency_in_the_ferry_s_workbook(self):
        self.assertEqual(self.found(), [])
        for name, unit in (
            ("vessel", "USD"),
            ("crew", "USD a year"),
            ("port_fees", "USD a year"),
            ("energy", "USD/kWh"),
            ("fare", "USD"),
        ):
            with self.subTest(name):
                found = self.found(**{name: unit})
                self.assertIn(f"if {name} ({unit}) had", " ".join(item.text for item in found))


if __name__ == "__main__":
    unittest.main()
