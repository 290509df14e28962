"""Tests of what a shell completes."""

import os
import tempfile
import unittest
from pathlib import Path

from click.shell_completion import ShellComplete

import kindynos as kd
from kindynos.cli import cli


def completions(*words: str) -> list[str]:
    *before, begun = words
    found = ShellComplete(cli, {}, "kindynos", "_KINDYNOS_COMPLETE")
    return [item.value for item in found.get_completions(before, begun)]


class Completion(unittest.TestCase):
    def test_commands_options_and_names(self):
        self.assertEqual(completions("sw"), ["sweep"])
        self.assertEqual(completions("run", "x.toml", "--sampling", "so"), ["sobol"])
        self.assertEqual(completions("risk", "x.csv", "--method", "his,f"), ["his,filtered"])
        self.assertIn("log-logistic", completions("distributions", "log"))

    def test_outcomes_of_the_model_file_of_the_line(self):
        file = str(kd.demo_file("night_ferry.toml"))
        self.assertEqual(completions("drivers", file, "--outcome", "r"), ["rate_of_return"])
        both = completions("trial", file, "--seed", "1", "--outcome", "")
        self.assertEqual(both, ["net_value", "rate_of_return"])

    def test_a_file_that_cannot_be_read_completes_nothing(self):
        with tempfile.TemporaryDirectory() as folder:
            spoiled = Path(folder, "x.toml")
            for content in (b"\xff[", b"[model", b"outcomes = 3", b"x = 1"):
                spoiled.write_bytes(content)
                self.assertEqual(completions("drivers", str(spoiled), "--outcome", "r"), [])
            missing = os.path.join(folder, "none.toml")
            self.assertEqual(completions("drivers", missing, "--outcome", "r"), [])
            self.assertEqual(completions("drivers", "--outcome", "r"), [])
