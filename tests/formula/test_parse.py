"""Tests of parse."""

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.formula.functions import FUNCTIONS
from kindynos.formula.parse import parse
from tests.common import Case, investment

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


quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Refused(Case):
    def test_whatever_is_not_arithmetic(self):
        for formula in (
            "__import__('os').system('true')",
            "a.real",
            "a.__class__",
            "(1).__class__",
            "row[0]",
            "[x for x in row]",
            "(x for x in row)",
            "{1: 2}",
            "lambda: 1",
            "'text'",
            "b'bytes'",
            "f'{a}'",
            "1j",
            "True",
            "None",
            "...",
            "(a := 3)",
            "a, b",
            "*row",
            "min(*row)",
            "npv(**row)",
            "eval(a)",
            "open(a)",
            "print(a)",
            "exec",
            "total",
            "a if b",
            "a; b",
            "a = 3",
            "import os",
            "await a",
            "yield a",
            "a @ b",
            "a & b",
            "a << 2",
            "~a",
            "a is b",
            "a in row",
            "a # note",
            "",
            "   ",
            "1" * 400,
            "1e999",
            "(" * 300 + "1" + ")" * 300,
            "-" * 3000 + "1",
            "+".join(["a"] * 1500),
            "not " * 900 + "a",
            "a" * 5000,
            "\x00",
            "a\x00",
        ):
            with self.subTest(formula=formula[:40]), self.fails(kind=kd.KindynosError):
                base(formula)

    def test_megabytes(self):
        with self.fails("40,000 characters", "5,000,000"):
            parse("1+" * 2_500_000)

    def test_messages_say_where(self):
        for formula, fragments in (
            ("a + cre", ("'cre'", "column 5")),
            ("a + nvp(0.1, row)", ("no function 'nvp'", "column 5", "did you mean 'npv'?")),
            ("a.real + 1", ("a dot", "column 1")),
            ("a + * b", ("cannot be read", "column 5")),
            ("previous(1 + a, 0)", ("must be the name of a line",)),
            ("previous(row)", ("lacks 'first'", "previous(line, first, back=...)")),
            ("previous(row, 0, back=0)", ("back of previous", "whole number from 1")),
            ("previous(row, 0, back=a)", ("back of previous", "written out")),
            ("npv(0.1)", ("lacks 'flows'", "npv(rate, flows, initial=..., timing=...)")),
            ("npv(0.1, row, 1, 2)", ("timing of npv", "'end' or 'mid' or 'start'")),
            ("npv(0.1, row, begin=1)", ("'begin'",)),
            ("max(row)", ("two or more", "highest(row)")),
            ("grow(0.1, lag=1.5)", ("lag of grow", "whole number")),
        ):
            with self.subTest(formula=formula), self.fails(*fragments):
                base(formula)

    @settings(max_examples=300, deadline=None)
    @given(st.text(max_size=60))
    def test_any_text_is_read_or_refused_in_words(self, text):
        try:
            parse(text)
        except kd.FormulaError as error:
            self.assertTrue(str(error))


class AnyCall(Case):
    @quick
    @given(
        st.sampled_from(sorted(FUNCTIONS)),
        st.lists(
            st.sampled_from(["flow", "cash_flow", "price", "0.1", "3", "-2", "period"]), max_size=5
        ),
    )
    def test_any_call_in_a_formula_is_a_number_or_an_error_of_ours(self, name, arguments):
        model = investment()
        try:
            model.outcome("extra", f"{name}({', '.join(arguments)})")
            run_ = model.simulate(50, seed=1)
        except kd.KindynosError as error:
            self.assertIn("extra", str(error))
            return
        self.assertEqual(run_["extra"].values.shape[-1], 50)
