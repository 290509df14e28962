"""Tests of intervals: against closed forms, and from both sides."""

import math

import numpy as np
from scipy import stats

from kindynos.inference.intervals import (
    correlation_by_blocks,
    hall,
    jackknife_error,
    jackknifed,
    proportion,
    t_point,
    wilson,
)
from kindynos.inference.rows import loss_tail
from kindynos.inference.sample import Sample
from tests.common import Case

RNG = np.random.default_rng(3)


class Points(Case):
    def test_wilson_and_t_are_scipys(self):
        for hits, count in ((0, 30), (7, 50), (50, 50)):
            interval = stats.binomtest(hits, count).proportion_ci(method="wilson")
            np.testing.assert_allclose(
                wilson(hits / count, count), (interval.low, interval.high), atol=1e-12
            )
        self.assertAlmostEqual(t_point(19), stats.t.ppf(0.975, 19))

    def test_the_jackknife_of_a_mean_is_students_interval(self):
        values = RNG.normal(3, 2, 40)
        left_out = np.array([np.delete(values, i).mean() for i in range(40)])
        wanted = stats.t.ppf(0.975, 39) * values.std(ddof=1) / math.sqrt(40)
        self.assertAlmostEqual(jackknife_error(left_out), wanted)
        figure = jackknifed(values.mean(), left_out)
        self.assertAlmostEqual((figure.high - figure.low) / 2, wanted)

    def test_proportions(self):
        hits = RNG.random(4000) < 0.2
        figure = proportion(hits)
        self.assertAlmostEqual(figure.error, 1.96 * math.sqrt(0.2 * 0.8 / 4000), delta=5e-4)
        # each trial tells its chance, so the share is known better than from hits
        chances = RNG.beta(2, 8, 4000)
        self.assertAlmostEqual(
            proportion(chances).error, 1.96 * chances.std() / math.sqrt(4000), delta=2e-4
        )

    def test_hall_corrects_towards_the_long_side(self):
        skewed = RNG.exponential(1, 200)
        self.assertLess(hall(1.96, stats.skew(skewed), 200), 1.96 + 1)
        self.assertNotAlmostEqual(hall(1.96, stats.skew(skewed), 200), 1.96, 2)
        self.assertAlmostEqual(hall(1.96, stats.skew(np.tile([-1.0, 1.0], 50)), 100), 1.96)


class Correlations(Case):
    def test_the_interval_from_both_sides(self):
        for truth in (0.3, 0.95):
            gaps, errors = [], []
            for _ in range(100):
                a, b = RNG.multivariate_normal([0, 0], [[1, truth], [truth, 1]], 1000).T
                figure = correlation_by_blocks(a, b, np.arange(0, 1001, 50))
                gaps.append(figure - truth)
                errors.append(figure.error)
            self.assertCalibrated(gaps, errors)
            self.assertAlmostEqual(
                np.mean(errors),
                1.96 * (1 - truth**2) / math.sqrt(1000),
                delta=0.25 * np.mean(errors),
            )

    def test_no_error_where_none_can_be_given(self):
        a = RNG.normal(size=300)
        self.assertTrue(math.isnan(correlation_by_blocks(a, a, np.arange(0, 301, 15)).error))
        self.assertTrue(
            math.isnan(
                correlation_by_blocks(a, -a + RNG.normal(size=300), np.array([0, 100, 300])).error
            )
        )


class Tails(Case):
    def test_losses_that_weigh_alike(self):
        rows = RNG.normal(size=(5, 250))
        for weights in (None, np.full(250, 1 / 250)):
            quantile, mean = loss_tail(rows, 0.95, weights)
            np.testing.assert_allclose(
                quantile, np.quantile(rows, 0.95, axis=1, method="weibull"), rtol=1e-12
            )
            worst = np.sort(rows, axis=1)[:, ::-1]
            by_hand = (worst[:, :12].sum(axis=1) + 0.5 * worst[:, 12]) / 12.5
            np.testing.assert_allclose(mean, by_hand)

    def test_every_level_and_number_of_losses(self):
        for count in (1, 2, 9, 20, 99):
            losses = RNG.normal(size=count)
            worst = np.sort(losses)[::-1]
            for level in (0.5, 0.9, 0.95, 0.99):
                quantile, mean = (float(x[0]) for x in loss_tail(losses[None], level))
                self.assertAlmostEqual(quantile, np.quantile(losses, level, method="weibull"))
                part = count * (1 - level)
                weights = np.clip(part - np.arange(count), 0, 1)
                self.assertAlmostEqual(mean, worst @ weights / part)
                self.assertAlmostEqual(mean, -Sample.of(-losses).tail_mean(1 - level))

    def test_the_next_loss_exceeds_it_as_often_as_it_says(self):
        drawn = RNG.exponential(size=(40_000, 199))
        quantile, _ = loss_tail(drawn, 0.99)
        share = np.exp(-quantile).mean()  # of a further loss that exceeds it
        self.assertAlmostEqual(share, 0.01, delta=2e-4)

    def test_the_next_loss_exceeds_weighted_ones_as_often_as_they_say(self):
        drawn = RNG.normal(size=(4_000, 500))
        for level in (0.95, 0.99):
            quantile, _ = loss_tail(drawn, level, 0.98 ** np.arange(499, -1, -1.0))
            self.assertAlmostEqual(stats.norm.sf(quantile).mean() / (1 - level), 1, delta=0.06)

    def test_weights_are_heeded(self):
        losses, weights = np.array([[1.0, 2.0, 3.0, 4.0]]), np.array([0.1, 0.1, 0.1, 0.7])
        quantile, mean = loss_tail(losses, 0.15, weights)
        levels = (np.array([0.05, 0.15, 0.25, 0.65]) + 0.26) / 1.52  # 0.26: half of 0.1² x 3 + 0.7²
        self.assertAlmostEqual(float(quantile[0]), np.interp(0.15, levels, [1, 2, 3, 4]))
        self.assertAlmostEqual(
            float(loss_tail(losses, 0.5, weights)[0][0]), np.interp(0.5, levels, [1, 2, 3, 4])
        )
        self.assertAlmostEqual(float(mean[0]), (0.05 * 2 + 0.1 * 3 + 0.7 * 4) / 0.85)


class Hall(Case):
    def test_the_correction_solves_halls_cubic(self):
        terms = np.random.default_rng(3).exponential(1, 150)
        skew, n = stats.skew(terms), len(terms)
        for t in (-1.96, 1.96):
            x = hall(t, skew, n)
            # g(x) = x + a x² + a² x³ / 3 + a / 2 with a = skew / (3 sqrt(n)) is near normal.
            a = skew / (3 * np.sqrt(n))
            self.assertAlmostEqual(x + a * x**2 + a**2 * x**3 / 3 + a / 2, t)
