"""What commands print, in narrow and wide terminals and through pipes."""

import io
import os
from unittest import mock

from tests.common import DEMO, FERRY, Folder, run

TREASURY = (str(DEMO / "treasury_prices.csv"), "--holdings", str(DEMO / "treasury_holdings.csv"))
COMMANDS = (
    ("check", FERRY),
    ("run", FERRY, "--trials", "400", "--seed", "1"),
    ("run", str(DEMO / "dry_dock.toml"), "--trials", "400", "--seed", "1"),
    ("trial", FERRY, "--number", "3", "--trials", "400", "--seed", "1"),
    (
        "sweep",
        FERRY,
        "--over",
        "fare=50,54,58",
        "--over",
        "hurdle=0.05,0.08",
        "--trials",
        "400",
        "--statistic",
        "mean",
    ),
    ("compare", FERRY, "--trials", "400", "--seed", "1"),
    ("drivers", FERRY, "--method", "conditional", "--trials", "400", "--seed", "1"),
    ("risk", *TREASURY, "--methods", "historical,cornish-fisher"),
    ("backtest", *TREASURY),
    ("distributions", "pert"),
)


class Widths(Folder):
    def test_as_wide_as_columns_says_and_no_blanks_at_the_ends(self):
        for words in COMMANDS:
            for width in (80, 140):
                with (
                    self.subTest(command=words[0], width=width),
                    mock.patch.dict(os.environ, COLUMNS=str(width)),
                ):
                    answer = run(*words)
                    self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                    lines = answer.stdout.splitlines()
                    self.assertLessEqual(max(map(len, lines)), width)
                    self.assertFalse([line for line in lines if line != line.rstrip()])
                    self.assertNotIn("\n\n\n", answer.stdout)

    def test_no_figure_is_broken(self):
        def figures(width):
            with mock.patch.dict(os.environ, COLUMNS=width):
                return {word for word in run(*COMMANDS[1]).stdout.split() if word[-1].isdigit()}

        self.assertEqual(figures("80"), figures("140"))

    def test_help_lists_each_command_once_and_whole(self):
        text = run("--help").stdout
        for command in ("check", "backtest", "distributions"):
            self.assertEqual(text.count(f"\n  {command} "), 1)
        self.assertNotIn("...", text.partition("To begin")[2])


class TableSpec(Folder):
    def test_a_model_from_standard_input(self):
        with open(FERRY, encoding="utf-8") as file:
            text = file.read()
        from_file = run(*COMMANDS[1]).stdout
        with mock.patch("sys.stdin", io.StringIO(text)):
            self.assertEqual(run("run", "-", *COMMANDS[1][2:]).stdout, from_file)
        with mock.patch("sys.stdin", io.StringIO("[model")):
            answer = run("check", "-")
        self.assertEqual(answer.returncode, 2)
        self.assertIn("standard input: is not TOML", answer.stderr)

    def test_figures_of_comparisons(self):
        asked = (
            "--percentiles",
            "10,90",
            "--statistic",
            "central_range 0.5",
            "--chance",
            "net_value > 1e6",
        )
        text = run("compare", FERRY, "--trials", "400", "--seed", "1", *asked).stdout
        for words in ("P10 ", "P90 ", "central range 0.5, low", "chance above 1000000"):
            self.assertIn(words, text)
        self.assertNotIn("P50", text)

    def test_the_same_names_everywhere(self):
        few = ("--trials", "400", "--seed", "1")
        one, two = (
            run("risk", *TREASURY, "--level", "0.99", option, "cornish fisher").stdout
            for option in ("--method", "--methods")
        )
        self.assertEqual(one, two)
        one, two = (
            run("drivers", FERRY, "--method", "tail", "--worst", worst, *few).stdout
            for worst in ("40", "0.1")
        )
        self.assertEqual(one, two)
        one, two = (run("trial", FERRY, "--worst", worst, *few).stdout for worst in ("2", "0.005"))
        self.assertEqual(one, two)
        for command in ("run", "compare", "trial", "drivers"):
            answer = run(
                command,
                FERRY,
                "--sampling",
                "latn",
                *(("--number", "1") if command == "trial" else ()),
            )
            self.assertEqual(answer.returncode, 2)
            self.assertIn("did you mean 'latin'", answer.stderr)
            self.assertEqual(answer.stderr.count("\n"), 1)

    def test_scenarios_stand_in_the_order_of_the_file(self):
        place = self.folder / "m.toml"
        names = ("zinc", "apple", "mango")
        scenarios = "".join(f"[scenarios.{name}]\nfare = {i + 1}\n" for i, name in enumerate(names))
        place.write_text(
            '[model]\nname = "x"\n[given]\nfare = 2\n[outcomes]\ny = "fare * 2"\n' + scenarios
        )
        text = run("compare", str(place), "--trials", "20", "--seed", "1").stdout
        self.assertRegex(text, "as stated +zinc +apple +mango")


class Brackets(Folder):
    def test_names_and_units_with_brackets_are_text(self):
        file = self.folder / "brackets.toml"
        file.write_text(
            '[model]\nname = "A [b]old= model"\n'
            '[given]\nprice = { value = 3.0, unit = "EUR [x]" }\n'
            '[drivers.cost]\ndistribution = "normal"\nmean = 2\nsd = 1\nsource = "[red]me=you"\n'
            '[outcomes.profit]\nformula = "price - cost"\nunit = "EUR [/x]"\ntarget = 0\n'
            "[scenarios.dear]\nprice = 4.0\n"
        )
        few = ("--trials", "400", "--seed", "1")
        for words in (
            ("check",),
            ("run", *few),
            ("trial", "--number", "3", *few),
            ("compare", *few),
        ):
            with self.subTest(words=words):
                answer = run(words[0], str(file), *words[1:])
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                if words[0] != "compare":
                    self.assertIn("EUR [/x]", answer.stdout)
