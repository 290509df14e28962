"""Securities against published examples, and functions that cut areas and texts, choose rows of
tables and test counts.
"""

import tempfile
import unittest
from pathlib import Path

import openpyxl
from scipy import stats

from kindynos.workbooks.agreement import recalculated
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.reader import read_contents
from tests.workbooks.common import worked_out, write

# published examples of the standard's functions
SECURITIES = {
    "PRICE(DATE(2008,2,15),DATE(2017,11,15),0.0575,0.065,100,2,0)": 94.634361621,
    "YIELD(DATE(2008,2,15),DATE(2016,11,15),0.0575,95.04287,100,2,0)": 0.065,
    "DURATION(DATE(2018,7,1),DATE(2048,1,1),0.08,0.09,2,1)": 10.919145282,
    "MDURATION(DATE(2008,1,1),DATE(2016,1,1),0.08,0.09,2,1)": 5.7356698139,
    "ACCRINT(DATE(2008,3,1),DATE(2008,8,31),DATE(2008,5,1),0.1,1000,2,0)": 16.666666667,
    "ACCRINTM(DATE(2008,4,1),DATE(2008,6,15),0.1,1000,3)": 20.547945205,
    "DISC(DATE(2018,7,1),DATE(2048,1,1),97.975,100,1)": 0.00068638416912,
    "INTRATE(DATE(2008,2,15),DATE(2008,5,15),1000000,1014420,2)": 0.05768,
    "RECEIVED(DATE(2008,2,15),DATE(2008,5,15),1000000,0.0575,2)": 1014584.6544,
    "PRICEDISC(DATE(2008,2,16),DATE(2008,3,1),0.0525,100,2)": 99.795833333,
    "YIELDDISC(DATE(2008,2,16),DATE(2008,3,1),99.795,100,2)": 0.052822571987,
    "TBILLPRICE(DATE(2008,3,31),DATE(2008,6,1),0.09)": 98.45,
    "TBILLYIELD(DATE(2008,3,31),DATE(2008,6,1),98.45)": 0.091416962925,
    "TBILLEQ(DATE(2008,3,31),DATE(2008,6,1),0.0914)": 0.094151493566,
    "COUPNUM(DATE(2007,1,25),DATE(2008,11,15),2,1)": 4,
    "COUPPCD(DATE(2011,1,25),DATE(2011,11,15),2,1)-DATE(2010,11,15)": 0,
    "COUPNCD(DATE(2011,1,25),DATE(2011,11,15),2,1)-DATE(2011,5,15)": 0,
    "COUPDAYS(DATE(2011,1,25),DATE(2011,11,15),2,1)": 181,
    "COUPDAYBS(DATE(2011,1,25),DATE(2011,11,15),2,1)": 71,
    "COUPDAYSNC(DATE(2011,1,25),DATE(2011,11,15),2,1)": 110,
    # a yield at the price of that yield, and what one period alone is worth
    "YIELD(DATE(2028,1,15),DATE(2031,3,31),0.04,PRICE(DATE(2028,1,15),DATE(2031,3,31),0.04,"
    "0.0325,100,4,3),100,4,3)": 0.0325,
    "PRICE(DATE(2028,1,1),DATE(2028,7,1),0.06,0.05,100,2,0)": 103 / 1.025,
}
# of C1:E6, whose rows are a number, a fruit and a price; TABLE has headings over the same
FIGURES = {
    "SUM(CHOOSECOLS(C1:E6,3))": 176.5,
    "INDEX(CHOOSEROWS(C1:E6,-1,1),1,2)": "plum",
    "SUM(TOCOL(C1:C6))": 22,
    "INDEX(TOROW(C1:D2,0,TRUE),1,2)": 2,
    "INDEX(WRAPROWS(C1:C6,4),2,2)": 7,
    "IFERROR(INDEX(WRAPROWS(C1:C6,4),2,3),-1)": -1,
    "INDEX(WRAPCOLS(C1:C6,4,0),4,2)": 0,
    "SUM(EXPAND(C1:C2,3,2,10))": 43,
    'TEXTBEFORE("a-b-c","-",2)': "a-b",
    'TEXTBEFORE("a-b-c","-",-1)': "a-b",
    'TEXTAFTER("a-b-c","-")': "b-c",
    'TEXTAFTER("aXbxc","x",1)': "c",
    'TEXTAFTER("aXbxc","x",1,TRUE)': "bxc",
    'TEXTAFTER("abc","-",1,FALSE,FALSE,"none")': "none",
    'INDEX(TEXTSPLIT("1,2;3,4",",",";"),2,1)': "3",
    'COUNTA(TEXTSPLIT("a,,b",",",,TRUE))': 2,
    'HYPERLINK("http://example.invalid","our list")': "our list",
    "SUMX2MY2(C1:C3,C4:C6)": 1 + 4 + 9 - 16 - 25 - 49,
    "SUMX2PY2(C1:C3,C4:C6)": 1 + 4 + 9 + 16 + 25 + 49,
    "PROB({0,1,2,3},{0.2,0.3,0.1,0.4},1,3)": 0.8,
    "PROB({0,1,2,3},{0.2,0.3,0.1,0.4},2)": 0.1,
    "GAUSS(2)": stats.norm.cdf(2) - 0.5,
    "FISHER(0.75)": 0.9729550745,
    "FISHERINV(0.9729550745)": 0.75,
    "CHISQ.TEST({58,35;11,25;10,23},{45.35,47.65;17.56,18.44;16.09,16.91})": 0.000308192,
    "CHITEST({12,8,10},{10,10,10})": stats.chi2.sf(0.8, 2),
    'DSUM(L1:N7,"price",L10:M11)': 31.5 + 18,
    'DCOUNT(L1:N7,"price",L10:M12)': 3,
    "DAVERAGE(L1:N7,3,L10:M11)": (31.5 + 18) / 2,
    'DMAX(L1:N7,"Price",L10:L11)': 52,
    'DMIN(L1:N7,"price",L10:L11)': 18,
    'DGET(L1:N7,"fruit",L13:L14)': "pear",
    'DCOUNTA(L1:N7,"fruit",L10:L11)': 3,
    'DPRODUCT(L1:N7,"number",L10:M11)': 20,
    'DVARP(L1:N7,"price",L10:M11)': 6.75**2,
    'DSTDEV(L1:N7,"price",L10:M11)': 6.75 * 2**0.5,
    'DSTDEVP(L1:N7,"price",L10:M11)': 6.75,
    'DVAR(L1:N7,"price",L10:M11)': 6.75**2 * 2,
}
ERRORS = {
    "CHOOSECOLS(C1:E6,4)": "#VALUE!",
    "WRAPROWS(C1:C6,0)": "#NUM!",
    "EXPAND(C1:C6,2)": "#VALUE!",
    'TEXTBEFORE("abc","-")': "#N/A",
    "PROB({0,1},{0.2,0.3},1)": "#NUM!",
    "FISHER(1)": "#NUM!",
    "PRICE(DATE(2017,1,1),DATE(2016,1,1),0.05,0.05,100,2)": "#NUM!",
    "PRICE(DATE(2017,1,1),DATE(2018,1,1),0.05,0.05,100,3)": "#NUM!",
    'DSUM(L1:N7,"cost",L10:M11)': "#VALUE!",
    'DGET(L1:N7,"fruit",L10:L11)': "#NUM!",
}
TABLE = {"L1": "number", "M1": "fruit", "N1": "price"}
TABLE |= {
    f"{letter}{row + 1}": f"={source}{row}"
    for row in range(1, 7)
    for letter, source in zip("LMN", "CDE", strict=True)
}
TABLE |= {"L10": "number", "M10": "price", "L11": ">3", "M11": "<50", "M12": 10}
TABLE |= {"L13": "number", "L14": 3}


OF_EACH = {  # by hand, of the list of prices 10, 40, 25, 31.5, 18, 52 in E1:E6
    "SUM(MAP(E1:E4,LAMBDA(p,p*2)))": 213,
    "SUM(MAP(C1:C4,E1:E4,LAMBDA(a,b,IF(a>2,b,0))))": 56.5,
    "REDUCE(0,E1:E6,LAMBDA(a,v,a+v^2))": 6345.25,
    "REDUCE(1,E1:E6,LAMBDA(a,v,IF(v>30,a*v,a)))": 40 * 31.5 * 52,
    "SUM(SCAN(0,E1:E3,LAMBDA(a,v,a+v)))": 10 + 50 + 75,
    "SUM(BYROW(C1:E3,LAMBDA(r,MAX(r))))": 75,
    "MAX(BYCOL($A$8:$E$9,LAMBDA(c,SUM(c))))": 255,
    "SUM(MAKEARRAY(3,2,LAMBDA(i,j,i*10+j)))": 129,
    "SUM(MAP({1,2;3,4},LAMBDA(_xlpm.x,_xlpm.x^2)))": 30,
    'CELL("row",E3)+CELL("col",E3)': 8,
    'CELL("contents",E3)': 25,
    'CELL("address",E3)': "$E$3",
    "SHEETS()": 1,
    "SHEETS(E3)": 1,
}


class Hidden(unittest.TestCase):
    def test_totals_leave_out_rows_that_are_not_shown(self):
        with tempfile.TemporaryDirectory() as folder:
            cells = {f"A{row}": 10.0**row for row in range(1, 7)}
            totals = (
                "SUBTOTAL(9,A1:A6)",
                "SUBTOTAL(109,A1:A6)",
                "AGGREGATE(9,5,A1:A6)",
                "AGGREGATE(9,4,A1:A6)",
                "SUM(A1:A6)",
                "SUBTOTAL(109,A1:A6)+A5",
            )
            cells |= {f"B{row}": f"={total}" for row, total in enumerate(totals, start=1)}
            path = write(Path(folder), cells)
            book = openpyxl.load_workbook(path)
            sheet = book["Data"]
            for row in (2, 5):
                sheet.row_dimensions[row].hidden = True
            for filtered, first in ((None, 1_111_110), ("A3:A6", 1_011_110)):
                sheet.auto_filter.ref = filtered
                book.save(path)
                graph = Graph.of(read_contents(path))
                numbers = [graph.numbers["Data", row, 2] for row in range(1, 7)]
                values, _ = recalculated(graph, numbers)
                shown = 1_011_010
                expected = [first, shown, shown, 1_111_110, 1_111_110, shown + 100_000]
                self.assertEqual([values[n] for n in numbers], expected)


class Further(unittest.TestCase):
    def test_what_is_done_with_each_cell(self):
        found = worked_out([f"={formula}" for formula in OF_EACH])
        for (formula, wanted), value in zip(OF_EACH.items(), found, strict=True):
            with self.subTest(formula):
                self.assertEqual(value, wanted)
        for formula, words in {
            "=MAP(E1:E4,LAMBDA(a,b,a))": "takes 1 names, not 2",
            "=MAP(E1:E4,E1:E3,LAMBDA(a,b,a))": "differ in size",
            "=MAP(OFFSET(A1,1,1),LAMBDA(a,a))": "an area of cells",
            "=SUM(E1,LAMBDA(a,a))": "SUM takes no LAMBDA",
            "=BYROW(E1:E2,E1,LAMBDA(a,a))": "other arguments",
            "=REDUCE(0,$A$1:$E$9,LAMBDA(a,v,a+a*v))": "parts",
            '=CELL("colour",E1)': "CELL says row, col",
        }.items():
            with self.subTest(formula):
                (told,) = worked_out([formula])
                self.assertIn(words, str(told))

    def test_values(self):
        formulas = {**SECURITIES, **FIGURES}
        found = worked_out([f"={formula}" for formula in formulas], TABLE)
        for (formula, wanted), value in zip(formulas.items(), found, strict=True):
            with self.subTest(formula):
                if isinstance(wanted, str):
                    self.assertEqual(value, wanted)
                else:
                    self.assertAlmostEqual(value, wanted, delta=1e-8 * max(1, abs(wanted)))

    def test_errors(self):
        found = worked_out([f"={formula}" for formula in ERRORS], TABLE)
        self.assertEqual(dict(zip(ERRORS, found, strict=True)), ERRORS)


if __name__ == "__main__":
    unittest.main()
