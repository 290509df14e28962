"""Prices read strictly, returns, portfolios, risk figures and backtests, against pandas, SciPy and published figures."""

import io
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.markets.backtest import Backtest
from tests.common import Case

DEMO = Path(kd.__file__).parent / "demo"
RNG = np.random.default_rng(8)


def made(days=600, seed=1, loading=0.6) -> pd.DataFrame:
    """Prices of three instruments that move together."""
    rng = np.random.default_rng(seed)
    common = rng.standard_normal(days)
    frame = pd.DataFrame({"date": pd.bdate_range("2026-01-01", periods=days).strftime("%Y-%m-%d")})
    for place, name in enumerate(("alpha", "beta", "gamma")):
        shocks = loading * common + np.sqrt(1 - loading**2) * rng.standard_normal(days)
        frame[name] = 50 * np.exp(np.cumsum(0.0002 + 0.01 * (1 + place) * shocks))
    return frame


PRICES = kd.read_prices(made())
HELD = kd.Portfolio(PRICES, shares={"alpha": 1000, "beta": 500, "gamma": 200})


class Reading(Case):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name, "p.csv")

    def test_wide_long_and_other_kinds_of_file_are_the_same(self):
        frame = made(40)
        long = frame.melt("date", var_name="instrument", value_name="price").sample(frac=1, random_state=1)
        wide = kd.read_prices(frame)
        for suffix in (".csv", ".parquet", ".xlsx"):
            for table in (frame, long):
                path = self.path.with_suffix(suffix)
                {".csv": table.to_csv, ".parquet": table.to_parquet, ".xlsx": table.to_excel}[suffix](path, index=False)
                read = kd.read_prices(path)
                np.testing.assert_allclose(read.frame[["alpha", "beta", "gamma"]], wide.frame)
        indexed = frame.set_index(pd.to_datetime(frame["date"])).drop(columns="date")
        pd.testing.assert_frame_equal(kd.read_prices(indexed).frame, wide.frame, check_names=False, check_freq=False)

    def test_gaps_late_listings_and_wrong_prices_are_reported_with_their_rows(self):
        prices = kd.read_prices(DEMO / "treasury_prices.csv")
        found = prices.problems.set_index("instrument")
        self.assertEqual(found.loc["shipyard", "row"], 403)
        self.assertIn("130 dates before", found.loc["wind_farm", "problem"])
        lines = (DEMO / "treasury_prices.csv").read_text().splitlines()
        self.assertEqual(lines[402].split(",")[3], "")
        self.assertIn("132 dates left out", prices.said)
        carried = kd.read_prices(DEMO / "treasury_prices.csv", missing="carry")
        self.assertEqual(len(carried.frame), len(prices.frame) + 2)
        self.assertEqual(carried.frame["shipyard"].loc["2025-07-16"], carried.frame["shipyard"].loc["2025-07-15"])
        self.assertIn("2 missing prices carried", carried.said)
        with self.fails("row 403", "shipyard", "missing='drop'", kind=kd.FileError):
            kd.read_prices(DEMO / "treasury_prices.csv", missing="error")
        frame = made(20)
        frame.loc[3, "beta"] = -1.0
        self.assertIn("-1 is not above 0", kd.read_prices(frame).problems["problem"][0])

    def test_files_that_are_wrong(self):
        good = made(12).round(3).to_csv(index=False)
        for old, new, words in (
            ("2026-01-02,", "2026-01-01,", ("row 3", "2026-01-01", "already")),
            ("2026-01-02,", "02/01/2026,", ("row 3", "'02/01/2026'", "2027-12-31")),
            ("2026-01-02,", "2026-02-30,", ("row 3", "no day '2026-02-30'")),
            ("date,", "day,", ("no column 'date'", "'day'")),
        ):
            self.path.write_text(good.replace(old, new))
            with self.subTest(new=new), self.fails("p.csv", *words, kind=kd.FileError):
                kd.read_prices(self.path)
        for text, words in (
            ("date,a\n2026-01-01,1.5\n2026-01-02,abc\n", ("row 3", "'abc'", "column 'a'")),
            ('date,a\n2026-01-01,1.5\n2026-01-02,"1,6"\n', ("row 3", "decimal comma")),
            ("date,a\n2026-01-01,1.5\n", ("1 date;",)),
            ("date,a\n2026-01-01,5\n2026-01-02,5\n", ("all prices of 'a' are equal, 5",)),
            ("date,a\n2026-01-01,-5\n2026-01-02,-6\n", ("no price above 0",)),
            ("date\n2026-01-01\n", ("1 column",)),
            ("date,instrument,price\n2026-01-01,a,5\n2026-01-01,a,6\n", ("row 3", "a has a second price")),
            ("", ("cannot be read",)),
        ):
            self.path.write_text(text)
            with self.subTest(text=text), self.fails("p.csv", *words, kind=kd.FileError):
                kd.read_prices(self.path)
        with self.fails("cannot be read", kind=kd.FileError):
            kd.read_prices(self.path.with_name("nothing.csv"))
        with self.fails("missing", "'guess'"):
            kd.read_prices(made(12), missing="guess")

    def test_selecting_without_hindsight(self):
        facts = pd.read_csv(
            io.StringIO("date,instrument,size,kind\n2026-01-01,a,5,x\n2026-01-01,b,9,x\n2026-01-01,c,7,y\n2026-06-01,a,20,x\n")
        )
        self.assertEqual(kd.select(facts, as_of="2026-03-01", where={"kind": "x"}, largest=1, by="size"), ["b"])
        self.assertEqual(kd.select(facts, as_of="2026-07-01", largest=2, by="size"), ["a", "b"])
        self.assertEqual(kd.select(facts, as_of="2026-07-01", where={"size": (">", 8), "kind": ["x", "y"]}), ["b", "a"])
        for options, words in (
            ({"where": {"sise": 3}}, ("did you mean 'size'",)),
            ({"largest": 2}, ("needs by=",)),
            ({"where": {"size": ("~", 3)}}, ("size",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.select(facts, as_of="2026-07-01", **options)


class OfReturns(Case):
    def test_against_pandas(self):
        frame = PRICES.frame
        simple = kd.returns(PRICES)
        np.testing.assert_allclose(simple.frame, frame.pct_change().iloc[1:])
        summary = simple.summary()
        np.testing.assert_allclose(summary["annual sd"], frame.pct_change().std() * 252**0.5)
        np.testing.assert_allclose(summary["skewness"], stats.skew(simple.frame))
        np.testing.assert_allclose(summary["excess kurtosis"], stats.kurtosis(simple.frame))
        np.testing.assert_allclose(simple.covariance(), frame.pct_change().cov())
        np.testing.assert_allclose(simple.correlation(), frame.pct_change().corr())
        weekly = kd.returns(PRICES, "log", "week")
        np.testing.assert_allclose(weekly.frame, np.log(frame.resample("W-FRI").last()).diff().iloc[1:])
        self.assertEqual((weekly.per_year, kd.returns(PRICES, every="month").per_year), (52, 12))
        np.testing.assert_allclose(simple.rolling(50)["sd"], frame.pct_change().rolling(50).std().dropna())

    def test_weighted_and_shrunk(self):
        simple = kd.returns(PRICES)
        weights = 0.94 ** np.arange(len(simple.frame) - 1, -1, -1.0)
        wanted = np.cov(simple.frame.T, aweights=weights, ddof=0)
        np.testing.assert_allclose(simple.covariance("weighted", 0.94), wanted)
        short = kd.returns(kd.read_prices(made(40)))
        sample, shrunk = (short.correlation(method).to_numpy()[np.triu_indices(3, 1)] for method in ("sample", "shrunk"))
        self.assertLess(np.ptp(shrunk), np.ptp(sample))  # towards one correlation for all
        self.assertAlmostEqual(shrunk.mean(), sample.mean(), 9)
        np.testing.assert_allclose(np.diag(short.covariance("shrunk")), np.diag(short.covariance()))

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.returns(PRICES, "logs"), ("kind",)),
            (lambda: kd.returns(PRICES, every="year"), ("every",)),
            (lambda: kd.returns(PRICES).covariance("robust"), ("method",)),
            (lambda: kd.returns(PRICES).rolling(900), ("window 900", "599 returns")),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Holding(Case):
    def test_weights_drift_or_are_set_back(self):
        weights = {"alpha": 0.5, "gamma": 0.5}
        left = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02")
        growth = (PRICES.frame.iloc[-1] / PRICES.frame.loc["2026-03-02"])[["alpha", "gamma"]]
        self.assertAlmostEqual(left.value, 5e5 * growth.sum())
        np.testing.assert_allclose(left.weights, growth / growth.sum())
        daily = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="daily")
        np.testing.assert_allclose(daily.weights, 0.5)
        mean = PRICES.frame[["alpha", "gamma"]].pct_change().loc["2026-03-03":].mean(axis=1)
        self.assertAlmostEqual(daily.value, 1e6 * (1 + mean).prod(), 2)
        monthly = kd.Portfolio(PRICES, weights=weights, value=1e6, as_of="2026-03-02", rebalance="monthly").history()
        month = monthly.index.to_period("M")
        np.testing.assert_allclose(monthly["alpha"][1:][month[1:] != month[:-1]], 0.5)
        self.assertGreater(np.ptp(monthly["alpha"]), 0.01)
        self.assertEqual(kd.Portfolio(PRICES, weights=weights, value=5.0).value, 5.0)

    def test_mistakes(self):
        for options, words in (
            ({}, ("shares= or weights=",)),
            ({"shares": {"alpha": 1}, "weights": {"alpha": 1}}, ("one of them",)),
            ({"shares": {"alhpa": 1}}, ("did you mean 'alpha'",)),
            ({"weights": {"alpha": 0.5, "beta": 0.4}, "value": 1}, ("add up to 0.9",)),
            ({"weights": {"alpha": 1.5, "beta": -0.5}, "value": 1}, ("short=True",)),
            ({"shares": {"alpha": 1}, "value": 3}, ("value=",)),
            ({"shares": {"alpha": 1}, "as_of": "2020-01-01"}, ("no date with prices",)),
            ({"weights": {"alpha": 1.0}, "rebalance": "yearly"}, ("rebalance",)),
            ({"shares": {}}, ("nothing",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.Portfolio(PRICES, **options)


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
        self.assertIn("exceeded on about 1 day in 100", wide.said)
        self.assertAlmostEqual(wide.share, wide / HELD.value)

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
        laws = {name: kd.Normal(0, 0.01) for name in HELD.instruments}
        figure = HELD.value_at_risk(0.99, "simulated", marginals=laws, trials=40_000, seed=1)
        matrix = 0.0001 * (2 * np.sin(np.pi / 6 * stats.spearmanr(PRICES.frame.pct_change().iloc[1:]).statistic))
        sd = np.sqrt(HELD.values @ matrix @ HELD.values)
        self.assertLess(abs(figure - stats.norm.ppf(0.99) * sd), 2 * figure.error)
        ten = HELD.value_at_risk(0.99, "simulated", marginals=laws, horizon=10, trials=20_000, seed=1)
        self.assertAlmostEqual(ten / figure, 10**0.5, delta=0.25)
        self.assertIn("10 days", ten.said)
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
        law = kd.fit_student(sample)
        self.assertAlmostEqual(law.df, 4, delta=0.3)
        self.assertAlmostEqual(law.scale, 2, delta=0.05)


class Backtests(Case):
    def of(self, exceptions, days=250, level=0.99):
        losses = np.zeros(days)
        losses[np.linspace(0, days - 1, exceptions).astype(int)] = 2.0
        return Backtest(level, losses, np.ones(days))

    def test_zones_as_published(self):
        # Basel Committee (1996): of 250 days at 99 %, 0 to 4 green, 5 to 9 yellow, 10 and more red.
        zones = [self.of(count).zone for count in range(12)]
        self.assertEqual(zones, ["green"] * 5 + ["yellow"] * 5 + ["red"] * 2)

    def test_kupiec_as_published(self):
        # Kupiec (1995): non-rejection regions at 95 % for 255, 510 and 1,000 days.
        for days, level, least, most in ((255, 0.99, 0, 7), (510, 0.99, 1, 11), (1000, 0.99, 4, 17), (255, 0.95, 6, 21)):
            inside = [count for count in range(60) if self.of(count, days, level).kupiec.p_value > 0.05]
            published = range(least + (least > 0) * 1 if least else 0, most)
            self.assertLessEqual(set(published) - {0}, set(inside))
            self.assertNotIn(most, inside)

    def test_independence(self):
        losses = np.zeros(1000)
        losses[500:520] = 2
        clustered = kd.backtest(-losses, 1.0, 0.98)
        self.assertLess(clustered.independence.p_value, 1e-6)
        even = np.zeros(1000)
        even[::50] = 2
        self.assertGreater(kd.backtest(-even, 1.0, 0.98).independence.p_value, 0.3)
        n01, n11, n00 = 1, 19, 979
        hit, calm, both = 19 / 20, 1 / 980, 20 / 1000
        logs = 19 * np.log(hit) + np.log(1 - hit) + n01 * np.log(calm) + n00 * np.log(1 - calm)
        alike = 20 * np.log(20 / 999) + 979 * np.log(1 - 20 / 999)
        self.assertAlmostEqual(clustered.independence.statistic, 2 * (logs - alike), delta=0.3)
        self.assertEqual(n11 + n01, round(1000 * both))

    def test_rolling_forecasts_against_a_loop(self):
        losses = -(PRICES.frame.pct_change().iloc[1:] @ HELD.values).to_numpy()
        for method in ("historical", "weighted", "filtered", "normal", "cornish fisher"):
            tested = HELD.backtest(method, window=100, level=0.95)
            self.assertEqual(tested.days, len(losses) - 100)
            for day in (0, 77, 498):
                past = kd.read_prices(PRICES.frame.iloc[: 100 + day + 1].reset_index())
                shares = HELD.values / past.frame.iloc[-1]  # today's holdings in money, at the prices of that day
                held = kd.Portfolio(past, shares=dict(shares))
                with self.subTest(method=method, day=day):
                    self.assertAlmostEqual(tested.forecasts[day] / held.value_at_risk(0.95, method, window=100), 1, 9)
                    self.assertAlmostEqual(tested.shortfalls[day] / held.expected_shortfall(0.95, method, window=100), 1, 8)
        self.assertEqual(HELD.backtest("student", 100, 0.95).days, len(losses) - 100)

    def test_shortfall_forecasts_are_tested(self):
        losses = stats.t(4).rvs(4000, random_state=3)
        q, tail = stats.t.ppf(0.975, 4), stats.t.expect(lambda x: x, (4,), lb=stats.t.ppf(0.975, 4), conditional=True)
        right = kd.backtest(-losses, q, 0.975, shortfalls=tail)
        self.assertGreater(right.shortfall.p_value, 0.05)
        self.assertLess(kd.backtest(-losses, q, 0.975, shortfalls=0.8 * tail).shortfall.p_value, 0.01)
        self.assertIsNone(kd.backtest(-losses, q, 0.975).shortfall)
        self.assertEqual(right.table()["exception"].sum(), right.exceptions)
        self.assertIn("zone", right.summary())

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.backtest([1.0], 1.0, 0.95), ("at least two",)),
            (lambda: kd.backtest([1.0, 2.0], [1.0], 0.95), ("one a day",)),
            (lambda: kd.backtest([1.0, 2.0], 1.0, 95), ("level",)),
            (lambda: kd.backtest([1.0, np.nan], 1.0, 0.95), ("day 1",)),
            (lambda: HELD.backtest("simulated"), ("not offered",)),
            (lambda: HELD.backtest(window=599), ("no day to test",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
