"""Tests of all that commands give: as it was recorded in every medium, and docs/reference/json.md
describes every key of ``--json``, and all that it describes is there.
"""

import json
import re
import tempfile
import unittest
from pathlib import Path

from tests.cli.commands import FERRY, FEW, QUICK, RECORDED, SLOW, outputs, recorded_text
from tests.common import DEMO, proof, run
from tests.pages import same

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "json.md"
FIGURE = {"value", "error", "low", "high"}

# tests/reports/test_any_outcome.py and tests/results/test_held_conditions.py have them
RARE = ("drivers not ranked", "checks")


def described():
    """Return the keys of each kind that the page describes."""
    of_all, *sections = PAGE.read_text(encoding="utf-8").split("\n## ")
    found = {}
    for section in sections:
        kind = re.match(r"kindynos\.([\w-]+)/1,", section)[1]
        found[kind] = [*keys_in(section), *keys_in(of_all)]
    found["backtests"] += found["backtest"]
    return found


def keys_in(section):
    """Return the keys in the tables of a section of the page."""
    rows = [line.split("|")[1] for line in section.splitlines() if line.startswith("| `")]
    return [key for row in rows for key in re.findall(r"`([^`]+)`", row)]


def keys_of(data, before=""):
    """Yield the key of each plain value, figure and empty container of plain data."""
    if isinstance(data, dict) and data and not (before and set(data) >= FIGURE):
        for key, part in data.items():
            yield from keys_of(part, f"{before}.{key}" if before else key)
    elif isinstance(data, list) and data:
        for part in data:
            yield from keys_of(part, f"{before}[]")
    else:
        yield before + ("[]" if data == [] else "")


def matches(pattern, key):
    """Whether a key is the one described; an empty list stands for all that its rows might have."""
    parts = re.split(r"<[^>]+>", pattern)
    return bool(re.fullmatch(".+".join(map(re.escape, parts)), key)) or (
        key.endswith("[]") and pattern.startswith(key)
    )


class Recorded(unittest.TestCase):
    def check(self, kinds):
        for kind in kinds:
            before = (RECORDED / f"{kind}.txt").read_text(encoding="utf-8").splitlines()
            now = recorded_text(kind).splitlines()
            for number, (old, new) in enumerate(zip(before, now, strict=False), start=1):
                if not same(old, new):
                    self.fail(f"{kind}.txt, line {number}:\n{old}\n{new}")
            self.assertEqual(len(before), len(now), kind)

    def test_every_command_gives_in_every_medium_what_was_recorded(self):
        self.check(QUICK)

    @proof
    def test_the_same_of_slow_commands(self):
        self.check(SLOW)


class Documented(unittest.TestCase):
    def check(self, commands):
        for kind, lines in commands.items():
            seen = set()
            for line in lines:
                data = json.loads(outputs(line)["json"])
                self.assertEqual(next(iter(data)), "schema")
                self.assertEqual(data.pop("schema"), f"kindynos.{kind}/1")
                seen |= set(keys_of(data))
            known = [key for key in described()[kind] if not key.startswith(RARE)]
            for key in seen:
                with self.subTest("described", kind=kind, key=key):
                    self.assertTrue(any(matches(pattern, key) for pattern in known))
            for pattern in known:
                with self.subTest("there", kind=kind, pattern=pattern):
                    self.assertTrue(any(matches(pattern, key) for key in seen))

    def test_every_key_is_described_and_each_described_is_there(self):
        self.check(QUICK)

    @proof
    def test_the_same_of_slow_commands(self):
        self.check(SLOW)

    def test_all_kinds_are_described(self):
        self.assertEqual(set(described()), {*QUICK, *SLOW})

    def test_files_say_the_same_as_the_output(self):
        with tempfile.TemporaryDirectory() as folder:
            shown = run(
                "sweep", str(DEMO / FERRY), "--vary", "fare=50,60", *FEW, "--json", "--out", folder
            )
            written = Path(folder, "summary.json").read_text(encoding="utf-8")
            self.assertEqual(json.loads(shown.stdout), json.loads(written))
