"""What must hold for any figures: identities between measures, drawn by Hypothesis."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import kindynos as kd
from tests.common import Case

rates = st.floats(-0.5, 1.0).filter(lambda r: abs(r) > 1e-6 or r == 0)
lives = st.floats(0.25, 60.0)
amounts = st.floats(-1e6, 1e6)
rows = arrays(np.int64, (6, 5), elements=st.integers(-1000, 1000)).map(lambda made: made.astype(float))
quick = settings(max_examples=30, deadline=None)


class Annuities(Case):
    @quick
    @given(rates, lives, amounts)
    def test_a_payment_is_worth_what_it_pays_back(self, rate, life, amount):
        level = kd.payment(rate, life, amount)
        self.assertAlmostEqual(kd.present_value(rate, life, level), amount, delta=1e-9 * max(abs(amount), 1))
        grown = kd.present_value(rate, life, level) * (1 + rate) ** life
        self.assertAlmostEqual(kd.future_value(rate, life, level), grown, delta=1e-8 * max(abs(grown), 1))

    @quick
    @given(rates, lives)
    def test_recovery_of_a_capital_is_a_payment_of_one(self, rate, life):
        self.assertAlmostEqual(kd.capital_recovery(rate, life), kd.payment(rate, life, 1.0), 12)
        early = kd.present_value(rate, life, 1.0, timing="start")
        self.assertAlmostEqual(early, kd.present_value(rate, life, 1.0) * (1 + rate), delta=1e-9 * early)

    @quick
    @given(st.floats(0.01, 0.3), st.floats(-0.2, 0.009), st.floats(1, 1e5))
    def test_a_terminal_value_earns_its_rate(self, rate, growth, flow):
        # What is worth V pays flow (1 + g) next period and is then worth V (1 + g).
        value = kd.terminal_value(flow, rate, growth)
        self.assertAlmostEqual(value * (1 + rate), flow * (1 + growth) + value * (1 + growth), delta=1e-9 * abs(value))


class Flows(Case):
    @quick
    @given(rows, st.floats(-0.4, 0.8))
    def test_npv_is_linear_and_a_dated_one_agrees(self, flows, rate):
        whole = kd.npv(rate, flows)
        np.testing.assert_allclose(kd.npv(rate, 2 * flows, start=3.0), 2 * whole + 3, rtol=1e-9, atol=1e-6)
        dates = np.datetime64("2030-01-01") + 365 * np.arange(7)
        dated = kd.xnpv(rate, np.vstack([np.zeros(5), flows]), dates)
        np.testing.assert_allclose(dated, whole, rtol=1e-9, atol=1e-6)

    @quick
    @given(arrays(np.float64, 6, elements=st.floats(1, 1000)), st.floats(10, 5000))
    def test_a_rate_of_return_makes_the_value_zero(self, flows, price):
        rate = kd.irr(flows, start=-price)
        self.assertLess(abs(kd.npv(rate, flows, -price)), 1e-6 * price)
        days = np.datetime64("2030-01-01") + np.array([0, 40, 100, 365, 400, 900, 1500])
        dated = kd.xirr(np.r_[-price, flows], days)
        self.assertLess(abs(kd.xnpv(dated, np.r_[-price, flows], days)), 1e-6 * price)

    @quick
    @given(rows)
    def test_dated_rates_are_all_found(self, flows):
        from kindynos.finance.dated import Dated
        from kindynos.finance.rates import solve

        days = np.datetime64("2030-01-01") + np.array([0, 31, 90, 365, 700, 1100])
        years = (days - days[0]).astype(float) / 365
        report = solve(flows, Dated(years))
        for trial in range(5):
            size = np.abs(flows[:, trial]).sum()
            for rate in report.roots[trial]:
                terms = flows[:, trial] * (1 + rate) ** -years
                self.assertLess(abs(terms.sum()), 1e-7 * max(np.abs(terms).sum(), 1e-12 * size))
            y = np.linspace(-3, 3, 4001)
            values = np.sign(np.exp(-np.outer(y, years)) @ flows[:, trial])
            crossings = np.count_nonzero(values[1:] * values[:-1] < 0)
            inside = np.count_nonzero(np.abs(np.log1p(report.roots[trial])) < 3)
            self.assertGreaterEqual(inside, crossings)

    @quick
    @given(rows, st.floats(0.0, 0.5))
    def test_paybacks(self, flows, rate):
        whole = kd.payback(flows)
        later = kd.discounted_payback(0.0, flows)
        np.testing.assert_allclose(whole, later)
        total = np.cumsum(flows, axis=0)
        np.testing.assert_array_equal(np.isinf(whole), (total < 0).all(axis=0))
        positive = np.abs(flows) * np.where(np.arange(6)[:, None] == 0, -1, 1)
        self.assertTrue((kd.discounted_payback(rate, positive) >= kd.payback(positive) - 1e-9).all())

    @quick
    @given(rows, st.floats(-0.3, 0.5))
    def test_equivalent_annual_is_worth_the_same(self, flows, rate):
        level = kd.equivalent_annual(rate, flows)
        np.testing.assert_allclose(kd.npv(rate, np.broadcast_to(level, (6, 5))), kd.npv(rate, flows), rtol=1e-8, atol=1e-6)


class Ledgers(Case):
    @quick
    @given(rows, arrays(np.float64, (6, 5), elements=st.floats(-0.3, 0.3)), st.floats(0, 2000))
    def test_balances(self, flows, rate, opening):
        balance = kd.roll_forward(opening, rate, flows)
        before = np.vstack([np.full(5, opening), balance[:-1]])
        np.testing.assert_allclose(balance, before * (1 + rate) + flows, rtol=1e-9, atol=1e-6)
        more = kd.roll_forward(opening + 100, rate, flows)
        np.testing.assert_allclose(more - balance, 100 * kd.grow(rate), rtol=1e-6, atol=1e-6)

    @quick
    @given(rows, arrays(np.float64, (6, 5), elements=st.floats(-0.3, 0.3)), st.floats(0, 2000))
    def test_a_floor_neither_makes_nor_loses_money(self, flows, rate, opening):
        floored = kd.roll_forward(opening, rate, flows, floor=0.0)
        unpaid = kd.roll_forward(opening, rate, flows, floor=0.0, shortfall=True)
        self.assertGreaterEqual(floored.min(), -1e-9)
        self.assertGreaterEqual(unpaid.min(), 0)
        self.assertTrue((unpaid <= np.maximum(-flows, 0) + 1e-9).all())
        np.testing.assert_allclose(kd.roll_forward(opening, rate, flows + unpaid), floored, rtol=1e-6, atol=1e-6)
        ruined = kd.first_period(kd.roll_forward(opening, rate, flows) < -1e-9)
        np.testing.assert_array_equal(np.isinf(kd.first_period(unpaid > 1e-9)), np.isinf(ruined))

    @quick
    @given(rows, st.integers(0, 8))
    def test_at_reads_a_period(self, row, number):
        found = kd.at(row, number)
        if 1 <= number <= 6:
            np.testing.assert_array_equal(found, row[number - 1])
        else:
            self.assertTrue(np.isnan(found).all())


class Falls(Case):
    @quick
    @given(arrays(np.float64, (9, 4), elements=st.floats(0.1, 1000)), st.floats(0.01, 100))
    def test_falls_do_not_depend_on_the_unit(self, paths, unit):
        np.testing.assert_allclose(kd.max_drawdown(paths * unit), kd.max_drawdown(paths), atol=1e-9)
        falls = kd.drawdown(paths)
        self.assertTrue(((falls >= 0) & (falls < 1)).all())
        np.testing.assert_allclose(falls.max(axis=0), kd.max_drawdown(paths), atol=1e-12)
        rising = np.sort(paths, axis=0)
        np.testing.assert_array_equal(kd.max_drawdown(rising), 0)
        self.assertTrue((kd.drawdown_duration(paths) >= (kd.time_under_water(paths) > 0)).all())
        np.testing.assert_allclose((1 + kd.compound_growth(paths)) ** 8, paths[-1] / paths[0], rtol=1e-9)
