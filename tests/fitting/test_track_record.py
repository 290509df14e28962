"""Tests of track records of opinions, and of opinions corrected by them."""

import json

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from kindynos.fitting.track_record import outcomes_by_part
from tests.common import DEMO, Case, run


def past(bias, widening, count, seed, spread=(1.0, 1.0)) -> pd.DataFrame:
    """Forecasts of known faults: what came has scores with that mean and sd."""
    rng = np.random.default_rng(seed)
    middle = rng.uniform(50, 150, count)
    low, high = middle - 12.816 * spread[0], middle + 12.816 * spread[1]
    score = bias + widening * rng.standard_normal(count)
    came = middle + 10 * score * np.where(score > 0, spread[1], spread[0])
    return pd.DataFrame({"P10": low, "P50": middle, "P90": high, "actual": came})


class Faults(Case):
    def test_the_bias_and_the_widening_that_would_have_been_right(self):
        gaps, errors = [], []
        for seed in range(80):
            record = kd.track_record(past(0.4, 1.8, 40, seed))
            gaps.append([float(record.bias) - 0.4, np.log(float(record.widening) / 1.8)])
            wide = np.log(record.widening.high / record.widening.low) / 2
            errors.append([record.bias.error, wide])
        self.assertCalibrated(gaps, errors)

    def test_shares_against_their_closed_forms(self):
        record = kd.track_record(past(0.5, 2.0, 4000, 1, (1.0, 1.5)))
        inside = stats.norm.cdf((1.2816 - 0.5) / 2) - stats.norm.cdf((-1.2816 - 0.5) / 2)
        self.assertAlmostEqual(float(record.inside), inside, delta=0.02)
        self.assertAlmostEqual(record.nominal, 0.8)
        self.assertAlmostEqual(float(record.above), stats.norm.cdf(0.25), delta=0.02)
        self.assertAlmostEqual(float(record.bias), 0.5, delta=0.1)
        edges, counts, (low, high) = outcomes_by_part(record)
        shares = np.diff(stats.norm.cdf((stats.norm.ppf(edges) - 0.5) / 2))
        np.testing.assert_allclose(counts / 4000, shares, atol=0.02)
        sd = np.sqrt(4000 * 0.1 * 0.9)
        np.testing.assert_allclose([low, high], 400 + stats.norm.ppf([0.025, 0.975]) * sd, atol=1)
        said = " ".join(record.sentences())
        self.assertIn("should have been 1.99", said)
        self.assertIn("more than was said", said)

    def test_intervals_by_hand(self):
        count = 30
        record = kd.track_record(past(0.3, 1.5, count, 11))
        x = record.scores
        # Bonett's interval of a variance, as published
        middle = stats.trim_mean(x, 1 / (2 * np.sqrt(count - 4)))
        kurtosis = count * ((x - middle) ** 4).sum() / ((x - x.mean()) ** 2).sum() ** 2
        z = stats.norm.ppf(0.975)
        c = count / (count - z)
        error = c * np.sqrt((kurtosis - (count - 3) / count) / (count - 1))
        low, high = np.sqrt(c * x.var(ddof=1) * np.exp(z * error * np.array([-1, 1])))
        self.assertAlmostEqual(record.widening.low, low)
        self.assertAlmostEqual(record.widening.high, high)
        for share in (record.inside, record.above):
            wanted = stats.binomtest(round(share * count), count).proportion_ci(method="wilson")
            self.assertAlmostEqual(share.low, wanted.low)
            self.assertAlmostEqual(share.high, wanted.high)

    def test_the_interval_of_the_skill_is_a_jackknife(self):
        table = past(0.0, 1.0, 24, 12)
        record = kd.track_record(table)
        own = np.array([case.loss for case in record.cases]) / np.abs(table["P50"])
        # the reference forecasts by how far off, in shares, the other medians were
        off = (table["actual"] / table["P50"]).to_numpy()
        levels = (np.arange(199) + 0.5) / 199
        reference = []
        for place, came in enumerate(off):
            at = np.quantile(np.delete(off, place), levels)
            reference.append(2 * np.mean(((came < at) - levels) * (at - came)))
        reference = np.array(reference)
        without = [
            1 - np.delete(own, i).sum() / np.delete(reference, i).sum() for i in range(len(own))
        ]
        spread = np.sqrt(23 / 24 * ((without - np.mean(without)) ** 2).sum())
        skill = 1 - own.sum() / reference.sum()
        self.assertAlmostEqual(float(record.skill), skill)
        self.assertAlmostEqual(record.skill.error, stats.t.ppf(0.975, 23) * spread)

    def test_a_right_forecaster_has_no_fault(self):
        record = kd.track_record(past(0.0, 1.0, 200, 3))
        self.assertTrue(record.widening.low < 1 < record.widening.high)
        self.assertTrue(record.bias.low < 0 < record.bias.high)
        self.assertIn("cannot be told", " ".join(record.sentences()))

    def test_an_opinion_is_corrected_as_the_record_says(self):
        record = kd.track_record(past(0.4, 1.8, 400, 5))
        found = kd.Normal(100, 10).recalibrated(record)
        b = float(record.bias)
        w = float(record.widening) * np.sqrt(1 + 1 / 400)
        w *= stats.t.ppf(0.9, 399) / stats.norm.ppf(0.9)  # of the next case, not of the past ones
        self.assertAlmostEqual(found.mean, 100 + 10 * b, 6)
        self.assertAlmostEqual(found.sd, 10 * w, 6)
        x = np.array([70.0, 100.0, 140.0])
        np.testing.assert_allclose(found.cdf(x), stats.norm.cdf(x, 100 + 10 * b, 10 * w))
        np.testing.assert_allclose(found.pdf(x), stats.norm.pdf(x, 100 + 10 * b, 10 * w))
        # with its sides of different reach, 80 % of what comes lies inside again
        later = past(0.4, 1.8, 4000, 6, (1.0, 1.7))
        inside = []
        for row in later.itertuples():
            opinion = kd.smooth_percentiles({10: row.P10, 50: row.P50, 90: row.P90})
            low, high = opinion.recalibrated(record).percentile([10, 90])
            inside.append(low <= row.actual <= high)
            if len(inside) == 400:
                break
        self.assertAlmostEqual(np.mean(inside), 0.8, delta=0.06)

    def test_after_ten_cases_four_in_five_of_the_next_lie_inside(self):
        rng = np.random.default_rng(9)
        inside = []
        for _ in range(150):
            record = kd.track_record(past(0.3, 1.5, 10, int(rng.integers(1 << 30))))
            low, high = kd.Normal(0, 1).recalibrated(record).percentile([10, 90])
            inside.append(stats.norm.cdf(high, 0.3, 1.5) - stats.norm.cdf(low, 0.3, 1.5))
        self.assertAlmostEqual(np.mean(inside), 0.8, delta=0.03)

    def test_a_sharper_forecaster_beats_the_reference(self):
        rng = np.random.default_rng(7)
        middle, reach = rng.uniform(50, 150, 200), rng.uniform(1, 40, 200)
        sharp = pd.DataFrame(
            {"low": middle - 1.2816 * reach, "likely": middle, "high": middle + 1.2816 * reach,
             "actual": middle + reach * rng.standard_normal(200)}
        )  # fmt: skip
        skill = kd.track_record(sharp).skill
        self.assertGreater(skill.low, 0)
        case = kd.track_record(sharp).cases[0]
        z = (case.actual - middle[0]) / reach[0]
        crps = reach[0] * (
            z * (2 * stats.norm.cdf(z) - 1) + 2 * stats.norm.pdf(z) - 1 / np.sqrt(np.pi)
        )  # of a normal forecast
        self.assertAlmostEqual(case.loss / crps, 1, delta=0.03)


class Tables(Case):
    def test_groups_notes_and_pictures(self):
        record = kd.track_record(DEMO / "past_estimates.csv")
        table = record.table()
        self.assertEqual(table.loc["forecaster finance", "cases"], 8)
        self.assertTrue(np.isnan(table.loc["forecaster finance", "widening"]))
        self.assertGreater(record.of("planning").widening.low, 1.5)
        ax = record.plot(ax=Figure().subplots())
        self.assertIn("68 forecasts: 47 %", ax.get_title(loc="left"))
        frame = past(0, 1, 12, 1)
        frame.loc[3, "actual"] = np.nan
        self.assertEqual(kd.track_record(frame).notes[-1], "1 forecast without what came left out")

    def test_the_command(self):
        found = run("fit", str(DEMO / "past_estimates.csv"), "--track-record")
        self.assertIn("too few to tell", found.stdout)
        data = json.loads(
            run("fit", str(DEMO / "past_estimates.csv"), "--track-record", "--json").stdout
        )
        self.assertEqual(data["record"][0]["cases"], 68)
        self.assertIn("does not go with", run("fit", "x.csv", "--track-record", "--series").stderr)

    def test_mistakes(self):
        good = past(0, 1, 12, 1)
        for table, words in (
            (good.drop(columns="actual"), ("needs a column actual",)),
            (good.drop(columns=["P10", "P90", "P50"]), ("needs a column low",)),
            (good.assign(P10=1e6), ("row 0", "must increase")),
            (good.assign(actual=np.nan), ("what came",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                kd.track_record(table)
        few = kd.track_record(good.head(6))
        for call, words in (
            (lambda: kd.Normal(0, 1).recalibrated(few), "too few"),
            (lambda: kd.Normal(0, 1).recalibrated(3), "a record"),
            (lambda: kd.track_record(good, ends=(60, 90)), "either side of 50"),
            (lambda: kd.track_record(DEMO / "past_estimates.csv").of("plannin"), "did you mean"),
            (lambda: kd.track_record(3), "the path of a file"),
            (lambda: kd.track_record(good, ends=5), "either side of 50"),
            (lambda: kd.Poisson(3).recalibrated(kd.track_record(good)), "no range"),
        ):
            with self.subTest(words=words), self.fails(words):
                call()
