"""Tests of options that had another name: they do the same, with a word of advice."""

import shlex

from tests.common import DEMO, Case, run

SAME = (  # the words of a command, before and now, and what is said of the former
    ("sweep F.toml --over fare=50,60", "sweep F.toml --vary fare=50,60", "--over is now --vary"),
    (
        "decide D.toml --switch=permit=0.05:0.95 N",
        "decide D.toml --vary=permit=0.05:0.95 N",
        "--switch is now --vary",
    ),
    (
        "decide D.toml --by percentile --level 0.1 N",
        "decide D.toml --percentile 10 N",
        "write --percentile 10",
    ),
    (
        "solve F.toml fare --outcome net_value --chance 0.9 --above 0 --within 40 80 N",
        "solve F.toml fare --chance 'net_value > 0' --equals 90% --within 40:80 N",
        "write --within 40:80",
    ),
    (
        "solve F.toml fare --outcome net_value --chance 0.1 --below 0 --within 40:80 N",
        "solve F.toml fare --chance 'net_value < 0' --equals 0.1 --within 40:80 N",
        "write --chance 'net_value < 0' --equals 0.1",
    ),
    (
        "allocate P.csv --bounds 0.01:0.35 --limit sd=0.006 --resampled 0",
        "allocate P.csv --within 0.01:0.35 --subject-to 'sd <= 0.6%' --resampled 0",
        "--limit is now --subject-to",
    ),
    (
        "allocate P.csv --minimize sd --limit mean=0.0002 --resampled 0",
        "allocate P.csv --minimize sd --subject-to 'mean >= 0.0002' --resampled 0",
        "--limit is now --subject-to",
    ),
    (
        "paths O.csv --periods 20 --instrument heating_oil N",
        "paths O.csv --ahead 20 --column heating_oil N",
        "--instrument is now --column",
    ),
    (
        "drivers T.toml --to contingency --by lines N",
        "drivers T.toml --contributions-to contingency --contributions-of lines N",
        "--by is now --contributions-of",
    ),
    (
        "fit B.csv --missing none --brief",
        "fit B.csv --missing-word none --brief",
        "--missing is now --missing-word",
    ),
)
FILES = {
    "F.toml": "night_ferry.toml",
    "D.toml": "lease_or_buy.toml",
    "T.toml": "terminal.toml",
    "P.csv": "treasury_prices.csv",
    "O.csv": "heating_oil.csv",
    "B.csv": "repair_bills.csv",
}


def words_of(line):
    """Return the words of a command with the files of the demo; N stands for few trials."""
    for word in shlex.split(line):
        if word == "N":
            yield from ("--trials", "200", "--seed", "1")
        else:
            yield str(DEMO / FILES[word]) if word in FILES else word


class Renamed(Case):
    def test_a_percentile_of_a_decision_lies_between_its_ends(self):
        for percentile in ("0", "100", "200", "-5"):
            answer = run(*words_of(f"decide D.toml --percentile {percentile}"))
            self.assertEqual(answer.returncode, 2)
            self.assertIn("it lies between 0 and 100", answer.stderr)

    def test_a_chance_of_a_rate_is_told_in_per_cent(self):
        line = "solve F.toml fare --chance 'rate_of_return > 8%' --equals 0.9 --within 40:80 N"
        self.assertIn(
            "the chance of rate_of_return above 8 % is 90.0 %", run(*words_of(line)).stdout
        )

    def test_old_names_do_the_same_and_say_the_new_one(self):
        for before, now, advice in SAME:
            with self.subTest(now):
                answer, other = run(*words_of(now)), run(*words_of(before))
                self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                self.assertEqual((other.returncode, other.stdout), (0, answer.stdout))
                self.assertIn(advice, other.stderr)

    def test_help_has_the_new_names_only(self):
        for before, now, _ in SAME:
            command, *words = now.split()
            text = run(command, "--help").stdout
            for option in {word.partition("=")[0] for word in words if word.startswith("--")}:
                self.assertIn(option, text)
            for option in ("--over", "--switch", "--bounds", "--limit", "--instrument"):
                if option in before:
                    self.assertNotRegex(text, rf"{option}\b")

    def test_goals_that_are_half_stated(self):
        begun = tuple(words_of("solve F.toml fare --within 40:80 N"))
        for options, words in (
            ((), "say what is to be reached: --chance 'net_value > 0' --equals 0.9"),
            (("--chance", "net_value > 0"), "--chance needs --equals"),
            (("--chance", "net_value > 0", "--equals", "90"), "such as 0.9 or 90%"),
            (("--chance", "90%"), "--chance takes a condition"),
            (("--chance", "net_value > 0", "--equals", "0.9", "--above", "5"), "leave --above out"),
            (
                ("--outcome", "net_value", "--chance", "0.9", "--above", "0", "--equals", "3"),
                "--equals goes with --percentile",
            ),
            (("--outcome", "net_value", "--mean", "0", "--above", "3"), "go with --chance"),
            (("--chance", "0.9", "--above", "0", "--below", "1"), "--chance takes a condition"),
            (("--mean", "0"), "say --outcome"),
            (("--chance", "net_value > x", "--equals", "0.9"), "say 'NAME > FIGURE'"),
            (("--chance", "net_valu > 0", "--equals", "0.9"), "did you mean 'net_value'"),
            (
                ("--outcome", "rate_of_return", "--chance", "net_value > 0", "--equals", "0.9"),
                "leave one out",
            ),
        ):
            with self.subTest(options):
                answer = run(*begun, *options)
                self.assertEqual(answer.returncode, 2)
                self.assertIn(words, answer.stderr)
