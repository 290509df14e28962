"""Cash-flow measures against closed forms, published figures and SciPy."""

import warnings

import numpy as np
from scipy.optimize import brentq

import kindynos as kd
from tests.common import Case, investment

RNG = np.random.default_rng(11)


class Annuities(Case):
    def test_against_sums(self):
        for rate in (0.07, 0.0, -0.2, 1e-12):
            with self.subTest(rate=rate):
                discount = (1 + rate) ** -np.arange(1, 13.0)
                self.assertAlmostEqual(kd.present_value(rate, 12, 5.0), 5 * discount.sum(), 9)
                self.assertAlmostEqual(kd.future_value(rate, 12, 5.0), 5 * discount.sum() * (1 + rate) ** 12, 8)
                self.assertAlmostEqual(kd.payment(rate, 12, 100.0), 100 / discount.sum(), 9)
                early = kd.present_value(rate, 12, 5.0, timing="start")
                self.assertAlmostEqual(early, 5 * discount.sum() * (1 + rate), 9)

    def test_lives_that_are_fractions_and_differ_by_trial(self):
        lives = np.array([1.0, 2.5, 20.0])
        expected = 0.08 / (1 - 1.08**-lives)  # the closed form holds for fractions too
        np.testing.assert_allclose(kd.capital_recovery(0.08, lives), expected, rtol=1e-13)
        np.testing.assert_allclose(kd.capital_recovery([0.08, 0.0], 4), [0.08 / (1 - 1.08**-4), 0.25])

    def test_equivalent_annual_is_worth_the_flows(self):
        flows = RNG.normal(50, 20, (8, 5))
        level = kd.equivalent_annual(0.06, flows, start=-100.0)
        np.testing.assert_allclose(kd.present_value(0.06, 8, level), kd.npv(0.06, flows, -100.0))

    def test_levelized_cost(self):
        flat = kd.levelized_cost(1000.0, 20.0, 50.0, 0.05, 10)
        self.assertAlmostEqual(flat, (1000 * kd.capital_recovery(0.05, 10) + 20) / 50, 12)
        row = np.ones((12, 1))
        for life in (10, 7.3):
            level = kd.levelized_cost(1000.0, 20.0, 50.0, 0.05, life)
            np.testing.assert_allclose(kd.levelized_cost(1000.0, 20 * row, 50 * row, 0.05, life), level)
        rising = row.cumsum(axis=0)
        discount = 1.05 ** -np.arange(1.0, 11)
        wanted = (1000 + (20 * rising[:10, 0] * discount).sum()) / (50 * discount.sum())
        np.testing.assert_allclose(kd.levelized_cost(1000.0, 20 * rising, 50.0, 0.05, 10), wanted)
        np.testing.assert_array_equal(kd.levelized_cost(1.0, row, row, 0.05, np.array([13.0])), [np.nan])

    def test_bad_input(self):
        for call, words in (
            (lambda: kd.capital_recovery(0.1, 0), ("life", "above 0")),
            (lambda: kd.present_value(-1.0, 3, 1.0), ("rate", "above -1")),
            (lambda: kd.payment(0.1, 3, 1.0, timing="late"), ("timing",)),
            (lambda: kd.equivalent_annual(np.zeros((2, 1)), np.zeros((2, 1))), ("level rate",)),
            (lambda: kd.levelized_cost(1.0, np.ones((3, 1)), 1.0, 0.1, 4), ("3 periods",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
        self.assertTrue(np.isnan(kd.capital_recovery([0.1, -2.0], [0.0, 3.0])).all())


class Measures(Case):
    def test_mirr_leads_from_what_is_put_in_to_what_comes_back(self):
        flows = np.concatenate([np.full((1, 50), -100.0), RNG.normal(25, 30, (6, 50))])
        rate = kd.mirr(flows, finance=0.09, reinvest=0.04)
        years = np.arange(7)[:, None]
        out = (np.minimum(flows, 0) * 1.09**-years).sum(axis=0)
        back = (np.maximum(flows, 0) * 1.04 ** (6 - years)).sum(axis=0)
        np.testing.assert_allclose(-out * (1 + rate) ** 6, back)
        np.testing.assert_allclose(kd.mirr(flows[1:], 0.09, 0.04, start=-100.0), rate)
        self.assertTrue(np.isnan(kd.mirr([10.0, 20.0], 0.1, 0.1)))

    def test_payback(self):
        flows = np.array([[-100.0, -100.0, 5.0], [50.0, 0.0, 0.0], [100.0, 40.0, 0.0]])
        np.testing.assert_allclose(kd.payback(flows), [1.5, np.inf, 0])
        np.testing.assert_allclose(kd.payback(flows[1:], start=np.array([-100.0, -100.0, 5.0])), [1.5, np.inf, 0])
        later = kd.discounted_payback(0.1, flows)
        self.assertAlmostEqual(later[0], 1 + (100 - 50 / 1.1) / (100 / 1.21))
        np.testing.assert_array_equal(later[1:], [np.inf, 0])
        np.testing.assert_allclose(kd.discounted_payback(np.full((2, 1), 0.1), flows), later)
        np.testing.assert_allclose(kd.discounted_payback(0.0, [-10.0, 4.0, 4.0, 4.0]), 2.5)

    def test_profitability_index_and_terminal_value(self):
        self.assertAlmostEqual(kd.profitability_index(0.1, [60.0, 60.0], -100.0), kd.npv(0.1, [60.0, 60.0]) / 100)
        years = np.arange(1, 3000)
        forever = (100 * 1.02**years / 1.08**years).sum()
        self.assertAlmostEqual(kd.terminal_value(100.0, 0.08, 0.02), forever, 6)
        np.testing.assert_allclose(kd.terminal_value(100.0, [0.08, 0.02], 0.02), [1700, np.nan])

    def test_value_per_share(self):
        flows = RNG.uniform(80, 120, (5, 4))
        worth = kd.npv(0.09, flows) + kd.terminal_value(flows[-1], 0.09, 0.01) / 1.09**5
        np.testing.assert_allclose(kd.value_per_share(flows, 0.09, 0.01, shares=50, debt=200.0), (worth - 200) / 50)
        single = kd.value_per_share(flows[:, 0], 0.09, 0.01, shares=50)
        self.assertAlmostEqual(single, worth[0] / 50)

    def test_bad_input(self):
        for call, words in (
            (lambda: kd.terminal_value(1.0, 0.02, 0.03), ("growth 0.03", "below the rate 0.02")),
            (lambda: kd.profitability_index(0.1, [1.0], 5.0), ("start", "below 0")),
            (lambda: kd.value_per_share([1.0], 0.1, 0.0, shares=0), ("shares", "above 0")),
            (lambda: kd.mirr([-1.0], 0.1, 0.1), ("two flows",)),
            (lambda: kd.mirr([-1.0, 2.0], -1.5, 0.1), ("above -1",)),
            (lambda: kd.discounted_payback(np.zeros((5, 1)), np.ones((3, 1))), ("5 periods",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()

    def test_trials_without_a_value_are_counted_and_named(self):
        model = investment(hurdle=kd.Uniform(0.0, 0.1))
        model.outcome("after", "terminal_value(last(cash_flow), hurdle, 0.05)")
        run = model.simulate(2000, seed=1)
        self.assertEqual(run["after"].bad, int((run["hurdle"].values <= 0.05).sum()))
        self.assertEqual(list(run.notes("after").values()), [run["after"].bad])
        self.assertIn("growth at or above the rate", next(iter(run.notes("after"))))

    def test_every_measure_is_a_word_of_formulas(self):
        model = investment()
        formulas = {
            "mirr(cash_flow, 0.08, 0.05, -price)": lambda f: kd.mirr(f, 0.08, 0.05, start=-300.0),
            "payback(cash_flow, -price)": lambda f: kd.payback(f, start=-300.0),
            "discounted_payback(hurdle, cash_flow, -price)": lambda f: kd.discounted_payback(0.1, f, start=-300.0),
            "profitability_index(hurdle, cash_flow, -price)": lambda f: kd.profitability_index(0.1, f, -300.0),
            "equivalent_annual(hurdle, cash_flow)": lambda f: kd.equivalent_annual(0.1, f),
            "payment(hurdle, 5, flow) + present_value(hurdle, 5, flow, timing='start') + future_value(hurdle, 5, flow)": (
                lambda f: kd.payment(0.1, 5, f[0]) + kd.present_value(0.1, 5, f[0], "start") + kd.future_value(0.1, 5, f[0])
            ),
            "flow * capital_recovery(hurdle, 4.5)": lambda f: f[0] * kd.capital_recovery(0.1, 4.5),
            "levelized_cost(price, cash_flow, 10, hurdle, 4)": lambda f: kd.levelized_cost(300.0, f, 10.0, 0.1, 4),
            "value_per_share(cash_flow, hurdle, 0.02, 10)": lambda f: kd.value_per_share(f, 0.1, 0.02, 10),
        }
        for place, formula in enumerate(formulas):
            model.outcome(f"y{place}", formula)
        run = model.simulate(300, seed=2, keep=["cash_flow"])
        for place, (formula, compute) in enumerate(formulas.items()):
            with self.subTest(formula=formula):
                np.testing.assert_allclose(run[f"y{place}"].values, compute(run["cash_flow"].values), rtol=1e-12)


class Dated(Case):
    dates = np.datetime64("2028-01-15") + np.cumsum([0, 31, 200, 365, 100, 45])
    years = (dates - dates[0]).astype(float) / 365

    def test_against_brentq(self):
        flows = RNG.normal(30, 12, (6, 200)).clip(1)
        flows[0] = -100
        found = kd.xirr(flows, list(self.dates))
        for trial in range(0, 200, 10):
            root = brentq(lambda r, f=flows[:, trial]: f @ (1 + r) ** -self.years, -0.99, 50, xtol=1e-14)
            self.assertLess(abs(found[trial] - root), 1e-10)
        np.testing.assert_allclose(kd.xnpv(found, flows, self.dates.astype(str)), 0, atol=1e-7)

    def test_even_dates_give_irr(self):
        flows = RNG.normal(0, 10, (7, 500))
        flows[0] -= 20
        days = np.datetime64("2029-01-01") + 365 * np.arange(7)
        np.testing.assert_allclose(kd.xirr(flows, days), kd.irr(flows), rtol=1e-8, atol=1e-10)
        np.testing.assert_allclose(kd.xnpv(0.07, flows, days), kd.npv(0.07, flows[1:], flows[0]))

    def test_extremes_cannot_run_away(self):
        self.assertAlmostEqual(np.log1p(kd.xirr([-100.0, 200.0], ["2028-01-01", "2028-01-02"])), 365 * np.log(2), 8)
        self.assertAlmostEqual(kd.xirr([-100.0, 1e-6], ["2028-01-01", "2028-12-31"]), 1e-8 - 1, 12)
        self.assertTrue(np.isnan(kd.xirr([-100.0, 230.0, -132.0], ["2028-01-01", "2028-12-31", "2029-12-31"])))

    def test_flows_of_one_sign_are_told(self):
        for function, more in ((kd.irr, ()), (kd.xirr, (self.dates[:2],))):
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                self.assertTrue(np.isnan(function([10.0, 20.0], *more)))
            self.assertIn("all of one sign", str(caught[0].message))

    def test_bad_dates(self):
        flows = [-100.0, 50.0, 60.0]
        for dates, words in (
            (["2028-01-01", "2028-03-01", "2028-02-01"], ("date 3", "in order")),
            (["2028-01-01", "2028-03-01", "2028-03-01"], ("date 3", "twice")),
            (["2028-01-01", "soon", "2028-03-01"], ("date 2", "'soon'")),
            (["2028-01-01", "NaT", "2028-03-01"], ("date 2", "missing")),
            (["2028-01-01", "2028-03-01"], ("3 flows", "not 2")),
        ):
            with self.subTest(dates=dates), self.fails(*words):
                kd.xirr(flows, dates)
        with self.fails("rate", "above -1"):
            kd.xnpv(-1.0, flows, self.dates[:3])


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
