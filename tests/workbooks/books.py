"""Ten workbooks as practitioners write them, with what is drawn in them and what is asked: each
trial of each is compared with the workbook recalculated by a spreadsheet program.

``python -m tests.workbooks.books`` writes the recalculated values of some trials beside this file,
for tests on machines without such a program.
"""

import csv
import random
import sys
import tempfile
from pathlib import Path

import openpyxl
from openpyxl.workbook.defined_name import DefinedName

import kindynos as kd
from kindynos.workbooks.files import trial_workbook
from kindynos.workbooks.reader import read_contents
from kindynos.workbooks.recalculation import converted

STORED = Path(__file__).with_name("books_recalculated.csv")
TRIALS, SEED = 4, 7
LETTERS = [openpyxl.utils.get_column_letter(k) for k in range(1, 200)]


def across(row, entry, count, begin=3):
    """Cells of a row from column C on: in a formula {c} is the column, {p} the one before, and {k}
    counts from 1.
    """
    cells = {}
    for k in range(count):
        column, before = LETTERS[begin - 1 + k], LETTERS[begin - 2 + k]
        value = entry[k] if isinstance(entry, list) else entry.format(c=column, p=before, k=k + 1)
        cells[f"{column}{row}"] = int(value) if str(value).isdigit() else value
    return cells


def project():
    """A ferry by scenario: CHOOSE, INDEX and MATCH pick price and volume, then NPV and IRR."""
    cells = {"A1": "Scenario", "B1": 2, "A2": "Volume", "C2": 80, "D2": 100, "E2": 115}
    cells |= {"A3": "Price", "C3": 48, "D3": 52, "E3": 55, "C1": "low", "D1": "base", "E1": "high"}
    cells |= {"B2": "=CHOOSE($B$1,C2,D2,E2)*B6", "B3": "=INDEX(C3:E3,B1)", "A6": "Load", "B6": 1}
    cells |= {
        "B4": "=INDEX(C1:E1,MATCH(B3,C3:E3,0))",
        "A5": "Rate",
        "B5": 0.08,
        "B7": "=OFFSET(B3,0,B1)",
    }
    cells |= across(10, "{k}", 8) | {"B10": 0} | {"B11": -9000}
    cells |= across(11, "=$B$2*$B$3*(1+0.02*{c}$10)*0.45", 8)
    cells |= across(12, "=MAX({c}11-800,0)*0.21", 8) | {"B12": 0}
    cells |= {f"{c}13": f"={c}11-{c}12" for c in LETTERS[1:10]}
    cells |= {"B14": "=B13"} | across(14, "={p}14+{c}13", 8)
    cells |= {"B16": "=NPV(B5,C13:J13)+B13", "B17": "=IRR(B13:J13)"}
    cells |= {"B18": '=IFERROR(INDEX(B10:J10,MATCH(TRUE,INDEX(B14:J14>0,0),0)),"never")'}
    cells |= {"B19": '=IF(B4="low",0,IF(B7=B3,1,2))'}
    drivers = {"scenario": ("B1", kd.IntegerUniform(1, 3)), "load": ("B6", kd.Normal(1, 0.15))}
    return cells, drivers, ["B16", "B17", "B18", "B19"]


def debt():
    """A loan with a cash sweep, and its cover ratio."""
    cells = {"B1": 1000, "B2": 0.06, "B3": 0.5, "B4": 300}
    cells |= across(5, "=$B$4*(1+0.03)^{k}", 8)
    cells |= {"B9": "=B1"} | across(6, "={p}9*$B$2", 8) | across(7, "=MIN({p}9,$B$1/10)", 8)
    cells |= across(8, "=MIN({p}9-{c}7,MAX(0,({c}5-{c}6-{c}7)*$B$3))", 8)
    cells |= across(9, "={p}9-{c}7-{c}8", 8)
    cells |= across(10, '=IF({c}6+{c}7=0,"",{c}5/({c}6+{c}7))', 8)
    cells |= {"B12": "=MIN(C10:J10)", "B13": "=J9", "B14": '=COUNTIF(C10:J10,"<1.3")'}
    cells |= {"B15": "=SUMPRODUCT((C9:J9<=0.01)*1)", "B16": '=COUNTIF(C10:J10,"")'}
    drivers = {"cash": ("B4", kd.Normal(300, 80)), "rate": ("B2", kd.Uniform(0.03, 0.09))}
    return cells, drivers, ["B12", "B13", "B14", "B15", "B16"]


def loan():
    """A loan of 120 months whose rate steps up by a drawn amount."""
    cells = {"B1": 250000, "B2": 0.04, "B3": 120, "B4": "=PMT(B2/12,B3,-B1)"}
    cells |= {"A7": 0, "E7": "=B1", "F7": 46054}
    for row in range(8, 128):
        cells |= {f"A{row}": f"=A{row - 1}+1", f"B{row}": f"=IF(A{row}>60,$B$2+$B$5,$B$2)/12"}
        cells |= {f"C{row}": f"=IF(E{row - 1}<0.005,0,PMT(B{row},$B$3-A{row - 1},-E{row - 1}))"}
        cells |= {f"D{row}": f"=E{row - 1}*B{row}", f"E{row}": f"=E{row - 1}+D{row}-C{row}"}
        cells |= {f"F{row}": f"=EDATE($F$7,A{row})"}
    cells |= {
        "B5": 0.01,
        "H1": "=SUM(D8:D127)",
        "H2": "=E127",
        "H3": "=-CUMIPMT(B2/12,B3,B1,1,12,0)",
    }
    cells |= {"H4": "=SUMPRODUCT((YEAR(F8:F127)=2031)*D8:D127)", "H5": "=INDEX(C8:C127,61)-B4"}
    cells |= {"H6": "=-IPMT(B2/12,13,B3,B1)-PPMT(B2/12,13,B3,B1)", "H7": "=RATE(B3,-B4,B1)*12"}
    drivers = {"rate": ("B2", kd.Uniform(0.02, 0.07)), "step": ("B5", kd.Normal(0.01, 0.01))}
    return cells, drivers, ["H1", "H2", "H3", "H4", "H5", "H6", "H7"]


def depreciation():
    """Additions written off over a drawn life, by OFFSET over the years before."""
    cells = (
        {"B1": 4, "B2": 1}
        | across(4, "{k}", 12)
        | across(5, [90, 0, 60, 30, 0, 0, 120, 0, 0, 45, 0, 10], 12)
    )
    cells |= across(6, "=SUM(OFFSET({c}5,0,-MIN($B$1,{c}4)+1,1,MIN($B$1,{c}4)))/$B$1*$B$2", 12)
    cells |= across(7, "=SUM($C5:{c}5)*$B$2-SUM($C6:{c}6)", 12)
    cells |= {"B9": "=SUM(C6:N6)", "B10": "=N7", "B11": "=MAX(C6:N6)", "B12": "=OFFSET(C6,0,B1)"}
    cells |= {
        "B13": "=VDB(1000,100,B1,0,2)",
        "B14": "=SUM(C6:INDEX(C6:N6,B1))",
        "B15": "=SYD(1000,100,B1,1)",
    }
    drivers = {"life": ("B1", kd.IntegerUniform(3, 7)), "cost": ("B2", kd.Normal(1, 0.2))}
    return cells, drivers, ["B9", "B10", "B11", "B12", "B13", "B14", "B15"]


def months():
    """48 months by EOMONTH: a delay moves the sales, years add them up, XNPV values them."""
    cells = {"B1": 3, "B2": 46053, "B3": 0.09, "B4": 100}
    for row in range(10, 58):
        cells |= {f"A{row}": f"=EOMONTH($B$2,{row - 10})", f"B{row}": f"=YEAR(A{row})"}
        cells |= {f"C{row}": f"=$B$4*(1+{(row - 9) % 12}/50)", f"E{row}": f"=D{row}*0.4-20"}
        cells |= {f"D{row}": f"=IF(ROW()-10<$B$1,0,OFFSET(C{row},-$B$1,0))"}
    cells |= {
        "H1": "=SUM(D10:D57)",
        "H2": "=SUMIF(B10:B57,2027,D10:D57)",
        "H3": "=XNPV(B3,E10:E57,A10:A57)",
    }
    cells |= {
        "H4": '=SUMIFS(D10:D57,A10:A57,">="&DATE(2027,3,1),A10:A57,"<"&EDATE(DATE(2027,3,1),B1))'
    }
    cells |= {
        "H5": "=INDEX(A10:A57,MATCH(1,INDEX((D10:D57>0)*1,0),0))",
        "H6": '=COUNTIF(A10:A57,">=1/1/2029")',
    }
    cells |= {"H7": "=AVERAGE(OFFSET(D10,B1,0,12,1))", "H8": '=SUM(INDIRECT("D"&10+B1&":D57"))'}
    drivers = {"delay": ("B1", kd.IntegerUniform(0, 9)), "sales": ("B4", kd.Normal(100, 20))}
    return cells, drivers, [f"H{k}" for k in range(1, 9)]


def ledger(rows=400):
    """A ledger whose accounts are texts, with names typed in many ways."""
    source = random.Random(5)
    cells = {"B1": 1.1, "B2": "4010", "B3": 100}
    for row in range(10, 10 + rows):
        code = f"{source.choice((4010, 4020, 5100, 6200))}"
        word = source.choice(("Fuel north", "Fuel", "Crew", "crew A", ""))
        amount = round(source.gauss(100, 60), 2)
        cells |= {f"A{row}": code, f"B{row}": word or None, f"C{row}": f"={amount}*$B$1"}
        cells |= {
            f"D{row}": f'=IF(C{row}>$B$3,"over","")',
            f"E{row}": 46000 + source.randrange(900),
        }
    last = 9 + rows
    area = {c: f"{c}10:{c}{last}" for c in "ABCDE"}
    for k, text in enumerate(
        [
            'SUMIF({A},"4010",{C})', "SUMIF({A},B2,{C})", 'SUMIFS({C},{B},"fuel*",{A},"<>4010")',
            'COUNTIF({D},"")', 'COUNTIF({D},"over")', 'COUNTIF({B},"<>")', 'COUNTIF({C},">"&B3)',
            'AVERAGEIFS({C},{A},"5100",{E},">=1/1/2027")', 'MAXIFS({C},{D},"<>over")',
            'SUMPRODUCT(({A}="6200")*({D}="over")*{C})', "SUMPRODUCT(1/COUNTIF({A},{A}))",
            'SUM(COUNTIFS({A},{{"4010","6200"}},{D},"over"))', "SUBTOTAL(9,{C})",
            'COUNTIFS(B:B,"",A:A,"<>")', 'SUMIF({D},"",{C})',
        ],
        start=1,
    ):  # fmt: skip
        formula = text.format(**area)
        cells[f"H{k}"] = "=" + formula.replace("MAXIFS", "_xlfn.MAXIFS")
    drivers = {"index": ("B1", kd.Normal(1.1, 0.2)), "limit": ("B3", kd.Uniform(60, 140))}
    return cells, drivers, [f"H{k}" for k in range(1, 16)]


def named():
    """Defined names and arrays."""
    cells = {"B1": 2, "B2": 5} | across(4, "={k}*$B$1+MOD({k},3)", 6) | across(5, "={k}^2+$B$2", 6)
    texts = ["SUM(Xs*Ys)", "SUMPRODUCT((Xs>MEDIAN(Xs))*Ys)", "INDEX(LINEST(Ys,Xs),1,1)", "Rate*100"]
    texts += ["INDEX(MMULT(Xs,TRANSPOSE(Ys)),1,1)", "MAX(IF(Xs>6,Ys,0))", "SUM(LARGE(Ys,{1,2,3}))"]
    texts += [
        "TREND(Ys,Xs,10)",
        "SUM(Window)",
        "CORREL(Xs,Ys)",
        "PERCENTILE(Ys,0.3)",
        "GROWTH(Ys,Xs,7)",
    ]
    cells |= {f"K{k}": f"=SUMPRODUCT({text})" for k, text in enumerate(texts, start=1)}
    drivers = {"slope": ("B1", kd.Normal(2, 0.5)), "level": ("B2", kd.IntegerUniform(2, 6))}
    names = {"Xs": "Data!$C$4:$H$4", "Ys": "Data!$C$5:$H$5", "Rate": "Data!$B$1/Data!$B$2"}
    names |= {"Window": "OFFSET(Data!$C$5,0,0,1,Data!$B$2)"}
    return cells, drivers, [f"K{k}" for k in range(1, 13)], names


def texts():
    """Numbers in texts, and texts of numbers."""
    cells = {"B1": 1234.5, "B2": 2, "B3": "1,250.50", "B4": "12%", "B5": "(300)", "B6": "$40"}
    formulas = [
        "B3*B2+B4", "VALUE(B5)+B6*B2", 'VALUE(TEXT(B1,"0.0"))', 'LEN(TEXT(B1,"#,##0.00"))',
        'IF(LEFT(TEXT(B1,"0"),1)="1",1,0)', 'VALUE(TEXT(B1/1000,"0.0"))*1000', '("0"&B2)+B1',
        'FIND(",",TEXT(B1*10,"#,##0"))', 'VALUE(MID("a"&ROUND(B1,0),2,9))', 'IF(B2>2,"many",B2)',
        'VALUE(SUBSTITUTE(FIXED(B1,1),",",""))', 'IF(EXACT(TEXT(B2,"0"),"2"),B1,-B1)',
    ]  # fmt: skip
    cells |= {f"H{k}": "=" + text for k, text in enumerate(formulas, start=1)}
    drivers = {"amount": ("B1", kd.LogNormal(1500, 900)), "count": ("B2", kd.IntegerUniform(0, 4))}
    return cells, drivers, [f"H{k}" for k in range(1, 13)]


def tax():
    """A progressive tax by an approximate VLOOKUP, and other lookups in sorted tables."""
    cells = {"B1": 30000}
    for row, (low, rate, due) in enumerate(
        [(0, 0, 0), (11000, 0.2, 0), (40000, 0.4, 5800), (90000, 0.45, 25800)], start=4
    ):
        cells |= {f"D{row}": low, f"E{row}": rate, f"F{row}": due}
    table = "$D$4:$F$7"
    formulas = [
        f"VLOOKUP(B1,{table},3)+(B1-VLOOKUP(B1,{table},1))*VLOOKUP(B1,{table},2,TRUE)",
        "LOOKUP(B1,D4:D7,E4:E7)", "INDEX(E4:E7,MATCH(B1,D4:D7))", "H1/B1",
        "IFERROR(VLOOKUP(B1-20000,D5:F7,2),0)", "SUMPRODUCT((B1>D5:D7)*(B1-D5:D7)*(E5:E7-E4:E6))",
        "HLOOKUP(B1,{0,20000,50000;1,2,3},2)", 'IF(B1>90000,"top",MATCH(B1,D4:D7,1))',
    ]  # fmt: skip
    cells |= {f"H{k}": "=" + text for k, text in enumerate(formulas, start=1)}
    drivers = {"income": ("B1", kd.LogNormal(45000, 30000))}
    return cells, drivers, [f"H{k}" for k in range(1, 9)]


def copies(rows=200):
    """A sheet that repeats one trial down its rows with RAND."""
    cells = {"B1": 50, "B2": 8}
    for row in range(5, 5 + rows):
        cells |= {f"A{row}": "=NORMINV(RAND(),$B$1,$B$2)", f"B{row}": f"=IF(RAND()<0.1,0,A{row})"}
        cells |= {f"C{row}": f"=B{row}*RANDBETWEEN(1,3)"}
    area = f"C5:C{4 + rows}"
    texts = [f"AVERAGE({area})", f"PERCENTILE({area},0.1)", f"COUNTIF({area},0)", f"STDEV({area})"]
    cells |= {f"H{k}": "=" + text for k, text in enumerate(texts, start=1)}
    return cells, {"mean": ("B1", kd.Normal(50, 5))}, ["H1", "H2", "H3", "H4"]


BOOKS = (project, debt, loan, depreciation, months, ledger, named, texts, tax, copies)


def run_of(build, folder, trials=TRIALS):
    """A run of a book in a folder."""
    from tests.workbooks.common import write

    cells, drivers, outcomes, *names = build()
    path = write(Path(folder), cells, f"{build.__name__}.xlsx")
    if names:
        book = openpyxl.load_workbook(path)
        for name, text in names[0].items():
            book.defined_names[name] = DefinedName(name, attr_text=text)
        book.save(path)
    model = kd.read_workbook(path).model(
        outcomes={cell.lower(): f"Data!{cell}" for cell in outcomes},
        drivers={name: (f"Data!{cell}", drawn) for name, (cell, drawn) in drivers.items()},
    )
    return model.simulate(trials, seed=SEED)


def recalculated(build, run, folder, trials=TRIALS):
    """The values of outcomes in each trial as a spreadsheet program works them out."""
    paths = [Path(folder) / f"{build.__name__}_{number}.xlsx" for number in range(trials)]
    for number, path in enumerate(paths):
        trial_workbook(run, number, path)
    found = []
    for path in converted(paths, Path(folder) / "out"):
        values = read_contents(path).sheets["Data"].values
        found.append(
            {name: values.get((int(name[1:]), ord(name[0]) - 96)) for name in run.outcomes}
        )
    return found


def main():
    with STORED.open("w", newline="") as file, tempfile.TemporaryDirectory() as folder:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(["book", "trial", "outcome", "value"])
        for build in BOOKS:
            for number, values in enumerate(recalculated(build, run_of(build, folder), folder)):
                for name, value in values.items():
                    kept = value if isinstance(value, float) else f"{value}"
                    writer.writerow([build.__name__, number, name, kept])


if __name__ == "__main__":
    sys.exit(main())
