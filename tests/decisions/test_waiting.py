"""Tests of the value of being able to wait on problems of stopping whose answers are known."""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case


def offers(periods, trials, seed):
    return np.random.default_rng(seed).random((periods, trials))


def best_of_uniforms(periods):
    """The value of the best rule for uniform offers of which one may be taken, by backward
    recursion (Moser, 1956).
    """
    value = 0.5
    for _ in range(periods - 1):
        value = (1 + value**2) / 2
    return value


class Stopping(Case):
    def test_uniform_offers_follow_mosers_recursion(self):
        for periods in (2, 3, 5):
            seen = offers(periods, 40_000, seed=periods)
            found = kd.value_of_waiting(seen, seen)
            with self.subTest(periods):
                self.assertAlmostEqual(float(found.value), best_of_uniforms(periods), delta=0.006)

    def test_its_errors_hold_from_both_sides(self):
        gaps, errors = [], []
        for seed in range(100):
            seen = offers(2, 2000, seed=seed)
            value = kd.value_of_waiting(seen, seen).value
            gaps.append(value - best_of_uniforms(2))
            errors.append((value.high - value.low) / 2)
        self.assertCalibrated(gaps, errors)

    def test_it_is_never_above_the_best_rule_by_more_than_its_error(self):
        beyond = []
        for seed in range(40):
            seen = offers(4, 1000, seed=seed)
            value = kd.value_of_waiting(seen, seen).value
            beyond.append(value.low > best_of_uniforms(4))
        self.assertLessEqual(sum(beyond), 4)

    def test_normal_offers(self):
        seen = np.random.default_rng(1).standard_normal((2, 60_000))
        last = stats.norm.pdf(0)  # which is left when below 0
        exact = stats.norm.pdf(last) + last * stats.norm.cdf(last)
        found = kd.value_of_waiting(seen, seen)
        self.assertAlmostEqual(float(found.value), exact, delta=0.012)

    def test_realized_payoffs_give_no_foresight(self):
        exact = 10 * stats.norm.pdf(0)  # acting in the second period, where the price is above 100
        gaps, errors, noise = [], [], []
        for seed in range(60):
            generator = np.random.default_rng(seed)
            price = np.vstack([np.full(4_000, 100.0), generator.normal(100, 10, 4_000)])
            turns_out = price - 100 + generator.normal(0, 40, price.shape)
            value = kd.value_of_waiting(turns_out, price).value
            gaps.append(value - exact)
            errors.append(value.error)
            pure = generator.normal(0, 40, price.shape)
            noise.append(kd.value_of_waiting(pure, generator.normal(size=price.shape)))
        self.assertCalibrated(gaps, errors)
        self.assertLess(abs(np.mean([one.value for one in noise])), 0.2)
        self.assertTrue(all(abs(one.value) <= 2 * one.value.error + 1e-9 for one in noise))

    def test_payoffs_that_only_fall_are_taken_at_once(self):
        falling = np.array([3.0, 2.0, 1.0])[:, None] + 0.01 * offers(3, 2000, seed=1)
        found = kd.value_of_waiting(falling, falling)
        self.assertAlmostEqual(float(found.value), falling[0].mean(), delta=1e-3)
        rising = falling[::-1].copy()
        self.assertAlmostEqual(
            float(kd.value_of_waiting(rising, rising).value), rising[-1].mean(), delta=1e-3
        )

    def test_a_discount_takes_from_later_ones(self):
        level = np.ones((4, 2000)) + 0.01 * offers(4, 2000, seed=2)
        self.assertAlmostEqual(
            float(kd.value_of_waiting(level, level, discount=0.9).value),
            level[0].mean(),
            delta=2e-3,
        )
        growing = level * np.array([1, 1.2, 1.44, 1.728])[:, None]
        found = kd.value_of_waiting(growing, growing, discount=0.9)
        self.assertAlmostEqual(float(found.value), 0.9**3 * growing[-1].mean(), delta=3e-3)
