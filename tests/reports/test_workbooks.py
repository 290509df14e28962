"""Workbooks of results: their cells, worked out by the evaluator of workbooks, give our figures."""

import unittest
from unittest import mock

import numpy as np
import pandas as pd
from openpyxl import load_workbook

import kindynos as kd
from kindynos.formula.claims import CLAIMS
from kindynos.formula.functions import FUNCTIONS
from kindynos.reports.workbook.base_case import base_case
from kindynos.reports.workbook.cell_formulas import column_name
from tests.common import DEMO, Folder, investment, run

# every function of the language, and every operator
MODEL = """
[model]
name = "All"
periods = 6
start = "2028"

[given]
rate = 0.07
price = [10, 11, 12, 13.5, 14, 15]
steps = [[0, 1], [10, 2.5], [20, 7]]
rates = [0.05, 0.06, 0.07, 0.08, 0.07, 0.06]
invest = -250
small = 2.5
odd = 3.5

[drivers.volume]
distribution = "normal"
mean = 7
sd = 1

[drivers.level]
distribution = "normal"
mean = 12
sd = 1
each = "period"

[lines]
sales = "price * volume"
flow = "sales - 20"
a1 = "sum_of(rate, small, odd)"
a2 = "min(price, level) + max(price, level, 13)"
a3 = "abs(-small) + exp(rate) + log(odd) + sqrt(odd)"
a4 = "floor(-small) + 10 * ceil(-small) + 100 * floor(small) + 1000 * ceil(small)"
a5 = "round(small) + round(odd) * 10 + round(-small)"
a6 = "round(rate * 1000 / 3, 2)"
a7 = "clip(price, 11, 14)"
a7s = "stop_loss(price, 11, 2) + stop_loss(price, 10)"
a8 = "lookup(price, steps) + interpolate(price, steps)"
a9 = "lookup(small, steps)"
a10 = "sin(small) + cos(odd)"
b1 = "lowest(flow) + highest(flow) * 2 + total(flow) * 3 + average(flow) * 4 + median(flow) * 5"
b6 = "first(flow) + last(flow) * 2"
b2 = "running_total(price - 10)"
b3 = "following(price, rate) + following(price, 3, 2)"
b4 = "every_period(rate) + price"
b5 = "total(price * 2)"
b7 = "any_period(price > 13) + 10 * any_period(price > 99)"
b9 = "change(price) + change(price, 9)"
b8 = "min_so_far(flow) + max_so_far(price)"
c1 = "grow(rate)"
c2 = "grow(rates, 100, 1) * 2"
c3 = "roll_forward(100, rate, -price)"
c4 = "roll_forward(100, rates, -flow, timing='start', floor=0)"
c5 = "roll_forward(100, rates, -flow, floor=10, shortfall=True)"
c6 = "total(roll_forward(30, rate, price - 11, timing='start'))"
c7 = "previous(c7, 100) * (1 + rates) - previous(price, 1, 2)"
c8 = "previous(price, small, back=3)"
d1 = "first_period(price > 12)"
d2 = "at(price, 2.5) + at(price, 3)"
d3 = "first_period(running_total(flow) + invest > 0)"
e1 = "npv(rate, flow)"
e2 = "npv(rate, flow, invest, timing='mid')"
e3 = "npv(rate, sales - 20, invest, timing='start')"
e4 = "npv(rates, flow, invest)"
e5 = "npv(rates, flow, invest, timing='mid')"
e6 = "npv(rates, flow, timing='start')"
e7 = "irr(flow, invest)"
e8 = "irr(flow * 2 - 150)"
e9 = "npv_dated(rate, flow, invest)"
e10 = "irr_dated(flow, invest)"
e11 = "npv_dated(rate, flow, invest, on='2028-03-31') + irr_dated(flow, invest, on='2027-11-30')"
f1 = "mirr(rate, 0.05, flow, invest)"
f2 = "mirr(rate, 0.05, flow * 2 - 150)"
f3 = "payback(flow, invest)"
f4 = "payback(flow * 2 - 150)"
f5 = "discounted_payback(rate, flow, invest)"
f6 = "discounted_payback(rates, flow, invest)"
f7 = "profitability_index(rate, flow, invest)"
f8 = "equivalent_annual(rate, flow, invest)"
f10 = "straight_line(1000, 100, 4)"
f11 = "declining_balance(1000, 100, 5) + declining_balance(1000, 10, 4, 1.5)"
f12 = "sum_of_digits(1000, 100, 4)"
f13 = "interest_part(rate, 4, 1000) + 2 * principal_part(rate, 4, 1000)"
f9 = "discounted_payback(rate, flow * 2 - 150)"
g1 = "present_value(rate, 5, 100) + present_value(rate, 5.5, 100, timing='start')"
g2 = "future_value(rate, 5, 100) + future_value(rate, 5, 100, timing='start')"
g3 = "payment(rate, 8, 1000) + payment(rate, 8, 1000, timing='start')"
g4 = "capital_recovery(rate, 7)"
g5 = "levelized_cost(rate, 5.5, 300, 20, 4)"
g6 = "levelized_cost(rate, 4.5, 300, price, 4)"
g7 = "levelized_cost(rate, 6, 300, price, price / 3)"
g8 = "terminal_value(rate, 100) + terminal_value(rate, 100, 0.02)"
g9 = "value_per_share(rate, flow, 0.02, 10) + value_per_share(rate, flow, 0.02, 10, 40)"
h1 = "per_period(rate) + per_period(rate, 'simple') + per_year(rate) * per_year(rate, 'simple')"
h2 = "price * year + period"
h3 = "1 if small > 2 and not odd == 3 or rate >= 1 else 2"
h4 = "price if price != 12 else -price ** 2"
h5 = "7 // small + 7 % small + (-7) // 2 + (-7) % 3"
h6 = "-small ** 2 + 2 ** -1 - (3 - 4 - 5) / 2 / 2"
h7 = "10 < price < 14"
h8 = "periods_a_year + last"


[outcomes]
z = "e1"
"""


def opened(path):
    """Return the workbook, and the place of each name in its sheet "base case"."""
    sheet = load_workbook(path)["base case"]
    rows = {sheet.cell(row, 1).value: row for row in range(1, sheet.max_row + 1)}
    return sheet, rows


class Living(Folder):
    def test_every_function_and_operator_is_a_formula_of_cells(self):
        path = self.folder / "all.toml"
        path.write_text(MODEL)
        model = kd.load_model(path)
        of_events = {f.name for f in CLAIMS if f.parameters[0].wants == "events"}
        missing = [name for name in {*FUNCTIONS} - of_events if f"{name}(" not in MODEL]
        self.assertEqual(missing, [])
        found = model.simulate(200, seed=1)
        found.to_excel(self.folder / "all.xlsx")
        rows = base_case(found).rows.values()
        self.assertEqual([row.name for row in rows if row.how.startswith("values only")], [])
        book = kd.read_workbook(self.folder / "all.xlsx")
        self.assertTrue(book.agreement.holds, book.agreement.words)
        sheet, places = opened(self.folder / "all.xlsx")
        self.assertGreater(sum(str(c.value).startswith("=") for r in sheet for c in r), 480)
        for name, row in model.base_case().iterrows():
            stored = [
                book.value(f"'base case'!{column_name(3 + k)}{places[name]}") for k in range(7)
            ]
            known = [None if np.isnan(v) else v for v in row.tolist()]
            for one, other in zip(stored, known, strict=True):
                self.assertEqual(one is None, other is None, name)
                if other is not None and np.isfinite(other):
                    self.assertAlmostEqual(one, other, delta=1e-9 * max(1, abs(other)))

    def test_claims_have_values_only(self):
        model = kd.load_model(DEMO / "vessel_claims.toml")
        run = model.simulate(300, seed=1)
        run.to_excel(self.folder / "claims.xlsx")
        how = {row.name: row.how for row in base_case(run).rows.values()}
        self.assertNotIn("hull_now", how)
        self.assertIn("values only, no formula of cells for the events hull_now", how["all_hull"])
        self.assertIn("all_hull", how["gross"])

    def test_the_lines_follow_a_changed_cell(self):
        model = kd.load_model(DEMO / "night_ferry.toml")
        path = self.folder / "ferry.xlsx"
        model.simulate(200, seed=1).to_excel(path)
        _, places = opened(path)
        cells = {name: f"'base case'!D{places[name]}" for name in places if name}
        book = kd.read_workbook(path)
        with self.assertWarns(kd.DataWarning):
            living = book.model(
                outcomes={"value": cells["net_value"], "rate": cells["rate_of_return"]},
                given={name: cells[name] for name in ("fare", "hurdle", "load", "wage_growth")},
            )
        for change in ({"fare": 60.0}, {"hurdle": 0.03}, {"load": 0.7, "wage_growth": 0.05}):
            known = model.replace(**change).base_case()["value"]
            found = living.replace(**change).base_case()["value"]
            self.assertAlmostEqual(found["value"], known["net_value"], delta=1e-3)
            self.assertAlmostEqual(found["rate"], known["rate_of_return"], delta=1e-9)

    def test_rates_a_year_are_those_of_a_period_in_lines(self):
        model = kd.Model("m", periods=12, start="2028-01", every="month")
        model.given("growth", 0.06, convert=True, unit="% a year")
        model.outcome("end", "last(grow(growth, 100))")
        path = self.folder / "m.xlsx"
        model.simulate(200, seed=1).to_excel(path)
        book = kd.read_workbook(path)
        self.assertTrue(book.agreement.holds, book.agreement.words)
        _, places = opened(path)
        end = book.value(f"'base case'!D{places['end']}")
        self.assertAlmostEqual(end, 106.0, places=9)  # twelve months compound to the year

    def test_functions_of_python_are_values_that_say_so(self):
        model = kd.Model("m", periods=2)
        model.given("price", [3.0, 4.0])

        @model.line
        def double(price):
            return 2 * price

        model.outcome("sum", "total(double)")
        path = self.folder / "m.xlsx"
        model.simulate(200, seed=1).to_excel(path)
        sheet, places = opened(path)
        self.assertIn("a function of Python", sheet.cell(places["double"], 3).value)
        self.assertEqual([sheet.cell(places["double"], c).value for c in (5, 6)], [6, 8])
        self.assertEqual(
            sheet.cell(places["sum"], 4).value, f"=SUM($E${places['double']}:$F${places['double']})"
        )

    def test_a_rate_that_is_not_there_is_no_formula(self):
        model = kd.Model("m", periods=2)
        model.given("flow", [1.0, 2.0])
        model.outcome("rate", "irr(flow)")
        model.outcome("late", "first_period(flow > 5)")
        path = self.folder / "m.xlsx"
        model.simulate(200, seed=1).to_excel(path)
        sheet, places = opened(path)
        self.assertIn("values only", sheet.cell(places["rate"], 3).value)
        book = kd.read_workbook(path)
        self.assertTrue(book.agreement.holds, book.agreement.words)

    def test_columns_have_letters(self):
        self.assertEqual([column_name(k) for k in (25, 26, 701, 702)], ["Z", "AA", "ZZ", "AAA"])


LIVE = ("live net_value", "live rate_of_return")
DRAWN = ("percentiles", "drivers", "rows")


class Sheets(Folder):
    def test_of_a_run(self):
        model = kd.load_model(DEMO / "night_ferry.toml")
        found = model.simulate(400, seed=1, keep=["cash_flow"])
        found.to_excel(self.folder / "few.xlsx")
        found.to_excel(self.folder / "all.xlsx", trials=True)
        few, every = (load_workbook(self.folder / name) for name in ("few.xlsx", "all.xlsx"))
        self.assertEqual(
            few.sheetnames,
            [
                *("answer", "base case", *LIVE, "assumptions", "figures", *DRAWN),
                *("chosen trials", "origin"),
            ],
        )
        self.assertEqual(set(every.sheetnames) - set(few.sheetnames), {"trials"})
        self.assertEqual(every["trials"].max_row, 401)
        charts = {name for name in few.sheetnames if few[name]._charts}
        self.assertEqual(
            charts, {"live net_value", "live rate_of_return", "percentiles", "drivers", "rows"}
        )
        figures = pd.DataFrame(few["figures"].values)
        mean = figures[(figures[0] == "net_value") & (figures[1] == "mean")].iloc[0]
        self.assertEqual(mean[2], float(found["net_value"].mean))
        base = figures[figures[1] == "base case"].iloc[0]
        self.assertIsNone(base[3])  # without an error the cell is empty
        chosen = pd.DataFrame(few["chosen trials"].values)
        worst = chosen[chosen[0].astype(str).str.startswith("worst") & (chosen[1] == "net_value")]
        self.assertAlmostEqual(worst.iloc[0, 2], float(found["net_value"].values.min()), places=5)

    def test_the_histogram_holds_every_trial_once(self):
        counted = kd.Model("m")
        counted.driver("calls", kd.Poisson(60))
        counted.outcome("net_value", "calls")
        for model in (investment(), counted):
            found = model.simulate(1_000, seed=4)
            found.to_excel(self.folder / "book.xlsx")
            book = kd.read_workbook(self.folder / "book.xlsx")
            self.assertTrue(book.agreement.holds, book.agreement.words)
            sheet = load_workbook(self.folder / "book.xlsx", data_only=True)["live net_value"]
            rows = sheet.iter_rows(min_row=28, min_col=9, max_col=11, values_only=True)
            bins = [row for row in rows if row[0] is not None]
            values = found["net_value"].values
            for place, (low, high, share) in enumerate(bins):
                last = place == len(bins) - 1
                inside = (values >= low) & ((values <= high) if last else (values < high))
                self.assertAlmostEqual(share, inside.mean())
            self.assertGreater(sum(share for *_, share in bins), 0.975)
            steps = {round(high - low, 9) for low, high, _ in bins}
            self.assertEqual(len(steps), 1)

    def test_a_sheet_of_many_trials_is_short(self):
        found = investment().simulate(20_200, seed=4)
        found.to_excel(self.folder / "many.xlsx")
        sheet = load_workbook(self.folder / "many.xlsx")["live net_value"]
        self.assertLessEqual(sheet.max_row, 1_000)
        self.assertEqual(len(sheet._charts), 1)
        self.assertEqual(sheet.print_area, "'live net_value'!$A$1:$G$26")

    def test_an_outcome_with_one_value_has_no_histogram(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("y", "0 * x + 3")
        model.simulate(300, seed=1).to_excel(self.folder / "m.xlsx")
        book = load_workbook(self.folder / "m.xlsx")
        self.assertEqual(book["live y"]._charts, [])


class Cells(Folder):
    def test_sheets_are_ready_for_paper(self):
        path = self.folder / "printed.xlsx"
        investment().simulate(2_000, seed=1).to_excel(path)
        book = load_workbook(path)
        answer = book["answer"]
        self.assertEqual(
            (answer.page_setup.orientation, answer.page_setup.paperSize), ("portrait", 9)
        )
        self.assertTrue(answer.print_area.startswith("'answer'!$A$1:"))
        first = answer["A1"]
        self.assertTrue(first.alignment.wrap_text)
        self.assertIn(
            first.coordinate, {str(area).split(":")[0] for area in answer.merged_cells.ranges}
        )
        figures = book["figures"]
        self.assertEqual(figures.print_title_rows, "$1:$1")
        texts = [cell for row in figures.iter_rows(min_row=2) for cell in row[1:]]
        indents = {cell.alignment.indent for cell in texts if isinstance(cell.value, str)}
        self.assertEqual(indents, {1.0})
        for sheet in book:
            self.assertEqual(sheet.page_setup.paperSize, 9, sheet.title)

    def live_cells(self, found, cuts):
        """The chances below and above cut-offs, with their ends, as the sheet works them out."""
        path = self.folder / "live.xlsx"
        found.to_excel(path)
        book = kd.read_workbook(path)
        self.assertTrue(book.agreement.holds, book.agreement.words)
        cell = "'live net_value'!{}".format
        names = [f"{side} {part}" for side in ("below", "above") for part in ("is", "low", "high")]
        places = ("B5", "C5", "D5", "B6", "C6", "D6")
        outcomes = {
            name.replace(" ", "_"): cell(place) for name, place in zip(names, places, strict=True)
        }
        with self.assertWarns(kd.DataWarning):  # they depend on no driver
            model = book.model(outcomes=outcomes, given={"cut": cell("B2")})
        cases = [model.replace(cut=float(cut)).base_case()["value"] for cut in cuts]
        return [case[list(outcomes)].to_numpy() for case in cases]

    def test_live_cells_are_our_chances(self):
        def lacking(value):
            model = kd.Model("m")
            model.driver("flow", kd.Normal(90, 10))

            @model.line
            def raw(flow):
                return np.where(flow > 90, flow, value)

            model.outcome("net_value", "raw", missing="worst", target=95)
            return model

        cases = [(investment(), plan) for plan in ("random", "latin", "antithetic")]
        for model, plan in (*cases, (lacking(np.nan), "latin"), (lacking(-np.inf), "latin")):
            found = model.simulate(1_000, seed=4, sampling=plan)
            result = found["net_value"]
            ordered = np.sort(result.values[np.isfinite(result.values)])
            exact = [result.target, ordered[0], ordered[-1]]
            for cut, cells in zip(exact, self.live_cells(found, exact), strict=True):
                sides = (result.chance(below=cut), result.chance(above=cut))
                expected = [x for side in sides for x in (float(side), side.low, side.high)]
                np.testing.assert_allclose(cells, expected, atol=1e-9)
            cuts = np.quantile(ordered, [0.0313, 0.2222, 0.5, 0.9])
            for cut, cells in zip(cuts, self.live_cells(found, cuts), strict=True):
                self.assertAlmostEqual(cells[0], float(result.chance(below=cut)), delta=2e-3)
                self.assertAlmostEqual(cells[3], float(result.chance(above=cut)), delta=2e-3)

    def test_texts_of_users_are_no_formulas(self):
        model = kd.Model("=1+1")
        model.driver("x", kd.Normal(0, 1), unit="=cmd()", source="@sum")
        model.outcome("y", "x + 1", unit="+EUR")
        path = self.folder / "book.xlsx"
        model.simulate(300, seed=1).to_excel(path, trials=True)
        book = kd.read_workbook(path)
        texts = [f.text for sheet in book.contents.sheets.values() for f in sheet.formulas.values()]
        self.assertFalse([one for one in texts if "cmd" in one or "@" in one or one == "1+1"])
        self.assertEqual(book.value("trials!A1"), "trial")
        self.assertIn("300 trials", str(book.value("answer!A3")))


class Options(Folder):
    def ferry(self, *words):
        few = ("--trials", "300", "--seed", "1")
        return run("run", str(DEMO / "night_ferry.toml"), *few, *words)

    def test_decimal_commas_in_files(self):
        plain, comma, tab = (self.folder / name for name in ("plain", "comma", "tab"))
        with mock.patch("kindynos.reports.runs._pictures", return_value={}):  # which take the time
            self.ferry("--out", str(plain))
            self.ferry("--out", str(comma), "--out-decimal", ",")
            self.ferry("--out", str(tab), "--out-separator", "tab")
        for name in ("trials.csv", "figures.csv", "drivers.csv", "percentiles.csv"):
            known = pd.read_csv(plain / name)
            pd.testing.assert_frame_equal(pd.read_csv(comma / name, sep=";", decimal=","), known)
            pd.testing.assert_frame_equal(pd.read_csv(tab / name, sep="\t"), known)
        self.assertIn("fare;given;54,0;EUR", (comma / "assumptions.csv").read_text())
        for words in (("--out-decimal", ",", "--out-separator", ","), ("--out-separator", "ab")):
            refused = self.ferry("--out", str(self.folder / "none"), *words)
            self.assertEqual(refused.returncode, 2)
            self.assertIn("separator", refused.stderr)
        self.assertFalse((self.folder / "none").exists())

    def test_digits_round_but_add_none(self):
        usual, two = self.ferry().stdout, self.ferry("--digits", "2").stdout
        self.assertIn("6.8 million", two)
        self.assertRegex(two, r"P50 +\d,\d00,000")
        self.assertNotRegex(two, r"\d\.\d %")
        self.assertEqual(self.ferry("--digits", "12").stdout, usual)
        self.assertEqual(self.ferry("--digits", "0").returncode, 2)

    def test_quiet_writes_files_and_prints_nothing(self):
        answer = self.ferry("--quiet", "--out", str(self.folder / "out"))
        self.assertEqual((answer.returncode, answer.stdout, answer.stderr), (0, "", ""))
        self.assertTrue((self.folder / "out" / "summary.json").exists())

    def test_the_command_writes_all_trials_if_asked(self):
        path = self.folder / "ferry.xlsx"
        self.ferry("--excel", str(path), "--excel-trials", "--quiet")
        self.assertEqual(load_workbook(path)["trials"].max_row, 301)


if __name__ == "__main__":
    unittest.main()
