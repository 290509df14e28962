"""Tests of annuities."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

import kindynos as kd
from tests.common import Case

RNG = np.random.default_rng(11)


rates = st.floats(-0.5, 1.0).filter(lambda r: abs(r) > 1e-6 or r == 0)


lives = st.floats(0.25, 60.0)


amounts = st.floats(-1e6, 1e6)


quick = settings(max_examples=30, deadline=None)


class Annuities(Case):
    def test_against_sums(self):
        for rate in (0.07, 0.0, -0.2, 1e-12):
            with self.subTest(rate=rate):
                discount = (1 + rate) ** -np.arange(1, 13.0)
                self.assertAlmostEqual(
                    kd.finance.present_value(rate, 12, 5.0), 5 * discount.sum(), 9
                )
                self.assertAlmostEqual(
                    kd.finance.future_value(rate, 12, 5.0), 5 * discount.sum() * (1 + rate) ** 12, 8
                )
                self.assertAlmostEqual(kd.finance.payment(rate, 12, 100.0), 100 / discount.sum(), 9)
                early = kd.finance.present_value(rate, 12, 5.0, timing="start")
                self.assertAlmostEqual(early, 5 * discount.sum() * (1 + rate), 9)

    def test_lives_that_are_fractions_and_differ_by_trial(self):
        lives = np.array([1.0, 2.5, 20.0])
        expected = 0.08 / (1 - 1.08**-lives)  # the closed form holds for fractions too
        np.testing.assert_allclose(kd.finance.capital_recovery(0.08, lives), expected, rtol=1e-13)
        np.testing.assert_allclose(
            kd.finance.capital_recovery([0.08, 0.0], 4), [0.08 / (1 - 1.08**-4), 0.25]
        )

    def test_equivalent_annual_is_worth_the_flows(self):
        flows = RNG.normal(50, 20, (8, 5))
        level = kd.finance.equivalent_annual(0.06, flows, initial=-100.0)
        np.testing.assert_allclose(
            kd.finance.present_value(0.06, 8, level), kd.npv(0.06, flows, -100.0)
        )

    def test_levelized_cost(self):
        flat = kd.levelized_cost(0.05, 10, 1000.0, 20.0, 50.0)
        self.assertAlmostEqual(flat, (1000 * kd.finance.capital_recovery(0.05, 10) + 20) / 50, 12)
        row = np.ones((12, 1))
        for life in (10, 7.3):
            level = kd.levelized_cost(0.05, life, 1000.0, 20.0, 50.0)
            np.testing.assert_allclose(
                kd.levelized_cost(0.05, life, 1000.0, 20 * row, 50 * row), level
            )
        rising = row.cumsum(axis=0)
        discount = 1.05 ** -np.arange(1.0, 11)
        wanted = (1000 + (20 * rising[:10, 0] * discount).sum()) / (50 * discount.sum())
        np.testing.assert_allclose(kd.levelized_cost(0.05, 10, 1000.0, 20 * rising, 50.0), wanted)
        np.testing.assert_array_equal(
            kd.levelized_cost(0.05, np.array([13.0]), 1.0, row, row), [np.nan]
        )

    def test_bad_input(self):
        for call, words in (
            (lambda: kd.finance.capital_recovery(0.1, 0), ("life", "above 0")),
            (lambda: kd.finance.present_value(-1.0, 3, 1.0), ("rate", "above -1")),
            (lambda: kd.finance.payment(0.1, 3, 1.0, timing="late"), ("timing",)),
            (
                lambda: kd.finance.equivalent_annual(np.zeros((2, 1)), np.zeros((2, 1))),
                ("level rate",),
            ),
            (lambda: kd.levelized_cost(0.1, 4, 1.0, np.ones((3, 1)), 1.0), ("3 periods",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
        self.assertTrue(np.isnan(kd.finance.capital_recovery([0.1, -2.0], [0.0, 3.0])).all())


class AnnuityIdentities(Case):
    @quick
    @given(rates, lives, amounts)
    def test_a_payment_is_worth_what_it_pays_back(self, rate, life, amount):
        level = kd.finance.payment(rate, life, amount)
        self.assertAlmostEqual(
            kd.finance.present_value(rate, life, level), amount, delta=1e-9 * max(abs(amount), 1)
        )
        grown = kd.finance.present_value(rate, life, level) * (1 + rate) ** life
        self.assertAlmostEqual(
            kd.finance.future_value(rate, life, level), grown, delta=1e-8 * max(abs(grown), 1)
        )

    @quick
    @given(rates, lives)
    def test_recovery_of_a_capital_is_a_payment_of_one(self, rate, life):
        self.assertAlmostEqual(
            kd.finance.capital_recovery(rate, life), kd.finance.payment(rate, life, 1.0), 12
        )
        early = kd.finance.present_value(rate, life, 1.0, timing="start")
        self.assertAlmostEqual(
            early, kd.finance.present_value(rate, life, 1.0) * (1 + rate), delta=1e-9 * early
        )

    @quick
    @given(st.floats(0.01, 0.3), st.floats(-0.2, 0.009), st.floats(1, 1e5))
    def test_a_terminal_value_earns_its_rate(self, rate, growth, flow):
        # What is worth V pays flow (1 + g) next period and is then worth V (1 + g).
        value = kd.terminal_value(rate, flow, growth)
        self.assertAlmostEqual(
            value * (1 + rate), flow * (1 + growth) + value * (1 + growth), delta=1e-9 * abs(value)
        )
