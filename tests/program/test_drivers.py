"""Tests of drivers."""

import math
import tempfile
from pathlib import Path

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case

JUMPS = kd.JumpDiffusion(100.0, 0.05, 0.2, rate=2.0, jump_mean=-0.1, jump_sd=0.1)


RATE = kd.MeanReverting(0.14, 0.16, 0.4, 0.03)


WALK = kd.RandomWalk(10.0, 0.5, 2.0)


def fuel_model() -> kd.Model:
    model = kd.Model("fuel", periods=8, start=2030)
    model.driver("energy", RATE, unit="EUR/kWh", dt=0.5)
    model.driver("fuel", JUMPS, dt=0.5)
    model.correlate("energy", "fuel", 0.5)
    model.outcome("last_energy", "last(energy)")
    model.outcome("cost", "total(energy) + last(fuel) / 100")
    return model


class AsDrivers(Case):
    def test_rows_follow_the_process_under_every_plan(self):
        for sampling in ("latin", "random", "sobol", "antithetic"):
            run = fuel_model().simulate(8000, seed=2, sampling=sampling)
            mean = run["last_energy"].mean
            self.assertLess(abs(mean - float(RATE.expected(4.0))), 2 * max(mean.error, 1e-5))
            self.assertAlmostEqual(
                run["last_energy"].sd, RATE.distribution_at(4.0).sd, delta=0.0015
            )
            energy, fuel = run.row("energy").values, np.log(run.row("fuel").values)
            moves = [
                np.diff(row, axis=0, prepend=start)
                for row, start in ((energy, RATE.start), (fuel, np.log(JUMPS.start)))
            ]
            by_hand = np.mean(
                [stats.spearmanr(a, b).statistic for a, b in zip(*moves, strict=True)]
            )
            # jumps of the fuel weaken the 0.5
            self.assertAlmostEqual(run.correlations["reached"][0], by_hand, delta=0.02)
        np.testing.assert_allclose(run["energy"].base, RATE.expected(0.5 * np.arange(1, 9)))

    def test_model_files_hold_processes(self):
        model = fuel_model()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            loaded = kd.load_model(path)
            for wrong, words in (
                ('process = "mean revrting"', ("did you mean 'mean reverting'",)),
                ('process = "random walk"\nstart = 1', ("'drift' is missing",)),
                ('process = "random walk"\nstrat = 1', ("did you mean 'start'",)),
                ('process = "random walk"\ndistribution = "normal"', ("not both",)),
            ):
                path.write_text(
                    f'[model]\nname = "m"\nperiods = 3\n[drivers.x]\n{wrong}', encoding="utf-8"
                )
                with self.fails("drivers.x", *words, kind=kd.FileError):
                    kd.load_model(path)
        one, two = (made.simulate(500, seed=1)["cost"].values for made in (model, loaded))
        np.testing.assert_array_equal(one, two)

    def test_path_sets_uncertain_parameters_and_replacements(self):
        history = kd.GeometricBrownianMotion(100.0, 0.05, 0.2).paths(60, 1, seed=3, dt=1 / 12)[:, 0]
        fitted = kd.GeometricBrownianMotion.fit(history, 1 / 12)
        model = kd.Model("m", periods=12)
        model.driver(
            "fleet", kd.PathSet({"a": fitted, "b": fitted}, [[1, 0.7], [0.7, 1]]), dt=1 / 12
        )
        model.outcome("y", "last(a)")
        run = model.simulate(4000, seed=1)
        self.assertAlmostEqual(run.correlations["reached"][0], 0.7, delta=0.01)
        unsure = kd.Model("m", periods=12)
        unsure.driver("a", fitted, dt=1 / 12, uncertain=True)
        unsure.outcome("y", "last(a)")
        self.assertGreater(unsure.simulate(4000, seed=1)["y"].sd, 1.05 * run["y"].sd)
        calm = unsure.replace(a=kd.GeometricBrownianMotion(100.0, 0.0, 0.01)).simulate(1000, seed=1)
        self.assertAlmostEqual(calm["y"].sd, 1.0, delta=0.1)
        steady = unsure.replace(a=kd.Normal(3, 1)).simulate(1000, seed=1)
        self.assertEqual(steady["a"].values.shape, (12, 1000))

    def test_parameters_of_a_process_are_set_swept_and_solved_for(self):
        model = kd.Model("m", periods=5)
        process = kd.MeanReverting(start=1.0, level=2.0, speed=0.5, volatility=0.1)
        model.driver("p", process)
        model.outcome("y", "last(p)")

        def expected(level):  # Ornstein and Uhlenbeck
            return level + (1.0 - level) * math.exp(-0.5 * 5)

        swept = model.sweep({"p.level": [2.0, 4.0]}, statistic="base")
        np.testing.assert_allclose(swept.values["y"], [expected(2.0), expected(4.0)])
        again = model.replace(**{"p.level": 4.0}).simulate(4000, seed=1)["y"].mean
        self.assertAlmostEqual(float(again), expected(4.0), delta=2 * again.error + 1e-3)
        drawn = model.sweep({"p.level": [4.0]}, statistic="mean", trials=4000, seed=1)
        self.assertEqual(drawn.values["y"][0], float(again))
        goal = model.solve("p.level", outcome="y", mean=3.0, within=(1, 6), trials=2000, seed=1)
        level = (3.0 - math.exp(-2.5)) / (1 - math.exp(-2.5))
        self.assertAlmostEqual(float(goal.value), level, delta=2 * goal.value.error + 1e-3)
        for name in ("replace", "sweep"):
            with self.fails("the process of 'p' has no parameter 'levl'", "did you mean 'level'"):
                if name == "replace":
                    model.replace(**{"p.levl": 4.0})
                else:
                    model.sweep({"p.levl": [4.0]})
        with self.fails("volatility"):
            model.replace(**{"p.volatility": -1.0})

    def test_sensitivities_know_processes(self):
        run = fuel_model().simulate(2000, seed=1)
        self.assertEqual(run.sensitivity("last_energy", "swing").index[0], "energy")
        self.assertEqual(
            run.sensitivity("last_energy", "rank", by_period=True).index[0], "energy 2037"
        )
        shares = run.sensitivity("cost", "shapley")["share of variance"]
        self.assertAlmostEqual(shares.sum(), 1, 9)
        alone = (
            kd.Model.of(fuel_model().statement.without_correlations())
            .simulate(500, seed=1)
            .sensitivity("last_energy", "sobol")
        )
        self.assertAlmostEqual(alone.loc["energy", "total"], 1, delta=0.02)

    def test_mistakes(self):
        model = kd.Model("m", periods=3)
        for call, words in (
            (lambda: kd.Model("n").driver("x", WALK), ("with periods",)),
            (lambda: model.driver("x", WALK, each="period"), ("its own course",)),
            (lambda: model.driver("x", WALK, uncertain=True), ("fitted",)),
            (lambda: model.driver("x", WALK, dt=-1), ("dt",)),
            (lambda: model.driver("x", kd.Normal(0, 1), dt=2), ("belong to a process",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
