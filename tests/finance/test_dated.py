"""Tests of dated."""

import warnings

import numpy as np
from scipy.optimize import brentq

import kindynos as kd
from tests.common import Case

RNG = np.random.default_rng(11)


class Dated(Case):
    dates = np.datetime64("2028-01-15") + np.cumsum([0, 31, 200, 365, 100, 45])
    years = (dates - dates[0]).astype(float) / 365

    def test_against_brentq(self):
        flows = RNG.normal(30, 12, (6, 200)).clip(1)
        flows[0] = -100
        found = kd.irr_dated(flows, list(self.dates))
        for trial in range(0, 200, 10):
            root = brentq(
                lambda r, f=flows[:, trial]: f @ (1 + r) ** -self.years, -0.99, 50, xtol=1e-14
            )
            self.assertLess(abs(found[trial] - root), 1e-10)
        np.testing.assert_allclose(kd.npv_dated(found, flows, self.dates.astype(str)), 0, atol=1e-7)

    def test_even_dates_give_irr(self):
        flows = RNG.normal(0, 10, (7, 500))
        flows[0] -= 20
        days = np.datetime64("2029-01-01") + 365 * np.arange(7)
        np.testing.assert_allclose(kd.irr_dated(flows, days), kd.irr(flows), rtol=1e-8, atol=1e-10)
        np.testing.assert_allclose(
            kd.npv_dated(0.07, flows, days), kd.npv(0.07, flows[1:], flows[0])
        )

    def test_extremes_cannot_run_away(self):
        self.assertAlmostEqual(
            np.log1p(kd.irr_dated([-100.0, 200.0], ["2028-01-01", "2028-01-02"])),
            365 * np.log(2),
            8,
        )
        self.assertAlmostEqual(
            kd.irr_dated([-100.0, 1e-6], ["2028-01-01", "2028-12-31"]), 1e-8 - 1, 12
        )
        self.assertTrue(
            np.isnan(
                kd.irr_dated([-100.0, 230.0, -132.0], ["2028-01-01", "2028-12-31", "2029-12-31"])
            )
        )

    def test_flows_of_one_sign_are_told(self):
        for function, more in ((kd.irr, ()), (kd.irr_dated, (self.dates[:2],))):
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                self.assertTrue(np.isnan(function([10.0, 20.0], *more)))
            self.assertIn("all of one sign", str(caught[0].message))

    def test_any_order_and_several_flows_on_a_date(self):
        dates = ["2028-03-01", "2028-01-15", "2029-01-14", "2028-03-01"]
        flows = np.array([30.0, -100.0, 50.0, 40.0])
        days = np.array([46, 0, 365, 46]) / 365
        self.assertAlmostEqual(kd.npv_dated(0.1, flows, dates), float(flows @ 1.1**-days))
        joined = kd.irr_dated([-100.0, 70.0, 50.0], ["2028-01-15", "2028-03-01", "2029-01-14"])
        self.assertAlmostEqual(kd.irr_dated(flows, dates), joined, 12)

    def test_in_formulas_flows_come_at_the_ends_of_the_periods(self):
        for every, start, ends in (
            ("month", "2028-11", ["2028-11-30", "2028-12-31", "2029-01-31"]),
            ("quarter", "2028-Q2", ["2028-06-30", "2028-09-30", "2028-12-31"]),
            ("year", "2028", ["2028-12-31", "2029-12-31", "2030-12-31"]),
        ):
            model = kd.Model("dated", periods=3, start=start, every=every)
            model.given(flow=50.0)
            model.outcome("npv", "npv_dated(0.1, every_period(flow), -120, on='2028-01-15')")
            model.outcome("irr", "irr_dated(every_period(flow), -120, '2028-01-15')")
            model.outcome("own_start", "npv_dated(0.1, every_period(flow), -120)")
            found = model.base_case()["value"]
            dated = [-120.0, 50, 50, 50], ["2028-01-15", *ends]
            self.assertAlmostEqual(found["npv"], kd.npv_dated(0.1, *dated))
            self.assertAlmostEqual(found["irr"], kd.irr_dated(*dated), 9)
            first = {"month": "2028-11-01", "quarter": "2028-04-01", "year": "2028-01-01"}[every]
            self.assertAlmostEqual(found["own_start"], kd.npv_dated(0.1, dated[0], [first, *ends]))
        bare = kd.Model("m", periods=3)
        for formula, words in (
            ("npv_dated(0.1, every_period(1))", "needs a model with a start"),
            ("npv_dated(0.1, every_period(1), 0, 'soon')", "must be a date"),
            ("npv(0.1, 1)", "every_period(x) is a level row"),
        ):
            with self.subTest(formula=formula), self.fails(words):
                model = kd.Model.of(bare.statement)
                model.outcome("y", formula)
                model.base_case()

    def test_bad_dates(self):
        flows = [-100.0, 50.0, 60.0]
        for dates, words in (
            (["2028-01-01", "soon", "2028-03-01"], ("date 2", "'soon'")),
            (["2028-01-01", "NaT", "2028-03-01"], ("date 2", "missing")),
            (["2028-01-01", "2028-03-01"], ("3 flows", "not 2")),
        ):
            with self.subTest(dates=dates), self.fails(*words):
                kd.irr_dated(flows, dates)
        with self.fails("rate", "above -1"):
            kd.npv_dated(-1.0, flows, self.dates[:3])
