"""Tests of groups."""

import numpy as np

import kindynos as kd
from tests.common import Case


class Groups(Case):
    def test_balance(self):
        model = kd.Model("fund", periods=4)
        model.given(opening=100.0, rate=[0.1, 0.0, -0.1, 0.2], deposit=10.0)
        model.line("balance", "previous(balance, opening) * (1 + rate) + deposit")
        expected, balance = [], 100.0
        for rate in (0.1, 0.0, -0.1, 0.2):
            balance = balance * (1 + rate) + 10
            expected.append(balance)
        np.testing.assert_allclose(
            model.base_case().loc["balance"].to_numpy()[1:].astype(float), expected
        )

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
        np.testing.assert_allclose(
            sheet.loc["two_ago"].to_numpy()[1:].astype(float), [0, 0, 1, 2, 3]
        )
        np.testing.assert_allclose(
            sheet.loc["sum_of_two"].to_numpy()[1:].astype(float), [2, 3, 5, 8, 13]
        )

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
            (
                {"x": "previous(z, 0)", "z": "1 + 0 * total(x) + 0 * period"},
                ("total at column 9", "'x'", "period by period"),
            ),
            ({"x": "previous(a, 0)"}, ("'a' is not a row",)),
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
