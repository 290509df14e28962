"""Tests of the JSON Schema of decision files, by a validator of the standard, beside what the
reader says.
"""

import json
import tomllib

from jsonschema import Draft202012Validator

import kindynos as kd
from kindynos.decisions.schema import json_schema
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

    def test_all_mistakes_of_a_file_are_reported_at_once(self):
        text = (
            '[decision]\nname = "Berth"\nbeter = "low"\n[decision.given]\n'
            'cost = { distribution = "pret", low = 1, mode = 2, high = 3 }\n'
            '[decision.alternatives.buy]\nevent = "e"\n'
            "[decision.alternatives.buy.outcomes.yes]\npayof = 3\nchance = 0.4\n"
            "[decision.alternatives.buy.outcomes.no]\npayoff = 3\n"
            "[decision.alternatives.wait]\npay = 3\n"
        )
        with self.assertRaises(kd.FileError) as raised:
            self.read(text)
        lines = str(raised.exception).splitlines()
        self.assertEqual(len(raised.exception.mistakes), 6)
        self.assertTrue(lines[0].endswith("d.toml: 6 mistakes"))
        ends = ("'better'?", "'pert'?", "'payoff'?", "and test", "its chance", "and test")
        for line, end in zip(lines[1:], ends, strict=True):
            self.assertTrue(line.endswith(end), line)

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
