"""Present values and internal rates of return against closed forms, SciPy and NumPy's polynomial roots."""

import warnings

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq

import kindynos as kd
from tests.common import Case


class Npv(Case):
    def test_annuity(self):
        for rate in (-0.5, 0.05, 0.4):
            self.assertAlmostEqual(kd.npv(rate, [100.0] * 7), 100 * (1 - (1 + rate) ** -7) / rate)
        self.assertEqual(kd.npv(0, [1, 2, 3], start=-4), 2)

    def test_rates_by_trial_and_by_period(self):
        flows = np.array([[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]])
        np.testing.assert_allclose(
            kd.npv([0.1, 0.2, 0.3], flows), [kd.npv(r, flows[:, i]) for i, r in enumerate((0.1, 0.2, 0.3))]
        )
        rate = np.array([[0.1], [0.2]])
        np.testing.assert_allclose(kd.npv(rate, flows), flows[0] / 1.1 + flows[1] / 1.1 / 1.2)
        np.testing.assert_allclose(kd.npv(0.1, flows, start=[-1, -2, -3]), kd.npv(0.1, flows) - [1, 2, 3])
        self.assertEqual(kd.npv(0.1, flows[:, :1]).shape, (1,))

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
        with self.fails("start must be a number"):
            kd.npv(0.1, [1, 2], start=np.zeros((2, 2)))


class Grow(Case):
    def test_compounds(self):
        np.testing.assert_allclose(kd.grow([0.1, 0.2, -0.5]), [1.1, 1.32, 0.66])
        np.testing.assert_allclose(kd.grow([0.1, 0.2, -0.5], 100, lag=1), [100, 110, 132])
        np.testing.assert_allclose(kd.grow([0.1, 0.2], lag=5), [1, 1])

    def test_by_trial(self):
        rate = np.array([[0.1, 0.2], [0.3, 0.4]])
        np.testing.assert_allclose(kd.grow(rate, [1.0, 10.0]), [[1.1, 12], [1.43, 16.8]])

    def test_errors(self):
        with self.fails("rate must be (periods,)"):
            kd.grow(0.1)
        with self.fails("lag", "at least 0"):
            kd.grow([0.1], lag=-1)


def slow_rates(flows) -> np.ndarray:
    """All rates above -1 by NumPy's companion matrix."""
    roots = np.roots(np.asarray(flows)[::-1])
    real = roots[(np.abs(roots.imag) < 1e-9) & (roots.real > 0)].real
    return np.sort(1 / real - 1)


class Irr(Case):
    def test_against_brentq(self):
        flows = np.abs(np.random.default_rng(2).normal(20, 12, (11, 300)))
        flows[0] = -100
        times = np.arange(11)
        expected = [brentq(lambda r, f=f: f @ (1 + r) ** -times.astype(float), -0.99, 20, xtol=1e-13) for f in flows.T]
        np.testing.assert_allclose(kd.irr(flows), expected, rtol=0, atol=1e-10)

    def test_all_roots_of_any_flows(self):
        rng = np.random.default_rng(3)
        flows = rng.normal(0, 10, (8, 1500)) * rng.integers(0, 2, (8, 1500))
        report = kd.irr_report(flows)
        for i in range(flows.shape[1]):
            if not flows[:, i].any():
                continue
            expected = slow_rates(np.trim_zeros(flows[:, i]))
            self.assertEqual(len(report.roots[i]), len(expected), flows[:, i])
            np.testing.assert_allclose(report.roots[i], expected, rtol=1e-8, atol=1e-9)
            self.assertEqual(report.status[i], ["none", "unique", "several"][min(len(expected), 2)])

    def test_published_case_with_two_rates(self):
        report = kd.irr_report([-100, 230, -132])
        self.assertEqual(report.status[0], "several")
        np.testing.assert_allclose(report.roots[0], [0.1, 0.2], atol=1e-10)
        self.assertTrue(np.isnan(kd.irr([-100, 230, -132])))

    def test_double_root(self):
        for flows in ([-1, 2.2, -1.21], [-100, 220, -121], [1, -2.2, 1.21]):
            report = kd.irr_report(flows)
            self.assertEqual(report.status[0], "unique")
            self.assertAlmostEqual(report.rate[0], 0.1, delta=1e-6)

    def test_none(self):
        for flows in ([1, 2, 3], [-1, -2], [0, 0, 0], [-1, 2, -2], [np.nan, 1, -1]):
            self.assertEqual(kd.irr_report(flows).status[0], "none")
            with warnings.catch_warnings(action="ignore"):
                self.assertTrue(np.isnan(kd.irr(flows)))

    def test_extremes(self):
        self.assertAlmostEqual(kd.irr([-1, 1e12]) / 1e12, 1)
        self.assertAlmostEqual(kd.irr([-1e12, 1]), 1e-12 - 1, delta=1e-15)
        self.assertEqual(kd.irr([-100, 100]), 0)
        monthly = [-1000.0] + [5.0] * 360
        self.assertAlmostEqual(kd.npv(kd.irr(monthly), monthly[1:], -1000), 0, delta=1e-9)
        self.assertAlmostEqual(kd.irr([0, 0, -100, 0, 110, 0]), 1.1**0.5 - 1)
        almost_lost = [-1000.0] + [0.01] * 360
        self.assertAlmostEqual(kd.npv(kd.irr(almost_lost), almost_lost[1:], -1000), 0, delta=1e-6)

    def test_start_comes_one_period_before(self):
        flows = np.full((3, 2), 50.0)
        np.testing.assert_allclose(kd.irr(flows, start=[-100, -120]), [kd.irr([-100, 50, 50, 50]), kd.irr([-120, 50, 50, 50])])
        self.assertAlmostEqual(kd.irr([121.0], start=-110), 0.1)

    def test_many_trials_are_as_few(self):
        flows = np.random.default_rng(5).normal(10, 30, (9, 40_000))
        flows[0] = -40
        picked = [0, 17_000, 39_999]
        np.testing.assert_allclose(kd.irr(flows)[picked], kd.irr(flows[:, picked]), atol=1e-10)

    def test_errors(self):
        with self.fails("flows must be"):
            kd.irr(3.0)
        with self.fails("start must be"):
            kd.irr([1, 2], start=np.zeros((2, 2)))

    @settings(max_examples=100, deadline=None)
    @given(st.lists(st.floats(-1000, 1000).map(lambda x: round(x, 2)), min_size=2, max_size=12))
    def test_every_root_is_a_root(self, flows):
        for rate in kd.irr_report(flows).roots[0]:
            factors = (1 + rate) ** -np.arange(len(flows), dtype=float)
            self.assertLessEqual(abs(flows @ factors), 1e-9 * (np.abs(flows) @ factors) + 1e-300)
