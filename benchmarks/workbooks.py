"""Workbooks against a spreadsheet program: whether generated formulas have the same values there,
whether a trial written back is worked out to our values, and how much faster a run is than setting
cells and recalculating.

Without LibreOffice (Debian: libreoffice-calc, python3-uno) the rows say so.
"""

import csv
import math
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import openpyxl
from openpyxl.utils import get_column_letter

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
from tests.workbooks.books import BOOKS, run_of
from tests.workbooks.books import recalculated as in_program
from tests.workbooks.common import data
from tests.workbooks.test_formulas import DIFFERENT, STORED

import kindynos as kd
from benchmarks.timing import SHORT, repeats
from kindynos.workbooks.agreement import recalculated as recalculated_here

BOOK_TRIALS = repeats(200, short=2)
GENERATED, FORMULAS = repeats(300, short=5), 60
YEARS, BLOCKS, DRIVERS, TRIALS = 60, 20, 80, 10_000
RECALCULATIONS = 5 if SHORT else 100
NUMBER = re.compile(r'"[^"]*"|(?<![\w."$!])(\d+\.?\d*)(?![\w.(:"!])')
LATER = re.compile("XLOOKUP|XMATCH|IFNA")  # which the version of the program does not know
REASONS = {  # where values differ
    "PERCENTRANK": "the level is cut, not rounded",
    "RANK(": "a number that is not there has no rank",
    "ADDRESS": "there are four kinds of addresses",
    "MATCH": "a place in values that are not sorted is not defined",
    "VLOOKUP": "a place in values that are not sorted is not defined",
    "COMBINA": "fewer kinds than things are allowed",
    "MODE": "of several the first one is taken",
    "ATAN2": "there is no negative 0",
    "COLUMNS": "no row has the number 0",
}
# recalculates with other values in the drivers' cells, as a macro would
RECALCULATE = """
import random, subprocess, sys, time, uno
path, cells, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
address = "socket,host=localhost,port=2002;urp;"
office = subprocess.Popen(["soffice", "--headless", "--norestore", "--accept=" + address])
local = uno.getComponentContext()
resolver = local.ServiceManager.createInstanceWithContext(
    "com.sun.star.bridge.UnoUrlResolver", local)
for _ in range(100):
    try:
        context = resolver.resolve("uno:" + address + "StarOffice.ComponentContext")
        break
    except Exception:
        time.sleep(0.3)
desktop = context.ServiceManager.createInstanceWithContext("com.sun.star.frame.Desktop", context)
book = desktop.loadComponentFromURL("file://" + path, "_blank", 0, ())
sheet = book.Sheets.getByName("Inputs")
book.calculateAll()
begun = time.perf_counter()
for _ in range(count):
    for row in range(cells):
        sheet.getCellByPosition(1, row + 1).Value = 1 + random.random()
    book.calculate()
print((time.perf_counter() - begun) / count)
try:
    desktop.terminate()
except Exception:
    pass
"""


def recalculated(folder: Path, paths: list[Path]) -> Path:
    """Return the folder of workbooks as LibreOffice works them out."""
    out = folder / "out"
    command = ["soffice", "--headless", "--convert-to", "xlsx", "--outdir", str(out)]
    for begin in range(0, len(paths), 50):
        part = map(str, paths[begin : begin + 50])
        subprocess.run([*command, *part], check=True, capture_output=True)
    return out


def perturbed(formula: str, source: random.Random) -> str:
    """Return a formula with some of its numbers changed."""

    def other(match: re.Match[str]) -> str:
        if match[1] is None or source.random() < 0.6:
            return match[0]
        if "." in match[1]:
            return f"{float(match[1]) * source.uniform(0.7, 1.3):.4g}"
        return str(max(int(match[1]) + source.randint(-1, 2), 0))

    return NUMBER.sub(other, formula)


def generated(folder: Path) -> list[tuple[Path, list[str]]]:
    """Return workbooks of random formulas: those that tests know, with other numbers."""
    with STORED.open(newline="") as file:
        known = [row["formula"] for row in csv.DictReader(file)]
    known = [text for text in known if text not in DIFFERENT and not LATER.search(text)]
    found = []
    for number in range(GENERATED):
        source = random.Random(number)
        formulas = [perturbed(text, source) for text in source.sample(known, FORMULAS)]
        book = openpyxl.Workbook()
        sheet = book.active
        sheet.title = "Data"
        for address, value in data().items():
            moved = isinstance(value, float) and source.random() < 0.5
            sheet[address] = round(value * source.uniform(0.8, 1.2), 4) if moved else value
        for row, text in enumerate(formulas, start=20):
            sheet.cell(row, 1, text)
        path = folder / f"book{number}.xlsx"
        book.save(path)
        found.append((path, formulas))
    return found


def agreement(folder: Path) -> tuple[str, str, float, str]:
    """Return the share of generated formulas with another value, naming the first of them."""
    books = generated(folder)
    out = recalculated(folder, [path for path, _ in books])
    count, other, reasons = 0, [], Counter()
    for path, formulas in books:
        found = kd.read_workbook(out / path.name)
        count += found.agreement.formulas
        for cell, row in found.recalculate().iterrows():
            formula = formulas[int(str(cell).rpartition("A")[2]) - 20]
            reason = next((why for name, why in REASONS.items() if f"{name}" in formula), None)
            if reason is None:
                values = f"{row['value']!r} for {row['stored']!r}"
                other.append(f"{formula}: {values} {row['problem']}")
            else:
                reasons[reason] += 1
    told = "; ".join(f"{count} {why}" for why, count in reasons.items())
    label = f"formulas of {len(books)} workbooks with another value / {count}"
    return label, "; ".join([*other, told]), len(other) / count, "0"


def plan(path: Path) -> int:
    """Write a workbook of 5,043 formulas over 60 years with 80 inputs; return its last row."""
    book = openpyxl.Workbook()
    inputs = book.active
    inputs.title = "Inputs"
    for row in range(2, DRIVERS + 2):
        inputs.cell(row, 1, f"driver {row - 1}")
        inputs.cell(row, 2, 1.0 + row / 100)
    inputs["D2"] = 0.08
    sheet = book.create_sheet("Plan")
    total = 2 + 4 * BLOCKS
    for year in range(YEARS):
        c, p = get_column_letter(year + 2), get_column_letter(year + 1)
        sheet.cell(1, year + 2, year + 1)
        for block in range(BLOCKS):
            r, d = 2 + 4 * block, 2 + 4 * block
            lines = [
                f"=Inputs!$B${d}*(1+Inputs!$B${d + 1}/100)^{c}$1",
                f"=IF({c}{r}>Inputs!$B${d + 2},{c}{r}*0.9,{c}{r}*1.1)",
                f"=MAX({c}{r}-{c}{r + 1},0)+MIN({c}{r},2)*Inputs!$B${d + 3}",
                f"=ROUND({p}{r + 3}*0.5+{c}{r + 2},2)" if year else f"={c}{r + 2}",
            ]
            for k, text in enumerate(lines):
                sheet.cell(r + k, year + 2, text)
        lines = [
            f"=SUM({c}2:{c}{total - 1})",
            f"={c}{total}/(1+Inputs!$D$2)^{c}$1",
            f"={p}{total + 2}+{c}{total + 1}" if year else f"={c}{total + 1}",
            f"=IF({c}{total + 2}>50,1,0)",
        ]
        for k, text in enumerate(lines):
            sheet.cell(total + k, year + 2, text)
    last = get_column_letter(YEARS + 1)
    sheet.cell(total + 5, 2, f"=SUM(B{total + 1}:{last}{total + 1})")
    sheet.cell(total + 6, 2, f"=NPV(Inputs!D2,B{total}:{last}{total})")
    sheet.cell(total + 7, 2, f"=SUM(B{total + 3}:{last}{total + 3})")
    book.save(path)
    return total


def model_of(path: Path, total: int) -> kd.Model:
    """Return the model of the plan with all 80 inputs drawn."""
    outcomes = {f"out{k}": f"Plan!B{total + 4 + k}" for k in (1, 2, 3)}
    drivers = {
        f"d{row}": (f"Inputs!B{row}", kd.Normal(1 + row / 100, 0.1))
        for row in range(2, DRIVERS + 2)
    }
    return kd.read_workbook(path).model(outcomes=outcomes, drivers=drivers)


def speed(folder: Path) -> list[tuple[str, str, float, str]]:
    """Return the seconds of a run, and of recalculating as often in the program."""
    path = folder / "plan.xlsx"
    total = plan(path)
    model = model_of(path, total)
    model.simulate(TRIALS, seed=1, workers=1)
    times = []
    for _ in range(1 if SHORT else 5):
        begun = time.process_time()
        model.simulate(TRIALS, seed=1, workers=1)
        times.append(time.process_time() - begun)
    ours = sorted(times)[len(times) // 2]
    rows = [("CPU seconds of 10,000 trials of 5,043 formulas, 80 drivers", "", ours, "at most 0.6")]
    theirs = program_seconds(folder, path, DRIVERS)
    if theirs is None:
        return [*rows, ("recalculating in a spreadsheet program", "needs python3-uno", 0.0, "")]
    detail = f"{ours:.2f} s / {theirs * TRIALS:,.0f} s ({RECALCULATIONS} measured)"
    times_faster = theirs * TRIALS / ours
    return [*rows, ("recalculating 10,000 times / a run", detail, times_faster, "at least 500")]


def sums(folder: Path) -> tuple[str, str, float, str]:
    """Return the time of working out conditional sums and counts over that of the program."""
    path = folder / "sums.xlsx"
    book = openpyxl.Workbook()
    inputs = book.active
    inputs.title = "Inputs"
    source = random.Random(1)
    inputs["B2"] = 1.0
    data = book.create_sheet("Data")
    for _ in range(4000):
        data.append([f"R{source.randrange(80)}", source.randint(1, 12), source.gauss(100, 20)])
    out = book.create_sheet("Out")
    for row in range(1, 81):
        columns = "Data!$C$1:$C$4000,Data!$A$1:$A$4000"
        out.cell(row, 1, f"R{row - 1}")
        out.cell(row, 2, f'=SUMIFS({columns},A{row},Data!$B$1:$B$4000,">=3")*Inputs!$B$2')
    out["C1"] = "=SUMPRODUCT(1/COUNTIF(Data!A1:A600,Data!A1:A600))*Inputs!B2"
    book.save(path)
    graph = kd.read_workbook(path).graph
    times = []
    for _ in range(5):
        begun = time.perf_counter()
        recalculated_here(graph, graph.formulas)
        times.append(time.perf_counter() - begun)
    theirs = program_seconds(folder, path, 1)
    told = "needs python3-uno" if theirs is None else f"{min(times):.3f} / {theirs:.3f} s"
    ratio = min(times) / theirs if theirs else 0.0
    return ("80 SUMIFS over 4,000 rows, 600 COUNTIF / the program", told, ratio, "at most 1")


def program_seconds(folder: Path, path: Path, cells: int) -> float | None:
    """Return the seconds of a recalculation in the spreadsheet program; None without it."""
    script = folder / "recalculate.py"
    script.write_text(RECALCULATE)
    words = ["/usr/bin/python3", str(script), str(path), str(cells), str(RECALCULATIONS)]
    answer = subprocess.run(words, capture_output=True, text=True, check=False)
    if answer.returncode or not answer.stdout.strip():
        return None
    return float(answer.stdout.split()[-1])


def written_back(folder: Path) -> tuple[str, str, float, str]:
    """Return how far a spreadsheet program's values of trials are from ours, relative."""
    rows = []
    for name, outcome in (("night_ferry", None), ("purser", "Evening!G13")):
        from kindynos.workbooks.files import model_of as model_from

        path = kd.demo_file(f"{name}.xlsx")
        run = model_from(kd.read_workbook(path), [outcome] if outcome else []).simulate(500, seed=1)
        for number in (0, 7, 499):
            target = folder / f"{name}{number}.xlsx"
            run.workbook(number, target)
            rows.append((target, run, number))
    out = recalculated(folder, [target for target, _, _ in rows])
    farthest = 0.0
    for target, run, number in rows:
        calculation = next(iter(run.program.lines.values())).calculation
        again = kd.read_workbook(out / target.name)
        for name in run.program.outcomes:
            stored = float(again.value(calculation.place_of(name)))
            ours = float(run[name].values[number])
            farthest = max(farthest, abs(stored / ours - 1))
    return "farthest value of 6 trials written back, relative", "", farthest, "at most 1e-9"


def books_in_trials(folder: Path) -> tuple[str, str, float, str]:
    """Return how many values of ten workbooks differ in trials, to 12 digits."""
    compared, other, reasons = 0, [], Counter()
    for build in BOOKS:
        run = run_of(build, folder, BOOK_TRIALS)
        for number, row in enumerate(in_program(build, run, folder, BOOK_TRIALS)):
            for name, theirs in row.items():
                ours = float(run[name].values[number])
                compared += 1
                same = (
                    math.isclose(ours, theirs, rel_tol=1e-12, abs_tol=1e-9)
                    if isinstance(theirs, float)
                    else math.isnan(ours)
                )
                if same:
                    continue
                if (build.__name__, name) == ("loan", "h7"):
                    reasons["the program ends its search for a RATE earlier"] += 1
                else:
                    other.append(f"{build.__name__} {name} trial {number}: {ours!r}, {theirs!r}")
    told = "; ".join([*other[:5], *(f"{count} {why}" for why, count in reasons.items())])
    return f"values of ten workbooks in trials that differ / {compared}", told, len(other), "0"


def measure() -> list[tuple[str, str, float, str]]:
    if shutil.which("soffice") is None:
        return [("workbooks against a spreadsheet program", "LibreOffice is not there", 0.0, "")]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        rows = [agreement(folder), books_in_trials(folder), written_back(folder)]
        return [*rows, *speed(folder), sums(folder)]
