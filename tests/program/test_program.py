"""Tests of program."""

import numpy as np

import kindynos as kd
from tests.common import Case, investment


class BaseCase(Case):
    def test_sheet(self):
        sheet = investment().base_case()
        self.assertEqual(list(sheet.columns), ["value", "2030", "2031", "2032", "2033", "2034"])
        self.assertEqual(list(sheet.index), ["hurdle", "price", "flow", "cash_flow", "net_value"])
        self.assertAlmostEqual(
            sheet.loc["net_value", "value"], float(kd.npv(0.1, [90.0] * 5, -300))
        )
        self.assertTrue(np.isnan(sheet.loc["cash_flow", "value"]))

    def test_lines_stand_in_the_order_they_are_worked_out(self):
        model = kd.Model("m")
        model.outcome("c", "b + 1")
        model.line("b", "a + 1")
        model.line("a", "1")
        sheet = model.base_case()
        self.assertEqual((list(sheet.index), sheet.loc["c", "value"]), (["a", "b", "c"], 3))

    def test_base_values(self):
        model = kd.Model("m", periods=2)
        model.driver("a", kd.Triangular(0, 0, 3), base=0.5)
        model.driver("b", kd.Uniform(0, 1), each="period")
        self.assertEqual(model.base_case().loc["a", "value"], 0.5)
        np.testing.assert_array_equal(
            model.base_case().loc["b", ["1", "2"]].to_numpy(dtype=float), [0.5, 0.5]
        )

    def test_replace_makes_another_model(self):
        model = investment()
        other = model.replace(price=250, flow=80)
        self.assertEqual(model.base_case().loc["price", "value"], 300)
        self.assertAlmostEqual(
            other.base_case().loc["net_value", "value"], float(kd.npv(0.1, [80.0] * 5, -250))
        )
        uncertain = model.replace(price=kd.Uniform(200, 300))
        self.assertEqual(uncertain.simulate(100, seed=1)["price"].values.shape, (100,))
        with self.fails("no 'prize'", "did you mean 'price'?"):
            model.replace(prize=3)
        with self.fails("'cash_flow' is a line"):
            model.replace(cash_flow=3)

    def test_the_period_reaches_functions(self):
        model = kd.Model("m", periods=3)

        @model.line
        def twice(period):
            return 2 * period

        np.testing.assert_array_equal(
            model.base_case().loc["twice"].to_numpy()[1:].astype(float), [2, 4, 6]
        )
