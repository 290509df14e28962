"""Tests of weighted trials: every study heeds the weights, and errors hold where weights depend on
the values.
"""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case, proof, repeats

SHIFT = 0.7  # weights make a standard normal one with this mean


def tilted(seed, trials=2_000, **options):
    """Draws of a standard normal with the likelihood ratios of one with another mean, and a column
    that goes with them.
    """
    generator = np.random.default_rng(seed)
    x = generator.standard_normal(trials)
    table = pd.DataFrame({"x": x, "y": 2 * x + 0.5 * generator.standard_normal(trials)})
    return kd.read_trials(table, weights=np.exp(SHIFT * x - SHIFT**2 / 2), **options)


TRUTHS = {
    "mean": SHIFT,
    "sd": 1.0,
    "percentile 20": SHIFT + stats.norm.ppf(0.2),
    "value_at_risk 0.9": -SHIFT - stats.norm.ppf(0.1),
    "expected_shortfall 0.9": -SHIFT + stats.norm.pdf(stats.norm.ppf(0.1)) / 0.1,
    "chance above 1": stats.norm.sf(1 - SHIFT),
    "percentile_of 0": 100 * stats.norm.cdf(-SHIFT),
}


def read(trials, words):
    name, *numbers = words.split()
    if numbers and numbers[0] == "above":
        return trials["x"].chance(above=float(numbers[1]))
    return trials["x"].statistic(name, *map(float, numbers))


class Weighted(Case):
    def test_the_interval_of_a_weighted_figure_by_its_formula(self):
        generator = np.random.default_rng(2)
        x, w = generator.normal(2.0, 1.0, 4_000), generator.uniform(0.5, 1.5, 4_000)
        found = kd.read_trials(pd.DataFrame({"x": x}), weights=w)["x"]
        share = w / w.sum()
        mean = float(share @ x)
        error = np.sqrt((share**2 * (x - mean) ** 2).sum())
        self.assertAlmostEqual(found.mean.error / error, 1.96, delta=0.005)
        order = np.argsort(x)
        # each value lies at the share of the weight of all others that is below it
        levels = (np.cumsum(share[order]) - share[order]) / (1 - share[order])
        q = np.interp(0.2, levels, x[order])
        below = x <= q
        reach = 1.96 * np.sqrt((share**2 * (below - share @ below) ** 2).sum())
        ends = np.interp([0.2 - reach, 0.2 + reach], levels, x[order])
        percentile = found.percentile(20)
        np.testing.assert_allclose([percentile.low, percentile.high], ends, rtol=1e-4)
        risk = found.value_at_risk(0.8)
        np.testing.assert_allclose([-risk.high, -risk.low], ends, rtol=1e-4)
        cost = kd.read_trials(pd.DataFrame({"x": -x}), weights=w, better={"x": "low"})["x"]
        self.assertAlmostEqual(float(cost.value_at_risk(0.8)), float(risk))
        self.assertAlmostEqual(
            float(cost.expected_shortfall(0.8)), float(found.expected_shortfall(0.8))
        )

    def test_weights_of_1_change_nothing(self):
        x = np.random.default_rng(3).gamma(2.0, 1.0, 2_000)
        plain, weighted = (
            kd.read_trials(pd.DataFrame({"x": x}), weights=weights)["x"]
            for weights in (None, np.full(2_000, 0.05))
        )
        for name, *arguments in (
            ("mean",),
            ("sd",),
            ("skewness",),
            ("percentile", 5.0),
            ("value_at_risk", 0.99),
            ("expected_shortfall", 0.99),
            ("percentile_of", 1.0),
        ):
            one, two = (side.statistic(name, *arguments) for side in (plain, weighted))
            self.assertEqual([two, two.low, two.high], [one, one.low, one.high])
        few = kd.read_trials(pd.DataFrame({"x": np.arange(1.0, 21)}), weights=np.ones(20))["x"]
        self.assertAlmostEqual(few.sd, np.arange(1.0, 21).std(ddof=1))
        self.assertAlmostEqual(few.percentile(5), 1.95)

    def test_trials_on_the_thin_side_give_no_narrow_interval(self):
        x = np.random.default_rng(4).normal(-1.0, 1.0, 2_000)
        found = kd.read_trials(pd.DataFrame({"x": x}), weights=np.exp(x + 0.5))["x"]
        self.assertTrue(np.isnan(found.percentile(99).error))
        self.assertIn("effective trials", found.percentile(99).note)
        self.assertTrue(found.percentile(90).rough)
        self.assertTrue(np.isnan(found.chance(above=2.5).error))
        self.assertFalse(found.percentile(5).rough)
        self.assertLess(found.percentile(5).error, 0.09)  # more trials than weights of 1 have here
        few = kd.read_trials(pd.DataFrame({"x": x[:400]}), weights=np.exp(x[:400] + 0.5))["x"]
        self.assertRegex(few.mean.note, r"the weights leave \d+ effective trials; 200 are needed")

    @proof
    def test_percentiles_hold_on_both_sides_of_what_weights_aim_at(self):
        figures = {5: [], 25: [], 50: [], 75: []}
        for seed in range(repeats(150)):
            x = np.random.default_rng(seed).normal(-1.0, 1.0, 2_000)
            found = kd.read_trials(pd.DataFrame({"x": x}), weights=np.exp(x + 0.5))["x"]
            for q, ones in figures.items():
                ones.append(found.percentile(q))
        for q, ones in figures.items():
            truth = stats.norm.ppf(q / 100)
            with self.subTest(percentile=q):
                self.assertCalibrated([x - truth for x in ones], [x.error for x in ones])

    @proof
    def test_errors_hold_where_weights_depend_on_values(self):
        for words, truth in TRUTHS.items():
            figures = [read(tilted(seed), words) for seed in range(repeats(150))]
            with self.subTest(figure=words):
                self.assertCalibrated(
                    [figure - truth for figure in figures], [figure.error for figure in figures]
                )

    @proof
    def test_rows_in_order_have_errors_by_blocks(self):
        gaps, errors = [], []
        for seed in range(repeats(150)):
            noise = np.random.default_rng(seed).standard_normal(4_000)
            x = np.convolve(noise, np.full(20, 1 / np.sqrt(20)), "valid")  # runs of 20 alike
            trials = kd.read_trials(
                pd.DataFrame({"x": x}), weights=np.exp(0.3 * x - 0.045), order=True
            )
            gaps.append(float(trials["x"].mean) - 0.3)
            errors.append(trials["x"].mean.error)
        self.assertCalibrated(gaps, errors)

    def test_every_study_heeds_them(self):
        trials = tilted(1, 20_000)
        plain = kd.read_trials(pd.DataFrame({name: trials[name].values for name in trials}))
        joint = trials.joint("x", "y", (SHIFT, 0.0))
        below = joint.quadrants["below", "below"] + joint.quadrants["below", "above"]
        self.assertAlmostEqual(below, 0.5, delta=0.02)
        self.assertAlmostEqual(joint.correlation, plain.joint("x", "y").correlation, delta=0.01)
        for cut, share in ((0.0, stats.norm.sf(-SHIFT)), (2.0, stats.norm.sf(2 - SHIFT))):
            self.assertAlmostEqual(trials.chance(f"x > {cut}"), share, delta=0.02)
        compared = kd.compare({"plain": plain, "weighted": trials}, outcome="x")
        gap = compared.differences().loc[("x", "weighted")]
        self.assertAlmostEqual(gap.loc["mean", "difference"], SHIFT, delta=0.05)
        higher = stats.norm.cdf(SHIFT / np.sqrt(2))
        self.assertAlmostEqual(
            gap.loc["higher in any two trials", "difference"], higher, delta=0.015
        )
        self.assertLess(
            compared.dominance("x").loc[("weighted", "plain"), "against"],
            0.1 * compared.dominance("x").loc[("plain", "weighted"), "against"],
        )
        with self.fails("weigh alike"):
            trials["x"].normality()

    def test_a_sign_that_only_the_weights_show(self):
        generator = np.random.default_rng(5)
        x, up = generator.uniform(size=4_000), generator.uniform(size=4_000) < 0.5
        y = np.where(up, x, -x)
        trials = kd.read_trials(pd.DataFrame({"x": x, "y": y}), weights=np.where(up, 1.0, 1e-6))
        row = trials.sensitivity("y").loc["x"]
        self.assertAlmostEqual(row["rank correlation"], 1.0, delta=0.001)
        self.assertAlmostEqual(row["first-order share"], 1.0, delta=0.02)
