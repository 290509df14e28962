"""Tests of methods."""

import numpy as np
import pandas as pd
from scipy import optimize, stats

import kindynos as kd
from kindynos.fitting.student import fit_student
from kindynos.markets.book import Held
from kindynos.markets.exposure import Exposure
from kindynos.markets.from_moments import likely_student
from kindynos.markets.method import MEASURES
from kindynos.markets.methods import METHODS, figure_alone
from kindynos.memory import remembering
from kindynos.processes.clustering import fit_garch
from tests.common import HELD, PRICES, Case, made, proof, repeats

RNG = np.random.default_rng(8)


class Risk(Case):
    def test_the_mean_of_a_student_fit_grows_with_the_horizon(self):
        losses = stats.t.rvs(6, 0.02, 0.01, 500, random_state=3)
        ends = likely_student(losses, MEASURES[0], 0.99, 9)
        fit = fit_student(losses)
        expected = 9 * fit.location + 3 * fit.scale * stats.t.ppf(0.99, fit.df)
        self.assertAlmostEqual(ends[1], expected, places=9)
        self.assertTrue(ends[0] < ends[1] < ends[2])

    def test_historical_by_hand(self):
        losses = -(PRICES.frame.pct_change().iloc[1:] @ HELD.values)
        for window in (None, 250):
            part = losses if window is None else losses.iloc[-window:]
            figure = HELD.value_at_risk(0.99, window=window)
            self.assertAlmostEqual(figure, np.quantile(part, 0.99, method="weibull"))
            self.assertEqual((figure.returns, figure.last), (len(part), part.index[-1]))
            np.testing.assert_allclose(HELD.losses(window=window)["loss"], part)
        wide = HELD.value_at_risk(0.99)
        worst = np.sort(losses)[::-1]  # 2.5 % of 599 are 14.975
        self.assertAlmostEqual(
            HELD.expected_shortfall(0.975), (worst[:14].sum() + 0.975 * worst[14]) / 14.975
        )
        self.assertIn("exceeded on about 1 day in 100", wide.description)
        self.assertAlmostEqual(wide.fraction, wide / HELD.value)

    def test_normal_and_student_in_closed_form(self):
        returns = PRICES.frame.pct_change().iloc[1:]
        values = HELD.values.to_numpy()
        mean, sd = (
            returns.mean().to_numpy() @ values,
            np.sqrt(values @ returns.cov().to_numpy() @ values),
        )
        for level in (0.95, 0.99):
            z = stats.norm.ppf(level)
            self.assertAlmostEqual(HELD.value_at_risk(level, "normal"), z * sd - mean)
            self.assertAlmostEqual(
                HELD.expected_shortfall(level, "normal", mean=False),
                stats.norm.pdf(z) / (1 - level) * sd,
            )
            self.assertAlmostEqual(
                HELD.value_at_risk(level, "normal", horizon=10), z * sd * 10**0.5 - 10 * mean
            )

    def test_student_is_the_likeliest_fit(self):
        losses = HELD.losses()["loss"].to_numpy()
        df, location, scale = stats.t.fit(losses)
        likeliest = stats.t.logpdf(losses, df, location, scale).sum()
        for level in (0.95, 0.99):
            t = stats.t.ppf(level, df)
            beyond = stats.t.pdf(t, df) / (1 - level) * (df + t * t) / (df - 1)
            for horizon, mean in ((1, True), (10, True), (1, False)):
                centre = location * horizon if mean else 0.0
                options = {"horizon": horizon, "mean": mean}
                figure = HELD.value_at_risk(level, "student", **options)
                spread = scale * horizon**0.5
                self.assertAlmostEqual(float(figure), centre + t * spread, delta=2e-3 * spread)
                self.assertTrue(figure.low < figure < figure.high)
                shortfall = HELD.expected_shortfall(level, "student", **options)
                self.assertAlmostEqual(
                    float(shortfall), centre + beyond * spread, delta=4e-3 * spread
                )
        own = fit_student(losses)
        reached = stats.t.logpdf(losses, own.df, own.location, own.scale).sum()
        self.assertGreater(reached, likeliest - 1e-3)

    def test_every_figure_lies_in_its_interval(self):
        """Of all methods, on even, fat-tailed and skewed losses, long and short."""
        days = pd.bdate_range("2020-01-01", periods=251).strftime("%Y-%m-%d")
        generator = np.random.default_rng(4)
        for draws in (
            generator.normal(0, 0.01, (250, 2)),
            0.008 * generator.standard_t(3, (250, 2)),
            0.012 - generator.gamma(1.2, 0.01, (250, 2)),
        ):
            grown = 100 * np.cumprod(1 + np.vstack([[0, 0], draws]), axis=0)
            table = pd.DataFrame({"date": days, "a": grown[:, 0], "b": grown[:, 1]})
            prices = kd.read_prices(table, keep_suspicious=True)
            for count in (60, 250):
                held = kd.Portfolio(prices, shares={"a": 10, "b": -6}, short=True)
                found = held.risk_table(windows=[count], trials=500)
                for measure in ("value at risk", "expected shortfall"):
                    low, high = found[f"{measure} low"], found[f"{measure} high"]
                    outside = found[(found[measure] < low) | (found[measure] > high)]
                    self.assertEqual(outside.index.tolist(), [])

    def test_all_methods_agree_on_normal_returns(self):
        rng = np.random.default_rng(2)
        days = pd.bdate_range("2020-01-01", periods=4001).strftime("%Y-%m-%d")
        frame = pd.DataFrame(
            {"date": days, "a": 100 * np.cumprod(1 + np.r_[0, 0.01 * rng.standard_normal(4000)])}
        )
        held = kd.Portfolio(kd.read_prices(frame), shares={"a": 100})
        table = held.risk_table(levels=[0.95, 0.975], trials=40_000)
        for level in (0.95, 0.975):
            wanted = stats.norm.ppf(level) * 0.01 * held.value
            part = table.xs(level, level="level")
            self.assertEqual(len(part), len(METHODS))
            for (method, _), row in part.iterrows():
                self.assertAlmostEqual(
                    row["value at risk"] / wanted,
                    1,
                    delta=0.25 if method in ("weighted", "filtered") else 0.08,
                    msg=method,
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
        figure = HELD.value_at_risk(
            0.99, "simulated", marginals=distributions, trials=40_000, seed=1
        )
        matrix = 0.0001 * (
            2 * np.sin(np.pi / 6 * stats.spearmanr(PRICES.frame.pct_change().iloc[1:]).statistic)
        )
        sd = np.sqrt(HELD.values @ matrix @ HELD.values)
        self.assertLess(abs(figure - stats.norm.ppf(0.99) * sd), 2 * figure.error)
        ten = HELD.value_at_risk(
            0.99, "simulated", marginals=distributions, horizon=10, trials=20_000, seed=1
        )
        self.assertAlmostEqual(ten / figure, 10**0.5, delta=0.25)
        self.assertIn("10 days", ten.description)
        fat = HELD.value_at_risk(0.99, "simulated", copula="t", df=4, seed=1)
        self.assertGreater(fat, 0)
        table = HELD.risk_table([0.99], ["normal", "simulated"], mean=False, trials=5000, seed=2)
        self.assertEqual(
            table["value at risk"].iloc[0], HELD.value_at_risk(0.99, "normal", mean=False)
        )
        self.assertEqual(
            table["value at risk"].iloc[1],
            HELD.value_at_risk(0.99, "simulated", trials=5000, seed=2),
        )

    def test_contributions_explain_the_figure_they_stand_beside(self):
        for method in METHODS:
            for measure in MEASURES:
                for options in ({"level": 0.975}, {"level": 0.99, "window": 300, "horizon": 10}):
                    with self.subTest(method=method, measure=measure, options=options):
                        frame = HELD.contributions(measure=measure, method=method, **options)
                        figure = getattr(HELD, measure)(method=method, **options)
                        self.assertAlmostEqual(frame["component"].sum() / figure, 1, 12)
                        self.assertAlmostEqual(frame["share"].sum(), 1, 12)
                        self.assertEqual(
                            (frame.attrs["method"], frame.attrs["horizon"]),
                            (method, options.get("horizon", 1)),
                        )
        normal = HELD.contributions(0.99, method="normal")
        returns = PRICES.frame.pct_change().iloc[1:]
        values, matrix = HELD.values.to_numpy(), returns.cov().to_numpy()
        by_hand = -returns.mean() + stats.norm.ppf(0.99) * (matrix @ values) / np.sqrt(
            values @ matrix @ values
        )
        np.testing.assert_allclose(normal["marginal"], by_hand, rtol=1e-7)
        without = kd.Portfolio(PRICES, shares={"alpha": 1000, "beta": 500}).value_at_risk(
            0.99, "normal"
        )
        self.assertAlmostEqual(
            normal.loc["gamma", "incremental"], HELD.value_at_risk(0.99, "normal") - without, 6
        )
        worst = (-(returns @ HELD.values)).nlargest(14)
        shortfall = HELD.contributions(1 - 14 / 599, "expected_shortfall")["component"]
        np.testing.assert_allclose(
            shortfall, -(returns.loc[worst.index] * HELD.values).mean(), rtol=1e-6
        )

    def test_losses_over_a_horizon_are_those_behind_the_figure(self):
        four = HELD.losses(horizon=4)
        figure = HELD.value_at_risk(0.99, horizon=4)
        place = (len(four) + 1) * 0.01
        worst = np.sort(four["loss"].to_numpy())[::-1]
        self.assertAlmostEqual(float(figure), worst[int(place) - 1], delta=0.01 * float(figure))

    def test_a_replay_from_a_day_without_a_price_begins_with_the_price_before(self):
        dates = pd.to_datetime(["2027-01-01", "2027-01-04", "2027-01-05", "2027-01-06"])
        table = pd.DataFrame({"a": [100.0, 80.0, 84.0, 63.0]}, index=dates)
        held = kd.Portfolio(kd.read_prices(table), shares={"a": 10})
        for first, last, expected in (
            ("2027-01-01", "2027-01-05", 84 / 100),
            ("2027-01-02", "2027-01-05", 84 / 100),  # a Saturday: Friday's price counts
            ("2027-01-03", "2027-01-04", 80 / 100),
            ("2027-01-04", "2027-01-06", 63 / 80),
        ):
            found = held.replay(first, last).loc["a", "return"]
            self.assertAlmostEqual(found, expected - 1)

    def test_stress(self):
        frame = HELD.stress({"alpha": -0.1})
        returns = PRICES.frame.pct_change().iloc[1:]
        beta = returns.cov().loc["beta", "alpha"] / returns["alpha"].var()
        self.assertAlmostEqual(frame.loc["beta", "return"], -0.1 * beta)
        self.assertAlmostEqual(frame.attrs["profit"], (HELD.values * frame["return"]).sum())
        again = HELD.replay("2026-02-02", "2026-05-04")
        moved = PRICES.frame.loc["2026-05-04"] / PRICES.frame.loc["2026-02-02"] - 1
        np.testing.assert_allclose(again["return"], moved)

    def test_the_error_of_what_follows_a_shock(self):
        gaps, errors = [], []
        rng = np.random.default_rng(4)
        dates = pd.bdate_range("2026-01-01", periods=251)
        for _ in range(120):
            shared = rng.normal(0, 0.01, 250)
            moves = {"a": shared, "b": 0.5 * shared + rng.normal(0, 0.01, 250)}
            frame = pd.DataFrame(
                {name: 100 * np.cumprod([1, *(1 + m)]) for name, m in moves.items()}, dates
            )
            held = kd.Portfolio(frame, amounts={"a": 100.0, "b": 200.0})
            table = held.stress({"a": -0.1})
            true = held.values @ [-0.1, -0.05]
            gaps.append(
                [table.loc["b", "profit"] / held.values["b"] + 0.05, table.attrs["profit"] - true]
            )
            errors.append([table.loc["b", "error"] / held.values["b"], table.attrs["error"]])
            self.assertEqual(table.loc["a", "error"], 0)
        self.assertCalibrated(gaps, errors)
        still = held.stress({"a": -0.1}, others="still")
        self.assertEqual(still["profit"].tolist(), [-0.1 * held.values["a"], 0])
        self.assertEqual((still.attrs["error"], still.loc["b", "moved"]), (0, "held still"))

    def test_mistakes(self):
        for call, words in (
            (lambda: HELD.value_at_risk(95), ("say 0.95 for the worst 5 %",)),
            (lambda: HELD.value_at_risk(1.0), ("below 1",)),
            (lambda: HELD.expected_shortfall(0.05), ("say 0.95 for the worst 5 %",)),
            (lambda: HELD.value_at_risk(0.95, "histrical"), ("did you mean 'historical'",)),
            (lambda: HELD.value_at_risk(0.95, window=5000), ("window 5000", "599 returns")),
            (lambda: HELD.value_at_risk(0.95, horizon=0), ("horizon",)),
            (lambda: HELD.value_at_risk(0.95, "simulated", copula="clyton"), ("copula",)),
            (lambda: HELD.value_at_risk(0.95, "simulated", marginals={}), ("'alpha'",)),
            (lambda: HELD.value_at_risk(0.95, "normal", men=False), ("did you mean 'mean'",)),
            (lambda: HELD.value_at_risk(0.95, "historical", mean=False), ("no option 'mean'",)),
            (lambda: HELD.risk_table(windw=3), ("no option 'windw'",)),
            (lambda: HELD.losses("simulatd"), ("did you mean 'simulated'",)),
            (lambda: HELD.stress({"alhpa": 1}), ("did you mean 'alpha'",)),
            (lambda: HELD.stress({"alpha": -2}), ("all of it",)),
            (lambda: HELD.replay("2001-01-01", "2026-02-02"), ("not a stretch",)),
            (lambda: HELD.contributions(0.95, "mean"), ("measure",)),
            (lambda: fit_student([1.0] * 9), ("not all equal",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()

    def test_fitting_student(self):
        sample = stats.t(4).rvs(20_000, random_state=1) * 2 + 1
        distribution = fit_student(sample)
        self.assertAlmostEqual(distribution.df, 4, delta=0.3)
        self.assertAlmostEqual(distribution.scale, 2, delta=0.05)


def alone(losses):
    """Return an exposure of 1 in one instrument that had these losses."""
    days = pd.DatetimeIndex(pd.bdate_range("2024-01-01", periods=len(losses)))
    return Exposure(Held(("a",), (1.0,), (1.0,), (False,)), -losses[:, None], ["a"], days)


class Intervals(Case):
    @proof
    def test_they_hold_the_truth_and_are_no_wider_than_the_figures_spread(self):
        rng, level, seeds = np.random.default_rng(4), 0.95, 20
        q = stats.norm.ppf(level)
        truths = (q, stats.norm.pdf(q) / (1 - level))
        samples = [alone(rng.standard_normal(300)) for _ in range(seeds)]
        for name, kind in METHODS.items():
            method = kind(trials=2000) if name == "simulated" else kind()
            with remembering():  # both measures rest on the same fits
                by_measure = [
                    [method.interval(sample, measure, level, 1) for sample in samples]
                    for measure in MEASURES
                ]
            for measure, truth, found in zip(MEASURES, truths, by_measure, strict=True):
                hits = sum(figure.low <= truth <= figure.high for figure in found)
                widths = [
                    min(figure.high - float(figure), float(figure) - figure.low) for figure in found
                ]
                with self.subTest(method=name, measure=measure):
                    self.assertGreaterEqual(hits, 16)
                    # Twice as wide, or half as wide in one of the measures, would fail; the
                    # correction is the loosest.
                    ratio = np.median(widths) / (1.96 * np.std([float(figure) for figure in found]))
                    self.assertTrue(
                        0.7 < ratio < (2.0 if name == "cornish fisher" else 1.55), ratio
                    )

    def test_what_the_window_cannot_bound_is_at_least_so_much(self):
        losses = stats.t(4).rvs(250, random_state=4)
        figure = METHODS["historical"]().interval(alone(losses), "value_at_risk", 0.99, 1)
        # The seventh largest of 250 lies below the 99 % quantile in 98.6 % of samples, the largest
        # above it in only 92 %.
        self.assertGreater(stats.binom.cdf(6, 250, 0.01), 0.975)
        self.assertEqual((figure.low, figure.high), (np.sort(losses)[-7], np.inf))
        self.assertIn("too few losses", figure.note)
        bounded = METHODS["tail"]().interval(alone(losses), "value_at_risk", 0.99, 1)
        self.assertTrue(
            np.isfinite(bounded.high) and bounded.low < stats.t(4).ppf(0.99) < bounded.high
        )

    def test_clusters_open_the_interval_and_are_told(self):
        rng = np.random.default_rng(1)
        losses = np.repeat([0.5, 2.0, 0.5, 2.5, 0.7], 100) * rng.standard_normal(500)
        for name in ("historical", "tail"):
            figure = METHODS[name]().interval(alone(losses), "expected_shortfall", 0.95, 1)
            self.assertEqual(figure.high, np.inf)
            self.assertIn("clusters", figure.note)
            self.assertIn("clusters", METHODS[name]().doubt(alone(losses)))
        self.assertEqual(METHODS["historical"]().doubt(alone(rng.standard_normal(500))), "")

    def test_an_assumption_that_the_data_contradict_is_told_beside_the_figure(self):
        fat = alone(stats.t(3).rvs(1000, random_state=1))
        self.assertIn("not normal", METHODS["normal"]().doubt(fat))
        self.assertEqual(METHODS["student"]().doubt(fat), "")
        self.assertEqual(
            METHODS["normal"]().doubt(alone(np.random.default_rng(3).standard_normal(1000))), ""
        )
        self.assertIn("doubt", HELD.risk_table([0.95], ["normal"]))

    def test_sampling_error_is_shown_apart(self):
        few, many = (
            HELD.value_at_risk(0.95, "simulated", trials=trials) for trials in (1000, 40_000)
        )
        self.assertAlmostEqual(few.sampling_error / many.sampling_error, 40**0.5, delta=2.5)
        self.assertGreater(many.error, 4 * many.sampling_error)
        self.assertEqual(HELD.value_at_risk(0.95, "tail").sampling_error, 0)


class Shapes(Case):
    def test_the_tail_mean_never_exceeds_the_worst_loss(self):
        rng = np.random.default_rng(2)
        for count in (30, 100, 250):
            losses = rng.standard_t(3, count)
            worst = np.r_[losses, losses.max() + 1]  # the newest is the worst
            for name in ("historical", "weighted", "filtered"):
                method = METHODS[name]()
                for sample in (losses, worst):
                    behind = method.behind(sample)[0].max()
                    q, beyond = (float(part[0]) for part in method.tail(sample[None], 0.99))
                    self.assertTrue(q <= beyond <= behind + 1e-12, (name, count))
            self.assertEqual(
                METHODS["weighted"]().interval(alone(worst), "expected_shortfall", 0.99, 1).high,
                np.inf,
            )

    def test_cornish_fisher_rises_with_the_level_in_and_out_of_its_domain(self):
        levels = (0.9, 0.95, 0.975, 0.99, 0.995, 0.999)
        for skewed in (stats.lognorm(1.0), stats.gamma(0.5), stats.t(3), stats.norm()):
            rows = skewed.rvs((30, 250), random_state=5)
            found = np.array([METHODS["cornish fisher"]().tail(rows, level) for level in levels])
            self.assertTrue((np.diff(found[:, 0], axis=0) >= 0).all(), skewed.dist.name)
            self.assertTrue((found[:, 1] >= found[:, 0]).all(), skewed.dist.name)
        self.assertIn(
            "outside the domain",
            METHODS["cornish fisher"]().doubt(alone(stats.gamma(0.2).rvs(500, random_state=1))),
        )

    def test_the_tail_is_the_penalised_fit(self):
        losses = stats.t(4).rvs(1000, random_state=3)
        threshold = np.sort(losses)[-101]
        excesses = losses[losses > threshold] - threshold

        def cost(theta):
            return (
                -stats.genpareto.logpdf(excesses, theta[0], 0, np.exp(theta[1])).sum()
                + 0.5 * ((theta[0] - 0.1) / 0.2) ** 2
            )

        shape, scale = optimize.minimize(
            cost, [0.1, 0.0], method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-9}
        ).x
        tail = stats.genpareto(shape, threshold, np.exp(scale))
        q, beyond = METHODS["tail"]().tail(losses[None], 0.99)
        self.assertAlmostEqual(float(q[0]), tail.ppf(0.9), 4)
        self.assertAlmostEqual(
            float(beyond[0]), tail.expect(lambda x: x, lb=float(q[0]), conditional=True), 3
        )
        low = METHODS["tail"]().tail(losses[None], 0.5)
        self.assertAlmostEqual(float(low[0][0]), np.median(losses))
        with self.fails("at least 40 returns"):
            METHODS["tail"]().tail(losses[None, :30], 0.99)

    def test_overlapping_stretches_are_an_option(self):
        growth = (1 + PRICES.frame.pct_change().iloc[1:]).to_numpy()
        ten = np.array([growth[t : t + 10].prod(axis=0) - 1 for t in range(len(growth) - 9)])
        losses = -(ten @ HELD.values.to_numpy())
        figure = HELD.value_at_risk(0.95, horizon=10, overlapping=True)
        self.assertAlmostEqual(figure, np.quantile(losses, 0.95, method="weibull"))
        self.assertIn("overlapping", figure.description)
        np.testing.assert_allclose(HELD.losses(horizon=10, overlapping=True)["loss"], losses)

    def test_volatility_that_clusters_has_a_term_structure(self):
        rng = np.random.default_rng(7)
        variance, returns = 1.0, []
        for _ in range(3000):
            returns.append(np.sqrt(variance) * rng.standard_normal())
            variance = 0.05 + 0.1 * returns[-1] ** 2 + 0.85 * variance
        model = fit_garch(np.array(returns))
        prices = 100 * np.exp(np.cumsum([0.0, *(np.array(returns) / 100)]))
        process = kd.Garch.fit(prices, shocks="normal")
        self.assertAlmostEqual(process.reaction, model.reaction, delta=1e-6)
        self.assertAlmostEqual(process.persistence, model.persistence, delta=1e-6)
        self.assertAlmostEqual(model.reaction, 0.1, delta=0.03)
        self.assertAlmostEqual(model.persistence, 0.95, delta=0.03)
        ahead = model.forecast(400)
        self.assertAlmostEqual(ahead[-1] ** 2, model.variance, delta=0.05)
        self.assertAlmostEqual(
            ahead[1] ** 2, model.variance + (ahead[0] ** 2 - model.variance) * model.persistence
        )
        calm = alone(
            0.01
            * np.array(returns)[
                : int(np.argmin(np.convolve(np.square(returns), np.ones(20), "valid"))) + 20
            ]
        )
        grown = {}
        for volatility in ("garch", "weighted"):
            method = METHODS["filtered"](volatility=volatility)
            one, ten = (figure_alone(method, calm, "value_at_risk", 0.99, days) for days in (1, 10))
            grown[volatility] = ten / one
        # from a calm day volatility is expected to rise
        self.assertGreater(grown["garch"], 1.1 * grown["weighted"])
        drawn = {
            volatility: METHODS["simulated"](volatility=volatility, trials=4000).figure(
                calm, "value_at_risk", 0.99, 10
            )
            for volatility in (None, "weighted", "garch")
        }
        self.assertLess(drawn["weighted"], drawn["garch"])
        self.assertLess(drawn["garch"], drawn[None])


class Edges(Case):
    def test_a_window_that_a_method_cannot_use_leaves_the_others(self):
        held = kd.Portfolio(PRICES, shares={"alpha": 1})
        table = held.risk_table([0.95], windows=(30, None))
        self.assertNotIn(("tail", 30, 0.95), table.index)
        self.assertIn(("tail", "all", 0.95), table.index)
        self.assertIn("at least 40 returns", table.attrs["left out"]["tail, 30"])
        with self.fails("at least 40 returns"):
            held.risk_table([0.95], ["tail"], windows=(30,))

    def test_levels_near_the_median_have_no_interval_rather_than_a_wrong_one(self):
        losses = stats.t(5).rvs(300, random_state=1)
        with np.errstate(divide="raise", over="raise", invalid="raise"):
            for name in ("filtered", "weighted", "cornish fisher"):
                figure = METHODS[name]().interval(alone(losses), "value_at_risk", 0.5, 1)
                self.assertTrue(np.isnan(figure.error) or figure.low < 0 < figure.high)

    def test_prices_that_hardly_move(self):
        frame = made(100).assign(still=5.0 + np.r_[np.zeros(99), 1e-9])
        with np.errstate(divide="raise", over="raise", invalid="raise"):
            figure = kd.Portfolio(frame, shares={"still": 1.0}).value_at_risk(0.99, "filtered")
        self.assertLess(abs(figure), 1e-6)


class Rolling(Case):
    def test_a_rolling_figure_is_that_of_each_window(self):
        rng = np.random.default_rng(5)
        losses = rng.standard_t(5, 60) * 0.01
        pd.DatetimeIndex(pd.bdate_range("2024-01-01", periods=60))
        windows = np.stack([losses[i : i + 50] for i in (0, 4, 9)])
        for name, kind in METHODS.items():
            if not kind.rolling:
                continue
            rolled = kind().tail(windows, 0.95)
            for measure, figures in zip(MEASURES, rolled, strict=True):
                for window, figure in zip(windows, figures, strict=True):
                    single = kind().interval(alone(window), measure, 0.95, 1)
                    self.assertAlmostEqual(single, figure, 12, msg=name)

    @proof
    def test_many_instruments_are_simulated(self):
        rng = np.random.default_rng(6)
        days = pd.bdate_range("2024-01-01", periods=40).strftime("%Y-%m-%d")
        names = [f"i{place}" for place in range(62)]
        frame = pd.DataFrame(
            100 * np.cumprod(1 + 0.01 * rng.standard_normal((40, 62)), axis=0), columns=names
        )
        held = kd.Portfolio(
            kd.read_prices(frame.assign(date=days)), shares=dict.fromkeys(names, 1.0)
        )
        figure = held.value_at_risk(0.95, "simulated", trials=1000, marginals="normal")
        self.assertTrue(0 < figure < 0.1 * held.value)


class Sides(Case):
    def test_a_simulated_figure_of_few_returns_may_be_far_too_low_rather_than_too_high(self):
        """Fat tails that a history leaves open reach up: the estimates are skewed to the right."""
        moves = 0.01 * np.random.default_rng(2).standard_t(4, 120)
        days = pd.bdate_range("2025-01-01", periods=121).strftime("%Y-%m-%d")
        table = pd.DataFrame({"date": days, "a": 100 * np.cumprod(1 + np.r_[0, moves])})
        held = kd.Portfolio(kd.read_prices(table), shares={"a": 10})
        for measure in MEASURES:
            found = getattr(held, measure)(0.99, "simulated", trials=2000)
            self.assertGreater(found.high - float(found), 1.3 * (float(found) - found.low))


class LongHorizons(Case):
    def test_no_loss_is_larger_than_what_is_held(self):
        for method in ("normal", "student"):
            with self.subTest(method), self.fails("over 5000 days", "holdings are worth"):
                HELD.expected_shortfall(0.99, method, horizon=5000)
        for method in ("historical", "filtered", "tail", "weighted"):  # which compound
            loss = HELD.expected_shortfall(0.99, method, horizon=250)
            with self.subTest(method):
                self.assertLess(loss, HELD.value)

        self.assertLess(HELD.value_at_risk(0.99, "simulated", horizon=250, trials=1000), HELD.value)
        table = HELD.risk_table([0.99], windows=[None], horizon=1200, trials=300)
        self.assertTrue((table["value at risk"] <= HELD.value).all())
        self.assertIn("holdings are worth", table.attrs["left out"]["normal, all"])
        short = kd.Portfolio(PRICES, shares={"alpha": -1000, "beta": 500}, short=True)
        self.assertTrue(np.isfinite(short.value_at_risk(0.99, "normal", horizon=5000).error))

    def test_sums_of_a_history_against_closed_forms(self):
        """Of the history as it is, whose log returns are drawn again: their cumulants add up."""
        returns = np.random.default_rng(5).normal(0.0004, 0.01, 1_000)
        levels = 100 * np.exp(np.cumsum(np.append(0, returns)))
        dates = pd.bdate_range("2022-01-03", periods=1_001)
        prices = kd.read_prices(pd.DataFrame({"date": dates, "a": levels}))
        for horizon in (10, 250):
            mean, sd = returns.mean() * horizon, returns.std() * np.sqrt(horizon)
            for held, side in ((1.0, 1), (-1.0, -1)):
                portfolio = kd.Portfolio(prices, amounts={"a": 100 * held}, short=True)
                z = stats.norm.ppf(0.01 if side > 0 else 0.99)
                wanted = -side * 100 * np.expm1(mean + z * sd)
                for method in ("historical", "tail"):
                    with self.subTest(horizon=horizon, side=side, method=method):
                        found = float(portfolio.value_at_risk(0.99, method, horizon=horizon))
                        self.assertAlmostEqual(found / wanted, 1, delta=0.04)

    @proof
    def test_over_several_periods_intervals_hold_the_truth(self):
        for df, horizon in ((1_000, 10), (5, 10)):
            drawn = np.random.default_rng(9).standard_t(df, (horizon, 200_000))
            unit = 0.01 / np.sqrt(df / (df - 2))
            truth = -100 * np.expm1(np.quantile((drawn * unit).sum(axis=0), 0.01))
            gaps, errors = [], []
            for seed in range(repeats(120)):
                returns = unit * np.random.default_rng(seed).standard_t(df, 500)
                levels = 100 * np.exp(np.cumsum(np.append(0, returns)))
                dates = pd.bdate_range("2022-01-03", periods=501)
                prices = kd.read_prices(pd.DataFrame({"date": dates, "a": levels}))
                figure = kd.Portfolio(prices, amounts={"a": 100.0}).value_at_risk(
                    0.99, horizon=horizon
                )
                gaps.append(float(figure) - truth)
                errors.append(figure.error)
            with self.subTest(df=df):
                self.assertCalibrated(gaps, errors)

    def test_what_is_scaled_over_several_periods_is_doubted(self):
        returns = 0.01 * np.random.default_rng(3).standard_t(4, 800)
        levels = 100 * np.exp(np.cumsum(np.append(0, returns)))
        dates = pd.bdate_range("2022-01-03", periods=801)
        held = kd.Portfolio(
            kd.read_prices(pd.DataFrame({"date": dates, "a": levels})), amounts={"a": 1.0}
        )
        ten = held.value_at_risk(0.99, "student", horizon=10)
        self.assertIn("over 10 days the fat tail of one day thins out", ten.doubt)
        self.assertIn(
            "over 250 days returns compound", held.value_at_risk(0.99, "normal", horizon=250).doubt
        )
