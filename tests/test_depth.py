"""Deeper checks: errors that cover, published functions, horizons that vary, and what the commands' help promises."""

import re
import shlex
import tempfile
from pathlib import Path
from unittest import mock

import click
import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from kindynos.cli import COMMANDS
from kindynos.demo import make_treasury
from tests.common import Case, investment
from tests.test_cli import Folder, run
from tests.test_ledgers import reserve
from tests.test_markets import DEMO, PRICES
from tests.test_sensitivity import ishigami

mpl.use("Agg")


class HorizonsThatVary(Case):
    def test_the_horizon_is_swept(self):
        swept = reserve(earned=kd.Normal(0.01, 1e-9)).sweep(last=[8, 20, 40], outcome="final")
        for last, value in zip((8, 20, 40), swept.values["final"], strict=True):
            balance = kd.roll_forward(100.0, 0.01, [5.0 - 40.0 * ((t + 1) % 4 == 0) for t in range(last)])
            self.assertAlmostEqual(value, balance[-1], 4)

    def test_the_horizon_is_solved_for(self):
        model = kd.Model("fund", periods=60)
        model.given(last=10)
        model.driver("earned", kd.Normal(0.02, 0.01), each="period")
        model.outcome("end", "at(roll_forward(100, earned, 5), last)")
        found = model.solve("last", "end", mean=400.0, within=(1, 60), trials=2000, seed=1)
        balance = kd.roll_forward(100.0, 0.02, 5.0, periods=60)
        self.assertEqual(np.ceil(found.value), kd.first_period(balance >= 400))

    def test_quarters_are_labelled_in_sheets_and_survival(self):
        run_ = reserve().simulate(300, seed=1)
        self.assertEqual(run_.trial(0).columns[-1], "2037 Q4")
        self.assertEqual(run_.survival("ruin").index[-1], "2037 Q4")


class ErrorsThatCover(Case):
    def test_historical_value_at_risk_and_shortfall(self):
        law, hits, level = stats.t(5), {"value_at_risk": 0, "expected_shortfall": 0}, 0.95
        q = law.ppf(level)
        truth = {"value_at_risk": q, "expected_shortfall": law.expect(lambda x: x, lb=q, conditional=True)}
        days = pd.bdate_range("2024-01-01", periods=801).strftime("%Y-%m-%d")
        for seed in range(50):
            moves = 0.001 * law.rvs(800, random_state=seed)
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

    def test_goals(self):
        hits = 0
        for seed in range(25):
            found = investment().solve(
                "price", "net_value", chance=0.8, above=0, within=(200, 500), trials=1000, seed=seed, sampling="random"
            )
            wanted = sum(1.1**-t for t in range(1, 6)) * (90 + 10 * stats.norm.ppf(0.2))
            hits += found.value.low - 0.03 <= wanted <= found.value.high + 0.03
        self.assertGreaterEqual(hits, 21)

    def test_unpaired_differences(self):
        truth, hits = 5 * sum(1.1**-t for t in range(1, 6)), 0
        for seed in range(60):
            one = investment().simulate(600, seed=seed, sampling="random")
            two = investment(flow=kd.Normal(95, 10)).simulate(600, seed=1000 + seed, sampling="random")
            row = kd.compare({"a": one, "b": two}).differences().loc[("net_value", "b", "mean")]
            hits += row["low"] <= truth <= row["high"]
        self.assertTrue(52 <= hits <= 60, hits)

    def test_odds_of_touching(self):
        process, hits = kd.RandomWalk(0.0, 0.2, 1.0), 0
        closed = process.touch(1.5, 2.0)
        for seed in range(60):
            drawn = process.touch(1.5, 2.0, simulate=True, trials=1000, steps=5, seed=seed)
            hits += drawn.low <= closed <= drawn.high
        self.assertTrue(52 <= hits <= 60, hits)


class PublishedFunctions(Case):
    def test_the_g_function(self):
        # Saltelli and Sobol' (1995): the product of (|4 x - 2| + a) / (1 + a), with shares in closed form.
        weights = (0.0, 1.0, 4.5, 9.0)
        model = kd.Model("g")
        for place in range(4):
            model.driver(f"x{place}", kd.Uniform(0, 1))
        parts = [f"(abs(4 * x{place} - 2) + {a}) / (1 + {a})" for place, a in enumerate(weights)]
        model.outcome("y", " * ".join(parts))
        alone = np.array([1 / (3 * (1 + a) ** 2) for a in weights])
        variance = np.prod(1 + alone) - 1
        frame = model.simulate(256, seed=1).sensitivity("y", "sobol")
        for place, part in enumerate(alone):
            self.assertAlmostEqual(frame.loc[f"x{place}", "first order"], part / variance, delta=0.01)
            total = part * np.prod(np.delete(1 + alone, place)) / variance
            self.assertAlmostEqual(frame.loc[f"x{place}", "total"], total, delta=0.01)

    def test_shapley_shares_split_an_interplay(self):
        # Without dependence a share is what is explained alone and an equal part of each interplay (Owen 2014).
        variance = 0.5 + 49 / 8 + 0.1 * np.pi**4 / 5 + 0.01 * np.pi**8 / 18
        both = 0.01 * np.pi**8 * (1 / 18 - 1 / 50) / variance
        frame = ishigami().simulate(256, seed=2).sensitivity("y", "shapley")
        wanted = {"x1": 0.5 * (1 + 0.1 * np.pi**4 / 5) ** 2 / variance + both / 2, "x2": 49 / 8 / variance, "x3": both / 2}
        for name, share in wanted.items():
            self.assertAlmostEqual(frame.loc[name, "share of variance"], share, delta=0.01)

    def test_conditional_means_of_a_function_that_is_not_monotone(self):
        frame = ishigami().simulate(40_000, seed=1).sensitivity("y", "conditional", slices=8)
        edges = np.linspace(-np.pi, np.pi, 9)
        wanted = np.diff(3.5 * edges - 7 * np.sin(2 * edges) / 4) / np.diff(edges)  # the mean of 7 sin² over each slice
        np.testing.assert_allclose(frame.loc["x2"].iloc[:8], wanted, atol=0.15)

    def test_shrinkage_by_its_formula(self):
        returns = kd.returns(kd.read_prices(PRICES.frame.iloc[:80].reset_index())).frame.to_numpy()
        count, size = returns.shape
        gaps = returns - returns.mean(axis=0)
        sample = gaps.T @ gaps / count
        sd = np.sqrt(np.diag(sample))
        average = np.mean([sample[i, j] / (sd[i] * sd[j]) for i in range(size) for j in range(i)])
        target = np.array([[sample[i, i] if i == j else average * sd[i] * sd[j] for j in range(size)] for i in range(size)])
        pi = rho = 0.0
        for i in range(size):
            for j in range(size):
                term = np.mean((gaps[:, i] * gaps[:, j] - sample[i, j]) ** 2)
                pi += term
                if i == j:
                    rho += term
                    continue
                one = np.mean((gaps[:, i] ** 2 - sample[i, i]) * (gaps[:, i] * gaps[:, j] - sample[i, j]))
                two = np.mean((gaps[:, j] ** 2 - sample[j, j]) * (gaps[:, i] * gaps[:, j] - sample[i, j]))
                rho += average / 2 * (sd[j] / sd[i] * one + sd[i] / sd[j] * two)
        weight = np.clip((pi - rho) / ((sample - target) ** 2).sum() / count, 0, 1)
        wanted = (weight * target + (1 - weight) * sample) * count / (count - 1)
        found = kd.returns(kd.read_prices(PRICES.frame.iloc[:80].reset_index())).covariance("shrunk")
        np.testing.assert_allclose(found, wanted, rtol=1e-9)


class Processes(Case):
    def test_mean_reversion_forgets_at_its_speed(self):
        process = kd.MeanReverting(1.0, 1.0, 2.0, 0.5)
        paths = process.paths(40, 30_000, seed=1, dt=0.1)
        found = np.corrcoef(paths[30], paths[35])[0, 1]
        self.assertAlmostEqual(found, np.exp(-2.0 * 0.5), delta=0.02)
        self.assertAlmostEqual(paths[40].std(), 0.5 / np.sqrt(4), delta=0.005)

    def test_jumps_come_as_often_as_their_rate(self):
        from kindynos.processes.jumps import poisson_quantile

        levels = np.random.default_rng(1).random(2000)
        for mean in (0.01, 0.7, 12.0):
            np.testing.assert_array_equal(poisson_quantile(levels, np.asarray(mean)), stats.poisson(mean).ppf(levels))
        rare = kd.JumpDiffusion(100.0, 0.0, 0.01, rate=0.5, jump_mean=-0.5, jump_sd=0.01)
        ends = np.log(rare.paths(1, 40_000, seed=1)[-1] / 100)
        drift = -0.5 * np.expm1(-0.5 + 0.01**2 / 2)
        self.assertAlmostEqual((ends > drift - 0.25).mean(), np.exp(-0.5), delta=0.01)

    def test_regimes_share_their_time(self):
        process = kd.RegimeSwitching(100.0, (0.0, 0.0), (0.05, 0.5), (2.0, 6.0))
        logs = np.log(process.paths(400, 4000, seed=3, dt=0.05))
        late = np.diff(logs, axis=0)[200:]
        wild = 0.5**2 * process.share_in(1) + 0.05**2 * process.share_in(0)
        self.assertAlmostEqual(late.var() / 0.05, wild, delta=0.004)

    def test_path_sets_take_frames_and_match_moments(self):
        price = kd.GeometricBrownianMotion(100.0, 0.05, 0.2)
        frame = pd.DataFrame([[1, 0.4], [0.4, 1]], index=["b", "a"], columns=["b", "a"])
        made = kd.PathSet({"a": price, "b": price}, correlation=frame)
        self.assertEqual(made.correlation[0, 1], 0.4)
        paths = made.paths(3, 512, seed=1, moment_matching=True, antithetic=True)
        self.assertEqual(paths.shape, (2, 4, 512))
        with self.fails("no row and column 'a'"):
            kd.PathSet({"a": price}, correlation=frame.drop(columns="a"))
        with self.fails("one value a trial"):
            made.outcome(lambda block: block, 3, 100, seed=1)

    def test_simulated_laws_after_a_time(self):
        law = kd.JumpDiffusion(100.0, 0.05, 0.2, 2.0, -0.1, 0.1).at(1.0, trials=20_000, seed=1, steps=4)
        self.assertAlmostEqual(law.mean, 100 * np.exp(0.05), delta=1.2)
        self.assertLess(len(repr(law)), 200)
        ax = kd.GeometricBrownianMotion(100.0, 0.05, 0.2).at(1.0).plot(ax=Figure().subplots(), between=(90, 120))
        self.assertIn("90 to 120", " ".join(text.get_text() for text in ax.get_legend().get_texts()))
        ax = kd.Poisson(3.0).plot(ax=Figure().subplots(), between=(1, 4), mark=2)
        self.assertIn("1 to 4", " ".join(text.get_text() for text in ax.get_legend().get_texts()))


class Runs(Folder):
    def test_partial_grown_and_noted_runs_are_saved_whole(self):
        model = investment()
        model.outcome("rate", "irr(cash_flow - 95, 10)")
        path = self.folder / "r.parquet"
        stopped = model.simulate(40_000, seed=1, progress=lambda done, total: done < 9_000, workers=1)
        grown = model.simulate(2000, seed=1, until=kd.Precision("net_value", "mean", within=0.2), at_most=60_000)
        for saved in (stopped, grown):
            saved.save(path)
            again = kd.open_run(path)
            self.assertEqual((again.size, again.partial), (saved.size, saved.partial))
            self.assertEqual(again.notes("rate"), saved.notes("rate"))
            np.testing.assert_array_equal(again["net_value"].values, saved["net_value"].values)
            pd.testing.assert_frame_equal(again.trial(saved.size - 1), saved.trial(saved.size - 1))

    def test_runs_of_processes_are_saved(self):
        model = kd.Model("oil", periods=6)
        model.driver("price", kd.MeanReverting(1.0, 1.2, 0.5, 0.1), unit="EUR")
        model.outcome("end", "last(price)")
        made = model.simulate(500, seed=1, keep=["price"])
        made.save(self.folder / "r.parquet")
        again = kd.open_run(self.folder / "r.parquet")
        np.testing.assert_array_equal(again["price"].values, made["price"].values)
        pd.testing.assert_frame_equal(again.trial(3), made.trial(3))


class Demo(Case):
    def test_the_seeded_script_makes_the_files(self):
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(make_treasury, "HERE", Path(folder)):
            make_treasury.main()
            for name in ("treasury_prices.csv", "treasury_holdings.csv", "heating_oil.csv"):
                made, kept = (pd.read_csv(Path(place, name)) for place in (folder, DEMO))
                pd.testing.assert_frame_equal(made, kept)

    def test_demo_files_are_found_by_name(self):
        self.assertTrue(kd.demo_file("dry_dock.toml").exists())
        with self.fails("did you mean 'dry_dock.toml'", kind=kd.FileError):
            kd.demo_file("dry_dok.toml")

    def test_every_model_of_the_demo_checks_and_runs(self):
        for path in sorted(DEMO.glob("*.toml")):
            with self.subTest(path=path.name):
                self.assertEqual(run("check", str(path)).returncode, 0)
                answer = run("run", str(path), "--trials", "300", "--seed", "1")
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))


class Help(Folder):
    def test_examples_in_the_help_of_every_command_run(self):
        count = 0
        for command in COMMANDS:
            text = command.get_help(click.Context(command, info_name=command.name, max_content_width=200))
            for line in re.findall(r"^\s+kindynos (\w.*)$", text, re.M):
                words = shlex.split(line)
                if "parquet" in line or "regimes" in line or words[0] == "demo":
                    continue  # needs files of an earlier command, or is slow and tested elsewhere
                words = [str(DEMO / word) if word.endswith((".toml", ".csv")) else word for word in words]
                if "results" in words:  # drawing is tested elsewhere
                    words = [word for word in words if word not in ("--out", "results")]
                words = [str(self.folder / word) if word.endswith(".png") else word for word in words]
                options = [option.opts[-1] for option in command.params]
                fast = ["--trials", "400"] if "--trials" in options and "--trials" not in words else []
                with self.subTest(line=line):
                    answer = run(*words, *fast)
                    self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                    count += 1
        self.assertGreater(count, 20)

    def test_every_option_is_explained(self):
        for command in COMMANDS:
            for option in command.params:
                if isinstance(option, click.Option):
                    self.assertTrue(option.help, f"{command.name} {option.opts}")
            self.assertTrue(command.help)


class WordsOfErrors(Case):
    def test_money_in_formulas(self):
        for formula, words in (
            ("payment(cash_flow, 5, flow)", ("rate of payment", "not a row")),
            ("capital_recovery(hurdle)", ("lacks 'life'",)),
            ("irr(flow)", ("flows of irr", "row")),
            ("npv(hurdle, flow)", ("flows of npv", "row")),
            ("levelized_cost(price, flow, 10, hurdle, -3)", ("life", "above 0")),
            ("terminal_value(flow, 0.02, 0.05)", ("growth 0.05", "below the rate 0.02")),
            ("value_per_share(cash_flow, hurdle, 0.01, 0)", ("shares", "above 0")),
            ("profitability_index(hurdle, cash_flow, price)", ("start", "below 0")),
            ("roll_forward(price, hurdle, flow, shortfall=True)", ("floor=",)),
            ("first_periods(cash_flow > 3)", ("did you mean 'first_period'",)),
            ("mirr(cash_flow, 0.1, -2, -price)", ("above -1",)),
        ):
            model = investment()
            with self.subTest(formula=formula), self.fails(*words):
                model.outcome("extra", formula)
                model.compiled()

    def test_comparisons(self):
        model = investment()
        row = investment()
        row.outcome("row", "cash_flow * 2")
        row.outcome("second", "flow * 2")
        compared = row.compare({"a": {}, "b": {"price": 310.0}}, trials=300, seed=1)
        other = kd.Model("other")
        other.driver("x", kd.Normal(0, 1))
        other.outcome("z", "x")
        one = model.simulate(300, seed=1)
        for call, words in (
            (lambda: compared.result("c", "net_value"), ("no scenario 'c'",)),
            (lambda: compared.result("a", "net_valu"), ("did you mean 'net_value'",)),
            (lambda: kd.compare(dict.fromkeys("ab", row.simulate(300)), outcome="row").table(), ("is a row",)),
            (lambda: kd.compare({"a": one, "b": other.simulate(300)}), ("no outcome in common",)),
            (lambda: kd.compare({"a": kd.Reported(1, 1, 9), "b": kd.Reported(1, 1, 9)}), ("must be a run",)),
            (lambda: kd.compare({"a": row.simulate(300), "b": kd.Reported(1, 1, 9)}), ("say outcome=",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
        self.assertEqual(compared.outcomes, ["net_value", "second"])  # rows are left out
        self.assertEqual(len(compared.differences()), 11)
        self.assertIn("net_value", repr(compared))

    def test_sweeps_and_functions(self):
        grid = kd.sweep(lambda a, b: a * b, a=[1, 2], b=[3, 4])
        self.assertIn("4 points", repr(grid))
        with self.fails("'c' was not varied"):
            grid.grid(down="c")
        with self.fails("stopped after 1 of 2"):
            kd.sweep(lambda a: a, a=[1, 2], progress=lambda done, total: False)
        with self.fails("no point has a value"):
            kd.sweep(lambda a: np.nan, a=[1, 2]).best()
        with self.fails("no points"):
            kd.sweep(lambda a: a, points={"a": []})
        model = kd.Model.from_function(lambda a: "x", {"a": kd.Normal(0, 1)}, "y")
        with self.fails("could not convert", "with a="):
            model.compiled()
