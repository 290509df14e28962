"""Tests of the advice that formulas get which spreadsheets would take."""

import kindynos as kd
from tests.common import Case


class Advice(Case):
    def test_what_spreadsheets_write(self):
        for formula, advice in (
            ("a^2", "**"),
            ("sum(cash)", "total(row)"),
            ("SUM(cash)", "total(row)"),
            ("IF(fare > 1, 2, 3)", "write a if condition else b"),
            ("IFERROR(fare / 0, 0)", "a / b if b != 0 else 0"),
            ("CHOOSE(2, fare, 3)", "lookup(number, table)"),
            ("MOD(fare, 2)", "write x % y"),
            ("INDEX(cash, 2)", "at(row, period)"),
            ("SIGN(fare)", "1 if x > 0 else -1"),
            ("fare in [1, 2]", "x == 1 or x == 2"),
            ("NPV(0.1, cash)", "written small: npv"),
            ("percentile(cash, 5)", "run['name'].percentile(5)"),
            ("if(a, 1, 2)", "a if condition else b"),
            ("a && b", "'and'"),
            ("a || b", "'or'"),
            ("!a", "'not'"),
            ("a <> b", "!="),
            ("b = 3", "=="),
            ("max(a; b)", "commas between"),
            ("5%", "0.05 for 5 %"),
            ("1,000 + a", "1000 or 1e3"),
            ("cash[5]", "at(row, 5)"),
            ("cash.sum()", "total(row)"),
            ("power(a, 2)", "x ** y"),
        ):
            model = kd.Model("x", periods=3)
            model.given(a=1.0, b=2.0, cash=[1.0, 2.0, 3.0])
            with self.subTest(formula=formula), self.fails(advice, kind=kd.FormulaError):
                model.line("y", formula)
