"""Tests of what assumptions are worth, against closed forms: sums of normals, products of
lognormals, events.
"""

import math

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.reports.robustness import robustness_answer
from tests.common import Case, proof, repeats

OPTIONS = {"trials": 10_000, "seed": 3}


def sums(target=0.0, **changes):
    """a + b + c, of normals with mean 1 and sds 1, 2 and 2: normal with mean 3 and sd 3."""
    model = kd.Model("sums")
    for name, sd in (("a", 1.0), ("b", 2.0), ("c", 2.0)):
        model.driver(name, changes.get(name, kd.Normal(1.0, sd)))
    model.outcome("total", "a + b - c", target=target, unit="EUR")
    return model


def found(answer, departure, figure):
    name = next(k for k in answer.table.index.unique(0) if str(k).startswith(departure))
    row = answer.table.loc[(name, figure)]
    return row["value"], row["difference"], (row["high"] - row["low"]) / 2


class ClosedForms(Case):
    def test_a_process_that_returns_in_logs_moves_its_level_in_logs(self):
        """Its stationary sd is volatility / sqrt(2 speed): the level moves by so many of these."""
        values = {}
        for log in (False, True):
            level = 2.0
            model = kd.Model("m", periods=1)
            process = kd.MeanReverting(level, level, 8.0, 1.2, log=log)
            model.driver("x", process)
            model.outcome("y", "last(x)", better="high")
            found = model.robustness("y", "mean", trials=4000, seed=1, centre=0.5)
            row = found.table.xs("mean", level="figure")
            worse = [name for name in row.index if str(name).startswith("worse centres")]
            sd = 1.2 / math.sqrt(16)
            stated = float(found.stated["mean"])
            values[log] = (
                float(row.loc[worse[0], "value"]) / stated,
                stated - float(row.loc[worse[0], "value"]),
            )
        # the whole of the outcome is its level here, so half an sd of it
        self.assertAlmostEqual(values[True][0], math.exp(-0.5 * sd), delta=0.03)
        self.assertAlmostEqual(values[False][1], 0.5 * sd, delta=0.04)

    def check(self, answer, departure, mean, sd):
        for figure, wanted in (
            ("chance below 0", stats.norm.cdf(-mean / sd)),
            ("percentile 5", mean + sd * stats.norm.ppf(0.05)),
        ):
            value, gap, error = found(answer, departure, figure)
            stated = float(answer.stated[figure])
            with self.subTest(departure=departure, figure=figure):
                self.assertAlmostEqual(value, stated + gap, 9)
                self.assertAlmostEqual(value, wanted, delta=0.02 * max(abs(wanted), 0.5))
                self.assertGreater(error, 0)

    def test_sums_of_normals(self):
        answer = sums().robustness("total", **OPTIONS)
        self.check(answer, "ranges x 1.5", 1.0, 4.5)
        self.check(answer, "b x 1.5", 1.0, math.sqrt(1 + 9 + 4))
        # of (1 - r) R + r s s the variance is (1 - r) (1 + 4 + 4) + r (1 + 2 + 2)^2
        r = 2 * math.sin(math.pi * 0.3 / 6)
        self.check(answer, "bad news together", 1.0, math.sqrt((1 - r) * 9 + r * 25))
        self.check(answer, "ranges and together", 1.0, 1.5 * math.sqrt((1 - r) * 9 + r * 25))
        ranks = [6 / math.pi * math.asin(sd / 3 / 2) for sd in (1, 2, 2)]
        self.check(answer, "worse centres", 1.0 - 0.25 * np.dot(ranks, (1, 2, 2)), 3.0)
        self.assertEqual(set(answer.singles), {"b x 1.5", "c x 1.5", "a x 1.5"})
        twice = sums().robustness("total", wider=2.0, together=0.6, **OPTIONS)
        self.check(twice, "ranges x 2", 1.0, 6.0)
        r = 2 * math.sin(math.pi * 0.6 / 6)
        self.check(twice, "bad news together", 1.0, math.sqrt((1 - r) * 9 + r * 25))

    def test_scales_that_are_natural(self):
        model = kd.Model("product")
        model.driver("price", kd.LogNormal(10.0, 4.0))
        model.driver("share", kd.Beta(2.0, 3.0))
        model.driver("count", kd.Poisson(4.0))
        model.outcome("price_out", "price", target=6.0)
        model.outcome("share_out", "share", target=0.2)
        model.outcome("count_out", "count", target=2.0)
        log_sd = math.sqrt(math.log(1 + 0.16))
        median = 10 / math.sqrt(1.16)
        wide = model.robustness("price_out", **OPTIONS)
        wanted = stats.norm.cdf(math.log(6 / median) / (1.5 * log_sd))
        self.assertAlmostEqual(found(wide, "ranges", "chance below 6")[0], wanted, delta=0.005)
        share = model.robustness("share_out", **OPTIONS)
        logit = lambda x: math.log(x / (1 - x))  # noqa: E731
        middle = logit(stats.beta.median(2, 3))
        at = 1 / (1 + math.exp(-(middle + (logit(0.2) - middle) / 1.5)))
        wanted = stats.beta.cdf(at, 2, 3)
        self.assertAlmostEqual(found(share, "ranges", "chance below 0.2")[0], wanted, delta=0.005)
        count = model.robustness("count_out", **OPTIONS)
        score = stats.norm.ppf(stats.poisson.cdf(1, 4.0)) / 1.5
        wanted = stats.norm.cdf(score)
        self.assertAlmostEqual(found(count, "ranges", "chance below 2")[0], wanted, delta=0.005)

    def test_an_events_chance_has_no_width_and_its_impact_has(self):
        model = kd.Model("risks")
        model.driver("strike", kd.EventImpact(0.3, kd.LogNormal(10.0, 5.0)))
        model.driver("go", kd.Bernoulli(0.6))
        model.outcome("cost", "strike + 5 * go", target=12.0, better="low")
        wide = model.robustness("cost", **OPTIONS)
        log_sd, median = math.sqrt(math.log(1.25)), 10 / math.sqrt(1.25)
        above = lambda x: stats.norm.sf(math.log(x / median) / (1.5 * log_sd))  # noqa: E731
        wanted = 0.3 * (0.4 * above(12) + 0.6 * above(7))
        self.assertAlmostEqual(found(wide, "ranges", "chance above 12")[0], wanted, delta=0.005)

    def test_what_is_drawn_each_period_is_kept(self):
        model = kd.Model("years", periods=5)
        model.driver("x", kd.Normal(1.0, 1.0), each="period")
        model.outcome("whole", "total(x)", target=0.0)
        answer = model.robustness("whole", kept=0.8, **OPTIONS)
        rho = 2 * math.sin(math.pi * 0.8 / 6)
        variance = sum(rho ** abs(i - j) for i in range(5) for j in range(5))
        wanted = stats.norm.cdf(-5 / math.sqrt(variance))
        self.assertAlmostEqual(found(answer, "kept", "chance below 0")[0], wanted, delta=0.006)

    def test_another_shape_goes_through_the_same_percentiles(self):
        model = kd.Model("one")
        model.driver("x", kd.Normal(1.0, 1.0))
        model.outcome("y", "x", target=-1.5)
        answer = model.robustness("y", **OPTIONS)
        scale = stats.norm.ppf(0.9) / math.log(9)  # of the logistic with the same P10 and P90
        wanted = stats.logistic.cdf(-1.5, 1.0, scale)
        self.assertAlmostEqual(found(answer, "other", "chance below -1.5")[0], wanted, delta=4e-4)

    def test_tails_together_by_a_copula_with_4_degrees_of_freedom(self):
        model = kd.Model("two")
        for name in ("x", "y"):
            model.driver(name, kd.Normal(0.0, 1.0))
        model.correlate("x", "y", 0.6)
        model.outcome("z", "x + y", target=-4.5)
        answer = model.robustness("z", trials=20_000, seed=3)
        rho = 2 * math.sin(math.pi * 0.6 / 6)
        drawn = stats.multivariate_t(shape=[[1, rho], [rho, 1]], df=4, seed=1).rvs(400_000)
        normals = stats.norm.ppf(stats.t.cdf(drawn, 4))
        wanted = np.mean(normals.sum(axis=1) < -4.5)
        value, _, error = found(answer, "tails together", "chance below -4.5")
        self.assertAlmostEqual(value, wanted, delta=2 * error)
        stated = stats.norm.cdf(-4.5 / math.sqrt(2 + 2 * rho))
        self.assertGreater(value, stated + error)

    def test_what_is_stated_leaves_out_what_cannot_go_with_it(self):
        kept, together = "kept from period to period 0.8", "tails together t4"
        for serial, copula, there, left_out in (
            (None, {}, (kept, together), ()),
            (0.3, {}, (kept,), (together,)),
            (None, {"copula": "t", "df": 4}, (), (kept, together)),
            (None, {"copula": "clayton", "tau": 0.3}, (), (kept, together)),
        ):
            with self.subTest(serial=serial, **copula):
                model = kd.Model("Site", periods=4)
                model.driver("wage", kd.Normal(5, 1), each="period", serial=serial)
                model.driver("rent", kd.Normal(5, 1), each="period")
                model.outcome("cost", "total(wage * rent)")
                model.correlate("wage", "rent", *([] if "tau" in copula else [0.6]), **copula)
                found = model.robustness("cost", trials=400, seed=1).moved("mean").index
                self.assertLessEqual(set(there), set(found))
                self.assertTrue(set(left_out).isdisjoint(found))

    def test_processes_widen_by_their_volatility(self):
        model = kd.Model("price", periods=4)
        model.driver("p", kd.GeometricBrownianMotion(start=100, drift=0.0, volatility=0.2))
        model.outcome("end", "last(p)", target=80.0)
        answer = model.robustness("end", **OPTIONS)
        sd = 0.3 * math.sqrt(4)
        wanted = stats.norm.cdf((math.log(0.8) + sd**2 / 2) / sd)
        self.assertAlmostEqual(found(answer, "ranges", "chance below 80")[0], wanted, delta=0.01)

    def test_what_would_have_to_be_true(self):
        answer = sums(b=kd.Normal(1.0, 2.0)).robustness("total", goal=0.5, **OPTIONS)
        needed = answer.needed.loc["b"]
        self.assertAlmostEqual(needed["median"], 0.0, delta=0.06)  # the mean is then 0
        self.assertAlmostEqual(
            needed["percentile as stated"], 100 * stats.norm.cdf(-0.5), delta=1.5
        )

    def test_what_would_have_to_be_true_of_drivers_with_and_without_a_unit(self):
        model = kd.Model("sums")
        model.driver("a", kd.Normal(1.0, 2.0), unit="EUR")
        model.driver("b", kd.Normal(1.0, 2.0))
        model.outcome("total", "a + b", target=0.0)
        answer = model.robustness("total", goal=0.5, **OPTIONS)
        self.assertEqual(dict(answer.needed["unit"]), {"a": "EUR", "b": None})
        self.assertRegex(robustness_answer(answer)[-1], r"median of b of -1\.\d+, its P1\d")

    @proof
    def test_errors_of_differences_hold(self):
        gaps, errors = [], []
        truth = stats.norm.cdf(-1 / 4.5) - stats.norm.cdf(-1 / 3)
        for seed in range(repeats(90)):
            answer = sums().robustness("total", trials=2_000, seed=seed, sampling="random")
            _, gap, error = found(answer, "ranges x 1.5", "chance below 0")
            gaps.append(gap - truth)
            errors.append(error)
        self.assertCalibrated(gaps, errors)


class Said(Case):
    def test_the_factor_of_a_track_record(self):
        model = kd.Model("sum")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("y", "x + 0", target=-1)
        file = kd.demo_file("past_estimates.csv")
        record = kd.track_record(file)
        factor = round(float(record.widening), 2)
        for given in (record, file, str(file)):
            found = model.robustness("y", record=given, trials=1000, seed=1)
            value = found.table.loc[(f"ranges x {factor:g}", "percentile 5"), "value"]
            self.assertAlmostEqual(value, factor * found.stated["percentile 5"], delta=0.01)
            self.assertIn(f"as those of {len(record.cases)} past forecasts", found.measured)
        few = kd.track_record(pd.read_csv(file).head(6))
        with self.fails("10 are needed to tell a widening"):
            model.robustness("y", record=few, trials=1000, seed=1)

    def test_what_cannot_depart_is_named(self):
        model = kd.Model("named")
        model.driver("n", kd.Poisson(5.0))
        model.driver("k", kd.Binomial(trials="n", probability=0.5))
        model.outcome("out", "k + n", target=3.0)
        answer = model.robustness("out", trials=2_000, seed=1)
        self.assertEqual(answer.not_moved, {"k": "its parameters are other quantities"})
        with self.fails("no drivers"):
            flat = kd.Model("flat")
            flat.outcome("out", "3 + 4")
            flat.robustness("out")

    def test_the_stated_figures_are_those_of_a_run(self):
        model = sums()
        run, answer = model.simulate(2_000, seed=4), model.robustness("total", trials=2_000, seed=4)
        self.assertEqual(float(answer.stated["percentile 5"]), float(run["total"].percentile(5)))
        mean = model.robustness("total", "mean", trials=2_000, seed=4)
        self.assertEqual(next(iter(mean.stated)), "mean")

    def test_a_figure_that_is_asked_for_is_named_by_itself(self):
        model = sums(target=0.5)
        asked = model.robustness("total", "chance above 9", trials=2_000, seed=1)
        self.assertIn("the chance of total above 9 is 0.", robustness_answer(asked)[0])
        self.assertNotIn("target", " ".join(robustness_answer(asked)))
        tail = model.robustness("total", "percentile 5", trials=2_000, seed=1)
        self.assertEqual((next(iter(tail.stated)), tail.tail), ("percentile 5",) * 2)
        self.assertEqual(tail.missed, "chance below 0.5")

    def test_what_may_never_happen_needs_a_figure(self):
        model = kd.Model("never", periods=3)
        model.driver("x", kd.Normal(0.0, 1.0), each="period")
        model.outcome("first", "first_period(x > 1)", better="low")
        with self.fails("mean of first is not finite", "name a figure"):
            model.robustness("first", trials=500)
        found = model.robustness("first", "chance above 3", trials=4_000, seed=1)
        self.assertAlmostEqual(found.stated["chance above 3"], 0.8413**3, delta=0.02)

    def test_a_target_out_of_reach(self):
        far = robustness_answer(sums(target=30.0).robustness("total", trials=2_000, seed=1))
        self.assertIn("the target is out of reach", " ".join(far))
        middle = robustness_answer(sums(target=1.0).robustness("total", trials=2_000, seed=1))
        self.assertRegex(" ".join(middle), "near one half and says little: the P5 of total goes")
        plain = robustness_answer(sums().robustness("total", trials=8_000, seed=1))
        self.assertRegex(
            plain[0], r"is 37\.\d % ± .* by sampling; with ranges half as wide again 4"
        )
