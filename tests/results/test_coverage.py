"""Every interval of a statistic from both sides: it holds the truth about as often as it says."""

import numpy as np
from benchmarks.coverage import MODELS, PLANS, covered

import kindynos as kd
from kindynos.inference.sample import Sample
from kindynos.results.statistics import percentile
from tests.common import Case, proof

SEEDS = 100


class Coverage(Case):
    """A small version of the benchmark: the 95 % errors hold the truth about so often."""

    @proof
    def test_errors_cover_the_truth(self):
        for known in (MODELS[0], MODELS[3]):
            for sampling in PLANS:
                for statistic, hits in covered(known, sampling, seeds=16, trials=2000).items():
                    with self.subTest(model=known.name, sampling=sampling, statistic=statistic):
                        self.assertGreaterEqual(hits, 0.75)

    def test_no_interval_is_twice_or_half_as_wide_as_it_should_be(self):
        model = kd.Model("both sides")
        model.driver("a", kd.Exponential(1))
        model.driver("b", kd.Exponential(1))
        model.outcome("y", "a + b")
        gamma = kd.Gamma(2, 1)
        tail = 0.05
        q = gamma.quantile(tail)
        # the mean of a gamma below a value, by its next shape
        shortfall = -(2 * kd.Gamma(3, 1).cdf(q)) / tail
        truths = {
            "mean": (2.0, lambda y: y.mean),
            "sd": (2**0.5, lambda y: y.sd),
            "median": (gamma.quantile(0.5), lambda y: y.median),
            "percentile 90": (gamma.quantile(0.9), lambda y: y.percentile(90)),
            "quantile": (gamma.quantile(0.2), lambda y: y.quantile(0.2)),
            "chance": (gamma.cdf(1.0), lambda y: y.chance(below=1.0)),
            "percentile of": (100 * gamma.cdf(3.0), lambda y: y.percentile_of(3.0)),
            "value at risk": (-q, lambda y: y.value_at_risk(0.95)),
            "expected shortfall": (shortfall, lambda y: y.expected_shortfall(0.95)),
        }
        for sampling in ("random", "latin"):
            runs = [
                model.simulate(2000, seed=seed, sampling=sampling, workers=1)["y"]
                for seed in range(SEEDS)
            ]
            for name, (truth, read) in truths.items():
                figures = [read(run) for run in runs]
                with self.subTest(sampling=sampling, statistic=name):
                    self.assertCalibrated([f - truth for f in figures], [f.error for f in figures])

    def test_percentiles_of_steps(self):
        values = np.repeat([1.0, 2.0, 3.0], 1000)
        np.random.default_rng(1).shuffle(values)
        found = percentile(Sample(values, np.arange(0, 3001, 150)), 50.0)
        self.assertEqual((found, found.low, found.high), (2, 2, 2))
