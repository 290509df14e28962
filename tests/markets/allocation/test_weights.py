"""Tests of best weights: against published cases, closed forms, SciPy's optimizers and whole linear
programs.
"""

from itertools import pairwise

import numpy as np
import pandas as pd
from scipy import optimize, sparse, stats

import kindynos as kd
from tests.common import Case, made

# Three assets: Rockafellar and Uryasev, Journal of Risk 2 (2000), tables 1 to 4.
THREE = kd.Moments(
    [0.0101110, 0.0043532, 0.0137058],
    [
        [0.00324625, 0.00022983, 0.00420395],
        [0.00022983, 0.00049937, 0.00019247],
        [0.00420395, 0.00019247, 0.00764097],
    ],
    names=["stocks", "bonds", "small"],
)
# Ten assets: Markowitz and Todd (2000), chapter 13.
TEN_MEANS = [1.175, 1.19, 0.396, 1.12, 0.346, 0.679, 0.089, 0.73, 0.481, 1.08]
TEN = """0.4075516
0.0317584 0.9063047
0.0518392 0.0313639 0.194909
0.056639 0.0268726 0.0440849 0.1952847
0.0330226 0.0191717 0.0300677 0.0277735 0.3405911
0.0082778 0.0093438 0.0132274 0.0052667 0.0077706 0.1598387
0.0216594 0.0249504 0.0352597 0.0137581 0.0206784 0.0210558 0.6805671
0.0133242 0.0076104 0.0115493 0.0078088 0.0073641 0.0051869 0.0137788 0.9552692
0.0343476 0.0287487 0.0427563 0.0291418 0.0254266 0.0172374 0.0462703 0.0106553 0.3168158
0.022499 0.0133687 0.020573 0.0164038 0.0128408 0.0072378 0.0192609 0.0076096 0.0185432 0.1107929"""


def symmetric(text):
    lower = [[float(word) for word in line.split()] for line in text.splitlines()]
    matrix = np.zeros((len(lower), len(lower)))
    for i, row in enumerate(lower):
        matrix[i, : i + 1] = matrix[: i + 1, i] = row
    return matrix


def random_moments(rng, size):
    loadings = rng.normal(size=(size, size))
    covariance = loadings @ loadings.T / size * 4e-4 + np.diag(rng.uniform(1e-5, 4e-4, size))
    return kd.Moments(rng.normal(5e-4, 1e-3, size), covariance)


def whole_program(returns, level, bounds, gain=None, limit=None):
    """The least expected shortfall, or the highest mean with one, by one linear program with a
    variable a scenario.
    """
    count, size = returns.shape
    cost = np.r_[np.zeros(size), 1, np.full(count, 1 / ((1 - level) * count))]
    rows = [sparse.hstack([sparse.csr_matrix(-returns), -np.ones((count, 1)), -sparse.eye(count)])]
    right = [np.zeros(count)]
    if limit is not None:
        rows.append(sparse.csr_matrix(cost[None]))
        right.append(np.array([limit]))
        cost = np.r_[-gain, np.zeros(count + 1)]
    found = optimize.linprog(
        cost,
        sparse.vstack(rows),
        np.concatenate(right),
        np.r_[np.ones(size), np.zeros(count + 1)][None],
        [1],
        [bounds] * size + [(None, None)] + [(0, None)] * count,
    )
    return found.fun if limit is None else -found.fun


class Published(Case):
    def test_least_variance_and_its_losses(self):
        found = kd.allocate(THREE, minimize="variance", limits={"mean": 0.011})
        np.testing.assert_allclose(found.weights, [0.452013, 0.115573, 0.432414], atol=3e-6)
        for level, at_risk, shortfall in (
            (0.90, 0.067847, 0.096975),
            (0.95, 0.090200, 0.115908),
            (0.99, 0.132128, 0.152977),
        ):
            self.assertAlmostEqual(found.value_at_risk(level), at_risk, delta=1.5e-6)
            self.assertAlmostEqual(found.expected_shortfall(level), shortfall, delta=1.5e-6)
            by_shortfall = kd.allocate(
                THREE, minimize="expected_shortfall", level=level, limits={"mean": 0.011}
            )
            np.testing.assert_allclose(by_shortfall.weights, found.weights, atol=1e-9)

    def test_corners(self):
        table = kd.frontier(kd.Moments(TEN_MEANS, symmetric(TEN))).table().iloc[::-1]
        np.testing.assert_allclose(table["mean"].iloc[:4], [1.190, 1.180, 1.160, 1.111], atol=6e-4)
        np.testing.assert_allclose(table["sd"].iloc[:4], [0.952, 0.546, 0.417, 0.267], atol=6e-4)
        np.testing.assert_allclose(table[["1", "2"]].iloc[1], [0.64937, 0.35063], atol=2e-5)
        np.testing.assert_allclose(
            table[["1", "2", "4"]].iloc[2], [0.43398, 0.23125, 0.33477], atol=2e-5
        )
        last = [
            0.03696,
            0.0269,
            0.09494,
            0.12577,
            0.07674,
            0.21935,
            0.02998,
            0.03597,
            0.06134,
            0.29205,
        ]
        np.testing.assert_allclose(table.iloc[-1, 3:].astype(float), last, atol=5e-5)

    def test_equal_contributions_of_many_holdings_within_bounds(self):
        size, rng = 150, np.random.default_rng(7)
        loadings = rng.normal(size=(size, 10))
        covariance = loadings @ loadings.T * 2e-5 + np.diag(rng.uniform(1e-5, 4e-4, size))
        source = kd.Moments(np.zeros(size), covariance)
        for low, high in ((0.0, 1.0), (0.5 / size, 1.5 / size)):
            found = kd.allocate(source, minimize="parity", bounds=(low, high)).weights.to_numpy()
            self.assertAlmostEqual(found.sum(), 1, 12)
            added = found * (covariance @ found)
            free = (found > low + 1e-9) & (found < high - 1e-9)
            np.testing.assert_allclose(added[free] / added[free].mean(), 1, rtol=1e-10)
            # at a bound it adds more than the others below, and less above
            self.assertTrue((added[found <= low + 1e-9] >= added[free].mean()).all())
            self.assertTrue((added[found >= high - 1e-9] <= added[free].mean()).all())

    def test_equal_contributions_to_the_last_digit(self):
        rng = np.random.default_rng(38)  # where rounding once ended the search too early
        size = int(rng.integers(5, 200))
        loadings = rng.normal(size=(size, 6))
        covariance = loadings @ loadings.T * 2e-5 + np.diag(rng.uniform(1e-6, 4e-3, size))
        source = kd.Moments(np.zeros(size), covariance)
        found = kd.allocate(source, minimize="parity").weights.to_numpy()
        added = found * (covariance @ found)
        np.testing.assert_allclose(added / added.mean(), 1, rtol=1e-12)
        self.assertAlmostEqual(found.sum(), 1, 13)

    def test_equal_contributions_by_hand(self):
        moments = kd.Moments([0, 0, 0], np.diag([1.0, 4.0, 16.0]), names=list("abc"))
        np.testing.assert_allclose(
            kd.allocate(moments, minimize="parity").weights, np.array([4, 2, 1]) / 7
        )
        rng = np.random.default_rng(5)
        found = kd.allocate(random_moments(rng, 12), maximize="parity")
        np.testing.assert_allclose(
            found.contributions()["share of risk, best"], np.full(12, 1 / 12), atol=1e-9
        )
        capped = kd.allocate(moments, minimize="parity", bounds=(0.0, 0.5))
        shares = capped.contributions()["share of risk, best"]
        self.assertAlmostEqual(capped.weights["a"], 0.5)
        self.assertAlmostEqual(shares["b"], shares["c"])

    def test_two_assets_by_hand(self):
        moments = kd.Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["bond", "share"])
        # proportional to S^-1 (m - r): 2 to 1.5
        ratio = kd.allocate(moments, maximize="ratio", rate=0.02)
        np.testing.assert_allclose(ratio.weights, [4 / 7, 3 / 7])
        self.assertAlmostEqual(ratio.ratio, np.sqrt(0.02**2 / 0.01 + 0.06**2 / 0.04))
        limited = kd.allocate(moments, limits={"sd": 0.12})
        share = limited.weights["share"]
        self.assertAlmostEqual(0.01 * (1 - share) ** 2 + 0.04 * share**2, 0.0144)
        self.assertAlmostEqual(
            limited.weights["share"],
            kd.allocate(moments, limits={"variance": 0.0144}).weights["share"],
        )
        short = kd.allocate(
            kd.Moments([0.0, 0.1], [[0.01, 0.018], [0.018, 0.04]]),
            minimize="sd",
            short=True,
            bounds=(-1, 2),
        )
        self.assertAlmostEqual(short.weights["2"], (0.01 - 0.018) / (0.05 - 0.036))


class AgainstScipy(Case):
    def test_never_worse_than_slsqp(self):
        rng = np.random.default_rng(0)
        for case in range(20):
            size = int(rng.integers(5, 41))
            moments = random_moments(rng, size)
            low, high = rng.uniform(0, 0.3 / size, size), rng.uniform(1.5 / size, 0.5, size)
            bounds = {name: (a, b) for name, a, b in zip(moments.names, low, high, strict=True)}
            inside = rng.permutation(size) < size // 2
            least, most = (
                max(low[inside].sum(), 1 - high[~inside].sum()),
                min(high[inside].sum(), 1 - low[~inside].sum()),
            )
            ends = (least + 0.2 * (most - least), least + 0.7 * (most - least))
            groups = {"some": ends}
            members = {"some": [n for n, i in zip(moments.names, inside, strict=True) if i]}
            options = {"bounds": bounds, "groups": groups, "members": members}
            top = kd.allocate(moments, maximize="mean", limits={"sd": 10.0}, **options).mean
            bottom = kd.allocate(moments, minimize="sd", **options)
            floor = bottom.mean + 0.6 * (top - bottom.mean)
            found = kd.allocate(moments, minimize="sd", limits={"mean": floor}, **options)
            weights = found.weights.to_numpy()
            with self.subTest(case=case, size=size):
                self.assertAlmostEqual(weights.sum(), 1, delta=1e-9)
                self.assertGreater((weights - low).min(), -1e-9)
                self.assertGreater((high - weights).min(), -1e-9)
                self.assertTrue(ends[0] - 1e-9 <= weights[inside].sum() <= ends[1] + 1e-9)
                self.assertGreater(found.mean, floor - 1e-9)
                matrix, means = moments.covariance.to_numpy() * 1e3, moments.mean.to_numpy()
                other = optimize.minimize(
                    lambda w, matrix=matrix: w @ matrix @ w,
                    weights,
                    jac=lambda w, matrix=matrix: 2 * matrix @ w,
                    bounds=list(bounds.values()),
                    method="SLSQP",
                    options={"maxiter": 500, "ftol": 1e-13},
                    constraints=[
                        {"type": "eq", "fun": lambda w: w.sum() - 1},
                        {"type": "ineq", "fun": lambda w, m=means, f=floor: 1e3 * (w @ m - f)},
                        {
                            "type": "ineq",
                            "fun": lambda w, i=inside, e=ends: [
                                w[i].sum() - e[0],
                                e[1] - w[i].sum(),
                            ],
                        },
                    ],
                )
                self.assertLess(found.sd**2 - other.fun / 1e3, 1e-10)

    def test_best_ratio_on_a_frontier(self):
        moments = random_moments(np.random.default_rng(3), 8)
        found = kd.frontier(moments, bounds=(0.02, 0.4)).best_ratio(0.0002)
        table = kd.frontier(moments, bounds=(0.02, 0.4), rate=0.0002).table()
        self.assertGreaterEqual(found.ratio, table["ratio"].max() - 1e-12)
        weights = table[moments.names].to_numpy()
        dense = np.concatenate(
            [a + np.linspace(0, 1, 200)[:, None] * (b - a) for a, b in pairwise(weights)]
        )
        means, sds = (
            dense @ moments.mean.to_numpy(),
            np.sqrt(np.einsum("ij,jk,ik->i", dense, moments.covariance, dense)),
        )
        self.assertAlmostEqual(found.ratio, ((means - 0.0002) / sds).max(), places=5)


def scenarios(size, count, seed=1):
    rng = np.random.default_rng(seed)
    factors = rng.standard_t(4, (count, 2)) @ rng.normal(size=(2, size)) * 0.5
    values = 0.02 * rng.normal(size=size) + factors + rng.standard_t(4, (count, size))
    return kd.SimulatedReturns(pd.DataFrame(0.01 * values, columns=[f"h{i}" for i in range(size)]))


class OverScenarios(Case):
    def test_least_shortfall_is_that_of_the_whole_program(self):
        for size, count, level in ((4, 300, 0.9), (12, 900, 0.95), (25, 1_500, 0.99)):
            source = scenarios(size, count, seed=size)
            found = kd.allocate(
                source, minimize="expected_shortfall", level=level, bounds=(0.0, 0.35)
            )
            self.assertAlmostEqual(
                found.expected_shortfall(),
                whole_program(source.frame.to_numpy(), level, (0.0, 0.35)),
                delta=1e-9,
            )

    def test_highest_mean_within_a_shortfall(self):
        source = scenarios(10, 800)
        returns = source.frame.to_numpy()
        limit = (
            1.2
            * kd.allocate(
                source, minimize="expected_shortfall", bounds=(0.0, 0.4)
            ).expected_shortfall()
        )
        found = kd.allocate(source, limits={"expected_shortfall": limit}, bounds=(0.0, 0.4))
        self.assertAlmostEqual(
            found.mean,
            whole_program(returns, 0.95, (0.0, 0.4), returns.mean(axis=0), limit),
            delta=1e-9,
        )
        self.assertLessEqual(found.expected_shortfall(), limit + 1e-9)

    def test_limits_on_both(self):
        source = scenarios(8, 600)
        loose = kd.allocate(source, maximize="mean", limits={"sd": 0.012})
        limits = {"sd": 0.012, "expected_shortfall": 0.97 * loose.expected_shortfall()}
        found = kd.allocate(source, limits=limits)
        self.assertLessEqual(found.sd, 0.012 + 1e-9)
        self.assertLessEqual(found.expected_shortfall(), limits["expected_shortfall"] + 1e-9)
        self.assertLess(found.mean, loose.mean)
        # No weights nearby that keep both limits are better: SLSQP from there, on smooth functions
        # of the active tail.
        values = source.frame.to_numpy()
        cov = np.cov(values, rowvar=False)

        def shortfall(w):
            losses = np.sort(-values @ w)[::-1]
            return losses[:30].mean()

        other = optimize.minimize(
            lambda w: -1e3 * values.mean(axis=0) @ w,
            found.weights,
            bounds=[(0, 1)] * 8,
            method="SLSQP",
            constraints=[
                {"type": "eq", "fun": lambda w: w.sum() - 1},
                {"type": "ineq", "fun": lambda w: 1e4 * (0.012**2 - w @ cov @ w)},
                {
                    "type": "ineq",
                    "fun": lambda w: 1e2 * (limits["expected_shortfall"] - shortfall(w)),
                },
            ],
        )
        self.assertLess(values.mean(axis=0) @ other.x - found.mean, 2e-8)
        risk = kd.allocate(
            source,
            minimize="expected_shortfall",
            limits={"sd": 1.02 * kd.allocate(source, minimize="sd").sd},
        )
        self.assertLessEqual(
            risk.expected_shortfall(),
            kd.allocate(source, minimize="sd").expected_shortfall() + 1e-12,
        )

    def test_a_limit_on_the_value_at_risk(self):
        source = scenarios(5, 400)
        returns = source.frame.to_numpy()
        safest = kd.allocate(source, minimize="expected_shortfall", level=0.9)
        limit = 1.1 * safest.value_at_risk()
        limited = kd.allocate(source, limits={"value_at_risk": limit}, level=0.9)
        self.assertLessEqual(limited.value_at_risk(), limit + 1e-12)
        self.assertGreater(limited.value_at_risk(), 0.98 * limit)
        tried = np.random.default_rng(2).dirichlet(np.full(5, 0.5), 3_000)
        at_risk = np.quantile(-(returns @ tried.T), 0.9, axis=0)
        most = (returns.mean(axis=0) @ tried.T)[at_risk <= limit].max()
        self.assertGreater(limited.mean, 0.9 * most)
        with self.fails("limit value_at_risk", "below the least reachable"):
            kd.allocate(source, limits={"value_at_risk": 0.5 * limit}, level=0.9)
        for measure in ("value_at_risk", "drawdown"):
            with self.fails("many local optima", "expected_shortfall"):
                kd.allocate(source, minimize=measure)

    def test_ratio_to_a_shortfall(self):
        source = scenarios(6, 500, seed=9)
        found = kd.allocate(source, maximize="ratio", minimize="expected_shortfall")
        best = found.mean / found.expected_shortfall()
        others = kd.frontier(source, "expected_shortfall", points=30).table()
        self.assertGreaterEqual(best, (others["mean"] / others["expected_shortfall"]).max() - 1e-12)
        again = kd.frontier(source, "expected_shortfall").best_ratio()
        np.testing.assert_allclose(again.weights, found.weights, atol=1e-9)

    def test_ratio_to_a_normal_shortfall(self):
        moments = random_moments(np.random.default_rng(4), 5)
        multiple = stats.norm.pdf(stats.norm.ppf(0.95)) / 0.05
        means, cov = moments.mean.to_numpy(), moments.covariance.to_numpy()
        for rate in (0.0, 0.0004, -0.001):
            found = kd.allocate(moments, maximize="ratio", minimize="expected_shortfall", rate=rate)

            def ratio(w, r=rate):
                return (w @ means - r) / (multiple * np.sqrt(w @ cov @ w) - w @ means)

            rng = np.random.default_rng(1)
            tried = np.concatenate([rng.dirichlet(np.full(5, a), 2_000) for a in (0.3, 1.0)])
            near = found.weights.to_numpy() + 0.01 * (tried - found.weights.to_numpy())
            self.assertGreaterEqual(
                ratio(found.weights.to_numpy()), max(map(ratio, [*tried, *near])) - 1e-12
            )
            again = kd.frontier(moments, "expected_shortfall").best_ratio(rate)
            np.testing.assert_allclose(again.weights, found.weights, atol=1e-9)
        with self.fails("a ratio to expected shortfall over scenarios knows no limit on the sd"):
            kd.allocate(
                scenarios(4, 300),
                maximize="ratio",
                minimize="expected_shortfall",
                limits={"sd": 0.05},
            )

    def test_a_limit_on_the_drawdown(self):
        prices = kd.read_prices(made(400))
        moves = kd.markets.returns(prices).frame.to_numpy()

        def deepest(w):
            path = np.cumprod(np.vstack([np.ones(w.shape[1:]), 1 + moves @ w]), axis=0)
            return (1 - path / np.maximum.accumulate(path, axis=0)).max(axis=0)

        shares = np.linspace(0, 1, 31)
        grid = np.array([[a, b, 1 - a - b] for a in shares for b in shares[shares <= 1 - a]]).T
        falls, means = deepest(grid), moves.mean(axis=0) @ grid
        for times in (1.02, 1.2, 1.5):
            limit = times * falls.min()
            limited = kd.allocate(prices, limits={"drawdown": limit})
            self.assertLessEqual(limited.drawdown, limit + 1e-9)
            self.assertAlmostEqual(
                limited.drawdown, deepest(limited.weights.to_numpy()[:, None])[0]
            )
            self.assertGreaterEqual(limited.mean, means[falls <= limit].max() - 1e-6)
        with self.fails("limit drawdown", "below the least reachable"):
            kd.allocate(prices, minimize="sd", limits={"drawdown": 0.9 * falls.min()})

    def test_a_drawdown_is_compounded_and_never_above_all(self):
        draws = np.random.default_rng(3).normal(-0.004, 0.05, (600, 3))
        grown = 100 * np.cumprod(1 + draws, axis=0)
        days = pd.bdate_range("2020-01-01", periods=600)
        prices = kd.read_prices(pd.DataFrame(grown, days, ["a", "b", "c"]), keep_suspicious=True)
        for options in ({"minimize": "sd"}, {"minimize": "parity"}):
            found = kd.allocate(prices, **options)
            weights = found.weights.to_numpy()
            grew = np.r_[1, np.cumprod(1 + kd.markets.returns(prices).frame.to_numpy() @ weights)]
            self.assertAlmostEqual(found.drawdown, kd.max_drawdown(grew))
            self.assertLess(found.drawdown, 1)
        limit = kd.allocate(prices, minimize="sd").drawdown - 0.005
        limited = kd.allocate(prices, minimize="sd", limits={"drawdown": limit})
        self.assertLessEqual(limited.drawdown, limit + 1e-9)

    def test_normal_losses_by_their_closed_forms(self):
        moments = random_moments(np.random.default_rng(7), 6)
        means, cov = moments.mean.to_numpy(), moments.covariance.to_numpy()
        for name, multiple in (
            ("value_at_risk", stats.norm.ppf(0.95)),
            ("expected_shortfall", stats.norm.pdf(stats.norm.ppf(0.95)) / 0.05),
        ):
            other = optimize.minimize(
                lambda w, k=multiple: 100 * (k * np.sqrt(w @ cov @ w) - w @ means),
                np.full(6, 1 / 6),
                method="SLSQP",
                bounds=[(0, 1)] * 6,
                constraints={"type": "eq", "fun": lambda w: w.sum() - 1},
                options={"ftol": 1e-14},
            )
            least = other.fun / 100
            if name == "expected_shortfall":
                found = kd.allocate(moments, minimize=name)
                self.assertLess(found.expected_shortfall() - least, 1e-9)
            most = kd.allocate(moments, limits={name: 1.1 * least})
            self.assertAlmostEqual(getattr(most, name)(), 1.1 * least)
            self.assertGreater(most.mean, other.x @ means)
            both = kd.allocate(moments, minimize="sd", limits={name: 1.0001 * least})
            self.assertLessEqual(both.sd, np.sqrt(other.x @ cov @ other.x) * (1 + 1e-6))


class Trades(Case):
    def setUp(self):
        self.moments = random_moments(np.random.default_rng(11), 7)
        self.today = dict.fromkeys(self.moments.names, 1 / 7)

    def test_turnover(self):
        free = kd.allocate(self.moments, minimize="sd")
        for most in (0.1, 0.3):
            found = kd.allocate(self.moments, minimize="sd", today=self.today, turnover=most)
            self.assertAlmostEqual(np.abs(found.weights - 1 / 7).sum(), most, places=9)
            self.assertGreater(found.sd, free.sd)
            self.assertIn("turnover", set(found.binding()["name"]))
        wide = kd.allocate(self.moments, minimize="sd", today=self.today, turnover=2.0)
        np.testing.assert_allclose(wide.weights, free.weights, atol=1e-9)

    def test_cost(self):
        dear = kd.allocate(
            self.moments, maximize="mean", limits={"sd": 1.0}, today=self.today, cost=0.9
        )
        np.testing.assert_allclose(dear.weights, 1 / 7, atol=1e-12)  # no mean is worth such trades
        found = kd.allocate(self.moments, maximize="ratio", today=self.today, cost=2e-4)
        means, cov = self.moments.mean.to_numpy(), self.moments.covariance.to_numpy()

        def worth(w):
            return (w @ means - 2e-4 * np.abs(w - 1 / 7).sum()) / np.sqrt(w @ cov @ w)

        rng = np.random.default_rng(1)
        best = found.weights.to_numpy()
        near = [best + 0.02 * (w - best) for w in rng.dirichlet(np.full(7, 0.3), 2_000)]
        self.assertGreaterEqual(worth(best), max(map(worth, near)))
        self.assertAlmostEqual(found.cost, 2e-4 * np.abs(best - 1 / 7).sum())
        held = kd.allocate(
            self.moments, maximize="ratio", today=self.today, cost=2e-4, holding_period=50
        )
        self.assertGreater(held.cost, found.cost)

    def test_a_least_mean_is_one_after_the_cost_of_trades(self):
        means, cov = self.moments.mean.to_numpy(), self.moments.covariance.to_numpy()
        for cost in (1e-4, 3e-4):
            least = float(means.mean() + 0.2 * (means.max() - means.mean()))
            found = kd.allocate(
                self.moments, minimize="sd", limits={"mean": least}, today=self.today, cost=cost
            )

            def after_cost(w, cost=cost):
                gap = np.sqrt((w - 1 / 7) ** 2 + 1e-16)  # a smooth absolute value
                return w @ means - cost * gap.sum()

            best = found.weights.to_numpy()
            self.assertAlmostEqual(after_cost(best), least, delta=1e-7)
            other = optimize.minimize(
                lambda w: 100 * np.sqrt(w @ cov @ w),
                best + 0.01 * (1 / 7 - best),
                bounds=[(0, 1)] * 7,
                constraints=[
                    {"type": "eq", "fun": lambda w: w.sum() - 1},
                    {"type": "ineq", "fun": lambda w, f=after_cost, m=least: 1e3 * (f(w) - m)},
                ],
                options={"ftol": 1e-13, "maxiter": 500},
            )
            self.assertLess(found.sd, other.fun / 100 * (1 + 1e-4))

    def test_what_binds_and_what_it_is_worth(self):
        found = kd.allocate(THREE, limits={"sd": 0.05}, bounds=(0.1, 0.6))
        rows = found.binding().set_index("name")
        looser = kd.allocate(THREE, limits={"sd": 0.0505}, bounds=(0.1, 0.6))
        self.assertAlmostEqual(rows.loc["sd", "gain"], looser.mean - found.mean)
        self.assertEqual(
            set(rows.index),
            {"sd"} | {n for n, w in found.weights.items() if min(w - 0.1, 0.6 - w) < 1e-9},
        )
        self.assertTrue((rows["gain"] >= 0).all())
