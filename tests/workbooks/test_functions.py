"""Functions with one value per trial against NumPy and SciPy, and the rules of criteria, references
and lookups of which the standard gives examples.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy import optimize, stats

from kindynos.workbooks.functions.catalogue import FUNCTIONS
from tests.workbooks.common import calculation, drawn, worked_out, write

TRIALS = 200

# formulas of a normal draw A1, a whole one A2 and a uniform one A3, and what they are elsewhere
REFERENCES = {
    "SUM(A1:A3,4)": lambda a, b, c: a + b + c + 4,
    "SUMSQ(A1:A3)": lambda a, b, c: a**2 + b**2 + c**2,
    "PRODUCT(A1:A3)": lambda a, b, c: a * b * c,
    "ABS(A1)": lambda a, b, c: np.abs(a),
    "SIGN(A2)": lambda a, b, c: np.sign(b),
    "SQRT(A3)": lambda a, b, c: np.sqrt(c),
    "EXP(A1)": lambda a, b, c: np.exp(a),
    "LN(A3)": lambda a, b, c: np.log(c),
    "LOG10(A3)": lambda a, b, c: np.log10(c),
    "POWER(A3,2.5)": lambda a, b, c: c**2.5,
    "ROUND(A1,1)": lambda a, b, c: np.copysign(np.floor(np.abs(a) * 10 + 0.5) / 10, a),
    "ROUND(A2/2,0)": lambda a, b, c: np.copysign(np.floor(np.abs(b) / 2 + 0.5), b),
    "ROUND(1000*A1,-2)": lambda a, b, c: np.copysign(np.floor(np.abs(10 * a) + 0.5) * 100, a),
    "ROUNDUP(A1,1)": lambda a, b, c: np.copysign(np.ceil(np.abs(a) * 10) / 10, a),
    "ROUNDDOWN(A1,1)": lambda a, b, c: np.copysign(np.floor(np.abs(a) * 10) / 10, a),
    "TRUNC(A1,1)": lambda a, b, c: np.trunc(a * 10) / 10,
    "INT(A1)": lambda a, b, c: np.floor(a),
    "MOD(A1,0.7)": lambda a, b, c: a - 0.7 * np.floor(a / 0.7),
    "MOD(A1,-0.7)": lambda a, b, c: a + 0.7 * np.floor(a / -0.7),
    "QUOTIENT(A1,0.7)": lambda a, b, c: np.trunc(a / 0.7),
    "SIN(A1)": lambda a, b, c: np.sin(a),
    "COS(A1)": lambda a, b, c: np.cos(a),
    "TAN(A1)": lambda a, b, c: np.tan(a),
    "ASIN(A3)": lambda a, b, c: np.arcsin(c),
    "ACOS(A3)": lambda a, b, c: np.arccos(c),
    "ATAN(A1)": lambda a, b, c: np.arctan(a),
    "SINH(A1)": lambda a, b, c: np.sinh(a),
    "FISHER(A3)": lambda a, b, c: np.arctanh(c),
    "FISHERINV(A1)": lambda a, b, c: np.tanh(a),
    "COSH(A1)": lambda a, b, c: np.cosh(a),
    "TANH(A1)": lambda a, b, c: np.tanh(a),
    "RADIANS(A1)": lambda a, b, c: a * np.pi / 180,
    "DEGREES(A1)": lambda a, b, c: a * 180 / np.pi,
    "NORM.INV(A3,10,2)": lambda a, b, c: stats.norm.ppf(c, 10, 2),
    "NORMINV(A3,A1,2)": lambda a, b, c: stats.norm.ppf(c, a, 2),
    "NORM.S.INV(A3)": lambda a, b, c: stats.norm.ppf(c),
    "NORMSINV(A3)": lambda a, b, c: stats.norm.ppf(c),
    "NORMSDIST(A1)": lambda a, b, c: stats.norm.cdf(a),
    "LOGNORM.INV(A3,1,0.5)": lambda a, b, c: stats.lognorm.ppf(c, 0.5, scale=np.e),
    "LOGINV(A3,1,0.5)": lambda a, b, c: stats.lognorm.ppf(c, 0.5, scale=np.e),
    "IF(NOT(A1>0),1,2)": lambda a, b, c: np.where(a > 0, 2.0, 1.0),
    "PMT(A3/10,20,1000)": lambda a, b, c: -1000 * c / 10 / (1 - (1 + c / 10) ** -20),
    "PMT(A3/10,20,1000,-300,1)": lambda a, b, c: annuity_due(c / 10, 20, 1000, -300),
    "PMT(0*A3,20,1000)": lambda a, b, c: 0 * c - 50,
    "NPV(A3,A1,A2,7)": lambda a, b, c: a / (1 + c) + b / (1 + c) ** 2 + 7 / (1 + c) ** 3,
    "SLN(A1,A2,4)": lambda a, b, c: (a - b) / 4,
    "IRR(E1:E3)": lambda a, b, c: (5 + c + np.sqrt((5 + c) ** 2 + 320)) / 20 - 1,
    "AVERAGE(A1:A3)": lambda a, b, c: np.mean([a, b, c], axis=0),
    "MIN(A1:A3)": lambda a, b, c: np.min([a, b, c], axis=0),
    "MAX(A1:A3,1)": lambda a, b, c: np.max([a, b, c, 0 * a + 1], axis=0),
    "VAR(A1:A3)": lambda a, b, c: np.var([a, b, c], axis=0, ddof=1),
    "VAR.S(A1:A3)": lambda a, b, c: np.var([a, b, c], axis=0, ddof=1),
    "VARP(A1:A3)": lambda a, b, c: np.var([a, b, c], axis=0),
    "VAR.P(A1:A3)": lambda a, b, c: np.var([a, b, c], axis=0),
    "STDEV(A1:A3)": lambda a, b, c: np.std([a, b, c], axis=0, ddof=1),
    "STDEV.S(A1:A3)": lambda a, b, c: np.std([a, b, c], axis=0, ddof=1),
    "STDEVP(A1:A3)": lambda a, b, c: np.std([a, b, c], axis=0),
    "STDEV.P(A1:A3)": lambda a, b, c: np.std([a, b, c], axis=0),
    "SUMPRODUCT(A1:A3,{2;3;4})": lambda a, b, c: 2 * a + 3 * b + 4 * c,
    "SUMPRODUCT((A1:A3>0)*A1:A3)": lambda a, b, c: np.sum(np.maximum([a, b, c], 0), axis=0),
    'COUNTIF(A1:A3,">0.5")': lambda a, b, c: np.sum(np.array([a, b, c]) > 0.5, axis=0),
    'COUNTIFS(A1:A3,">0",A1:A3,"<=1")': lambda a, b, c: np.sum(between(a, b, c), axis=0),
    'SUMIF(A1:A3,">"&A3)': lambda a, b, c: np.where(a > c, a, 0) + np.where(b > c, b, 0),
    'SUMIF(A1:A3,"<>0",B1:B3)': lambda a, b, c: 10 * (a != 0) + 20 * (b != 0) + 30.0 * (c != 0),
    'SUMIFS(B1:B3,A1:A3,">0",A1:A3,"<=1")': lambda a, b, c: (
        np.array([10, 20, 30]) @ between(a, b, c)
    ),
    'IFERROR(AVERAGEIF(A1:A3,">0"),-1)': lambda a, b, c: mean_above_0(a, b, c),
    'IFERROR(AVERAGEIFS(A1:A3,A1:A3,">0",B1:B3,">0"),-1)': lambda a, b, c: mean_above_0(a, b, c),
    'MAXIFS(A1:A3,B1:B3,">10")': lambda a, b, c: np.maximum(b, c),
    'MINIFS(A1:A3,A1:A3,"<>0")': lambda a, b, c: np.min(
        np.where(np.array([a, b, c]) == 0, np.inf, [a, b, c]), axis=0
    ),
    "IF(AND(A1>0,A2>0),1,0)": lambda a, b, c: 1.0 * ((a > 0) & (b > 0)),
    "IF(OR(A1>0,A2>0),1,0)": lambda a, b, c: 1.0 * ((a > 0) | (b > 0)),
    "IF(XOR(A1>0,A2>0),1,0)": lambda a, b, c: 1.0 * ((a > 0) ^ (b > 0)),
    "IF(ISERROR(SQRT(A1)),1,0)": lambda a, b, c: 1.0 * (a < 0),
    "IF(ISERR(SQRT(A1)),1,0)": lambda a, b, c: 1.0 * (a < 0),
    "IF(ISNA(MATCH(A1,{0,1},1)),1,0)": lambda a, b, c: 1.0 * (a < 0),
    "MATCH(A3,{0,0.25,0.5},1)": lambda a, b, c: 1.0 + (c >= 0.25) + (c >= 0.5),
    "VLOOKUP(A3,{0,10;0.4,20},2)": lambda a, b, c: np.where(c >= 0.4, 20.0, 10.0),
    "HLOOKUP(A3,{0,0.4;10,20},2,TRUE)": lambda a, b, c: np.where(c >= 0.4, 20.0, 10.0),
    "INDEX({10;20;30},1+INT(3*A3))": lambda a, b, c: 10.0 + 10 * np.floor(3 * c),
}


def annuity_due(rate, periods, value, after):
    """The payment at the begin of each period that leaves a balance of 0, by its equation."""

    def balance(payment, r):
        grown = value * (1 + r) ** periods + after
        return grown + sum(payment * (1 + r) ** (periods - k) for k in range(periods))

    return np.array([optimize.brentq(balance, -1e6, 1e6, args=(r,)) for r in rate])


def between(a, b, c):
    values = np.array([a, b, c])
    return 1.0 * ((values > 0) & (values <= 1))


def mean_above_0(a, b, c):
    values = np.array([a, b, c])
    count = (values > 0).sum(axis=0)
    return np.where(count, np.maximum(values, 0).sum(axis=0) / np.maximum(count, 1), -1.0)


class AgainstNumpyAndScipy(unittest.TestCase):
    def test_each_function_over_trials(self):
        cells = {"A1": 1, "A2": 1, "A3": 0.5, "B1": 10, "B2": 20, "B3": 30}
        cells |= {"E1": -10, "E2": "=5+A3", "E3": 8}
        cells |= {f"J{row}": f"={text}" for row, text in enumerate(REFERENCES, start=1)}
        places = {"a": "Data!A1", "b": "Data!A2", "c": "Data!A3"}
        outputs = {text: f"Data!J{row}" for row, text in enumerate(REFERENCES, start=1)}
        values = drawn(7, TRIALS)
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(write(Path(folder), cells), places, outputs)
        found = whole.evaluate(list(outputs), values, TRIALS)
        for text, reference in REFERENCES.items():
            with self.subTest(formula=text):
                expected = reference(*values.values())
                np.testing.assert_allclose(found[text], expected, rtol=1e-9, atol=1e-9)

    def test_every_function_with_a_quick_way_is_among_them(self):
        quick = {name for name, known in FUNCTIONS.items() if known.quick or known.together}
        used = {name for name in quick if any(f"{name}(" in text for text in REFERENCES)}
        self.assertEqual(quick - used, {"_BETWEEN"})  # which no formula can name


class Rules(unittest.TestCase):
    def check(self, expected: dict) -> None:
        found = worked_out([f"={text}" for text in expected])
        for (text, value), one in zip(expected.items(), found, strict=True):
            with self.subTest(formula=text):
                if isinstance(value, float):
                    self.assertAlmostEqual(one, value, places=9)
                else:
                    self.assertEqual(one, value)

    def test_criteria(self):
        self.check(
            {
                'COUNTIF(D1:D6,"*e*")': 4,  # wildcards, of texts alone
                'COUNTIF(D1:D6,"?e*")': 3,
                'COUNTIF(D1:D6,"PEAR")': 1,  # capitals do not count
                'COUNTIF(D1:D6,"<>pear")': 5,
                'COUNTIF(D1:D6,">lemon")': 2,  # texts by the alphabet
                'COUNTIF(E1:E6,"<>*")': 6,  # numbers are no text
                'COUNTIF(E1:E7,"")': 1,  # an empty cell
                'COUNTIF(E1:E6,"=25")': 1,
                'COUNTIF(E1:E6,"25")': 1,
                "COUNTIF(E1:E6,25)": 1,
                'COUNTIF(H1:H4,">=3%")': 3,
                'SUMIF(C1:C6,">3",E1)': 101.5,  # as large an area as the first
                'SUMIF($C$1:$C$6,">3",$E$1:$E$9)': 101.5,
                'AVERAGEIF(C1:C6,">3",E1:E2)': 101.5 / 3,
                'SUMIF(C1,"<9",E1:E6)': 10,
                'SUMIF(D1:D6,"~*",E1:E6)': 0,  # a star itself
                'SUMIFS(E1:E6,C1:C6,">1",D1:D6,"p*")': 77,
                'AVERAGEIF(C1:C6,">100")': "#DIV/0!",
                'MAXIFS(E1:E6,C1:C6,"<4")': 40,
                'MINIFS(E1:E6,C1:C6,">=4")': 18,
                'SUMIFS(E1:E6,C1:C5,">1")': "#VALUE!",
                'AVERAGEIFS(E1:E5,C1:C6,">1")': "#VALUE!",
            }
        )

    def test_references(self):
        self.check(
            {
                "ROWS(C1:E6)": 6,
                "COLUMNS(C1:E6)": 3,
                "ROW(E4)": 4,
                "COLUMN(E4)": 5,
                "SUM(ROW(C1:C4))": 10,
                "SUM(OFFSET(E1,1,0,3,1))": 96.5,
                "SUM(OFFSET(E3,0,0,-2,1))": 65,  # upwards
                "OFFSET(A1,-1,0)": "#REF!",
                'INDIRECT("E"&2)': 40,
                'INDIRECT("nowhere at all")': "#REF!",
                "SUM((C1:E6 D2:E2))": 40,  # what both have
                "SUM((C1:C2 E1:E2))": "#NULL!",
                "SUM(INDEX(C1:E6,0,3))": 176.5,  # a whole column
                "INDEX(C1:E6,9,1)": "#REF!",
                "CHOOSE(4,1,2,3)": "#VALUE!",
                "AREAS((C1:C2,E1))": 2,
            }
        )

    def test_lookups(self):
        self.check(
            {
                "VLOOKUP(5.5,C1:E6,3)": 18,  # the largest that is not above
                "VLOOKUP(6,C1:E6,3,FALSE)": "#N/A",
                "VLOOKUP(0,C1:E6,3)": "#N/A",
                "VLOOKUP(5,C1:E6,4)": "#REF!",
                'MATCH("b*",D1:D6,0)': 2,
                "MATCH(26,{52,40,25,10},-1)": 2,  # the smallest that is not below
                "LOOKUP(4.2,C1:C6,D1:D6)": "berry",
                'XLOOKUP("plum",D1:D6,E1:E6)': 52,
                'XLOOKUP("fig",D1:D6,E1:E6,"none")': "none",
                "XLOOKUP(6,C1:C6,E1:E6,0,-1)": 18,
                "XLOOKUP(6,C1:C6,E1:E6,0,1)": 52,
            }
        )

    def test_money(self):
        # a level loan by hand: of 1,000 at 1 % over 12 periods
        payment = 1000 * 0.01 / (1 - 1.01**-12)
        self.check(
            {
                "PMT(0.01,12,1000)": -payment,
                "PV(0.01,12,-100)": 100 * (1 - 1.01**-12) / 0.01,
                "FV(0.01,12,-100)": 100 * (1.01**12 - 1) / 0.01,
                "FV(0.01,12,-100,0,1)": 101 * (1.01**12 - 1) / 0.01,
                "NPER(0.01,-100,1000)": float(-np.log(1 - 0.1) / np.log(1.01)),
                "RATE(12,-100,1000)": float(
                    optimize.brentq(lambda r: 100 * (1 - (1 + r) ** -12) / r - 1000, 0.001, 0.1)
                ),
                "IPMT(0.01,1,12,1000)": -10.0,
                "PPMT(0.01,1,12,1000)": 10 - payment,
                "IRR({-100,60,60})": float((60 + np.sqrt(60**2 + 4 * 100 * 60)) / 200 - 1),
                "IRR({1,2,3})": "#NUM!",  # no rate brings it to 0
                "MIRR({-100,60,60},0.1,0.12)": float(np.sqrt(60 * 2.12 / 100) - 1),
                "SLN(1000,100,9)": 100.0,
                "SYD(1000,100,9,1)": 900 * 9 / 45,
                "DDB(1000,100,9,1)": 1000 * 2 / 9,
                "EFFECT(0.12,12)": 1.01**12 - 1,
                "NOMINAL(0.1,4)": 4 * (1.1**0.25 - 1),
            }
        )

    def test_conditions_and_kinds(self):
        self.check(
            {
                "IFS(FALSE,1,TRUE,2)": 2,
                "IFS(FALSE,1)": "#N/A",
                "SWITCH(3,1,10,3,30)": 30,
                "SWITCH(4,1,10,3,30)": "#N/A",
                "SWITCH(4,1,10,99)": 99,
                "IF({1,0},2,3)": 2,
                "SUM(IF(E1:E6>30,1,0))": "#VALUE!",  # not stored as an array: its own row counts
                "SUMPRODUCT(1*(E1:E6>30))": 3,
                "SUM(IFERROR({1,2}/{1,0},7))": 8,
                '"a"<1': False,  # numbers come before texts
                "TRUE>9E99": True,  # and logicals after them
                '1+"2"': 3,
                '1+"two"': "#VALUE!",
                "-2^2": 4,
                "1E308*10": "#NUM!",
            }
        )
