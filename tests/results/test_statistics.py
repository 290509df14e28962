"""Tests of statistics."""

import copy
import math
import pickle
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from kindynos.inference.estimates import Estimate, Estimates
from kindynos.inference.sample import Sample
from kindynos.results import statistics as ours
from kindynos.results.result import Result
from tests.common import Case, proof


def sample(values, independent=False) -> Sample:
    values = np.asarray(values, dtype=float)
    return Sample(values, np.arange(21) * len(values) // 20, int(independent))


def normal(seed=1, count=4000) -> np.ndarray:
    return np.random.default_rng(seed).normal(10, 2, count)


class Values(Case):
    def test_against_numpy_and_scipy(self):
        x = np.random.default_rng(1).gamma(2, 3, 4000)
        s = sample(x)
        self.assertAlmostEqual(ours.mean(s), x.mean())
        self.assertAlmostEqual(ours.sd(s), x.std(ddof=1))
        self.assertAlmostEqual(ours.skewness(s), stats.skew(x))
        self.assertAlmostEqual(ours.kurtosis(s), stats.kurtosis(x))
        self.assertAlmostEqual(
            ours.conditional_mean(s, above=3, below=5), x[(x > 3) & (x < 5)].mean()
        )
        self.assertEqual(ours.survival(s, 6), np.mean(x > 6))
        self.assertAlmostEqual(ours.median(s), np.median(x))
        for q in (0, 1, 12.5, 50, 99.9, 100):
            self.assertAlmostEqual(ours.percentile(s, q), np.percentile(x, q))
        self.assertEqual((ours.lowest(s), ours.highest(s)), (x.min(), x.max()))
        self.assertAlmostEqual(
            ours.percentile_of(s, 6.0), stats.percentileofscore(x, 6.0, kind="mean")
        )
        self.assertAlmostEqual(ours.value_at_risk(s, 0.9), -np.percentile(x, 10))
        self.assertAlmostEqual(ours.chance(s, above=3, below=5), np.mean((x > 3) & (x < 5)))

    def test_errors_of_kurtosis_and_conditional_means(self):
        kurtoses, means = [], []
        for seed in range(120):
            s = sample(np.random.default_rng(seed).normal(0, 1, 2000), independent=True)
            kurtoses.append(ours.kurtosis(s))
            means.append(ours.conditional_mean(s, above=0))
        self.assertCalibrated([float(k) for k in kurtoses], [k.error for k in kurtoses])
        true = np.sqrt(2 / np.pi)  # of a half-normal distribution
        self.assertCalibrated(
            [float(mean) - true for mean in means], [mean.error for mean in means]
        )

    def test_mode(self):
        self.assertEqual(ours.mode(sample(np.repeat([1.0, 2.0, 2.0, 5.0], 1000))), 2)
        found = [ours.mode(sample(normal(seed, 10_000))) for seed in range(30)]
        self.assertLess(np.std(found), 0.2)  # a tenth of the sd
        self.assertCalibrated([mode - 10 for mode in found], [mode.error for mode in found])
        self.assertTrue(ours.mode(sample(normal())).rough)

    def test_ties_and_constants(self):
        s = sample(np.full(4000, 7.0))
        self.assertEqual((ours.mean(s), ours.sd(s), ours.percentile(s, 5)), (7, 0, 7))
        # what never varied may yet vary, unless it is constant by construction
        self.assertTrue(math.isnan(ours.mean(s).error) and math.isnan(ours.sd(s).error))
        self.assertIn("the same in all 4,000 trials", ours.mean(s).note)
        fixed = replace(s, constant=True)
        self.assertEqual((ours.mean(fixed).error, ours.sd(fixed).error), (0, 0))
        self.assertEqual(ours.percentile_of(s, 7), 50)
        self.assertEqual(ours.expected_shortfall(s, 0.99), -7)
        self.assertTrue(math.isnan(ours.skewness(s)))

    def test_a_rare_event_that_each_block_has_once_has_an_error(self):
        values = np.zeros(20_000)
        values[500::1000] = 65_000.0  # one hit in each of 20 blocks
        s = Sample(values, np.arange(0, 20_001, 1000))
        figure = ours.mean(s)
        self.assertEqual((float(figure), figure.rough), (65.0, True))
        self.assertAlmostEqual(figure.error, 3 * 65_000 / 20_000, delta=0.02)

    def test_expected_shortfall_by_hand(self):
        x = -np.arange(1.0, 1001)  # losses 1 to 1000
        self.assertAlmostEqual(
            ours.expected_shortfall(sample(x), 0.9), np.arange(901, 1001).mean(), delta=0.2
        )
        self.assertAlmostEqual(
            ours.expected_shortfall(sample(x), 0.9, reference=50),
            np.arange(901, 1001).mean() + 50,
            delta=0.2,
        )
        self.assertTrue(ours.expected_shortfall(sample(x), 0.99).rough)
        self.assertFalse(ours.expected_shortfall(sample(normal(count=8000)), 0.99).rough)

    def test_nothing_valid(self):
        s = sample(np.full(400, np.nan))
        for name, arguments in (
            ("mean", ()),
            ("sd", ()),
            ("percentile", (5,)),
            ("mode", ()),
            ("expected_shortfall", (0.9,)),
        ):
            self.assertTrue(math.isnan(ours.STATISTICS[name](s, *arguments)), name)
        self.assertEqual(ours.chance(s, above=0), 0)

    def test_arguments(self):
        s = sample(normal())
        for act, fragments in (
            (lambda: ours.percentile(s, 101), ("percentile", "from 0 to 100", "101")),
            (lambda: ours.percentile(s, "5"), ("percentile", "a number", "'5'")),
            (lambda: ours.value_at_risk(s, 95), ("level", "below 1", "say 0.95")),
            (lambda: ours.value_at_risk(s, 1.0), ("level", "below 1")),
            (lambda: ours.expected_shortfall(s, 0.05), ("level", "say 0.95 for the worst 5 %")),
            (lambda: ours.chance(s), ("above=", "below=")),
            (lambda: ours.chance(s, at=1, below=3), ("cannot be combined",)),
            (lambda: ours.chance(s, above="x"), ("above", "a number")),
            (lambda: ours.STATISTICS.find("medain"), ("'medain'", "did you mean 'median'?")),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                act()


class FarOut(Case):
    def test_percentiles_with_few_trials_beyond(self):
        for q, count, sided in (
            (99.9, 500, math.inf),
            (99, 200, math.inf),
            (0.1, 2000, -math.inf),
            (99, 600, None),
        ):
            truth, held, ends = stats.norm(10, 2).ppf(q / 100), 0, set()
            for seed in range(150):
                found = ours.percentile(sample(normal(seed, count), independent=True), q)
                held += found.low <= truth <= found.high
                ends |= {found.low, found.high}
            with self.subTest(q=q, count=count):
                self.assertGreaterEqual(held, 138)
                self.assertEqual(sided in ends, sided is not None)
        bound = ours.percentile(sample(normal(1, 300)), 99.9)
        self.assertRegex(str(bound), "at least 1[0-9.]+$")
        self.assertIn("one bound only", bound.note)
        x = np.sort(normal(1, 600))
        found = ours.percentile(sample(x), 99)
        outer, inner = (int(k) for k in stats.binom(600, 0.01).ppf([0.025, 0.975]))
        self.assertEqual((found.low, found.high), (x[-inner - 1], x[-outer]))
        self.assertTrue(math.isnan(ours.percentile(sample(x), 100).error))

    def test_few_trials_that_decide_are_told(self):
        heavy = [
            ours.mean(sample(stats.lognorm(2).rvs(2000, random_state=seed), True))
            for seed in range(100)
        ]
        self.assertTrue(
            all(figure.rough and "the median says more" in figure.note for figure in heavy)
        )
        held = np.mean([figure.low <= math.exp(2) <= figure.high for figure in heavy])
        self.assertTrue(0.85 <= held <= 0.99, held)
        self.assertFalse(any(ours.mean(sample(normal(seed))).rough for seed in range(50)))
        zeros = np.where(np.random.default_rng(1).random(2000) < 0.01, normal(2, 2000), 0.0)
        self.assertTrue(ours.sd(sample(zeros)).rough)
        self.assertFalse(ours.sd(sample(normal())).rough)
        # their sd is told from below alone, and that holds
        sds = [
            ours.sd(sample(stats.lognorm(1.8).rvs(2000, random_state=seed))) for seed in range(100)
        ]
        self.assertRegex(str(sds[0]), "at least")
        self.assertGreaterEqual(sum(one.low <= stats.lognorm(1.8).std() for one in sds), 95)
        self.assertTrue(all(one.high == math.inf for one in sds))
        self.assertEqual(float(ours.sd(sample(np.full(2000, 39.02)))), 0)

    def test_arrays_of_estimates(self):
        row = Estimates.of([Estimate(3.0, 2.5, 3.5), Estimate(1.0, 0.5, 2.5, rough=True)])
        for same in (copy.copy(row), copy.deepcopy(row), row[:], pickle.loads(pickle.dumps(row))):
            self.assertEqual((same[1].low, same[1].rough, same[0].rough), (0.5, True, False))
        self.assertEqual([figure.high for figure in sorted(row)], [2.5, 3.5])
        for plain in (np.sort(row), row - 1, np.asarray(row).T):
            self.assertIs(type(plain), np.ndarray)
        self.assertIs(type(row[0] - row[1]), float)


class Errors(Case):
    def test_of_the_mean_under_the_random_plan_is_students(self):
        x = normal()
        found = ours.mean(sample(x, independent=True))
        low, high = stats.t.interval(0.95, len(x) - 1, x.mean(), stats.sem(x))
        self.assertAlmostEqual(found.low, low)
        self.assertAlmostEqual(found.high, high)

    def test_of_the_mean_by_blocks_is_students_of_block_means(self):
        x = normal()
        means = x.reshape(20, 200).mean(axis=1)
        low, high = stats.t.interval(0.95, 19, means.mean(), stats.sem(means))
        found = ours.mean(sample(x))
        self.assertAlmostEqual(found.low, low)
        self.assertAlmostEqual(found.high, high)

    def test_of_a_chance_under_the_random_plan_is_wilsons(self):
        x = normal()
        hits = int(np.sum(x < 8))
        found = ours.chance(sample(x, independent=True), below=8)
        exact = stats.binomtest(hits, len(x)).proportion_ci(method="wilson")
        self.assertAlmostEqual(found.low, exact.low)
        self.assertAlmostEqual(found.high, exact.high)

    def test_of_sd_is_the_jackknife(self):
        x = normal()
        blocks = x.reshape(20, 200)
        left = np.array([np.delete(blocks, i, axis=0).std(ddof=1) for i in range(20)])
        reach = stats.t.ppf(0.975, 19) * np.sqrt(19 / 20 * ((left - left.mean()) ** 2).sum())
        self.assertAlmostEqual(ours.sd(sample(x)).error, reach, places=9)

    def test_of_percentiles_are_order_statistics(self):
        x = normal()
        found = ours.percentile(sample(x), 5)
        shares = (x.reshape(20, 200) <= found).mean(axis=1)
        reach = stats.t.ppf(0.975, 19) * stats.sem(shares)
        np.testing.assert_allclose(
            [found.low, found.high], np.quantile(x, [0.05 - reach, 0.05 + reach])
        )

    def test_shrink_with_the_root_of_the_trials(self):
        for name, arguments in (
            ("mean", ()),
            ("percentile", (5,)),
            ("expected_shortfall", (0.95,)),
            ("sd", ()),
        ):
            few, many = (
                np.mean(
                    [
                        ours.STATISTICS[name](sample(normal(seed, count)), *arguments).error
                        for seed in range(25)
                    ]
                )
                for count in (2000, 32_000)
            )
            self.assertAlmostEqual(few / many, 4, delta=0.9, msg=name)

    def test_failed_trials_leave_the_blocks_uneven(self):
        x = normal()
        x[: 4000 // 3 : 2] = np.nan
        s = sample(x)
        self.assertEqual(s.count, np.isfinite(x).sum())
        self.assertEqual(s.blocks, 20)
        self.assertGreater(ours.mean(s).error, 0)
        x[:1000] = np.nan  # five blocks without a valid trial
        self.assertEqual(sample(x).blocks, 15)

    def test_too_few_blocks_or_trials_give_none(self):
        x = normal()
        self.assertTrue(math.isnan(ours.mean(Sample(x, np.array([0, 1000, 2000, 4000]))).error))
        self.assertTrue(math.isnan(ours.mean(sample(x[:199])).error))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.floats(-1e6, 1e6), min_size=200, max_size=400), st.floats(0.1, 99.9))
    @proof
    def test_intervals_hold_their_estimate(self, values, q):
        s = sample(values)
        spread = [ours.mean(s), ours.sd(s)]
        if min(values) == max(values):  # nothing says how far they may be off
            self.assertTrue(all(math.isnan(found.error) for found in spread))
            spread = []
        for found in (*spread, ours.percentile(s, q), ours.chance(s, below=0.0)):
            self.assertLessEqual(found.low, found + 1e-9 * (1 + abs(found)))
            self.assertGreaterEqual(found.high, found - 1e-9 * (1 + abs(found)))


class Constants(Case):
    def test_the_error_of_a_mean_has_students_t(self):
        rng = np.random.default_rng(4)
        values = rng.normal(0, 1, 200)
        bounds = np.arange(0, 201, 10)
        plain = Result("x", values, bounds, True).mean
        sd = values.std(ddof=1) / np.sqrt(200)
        self.assertAlmostEqual(plain.high - float(plain), stats.t.ppf(0.975, 199) * sd, places=12)
        blocks = values.reshape(20, 10).mean(axis=1)
        found = Result("x", values, bounds).mean
        reach = stats.t.ppf(0.975, 19) * blocks.std(ddof=1) / np.sqrt(20)
        self.assertAlmostEqual(found.high - float(found), reach, places=12)
        self.assertAlmostEqual(float(found) - found.low, reach, places=12)
