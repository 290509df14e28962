"""Every command on demo data, and what it gives in each medium as one text.

``python -m tests.cli.commands [KIND ...]`` records the texts in ``tests/cli/recorded``, which the
tests compare with what the commands give now.
"""

import re
import sys
import tempfile
from contextlib import chdir
from functools import cache
from html.parser import HTMLParser
from pathlib import Path

import openpyxl

from tests.common import DEMO, run, unrendered

RECORDED = Path(__file__).parent / "recorded"
FEW = ("--trials", "200", "--seed", "1")
HELD = ("treasury_prices.csv", "--holdings", "treasury_holdings.csv")
BOOK = ("treasury_prices.csv", "--holdings", "treasury_positions.csv")
FERRY, BEST = "night_ferry.toml", "best_fare.toml"
BREAK_EVEN = ("--outcome", "net_value", "--mean", "0", "--within", "40:80")
GOAL = ("--vary", "fare=50,60", "--maximize", "mean net_value")
LONGEST = 15  # rows of a CSV file or a sheet that are recorded
WIDEST = 300  # characters of a line
MOST = 300  # lines of a medium
QUICK = {
    "run": [
        ("run", FERRY, *FEW),
        ("run", "terminal.toml", "--chance", "cost > 1e7 and works > 2e7", *FEW),
        ("run", "hydrofoil.toml", *FEW),
        ("run", "vessel_claims.toml", "--trials", "1000", "--seed", "1"),
        ("run", "second_ferry.toml", "--choose-for", "value", *FEW),
    ],
    "model": [("check", FERRY), ("check", "night_ferry.xlsx", "--brief")],
    "workbook": [("check", "purser.xlsx")],
    "summary": [("run", FERRY, "--trials", "1e5", "--seed", "1", "--store", "summary")],
    "comparison": [("compare", FERRY, "--study-cost", "load=1e5", *FEW)],
    "bridge": [("bridge", "night_ferry_last_year.toml", FERRY, *FEW)],
    "changes": [("bridge", "night_ferry_last_year.toml", FERRY, "--changes")],
    "sweep": [("sweep", FERRY, "--vary", "fare=50,60", *FEW)],
    "goal": [("solve", FERRY, "fare", *BREAK_EVEN, *FEW)],
    "optimum": [("optimize", BEST, *GOAL, "--subject-to", "sd net_value <= 1e9", *FEW)],
    "drivers": [("drivers", FERRY, *FEW)],
    "robustness": [("robustness", FERRY, "--outcome", "net_value", "--goal", "0.5", *FEW)],
    "trial": [("trial", FERRY, "--number", "3", *FEW)],
    "decision": [
        (
            "decide",
            "lease_or_buy.toml",
            "--vary",
            "permit=0.05:0.95",
            "--study-cost",
            "demand=2e5",
            *FEW,
        )
    ],
    "frontier": [("optimize", BEST, *GOAL, "--frontier", "sd net_value", *FEW)],
    "policy": [("decide", "second_ferry.toml", *FEW)],
    "backtest": [("backtest", *HELD, "--method", "historical")],
    "fit": [("fit", "repair_bills.csv")],
    "joint-fit": [("fit", "fuel_hedging.csv", "--jointly", "growth,max_drawdown")],
    "counts": [("fit", "claims_by_year.csv", "--column", "claims", "--exposure", "vessels")],
    "forecast": [
        (
            *("forecast", "passengers.csv", "--process", "smoothing: level x season"),
            *("--above", "30000", "--seed", "1"),
        )
    ],
    "track-record": [("fit", "past_estimates.csv", "--track-record")],
    "read": [("read", "repair_bills.csv")],
}
SLOW = {
    "backtests": [("backtest", *HELD)],
    "risk": [
        ("risk", *HELD, "--stress", "shipyard=-0.2", "--what-if", "shipyard=-100"),
        ("risk", *BOOK, "--methods", "historical", "--level", "0.95"),
    ],
    "validation": [("validate", *HELD, "--stress", "shipyard=-0.2")],
    "allocation": [("allocate", "treasury_prices.csv")],
    "paths": [("paths", "heating_oil.csv", "--ahead", "20", "--above", "1", "--seed", "1")],
    "series": [("fit", "passengers.csv", "--series")],
}
VARYING = (
    (r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d)?", "TIME"),
    (r"(?i)\b(kindynos|python|numpy|scipy|pandas)([\"':, ]+)\d+\.\d+[\w.+]*", r"\1\2VERSION"),
    (r"\d+ [A-Z][a-z]+ \d{4}, \d\d:\d\d UTC", "TIME"),
    (r"\b(?=[0-9]*[a-f])[0-9a-f]{8,64}\b", "DIGEST"),
    (r"\b(x86_64|AMD64|aarch64|arm64), \w+", "PROCESSOR"),
)
LONG = re.compile(r"-?\d+\.\d+(?:e[-+]?\d+)?|-?\d+e-\d+")


class Texts(HTMLParser):
    """The texts of a page that a reader may see, one line each."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.lines: list[str] = []
        self.inside = ""
        self.feed(page)

    def handle_starttag(self, tag, attrs):
        self.inside = tag

    def handle_endtag(self, tag):
        self.inside = ""

    def handle_data(self, data):
        if data.strip() and self.inside not in ("script", "style"):
            self.lines.append(" ".join(data.split()))


def cells_of(path: Path) -> list[str]:
    """Return the cells of a workbook, a line per row that has any."""
    lines = []
    for sheet in openpyxl.load_workbook(path).worksheets:
        lines.append(f"[{sheet.title}]")
        rows = [[cell for cell in row if cell is not None] for row in sheet.values]
        lines += [" | ".join(map(str, row)) for row in rows if row][:LONGEST]
    return lines


@cache
def outputs(line: tuple) -> dict[str, str]:
    """Return what a command gives in the folder of the demo, run once: its text, the plain data of
    its summary, its files, page and workbook. (A name with its folder would make tables wider in a
    longer folder.)
    """
    with tempfile.TemporaryDirectory() as name, chdir(DEMO), unrendered():
        folder = Path(name) / "out"
        page, book = Path(name) / "page.html", Path(name) / "book.xlsx"
        shown = run(*line, "--out", folder, "--report", page, "--excel", book, columns=120)
        if shown.returncode:
            raise AssertionError(f"{line}: {shown.stderr}")
        data = (folder / "summary.json").read_text(encoding="utf-8")
        texts = {"text": shown.stdout.partition("\n\nWritten: ")[0], "json": data}
        texts["pictures"] = "\n".join(sorted(path.name for path in folder.glob("*.png")))
        for path in sorted(folder.glob("*.csv")):
            rows = path.read_text(encoding="utf-8").splitlines()
            texts[path.name] = "\n".join([*rows[:LONGEST], f"{len(rows)} lines"])
        texts["page"] = "\n".join(Texts(page.read_text(encoding="utf-8")).lines)
        texts["workbook"] = "\n".join(cells_of(book))
    return {medium: text.replace(name, "FOLDER") for medium, text in texts.items()}


def _short(number: re.Match[str]) -> str:
    """Return a number with six digits, where it has eight or more or is as good as nothing."""
    value, digits = float(number[0]), sum(letter.isdigit() for letter in number[0])
    if 0 < abs(value) < 1e-9:
        return "0"
    return f"{value:.6g}" if digits >= 8 else number[0]


def _fixed(text: str) -> str:
    """Return a text without what differs from one machine and moment to the next."""
    for pattern, word in VARYING:
        text = re.sub(pattern, word, text)
    lines = [LONG.sub(_short, line.rstrip())[:WIDEST] for line in text.splitlines()]
    rest = [f"and {len(lines) - MOST} lines more"] if len(lines) > MOST else []
    return "\n".join(lines[:MOST] + rest)


def recorded_text(kind: str) -> str:
    """Return all that the commands of a kind give, as it is recorded."""
    parts = []
    for line in {**QUICK, **SLOW}[kind]:
        parts.append(f"$ kindynos {' '.join(line)}")
        parts += [f"--- {medium}\n{_fixed(text)}" for medium, text in outputs(line).items()]
    return "\n".join(parts) + "\n"


def main() -> None:
    """Record the outputs of the kinds that are named, or of all."""
    RECORDED.mkdir(exist_ok=True)
    for kind in sys.argv[1:] or [*QUICK, *SLOW]:
        (RECORDED / f"{kind}.txt").write_text(recorded_text(kind), encoding="utf-8")
        print(kind)


if __name__ == "__main__":
    main()
