"""Tests of help."""

import re
import shlex

import click

from kindynos.cli import cli
from tests.common import DEMO, Folder, run


class Help(Folder):
    def test_examples_in_the_help_of_every_command_run(self):
        count = 0
        for command in cli.commands.values():
            text = command.get_help(
                click.Context(command, info_name=command.name, max_content_width=200)
            )
            for line in re.findall(r"^\s+kindynos (\w.*)$", re.sub(r"\\\n\s+", "", text), re.M):
                words = shlex.split(line)
                if (
                    "parquet" in line
                    or "--series" in line
                    or "regime" in line
                    or words[0] == "demo"
                ):
                    continue  # needs files of an earlier command, or is slow and tested elsewhere
                words = [
                    str(DEMO / word)
                    if word.endswith((".toml", ".csv")) and word != "best.csv"
                    else word
                    for word in words
                ]
                if "results" in words:  # drawing is tested elsewhere
                    words = [
                        word
                        for word in words
                        if word not in ("--out", "results", "--keep", "cash_flow")
                    ]
                words = [
                    str(self.folder / word) if word.endswith(".png") else word for word in words
                ]
                options = [option.opts[-1] for option in command.params]
                fast = ["--trials", "400"] if "--trials" in options else []
                fast += ["--resampled", "20"] if "--resampled" in options else []
                fast += ["--evaluations", "30"] if "--evaluations" in options else []
                words = [str(self.folder / word) if word == "best.csv" else word for word in words]
                with self.subTest(line=line):
                    answer = run(*words, *fast)
                    self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                    count += 1
        self.assertGreater(count, 20)

    def test_every_option_is_explained(self):
        for command in cli.commands.values():
            for option in command.params:
                if isinstance(option, click.Option):
                    self.assertTrue(option.help, f"{command.name} {option.opts}")
            self.assertTrue(command.help)
