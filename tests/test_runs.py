"""Runs: the engine's promises, and statistics with their errors against closed forms."""

import math
import pickle
import threading
import unittest

import numpy as np
from benchmarks.coverage import MODELS, PLANS, covered
from scipy import stats

import kindynos as kd
from kindynos.engine.blocks import Blocks
from kindynos.results.statistics import Sample, percentile
from tests.common import Case, investment


def additive() -> kd.Model:
    model = kd.Model("additive")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2", target=25)
    return model


class Engine(Case):
    def test_blocks(self):
        for trials in (1, 19, 20, 21, 999, 4096 * 20, 4096 * 20 + 1, 1_000_003):
            blocks = Blocks.cut(trials, periods=15)
            sizes = np.diff(blocks.bounds)
            self.assertEqual(sizes.sum(), trials)
            self.assertLessEqual(sizes.max(), 4096)
            self.assertLessEqual(sizes.max() - sizes.min(), 1)
            self.assertGreaterEqual(blocks.count, min(20, trials))
            covered = [block for batch in range(blocks.batches) for block in blocks.in_batch(batch)]
            self.assertEqual(covered, list(range(blocks.count)))
            for trial in {0, trials // 2, trials - 1}:
                batch, place = blocks.find(trial)
                self.assertEqual(blocks.part(batch).start + place, trial)
                self.assertLess(trial, blocks.part(batch).stop)

    def test_same_bits_for_any_number_of_workers(self):
        for sampling in ("latin", "random"):
            runs = [investment().simulate(30_000, seed=5, sampling=sampling, workers=n) for n in (1, 2, 5)]
            for run in runs[1:]:
                np.testing.assert_array_equal(run["net_value"].values, runs[0]["net_value"].values)

    def test_seeds(self):
        first = investment().simulate(1000)
        again = investment().simulate(1000, seed=first.seed)
        other = investment().simulate(1000, seed=first.seed + 1)
        np.testing.assert_array_equal(first["flow"].values, again["flow"].values)
        self.assertFalse((first["flow"].values == other["flow"].values).any())

    def test_a_draw_depends_on_the_drivers_name_alone(self):
        before = investment().simulate(2000, seed=1)
        model = kd.Model("other", periods=5)
        model.driver("another", kd.Uniform(0, 1))
        model.driver("flow", kd.Normal(90, 10))
        np.testing.assert_array_equal(model.simulate(2000, seed=1)["flow"].values, before["flow"].values)
        self.assertFalse((model.simulate(2000, seed=1)["another"].values == before["flow"].values).any())
        correlation = np.corrcoef(model.simulate(2000, seed=1)["another"].values, before["flow"].values)[0, 1]
        self.assertLess(abs(correlation), 0.1)

    def test_every_latin_stratum_is_visited_in_each_block(self):
        model = kd.Model("latin", periods=3)
        model.driver("u", kd.Uniform(0, 1))
        model.driver("v", kd.Uniform(0, 1), each="period")
        run = model.simulate(2000, seed=2)
        for row in (run["u"].values, *run["v"].values):
            for block in row.reshape(20, 100):
                np.testing.assert_array_equal(np.sort(np.floor(block * 100)), np.arange(100))

    def test_latin_is_ten_times_as_exact_for_a_sum(self):
        spread = {
            plan: np.std([float(additive().simulate(10_000, seed=s, sampling=plan)["y"].mean) for s in range(12)])
            for plan in ("latin", "random")
        }
        self.assertLess(spread["latin"], 0.1 * spread["random"])

    def test_progress_and_stopping(self):
        seen = []
        additive().simulate(50_000, seed=1, progress=lambda done, total: seen.append((done, total, threading.get_ident())))
        self.assertEqual(seen[-1][:2], (50_000, 50_000))
        self.assertEqual(sorted(seen), seen)
        self.assertEqual({ident for *_, ident in seen}, {threading.get_ident()})

        def stop(done, total):
            raise KeyboardInterrupt

        for workers in (1, 2):
            with self.fails("stopped after", "of 50,000 trials", kind=kd.StoppedError):
                additive().simulate(50_000, seed=1, workers=workers, progress=stop)

    def test_a_failing_line_stops_the_run_and_is_named(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))

        @model.outcome
        def y(x):
            if len(x) > 100:
                raise RuntimeError("late")
            return x

        for workers in (1, 2):
            with self.fails("line 'y' failed", "RuntimeError: late"):
                model.simulate(50_000, seed=1, workers=workers)

    def test_wrong_arguments(self):
        for options, fragments in (
            ({"trials": 0}, ("trials", "at least 1", "0")),
            ({"trials": -5}, ("trials", "-5")),
            ({"trials": 10.0}, ("trials", "whole number", "10.0")),
            ({"seed": 1.5}, ("seed", "whole number", "1.5")),
            ({"seed": -1}, ("seed", "-1")),
            ({"seed": 2**64}, ("seed", "below 2**64")),
            ({"sampling": "latn"}, ("sampling", "'latn'", "did you mean 'latin'?")),
            ({"workers": 0}, ("workers", "0")),
            ({"on_bad": "ignore"}, ("on_bad", "'ignore'")),
            ({"keep": ["cash_flw"]}, ("keep", "'cash_flw'", "did you mean 'cash_flow'?")),
        ):
            with self.subTest(options=options), self.fails(*fragments):
                investment().simulate(**options)

    def test_a_model_without_outcomes(self):
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        run = model.simulate(1000, seed=1)
        self.assertEqual(run.outcomes, [])
        self.assertAlmostEqual(run["x"].mean, 0.5, places=3)
        self.assertEqual(len(run.table()), 0)


class Reading(Case):
    @classmethod
    def setUpClass(cls):
        cls.run_ = investment().simulate(20_000, seed=7)
        cls.value = cls.run_["net_value"]
        annuity = float(kd.npv(0.1, [1.0] * 5))
        cls.truth = stats.norm(90 * annuity - 300, 10 * annuity)

    def assert_covers(self, estimate, truth):
        reach = 2.5 * estimate.error  # about five standard errors
        self.assertGreater(estimate.error, 0)
        self.assertLess(abs(estimate - truth), reach)

    def test_statistics_agree_with_the_normal_law(self):
        self.assert_covers(self.value.mean, self.truth.mean())
        self.assert_covers(self.value.sd, self.truth.std())
        self.assert_covers(self.value.median, self.truth.median())
        self.assertAlmostEqual(self.value.skewness, 0, delta=0.05)
        self.assertAlmostEqual(self.value.mode, self.truth.mean(), delta=self.truth.std() / 2)
        for q in (1, 5, 50, 99):
            self.assert_covers(self.value.percentile(q), self.truth.ppf(q / 100))
        self.assert_covers(self.value.chance(below=0), self.truth.cdf(0))
        self.assert_covers(self.value.chance(above=20, below=60), self.truth.cdf(60) - self.truth.cdf(20))
        self.assert_covers(self.value.value_at_risk(0.95), -self.truth.ppf(0.05))
        self.assert_covers(self.value.value_at_risk(0.95, reference=100), 100 - self.truth.ppf(0.05))
        shortfall = -(self.truth.mean() - self.truth.std() * stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05)
        self.assert_covers(self.value.expected_shortfall(0.95), shortfall)
        self.assert_covers(self.value.percentile_of(10), 100 * self.truth.cdf(10))
        low, high = self.value.central_range(0.80)
        self.assert_covers(low, self.truth.ppf(0.1))
        self.assert_covers(high, self.truth.ppf(0.9))

    def test_product_of_lognormals(self):
        model = kd.Model("product")
        model.driver("a", kd.LogNormal.from_log(1, 0.3))
        model.driver("b", kd.LogNormal.from_log(0, 0.4))
        model.outcome("y", "a * b")
        for sampling in ("latin", "random"):
            y, truth = model.simulate(20_000, seed=2, sampling=sampling)["y"], stats.lognorm(0.5, scale=math.e)
            self.assert_covers(y.mean, truth.mean())
            self.assert_covers(y.sd, truth.std())
            self.assert_covers(y.percentile(95), truth.ppf(0.95))

    def test_definitions_on_the_values(self):
        values = self.value.values
        self.assertEqual(self.value.percentile(5), np.percentile(values, 5))
        self.assertAlmostEqual(self.value.sd, values.std(ddof=1), places=9)
        self.assertEqual(self.value.lowest, values.min())
        self.assertIn("lowest of 20,000 trials", self.value.lowest.note)
        self.assertEqual(self.value.chance(below=0), np.mean(values < 0))
        self.assertEqual(self.value.chance(at=values[3]), 1 / 20_000)
        tail = np.sort(-values)[-1000:]
        self.assertAlmostEqual(self.value.expected_shortfall(0.95), tail.mean(), delta=0.01)

    def test_estimates_behave_as_floats(self):
        mean = self.value.mean
        self.assertIsInstance(mean, float)
        self.assertEqual(f"{mean:.2f}", f"{float(mean):.2f}")
        self.assertLess(mean.low, mean)
        self.assertAlmostEqual(mean.error, (mean.high - mean.low) / 2)
        self.assertIs(type(mean + 1), float)
        several = self.value.percentile([5, 50, 95])
        self.assertEqual(several.shape, (3,))
        self.assertEqual(several[1], self.value.median)
        self.assertEqual(several[1].low, several.low[1])
        self.assertIs(type(several * 2), np.ndarray)
        for thing in (mean, several):
            again = pickle.loads(pickle.dumps(thing))
            np.testing.assert_array_equal([again.low, again.high], [thing.low, thing.high])

    def test_errors_by_name(self):
        self.assertEqual(self.value.error("mean"), self.value.mean.error)
        self.assertEqual(self.value.error("percentile", 5), self.value.percentile(5).error)
        self.assertEqual(self.value.error("chance", below=0), self.value.chance(below=0).error)
        with self.fails("'men'", "did you mean 'mean'?"):
            self.value.error("men")

    def test_few_trials_have_no_error(self):
        few = investment().simulate(150, seed=1)["net_value"]
        self.assertTrue(math.isnan(few.mean.error) and math.isnan(few.chance(below=0).error))
        enough = investment().simulate(200, seed=1)["net_value"]
        self.assertGreater(enough.mean.error, 0)

    def test_no_hits_never_means_no_error(self):
        never = self.value.chance(below=-1e9)
        self.assertEqual((never, never.low), (0, 0))
        self.assertGreater(never.high, 1e-4)

    def test_rows_give_all_per_period(self):
        row = self.run_["cash_flow"]
        self.assertEqual(row.mean.shape, (5,))
        self.assertEqual(row.percentile([5, 95]).shape, (2, 5))
        self.assertEqual(row.percentile([5, 95]).low.shape, (2, 5))
        self.assertEqual(row.error("mean").shape, (5,))
        self.assertIsInstance(row.mean[2], kd.Estimate)
        np.testing.assert_allclose(row.values, np.broadcast_to(self.run_["flow"].values, (5, 20_000)))

    def test_table(self):
        table = self.run_.table()
        self.assertEqual(table.loc[("net_value", "mean"), "value"], self.value.mean)
        self.assertEqual(table.loc[("net_value", "P5"), "error"], self.value.percentile(5).error)
        self.assertAlmostEqual(table.loc[("net_value", "base case"), "value"], self.truth.mean())
        self.assertAlmostEqual(table.loc[("net_value", "base case percentile"), "value"], 50, delta=1)
        sides = [table.loc[("net_value", f"chance {side} 0"), "value"] for side in ("below", "above")]
        self.assertAlmostEqual(sum(sides), 1)

    def test_trials_and_single_trials(self):
        frame = self.run_.trials()
        self.assertEqual(list(frame.columns), ["flow", "net_value"])
        self.assertEqual(len(frame), 20_000)
        kept = investment().simulate(300, seed=7, keep="cash_flow").trials()
        self.assertIn("cash_flow 2031", kept.columns)
        for number in (0, 7, 11_111, 19_999):
            sheet = self.run_.trial(number)
            self.assertEqual(sheet.loc["net_value", "value"], self.value.values[number])
            self.assertEqual(sheet.loc["cash_flow", "2032"], sheet.loc["flow", "value"])
        with self.fails("trial 20,000", "0 to 19,999"):
            self.run_.trial(20_000)
        with self.fails("no quantity 'net_valu'", "did you mean 'net_value'?"):
            _ = self.run_["net_valu"]

    def test_a_changed_function_is_noticed(self):
        factor = [1.0]
        model = kd.Model("m")
        model.driver("x", kd.Uniform(0, 1))
        model.line("z", "x * 2")

        @model.outcome
        def y(z):
            return z * factor[0]

        run = model.simulate(500, seed=1)
        factor[0] = 2.0
        with self.fails("gives other values now"):
            run.trial(3)

    def test_facts(self):
        facts = self.run_.facts()
        self.assertEqual((facts["seed"], facts["trials"], facts["sampling"], facts["blocks"]), (7, 20_000, "latin", 20))
        self.assertIn("numpy", facts["versions"])
        self.assertEqual(
            additive().simulate(100, seed=1).facts()["assumed independent"], ["all drivers of each other: x0, x1, x2"]
        )

    def test_words(self):
        self.assertIn("20,000 trials", repr(self.run_))
        with self.fails("say which figure"):
            float(self.value)


class BadTrials(Case):
    @classmethod
    def setUpClass(cls):
        cls.model = kd.Model("bad", periods=2)
        cls.model.driver("x", kd.Uniform(-1, 3))
        cls.model.line("root", "sqrt(x)")
        cls.model.outcome("y", "root + 1", target=2)
        cls.run_ = cls.model.simulate(8000, seed=3)

    def test_are_counted_and_left_out(self):
        y = self.run_["y"]
        self.assertEqual(y.bad, 2000)
        self.assertAlmostEqual(y.mean, 1 + stats.uniform(0, 3).expect(np.sqrt), places=2)
        self.assertAlmostEqual(y.chance(above=2), 0.5, places=2)  # a share of all trials
        self.assertAlmostEqual(y.chance(below=2), 0.25, places=2)
        self.assertEqual(self.run_.facts()["bad trials"], {"y": 2000})
        self.assertRegex(self.run_.facts()["first bad"]["y"], r"trial \d+, first in 'root'")
        self.assertEqual(self.run_.table().loc[("y", "trials without a value"), "value"], 2000)

    def test_can_be_an_error(self):
        with self.fails("'y' is not a number in trial", "x=-", "seed 3", kind=kd.RunError):
            self.model.simulate(8000, seed=3, on_bad="error")

    def test_rates_of_return_that_do_not_exist_are_told_apart(self):
        model = kd.Model("irr", periods=2)
        model.driver("last", kd.Discrete([-132, 50, 60], [0.5, 0.3, 0.2]))
        model.line("flows", "230 if period == 1 else last")
        model.line("all_in", "-flows")
        model.outcome("rate", "irr(flows, -100)")
        model.outcome("none", "irr(all_in, -100) if last > 0 else 0.5")
        run = model.simulate(1000, seed=1)
        self.assertEqual(run.notes("rate"), {"several IRRs": 500})
        self.assertEqual(run["rate"].bad, 500)
        self.assertEqual(run.table().loc[("rate", "trials with several IRRs"), "value"], 500)
        self.assertEqual(run.notes("none")["no IRR: flows all of one sign"], 500)

    def test_infinity_is_no_failure(self):
        model = kd.Model("never")
        model.driver("x", kd.Uniform(0, 1))
        model.outcome("y", "1 / 0 if x < 0.25 else 2")
        y = model.simulate(4000, seed=1)["y"]
        self.assertEqual((y.bad, y.median, y.percentile(99), y.mean), (0, 2, math.inf, math.inf))
        self.assertEqual(y.chance(above=10), 0.25)


class Sensitivity(Case):
    def test_rank_correlations(self):
        run = additive().simulate(20_000, seed=4)
        frame = run.sensitivity("y")
        self.assertEqual(list(frame.index), ["x2", "x1", "x0"])
        for i in range(3):
            expected = stats.spearmanr(run[f"x{i}"].values, run["y"].values).statistic
            self.assertAlmostEqual(frame.loc[f"x{i}", "rank correlation"], expected, places=10)
            pearson = (1 + i) / math.sqrt(14)
            self.assertAlmostEqual(expected, 6 / math.pi * math.asin(pearson / 2), delta=3 * frame.loc[f"x{i}", "error"])
        self.assertAlmostEqual(frame["share of variance"].sum(), 1)

    def test_ties_share_their_rank(self):
        model = kd.Model("ties")
        model.driver("a", kd.Discrete([0, 1, 2], [0.5, 0.3, 0.2]))
        model.driver("b", kd.Discrete([0, 1], [0.5, 0.5]))
        model.outcome("y", "a + b")
        run = model.simulate(5000, seed=1)
        expected = stats.spearmanr(run["a"].values, run["y"].values).statistic
        self.assertAlmostEqual(run.sensitivity("y").loc["a", "rank correlation"], expected, places=10)

    def test_a_driver_with_periods_counts_as_one(self):
        model = kd.Model("rows", periods=4)
        model.driver("x", kd.Normal(0, 1), each="period")
        model.driver("s", kd.Normal(0, 2))
        model.outcome("y", "total(x) - s")
        run = model.simulate(20_000, seed=1)
        whole, split = run.sensitivity("y"), run.sensitivity("y", by_period=True)
        self.assertEqual(len(whole), 2)
        self.assertAlmostEqual(whole.loc["x", "share of variance"], 0.5, delta=0.02)
        self.assertLess(whole.loc["s", "rank correlation"], -0.65)
        self.assertEqual(sorted(split.index), ["s", "x 1", "x 2", "x 3", "x 4"])
        self.assertAlmostEqual(split.loc["x 1", "rank correlation"], 0.34, delta=0.02)

    def test_rows_have_none(self):
        with self.fails("'cash_flow' is a row"):
            investment().simulate(300, seed=1).sensitivity("cash_flow")


class Coverage(unittest.TestCase):
    """A small version of the benchmark: the 95 % errors hold the truth about so often."""

    def test_errors_cover_the_truth(self):
        for known in (MODELS[0], MODELS[3]):
            for sampling in PLANS:
                for statistic, share in covered(known, sampling, seeds=40, trials=2000).items():
                    with self.subTest(model=known.name, sampling=sampling, statistic=statistic):
                        self.assertGreaterEqual(share, 0.82)

    def test_percentiles_of_steps(self):
        values = np.repeat([1.0, 2.0, 3.0], 1000)
        np.random.default_rng(1).shuffle(values)
        found = percentile(Sample(values, np.arange(0, 3001, 150)), 50.0)
        self.assertEqual((found, found.low, found.high), (2, 2, 2))
