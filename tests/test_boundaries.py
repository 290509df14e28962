"""Tests of boundaries and constants, against hand calculation: a comparison that is turned, a
constant that is moved by one or two ends that are exchanged must fail here.
"""

import math

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.fitting.tail import fit_tails
from kindynos.inference.estimates import Estimate
from kindynos.inference.sample import Sample
from kindynos.studies.dominance import dominance
from kindynos.studies.paired import unpaired
from tests.common import Case


class CashFlows(Case):
    def test_mirr_with_an_inflow_first(self):
        # an advance of 100, then 300 out and 400 in: 300 / 1.1 at the start, 100 x 1.2^2 + 400
        expected = math.sqrt((100 * 1.2**2 + 400) / (300 / 1.1)) - 1
        self.assertAlmostEqual(kd.mirr(0.1, 0.2, [100.0, -300.0, 400.0]), expected)

    def test_payback_at_exactly_nothing_owed(self):
        self.assertEqual(kd.payback([-100.0, 60.0, 40.0, 50.0]), 2.0)
        self.assertEqual(kd.payback([-100.0, 60.0, 39.0]), math.inf)
        self.assertEqual(kd.payback([0.0, 10.0]), 0.0)

    def test_a_life_as_long_as_the_rows(self):
        cost, amount = np.full((4, 1), 10.0), np.full((4, 1), 5.0)
        whole = kd.levelized_cost(0.1, 4, 100.0, cost, amount)
        factor = (1 - 1.1**-4) / 0.1
        self.assertAlmostEqual(float(np.squeeze(whole)), (100 + 10 * factor) / (5 * factor))
        with self.fails("life"):
            kd.levelized_cost(0.1, 4.5, 100.0, cost, amount)


class Statistics(Case):
    def test_the_lower_end_of_a_shortfall_is_not_below_its_quantile(self):
        values = np.r_[np.full(960, 1.0), -np.arange(40.0)]
        result = kd.read_trials(pd.DataFrame({"x": values}))["x"]
        shortfall = result.expected_shortfall(0.98)
        self.assertAlmostEqual(shortfall, 29.5)  # the mean of 20 to 39
        self.assertGreaterEqual(shortfall.low, 20.0)
        self.assertLess(shortfall.low, shortfall)

    def test_independent_differences_combine_the_near_ends(self):
        gap = unpaired(Estimate(10.0, 9.0, 13.0), Estimate(20.0, 16.0, 21.0))
        # down: 4 below the second and 3 above the first; up: 1 above and 1 below
        self.assertAlmostEqual(gap.low, 10 - 5)
        self.assertAlmostEqual(gap.high, 10 + math.sqrt(2))

    def test_what_chance_alone_may_hold_against_dominance(self):
        count = 400
        bounds = np.linspace(0, count, 21).astype(int)
        base = (np.arange(count) + 0.5) / count
        limit = 1.358 * math.sqrt(2 / count)  # Kolmogorov and Smirnov, at 95 %
        for share, by_chance in ((limit - 0.01, True), (limit + 0.01, False)):
            worse = base + 0.3  # better but for a share that lies below all
            worse[: round(share * count)] = -1.0
            table = dominance({"a": Sample(worse, bounds), "b": Sample(base, bounds)})
            row = table.loc[("a", "b")]
            self.assertFalse(row["first order"])
            self.assertAlmostEqual(row["against"], share, delta=1.5 / count)
            self.assertEqual(row["by chance"], by_chance)


class Distributions(Case):
    def test_log_logistic_at_0(self):
        for shape, density in ((0.5, math.inf), (1.0, 0.01), (2.0, 0.0)):
            self.assertEqual(kd.LogLogistic(scale=100, shape=shape).pdf(0.0), density)
            self.assertEqual(kd.LogLogistic(scale=100, shape=shape).cdf(0.0), 0.0)

    def test_the_prior_of_a_tail(self):
        losses = stats.genpareto(0.4, scale=2.0).rvs(400, random_state=3)
        fit = fit_tails(losses[None])
        threshold, count = float(fit.threshold[0]), round(fit.share * 400)
        excesses = np.sort(losses)[-count:] - threshold

        def penalized(shape, scale):
            log = stats.genpareto(shape, scale=scale).logpdf(excesses).sum()
            return log - 0.5 * ((shape - 0.1) / 0.2) ** 2

        best = penalized(float(fit.shape[0]), float(fit.scale[0]))
        for shape, scale in ((0.01, 0), (-0.01, 0), (0, 0.03), (0, -0.03)):
            self.assertGreater(
                best, penalized(float(fit.shape[0]) + shape, float(fit.scale[0]) + scale)
            )


class Markets(Case):
    def test_a_quantile_is_shared_out_by_the_days_near_it(self):
        generator = np.random.default_rng(2)
        moves = generator.normal(0, 0.01, (400, 2))
        prices = pd.DataFrame(
            100 * np.cumprod(1 + np.vstack([np.zeros(2), moves]), axis=0),
            pd.bdate_range("2027-01-01", periods=401),
            ["a", "b"],
        )
        held = kd.Portfolio(kd.read_prices(prices), shares={"a": 10, "b": 5})
        exposure = held.exposure()
        order = np.argsort(exposure.losses)
        level, reach = 0.9, 0.05  # half of what lies beyond
        places = (np.arange(400) + 0.5) / 400
        near = np.zeros(400)
        near[order] = np.maximum(1 - np.abs(places - level) / reach, 0)
        means = near @ exposure.own_losses
        expected = means / means.sum() * float(held.value_at_risk(level))
        component = held.contributions(level)["component"]
        np.testing.assert_allclose(component, expected, rtol=1e-9)
