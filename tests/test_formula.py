"""The formula language: values against NumPy, kinds, groups, and what it refuses."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.model.formula import parse
from tests.common import Case

ROW = [3.0, -1.0, 4.0, 1.0]


def base(formula: str, **more) -> np.ndarray:
    """The base-case value of a formula over a = 2, b = -3, row = 3, -1, 4, 1 and a table."""
    model = kd.Model("formula", periods=4)
    model.given(a=2.0, b=-3.0, row=ROW, steps={0: 10, 5: 20, 8: 40}, **more)
    model.line("y", formula)
    values = model.base_case().loc["y"]
    return values["value"] if not np.isnan(values["value"]) else values[["1", "2", "3", "4"]].to_numpy(dtype=float)


class Values(Case):
    def test_numbers(self):
        for formula, expected in (
            ("a + b * 4 - 1 / 2", -10.5),
            ("-a ** 2", -4),
            ("2 ** 3 ** 2", 512),
            ("7 // 2 + 7 % 4", 6),
            ("+a", 2),
            ("a > 1", 1),
            ("1 < a < 3", 1),
            ("1 < a < 2", 0),
            ("a == 2 and b != 0", 1),
            ("a < 0 or b < 0", 1),
            ("not a", 0),
            ("10 if a > b else 20", 10),
            ("min(a, b, 7) + max(a, b)", -1),
            ("abs(b) + sqrt(16) + exp(0) + log(1)", 8),
            ("floor(2.7) + ceil(2.1) + round(2.5) + round(1.26, 1)", 8.3),
            ("clip(b, -1, 1) + clip(a, 3, 4)", 2),
            ("lookup(5, steps) + lookup(7.9, steps) + lookup(100, steps)", 80),
            ("npv(0.1, row, start=-1)", float(kd.npv(0.1, ROW, -1))),
            ("lowest(row) + highest(row) + total(row) + average(row) + median(row)", -1 + 4 + 7 + 1.75 + 2),
            ("first(row) * 10 + last(row)", 31),
            ("at(row, 3) + at(row, a)", 3),
            ("at(row, 1.5)", -1),
            ("irr(row, -5)", float(kd.irr(ROW, -5))),
            ("(a\n + b)", -1),
        ):
            with self.subTest(formula=formula):
                self.assertAlmostEqual(base(formula), expected)

    def test_rows(self):
        row = np.array(ROW)
        for formula, expected in (
            ("row * a", row * 2),
            ("period", [1, 2, 3, 4]),
            ("row if period <= 2 else 0", [3, -1, 0, 0]),
            ("running_total(row)", np.cumsum(row)),
            ("following(row, 9)", [-1, 4, 1, 9]),
            ("following(row, 9, ahead=3)", [1, 9, 9, 9]),
            ("grow(0.1, 100, lag=1)", [100, 110, 121, 133.1]),
            ("grow(row / 10)", np.cumprod(1 + row / 10)),
            ("max(row, 0)", [3, 0, 4, 1]),
            ("lookup(row + 4, steps)", [20, 10, 40, 20]),
        ):
            with self.subTest(formula=formula):
                np.testing.assert_allclose(base(formula), expected)

    def test_by_trial(self):
        model = kd.Model("m", periods=4)
        model.given(row=ROW, steps=[[0, 10], [2, 20]])
        model.driver("n", kd.Discrete([1, 2, 3, 4, 5], [0.2] * 5))
        model.driver("x", kd.Uniform(0, 3), each="period")
        model.line("picked", "at(row, n)")
        model.line("mine", "at(x, n)")
        model.line("stepped", "lookup(x, steps)")
        run = model.simulate(400, seed=1)
        n, x = run["n"].values, run["x"].values
        expected = np.where(n <= 4, np.append(ROW, np.nan)[n.astype(int) - 1], np.nan)
        np.testing.assert_array_equal(run["picked"].values, expected)
        inside = np.flatnonzero(n <= 4)
        np.testing.assert_array_equal(run["mine"].values[inside], x[n[inside].astype(int) - 1, inside])
        np.testing.assert_array_equal(run["stepped"].values, np.where(x < 2, 10, 20))

    def test_no_number_stays_no_number(self):
        for formula in (
            "log(b)",
            "sqrt(b) > 0",
            "1 if log(b) > 0 else 2",
            "log(b) > 0 and 1",
            "not log(b)",
            "lookup(-1, steps)",
        ):
            with self.subTest(formula=formula):
                self.assertTrue(np.isnan(base(formula)).all())
        self.assertTrue(np.isnan(base("at(row, 5)")).all())

    def test_numbers_never_overflow_into_work(self):
        self.assertEqual(base("9**9**9"), np.inf)
        self.assertEqual(base("1 / 0"), np.inf)

    @settings(max_examples=80, deadline=None)
    @given(
        st.recursive(
            st.sampled_from(["a", "b", "1.5", "row"]), lambda s: st.builds("({} {} {})".format, s, st.sampled_from("+-*"), s)
        )
    )
    def test_arithmetic_is_numpys(self, formula):
        expected = eval(formula, {"a": 2.0, "b": -3.0, "row": np.array(ROW)})
        np.testing.assert_allclose(base(formula), np.broadcast_to(expected, np.shape(base(formula))))


class Groups(Case):
    def test_balance(self):
        model = kd.Model("fund", periods=4)
        model.given(opening=100.0, rate=[0.1, 0.0, -0.1, 0.2], deposit=10.0)
        model.line("balance", "previous(balance, opening) * (1 + rate) + deposit")
        expected, balance = [], 100.0
        for rate in (0.1, 0.0, -0.1, 0.2):
            balance = balance * (1 + rate) + 10
            expected.append(balance)
        np.testing.assert_allclose(model.base_case().loc["balance"].to_numpy()[1:].astype(float), expected)

    def test_two_lines_that_need_each_other(self):
        model = kd.Model("pair", periods=5)
        model.line("fox", "0.9 * previous(fox, 1) + 0.1 * previous(hare, 2)")
        model.line("hare", "previous(hare, 2) * 1.1 - 0.2 * fox")
        model.outcome("end", "last(hare)")
        fox, hare = 1.0, 2.0
        for _ in range(5):
            fox = 0.9 * fox + 0.1 * hare
            hare = hare * 1.1 - 0.2 * fox
        self.assertAlmostEqual(model.base_case().loc["end", "value"], hare)

    def test_further_back_and_outside_a_group(self):
        model = kd.Model("lags", periods=5)
        model.given(row=[1.0, 2, 3, 4, 5])
        model.line("two_ago", "previous(row, 0, back=2)")
        model.line("sum_of_two", "previous(sum_of_two, 1) + previous(sum_of_two, 1, back=2)")
        sheet = model.base_case()
        np.testing.assert_allclose(sheet.loc["two_ago"].to_numpy()[1:].astype(float), [0, 0, 1, 2, 3])
        np.testing.assert_allclose(sheet.loc["sum_of_two"].to_numpy()[1:].astype(float), [2, 3, 5, 8, 13])

    def test_by_trial_equals_a_loop(self):
        model = kd.Model("fund", periods=6)
        model.driver("rate", kd.Normal(0.03, 0.1), each="period")
        model.driver("opening", kd.Uniform(50, 150))
        model.line("balance", "max(previous(balance, opening) * (1 + rate) - 20, 0)")
        run = model.simulate(500, seed=1)
        rate, balance = run["rate"].values, run["opening"].values
        for t in range(6):
            balance = np.maximum(balance * (1 + rate[t]) - 20, 0)
            np.testing.assert_allclose(run["balance"].values[t], balance)

    def test_errors(self):
        for lines, fragments in (
            ({"x": "y + 1", "y": "x * 2"}, ("circle", "x", "y", "previous")),
            ({"x": "x + 1"}, ("circle", "x")),
            ({"x": "previous(x, 0) + total(x)"}, ("circle", "x")),
            ({"x": "previous(z, 0)", "z": "1 + 0 * total(x) + 0 * period"}, ("total at column 9", "'x'", "period by period")),
            ({"x": "previous(a, 0)"}, ("'a' is no row",)),
        ):
            model = kd.Model("wrong", periods=3)
            model.given(a=1.0)
            for name, formula in lines.items():
                model.line(name, formula)
            with self.subTest(lines=lines), self.fails(*fragments, kind=kd.ModelError):
                model.base_case()
        model = kd.Model("no periods")
        model.line("x", "previous(x, 0) + 1")
        with self.fails("no periods"):
            model.base_case()


class Kinds(Case):
    def test_wrong_kinds_are_errors(self):
        for formula, fragments in (
            ("npv(0.1, a)", ("flows of npv", "column 10", "row over the periods", "not a number")),
            ("total(a)", ("row of total", "column 7")),
            ("npv(0.1, row, row)", ("start of npv", "not a row")),
            ("steps + 1", ("column 1", "must not be a table", "lookup")),
            ("lookup(a, b)", ("table of lookup", "must be a table")),
            ("steps", ("cannot be a table",)),
        ):
            with self.subTest(formula=formula), self.fails(*fragments, kind=kd.FormulaError):
                base(formula)


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
        with self.fails("4,000 characters", "5,000,000"):
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
            ("npv(0.1)", ("lacks 'flows'", "npv(rate, flows, start=...)")),
            ("npv(0.1, row, 1, 2)", ("4 arguments",)),
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
