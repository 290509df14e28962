"""Tests of paired differences, of the terms behind them, and of the parts of an optimization that
are read in words.
"""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.results.statistic_text import parse_statistic
from kindynos.studies.aims import constraint_of, figure_of
from kindynos.studies.choices import DecisionRange, choices_of, coarse_points
from kindynos.studies.paired import Paired
from tests.common import Case, investment, proof, repeats


def two(seed, sampling="latin", trials=1_000):
    """Two outcomes of the same draws: z, and 0.5 + 1.5 z + 0.2 w."""
    model = kd.Model("Two")
    model.driver("z", kd.Normal(0, 1))
    model.driver("w", kd.Normal(0, 1))
    model.outcome("first", "z + 0 * w")
    model.outcome("second", "0.5 + 1.5 * z + 0.2 * w")
    run = model.simulate(trials, seed=seed, sampling=sampling)
    return Paired(run["first"], run["second"])


SD = float(np.hypot(1.5, 0.2))
TRUTHS = {
    "mean": (lambda pair: pair.mean(), 0.5),
    "sd": (lambda pair: pair.statistic("sd"), SD - 1),
    "percentile": (lambda pair: pair.percentile(10), 0.5 + (SD - 1) * stats.norm.ppf(0.1)),
    "value at risk": (lambda pair: pair.value_at_risk(0.9), -0.5 + (SD - 1) * stats.norm.ppf(0.9)),
    "expected shortfall": (
        lambda pair: pair.statistic("expected_shortfall", 0.9),
        -0.5 + (SD - 1) * stats.norm.pdf(stats.norm.ppf(0.9)) / 0.1,
    ),
    "chance above": (
        lambda pair: pair.chance_above(1.0),
        stats.norm.sf(0.5 / SD) - stats.norm.sf(1.0),
    ),
    "chance below": (
        lambda pair: pair.chance_below(1.0),
        stats.norm.cdf(0.5 / SD) - stats.norm.cdf(1.0),
    ),
}


class Differences(Case):
    @proof
    def test_two_hundred_trials_are_enough_for_an_error(self):
        few, enough = (two(1, "random", trials).mean().error for trials in (199, 200))
        self.assertTrue(np.isnan(few))
        self.assertGreater(enough, 0)

    def test_errors_from_both_sides(self):
        for sampling in ("latin", "random"):
            pairs = [two(seed, sampling) for seed in range(repeats(100))]
            for name, (read, truth) in TRUTHS.items():
                found = [read(pair) for pair in pairs]
                with self.subTest(sampling=sampling, figure=name):
                    self.assertCalibrated(
                        [one - truth for one in found], [one.error for one in found]
                    )

    def test_values_are_the_differences_of_the_statistics(self):
        pair = two(1)
        one, other = pair.first, pair.second
        self.assertAlmostEqual(pair.mean(), other.mean - one.mean)
        self.assertAlmostEqual(pair.statistic("sd"), other.sd - one.sd)
        self.assertAlmostEqual(pair.percentile(25), other.percentile(25) - one.percentile(25))
        self.assertAlmostEqual(
            pair.value_at_risk(0.95), other.value_at_risk(0.95) - one.value_at_risk(0.95), places=6
        )
        self.assertAlmostEqual(pair.chance_below(0), other.chance(below=0) - one.chance(below=0))
        self.assertAlmostEqual(pair.higher(), float(np.mean(other.values > one.values)))

    def test_of_itself_there_is_no_difference(self):
        pair = two(1)
        same = Paired(pair.first, pair.first)
        for read, _ in TRUTHS.values():
            self.assertEqual((float(read(same)), same.statistic("sd").error), (0.0, 0.0))


def terms_of(words, result):
    return parse_statistic(words).influence(result.sample)


class Terms(Case):
    def test_their_spread_is_the_error_of_the_statistic(self):
        run = investment().simulate(20_000, seed=1, sampling="random")
        result = run["net_value"]
        sd = float(result.sd)
        for words, variance in (
            ("mean", sd**2),
            ("sd", sd**2 / 2),
            ("percentile 20", 0.2 * 0.8 / stats.norm.pdf(stats.norm.ppf(0.2)) ** 2 * sd**2),
            ("median", 0.25 / stats.norm.pdf(0) ** 2 * sd**2),
            (
                "chance above 40",
                float(result.chance(above=40)) * (1 - float(result.chance(above=40))),
            ),
        ):
            terms = terms_of(words, result)
            self.assertAlmostEqual(
                terms.var() / variance, 1, delta=0.06 if words in ("mean", "sd") else 0.2
            )
        at_risk = terms_of("value_at_risk 0.8", result)
        np.testing.assert_allclose(at_risk, -terms_of("percentile 20", result))
        self.assertAlmostEqual(
            terms_of("expected_shortfall 0.8", result).mean(),
            result.expected_shortfall(0.8),
            places=2,
        )
        inside = terms_of("conditional_mean below 0", result)
        below = result.values[result.values < 0]
        self.assertAlmostEqual(inside.mean(), below.mean())
        self.assertAlmostEqual(inside.var() * np.mean(result.values < 0) / below.var(), 1)
        self.assertIsNone(terms_of("skewness", result))


class Words(Case):
    def test_figures(self):
        statement = investment()._statement
        for text, label in (
            ("mean net_value", "mean of net_value"),
            ("mean of net_value", "mean of net_value"),
            ("percentile 5 of net_value", "percentile 5 of net_value"),
            ("chance below 0 net_value", "chance below 0 of net_value"),
        ):
            self.assertEqual(figure_of(statement, text).label, label)

    def test_constraints(self):
        statement = investment()._statement
        for text, most, limit in (
            ("mean net_value >= 1e3", False, 1e3),
            ("sd net_value<=5", True, 5.0),
            ("mean net_value ≥ 3", False, 3.0),
            ("chance below 0 of net_value < 0.1", True, 0.1),
            ("percentile 5 of net_value > -20", False, -20.0),
            ("mean net_value => 3", False, 3.0),
        ):
            found = constraint_of(statement, text)
            self.assertEqual((found.most, found.limit), (most, limit), text)
        self.assertEqual(constraint_of(statement, "mean net_value >= 3").excess(1.0), 2.0)
        self.assertIn("at least 3", constraint_of(statement, "mean net_value >= 3").label)


class Points(Case):
    def test_choices(self):
        price, flow, hurdle = choices_of(
            investment()._statement,
            {
                "price": (200, 400),
                "flow.mean": [90, 80, 100],
                "hurdle": np.linspace(0.05, 0.15, 11),
            },
        )
        self.assertEqual((price.low, price.high, price.values, price.listed), (200, 400, (), False))
        self.assertEqual(
            (flow.values, flow.listed, flow.steps(90)), ((80, 90, 100), True, [80, 100])
        )
        self.assertEqual((hurdle.listed, hurdle.near(0.0712)), (False, hurdle.values[2]))
        self.assertEqual((price.near(1_000), price.near(250.5)), (400, 250.5))

    def test_coarse_points_fill_the_space(self):
        line, other = DecisionRange("x", 0, 10), DecisionRange("y", -1, 1)
        np.testing.assert_allclose(coarse_points([line], 11)[:, 0], np.arange(11))
        plane = coarse_points([line, other], 66)
        self.assertEqual(
            (len(plane), plane.min(axis=0).tolist(), plane.max(axis=0).tolist()),
            (64, [0, -1], [10, 1]),
        )
        many = coarse_points([DecisionRange(str(i), 0, 1) for i in range(6)], 60)
        self.assertEqual(len(many), 60)
        for place in range(6):  # every tenth of every range has a point
            self.assertEqual(len(set(np.floor(10 * many[:, place]).astype(int))), 10)
        kinds = DecisionRange("kind", 1, 3, (1, 2, 3))
        mixed = coarse_points([kinds, line], 30)
        self.assertEqual(
            {kind: int((mixed[:, 0] == kind).sum()) for kind in (1, 2, 3)}, {1: 10, 2: 10, 3: 10}
        )
