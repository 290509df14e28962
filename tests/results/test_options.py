"""Tests of the options of a simulation, stated in one class."""

import tempfile
from inspect import signature

import kindynos as kd
from kindynos.cli.run import run as run_command
from kindynos.cli.sweep import sweep as sweep_command
from kindynos.results.options import HELP, SimulationKeywords, SimulationOptions, options_of
from tests.common import Case

DEFAULTS = {name: field.default for name, field in options_of(SimulationOptions).items()}
STUDIES = (kd.Model.simulate, kd.Model.compare, kd.Model.sweep, kd.Model.solve, kd.Model.optimize)


class Options(Case):
    def setUp(self):
        self.model = kd.Model("Kiosk")
        self.model.given(price=3.0)
        self.model.driver("cups", kd.Normal(100, 10))
        self.model.outcome("income", "price * cups")

    def test_signatures_and_commands_follow_the_class(self):
        for study in STUDIES:
            taken = {name: p.default for name, p in signature(study).parameters.items()}
            self.assertLessEqual(DEFAULTS.items(), taken.items())
        self.assertEqual({*SimulationKeywords.__annotations__, "trials", "seed"}, set(DEFAULTS))
        for command in (run_command, sweep_command):
            offered = {item.name: item.default for item in command.params}
            for name in HELP:
                self.assertEqual(offered[name], DEFAULTS[name])

    def test_time_stops_the_work_in_every_store(self):
        run = self.model.simulate(50_000_000, 1, max_seconds=0.3)
        self.assertTrue(run.partial)
        self.assertGreater(run.size, 0)
        told = []
        with self.fails("stopped after"), tempfile.TemporaryDirectory() as folder:
            self.model.simulate(
                50_000_000,
                1,
                store="parts",
                resume=folder,
                max_seconds=0.3,
                progress=lambda done, total: told.append(done),
            )
        self.assertTrue(told)
        with self.fails("stopped after"):
            float(self.model.simulate(10**8, 1, store="summary", max_seconds=0.3)["income"].mean)
        with self.fails("max_seconds must be above 0"):
            self.model.simulate(max_seconds=0)

    def test_a_sweep_takes_every_option(self):
        swept = self.model.sweep(
            price=[2.0, 3.0],
            statistic="mean",
            trials=500,
            seed=1,
            sampling="random",
            on_bad="error",
            max_trials=10_000,
            max_seconds=60,
        )
        self.assertEqual(len(swept.table()), 2)

    def test_studies_suggest_the_nearest_spelling(self):
        goal = {"within": (1, 5), "mean": 300}
        studies = {
            "compare": lambda: self.model.compare(trails=5),
            "solve": lambda: self.model.solve("price", "income", trails=5, **goal),
            "optimize": lambda: self.model.optimize({"price": (1, 2)}, maximize="x", trails=5),
        }
        for name, study in studies.items():
            with self.subTest(study=name), self.fails(f"{name}: takes no 'trails'; did you mean"):
                study()
