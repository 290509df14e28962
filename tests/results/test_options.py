"""Tests of the options of a simulation, stated in one class."""

from dataclasses import fields
from inspect import signature

import kindynos as kd
from kindynos.cli.run import run as run_command
from kindynos.results.simulate import SimulationKeywords, SimulationOptions
from tests.common import Case

DEFAULTS = {field.name: field.default for field in fields(SimulationOptions)}


class Options(Case):
    def setUp(self):
        self.model = kd.Model("Kiosk")
        self.model.given(price=3.0)
        self.model.driver("cups", kd.Normal(100, 10))
        self.model.outcome("income", "price * cups")

    def test_signatures_and_commands_follow_the_class(self):
        taken = {
            name: parameter.default
            for name, parameter in signature(kd.Model.simulate).parameters.items()
            if name not in ("self", "store", "resume")
        }
        self.assertEqual(taken, DEFAULTS)
        self.assertLessEqual(set(SimulationKeywords.__annotations__), set(DEFAULTS))
        command = {item.name: item.default for item in run_command.params}
        self.assertEqual(command["trials"], DEFAULTS["trials"])
        self.assertEqual(command["sampling"], DEFAULTS["sampling"])
        self.assertLessEqual({"seed", "workers", "executor"}, set(command))

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
