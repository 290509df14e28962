"""Records seen only above thresholds, against SciPy's likelihood and what was drawn."""

import math
import warnings

import numpy as np
from scipy import optimize, stats

import kindynos as kd
from kindynos.fitting.truncated import abrupt_beginning
from tests.common import Case, Folder, proof, repeats, run

FAMILIES = (
    kd.LogNormal(100, 150),
    kd.Gamma(1.5, 60),
    kd.Weibull(0.8, 100),
    kd.LogLogistic(80, 2.0),
    kd.Exponential(100),
)


def recorded(distribution, threshold, count, seed):
    """Draw until ``count`` values lie above the threshold; return them and how many do not."""
    drawn = np.asarray(distribution.sample(20 * count, seed=seed))
    seen = np.flatnonzero(drawn > threshold)[:count]
    return drawn[seen], int(seen[-1]) + 1 - count


class Truncated(Case):
    def test_the_maximum_is_that_of_the_likelihood_given_what_is_seen(self):
        """Thresholds that differ, and a limit that larger values only reach."""
        rng = np.random.default_rng(3)
        limits = rng.choice([0.0, 40.0, 90.0], 400)
        drawn = np.asarray(kd.LogNormal(100, 150).sample(400, seed=5))
        values, limits = drawn[drawn > limits], limits[drawn > limits]
        cut = np.minimum(values, 300.0)

        def misfit(theta):
            law = stats.lognorm(np.exp(theta[1]), scale=np.exp(theta[0]))
            logs = np.where(cut < 300, law.logpdf(cut), law.logsf(300))
            return -(logs - law.logsf(limits)).sum()

        best = optimize.minimize(misfit, [4.0, 0.0], method="Nelder-Mead", tol=1e-10)
        law = stats.lognorm(np.exp(best.x[1]), scale=np.exp(best.x[0]))
        found = kd.LogNormal.fit(values, truncated_below=limits, censored_above=300)
        self.assertAlmostEqual(found.fitted.log_likelihood, -best.fun, places=4)
        self.assertAlmostEqual(found.mean / law.mean(), 1, places=3)
        self.assertAlmostEqual(found.sd / law.std(), 1, places=3)
        unseen = (1 / law.sf(limits) - 1).sum()
        self.assertAlmostEqual(float(found.fitted.unseen) / unseen, 1, places=3)
        self.assertIsNone(kd.LogNormal.fit(values).fitted.unseen)
        self.assertIn("recorded only above 0 to 90", found.fitted.description)

    def test_the_interval_of_what_is_unseen_has_both_its_parts(self):
        """Of an exponential the profile likelihood is that of its mean; the number of failures
        before n successes of chance S varies by n (1 - S) / S^2.
        """
        values, _ = recorded(kd.Exponential(100.0), 30.0, 80, 6)
        found, gaps = kd.Exponential.fit(values, truncated_below=30).fitted.unseen, values - 30

        def fall(mean):
            ratio = gaps.mean() / mean
            return len(gaps) * (ratio - 1 - math.log(ratio)) - stats.chi2.ppf(0.95, 1) / 2

        middle = gaps.mean()
        means = [optimize.brentq(fall, *ends) for ends in ((5, middle), (middle, 500))]
        count = [len(gaps) * math.expm1(30 / mean) for mean in (means[1], middle, means[0])]
        seen = math.exp(-30 / middle)
        own = stats.norm.ppf(0.975) * math.sqrt(len(gaps) * (1 - seen)) / seen / count[1]
        low, high = (math.exp(math.hypot(math.log(count[i] / count[1]), own)) for i in (0, 2))
        self.assertAlmostEqual(float(found), count[1], places=3)
        self.assertAlmostEqual(found.low / (count[1] / low), 1, places=2)
        self.assertAlmostEqual(found.high / (count[1] * high), 1, places=2)

    def test_counts_are_recorded_from_their_threshold_on(self):
        drawn = np.asarray(kd.Poisson(3.0).sample(4000, seed=1))
        values = drawn[drawn >= 2]

        def misfit(mean):
            law = stats.poisson(mean)
            return -(law.logpmf(values) - law.logsf(1)).sum()

        best = optimize.minimize_scalar(misfit, bounds=(0.5, 9), method="bounded").x
        found = kd.Poisson.fit(values, truncated_below=2)
        self.assertAlmostEqual(found.mean, best, places=3)
        low, high = found.fitted.unseen.low, found.fitted.unseen.high
        self.assertTrue(low < (drawn < 2).sum() < high)

    @proof
    def test_intervals_of_parameters_and_of_what_is_unseen_hold(self):
        for distribution in FAMILIES:
            threshold = float(distribution.quantile(0.3))
            for count in (50, 200):
                medians, held, half = [], [], []
                times = repeats(60)
                for seed in range(times):
                    values, below = recorded(distribution, threshold, count, seed)
                    found = type(distribution).fit(values, truncated_below=threshold)
                    unseen = found.fitted.unseen
                    names = list(found.fitted.intervals)
                    at = [*(found.fitted.estimates[n] for n in names), float(unseen)]
                    ends = [*found.fitted.intervals.values(), (unseen.low, unseen.high)]
                    truth = np.array([*(getattr(distribution, n) for n in names), below])
                    low, high = np.array(ends).T
                    held.append((low <= truth) & (truth <= high))
                    half.append((low + at <= 2 * truth) & (2 * truth <= high + at))
                    medians.append(float(found.quantile(0.5)))
                with self.subTest(kind=distribution.label, values=count):
                    self.assertTrue((np.sum(held, 0) >= stats.binom.ppf(1e-3, times, 0.92)).all())
                    self.assertTrue((np.sum(half, 0) <= stats.binom.isf(1e-3, times, 0.76)).all())
                    gap = np.median(medians) - float(distribution.quantile(0.5))
                    self.assertLess(abs(gap), 0.25 * distribution.sd)

    @proof
    def test_records_that_begin_abruptly_are_asked_about(self):
        whole, cut, times = [], [], repeats(90)
        for seed in range(times):
            values = np.asarray(kd.LogNormal(100_000, 120_000).sample(600, seed=seed))
            whole.append(abrupt_beginning(values[:200]) is not None)
            cut.append(abrupt_beginning(values[values > 50_000][:200]) == 50_000)
        self.assertLessEqual(np.mean(whole), 0.03)
        self.assertGreaterEqual(np.mean(cut), 0.95)
        self.assertIsNone(abrupt_beginning(np.array([-1.0, 2.0, 3.0])))

    def test_a_generalized_pareto_tail_begins_below_what_is_seen(self):
        values, below = recorded(kd.GeneralizedPareto(0.0, 100.0, 0.2), 40.0, 400, 2)
        found = kd.GeneralizedPareto.fit(values, truncated_below=40, location=0)
        low, high = found.fitted.intervals["shape"]
        self.assertTrue(low < 0.2 < high)
        self.assertTrue(found.fitted.unseen.low < below < found.fitted.unseen.high)
        with self.fails("give location="):
            kd.GeneralizedPareto.fit(values, truncated_below=40)

    def test_a_bound_that_tells_nothing_changes_no_fit(self):
        values = kd.LogNormal(30, 30).sample(80, seed=1)
        limits = np.full(80, np.inf)
        limits[3] = -1.0
        for kind in (kd.LogNormal, kd.Gamma, kd.Weibull, kd.Exponential):
            with self.subTest(kind=kind.label), warnings.catch_warnings():
                warnings.simplefilter("error")
                found = kind.fit(values, censored_above=limits)
                self.assertAlmostEqual(found.mean, kind.fit(np.delete(values, 3)).mean, places=4)
        tail, low = kd.Pareto(2.0, 5.0).sample(80, seed=1), {"low": 5.0}
        found = kd.Pareto.fit(tail, censored_above=limits, **low)
        self.assertAlmostEqual(
            found.shape, kd.Pareto.fit(np.delete(tail, 3), **low).shape, places=5
        )

    def test_what_cannot_be(self):
        values = np.arange(10.0, 40.0)
        for options, words in (
            ({"truncated_below": 12}, ("value 0 is 10", "below its threshold, 12")),
            ({"truncated_below": [1, 2]}, ("one for each of the 30 values",)),
            ({"truncated_below": 5, "at_most": values > 20}, ("at_most does not go",)),
            ({"censored_above": 10}, ("every value is only a bound",)),
            ({"truncated_below": 5, "method": "moments"}, ("and all of them",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.Gamma.fit(values, **options)


class CommandLine(Folder):
    def test_the_answer_says_how_many_are_not_seen_or_asks(self):
        values, _ = recorded(kd.LogNormal(130_000, 150_000), 50_000, 300, 4)
        rows = [f"{value:.0f},{50_000}" for value in values]
        file = self.folder / "losses.csv"
        file.write_text("\n".join(["loss,limit", *rows]))
        command = ("fit", file, "--column", "loss", "--candidates", "lognormal,gamma")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            asked = run(*command, "--brief").stdout
            told = run(*command, "--truncated-below", "50000", "--brief").stdout
            each = run(*command, "--column-of-thresholds", "limit", "--brief").stdout
        self.assertIn(
            "smaller ones recorded? If not, --truncated-below 50000", " ".join(asked.split())
        )
        self.assertIn("lie below the threshold, unrecorded", " ".join(told.split()))
        self.assertEqual(told, each)
