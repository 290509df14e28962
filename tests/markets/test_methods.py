"""Tests of methods."""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.markets.exposure import Exposure
from kindynos.markets.methods import MEASURES, METHODS
from tests.common import HELD, PRICES, Case

RNG = np.random.default_rng(8)


class Risk(Case):
    def test_historical_by_hand(self):
        losses = -(PRICES.frame.pct_change().iloc[1:] @ HELD.values)
        for window in (None, 250):
            part = losses if window is None else losses.iloc[-window:]
            figure = HELD.value_at_risk(0.99, window=window)
            self.assertAlmostEqual(figure, np.quantile(part, 0.99))
            self.assertEqual((figure.returns, figure.last), (len(part), part.index[-1]))
            np.testing.assert_allclose(HELD.losses(window=window)["loss"], part)
        low, high = (stats.binom.ppf(q, len(losses), 0.99) / len(losses) for q in (0.025, 0.975))
        wide = HELD.value_at_risk(0.99)
        self.assertAlmostEqual(wide.low, np.quantile(losses, low), delta=0.1 * wide)
        self.assertAlmostEqual(wide.high, np.quantile(losses, min(high, 1)), delta=0.15 * wide)
        q = np.quantile(losses, 0.975)
        self.assertAlmostEqual(HELD.expected_shortfall(0.975), q + np.maximum(losses - q, 0).mean() / 0.025)
        self.assertIn("exceeded on about 1 day in 100", wide.description)
        self.assertAlmostEqual(wide.fraction, wide / HELD.value)

    def test_normal_and_student_in_closed_form(self):
        returns = PRICES.frame.pct_change().iloc[1:]
        values = HELD.values.to_numpy()
        mean, sd = returns.mean().to_numpy() @ values, np.sqrt(values @ returns.cov().to_numpy() @ values)
        for level in (0.95, 0.99):
            z = stats.norm.ppf(level)
            self.assertAlmostEqual(HELD.value_at_risk(level, "normal"), z * sd - mean)
            self.assertAlmostEqual(HELD.expected_shortfall(level, "normal", mean=False), stats.norm.pdf(z) / (1 - level) * sd)
            self.assertAlmostEqual(HELD.value_at_risk(level, "normal", horizon=10), z * sd * 10**0.5 - 10 * mean)
            made_df = kd.fit_student(-(returns.to_numpy() @ values)).df
            reach = stats.t.ppf(level, made_df) * np.sqrt((made_df - 2) / made_df)
            self.assertAlmostEqual(HELD.value_at_risk(level, "student", mean=False), reach * sd, delta=1e-6 * sd)
            tail = stats.t.expect(lambda x: x, (made_df,), lb=stats.t.ppf(level, made_df), conditional=True)
            wanted = tail * np.sqrt((made_df - 2) / made_df) * sd
            self.assertAlmostEqual(HELD.expected_shortfall(level, "student", mean=False), wanted, delta=1e-4 * sd)

    def test_all_methods_agree_on_normal_returns(self):
        rng = np.random.default_rng(2)
        days = pd.bdate_range("2020-01-01", periods=4001).strftime("%Y-%m-%d")
        frame = pd.DataFrame({"date": days, "a": 100 * np.cumprod(1 + np.r_[0, 0.01 * rng.standard_normal(4000)])})
        held = kd.Portfolio(kd.read_prices(frame), shares={"a": 100})
        table = held.risk_table(levels=[0.95, 0.975], trials=40_000)
        for level in (0.95, 0.975):
            wanted = stats.norm.ppf(level) * 0.01 * held.value
            part = table.xs(level, level="level")
            self.assertEqual(len(part), 7)
            for (method, _), row in part.iterrows():
                self.assertAlmostEqual(
                    row["value at risk"] / wanted, 1, delta=0.25 if method in ("weighted", "filtered") else 0.08, msg=method
                )
                self.assertLessEqual(row["value at risk low"], row["value at risk"])

    def test_weighted_and_filtered_heed_what_is_recent(self):
        calm, wild = 0.005 * RNG.standard_normal(400), 0.03 * RNG.standard_normal(60)
        days = pd.bdate_range("2024-01-01", periods=461).strftime("%Y-%m-%d")
        frame = pd.DataFrame({"date": days, "a": 100 * np.cumprod(1 + np.r_[0, calm, wild])})
        held = kd.Portfolio(kd.read_prices(frame), shares={"a": 1})
        slow = held.value_at_risk(0.95)
        for method in ("weighted", "filtered"):
            self.assertGreater(held.value_at_risk(0.95, method), 1.5 * slow)
        table = held.losses("filtered")
        np.testing.assert_allclose(table["loss"], table["loss as it was"] * table["scale"])
        self.assertAlmostEqual(held.losses("weighted")["weight"].sum(), 1)

    def test_simulated_with_given_marginals_and_paths(self):
        distributions = {name: kd.Normal(0, 0.01) for name in HELD.instruments}
        figure = HELD.value_at_risk(0.99, "simulated", marginals=distributions, trials=40_000, seed=1)
        matrix = 0.0001 * (2 * np.sin(np.pi / 6 * stats.spearmanr(PRICES.frame.pct_change().iloc[1:]).statistic))
        sd = np.sqrt(HELD.values @ matrix @ HELD.values)
        self.assertLess(abs(figure - stats.norm.ppf(0.99) * sd), 2 * figure.error)
        ten = HELD.value_at_risk(0.99, "simulated", marginals=distributions, horizon=10, trials=20_000, seed=1)
        self.assertAlmostEqual(ten / figure, 10**0.5, delta=0.25)
        self.assertIn("10 days", ten.description)
        fat = HELD.value_at_risk(0.99, "simulated", copula="t", df=4, seed=1)
        self.assertGreater(fat, 0)
        table = HELD.risk_table([0.99], ["normal", "simulated"], mean=False, trials=5000, seed=2)
        self.assertEqual(table["value at risk"].iloc[0], HELD.value_at_risk(0.99, "normal", mean=False))
        self.assertEqual(table["value at risk"].iloc[1], HELD.value_at_risk(0.99, "simulated", trials=5000, seed=2))

    def test_contributions_add_up(self):
        for measure in ("value_at_risk", "expected_shortfall"):
            frame = HELD.contributions(0.975, measure)
            self.assertAlmostEqual(frame["component"].sum() / frame.attrs["total"], 1, 12)
        total = HELD.contributions(0.99).attrs["total"]
        self.assertAlmostEqual(total, HELD.value_at_risk(0.99, "normal"), 6)
        without = kd.Portfolio(PRICES, shares={"alpha": 1000, "beta": 500}).value_at_risk(0.99, "normal")
        self.assertAlmostEqual(HELD.contributions(0.99).loc["gamma", "incremental"], total - without, 6)

    def test_stress(self):
        frame = HELD.stress({"alpha": -0.1})
        returns = PRICES.frame.pct_change().iloc[1:]
        beta = returns.cov().loc["beta", "alpha"] / returns["alpha"].var()
        self.assertAlmostEqual(frame.loc["beta", "return"], -0.1 * beta)
        self.assertAlmostEqual(frame.attrs["profit"], (HELD.values * frame["return"]).sum())
        again = HELD.replay("2026-02-02", "2026-05-04")
        moved = PRICES.frame.loc["2026-05-04"] / PRICES.frame.loc["2026-02-02"] - 1
        np.testing.assert_allclose(again["return"], moved)

    def test_mistakes(self):
        for call, words in (
            (lambda: HELD.value_at_risk(95), ("say 0.95 for 95 %",)),
            (lambda: HELD.value_at_risk(1.0), ("between 0 and 1",)),
            (lambda: HELD.value_at_risk(0.95, "histrical"), ("did you mean 'historical'",)),
            (lambda: HELD.value_at_risk(0.95, window=5000), ("window 5000", "599 returns")),
            (lambda: HELD.value_at_risk(0.95, horizon=0), ("horizon",)),
            (lambda: HELD.value_at_risk(0.95, "simulated", copula="clyton"), ("copula",)),
            (lambda: HELD.value_at_risk(0.95, "simulated", marginals={}), ("'alpha'",)),
            (lambda: HELD.value_at_risk(0.95, "normal", men=False), ("did you mean 'mean'",)),
            (lambda: HELD.value_at_risk(0.95, "historical", mean=False), ("no option 'mean'",)),
            (lambda: HELD.risk_table(windw=3), ("no option 'windw'",)),
            (lambda: HELD.losses("simulated"), ("no dates",)),
            (lambda: HELD.stress({"alhpa": 1}), ("did you mean 'alpha'",)),
            (lambda: HELD.stress({"alpha": -2}), ("all of it",)),
            (lambda: HELD.replay("2001-01-01", "2026-02-02"), ("no stretch",)),
            (lambda: HELD.contributions(0.95, "mean"), ("measure",)),
            (lambda: kd.fit_student([1.0] * 9), ("not all equal",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()

    def test_fitting_student(self):
        sample = stats.t(4).rvs(20_000, random_state=1) * 2 + 1
        distribution = kd.fit_student(sample)
        self.assertAlmostEqual(distribution.df, 4, delta=0.3)
        self.assertAlmostEqual(distribution.scale, 2, delta=0.05)


class Errors(Case):
    def test_historical_value_at_risk_and_shortfall(self):
        distribution, hits, level = stats.t(5), {"value_at_risk": 0, "expected_shortfall": 0}, 0.95
        q = distribution.ppf(level)
        truth = {"value_at_risk": q, "expected_shortfall": distribution.expect(lambda x: x, lb=q, conditional=True)}
        days = pd.bdate_range("2024-01-01", periods=801).strftime("%Y-%m-%d")
        for seed in range(50):
            moves = 0.001 * distribution.rvs(800, random_state=seed)
            frame = pd.DataFrame({"date": days, "a": 100 * np.cumprod(1 + np.r_[0, moves])})
            held = kd.Portfolio(kd.read_prices(frame), shares={"a": 1.0})
            for measure in hits:
                figure = getattr(held, measure)(level)
                hits[measure] += figure.low <= truth[measure] * 0.001 * held.value <= figure.high
        for measure, count in hits.items():
            self.assertGreaterEqual(count, 43, measure)

    def test_normal_value_at_risk(self):
        hits, days = 0, pd.bdate_range("2024-01-01", periods=301).strftime("%Y-%m-%d")
        for seed in range(50):
            moves = 0.01 * np.random.default_rng(seed).standard_normal(300)
            frame = pd.DataFrame({"date": days, "a": 100 * np.cumprod(1 + np.r_[0, moves])})
            held = kd.Portfolio(kd.read_prices(frame), shares={"a": 1.0})
            figure = held.value_at_risk(0.99, "normal")
            hits += figure.low <= stats.norm.ppf(0.99) * 0.01 * held.value <= figure.high
        self.assertTrue(44 <= hits <= 50, hits)


class BothSides(Case):
    def test_errors_of_fitted_methods_are_the_spread_over_samples(self):
        rng = np.random.default_rng(4)
        days = pd.DatetimeIndex(pd.bdate_range("2024-01-01", periods=500))
        for name, draw in (
            ("normal", lambda: rng.standard_normal(500)),
            ("student", lambda: rng.standard_t(6, 500)),
            ("cornish fisher", lambda: rng.standard_normal(500)),
        ):
            for place, measure in enumerate(MEASURES):
                found = []
                for _ in range(60):
                    exposure = Exposure(np.ones(1), -0.01 * draw()[:, None], ["a"], days)
                    found.append(METHODS[name]().interval(exposure, measure, 0.95, 1))
                spread = 1.96 * np.std([float(figure) for figure in found])
                with self.subTest(method=name, measure=measure, place=place):
                    self.assertTrue(0.6 < np.median([figure.error for figure in found]) / spread < 1.65)

    def test_a_rolling_figure_is_that_of_each_window(self):
        rng = np.random.default_rng(5)
        losses = rng.standard_t(5, 60) * 0.01
        days = pd.DatetimeIndex(pd.bdate_range("2024-01-01", periods=60))
        windows = np.stack([losses[i : i + 50] for i in range(10)])
        for name, kind in METHODS.items():
            if not kind.rolling:
                continue
            rolled = kind().tail(windows, 0.95)
            for measure, figures in zip(MEASURES, rolled, strict=True):
                for window, figure in zip(windows, figures, strict=True):
                    exposure = Exposure(np.ones(1), -window[:, None], ["a"], days[:50])
                    single = kind().interval(exposure, measure, 0.95, 1)
                    self.assertAlmostEqual(single, figure, 12, msg=name)

    def test_many_instruments_are_simulated(self):
        rng = np.random.default_rng(6)
        days = pd.bdate_range("2024-01-01", periods=40).strftime("%Y-%m-%d")
        names = [f"i{place}" for place in range(62)]
        frame = pd.DataFrame(100 * np.cumprod(1 + 0.01 * rng.standard_normal((40, 62)), axis=0), columns=names)
        held = kd.Portfolio(kd.read_prices(frame.assign(date=days)), shares=dict.fromkeys(names, 1.0))
        figure = held.value_at_risk(0.95, "simulated", trials=1000, marginals="normal")
        self.assertTrue(0 < figure < 0.1 * held.value)
