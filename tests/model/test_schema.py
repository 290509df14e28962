"""Tests of the JSON Schema of model files, by a validator of the standard."""

import json
import tomllib
from pathlib import Path

from jsonschema import Draft202012Validator

import kindynos as kd
from kindynos.model.schema import json_schema
from tests.common import Case, run

CHECKED = Draft202012Validator(json_schema())


def mistakes(text: str) -> list[str]:
    return [error.json_path for error in CHECKED.iter_errors(tomllib.loads(text))]


class Schema(Case):
    def test_it_is_a_schema_and_the_command_prints_it(self):
        Draft202012Validator.check_schema(json_schema())
        self.assertEqual(json.loads(run("schema").stdout), json_schema())

    def test_the_models_of_the_demo_are_valid(self):
        folder = Path(kd.demo_file("night_ferry.toml")).parent
        documents = [tomllib.loads(path.read_text()) for path in sorted(folder.glob("*.toml"))]
        models = [document for document in documents if "model" in document]
        self.assertGreater(len(models), 6)
        for document in models:
            self.assertEqual([e.message for e in CHECKED.iter_errors(document)], [])

    def test_bare_values_and_tables_of_drivers_are_known(self):
        head = '[model]\nname = "x"\n'
        bare = '[given]\nfare = 3\nrow = [1, 2]\n[drivers]\ntable = "items.csv"\n[lines]\nc = "a"'
        self.assertEqual(mistakes(head + bare), [])
        self.assertEqual(mistakes(head + '[given]\nfare = "3"'), ["$.given.fare"])
        self.assertEqual(mistakes(head + "[lines]\na = 3"), ["$.lines.a"])

    def test_an_unknown_key_and_a_missing_one_are_found(self):
        self.assertEqual(mistakes("[model]\nperiods = 3"), ["$.model"])
        head = '[model]\nname = "x"\n'
        self.assertEqual(mistakes(head + "[model_]\na = 3"), ["$"])
        self.assertEqual(
            mistakes(head + "[given.fare]\nvalue = 3\nunits = 'EUR'"), ["$.given.fare"]
        )

    def test_every_key_is_described(self):
        schema = json_schema()
        for name, table in {"": schema, **schema["$defs"]}.items():
            for key, about in table["properties"].items():
                self.assertTrue(about.get("description"), f"{name}.{key}")
