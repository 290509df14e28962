"""Tests of what leaves the command line: hostile text, closed and narrow outputs, spreadsheets."""

import csv
import json
import os
import subprocess
import sys
import unittest
import warnings

import pandas as pd

import kindynos as kd
from kindynos.reports.files import write_table
from tests.common import DEMO, Folder, run

HOSTILE = "[/red]$\\bad{ =1+1 \u00b1"
MODEL = """
[model]
name = 'x [/x]'
[drivers.a]
distribution = "normal"
mean = 1
sd = 2
unit = '[bold]$x$\\frac'
source = "=HYPERLINK(1)"
[scenarios.'[/red] =2']
"a.mean" = 3
[outcomes.y]
formula = "a"
unit = '$\\bad{'
target = 0
"""


class HostileText(Folder):
    def setUp(self):
        super().setUp()
        self.model = self.folder / "m.toml"
        self.model.write_text(MODEL)

    def test_brackets_dollars_and_equals_signs_are_text_everywhere(self):
        for words in (
            ("run",), ("check",), ("drivers",), ("compare",), ("trial", "--number", "3"),
            ("sweep", "--vary", "a.mean=1,2"),
        ):  # fmt: skip
            few = () if words[0] == "check" else ("--trials", "60", "--seed", "1")
            out = () if words[0] == "check" else ("--out", str(self.folder / words[0]))
            with self.subTest(words), warnings.catch_warnings(action="error"):
                answer = run(words[0], str(self.model), *words[1:], *few, *out)
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
        self.assertIn("$\\bad{", run("run", str(self.model), "--trials", "60").stdout)

    def test_control_characters_are_refused_or_shown_as_escapes(self):
        for bad in ("\x1b[31m", "\u202e", "\x9b", "\x07"):
            for make in (
                lambda bad: kd.Decision(bad, {"a": 1.0, "b": 2.0}),
                lambda bad: kd.Decision("d", {bad: 1.0, "b": 2.0}),
                lambda bad: kd.Event("e", {bad: (0.5, 1.0), "b": (0.5, 2.0)}),
                lambda bad: kd.Cohort([bad, "b"], {bad: 1}, {bad: {"b": 0.1}}),
                lambda bad: kd.Model(bad).given(x=1),
            ):
                with self.assertRaises(kd.KindynosError):
                    make(bad)
            path = self.folder / "t.csv"
            path.write_text(f"a{bad},b\n1,2\n3,4\n")
            answer = run("read", str(path))
            self.assertEqual(answer.returncode, 2)
            path.write_text(f"date,instrument,price\n2027-01-01,{bad},1\n2027-01-02,{bad},2\n")
            answer = run("paths", str(path), "--trials", "50", "--ahead", "3")
            self.assertTrue((answer.stdout + answer.stderr).replace("\n", "").isprintable())

    def test_data_escape_what_does_not_print(self):
        frame = pd.DataFrame({"a\u202e\x1b": [1.0, 2.0]})
        text = json.dumps("a\u202e\x1b")
        from kindynos.reports.summary import as_json

        found = as_json(dict.fromkeys(frame, 1))
        self.assertTrue(found.replace("\n", "").isprintable())
        self.assertEqual(list(json.loads(found)), [json.loads(text)])

    def test_spreadsheets_take_texts_for_texts(self):
        path = self.folder / "t.csv"
        for text in ("=1+1", "+1+1", "-1+1", "@sum", "\t=1"):
            for frame in (
                pd.DataFrame({"x": [text]}),
                pd.DataFrame({text: [1.0]}),
                pd.DataFrame({"x": [1.0]}, index=[text]),
                pd.DataFrame({"x": [1.0]}, index=pd.MultiIndex.from_tuples([(text, "b")])),
                pd.DataFrame({"x": [1.0]}, index=pd.Index(["a"], name=text)),
            ):
                write_table(frame, path)
                with path.open(newline="") as file:
                    cells = [cell for row in csv.reader(file) for cell in row]
                self.assertIn(f"'{text}", cells)
                self.assertNotIn(text, cells)
        write_table(pd.DataFrame({"x": ["\r=1"]}), path)
        self.assertEqual(path.read_text(), ",x\n0,\\r=1\n")
        write_table(pd.DataFrame({"x": ["-12.5"], "y": [-3.0]}), path)
        self.assertEqual(path.read_text().splitlines()[1], "0,-12.5,-3.0")


@unittest.skipIf(sys.platform == "win32", "the shell's way to close a file")
class Outputs(Folder):
    COMMANDS = (
        ["run", str(DEMO / "berths.toml"), "--trials", "300"],
        ["run", str(DEMO / "berths.toml"), "--trials", "x"],
    )

    def started(self, command, end="", **environment):
        line = [sys.executable, "-m", "kindynos", *command]
        return subprocess.run(
            ["sh", "-c", f'exec "$@" {end}', "sh", *line],
            capture_output=True,
            env={**os.environ, **environment},
            check=False,
        )

    def test_closed_outputs_are_no_failure(self):
        for command in self.COMMANDS:
            expected = 2 if command[-1] == "x" else 0
            for end in ("2>&-", ">&- 2>&- <&-"):
                answer = self.started(command, end)
                with self.subTest(command=command, end=end):
                    self.assertEqual((answer.returncode, answer.stderr), (expected, b""))

    def test_an_encoding_without_our_signs(self):
        for command in self.COMMANDS[:1]:
            answer = self.started(command, PYTHONIOENCODING="ascii")
            self.assertEqual((answer.returncode, answer.stderr), (0, b""))
            self.assertIn(b"+/-", answer.stdout)
            self.assertNotIn(b"?", answer.stdout)
