"""Tests of what an allocation starts from, and of input that is refused."""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import HELD, PRICES, Case, made

TWO = kd.Moments(
    [0.04, 0.08], [[0.01, 0.004], [0.004, 0.04]], names=["bond", "share"], observations=60
)


class OfMoments(Case):
    def test_pandas_and_arrays_are_alike(self):
        frame = pd.DataFrame(TWO.covariance.to_numpy(), ["bond", "share"], ["bond", "share"])
        again = kd.Moments(pd.Series({"bond": 0.04, "share": 0.08}), frame)
        self.assertEqual(again.names, TWO.names)
        np.testing.assert_allclose(
            kd.allocate(again, minimize="sd").weights, kd.allocate(TWO, minimize="sd").weights
        )
        self.assertEqual(kd.Moments([0.1], [[0.2]]).names, ["1"])

    def test_views(self):
        whole = TWO.with_views({"share": 0.10}, confidence=1.0)
        # the bond follows by regression
        np.testing.assert_allclose(whole.mean, [0.04 + 0.004 / 0.04 * 0.02, 0.10])
        half = TWO.with_views({"share": 0.10}, confidence=0.5)
        np.testing.assert_allclose(half.mean, (TWO.mean + whole.mean) / 2)
        apart = TWO.with_views({("share", "bond"): 0.01}, confidence=1.0).mean
        self.assertAlmostEqual(apart["share"] - apart["bond"], 0.01)
        for none in (0.0, 1e-320):
            np.testing.assert_allclose(
                TWO.with_views({"share": 0.1}, confidence=none).mean, TWO.mean
            )
        both = TWO.with_views({"share": 0.1, "bond": 0.03}, confidence={"share": 1.0, "bond": 0.0})
        np.testing.assert_allclose(both.mean, whole.mean)

    def test_implied_means_make_the_weights_the_best_ratio(self):
        weights = pd.Series({"bond": 0.3, "share": 0.7})
        implied = kd.Moments.implied(weights, TWO.covariance, mean=0.06, rate=0.01)
        self.assertAlmostEqual(float(implied.mean @ weights), 0.06)
        np.testing.assert_allclose(
            kd.allocate(implied, maximize="ratio", rate=0.01).weights, weights
        )

    def test_shrinking(self):
        centre = float(
            TWO.mean @ kd.allocate(TWO, minimize="sd", short=True, bounds=(-3, 3)).weights
        )
        np.testing.assert_allclose(TWO.shrunk(1.0).mean, [centre, centre])
        gaps = TWO.mean.to_numpy() - centre
        # Jorion (1986), equation 17
        weight = 4 / (4 + 60 * gaps @ np.linalg.inv(TWO.covariance) @ gaps)
        np.testing.assert_allclose(TWO.shrunk().mean, TWO.mean + weight * (centre - TWO.mean))
        with self.fails("say weight=, or of how many observations="):
            kd.Moments([0.1, 0.2], np.eye(2)).shrunk()


class OfHistories(Case):
    def test_moments_are_those_of_the_returns(self):
        found = kd.allocate(PRICES, minimize="sd", window=300)
        frame = kd.markets.returns(PRICES).frame.iloc[-300:]
        weights = found.weights.to_numpy()
        self.assertAlmostEqual(found.mean, float(frame.mean() @ weights))
        self.assertAlmostEqual(found.sd, float(np.sqrt(weights @ frame.cov() @ weights)))
        self.assertAlmostEqual(
            found.value_at_risk(0.9), float(np.quantile(-(frame @ weights), 0.9))
        )
        self.assertIn("300 returns each day", found.source)

    def test_a_portfolio_brings_todays_weights(self):
        found = kd.allocate(HELD, minimize="sd")
        pd.testing.assert_series_equal(found.today, HELD.weights, check_names=False)
        self.assertAlmostEqual(found.portfolio().value, HELD.value)
        np.testing.assert_allclose(
            found.portfolio().weights, found.weights[found.weights > 1e-9], atol=1e-12
        )
        with self.fails("today's weights had a mean of -", "no means above 0 can be implied"):
            kd.allocate(HELD, means="implied", maximize="ratio")
        prices = kd.read_prices(kd.demo_file("treasury_prices.csv"))
        treasury = kd.Portfolio(prices, weights=dict.fromkeys(prices.instruments, 1 / 6))
        np.testing.assert_allclose(
            kd.allocate(treasury, means="implied", maximize="ratio").weights, treasury.weights
        )
        monthly = kd.allocate(
            kd.markets.returns(PRICES, every="month"), minimize="sd", covariance="shrunk"
        )
        self.assertIn("covariance shrunk", monthly.source)

    def test_views_move_scenarios_too(self):
        plain = kd.allocate(PRICES, minimize="expected_shortfall")
        viewed = kd.allocate(
            PRICES,
            minimize="expected_shortfall",
            views={PRICES.instruments[0]: 0.02},
            confidence=1.0,
        )
        self.assertGreater(viewed.weights.iloc[0], plain.weights.iloc[0])
        self.assertIn("1 view", viewed.source)

    def test_simulated_returns_with_a_horizon(self):
        drawn = kd.SimulatedReturns.of(PRICES, horizon=5, trials=4_000, seed=1, marginals="student")
        found = kd.allocate(drawn, minimize="expected_shortfall")
        self.assertIn("4,000 simulated returns over 5 days, seed 1", found.source)
        self.assertAlmostEqual(found.sd / kd.allocate(PRICES, minimize="sd").sd, 5**0.5, delta=0.5)
        run = HELD.simulate(5, 2_000, seed=1, marginals="student")
        self.assertEqual(list(kd.allocate(run, minimize="sd").weights.index), HELD.instruments)


class Refused(Case):
    def test_bounds_and_groups(self):
        with self.fails("lower bounds of 2 holdings add up to 1.2, above 1"):
            kd.allocate(TWO, bounds=(0.6, 0.9))
        with self.fails("upper bounds of 2 holdings add up to 0.8, below 1"):
            kd.allocate(TWO, bounds=(0.0, 0.4))
        with self.fails("bounds of share are 0.5 to 0.2"):
            kd.allocate(TWO, bounds={"share": (0.5, 0.2)})
        with self.fails("no holding 'shares'", "did you mean 'share'"):
            kd.allocate(TWO, bounds={"shares": (0.0, 0.2)})
        with self.fails("write 0.35 for 35 %"):
            kd.allocate(TWO, bounds=(1, 35))
        with self.fails("say short=True"):
            kd.allocate(TWO, bounds=(-0.5, 1))
        with self.fails("group bonds must have 0.7 to 0.9", "leave it 0.4 to 0.6"):
            kd.allocate(
                TWO, bounds=(0.4, 0.6), groups={"bonds": (0.7, 0.9)}, members={"bond": "bonds"}
            )
        with self.fails("no group 'bonds'", "members="):
            kd.allocate(TWO, groups={"bonds": (0.2, 0.6)})
        with self.fails("need today's weights"):
            kd.allocate(TWO, turnover=0.2)
        with self.fails("must change by 0.4 at least", "turnover 0.1"):
            kd.allocate(TWO, today={"bond": 0.8, "share": 0.2}, bounds=(0.4, 0.6), turnover=0.1)
        with self.fails("today's weights add up to 0.5"):
            kd.allocate(TWO, today={"bond": 0.5})

    def test_limits(self):
        least = kd.allocate(TWO, minimize="sd").sd
        with self.fails("limit sd 0.01 is below the least reachable", f"{least:.6g}"):
            kd.allocate(TWO, limits={"sd": 0.01})
        with self.fails("limit expected_shortfall -0.5 is below the least reachable"):
            kd.allocate(TWO, limits={"expected_shortfall": -0.5})
        with self.fails("limit mean 0.2 is above the highest reachable, 0.08"):
            kd.allocate(TWO, minimize="sd", limits={"mean": 0.2})
        with self.fails("cannot be met together"):
            shortfall = kd.allocate(TWO, minimize="expected_shortfall").expected_shortfall()
            kd.allocate(
                TWO, limits={"sd": 1.0001 * least, "expected_shortfall": 1.0001 * shortfall}
            )
        with self.fails("below the least reachable with a mean of at least 0.079, 0.19"):
            kd.allocate(TWO, maximize="ratio", limits={"sd": 0.1, "mean": 0.079})
        with self.fails("no limit 'varianc'", "did you mean 'variance'"):
            kd.allocate(TWO, limits={"varianc": 0.1})
        with self.fails("needs a history"):
            kd.allocate(TWO, limits={"drawdown": 0.1})
        with self.fails("say maximize='mean' or minimize='sd'"):
            kd.allocate(TWO, maximize="mean", minimize="sd")
        with self.fails("no limits"):
            kd.allocate(TWO, minimize="parity", limits={"sd": 0.5})
        with self.fails("takes no 'bound'", "did you mean 'bounds'"):
            kd.allocate(TWO, bound=(0, 1))

    def test_moments(self):
        with self.fails("covariance is singular: a, c move together exactly"):
            kd.Moments([1, 2, 3], [[1, 0, 2], [0, 1, 0], [2, 0, 4]], names=list("abc"))
        with self.fails("3 means need a covariance of 3 x 3, not of 2 x 2"):
            kd.Moments([1, 2, 3], np.eye(2))
        with self.fails("symmetric"):
            kd.Moments([1, 2], [[1, 0.5], [0.2, 1]])
        with self.fails("the variance of 2 is 0"):
            kd.Moments([1, 2], [[1, 0], [0, 0]])
        with self.fails("not a covariance"):
            kd.Moments([1, 2], [[1, 2], [2, 1]])
        with self.fails(
            "views contradict each other: from share and bond follows 0.05 for share over bond, "
            "not 0.01"
        ):
            TWO.with_views({"share": 0.09, "bond": 0.04, ("share", "bond"): 0.01})
        TWO.with_views({"share": 0.09, "bond": 0.04, ("share", "bond"): 0.05})
        with self.fails("no holding 'shar'", "did you mean 'share'"):
            TWO.with_views({"shar": 0.09})

    def test_sources(self):
        wide = made(10)
        with self.fails("too few for the covariance of 3 holdings"):
            kd.allocate(kd.read_prices(wide.iloc[:4]), minimize="sd")
        few = kd.allocate(kd.read_prices(wide.iloc[:4]), minimize="expected_shortfall", level=0.5)
        self.assertIn("shrunk", few.source)  # a measure of the returns alone needs no covariance
        self.assertAlmostEqual(float(few.weights.sum()), 1)
        with self.fails("starts from a Portfolio, Prices, Returns, Moments"):
            kd.allocate([0.1, 0.2])
        with self.fails("some returns are not finite numbers"):
            kd.SimulatedReturns(pd.DataFrame({"a": [0.1, np.nan]}))
        with self.fails("needs the run of portfolio.simulate"):
            kd.SimulatedReturns.from_run(
                kd.load_model(kd.demo_file("night_ferry.toml")).simulate(200, seed=1)
            )
