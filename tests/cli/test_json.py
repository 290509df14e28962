"""Tests of plain data: docs/reference/json.md describes every key of ``--json``, and all that it
describes is there.
"""

import json
import re
import tempfile
import unittest
from pathlib import Path

from tests.common import DEMO, proof, run

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "json.md"
FIGURE = {"value", "error", "low", "high"}
FEW = ("--trials", "200", "--seed", "1")
HELD = (DEMO / "treasury_prices.csv", "--holdings", DEMO / "treasury_holdings.csv")
FERRY, BEST = DEMO / "night_ferry.toml", DEMO / "best_fare.toml"
QUICK = {
    "run": [
        ("run", FERRY, *FEW),
        ("run", DEMO / "terminal.toml", "--chance", "cost > 1e7 and works > 2e7", *FEW),
        ("run", DEMO / "hydrofoil.toml", *FEW),
    ],
    "model": [("check", FERRY)],
    "summary": [("run", FERRY, "--trials", "1e5", "--seed", "1", "--store", "summary")],
    "comparison": [("compare", FERRY, *FEW)],
    "sweep": [("sweep", FERRY, "--over", "fare=50,60", *FEW)],
    "goal": [
        (
            "solve",
            FERRY,
            "fare",
            "--outcome",
            "net_value",
            "--mean",
            "0",
            "--within",
            "40",
            "80",
            *FEW,
        )
    ],
    "optimum": [
        (
            "optimize",
            BEST,
            "--vary",
            "fare=50,60",
            "--maximize",
            "mean net_value",
            "--subject-to",
            "sd net_value <= 1e9",
            *FEW,
        )
    ],
    "drivers": [("drivers", FERRY, *FEW)],
    "trial": [("trial", FERRY, "--number", "3", *FEW)],
    "decision": [("decide", DEMO / "lease_or_buy.toml", "--switch", "permit=0.05:0.95", *FEW)],
    "backtest": [("backtest", *HELD, "--method", "historical")],
    "fit": [("fit", DEMO / "repair_bills.csv")],
    "track-record": [("fit", DEMO / "past_estimates.csv", "--track-record")],
    "read": [("read", DEMO / "repair_bills.csv")],
}
SLOW = {
    "backtests": [("backtest", *HELD)],
    "risk": [("risk", *HELD, "--stress", "shipyard=-0.2", "--what-if", "shipyard=-100")],
    "allocation": [("allocate", DEMO / "treasury_prices.csv")],
    "paths": [
        ("paths", DEMO / "heating_oil.csv", "--periods", "20", "--above", "1", "--seed", "1")
    ],
    "series": [("fit", DEMO / "passengers.csv", "--series")],
}


RARE = "drivers not ranked"  # tests/reports/test_any_outcome.py has one


def described():
    """Return the keys of each kind that the page describes."""
    found = {}
    for section in PAGE.read_text(encoding="utf-8").split("\n## ")[1:]:
        kind = re.match(r"kindynos\.([\w-]+)/1,", section)[1]
        rows = [line.split("|")[1] for line in section.splitlines() if line.startswith("| `")]
        found[kind] = [key for row in rows for key in re.findall(r"`([^`]+)`", row)]
    found["backtests"] += found["backtest"]
    return found


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


class Documented(unittest.TestCase):
    def check(self, commands):
        for kind, lines in commands.items():
            seen = set()
            for line in lines:
                answer = run(*map(str, line), "--json")
                self.assertEqual(answer.returncode, 0, answer.stderr)
                data = json.loads(answer.stdout)
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
                "sweep", str(FERRY), "--over", "fare=50,60", *FEW, "--json", "--out", folder
            )
            written = Path(folder, "summary.json").read_text(encoding="utf-8")
            self.assertEqual(json.loads(shown.stdout), json.loads(written))
