"""Tests of irr."""

import warnings
from fractions import Fraction
from itertools import pairwise, zip_longest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq

import kindynos as kd
from tests.common import Case


def slow_rates(flows) -> np.ndarray:
    """All rates above -1 by NumPy's companion matrix."""
    roots = np.roots(np.asarray(flows)[::-1])
    real = roots[(np.abs(roots.imag) < 1e-9) & (roots.real > 0)].real
    return np.sort(1 / real - 1)


def count_of_rates(flows) -> int:
    """How many rates above -1 whole-number flows have, by Sturm's theorem in exact fractions."""
    highest_first = [Fraction(int(flow)) for flow in np.trim_zeros(flows)][::-1]
    degree = len(highest_first) - 1
    chain = [highest_first, [c * (degree - i) for i, c in enumerate(highest_first[:-1])]]
    while chain[-1]:
        rest = chain[-2][:]
        while len(rest) >= len(chain[-1]):
            factor = rest[0] / chain[-1][0]
            rest = [a - factor * b for a, b in zip_longest(rest, chain[-1], fillvalue=Fraction(0))][
                1:
            ]
        while rest and rest[0] == 0:
            rest.pop(0)
        chain.append([-c for c in rest])

    def changes(values) -> int:
        signs = [value > 0 for value in values if value != 0]
        return sum(a != b for a, b in pairwise(signs))

    return changes([part[-1] for part in chain[:-1]]) - changes([part[0] for part in chain[:-1]])


class Irr(Case):
    def test_count_of_rates_is_exact(self):
        flows = np.random.default_rng(7).integers(-9, 10, (6, 600)).astype(float)
        flows[-1, :300] = -flows[:-1, :300].sum(axis=0)
        flows[:, :4] = np.transpose(
            [[4, -4, 1, 0, 0, 0], [1, -5, 8, -4, 0, 0], [2, -8, 8, 0, 0, 0], [1, -2, 1, 0, 0, 0]]
        )
        flows = flows[:, np.count_nonzero(flows, axis=0) > 1]
        report, mirrored = kd.irr_report(flows), kd.irr_report(-flows)
        for trial, column in enumerate(flows.T):
            self.assertEqual(report.count[trial], count_of_rates(column), column)
            np.testing.assert_allclose(report.roots[trial], mirrored.roots[trial], atol=1e-9)

    def test_many_periods(self):
        rng = np.random.default_rng(4)
        for periods in (70, 150):
            flows = np.round(3 * rng.standard_normal((periods, 12)))
            flows[0] = -5.0
            report = kd.irr_report(flows)
            for trial in range(12):
                expected = slow_rates(np.trim_zeros(flows[:, trial]))
                self.assertEqual(report.count[trial], len(expected))
                np.testing.assert_allclose(report.roots[trial], expected, rtol=1e-6, atol=1e-7)
        # (1.1 x - 1) times a sum of even powers
        alternating = np.where(np.arange(4000) % 2, 1.1, -1.0)
        np.testing.assert_allclose(kd.irr_report(alternating).roots[0], [0.1])
        grown = -np.ones(3000)
        grown[1] = (
            # 2.21 x - 1 - x^2 - ..., of which x = 1 / 1.1 is a root but for what lies beyond the
            # end
            2.21
        )
        np.testing.assert_allclose(
            kd.irr_report(grown).roots[0], slow_rates(grown[:400]), atol=1e-6
        )

    def test_against_brentq(self):
        flows = np.abs(np.random.default_rng(2).normal(20, 12, (11, 300)))
        flows[0] = -100
        times = np.arange(11)
        expected = [
            brentq(lambda r, f=f: f @ (1 + r) ** -times.astype(float), -0.99, 20, xtol=1e-13)
            for f in flows.T
        ]
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

    def test_flows_that_sum_to_nothing_have_a_rate_of_0(self):
        np.testing.assert_allclose(kd.irr_report([-4, 5, -1]).roots[0], [-0.75, 0], atol=1e-14)
        rng = np.random.default_rng(5)
        flows = rng.integers(-9, 10, (6, 1000)).astype(float)
        flows[-1] = -flows[:-1].sum(axis=0)
        flows = flows[:, (flows != 0).any(axis=0)]
        for roots in kd.irr_report(flows).roots:
            self.assertEqual(np.count_nonzero(np.abs(roots) < 1e-12), 1)

    def test_the_answer_of_a_trial_is_its_own(self):
        rng = np.random.default_rng(6)
        flows = rng.normal(0.3, 1, (10, 600))
        flows[0] = -3 * (rng.random(600) < 0.9)
        together, alone = kd.irr(flows), [kd.irr(flows[:, i]) for i in range(600)]
        # but for the rounding of vector instructions
        np.testing.assert_allclose(together, alone, rtol=1e-15)

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
        np.testing.assert_allclose(
            kd.irr(flows, initial=[-100, -120]),
            [kd.irr([-100, 50, 50, 50]), kd.irr([-120, 50, 50, 50])],
        )
        self.assertAlmostEqual(kd.irr([121.0], initial=-110), 0.1)

    def test_many_trials_are_as_few(self):
        flows = np.random.default_rng(5).normal(10, 30, (9, 40_000))
        flows[0] = -40
        picked = [0, 17_000, 39_999]
        np.testing.assert_allclose(kd.irr(flows)[picked], kd.irr(flows[:, picked]), atol=1e-10)

    def test_the_answer_is_its_own_to_the_bit(self):
        """Trials that settle while most others have not are not sought again by another way."""
        growth = np.random.default_rng(1).normal(0.01, 0.02, (60, 1_500))
        hard = 100 * np.random.default_rng(2).normal(0.01, 0.02, (24, 120))
        for flows in (2 * np.cumprod(1 + growth, axis=0) - 2.04, hard):
            whole, count = kd.irr(flows), flows.shape[1]
            parts = [kd.irr(flows[:, begin : begin + 37].copy()) for begin in range(0, count, 37)]
            np.testing.assert_array_equal(whole, np.concatenate(parts))

    def test_errors(self):
        with self.fails("flows must be"):
            kd.irr(3.0)
        with self.fails("initial must be"):
            kd.irr([1, 2], initial=np.zeros((2, 2)))

    @settings(max_examples=100, deadline=None)
    @given(st.lists(st.floats(-1000, 1000).map(lambda x: round(x, 2)), min_size=2, max_size=12))
    def test_every_root_is_a_root(self, flows):
        for rate in kd.irr_report(flows).roots[0]:
            factors = (1 + rate) ** -np.arange(len(flows), dtype=float)
            self.assertLessEqual(abs(flows @ factors), 1e-9 * (np.abs(flows) @ factors) + 1e-300)


class OneRateAfterSeveralChanges(Case):
    def flows(self, count=4000):
        made = np.random.default_rng(3).normal(20, 30, (9, count))
        made[0] = -60
        changes = (np.sign(made[1:]) != np.sign(made[:-1])).sum(axis=0)
        return made[:, changes > 1]

    def test_rates_are_roots_and_the_only_ones(self):
        flows = self.flows()
        report = kd.irr_report(flows)
        unique = report.status == "unique"
        self.assertGreater(unique.sum(), 500)
        years = np.arange(9)[:, None]
        worth = (flows[:, unique] * (1 + report.rate[unique]) ** -years).sum(axis=0)
        size = (np.abs(flows[:, unique]) * (1 + report.rate[unique]) ** -years).sum(axis=0)
        self.assertLess(np.abs(worth / size).max(), 1e-9)
        for trial in np.flatnonzero(unique)[:40]:
            roots = np.roots(flows[::-1, trial])  # of the polynomial in 1 / (1 + rate)
            real = roots[(np.abs(roots.imag) < 1e-9) & (roots.real > 1e-9)].real
            self.assertEqual(len(real), 1)
            self.assertAlmostEqual(report.rate[trial], 1 / real[0] - 1, delta=1e-7)

    def test_none_and_several_are_those_of_the_polynomial(self):
        flows = self.flows(600)
        report = kd.irr_report(flows)
        for trial in range(0, flows.shape[1], 5):
            roots = np.roots(flows[::-1, trial])
            real = roots[(np.abs(roots.imag) < 1e-9) & (roots.real > 1e-9)].real
            self.assertEqual(report.count[trial], len(real))
            np.testing.assert_allclose(report.roots[trial], np.sort(1 / real - 1), atol=1e-5)
