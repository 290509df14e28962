"""Tests of ledger."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import kindynos as kd
from tests.common import Case, reserve

NORMAL = np.random.default_rng(5).normal(0.02, 0.05, (40, 300))


rows = arrays(np.int64, (6, 5), elements=st.integers(-1000, 1000)).map(
    lambda made: made.astype(float)
)


quick = settings(max_examples=30, deadline=None)


class RollForward(Case):
    def test_against_a_plain_loop(self):
        rng = np.random.default_rng(3)
        flows, opening = rng.normal(5, 20, (40, 300)), rng.uniform(50, 150, 300)
        for timing in ("end", "start"):
            balance = opening.copy()
            for t, row in enumerate(kd.roll_forward(opening, NORMAL, flows, timing)):
                early = timing == "start"
                balance = (balance + flows[t] * early) * (1 + NORMAL[t]) + flows[t] * (not early)
                np.testing.assert_allclose(row, balance, rtol=1e-12)

    def test_level_deposits_grow_as_an_annuity_does(self):
        balance = kd.roll_forward(1000.0, 0.03, 50.0, periods=12)
        self.assertEqual(balance.shape, (12,))
        self.assertAlmostEqual(
            balance[-1], 1000 * 1.03**12 + kd.finance.future_value(0.03, 12, 50.0), 8
        )
        early = kd.roll_forward(0.0, 0.03, 50.0, "start", periods=12)
        self.assertAlmostEqual(
            early[-1], kd.finance.future_value(0.03, 12, 50.0, timing="start"), 8
        )

    def test_a_floor_pays_what_there_is_and_makes_no_money(self):
        flows = [0.0, -60.0, -60.0, 30.0]
        np.testing.assert_allclose(kd.roll_forward(100.0, 0.0, flows, floor=0), [100, 40, 0, 30])
        np.testing.assert_allclose(
            kd.roll_forward(100.0, 0.0, flows, floor=0, shortfall=True), [0, 0, 20, 0]
        )
        # already below it: no withdrawal, and no gift
        below = kd.roll_forward(-10.0, 0.0, [-5.0, 20.0], floor=0)
        np.testing.assert_allclose(below, [-10, 10])
        unmet = kd.roll_forward(100.0, NORMAL, -4.0, floor=0, shortfall=True)
        paid = kd.roll_forward(100.0, NORMAL, unmet - 4.0)
        np.testing.assert_allclose(paid, kd.roll_forward(100.0, NORMAL, -4.0, floor=0), atol=1e-9)

    def test_mixes_of_numbers_rows_and_trials(self):
        row, trials = np.full(40, 3.0), np.linspace(1, 2, 300)
        whole = kd.roll_forward(10.0, NORMAL, row)
        np.testing.assert_array_equal(whole, kd.roll_forward(10.0, NORMAL, 3.0))
        np.testing.assert_array_equal(
            whole, kd.roll_forward(np.full(300, 10.0), NORMAL, row[:, None])
        )
        by_trial = kd.roll_forward(10.0, NORMAL, trials[None])
        np.testing.assert_array_equal(
            by_trial[:, 7], kd.roll_forward(10.0, NORMAL[:, 7], trials[7])
        )
        np.testing.assert_array_equal(
            kd.roll_forward(10.0, trials / 100, row[:, None])[:, 4],
            kd.roll_forward(10.0, trials[4] / 100, row),
        )

    def test_what_could_mean_two_things_is_refused(self):
        for options, words in (
            ({"rate": [0.1, 0.2], "flow": [1.0, 2.0]}, ("rate[:, None]", "flow[:, None]")),
            ({"rate": np.zeros((3, 3)), "flow": [1.0, 2.0, 3.0]}, ("flow[None, :]",)),
            ({"rate": 0.1, "flow": 5.0}, ("periods",)),
            ({"rate": np.zeros((3, 1)), "flow": np.zeros((4, 1))}, ("number of periods",)),
            ({"rate": 0.1, "flow": [1.0], "timing": "middle"}, ("timing", "'end', 'start'")),
            ({"rate": 0.1, "flow": [1.0], "shortfall": True}, ("floor=",)),
            ({"rate": 0.1, "flow": [1.0], "floor": [[0.0]]}, ("floor", "one per trial")),
        ):
            with self.subTest(options=options), self.fails("roll_forward", *words):
                kd.roll_forward(100.0, **options)


class Periods(Case):
    def test_first_period(self):
        condition = np.array([[0, 0, 1, np.nan], [0, 1, 0, 1.0]])
        np.testing.assert_array_equal(kd.first_period(condition), [np.inf, 2, 1, np.nan])
        self.assertEqual(kd.first_period([False, True, True]), 2.0)
        with self.fails("first_period", "condition"):
            kd.first_period(3.0)

    def test_at(self):
        row = np.array([[1.0, 2.0], [3.0, 4.0]])
        np.testing.assert_array_equal(kd.finance.at(row, [2, 1]), [3, 2])
        np.testing.assert_array_equal(kd.finance.at(row, 1.2), [3, 4])
        np.testing.assert_array_equal(kd.finance.at(row[:, :1], [1, 2, 3]), [1, 3, np.nan])
        with self.fails("at: period"):
            kd.finance.at(row, row)


class Grow(Case):
    def test_compounds(self):
        np.testing.assert_allclose(kd.finance.grow([0.1, 0.2, -0.5]), [1.1, 1.32, 0.66])
        np.testing.assert_allclose(kd.finance.grow([0.1, 0.2, -0.5], 100, lag=1), [100, 110, 132])
        np.testing.assert_allclose(kd.finance.grow([0.1, 0.2], lag=5), [1, 1])

    def test_by_trial(self):
        rate = np.array([[0.1, 0.2], [0.3, 0.4]])
        np.testing.assert_allclose(kd.finance.grow(rate, [1.0, 10.0]), [[1.1, 12], [1.43, 16.8]])

    def test_errors(self):
        with self.fails("rate must be (periods,)"):
            kd.finance.grow(0.1)
        with self.fails("lag", "at least 0"):
            kd.finance.grow([0.1], lag=-1)


class Ledgers(Case):
    @quick
    @given(rows, arrays(np.float64, (6, 5), elements=st.floats(-0.3, 0.3)), st.floats(0, 2000))
    def test_balances(self, flows, rate, opening):
        balance = kd.roll_forward(opening, rate, flows)
        before = np.vstack([np.full(5, opening), balance[:-1]])
        np.testing.assert_allclose(balance, before * (1 + rate) + flows, rtol=1e-9, atol=1e-6)
        more = kd.roll_forward(opening + 100, rate, flows)
        np.testing.assert_allclose(
            more - balance, 100 * kd.finance.grow(rate), rtol=1e-6, atol=1e-6
        )

    @quick
    @given(rows, arrays(np.float64, (6, 5), elements=st.floats(-0.3, 0.3)), st.floats(0, 2000))
    def test_a_floor_neither_makes_nor_loses_money(self, flows, rate, opening):
        floored = kd.roll_forward(opening, rate, flows, floor=0.0)
        unpaid = kd.roll_forward(opening, rate, flows, floor=0.0, shortfall=True)
        self.assertGreaterEqual(floored.min(), -1e-9)
        self.assertGreaterEqual(unpaid.min(), 0)
        self.assertTrue((unpaid <= np.maximum(-flows, 0) + 1e-9).all())
        np.testing.assert_allclose(
            kd.roll_forward(opening, rate, flows + unpaid), floored, rtol=1e-6, atol=1e-6
        )
        ruined = kd.first_period(kd.roll_forward(opening, rate, flows) < -1e-9)
        np.testing.assert_array_equal(np.isinf(kd.first_period(unpaid > 1e-9)), np.isinf(ruined))

    @quick
    @given(rows, st.integers(0, 8))
    def test_at_reads_a_period(self, row, number):
        found = kd.finance.at(row, number)
        if 1 <= number <= 6:
            np.testing.assert_array_equal(found, row[number - 1])
        else:
            self.assertTrue(np.isnan(found).all())


class InModels(Case):
    def test_mean_and_variance_of_a_deposit_plan(self):
        run = reserve(draw=0).simulate(20_000, seed=3)
        mean, second = 100.0, 100.0**2
        for _ in range(40):  # of B' = B (1 + r) + d, with r independent of B
            second = second * (1.01**2 + 0.04**2) + 2 * 5 * 1.01 * mean + 25
            mean = mean * 1.01 + 5
        final = run["final"]
        self.assertLess(abs(final.mean - mean), 1.5 * final.mean.error)
        self.assertLess(abs(final.sd - np.sqrt(second - mean**2)), 1.5 * final.sd.error)

    def test_formulas_give_what_the_functions_give(self):
        run = reserve().simulate(2000, seed=3, keep=["earned", "balance", "flow"])
        earned, flow = run["earned"].values, run["flow"].values
        balance = kd.roll_forward(100.0, earned, flow[:, :1])
        np.testing.assert_array_equal(run["balance"].values, balance)
        np.testing.assert_array_equal(run["ruin"].values, kd.first_period(balance < 0))
        unmet = kd.roll_forward(100.0, earned, flow[:, :1], floor=0, shortfall=True)
        np.testing.assert_array_equal(run["unpaid"].values, unmet.sum(axis=0))

    def test_a_balance_that_goes_below_zero_is_told(self):
        run = reserve().simulate(2000, seed=3, keep=["balance"])
        description = run.warnings_of("final")
        below = np.count_nonzero((run["balance"].values[:-1] < 0).any(axis=0))
        self.assertEqual([description[text] for text in description if "below 0" in text], [below])

    def test_the_horizon_may_be_a_given_or_a_driver(self):
        run = reserve(last=kd.Discrete([8, 24], [0.5, 0.5])).simulate(
            1000, seed=3, keep=["balance"]
        )
        balance, last = run["balance"].values, run["last"].values.astype(int)
        np.testing.assert_array_equal(run["final"].values, balance[last - 1, np.arange(1000)])

    def test_share_still_solvent(self):
        run = reserve().simulate(4000, seed=3, keep=["balance"])
        table = run.survival("ruin")
        self.assertEqual(list(table.index)[:2], ["2028 Q1", "2028 Q2"])
        never = np.minimum.accumulate(run["balance"].values, axis=0) >= 0
        np.testing.assert_allclose(table["share"], never.mean(axis=1))
        self.assertTrue((table["low"] <= table["share"]).all())
        with self.fails("first_period"):
            run.survival("final")

    def test_formulas_check_their_words(self):
        for formula, words in (
            ("roll_forward(opening, earned, flow, timing='late')", ("'end' or 'start'",)),
            ("roll_forward(opening, earned, flow, floor=0, shortfall=1)", ("True or False",)),
            ("roll_forward(flow, earned, flow)", ("opening", "not a row")),
            ("first_period(deposit > 3)", ("condition", "row")),
        ):
            model = reserve()
            with self.subTest(formula=formula), self.fails(*words):
                model.line("extra", formula)
                model.compiled()
