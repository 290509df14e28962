"""References that move with what is drawn, arrays whose size changes by trial, and spilled arrays,
each trial against the workbook with the drawn values written into it.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import openpyxl
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.formula import ArrayFormula

import kindynos as kd
from kindynos.errors import ModelError
from tests.workbooks.common import calculation, worked_out, write

PLACES = np.array([1.0, 2.0, 3.0, 2.0, 1.0])
# the case is A1; in rows 3 to 10 column A holds 30, 40, ... and B twice that and the case
PLAN: dict[str, object] = {"A1": 1, **{f"A{row}": 10 * row for row in range(3, 11)}}
PLAN |= {f"B{row}": f"=A{row}*2+$A$1" for row in range(3, 11)}
PLAN |= {"D1": '=CHOOSE(A1,"Jan","Feb","Mar")', "Jan!B5": "=Data!A1+100", "Feb!B5": 200}
PLAN |= {"Mar!B5": 300, "E1": 7}


def line(row):
    return 20 * row + PLACES


def first(count, row=3):
    """The sum of the first lines from a row on, in each trial of its own count."""
    return sum(np.where(k < count, line(row + k), 0.0) for k in range(4))


MOVED = {
    "OFFSET(B3,A1,0)": line(3 + PLACES),
    "OFFSET(C20,-20+A1+2,-1)": line(2 + PLACES),
    "SUM(B3:INDEX(B3:B10,A1))": first(PLACES),
    "SUM(OFFSET(B3,0,0,A1,1))": first(PLACES),
    "AVERAGE(OFFSET(B3,A1-1,0,2,1))": (line(2 + PLACES) + line(3 + PLACES)) / 2,
    'INDIRECT("B"&A1+2)': line(2 + PLACES),
    'SUM(INDIRECT("B3:B"&A1+2))': first(PLACES),
    "SUM(CHOOSE(A1,B3:B4,B5:B5,A3:A4))": np.select(
        [PLACES == 1, PLACES == 2], [line(3) + line(4), line(5)], 70
    ),
    "SUM(IF(A1>2,A3:A5,7))": np.where(PLACES > 2, 120.0, 7.0),
    "COUNT(IF(A1>2,A3:A5,A3:A6))": np.where(PLACES > 2, 3.0, 4.0),
    "ROWS(IF(A1>2,A3:A5,A3:A6))": np.where(PLACES > 2, 3.0, 4.0),
    "ROWS(CHOOSE(A1,B3:B4,B5:B5,A3:A4))": np.where(PLACES == 2, 1.0, 2.0),
    "ROWS(FILTER(A3:A10,A3:A10>20*A1))": sum(
        (10 * row > 20 * PLACES) * 1.0 for row in range(3, 11)
    ),
    "COLUMNS(SEQUENCE(2,A1))": PLACES,
    "ROWS(TAKE(A3:A10,A1+1))": PLACES + 1,
    "Win*2": 2 * line(3 + PLACES),
    "IFERROR(OFFSET(A3,-A1,0)+1,99)": np.select([PLACES == 1, PLACES == 2], [1, PLACES + 1], 99),
    'SUM(INDIRECT(D1&"!B5"))': np.select([PLACES == 1, PLACES == 2], [101, 200], 300),
    "SUMPRODUCT(OFFSET(A3,0,0,A1,1),OFFSET(B3,0,0,A1,1))": sum(
        np.where(k < PLACES, 10 * (3 + k) * line(3 + k), 0) for k in range(3)
    ),
    "ROUND(OFFSET(B3,A1,0)/7,2)": np.round(line(3 + PLACES) / 7, 2),
    'COUNTIF(OFFSET(A3,0,0,A1,1),">30")': PLACES - 1,
    "SUM(Jan:Mar!B5)": 600 + PLACES,
    "SUM(FILTER(A3:A10,A3:A10>20*A1))": sum(
        np.where(10 * row > 20 * PLACES, 10 * row, 0) for row in range(3, 11)
    ),
    "SUM(FILTER(A3:A10,A3:A10>20*A1)*2)": 2
    * sum(np.where(10 * row > 20 * PLACES, 10 * row, 0) for row in range(3, 11)),
    "SUM(SEQUENCE(A1))": PLACES * (PLACES + 1) / 2,
    "LET(x,A1*2,y,x+1,x*y)": 2 * PLACES * (2 * PLACES + 1),
    "LET(_xlpm.case,A1,OFFSET(B3,_xlpm.case,0)+_xlpm.case)": line(3 + PLACES) + PLACES,
}


class Moving(unittest.TestCase):
    def evaluated(self, formulas, cells=PLAN, names=None):
        cells = {**cells, **{f"H{row}": "=" + text for row, text in enumerate(formulas, start=1)}}
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            book = openpyxl.load_workbook(path)
            for name, text in (names or {}).items():
                book.defined_names[name] = DefinedName(name, attr_text=text)
            book.save(path)
            outputs = {f"h{row}": f"Data!H{row}" for row in range(1, len(formulas) + 1)}
            whole = calculation(path, {"case": "Data!A1"}, outputs)
            found = whole.evaluate(list(outputs), {"case": PLACES}, len(PLACES))
        return {text: found[name] for text, name in zip(formulas, outputs, strict=True)}

    def test_each_trial_takes_the_cells_at_its_own_place(self):
        found = self.evaluated(list(MOVED), names={"Win": "OFFSET(Data!$B$3,Data!$A$1,0)"})
        for text, expected in MOVED.items():
            with self.subTest(text):
                np.testing.assert_allclose(found[text], expected, rtol=1e-12)

    def test_a_line_that_picks_from_its_own_row(self):
        """Nothing is a circle that is none in any trial: the live case stands beside the cases."""
        cells = {
            "A1": 1,
            "B5": "=OFFSET(B5,0,A1)",
            "C5": 10,
            "D5": "=C5*A1",
            "E5": "=D5+B9",
            "B9": 1,
        }
        found = self.evaluated(["B5+0"], cells)["B5+0"]
        np.testing.assert_array_equal(found, [10, 20, 31, 20, 10])
        with self.assertRaisesRegex(ModelError, "Data!B5 refers in some trials to Data!E5"):
            self.evaluated(["B5+0"], {**cells, "E5": "=B5+1"})

    def test_a_draw_in_let_is_one_draw(self):
        with tempfile.TemporaryDirectory() as folder:
            book = kd.read_workbook(write(Path(folder), {"A1": "=LET(x,RAND(),x-x)"}))
            run = book.model(outcomes={"gap": "Data!A1"}).simulate(50, seed=1)
        np.testing.assert_array_equal(run["gap"].values, 0.0)

    def test_sizes_that_change_are_refused_where_they_would_fill_cells(self):
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), {"A1": 2, "B1": 5, "B2": 6, "B3": 7, "D1": "=D9"})
            book = openpyxl.load_workbook(path)
            for place, text in (("C1:C3", "=SORT(B1:B3,1,-1)*A1"), ("E1:E2", "=SEQUENCE(A1)")):
                corner = place.split(":")[0]
                book["Data"][corner] = ArrayFormula(place, text)
            book["Data"]["F1"] = "=SUM(_xlfn.ANCHORARRAY(C1))"
            book["Data"]["F2"] = "=SUM(C1#)+MAX(C1#)"
            book.save(path)
            whole = calculation(
                path, {"a": "Data!A1"}, {"f": "Data!F1", "g": "Data!F2", "e": "Data!E2"}
            )
            given = {"a": np.array([1.0, 3.0])}
            found = whole.evaluate(["f", "g"], given, 2)
            np.testing.assert_array_equal(found["f"], [18.0, 54.0])
            np.testing.assert_array_equal(found["g"], [25.0, 75.0])
            with self.assertRaisesRegex(ModelError, "Data!E1 fills another number of cells"):
                whole.evaluate(["e"], given, 2)


class Arrays(unittest.TestCase):
    def test_functions_that_the_other_program_does_not_know(self):
        """Answers by hand, of C1:C6 = 1, 2, 3, 4, 5, 7, of E1:E6 = 10, 40, 25, 31.5, 18, 52 and of
        six words.
        """
        expected = {
            "=SUM(SEQUENCE(3,2,10,5))": 135.0,
            "=INDEX(SEQUENCE(3,2,10,5),3,1)": 30.0,
            "=SEQUENCE(0)": "#VALUE!",
            "=SEQUENCE(1000000,1000)": "#NUM!",
            '=TEXTJOIN("|",TRUE,SORT(D1:D6))': "apple|banana|berry|lemon|pear|plum",
            "=INDEX(SORT(C1:E6,3,-1),1,1)": 7.0,
            "=INDEX(SORT(C1:E6,3),2,2)": "lemon",
            "=INDEX(SORT({3,1,2},1,1,TRUE),1,3)": 3.0,
            "=INDEX(SORTBY(D1:D6,E1:E6,-1),2)": "banana",
            "=INDEX(SORTBY({1;2;3;4},{1;0;1;0},1,{5;6;7;8},-1),1)": 4.0,
            '=COUNTA(UNIQUE({"a";"A";"b";"a"}))': 2.0,
            '=UNIQUE({"a";"A";"b"},FALSE,TRUE)': "b",
            "=COLUMNS(UNIQUE({1,2,1},TRUE))": 2.0,
            "=SUM(FILTER(E1:E6,C1:C6>2))": 126.5,
            '=FILTER(E1:E6,C1:C6>9,"none")': "none",
            "=FILTER(E1:E6,C1:C6>9)": "#VALUE!",
            "=SUM(FILTER({1,2,3},{TRUE,FALSE,TRUE}))": 4.0,
            "=SUM(TAKE(E1:E6,2))": 50.0,
            "=SUM(TAKE(E1:E6,-2))": 70.0,
            "=SUM(TAKE(C1:E6,2,1))": 3.0,
            "=TAKE(E1:E6,0)": "#VALUE!",
            "=SUM(DROP(E1:E6,2))": 126.5,
            "=SUM(DROP(E1:E6,-5))": 10.0,
            "=SUM(VSTACK(C1:C2,E1:E2))": 53.0,
            "=COLUMNS(HSTACK(C1:C2,E1:E2))": 2.0,
            "=HSTACK(C1:C2,E1:E3)": "#VALUE!",
            "=LET(a,2,b,a*3,LET(a,b+1,a*a))": 49.0,
        }
        for text, ours in zip(expected, worked_out(list(expected)), strict=True):
            with self.subTest(text):
                self.assertEqual(ours, expected[text])

    def test_let_is_bounded(self):
        doubled = "".join(f"x{k}_,x{k - 1}_+x{k - 1}_," for k in range(1, 40))
        (found,) = worked_out([f"=LET(x0_,1,{doubled}x39_)"])
        self.assertIn("LET makes more than 20,000 parts", found)

    def test_totals_leave_totals_out(self):
        cells = {"I1": 2, "I2": 3, "I3": "=SUBTOTAL(9,I1:I2)", "I4": "=1/0", "I5": 5}
        texts = ["=SUBTOTAL(9,I1:I3)", "=AGGREGATE(9,3,I1:I5)", "=AGGREGATE(9,6,I1:I5)"]
        self.assertEqual(worked_out(texts, cells), [5.0, 10.0, 15.0])


if __name__ == "__main__":
    unittest.main()
