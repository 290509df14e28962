"""Tests of shapes."""

import numpy as np

import kindynos as kd
from tests.common import Case

ROW = [3.0, -1.0, 4.0, 1.0]


def base(formula: str, **more) -> np.ndarray:
    """The base-case value of a formula over a = 2, b = -3, row = 3, -1, 4, 1 and a table."""
    model = kd.Model("formula", periods=4)
    model.given(a=2.0, b=-3.0, row=ROW, steps={0: 10, 5: 20, 8: 40}, **more)
    model.line("y", formula)
    values = model.base_case().loc["y"]
    return (
        values["value"]
        if not np.isnan(values["value"])
        else values[["1", "2", "3", "4"]].to_numpy(dtype=float)
    )


class Shapes(Case):
    def test_wrong_kinds_are_errors(self):
        for formula, fragments in (
            ("npv(0.1, a)", ("flows of npv", "column 10", "row over the periods", "not a number")),
            ("total(a)", ("row of total", "column 7")),
            ("npv(0.1, row, row)", ("initial of npv", "not a row")),
            ("steps + 1", ("column 1", "must not be a table", "lookup")),
            ("lookup(a, b)", ("table of lookup", "must be a table")),
            ("steps", ("cannot be a table",)),
        ):
            with self.subTest(formula=formula), self.fails(*fragments, kind=kd.FormulaError):
                base(formula)
