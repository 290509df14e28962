"""Tests of cash flow."""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case


class Npv(Case):
    def test_annuity(self):
        for rate in (-0.5, 0.05, 0.4):
            self.assertAlmostEqual(kd.npv(rate, [100.0] * 7), 100 * (1 - (1 + rate) ** -7) / rate)
        self.assertEqual(kd.npv(0, [1, 2, 3], initial=-4), 2)

    def test_rates_by_trial_and_by_period(self):
        flows = np.array([[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]])
        np.testing.assert_allclose(
            kd.npv([0.1, 0.2, 0.3], flows),
            [kd.npv(r, flows[:, i]) for i, r in enumerate((0.1, 0.2, 0.3))],
        )
        rate = np.array([[0.1], [0.2]])
        np.testing.assert_allclose(kd.npv(rate, flows), flows[0] / 1.1 + flows[1] / 1.1 / 1.2)
        np.testing.assert_allclose(
            kd.npv(0.1, flows, initial=[-1, -2, -3]), kd.npv(0.1, flows) - [1, 2, 3]
        )
        self.assertEqual(kd.npv(0.1, flows[:, :1]).shape, (1,))

    def test_timing_within_the_periods(self):
        flows, rate = [5.0, 7.0, 11.0], 0.08
        for timing, early in (("end", 0), ("mid", 0.5), ("start", 1)):
            expected = -4 + sum(
                flow / (1 + rate) ** (t + 1 - early) for t, flow in enumerate(flows)
            )
            self.assertAlmostEqual(kd.npv(rate, flows, initial=-4, timing=timing), expected)
        rates = np.array([[0.1], [0.2]])
        self.assertAlmostEqual(
            float(kd.npv(rates, [[3.0], [4.0]], timing="mid")[0]), 3 / 1.1**0.5 + 4 / 1.1 / 1.2**0.5
        )
        with self.fails("timing must be one of 'end', 'mid', 'start'"):
            kd.npv(0.1, [1.0, 2.0], timing="late")

    def test_a_rate_of_minus_one_has_no_value(self):
        answer = kd.npv(np.array([-1.0, -2.0, 0.0]), np.ones((2, 3)))
        np.testing.assert_array_equal(np.isnan(answer), [True, True, False])

    def test_errors(self):
        with self.fails("flat rate beside flat flows", "rate[:, None]"):
            kd.npv([0.1, 0.2], [1, 2])
        with self.fails("rate must be above -1", "-1.5"):
            kd.npv(-1.5, [1, 2])
        with self.fails("rate has 3 periods and flows have 2"):
            kd.npv(np.full((3, 1), 0.1), [1, 2])
        with self.fails("flows must be (periods,)"):
            kd.npv(0.1, np.zeros((2, 2, 2)))
        with self.fails("initial must be a number"):
            kd.npv(0.1, [1, 2], initial=np.zeros((2, 2)))


class Frames(Case):
    def test_columns_of_a_frame_are_kept(self):
        flows = pd.DataFrame(
            {"ferry": [-100.0, 60, 60], "pier": [-50.0, 20, 40]}, index=[2030, 2031, 2032]
        )
        for function in (
            lambda f: kd.npv(0.1, f),
            kd.irr,
            kd.payback,
            lambda f: kd.mirr(0.1, 0.1, f),
        ):
            found = function(flows)
            self.assertEqual(found.index.tolist(), ["ferry", "pier"])
            np.testing.assert_array_equal(found, function(flows.to_numpy()))
        self.assertEqual(kd.npv(0.1, flows["pier"]), kd.npv(0.1, flows["pier"].to_numpy()))
