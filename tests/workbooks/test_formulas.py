"""Formulas against the values that another spreadsheet program stored, and against the standard
where that program goes its own way.
"""

import csv
import math
import unittest
from pathlib import Path

from kindynos.errors import FormulaError
from kindynos.workbooks.formulas import parse, template
from kindynos.workbooks.functions.catalogue import FUNCTIONS
from tests.workbooks import test_further_functions
from tests.workbooks.common import worked_out

STORED = Path(__file__).with_name("other_program.csv")
# where the other program differs: what we give, and why
DIFFERENT = {
    '=TRUE>"z"': (True, "it has no logicals of their own: they are numbers there"),
    '=SUM(C1:C6,"3",TRUE)': (26.0, "it does not convert a text in a sum"),
    '=1E20&""': ("100000000000000000000", "it writes an exponent of 3 digits"),
    '=1.5E-10&""': ("1.5E-10", "it writes small numbers out"),
    "=(-8)^(1/3)": ("#NUM!", "it takes odd roots of negative numbers"),
    "=TRUE&FALSE": ("TRUEFALSE", "logicals are numbers there"),
    '=TEXT(0,"#.##")': (".", "it leaves the point out"),
    "=TYPE(TRUE)": (4.0, "logicals are numbers there"),
    '=CONCATENATE("a",1,TRUE)': ("a1TRUE", "logicals are numbers there"),
    "=_xlfn.XLOOKUP(3,C1:C6,E1:E6)": (25.0, "this version does not know it"),
    '=_xlfn.XLOOKUP(99,C1:C6,E1:E6,"none")': ("none", "this version does not know it"),
    "=_xlfn.XLOOKUP(3.5,C1:C6,E1:E6,0,-1)": (25.0, "this version does not know it"),
    "=_xlfn.XLOOKUP(3.5,C1:C6,E1:E6,0,1)": (31.5, "this version does not know it"),
    "=_xlfn.XMATCH(3,C1:C6)": (3.0, "this version does not know it"),
    "=_xlfn.XMATCH(3.5,C1:C6,1)": (4.0, "this version does not know it"),
}


# this version does not know them either: see test_moving
NEWER = {"SEQUENCE", "UNIQUE", "SORT", "SORTBY", "FILTER", "TAKE", "DROP", "VSTACK", "HSTACK"}


class AgainstAnotherProgram(unittest.TestCase):
    def test_every_formula_has_the_value_that_is_stored(self):
        with STORED.open(newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertGreater(len(rows), 550)
        for row, ours in zip(rows, worked_out([row["formula"] for row in rows]), strict=True):
            with self.subTest(row["formula"]):
                if row["formula"] in DIFFERENT:
                    self.assertEqual(ours, DIFFERENT[row["formula"]][0])
                    continue
                self.assert_same(ours, row["kind"], row["value"])

    def assert_same(self, ours, kind, stored):
        if kind == "error":
            # it knows more errors than a file can hold, and stores #VALUE! for those
            self.assertTrue(ours == stored or (stored == "#VALUE!" and str(ours)[:1] == "#"), ours)
        elif kind == "number":
            self.assertIsInstance(ours, float | bool)
            number = float(stored)
            self.assertTrue(math.isclose(ours, number, rel_tol=1e-9, abs_tol=1e-12), ours)
        else:
            self.assertEqual(str(ours), stored)

    def test_the_stored_values_use_every_function(self):
        further = (test_further_functions.SECURITIES, test_further_functions.FIGURES)
        text = STORED.read_text() + " ".join(formula for table in further for formula in table)
        missing = [
            name
            for name in FUNCTIONS
            if f"{name}(" not in text and not name.startswith("_") and name not in NEWER | {"FALSE"}
        ]
        self.assertEqual(missing, [])
        self.assertGreaterEqual(len(FUNCTIONS), 150)


class Rules(unittest.TestCase):
    def check(self, expected):
        for (text, value), ours in zip(expected.items(), worked_out(list(expected)), strict=True):
            with self.subTest(text):
                if isinstance(value, float) and isinstance(ours, float):
                    self.assertTrue(math.isclose(ours, value, rel_tol=1e-12, abs_tol=1e-14), ours)
                else:
                    self.assertEqual(ours, value)

    def test_what_binds_closer(self):
        self.check(
            {"=-3^2": 9.0, "=2^3^2": 64.0, "=10-4-3": 3.0, "=2+3&4": "54", "=1<2=TRUE": True}
        )
        self.check({"=-50%": -0.5, "=2^-1": 0.5, "=4*25%": 1.0, '="a"&1+1': "a2"})

    def test_errors_spread_and_are_caught(self):
        self.check({"=1/0+1": "#DIV/0!", "=SUM(1,NA())": "#N/A", '=1+"x"': "#VALUE!"})
        self.check({"=IFERROR(1/0,7)": 7.0, "=IF(TRUE,1,1/0)": 1.0, "=AND(FALSE,1/0)": "#DIV/0!"})
        self.check({"=NoSuchName+1": "#NAME?", "=Nowhere!A1": "#REF!", "=C1:C2 E1:E2": "#NULL!"})

    def test_sums_that_are_almost_nothing_are_nothing(self):
        self.check({"=0.1+0.2=0.3": True, "=1*(0.5-0.4-0.1)=0": True, "=1=1+1E-12": False})
        self.check({"=INT(4.35*100)": 435.0, "=ROUND(1.005,2)": 1.01, "=MOD(1,0.1)": 0.0})
        self.check({"=1=1+3E-15": True, "=1=1+5E-15": False, "=(1+3E-15)>1": False})
        whole = {"=9007199254740991=9007199254740990": False}  # whole numbers are compared exactly
        self.check(whole)

    def test_kinds_are_compared_in_their_order(self):
        self.check({'=1<"a"': True, '="Z"<TRUE': True, '="a"="A"': True, '="a"<"B"': True})
        self.check({'=A1=""': True, "=A1=0": True, "=A1=FALSE": True})

    def test_arrays_and_areas(self):
        self.check({"=SUM({1,2;3,4}*2)": 20.0, "=SUMPRODUCT((C1:C6>2)*E1:E6)": 126.5})
        self.check(
            {"=INDEX({1,2;3,4},2,1)": 3.0, "=SUM(C1:C3,E:E)": 437.5, "=ROWS(C:C)": 1048576.0}
        )
        # a formula takes the place beside it of a column, and none where there is none
        self.check({"=C1:C6": "#VALUE!", "=SUM(INDEX(C1:E6,0,1))": 22.0})

    def test_text_and_numbers(self):
        self.check({'="3"*"4"': 12.0, '=10/4&""': "2.5", '=1/3&""': "0.333333333333333"})
        self.check({'="12%"+0': 0.12, '="2027-03-15"+0': 46461.0, "=LEN(0.1+0.2)": 3.0})

    def test_what_cannot_be_read_says_where(self):
        for text, words in (
            ("=1+", "cannot be read at 'the end'"),
            ("=(1", "')' is missing"),
            ("=SUM(1", "a bracket is not closed"),
            ("={1,2;3}", "differ in length"),
            ("=1 ! 2", "cannot be read"),
            ("=" + "(" * 90 + "1" + ")" * 90, "nested too deeply"),
            ("=LET(1,2,3)", "LET takes names and values in turn"),
        ):
            with (
                self.subTest(text),
                self.assertRaisesRegex(FormulaError, words.replace(")", r"\)")),
            ):
                parse(text, 1, 1)
        found = worked_out(["=NOSUCH(1)", "=SUM(1,2", "=PMT(1)"])
        self.assertIn("NOSUCH is not known", found[0])
        self.assertIn("PMT takes 3 to 5 arguments, not 1", found[2])

    def test_copies_have_one_template(self):
        self.assertEqual(template("=B2*$C$1+LOG10(B2)", 2, 3), template("=B9*$C$1+LOG10(B9)", 9, 3))
        self.assertNotEqual(template("=B2*C1", 2, 3), template("=B2*C2", 2, 3))
        self.assertNotEqual(template('=B2&"B2"', 2, 3), template('=B3&"B3"', 3, 3))
        self.assertNotEqual(template("=SUM(A:A)", 1, 2), template("=SUM(A:A)", 1, 3))
        self.assertEqual(parse("=SUM(A:A)", 5, 2), parse("=SUM(A:A)", 9, 2))


if __name__ == "__main__":
    unittest.main()
