"""Tests of help."""

import contextlib
import re
import shlex
from typing import get_args
from unittest import mock

import click

from kindynos.cli import cli
from kindynos.cli.types import LISTED, Words
from kindynos.markets.methods import METHODS as RISK
from kindynos.processes.registry import PROCESSES
from kindynos.results.sensitivity.methods import METHODS as SENSITIVITIES
from kindynos.sampling.plans import PLANS
from tests.common import DEMO, Folder, proof, run

TREASURY = ("risk", "treasury_prices.csv", "--holdings", "treasury_holdings.csv")


def all_commands():
    context = click.Context(cli)
    return [cli.get_command(context, name) for name in cli.list_commands(context)]


class Help(Folder):
    @proof
    def test_help_lists_the_names_that_there_are(self):
        for source, literal in LISTED.items():
            names = [name.replace(" ", "-") for name in get_args(literal)]
            self.assertEqual(Words(source).choices, names)

    def test_examples_in_the_help_run(self):
        count = 0
        for command in all_commands():
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
                    or line.startswith("check results")
                    or "--write" in words
                    or "--forecasts" in words
                ):
                    continue  # needs files of an earlier command, or is slow and tested elsewhere
                words = [
                    str(DEMO / word)
                    if word.endswith((".toml", ".csv", ".xlsx")) and word != "best.csv"
                    else word
                    for word in words
                ]
                if "results" in words:  # drawing is tested elsewhere
                    drawn = ("--out", "results", "--keep", "cash_flow")
                    words = [word for word in words if word not in drawn]
                options = [option.opts[-1] for option in command.params]
                few = "100000" if "summary" in words else "400"  # a summary is of many trials
                fast = ["--trials", few] if "--trials" in options else []
                fast += ["--resampled", "20"] if "--resampled" in options else []
                fast += ["--evaluations", "30"] if "--evaluations" in options else []
                fast += ["--no-rolling"] if words[0] == "forecast" else []
                if words[0] == "risk" and "--methods" not in words:
                    fast += ["--methods", "normal"]  # all of them are tested elsewhere
                with self.subTest(line=line), contextlib.chdir(self.folder):
                    answer = run(*words, *fast)
                    self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                    count += 1
        self.assertGreater(count, 30)

    def test_a_command_that_there_is_not(self):
        for words, near in ((["rnu", "x.toml"], "Did you mean 'run'?"), (["qqq"], "'qqq'")):
            answer = run(*words)
            self.assertEqual((answer.returncode, answer.stdout), (2, ""))
            self.assertIn("No such command", answer.stderr)
            self.assertIn(near, answer.stderr)
        self.assertRegex(
            run("--nope").stderr, "No such option:? '?--nope"
        )  # click words it by version

    def test_every_option_is_explained(self):
        for command in all_commands():
            for option in command.params:
                if isinstance(option, click.Option):
                    self.assertTrue(option.help, f"{command.name} {option.opts}")
            self.assertTrue(command.help)


class Registries(Folder):
    """A new entry of a registry is a choice of the command line, without a second list."""

    def test_a_new_plan_method_process_and_sensitivity(self):
        for registry, label, words in (
            (PLANS, "random", ("run", "berths.toml", "--trials", "300", "--sampling")),
            (RISK, "normal", (*TREASURY, "--methods")),
            (
                PROCESSES,
                "random walk",
                ("paths", "heating_oil.csv", "--trials", "300", "--process"),
            ),
            (SENSITIVITIES, "swing", ("drivers", "berths.toml", "--trials", "300", "--method")),
        ):
            found = [str(DEMO / w) if w.endswith((".toml", ".csv")) else w for w in words]
            with (
                self.subTest(registry=registry.sort),
                mock.patch.dict(registry._entries, {"mine": registry[label]}),
            ):
                self.assertIn("mine", run(words[0], "--help").stdout)
                answer = (
                    run(*found, "mine", "--seed", "1")
                    if words[0] != "risk"
                    else run(*found, "mine")
                )
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
            self.assertNotIn("mine", run(words[0], "--help").stdout)
