"""Tests of measures."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import kindynos as kd
from tests.common import Case, investment

RNG = np.random.default_rng(11)


rows = arrays(np.int64, (6, 5), elements=st.integers(-1000, 1000)).map(
    lambda made: made.astype(float)
)


quick = settings(max_examples=30, deadline=None)


class Measures(Case):
    def test_mirr_leads_from_what_is_put_in_to_what_comes_back(self):
        flows = np.concatenate([np.full((1, 50), -100.0), RNG.normal(25, 30, (6, 50))])
        rate = kd.mirr(0.09, 0.04, flows)
        years = np.arange(7)[:, None]
        out = (np.minimum(flows, 0) * 1.09**-years).sum(axis=0)
        back = (np.maximum(flows, 0) * 1.04 ** (6 - years)).sum(axis=0)
        np.testing.assert_allclose(-out * (1 + rate) ** 6, back)
        np.testing.assert_allclose(kd.mirr(0.09, 0.04, flows[1:], initial=-100.0), rate)
        self.assertTrue(np.isnan(kd.mirr(0.1, 0.1, [10.0, 20.0])))

    def test_payback(self):
        flows = np.array([[-100.0, -100.0, 5.0], [50.0, 0.0, 0.0], [100.0, 40.0, 0.0]])
        np.testing.assert_allclose(kd.payback(flows), [1.5, np.inf, 0])
        np.testing.assert_allclose(
            kd.payback(flows[1:], initial=np.array([-100.0, -100.0, 5.0])), [1.5, np.inf, 0]
        )
        later = kd.discounted_payback(0.1, flows)
        self.assertAlmostEqual(later[0], 1 + (100 - 50 / 1.1) / (100 / 1.21))
        np.testing.assert_array_equal(later[1:], [np.inf, 0])
        np.testing.assert_allclose(kd.discounted_payback(np.full((2, 1), 0.1), flows), later)
        np.testing.assert_allclose(kd.discounted_payback(0.0, [-10.0, 4.0, 4.0, 4.0]), 2.5)
        for late, wanted in (
            ([0, -100, 60, 60], 2 + 40 / 60),
            ([50, -100, 60], 1 + 50 / 60),
            ([10, 10], 0),
            ([-100, 60, 40], 2),
            ([-100, 60, 40, -5, 10], 2),
        ):
            self.assertAlmostEqual(kd.payback(late), wanted)
            self.assertAlmostEqual(kd.discounted_payback(0.0, late), wanted)

    def test_profitability_index_and_terminal_value(self):
        self.assertAlmostEqual(
            kd.profitability_index(0.1, [60.0, 60.0], -100.0), kd.npv(0.1, [60.0, 60.0]) / 100
        )
        years = np.arange(1, 3000)
        forever = (100 * 1.02**years / 1.08**years).sum()
        self.assertAlmostEqual(kd.terminal_value(0.08, 100.0, 0.02), forever, 6)
        np.testing.assert_allclose(kd.terminal_value([0.08, 0.02], 100.0, 0.02), [1700, np.nan])

    def test_value_per_share(self):
        flows = RNG.uniform(80, 120, (5, 4))
        worth = kd.npv(0.09, flows) + kd.terminal_value(0.09, flows[-1], 0.01) / 1.09**5
        np.testing.assert_allclose(
            kd.value_per_share(0.09, flows, 0.01, shares=50, debt=200.0), (worth - 200) / 50
        )
        single = kd.value_per_share(0.09, flows[:, 0], 0.01, shares=50)
        self.assertAlmostEqual(single, worth[0] / 50)

    def test_bad_input(self):
        for call, words in (
            (lambda: kd.terminal_value(0.02, 1.0, 0.03), ("growth 0.03", "below the rate 0.02")),
            (lambda: kd.profitability_index(0.1, [1.0], 5.0), ("initial", "below 0")),
            (lambda: kd.value_per_share(0.1, [1.0], 0.0, shares=0), ("shares", "above 0")),
            (lambda: kd.mirr(0.1, 0.1, [-1.0]), ("two flows",)),
            (lambda: kd.mirr(-1.5, 0.1, [-1.0, 2.0]), ("above -1",)),
            (lambda: kd.discounted_payback(np.zeros((5, 1)), np.ones((3, 1))), ("5 periods",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()

    def test_trials_without_a_value_are_counted_and_named(self):
        model = investment(hurdle=kd.Uniform(0.0, 0.1))
        model.outcome("after", "terminal_value(hurdle, last(cash_flow), 0.05)")
        run = model.simulate(2000, seed=1)
        self.assertEqual(run["after"].n_failed, int((run["hurdle"].values <= 0.05).sum()))
        self.assertEqual(list(run.warnings_of("after").values()), [run["after"].n_failed])
        self.assertIn("growth at or above the rate", next(iter(run.warnings_of("after"))))

    def test_every_measure_is_a_word_of_formulas(self):
        model = investment()
        formulas = {
            "mirr(0.08, 0.05, cash_flow, -price)": lambda f: kd.mirr(0.08, 0.05, f, initial=-300.0),
            "payback(cash_flow, -price)": lambda f: kd.payback(f, initial=-300.0),
            "discounted_payback(hurdle, cash_flow, -price)": lambda f: kd.discounted_payback(
                0.1, f, initial=-300.0
            ),
            "profitability_index(hurdle, cash_flow, -price)": lambda f: kd.profitability_index(
                0.1, f, -300.0
            ),
            "equivalent_annual(hurdle, cash_flow)": lambda f: kd.finance.equivalent_annual(0.1, f),
            "payment(hurdle, 5, flow) + present_value(hurdle, 5, flow, timing='start') + "
            "future_value(hurdle, 5, flow)": (
                lambda f: (
                    kd.finance.payment(0.1, 5, f[0])
                    + kd.finance.present_value(0.1, 5, f[0], "start")
                    + kd.finance.future_value(0.1, 5, f[0])
                )
            ),
            "flow * capital_recovery(hurdle, 4.5)": lambda f: (
                f[0] * kd.finance.capital_recovery(0.1, 4.5)
            ),
            "levelized_cost(hurdle, 4, price, cash_flow, 10)": lambda f: kd.levelized_cost(
                0.1, 4, 300.0, f, 10.0
            ),
            "value_per_share(hurdle, cash_flow, 0.02, 10)": lambda f: kd.value_per_share(
                0.1, f, 0.02, 10
            ),
        }
        for place, formula in enumerate(formulas):
            model.outcome(f"y{place}", formula)
        run = model.simulate(300, seed=2, keep=["cash_flow"])
        for place, (formula, compute) in enumerate(formulas.items()):
            with self.subTest(formula=formula):
                np.testing.assert_allclose(
                    run[f"y{place}"].values, compute(run["cash_flow"].values), rtol=1e-12
                )


class Flows(Case):
    @quick
    @given(rows, st.floats(-0.4, 0.8))
    def test_npv_is_linear_and_a_dated_one_agrees(self, flows, rate):
        whole = kd.npv(rate, flows)
        np.testing.assert_allclose(
            kd.npv(rate, 2 * flows, initial=3.0), 2 * whole + 3, rtol=1e-9, atol=1e-6
        )
        dates = np.datetime64("2030-01-01") + 365 * np.arange(7)
        dated = kd.npv_dated(rate, np.vstack([np.zeros(5), flows]), dates)
        np.testing.assert_allclose(dated, whole, rtol=1e-9, atol=1e-6)

    @quick
    @given(arrays(np.float64, 6, elements=st.floats(1, 1000)), st.floats(10, 5000))
    def test_a_rate_of_return_makes_the_value_zero(self, flows, price):
        rate = kd.irr(flows, initial=-price)
        self.assertLess(abs(kd.npv(rate, flows, -price)), 1e-6 * price)
        days = np.datetime64("2030-01-01") + np.array([0, 40, 100, 365, 400, 900, 1500])
        dated = kd.irr_dated(np.r_[-price, flows], days)
        self.assertLess(abs(kd.npv_dated(dated, np.r_[-price, flows], days)), 1e-6 * price)

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
        owed = np.maximum.accumulate(total < 0, axis=0)
        np.testing.assert_array_equal(
            np.isinf(whole), owed[-1] & ~(owed & (total >= 0)).any(axis=0)
        )
        positive = np.abs(flows) * np.where(np.arange(6)[:, None] == 0, -1, 1)
        self.assertTrue(
            (kd.discounted_payback(rate, positive) >= kd.payback(positive) - 1e-9).all()
        )

    @quick
    @given(rows, st.floats(-0.3, 0.5))
    def test_equivalent_annual_is_worth_the_same(self, flows, rate):
        level = kd.finance.equivalent_annual(rate, flows)
        np.testing.assert_allclose(
            kd.npv(rate, np.broadcast_to(level, (6, 5))), kd.npv(rate, flows), rtol=1e-8, atol=1e-6
        )
