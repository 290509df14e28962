"""Makes the workbooks of Larkholm Ferries (invented): the night ferry as a sheet, and an old sheet
of the purser that draws with RAND.

Run it: python docs/demo/make_workbooks.py. They are written with openpyxl and recalculated once by
LibreOffice, which must be installed, so that the stored values are those of another program.
"""

import subprocess
import tempfile
from pathlib import Path

import openpyxl
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

HERE = Path(__file__).resolve().parents[2] / "src/kindynos/demo"
YEARS, FIRST = 15, 2028
BOLD = Font(bold=True)
GIVEN = [
    ("fare", "Fare", 54, "EUR", "price list 2027"),
    ("seats", "Seats", 320, "seats", "yard specification"),
    ("crossings", "Crossings", 680, "a year", "timetable"),
    ("crew", "Crew", 3_050_000, "EUR a year", "collective agreement"),
    ("port_fees", "Port fees", 950_000, "EUR a year", "tariffs of both ports"),
    ("kwh", "Electricity per crossing", 11_500, "kWh", "yard specification"),
    ("wage_growth", "Wage growth", 0.025, "a year", "collective agreement"),
    ("hurdle", "Hurdle rate", 0.08, "a year", "board decision"),
    ("tax", "Tax", 0.21, None, "tax law"),
]
# name, label, mean, unit, source, distribution and its parameters
DRIVERS = [
    ("vessel", "Vessel", "=(17500000+4*19000000+26000000)/6", "EUR", "three yard quotes",
     "pert", {"low": 17.5e6, "mode": 19e6, "high": 26e6}),
    ("load", "Load factor", "=30/49", "share of seats", "day ferry, ten years",
     "beta", {"a": 30, "b": 19}),
    ("fare_growth", "Fare growth", 0.02, "a year", "fares since 2012",
     "normal", {"mean": 0.02, "sd": 0.006}),
    ("spend", "Spend on board", "=(4+7+12)/3", "EUR a passenger",
     "two opinions of the catering lead", "triangular", {"low": 4, "mode": 7, "high": 12}),
    ("resale_share", "Resale share", "=(0.05+0.15+0.3)/3", None, "broker's opinion",
     "triangular", {"low": 0.05, "mode": 0.15, "high": 0.30}),
]  # fmt: skip
LINES = [  # label, formula of a year; {c} is its column and {p} the one before
    ("Year", "={p}3+1"),
    ("Energy price, EUR/kWh", "0.15"),
    ("Passengers", "=Inputs!$B$5*Inputs!$B$6*Inputs!$B$16"),
    ("Ticket sales", "={c}5*Inputs!$B$4*(1+Inputs!$B$17)^({c}3-$B$3)"),
    ("Spend on board", "={c}5*Inputs!$B$18"),
    ("Energy", "=Inputs!$B$6*Inputs!$B$9*{c}4"),
    ("Crew", "=Inputs!$B$7*(1+Inputs!$B$10)^({c}3-$B$3)"),
    ("Operating result", "={c}6+{c}7-{c}8-{c}9-Inputs!$B$8"),
    ("Depreciation", "=SLN(Inputs!$B$15,0,15)"),
    ("Tax", "=MAX({c}10-{c}11,0)*Inputs!$B$12"),
    ("Resale", "=IF({c}3=MAX($B$3:$P$3),Inputs!$B$15*Inputs!$B$19,0)"),
    ("Cash flow", "={c}10-{c}12+{c}13"),
]
COPIES = 200  # rows in which the purser repeats one evening


def night_ferry() -> openpyxl.Workbook:
    """Return the night ferry: inputs, a plan over the years, a summary, and what is uncertain."""
    book = openpyxl.Workbook()
    inputs = book.active
    inputs.title = "Inputs"
    inputs["A1"] = "Larkholm Ferries: night ferry"
    inputs.append([])
    inputs.append(["Known", "Value", "Unit", "Source"])
    for _, label, value, unit, source in GIVEN:
        inputs.append([label, value, unit, source])
    inputs.append([])
    inputs.append(["Expected", "Value", "Unit", "Source"])
    for _, label, mean, unit, source, _, _ in DRIVERS:
        inputs.append([label, mean, unit, source])

    plan = book.create_sheet("Plan")
    plan["A1"] = "Plan, EUR"
    for place, (label, formula) in enumerate(LINES, start=3):
        plan.cell(place, 1, label)
        for year in range(YEARS):
            column, before = (get_column_letter(year + k) for k in (2, 1))
            text = str(FIRST) if place == 3 and not year else formula
            text = text.format(c=column, p=before)
            plan.cell(place, year + 2, text if text.startswith("=") else float(text))

    last = get_column_letter(YEARS + 1)
    summary = book.create_sheet("Summary")
    summary["A1"] = "Summary"
    summary["A3"], summary["B3"] = (
        "Net value, EUR",
        f"=NPV(Inputs!B11,Plan!B14:{last}14)-Inputs!B15",
    )
    summary["A4"] = "Rate of return"
    summary["A6"], summary["B6"] = "Flows", "=-Inputs!B15"
    for year in range(YEARS):
        summary.cell(6, year + 3, f"=Plan!{get_column_letter(year + 2)}14")
    summary["B4"] = f"=IRR(B6:{get_column_letter(YEARS + 2)}6)"
    _uncertain(book, f"Plan!B4:{last}4")
    for sheet in book.worksheets:
        sheet.column_dimensions["A"].width = 28
        sheet["A1"].font = BOLD
    return book


def _uncertain(book: openpyxl.Workbook, energy: str) -> None:
    sheet = book.create_sheet("uncertain")
    sheet.append(["What is uncertain, and what is the answer"])
    sheet.append([])
    sheet.append(["given"])
    sheet.append(["name", "cell", "unit", "source"])
    for row, (name, _, _, unit, source) in enumerate(GIVEN, start=4):
        sheet.append([name, f"Inputs!B{row}", unit, source])
    sheet.append([])
    sheet.append(["drivers"])
    parameters = ["low", "mode", "high", "a", "b", "mean", "sd"]
    sheet.append(["name", "cell", "distribution", "unit", "source", *parameters, "each"])
    rows = [
        (name, f"Inputs!B{row}", distribution, unit, source, stated, None)
        for row, (name, _, _, unit, source, distribution, stated) in enumerate(DRIVERS, start=15)
    ]
    stated = {"mean": 0.15, "sd": 0.035}
    rows.insert(3, ("energy", energy, "lognormal", "EUR/kWh", "supplier's range", stated, "period"))
    for name, cell, distribution, unit, source, stated, each in rows:
        figures = [stated.get(key) for key in parameters]
        sheet.append([name, cell, distribution, unit, source, *figures, each])
    sheet.append([])
    sheet.append(["outcomes"])
    sheet.append(["name", "cell", "unit", "target"])
    sheet.append(["net_value", "Summary!B3", "EUR", 0])
    sheet.append(["rate_of_return", "Summary!B4", "a year", 0.08])


def purser() -> openpyxl.Workbook:
    """Return the purser's sheet: one evening's kiosk in a row, copied down to see a spread."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "Evening"
    sheet["A1"] = "Kiosk on the evening boat: what do we take? (press F9)"
    known = [
        ("Guests on average", 210), ("their spread", 28), ("Lowest share that buys", 0.35),
        ("Highest share", 0.6), ("Price of a meal", 11.5), ("Cost of a meal", 4.2),
        ("Meals on board", 110),
    ]  # fmt: skip
    for row, (label, value) in enumerate(known, start=3):
        sheet.cell(row, 1, label)
        sheet.cell(row, 2, value)
    sheet["D3"], sheet["E3"], sheet["F3"] = "Chance up to", "Weather", "Guests in it"
    for row, (chance, weather, factor) in enumerate(
        [(0.0, "calm", 1.0), (0.6, "swell", 0.9), (0.9, "storm", 0.55)], start=4
    ):
        sheet.cell(row, 4, chance)
        sheet.cell(row, 5, weather)
        sheet.cell(row, 6, factor)
    sheet["D9"], sheet["E9"] = "Mean of the copies", f"=AVERAGE(G13:G{12 + COPIES})"
    sheet["D10"], sheet["E10"] = "Their P10", f"=PERCENTILE(G13:G{12 + COPIES},0.1)"
    heads = ["Evening", "Guests", "Weather factor", "Share that buys", "Meals", "Broken", "Result"]
    for column, head in enumerate(heads, start=1):
        sheet.cell(12, column, head).font = BOLD
    for row in range(13, 13 + COPIES):
        cells = [
            row - 12,
            "=NORM.INV(RAND(),$B$3,$B$4)".replace("NORM.INV", "NORMINV"),
            "=VLOOKUP(RAND(),$D$4:$F$6,3)",
            "=$B$5+($B$6-$B$5)*RAND()",
            f"=ROUND(MIN(B{row}*C{row}*D{row},$B$9),0)",
            "=RANDBETWEEN(0,4)",
            f"=E{row}*($B$7-$B$8)-F{row}*$B$8",
        ]
        for column, value in enumerate(cells, start=1):
            sheet.cell(row, column, value)
    sheet.column_dimensions["A"].width = 24
    sheet.column_dimensions["D"].width = 20
    return book


def recalculated(book: openpyxl.Workbook, target: Path) -> None:
    """Write a workbook with the values that LibreOffice works out."""
    with tempfile.TemporaryDirectory() as folder:
        first = Path(folder, target.name)
        book.save(first)
        command = ["soffice", "--headless", "--convert-to", "xlsx", "--outdir", f"{folder}/out"]
        subprocess.run([*command, str(first)], check=True, capture_output=True)
        target.write_bytes(Path(folder, "out", target.name).read_bytes())


if __name__ == "__main__":
    recalculated(night_ferry(), HERE / "night_ferry.xlsx")
    recalculated(purser(), HERE / "purser.xlsx")
