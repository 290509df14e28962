"""Tests of trials that were computed elsewhere."""

import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import Case

RNG = np.random.default_rng(1)
TABLE = pd.DataFrame({"growth": RNG.normal(0.05, 0.1, 3000), "fall": RNG.uniform(-0.4, 0, 3000)})
TABLE["cost"] = 100 - 50 * TABLE["growth"] + RNG.normal(0, 2, 3000)


class Reading(Case):
    def written(self, text, name="trials.csv"):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, name)
        path.write_text(text, encoding="utf-8")
        return path

    def test_a_column_that_counts_the_trials_is_left_out(self):
        rows = "\n".join(f"{k},{k % 7}" for k in range(300))
        found = kd.read_trials(self.written(f"trial,y\n{rows}\n"))
        self.assertEqual(list(found), ["y"])
        self.assertIn("column 'trial' left out: it counts the trials", found.notes)
        other = kd.read_trials(self.written(f"trial,y\n{rows}\n7,7\n"))
        self.assertEqual(list(other), ["trial", "y"])

    def test_numbers_as_people_write_them(self):
        for text, options, expected in (
            ("a,b\n1%,2\n3%,4\n", {}, {"a": [0.01, 0.03], "b": [2, 4]}),
            ('a,b\n"1,234",5\n"2,000.5",7\n', {}, {"a": [1234, 2000.5], "b": [5, 7]}),
            ('a;b\n1,5;"1.234,5"\n2,5;7\n', {"decimal": ","}, {"a": [1.5, 2.5], "b": [1234.5, 7]}),
            ("Results of the rule\n\na,b\n1,2\n\n3,4\n", {}, {"a": [1, 3], "b": [2, 4]}),
            (",b\n0,1\n1,2\n", {}, {"b": [1, 2]}),
            ("name,b\nx,1\ny,2\n", {}, {"b": [1, 2]}),
            ("a\tb\n1\t2\n3\t4\n", {}, {"a": [1, 3], "b": [2, 4]}),
        ):
            with self.subTest(text):
                found = kd.read_trials(self.written(text), **options)
                self.assertEqual(
                    {name: result.values.tolist() for name, result in found.items()}, expected
                )
        notes = kd.read_trials(self.written("a,b\n1,2\n\n,4\n")).notes
        self.assertEqual(notes, ("1 blank row left out: row 3", "column 'a': 1 empty cell, row 4"))

    def test_what_cannot_be_read(self):
        for text, words in (
            ("1,2\n3,4\n", ("row 1", "no header")),
            ("a,a\n1,2\n", ("row 1", "two columns are named 'a'")),
            ("a,b\n1,x\n2,3\n", ("row 2", "column 'b' holds 'x'")),
            ("a,b\n1%,1\n2,3\n", ("row 3", "mixes percentages")),
            ("", ("is empty",)),
            ("a,b\n", ("no trials",)),
            ("a,b\nx,y\nu,v\n", ("no column holds numbers",)),
        ):
            with self.subTest(text), self.fails(*words, "trials.csv", kind=kd.FileError):
                kd.read_trials(self.written(text))
        with self.fails("cannot be read", kind=kd.FileError):
            kd.read_trials("nothing.csv")
        with self.fails("targets names no column 'grwth'", "did you mean 'growth'"):
            kd.read_trials(TABLE, targets={"grwth": 0})
        with self.fails("no column 'x' of numbers"):
            kd.read_trials(TABLE, columns=["x"])

    def test_other_files(self):
        with tempfile.TemporaryDirectory() as folder:
            for ending, write in ((".parquet", TABLE.to_parquet), (".xlsx", TABLE.to_excel)):
                path = Path(folder, f"trials{ending}")
                write(path, index=False)
                np.testing.assert_allclose(kd.read_trials(path)["cost"].values, TABLE["cost"])


class Figures(Case):
    def test_they_read_like_a_runs(self):
        found = kd.read_trials(TABLE, units={"growth": "a year"}, targets={"growth": 0.0})
        growth, values = found["growth"], TABLE["growth"].to_numpy()
        self.assertAlmostEqual(float(growth.mean), values.mean())
        self.assertAlmostEqual(
            growth.mean.error, 1.96 * values.std(ddof=1) / np.sqrt(3000), delta=2e-5
        )
        self.assertAlmostEqual(float(growth.percentile(5)), np.percentile(values, 5))
        self.assertAlmostEqual(float(growth.chance(above=0)), (values > 0).mean())
        self.assertAlmostEqual(float(growth.percentile_of(0.05)), 100 * (values < 0.05).mean())
        table = found.table()
        self.assertAlmostEqual(table.loc[("growth", "mean"), "value"], values.mean())
        self.assertNotIn("base case", table.loc["growth"].index)
        ranking = found.sensitivity("cost")
        self.assertEqual(ranking.index[0], "growth")
        self.assertAlmostEqual(
            ranking.loc["growth", "rank correlation"],
            TABLE["growth"].corr(TABLE["cost"], "spearman"),
        )

    def test_dependent_rows_have_errors_by_blocks(self):
        series = kd.Arima(ar=[0.95], sd=1.0).paths(4000, 60, seed=1)[1:]
        gaps, errors, naive = [], [], []
        for row in series.T:
            frame = pd.DataFrame({"x": row})
            gaps.append(float(kd.read_trials(frame, order=True)["x"].mean))
            errors.append(kd.read_trials(frame, order=True)["x"].mean.error)
            naive.append(kd.read_trials(frame)["x"].mean.error)
        self.assertCalibrated(gaps, errors)
        self.assertLess(np.mean(np.abs(gaps) <= naive), 0.6)

    def test_the_sd_of_weighted_trials_is_that_of_so_many_effective_ones(self):
        x = np.random.default_rng(5).normal(2, 3, 300)
        weights = np.exp(0.2 * x)
        found = kd.read_trials(pd.DataFrame({"x": x}), weights=weights)["x"]
        shares = weights / weights.sum()
        variance = shares @ (x - shares @ x) ** 2 / (1 - (shares**2).sum())
        self.assertAlmostEqual(float(found.sd), np.sqrt(variance))

    def test_weighted_figures_are_those_of_repeated_rows(self):
        weights = np.tile([1.0, 2.0, 3.0], 1000)
        trials = kd.read_trials(TABLE, weights=weights)
        self.assertIn("weights count trials: 3,000 rows stand for 6,000", trials.notes)
        found = trials["growth"]
        repeated = np.repeat(TABLE["growth"].to_numpy(), weights.astype(int))
        self.assertAlmostEqual(float(found.mean), repeated.mean())
        self.assertAlmostEqual(found.mean.error, 1.96 * stats.sem(repeated), delta=1e-5)
        self.assertAlmostEqual(float(found.sd), repeated.std(ddof=1))
        self.assertAlmostEqual(float(found.skewness), stats.skew(repeated))
        share, worth = np.mean(repeated <= 0.03), 6000
        ends = stats.binomtest(round(share * worth), worth).proportion_ci(method="wilson")
        place = found.percentile_of(0.03)
        np.testing.assert_allclose(
            [place.low, float(place), place.high],
            [100 * ends.low, 100 * share, 100 * ends.high],
            atol=0.1,
        )
        self.assertAlmostEqual(float(found.chance(below=0)), (repeated < 0).mean())
        self.assertAlmostEqual(float(found.percentile(5)), np.percentile(repeated, 5))
        tail = np.sort(repeated)[:300]
        self.assertAlmostEqual(float(found.expected_shortfall(0.95)), -tail.mean(), delta=1e-3)
        self.assertAlmostEqual(float(found.statistic("kurtosis")), stats.kurtosis(repeated))

    def test_errors_do_not_hang_on_the_order_of_rows(self):
        generator = np.random.default_rng(6)
        frame = pd.DataFrame({"x": generator.normal(size=4_000)})
        frame["y"] = frame["x"] + generator.normal(size=4_000)
        mixed, ordered = kd.read_trials(frame), kd.read_trials(frame.sort_values("x"))
        for name, *arguments in (("percentile", 5.0), ("sd",), ("skewness",)):
            one, two = (trials["x"].statistic(name, *arguments) for trials in (mixed, ordered))
            self.assertAlmostEqual(one, two)
            self.assertTrue(0.6 < two.error / one.error < 1.7, (name, one, two))
        one, two = (trials.joint("x", "y").correlation for trials in (mixed, ordered))
        self.assertTrue(0.6 < two.error / one.error < 1.7)
        np.testing.assert_array_equal(ordered["x"].values, np.sort(frame["x"]))

    def test_weighted_errors_hold_from_both_sides(self):
        rng = np.random.default_rng(2)
        gaps, errors = [], []
        for _ in range(60):
            x = rng.standard_normal(1500)
            # of a normal with mean 0.5
            found = kd.read_trials(pd.DataFrame({"x": x}), weights=np.exp(0.5 * x - 0.125))["x"]
            for figure, truth in (
                (found.mean, 0.5),
                (found.chance(above=0.5), 0.5),
                (found.percentile(50), 0.5),
            ):
                gaps.append(figure - truth)
                errors.append(figure.error)
        self.assertCalibrated(gaps, errors)

    def test_two_columns_together(self):
        found = kd.read_trials(TABLE).joint("growth", "fall", (0.0, -0.2))
        above, deep = TABLE["growth"] >= 0, TABLE["fall"] < -0.2
        self.assertAlmostEqual(float(found.quadrants["above", "below"]), (above & deep).mean())
        self.assertAlmostEqual(sum(map(float, found.quadrants.values())), 1)
        self.assertAlmostEqual(float(found.scatter), 1, delta=0.05)
        tight = kd.read_trials(TABLE).joint("growth", "cost")
        explained = np.corrcoef(TABLE["growth"], TABLE["cost"])[0, 1] ** 2
        self.assertAlmostEqual(float(tight.scatter), 1 - explained, delta=0.03)
        self.assertEqual(
            tight.cuts, (float(TABLE["growth"].median()), float(TABLE["cost"].median()))
        )
        with self.fails("cuts must be two numbers"):
            kd.read_trials(TABLE).joint("growth", "cost", 3)

    def test_they_compare_with_runs(self):
        model = kd.Model("ours")
        model.driver("g", kd.Normal(0.06, 0.1))
        model.outcome("growth", "g", target=0.0)
        compared = kd.compare(
            {
                "ours": model.simulate(3000, seed=1),
                "theirs": kd.read_trials(TABLE, targets={"growth": 0.0}),
            }
        )
        row = compared.differences().loc[("growth", "theirs", "mean")]
        self.assertFalse(row["paired"])
        self.assertLess(abs(row["difference"] + 0.01), 2 * row["error"])
        self.assertEqual(compared.outcomes, ["growth"])
        self.assertIn("theirs", compared.table().columns.get_level_values(0))
        self.assertTrue(len(compared.dominance("growth")))
