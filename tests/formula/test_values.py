"""Tests of values."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.formula.parse import parse
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


class Values(Case):
    def test_numbers(self):
        for formula, expected in (
            ("a + b * 4 - 1 / 2", -10.5),
            ("-a ** 2", -4),
            ("2 ** 3 ** 2", 512),
            ("7 // 2 + 7 % 4", 6),
            ("+a", 2),
            ("a > 1", 1),
            ("interpolate(4, steps) + interpolate(6.5, steps)", 48),
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
            ("npv(0.1, row, initial=-1)", float(kd.npv(0.1, ROW, -1))),
            (
                "lowest(row) + highest(row) + total(row) + average(row) + median(row)",
                -1 + 4 + 7 + 1.75 + 2,
            ),
            ("first(row) * 10 + last(row)", 31),
            ("at(row, 3) + at(row, a)", 3),
            ("any_period(row < 0)", 1),
            ("any_period(row > 9)", 0),
            ("sin(0.5) ** 2 + cos(0.5) ** 2", 1),
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
            ("min_so_far(row)", [3, -1, -1, -1]),
            ("change(row)", [0, -4 / 3, -5, -0.75]),
            ("change(row, 2)", [0.5, -4 / 3, -5, -0.75]),
            ("max_so_far(row)", [3, 3, 4, 4]),
            ("straight_line(1000, 100, 3)", [300, 300, 300, 0]),
            ("sum_of_digits(1000, 100, 3)", [450, 300, 150, 0]),
            ("declining_balance(1000, 100, 4)", [500, 250, 125, 25]),
            ("declining_balance(1000, 0, 5, 1)", [200, 160, 128, 102.4]),
            # 1,000 at 10 % over three periods: level payments of 402.114804
            ("interest_part(0.1, 3, 1000)", [100, 69.788520, 36.555891, 0]),
            ("principal_part(0.1, 3, 1000)", [302.114804, 332.326284, 365.558912, 0]),
            ("principal_part(0, 4, 1000)", [250, 250, 250, 250]),
            ("following(row, 9)", [-1, 4, 1, 9]),
            ("following(row, 9, ahead=3)", [1, 9, 9, 9]),
            ("grow(0.1, 100, lag=1)", [100, 110, 121, 133.1]),
            ("grow(row / 10)", np.cumprod(1 + row / 10)),
            ("max(row, 0)", [3, 0, 4, 1]),
            ("lookup(row + 4, steps)", [20, 10, 40, 20]),
        ):
            with self.subTest(formula=formula):
                np.testing.assert_allclose(base(formula), expected, rtol=1e-8)

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
        np.testing.assert_array_equal(
            run["mine"].values[inside], x[n[inside].astype(int) - 1, inside]
        )
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
            st.sampled_from(["a", "b", "1.5", "row"]),
            lambda s: st.builds("({} {} {})".format, s, st.sampled_from("+-*"), s),
        )
    )
    def test_arithmetic_is_numpys(self, formula):
        expected = eval(formula, {"a": 2.0, "b": -3.0, "row": np.array(ROW)})
        np.testing.assert_allclose(
            base(formula), np.broadcast_to(expected, np.shape(base(formula)))
        )


class Residues(Case):
    """What rounding leaves of amounts that cancel is 0; anything larger is what it is."""

    def test_amounts_that_cancel_leave_nothing(self):
        model = kd.Model("cancel", periods=4)
        model.driver("a", kd.Uniform(1, 2))
        model.driver("b", kd.Uniform(1e5, 2e5))
        model.line("row", "0.1 * a if period < 4 else -0.3 * a")
        model.line("balance", "previous(balance, b) - (0.7 * b if period == 4 else 0.1 * b)")
        for name, formula in {
            "chain": "0.1 * a + 0.1 * a + 0.1 * a - 0.3 * a",
            "on_the_way": "b + 0.1 * a - b - 0.1 * a",
            "added": "total(row)",
            "valued": "npv(0, row)",
            "so_far": "last(running_total(row))",
            "ended": "last(balance)",
            "many": "sum_of(0.1 * a, 0.2 * a, -0.3 * a)",
        }.items():
            model.outcome(name, formula, target=0)
        run = model.simulate(4000, seed=1)
        for name in run.table().index.unique(0):
            with self.subTest(name):
                self.assertEqual(run[name].chance(below=0), 0)
                self.assertEqual(run[name].chance(at=0), 1)

    def test_small_amounts_stay(self):
        model = kd.Model("small")
        model.driver("a", kd.Uniform(1, 2))
        model.given(tiny=1e-11)
        model.outcome("kept", "a + tiny - a")
        model.outcome("rate", "1e9 * a * 1e-20")
        model.outcome("least", "1e-300 * a + 1e-300 * a")
        run = model.simulate(1000, seed=1)
        self.assertTrue((run["kept"].values > 5e-12).all())
        np.testing.assert_allclose(run["rate"].values, run["kept"].values * 0 + 1e-11, rtol=1)
        self.assertTrue((run["least"].values > 0).all())

    def test_each_trial_is_judged_by_its_own_amounts(self):
        model = kd.Model("apart")
        model.driver("a", kd.Uniform(1, 2))
        model.driver("which", kd.Bernoulli(0.5))
        model.line("size", "1e9 if which == 1 else 1")
        model.outcome("left", "a * size + 1e-6 - a * size")
        values = model.simulate(1000, seed=1, store="all")
        large = values["size"].values == 1e9
        self.assertTrue((values["left"].values[large] == 0).all())
        self.assertTrue((values["left"].values[~large] > 0).all())


class LongSums(Case):
    def test_hundreds_of_terms_add_up_in_order(self):
        names = [f"d{k}" for k in range(400)]
        model = kd.Model("m")
        for name in names:
            model.driver(name, kd.LogNormal(10, 4))
        model.outcome("y", " + ".join(names))
        model.outcome("z", f"2 * ({' + '.join(names[:90])}) - {names[90]}")
        found = model.simulate(300, seed=1)
        total = np.zeros(300)
        for place, name in enumerate(names):
            total = total + found[name].values
            if place == 89:
                np.testing.assert_array_equal(found["z"].values, 2 * total - found["d90"].values)
        np.testing.assert_array_equal(found["y"].values, total)

    def test_a_difference_stays_as_deep_as_it_is(self):
        with self.fails("60 levels"):
            parse(" - ".join(["a"] * 80))
