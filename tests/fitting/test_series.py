"""Tests of rankings of processes, their dates, and of records in files."""

import tempfile
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.fitting.series_candidates import Choices, aicc, default_candidates
from tests.common import Case, Folder, proof

MONTHS = pd.date_range("2018-01-01", periods=96, freq="MS")


def seasonal(count=96, seed=1):
    """Months with a trend and a season that grows with the level."""
    rng = np.random.default_rng(seed)
    t = np.arange(count)
    logs = 5 + 0.008 * t + 0.4 * np.sin(2 * np.pi * t / 12) + 0.05 * rng.standard_normal(count)
    return pd.Series(np.exp(logs), MONTHS[:count], name="passengers")


class Candidates(Case):
    def test_a_constant_of_several_differences_would_be_a_trend_of_a_higher_degree(self):
        values = np.arange(48.0)
        for d, seasonal_d, both in ((0, 1, False), (1, 0, True), (1, 1, False), (2, 0, False)):
            choices = SimpleNamespace(differences=d, seasonal_differences=seasonal_d, log=False)
            names = [c.name for c in default_candidates(values, 12, choices) if "arima" in c.name]
            drifts = [name.endswith("+c") for name in names]
            with self.subTest(d=d, seasonal_d=seasonal_d):
                self.assertEqual(
                    sum(drifts), len(names) // 2 if both else (len(names) if not d else 0)
                )


class Rankings(Case):
    def test_the_correction_for_few_values(self):
        """AIC + 2 k (k + 1) / (n - k - 1), and nothing to go by where that has no value."""
        for count, wanted in ((7, 28 + 40 / 2), (6, 28 + 40 / 1), (5, np.inf)):
            fitted = SimpleNamespace(
                observations=count, parameter_count=4, log_likelihood=-10.0, jacobian=0.0
            )
            self.assertEqual(aicc(SimpleNamespace(fitted=fitted)), wanted)

    def test_those_within_10_of_the_best_of_their_group_are_scored(self):
        series = kd.Arima(ar=[0.9], sd=1.0).paths(150, 1, seed=4)[1:, 0]
        names = ["arima (1,0,0)", "arima (2,0,0)", "arima (0,0,0)", "smoothing: level"]
        ranking = kd.fit_series(series, names, season=0, origins=2)
        table = ranking.table()
        behind = table["aicc"] - table.groupby("group")["aicc"].transform("min")
        self.assertGreater(behind["arima (0,0,0)"], 10)
        self.assertTrue(0 < behind["arima (2,0,0)"] < 10)
        self.assertEqual(set(ranking.scores), set(behind.index[behind <= 10]))
        self.assertTrue(np.isnan(table.loc["arima (0,0,0)", "crps"]))

    def test_the_best_of_a_group_has_the_lowest_aicc(self):
        made = kd.Arima(ar=[0.8], sd=1.0, constant=10.0).paths(200, 1, seed=3)[1:, 0]
        ranking = kd.fit_series(
            made,
            ["arima (1,0,0)", "arima (0,0,0)", "arima (2,0,0)", "arima (0,1,0)"],
            rolling=False,
        )
        table = ranking.table()
        for name in ("arima (1,0,0)", "arima (0,0,0)"):
            answer = ranking[name].fitted
            count, estimated = answer.observations, answer.parameter_count
            expected = (
                2 * estimated
                - 2 * answer.log_likelihood
                + 2 * estimated * (estimated + 1) / (count - estimated - 1)
            )
            self.assertAlmostEqual(table.loc[name, "aicc"], expected)
        self.assertEqual(ranking.groups["arima, 0 and 0 seasonal differences"][0], "arima (1,0,0)")
        weights = table.groupby("group")["weight"].sum()
        np.testing.assert_allclose(weights, 1)

    def test_the_jacobian_of_a_log_is_counted(self):
        series = np.exp(kd.Arima(ar=[0.7], sd=0.3, constant=3.0).paths(150, 1, seed=2)[1:, 0])
        ranking = kd.fit_series(series, ["arima (1,0,0)", "log arima (1,0,0)"], rolling=False)
        self.assertEqual(ranking.names[0], "log arima (1,0,0)")
        answer = ranking["log arima (1,0,0)"].fitted
        self.assertAlmostEqual(answer.jacobian, -np.log(series).sum())

    def test_tests_choose_logs_and_differences(self):
        chosen = kd.fit_series(seasonal(), ["arima (0,1,1)(0,1,1)12"], rolling=False).choices
        self.assertTrue(chosen.log and chosen.seasonal_differences == 1)
        self.assertIn("the spread grows with the level", chosen.words[0])
        rng = np.random.default_rng(4)
        walk = kd.fit_series(
            np.cumsum(rng.standard_normal(150)), ["arima (0,1,0)"], rolling=False
        ).choices
        self.assertTrue(not walk.log and walk.differences == 1)
        noise = kd.fit_series(rng.standard_normal(150), ["arima (0,0,0)"], rolling=False).choices
        self.assertEqual(noise.differences, 0)

    def test_the_season_of_noise_is_rejected_as_often_as_stated(self):
        rng = np.random.default_rng(4)
        found = []
        for _ in range(400):
            noise = np.cumsum(rng.normal(size=36)) if len(found) % 2 else rng.normal(size=36)
            found.append(Choices(noise, 12))
        rejected = sum(one.seasonal.p < 0.05 for one in found)
        self.assertGreater(stats.binomtest(rejected, 400, 0.05).pvalue, 0.01)
        self.assertLess(sum(one.seasonal_differences for one in found), rejected + 1)
        short = Choices(rng.normal(size=24), 12)
        self.assertEqual(short.seasonal_differences, 0)
        self.assertIn(
            "not differenced over the season of 12: fewer than 3 seasons cannot show one",
            short.words,
        )
        self.assertRegex(" ".join(found[0].words), "of 12: no season is found \\(p = 0")
        season = 5 * np.sin(2 * np.pi * np.arange(48) / 12)
        clear = Choices(season + rng.normal(size=48), 12)
        self.assertEqual(clear.seasonal_differences, 1)
        self.assertRegex(
            " ".join(clear.words), "differenced over the season of 12: it has a season .*strength 0"
        )
        # a weak one is there, and too weak to be differenced
        weak = Choices(0.16 * np.tile(season, 5) + rng.normal(size=240), 12)
        self.assertLess(weak.seasonal.p, 0.05)
        self.assertEqual(weak.seasonal_differences, 0)

    def test_the_test_of_a_season_is_that_of_two_regressions(self):
        x = np.random.default_rng(5).normal(size=40)
        x[7] = np.nan
        rows = [t for t in range(2, 40) if t not in (7, 8, 9)]
        plain = np.array([[1, t, x[t - 1], x[t - 2]] for t in rows])
        whole = np.c_[plain, np.eye(4)[np.array(rows) % 4][:, 1:]]
        one, two = (
            float(np.linalg.lstsq(design, x[rows], rcond=None)[1][0]) for design in (plain, whole)
        )
        left = len(rows) - whole.shape[1]
        found = Choices(x, 4).seasonal
        self.assertAlmostEqual(found.statistic, (one - two) / 3 / (two / left))
        self.assertAlmostEqual(found.p, stats.f.sf(found.statistic, 3, left))

    def test_scores_are_what_rolling_origins_give(self):
        series = kd.Arima(ar=[0.7], sd=1.0, constant=5.0).paths(120, 1, seed=6)[1:, 0]
        seen = []
        ranking = kd.fit_series(
            series, ["arima (1,0,0)"], horizon=6, origins=3, progress=seen.append
        )
        scores = ranking.scores["arima (1,0,0)"]
        errors, inside = [], []
        for known in (60, 87, 114):
            estimated = kd.Arima.fit(series[:known])
            fan = estimated.paths(6, 20_000, seed=9, uncertain=True)[1:]
            later = series[known : known + 6]
            errors += list(np.abs(later - np.median(fan, axis=1)))
            low, high = np.quantile(fan, [0.05, 0.95], axis=1)
            inside += list((later >= low) & (later <= high))
        self.assertAlmostEqual(scores.mae, np.mean(errors), delta=0.05)
        self.assertAlmostEqual(scores.inside_90, np.mean(inside), delta=0.12)
        self.assertEqual((scores.values, scores.origins, seen[-1]), (18, 3, 1.0))
        self.assertLess(scores.crps, scores.mae)
        self.assertIn("Fitted again at 3 earlier times", ranking.verdict)

    def test_crps_of_a_normal_fan_is_the_closed_one(self):
        from kindynos.fitting.rolling import crps

        fan = np.sort(np.random.default_rng(1).standard_normal((1, 40_000)), axis=1)
        # Of a standard normal at 0: 2 phi(0) - 1 / sqrt(pi).
        self.assertAlmostEqual(
            float(crps(fan, np.array([0.0]))[0]),
            2 / np.sqrt(2 * np.pi) - 1 / np.sqrt(np.pi),
            delta=0.005,
        )

    def test_defaults_of_a_seasonal_series_find_its_season(self):
        ranking = kd.fit_series(seasonal()[-48:], rolling=False)
        self.assertEqual(ranking.season, 12)
        self.assertGreater(len(ranking), 12)
        best = ranking.best._expected_values(12, 1.0)
        self.assertGreater(np.corrcoef(best, seasonal().to_numpy()[-12:])[0, 1], 0.95)
        self.assertEqual(ranking.series.after(2)[0], pd.Timestamp("2026-01-01"))
        axes = ranking.plot(periods=6)
        first = axes.lines[-1].get_ydata()
        again = ranking.redraw()
        self.assertEqual(len(again.lines[-1].get_ydata()), 6)
        self.assertFalse(np.array_equal(first, again.lines[-1].get_ydata()))
        self.assertGreater(ranking.diagnose().tests[0].p, 0)

    def test_bad_input(self):
        rng = np.random.default_rng(1)
        noise = pd.Series(
            rng.standard_normal(40), pd.date_range("2020-01-01", periods=40, freq="MS")
        )
        twice = noise.copy()
        twice.index = twice.index[:5].append(twice.index[4:39])
        for ask, words in (
            (lambda: kd.fit_series([1, 2, 3]), "at least 8 values"),
            (lambda: kd.fit_series([3.0] * 20), "all values of the series are equal"),
            (lambda: kd.fit_series([*range(9), np.inf]), "value 9 of the series is infinite"),
            (lambda: kd.fit_series(noise, season=21), "season of 21"),
            (lambda: kd.fit_series(noise, ["arma (1,0,0)"]), "did you mean"),
            (lambda: kd.fit_series(twice), "2020-05-01 is there twice"),
            (lambda: kd.fit_series(noise.drop(noise.index[7])), "2020-09-01 follows 2020-07-01"),
            (lambda: kd.fit_series(noise, every="quarter"), "one a quarter"),
            (lambda: kd.fit_series(noise, every="moon"), "no spacing 'moon'"),
            (lambda: kd.fit_series(noise[::-1]), "comes after"),
            (
                lambda: kd.fit_series(noise, ["log arima (1,0,0)"], rolling=False),
                "no candidate can be fitted",
            ),
        ):
            with self.subTest(words), self.fails(words):
                ask()


class Diagnosing(Case):
    def test_autocorrelations_are_those_of_the_textbook(self):
        x = kd.Arima(ar=[0.7], sd=1.0).paths(300, 1, seed=1)[1:, 0]
        found = kd.diagnose(x, lags=5)
        gaps = x - x.mean()
        np.testing.assert_allclose(
            found.autocorrelations, [gaps[k:] @ gaps[:-k] / (gaps @ gaps) for k in range(1, 6)]
        )
        for lag in (
            1,
            2,
            3,
        ):  # a partial autocorrelation is the last coefficient of the Yule-Walker equations
            r = np.r_[1, found.autocorrelations]
            matrix = np.array([[r[abs(i - j)] for j in range(lag)] for i in range(lag)])
            self.assertAlmostEqual(
                found.partial[lag - 1], np.linalg.solve(matrix, r[1 : lag + 1])[-1]
            )
        self.assertAlmostEqual(found.band, 1.96 / np.sqrt(300), places=3)
        self.assertIn("depend on earlier ones", found.tests[0].words)

    @proof
    def test_tests_keep_their_level(self):
        rng = np.random.default_rng(2)
        p = {name: [] for name in ("Ljung-Box", "unit root", "KPSS")}
        for _ in range(120):
            noise = rng.standard_normal(120)
            for test in kd.diagnose(noise, lags=8).tests[:1]:
                p[test.name].append(test.p)
            for test in kd.diagnose(np.cumsum(noise), lags=8).tests[1:2]:
                p[test.name].append(test.p)
            p["KPSS"].append(kd.diagnose(noise, lags=8).tests[2].p)
        for name, values in p.items():
            share = np.mean(np.array(values) < 0.05)
            with self.subTest(name):
                self.assertTrue(0.0 < share < 0.14, share)

    def test_normality_agrees_with_scipy(self):
        for x in (kd.Normal(3, 2).sample(60, seed=1), kd.Gamma(3, 1).sample(400, seed=2)):
            found = {test.name: test for test in kd.normality(x).tests}
            self.assertAlmostEqual(
                found["D'Agostino-Pearson"].p, stats.normaltest(x).pvalue, places=10
            )
            self.assertAlmostEqual(found["Jarque-Bera"].p, stats.jarque_bera(x).pvalue, places=10)
        samples = [kd.normality(row) for row in kd.Normal(0, 1).sample((1000, 40), seed=3)]
        self.assertGreater(
            stats.kstest([one.tests[0].p for one in samples], "uniform").pvalue, 0.01
        )
        rejected = sum(one.verdict.startswith("not normal") for one in samples)
        self.assertGreater(stats.binomtest(rejected, 1000, 0.05).pvalue, 0.01)
        model = kd.Model("x")
        model.driver("a", kd.StudentT(20, 0, 1))
        model.outcome("y", "a")
        answer = model.simulate(20_000, seed=1)["y"].normality()
        self.assertIn("look at its size", answer.verdict)
        self.assertLess(answer.distance, 0.02)
        with self.fails("at least 8"):
            kd.normality([1, 2, 3])
        with self.fails("all values are equal"):
            kd.normality([1.0] * 20)


class Records(Case):
    def written(self, text):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "records.csv")
        path.write_text(text, encoding="utf-8")
        return path

    def test_dates_and_gaps(self):
        series = kd.read_series(
            self.written("month,a,b\n2020-01,1,5\n2020-02,,6\n2020-03,3,7\n"), "a"
        )
        self.assertEqual(series.index[1], pd.Timestamp("2020-02-01"))
        np.testing.assert_array_equal(series.to_numpy(), [1, np.nan, 3])
        years = kd.read_series(self.written("year,x\n2019,1\n2020,2\n2021,4\n"))
        self.assertEqual(years.index[2].year, 2021)
        plain = kd.read_values(self.written("x\n1.5\n2\n"))
        np.testing.assert_array_equal(plain, [1.5, 2])

    def test_what_cannot_be_read(self):
        for text, words in (
            ("month,a\n2020-01,1\n2020-1-2,2\n", "row 3"),
            (
                "date,a\n2020-01-01,1\n2020-02-01,2\n2020-03-01,3\n2020-03-20,4\n",
                "2020-03-20 follows",
            ),
            ("month,a\n2020-01,1\n2020-13,2\n", "no day"),
            ("date,a\n2020-01-01,x\n", "'x'"),
            ("date,a,b\n2020-01-01,1,2\n", "which column"),
            ('date,a\n2020-01-01,"1,5"\n2020-01-02,"2.5"\n', "decimal commas"),
            ("date,a\n", "no records"),
        ):
            with self.subTest(words), self.fails(words, "records.csv", kind=kd.FileError):
                kd.read_series(self.written(text))
        with self.fails("no column 'c'"):
            kd.read_series(self.written("date,a\n2020-01-01,1\n"), "c")


class Outliers(Case):
    def setUp(self):
        generator = np.random.default_rng(7)
        months = pd.date_range("2016-01-01", periods=96, freq="MS")
        season = 100 + 20 * np.sin(2 * np.pi * np.arange(96) / 12)
        self.clean = pd.Series(season + generator.normal(0, 3, 96), months)
        self.spoiled = self.clean.copy()
        self.spoiled.iloc[50] += 45.0

    def test_they_are_named_with_date_and_size(self):
        options = {"rolling": False, "candidates": ["smoothing: level + season"]}
        ranking = kd.fit_series(self.spoiled, **options)
        found = ranking.outliers()
        self.assertEqual(found.index.tolist(), [self.spoiled.index[50]])
        self.assertEqual(found["value"].iloc[0], self.spoiled.iloc[50])
        self.assertAlmostEqual(found["sds"].iloc[0], 17, delta=5)
        self.assertEqual(len(kd.fit_series(self.clean, **options).outliers()), 0)
        missing = self.spoiled.copy()
        missing.iloc[50] = np.nan
        name = ranking.names[0]
        without = ranking.without_outliers().fitted.log_likelihood
        wanted = ranking.candidates[name].fit(missing.to_numpy()).fitted.log_likelihood
        self.assertEqual(without, wanted)


class MissingRows(Folder):
    def read(self, dates, **options):
        path = self.folder / "series.csv"
        frame = pd.DataFrame({"date": dates, "value": np.arange(len(dates)) + 1.0})
        frame.to_csv(path, index=False)
        return kd.read_series(path, **options)

    def test_a_period_without_a_row_is_a_missing_value(self):
        months = pd.date_range("2020-01-31", periods=24, freq="ME")
        found = self.read(months.delete([4, 5, 12]).strftime("%Y-%m-%d"))
        self.assertEqual(found.index.tolist(), months.tolist())
        self.assertEqual(np.flatnonzero(found.isna()).tolist(), [4, 5, 12])
        days = pd.bdate_range("2024-01-01", periods=60)
        found = self.read(days.delete([10]).strftime("%Y-%m-%d"))
        self.assertEqual((len(found), int(found.isna().sum())), (60, 1))
        with self.fails("not evenly spaced", kind=kd.FileError):
            self.read(["2020-01-01", "2020-02-01", "2020-03-01", "2020-03-17", "2020-04-01"])
