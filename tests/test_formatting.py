"""Tests of formatting."""

import math

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.formatting import brief, in_one_cell, number, per_cent, shares, with_error
from kindynos.inference.estimates import symmetrical
from tests.common import Case

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Figures(Case):
    def test_digits_follow_the_error(self):
        self.assertEqual(
            with_error(kd.Estimate(3214159.0, 3173159.0, 3255159.0)), ("3,214,000", "± 41,000")
        )
        self.assertEqual(with_error(kd.Estimate(0.123456, 0.1222, 0.1246)), ("0.1235", "± 0.0012"))
        self.assertEqual(with_error(kd.Estimate(5.0)), ("5", ""))
        self.assertEqual(with_error(kd.Estimate(5.0, 5.0, 5.0)), ("5", "± 0"))
        self.assertIn("about", with_error(kd.Estimate(5.0, 4.0, 6.0, rough=True))[1])

    def test_numbers(self):
        for value, text in (
            (1234567.8, "1,234,568"),
            (0.1, "0.1"),
            (math.inf, "infinite"),
            (math.nan, "-"),
            (-3.0, "-3"),
        ):
            self.assertEqual(number(value), text)
        self.assertEqual((brief(17937049.3), brief(0.0123456)), ("17,937,000", "0.012346"))

    def test_shares_add_up(self):
        rng = np.random.default_rng(1)
        for _ in range(200):
            values = rng.dirichlet(np.ones(5)).tolist()
            printed = [float(text.split()[0]) for text in shares(values)]
            self.assertAlmostEqual(sum(printed), 100, places=6)
            self.assertLess(
                max(abs(p - 100 * v) for p, v in zip(printed, values, strict=True)), 0.1
            )

    def test_a_tiny_chance_is_not_none(self):
        self.assertEqual(per_cent(1e-6), "below 0.1 %")
        self.assertEqual(per_cent(0.0), "0.0 %")


class AnyFigure(Case):
    @quick
    @given(st.floats(allow_nan=True, allow_infinity=True), st.floats(0, 1e9))
    def test_figures_can_always_be_written(self, value, error):
        self.assertTrue(number(value))
        text = in_one_cell(symmetrical(value, error))
        self.assertTrue(text)
        self.assertNotIn("e+", text if abs(value) < 1e15 and error < 1e15 else "")
