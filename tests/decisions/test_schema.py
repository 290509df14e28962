"""Tests of the JSON Schema of decision files, by a validator of the standard, beside what the
reader says.
"""

import json
import tomllib

from jsonschema import Draft202012Validator

import kindynos as kd
from kindynos.decisions.file import HEAD, PART
from kindynos.decisions.schema import DecisionHead, Part, json_schema
from kindynos.errors import KindynosError
from tests.common import DEMO, Folder, run

CHECKED = Draft202012Validator(json_schema())
WAYS = '[decision]\nname = "Berth"\n[decision.alternatives]\n'
CRITERIA = (
    '[decision]\nname = "x"\nscore = "money + noise"\ncriteria = { money = "EUR", noise = "EUR" }\n'
)
READ = (
    'buy = "2 * 3"\nwait = 0',
    'buy = { distribution = "normal", mean = 1, sd = 2 }\n'
    "wait = { percentiles = { 10 = 1, 90 = 5 } }",
    '[decision.alternatives.buy]\npay = -2\nevent = "e"\n'
    "[decision.alternatives.buy.outcomes.yes]\nchance = 0.4\npayoff = 3\n"
    '[decision.alternatives.buy.outcomes.no]\nchance = "rest"\npayoff = 1\n'
    "[decision.alternatives.wait]\npayoff = 0",
)
REFUSED = (
    '[decision.alternatives.buy]\nevnt = "e"\noutcomes = {}\n'
    "[decision.alternatives.wait]\npayoff = 0",
    "[decision.alternatives.buy]\npay = 3\npayof = 2\n[decision.alternatives.wait]\npayoff = 0",
    '[decision.alternatives.buy]\nevent = "e"\noutcomes = { yes = { chance = 1, payof = 3 } }\n'
    "[decision.alternatives.wait]\npayoff = 0",
)


class Schema(Folder):
    def read(self, text):
        path = self.folder / "d.toml"
        path.write_text(text)
        return kd.load_decision(path)

    def test_it_is_a_schema_and_the_command_prints_it(self):
        Draft202012Validator.check_schema(json_schema())
        self.assertEqual(json.loads(run("schema", "decision").stdout), json_schema())

    def test_the_keys_are_those_that_are_read(self):
        self.assertEqual(
            (set(DecisionHead.model_fields), set(Part.model_fields)), (set(HEAD), set(PART))
        )

    def test_what_is_read_is_valid_and_what_is_refused_is_not(self):
        demo = [path.read_text() for path in DEMO.glob("*.toml")]
        demo = [text for text in demo if "decision" in tomllib.loads(text)]
        self.assertEqual(len(demo), 2)
        several = (
            CRITERIA + "[decision.alternatives]\na = { money = 3, noise = -1 }\nb = { money = 1 }"
        )
        for text in (*demo, *(WAYS + ways for ways in READ), several):
            with self.subTest(text):
                self.read(text)
                self.assertEqual([e.message for e in CHECKED.iter_errors(tomllib.loads(text))], [])
        for text in (*(WAYS + ways for ways in REFUSED), '[decision]\nname = "x"'):
            with self.subTest(text):
                self.assertRaises(KindynosError, self.read, text)
                self.assertFalse(CHECKED.is_valid(tomllib.loads(text)))
