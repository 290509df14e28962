"""Tests of what follows an allocation: frontiers, before and after, resampled weights, walking
forward.
"""

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import HELD, PRICES, Case, proof

THREE = kd.Moments(
    [0.0004, 0.0008, 0.0002],
    [[1e-4, 3e-5, 0], [3e-5, 4e-4, 1e-5], [0, 1e-5, 2e-5]],
    names=list("abc"),
    observations=250,
)
TODAY = {"a": 0.3, "b": 0.5, "c": 0.2}


class OfFrontiers(Case):
    def test_points(self):
        curve = kd.frontier(THREE, bounds=(0.05, 0.8))
        table = curve.table()
        self.assertTrue(
            table["mean"].is_monotonic_increasing and table["sd"].is_monotonic_increasing
        )
        for mean in np.linspace(table["mean"].iloc[0], table["mean"].iloc[-1], 7):
            at = curve.at(mean=float(mean))
            self.assertAlmostEqual(at.mean, mean)
            np.testing.assert_allclose(curve.at(sd=at.sd).weights, at.weights, atol=1e-6)
        with self.fails("the frontier has means from"):
            curve.at(mean=1.0)
        with self.fails("say one of mean= and sd="):
            curve.at(mean=0.0004, sd=0.01)

    def test_expected_shortfall_of_normal_returns_has_the_same_weights(self):
        curve = kd.frontier(THREE, "expected_shortfall", points=5)
        for _, row in curve.table().iterrows():
            same = kd.frontier(THREE).at(mean=row["mean"])
            np.testing.assert_allclose(row[["a", "b", "c"]].astype(float), same.weights, atol=1e-6)
            self.assertAlmostEqual(row["expected_shortfall"], same.expected_shortfall())

    def test_a_limit_ends_it(self):
        curve = kd.frontier(THREE, limits={"expected_shortfall": 0.025}, points=6)
        self.assertAlmostEqual(
            curve.table()["mean"].iloc[-1],
            kd.allocate(THREE, limits={"expected_shortfall": 0.025}).mean,
        )


class BeforeAndAfter(Case):
    def setUp(self):
        self.best = kd.allocate(THREE, minimize="sd", bounds=(0.05, 0.6), today=TODAY)

    def test_figures_of_normal_returns(self):
        table = self.best.compare(trials=40_000, seed=1).table()
        for column, weights in (("before", pd.Series(TODAY)), ("after", self.best.weights)):
            self.assertAlmostEqual(table.loc["mean", column], float(THREE.mean @ weights), places=5)
            self.assertAlmostEqual(
                table.loc["sd", column] / np.sqrt(weights @ THREE.covariance @ weights),
                1,
                delta=0.01,
            )
        shortfall = self.best.expected_shortfall()
        self.assertAlmostEqual(
            table.loc["expected shortfall 95 %", "after"] / shortfall, 1, delta=0.03
        )

    @proof
    def test_paired_errors(self):
        truth = self.best.compare(1, 200_000, seed=10_001).table()["difference"]
        runs = [self.best.compare(1, 1_000, seed=seed).table() for seed in range(50)]
        for name in truth.index:
            with self.subTest(figure=name):
                gaps = [table.loc[name, "difference"] - truth[name] for table in runs]
                self.assertCalibrated(gaps, [table.loc[name, "error"] for table in runs])

    def test_of_a_history(self):
        found = kd.allocate(HELD, minimize="sd", cost=0.002, holding_period=10)
        compared = found.compare(horizon=5, trials=2_000, seed=3)
        trades = compared.trades()
        self.assertAlmostEqual(trades["money"].sum(), 0, places=6)
        np.testing.assert_allclose(trades["shares"] * PRICES.frame.iloc[-1], trades["money"])
        self.assertAlmostEqual(compared.cost, 0.002 * trades["change"].abs().sum())
        shares = compared.contributions()
        np.testing.assert_allclose(shares.filter(like="share").sum(), 1)
        means = kd.markets.returns(PRICES).frame.mean()
        expected = HELD.value * (
            float(((1 + means) ** 5 - 1) @ found.weights) - 0.5 * compared.cost
        )
        self.assertAlmostEqual(
            compared.table().loc["mean", "after"],
            expected,
            delta=6 * compared.table().loc["mean", "error after"],
        )
        other = found.compare(trials=500, seed=1, against={PRICES.instruments[0]: 1.0})
        self.assertEqual(other.weights_before.iloc[0], 1.0)
        with self.fails("no weights of today are known"):
            kd.allocate(PRICES, minimize="sd").compare()

    def test_simulated_returns_keep_their_horizon(self):
        drawn = kd.SimulatedReturns.of(PRICES, horizon=3, trials=1_000, seed=1, marginals="normal")
        found = kd.allocate(drawn, minimize="sd", today=HELD)
        self.assertEqual(found.compare(trials=500, seed=1).span, "1 horizon")
        with self.fails("a horizon of their own"):
            found.compare(horizon=2)


def equal_means(seed: int, size: int = 6, days: int = 500) -> pd.DataFrame:
    """Prices whose returns have one mean, in which every gain of the mean is chance."""
    rng = np.random.default_rng(seed)
    sds = 0.01 * np.linspace(0.7, 1.5, size)
    own = rng.standard_t(5, (days, size)) * sds * np.sqrt(3 / 5)
    returns = 0.0004 + 0.8 * own + 0.006 * rng.standard_normal((days, 1))
    prices = 100 * np.cumprod(1 + np.vstack([np.zeros(size), returns]), axis=0)
    dates = pd.bdate_range("2020-01-01", periods=days + 1)
    return pd.DataFrame(prices, dates, list("abcdef")[:size])


class Optimism(Case):
    """Weights chosen on a history look better on it than they are."""

    def compared(self, seed: int):
        best = kd.allocate(
            equal_means(seed), limits={"sd": 0.012}, today=dict.fromkeys("abcdef", 1 / 6)
        )
        return best.compare(trials=400, seed=seed)

    def test_a_choice_between_two_normal_holdings_has_the_optimism_of_the_larger(self):
        # The larger of two sample means with a difference of sd s has a mean s phi(0) above their
        # mean; a history drawn again adds the same spread, about the difference that is there.
        gaps = []
        for seed in range(6):
            prices = equal_means(seed, 2)
            best = kd.allocate(prices, maximize="mean", today={"a": 0.5, "b": 0.5})
            returns = prices.pct_change().dropna()
            apart = float(returns.mean().diff().iloc[1])
            sd = float((returns["b"] - returns["a"]).std(ddof=0)) / np.sqrt(len(returns))
            gain = sd * stats.norm.pdf(apart / sd)
            gaps.append(best.compare(trials=300, seed=1).optimism[0] - gain)
        self.assertLess(abs(np.mean(gaps)), 1e-4)
        self.assertGreater(gain, 1e-4)

    def test_without_a_history_there_is_none(self):
        best = kd.allocate(THREE, minimize="sd", today=TODAY)
        self.assertFalse(best.compare(trials=300, seed=1).optimism.any())

    @proof
    def test_a_higher_mean_is_claimed_of_few_histories_with_equal_means(self):
        claims, left, whole = 0, [], []
        for seed in range(80):
            compared = self.compared(seed)
            row = compared.table().loc["mean"]
            claims += "raises the mean" in compared.verdict
            left.append(row["difference"] - row["optimism"])
            whole.append(row["difference"])
        self.assertLessEqual(claims, 7)  # of 2.5 %, which one in a hundred would exceed
        self.assertLess(np.mean(left), 0.6 * np.mean(whole))


class Sureness(Case):
    def test_spread_of_a_weight_is_its_sampling_error(self):
        # Of two holdings without correlation the least variance gives the first v2 / (v1 + v2).
        moments = kd.Moments([0, 0], np.diag([1e-4, 2e-4]), names=["a", "b"], observations=400)
        found = kd.allocate(moments, minimize="sd").resampled(200, seed=1)
        share = 2 / 3
        by_delta = share * (1 - share) * np.sqrt(2 * 2 / 400)  # by the sd of log(v2 / v1)
        # the covariance moves it too: sd of c / (v1 + v2) times (1 - 2 share)
        cross = np.sqrt((1 / 3) ** 2 * 2 / 400)
        expected = np.hypot(by_delta, cross * (2 * share - 1))
        self.assertAlmostEqual(found.table().loc["a", "sd"] / expected, 1, delta=0.15)
        self.assertAlmostEqual(found.average.sum(), 1)
        self.assertTrue(((found.average >= -1e-9) & (found.average <= 1 + 1e-9)).all())

    @proof
    def test_intervals_hold_the_best_weights_of_the_truth(self):
        factor = np.linalg.cholesky(THREE.covariance)
        truth = kd.allocate(THREE, minimize="sd").weights
        inside, half = [], []
        for seed in range(25):
            rng = np.random.default_rng(seed)
            moves = THREE.mean.to_numpy() + rng.standard_normal((250, 3)) @ factor.T
            days = pd.bdate_range("2020-01-01", periods=251)
            prices = pd.DataFrame(
                np.vstack([np.ones(3), np.cumprod(1 + moves, axis=0)]) * 100, days, list("abc")
            )
            prices.index.name = "date"
            table = kd.allocate(kd.read_prices(prices), minimize="sd").resampled(40, seed=1).table()
            inside += ((table["low"] <= truth) & (truth <= table["high"])).tolist()
            half += ((truth - table["weight"]).abs() <= (table["high"] - table["low"]) / 4).tolist()
        self.assertGreater(np.mean(inside), 0.87)
        self.assertLess(np.mean(half), 0.85)

    def test_words(self):
        same = kd.Moments(
            [0.01, 0.01, 0.0],
            np.diag([1e-2, 1e-2, 1e-4]),
            names=["twin", "other", "calm"],
            observations=60,
        )
        found = kd.allocate(same, minimize="sd").resampled(100, seed=1)
        words = " ".join(found.sentences())
        self.assertIn("cannot show whether", words)
        self.assertIn("twin", words)
        self.assertNotIn("calm or", words)
        shares = found.apart()
        self.assertAlmostEqual(shares.loc["twin", "other"] + shares.loc["other", "twin"], 1)
        clear = kd.Moments([0, 0], np.diag([1e-2, 1e-4]), observations=500)
        self.assertIn(
            "the same in at least 95 %",
            kd.allocate(clear, minimize="sd").resampled(50).sentences()[0],
        )
        with self.fails("of how many observations="):
            kd.allocate(kd.Moments([0, 0], np.eye(2)), minimize="sd").resampled()
        with self.fails("times must be at most 10,000, not 1000000"):
            kd.allocate(clear, minimize="sd").resampled(1_000_000)

    def test_limits_that_a_history_cannot_meet_are_counted(self):
        limit = 1.01 * kd.allocate(PRICES, minimize="sd").sd
        found = kd.allocate(PRICES, limits={"sd": limit}).resampled(30, seed=2)
        self.assertGreater(found.infeasible, 0)
        self.assertEqual(len(found.draws), 30)


class WalkingForward(Case):
    def test_equal_weights_and_holding_still_by_hand(self):
        found = kd.allocate(HELD, minimize="sd").walk_forward("quarter", window=200, cost=0.001)
        prices = PRICES.frame
        still = found.values["buy and hold"]
        part = prices.loc[still.index[0] :]
        by_hand = (HELD.weights * part / part.iloc[0]).sum(axis=1)
        np.testing.assert_allclose(still, by_hand)
        marks = [prices.index.get_loc(date) for date in found.weights.index]
        growth = prices.iloc[marks[1]] / prices.iloc[marks[0]]
        traded = (1 / 3 - HELD.weights).abs().sum()
        first = found.values["equal weights"].iloc[marks[1] - marks[0]]
        self.assertAlmostEqual(first, (1 - 0.001 * traded) * growth.mean())

    def test_weights_know_the_past_alone(self):
        found = kd.allocate(HELD, minimize="sd").walk_forward("quarter", window=200)
        for date in found.weights.index[:3]:
            then = kd.markets.returns(PRICES).frame.loc[:date].iloc[-200:]
            alone = kd.allocate(kd.Moments(then.mean(), then.cov()), minimize="sd").weights
            np.testing.assert_allclose(found.weights.loc[date], alone, atol=1e-9)
        self.assertTrue(
            (
                found.weights.index
                == kd.markets.returns(PRICES)
                .frame.groupby(lambda d: d.to_period("Q"))
                .tail(1)
                .index[-len(found.weights) - 1 : -1]
            ).all()
        )

    def test_figures(self):
        found = kd.allocate(HELD, maximize="mean", limits={"sd": 0.02}).walk_forward(
            "month", window=250
        )
        table = found.table()
        spans = found.returns.to_numpy()
        gap = (spans[:, 0] - spans[:, 1]) * 12
        self.assertAlmostEqual(table.loc["this rule", "more than buy and hold"], gap.mean())
        for column, values in (("error of that", gap), ("error", 12 * spans[:, 0])):
            low, high = stats.t.interval(0.95, len(values) - 1, values.mean(), stats.sem(values))
            self.assertAlmostEqual(table.loc["this rule", column], (high - low) / 2)
        self.assertAlmostEqual(
            table.loc["this rule", "maximum drawdown"],
            kd.max_drawdown(found.values["this rule"].to_numpy()),
        )
        self.assertIn("out of sample the rule earned", found.verdict)
        # errors are those of months, however seldom the rule chooses: a few quarters say little
        found = kd.allocate(HELD, minimize="sd").walk_forward("quarter", window=250)
        ends = found.values["equal weights"].resample("ME").last().loc[: found.returns.index[-1]]
        months = 12 * ends.pct_change().iloc[1:]
        low, high = stats.t.interval(0.95, len(months) - 1, months.mean(), stats.sem(months))
        row = found.table().loc["equal weights"]
        self.assertAlmostEqual(row["mean a year"], months.mean())
        self.assertAlmostEqual(row["error"], (high - low) / 2)
        gap = found.table()["more than buy and hold"].iloc[0]
        self.assertIn(f"earned {100 * abs(gap):.1f} % a year", found.verdict)
        seldom = PRICES.frame.resample("QE").last()
        with self.fails("prices are more than a month apart"):
            kd.allocate(seldom, minimize="sd").walk_forward("month", window=8)
        with self.fails("needs a history"):
            kd.allocate(THREE, minimize="sd").walk_forward()
        with self.fails("at least 4 are needed"):
            kd.allocate(HELD, minimize="sd").walk_forward("year")
