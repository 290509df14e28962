"""Reading workbooks: what a file may hold beside plain cells, and files that are none."""

import io
import unittest
import zipfile
from pathlib import Path

import numpy as np

import kindynos as kd
from kindynos.workbooks.files import model_of, with_draws
from kindynos.workbooks.graph import Graph
from kindynos.workbooks.reader import read_contents
from tests.common import Folder
from tests.workbooks.common import calculation, write

HEAD = '<?xml version="1.0" encoding="UTF-8"?>'
MAIN = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'
LINKS = 'xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"'
KIND = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"


FARES = {"A1": "Fare", "B1": 42, "A2": "Sold", "B2": 1000, "A3": "Sales", "B3": "=B1*B2"}
SALES = {
    "A1": "Fare",
    "B1": 42,
    "A2": "Sold",
    "B2": "=NORMINV(RAND(),B3*10,20)",
    "A3": "Base",
    "B3": 100,
    "A4": "Luck",
    "B4": "=RAND()*2+RANDBETWEEN(1,3)",
    "A5": "Sales",
    "B5": "=B1*B2+B4",
}


def packed(
    rows: str, extra: dict[str, str] | None = None, book: str = "", kinds: str = ""
) -> bytes:
    """Return a workbook of one sheet, "S", from the text of its rows."""
    parts = {
        "_rels/.rels": f'{HEAD}<Relationships><Relationship Id="a" Type="{KIND}/officeDocument" '
        'Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'{HEAD}<workbook {MAIN} {LINKS}>{book}<sheets><sheet name="S" '
        'sheetId="1" r:id="b"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'{HEAD}<Relationships><Relationship Id="b" '
        f'Type="{KIND}/worksheet" Target="worksheets/sheet1.xml"/>{kinds}</Relationships>',
        "xl/worksheets/sheet1.xml": f"{HEAD}<worksheet {MAIN}><sheetData>{rows}</sheetData>"
        "</worksheet>",
        **(extra or {}),
    }
    found = io.BytesIO()
    with zipfile.ZipFile(found, "w", zipfile.ZIP_DEFLATED) as file:
        for name, text in parts.items():
            file.writestr(name, text)
    return found.getvalue()


def row(number: int, *cells: str) -> str:
    return f'<row r="{number}">{"".join(cells)}</row>'


class Reading(Folder):
    def book(self, rows: str, **more) -> Path:
        path = self.folder / "book.xlsx"
        path.write_bytes(packed(rows, **more))
        return path

    def values(self, path: Path, *cells: str) -> list[float]:
        whole = calculation(path, {}, {cell.lower(): f"S!{cell}" for cell in cells})
        found = whole.evaluate([cell.lower() for cell in cells], {}, 1)
        return [float(found[cell.lower()]) for cell in cells]

    def test_shared_formulas_belong_to_their_cells(self):
        path = self.book(
            row(1, '<c r="A1"><v>2</v></c>',
                '<c r="B1"><f t="shared" ref="B1:B3" si="0">A1*10</f><v>20</v></c>')
            + row(2, '<c r="A2"><v>3</v></c>', '<c r="B2"><f t="shared" si="0"/><v>30</v></c>')
            + row(3, '<c r="A3"><v>4</v></c>', '<c r="B3"><f t="shared" si="0"/><v>41</v></c>')
        )  # fmt: skip
        self.assertEqual(self.values(path, "B1", "B2", "B3"), [20, 30, 40])
        book = kd.read_workbook(path)
        self.assertEqual(list(book.recalculate().index), ["S!B3"])
        self.assertIn("2 of 3 formulas agree", book.agreement.words)

    def test_array_formulas_fill_their_area(self):
        path = self.book(
            row(1, '<c r="A1"><v>2</v></c>',
                '<c r="B1"><f t="array" ref="B1:B2">A1:A2*10</f><v>20</v></c>')
            + row(2, '<c r="A2"><v>3</v></c>', '<c r="B2"><v>30</v></c>')
            + row(3, '<c r="C3"><f>B1+B2</f><v>50</v></c>')
        )  # fmt: skip
        self.assertEqual(self.values(path, "B1", "B2", "C3"), [20, 30, 50])
        moved = calculation(path, {"x": "S!A2"}, {"sum": "S!C3"})
        found = moved.evaluate(["sum"], {"x": np.array([1.0, 5.0])}, 2)["sum"]
        np.testing.assert_array_equal(found, [30, 70])

    def test_tables_of_repeated_recalculation_are_left_out(self):
        path = self.book(
            row(1, '<c r="A1"><v>2</v></c>', '<c r="B1"><f>A1*2</f><v>4</v></c>')
            + row(2, '<c r="A2"><v>3</v></c>',
                  '<c r="B2"><f t="dataTable" ref="B2:B3" dt2D="0" r1="A1"/><v>6</v></c>')
            + row(3, '<c r="A3"><v>4</v></c>', '<c r="B3"><v>8</v></c>')
        )  # fmt: skip
        book = kd.read_workbook(path)
        self.assertEqual(
            book.notes,
            ["the table of repeated recalculation S!B2:B3 is left out: a run takes its place"],
        )
        self.assertEqual(book.formula_count, 1)

    def test_texts_are_texts(self):
        path = self.book(
            row(1, '<c r="A1" t="str"><v>=1+1</v></c>', '<c r="B1" t="inlineStr"><is><r><t>a</t>'
                '</r><r><t>b</t></r></is></c>', '<c r="C1" t="s"><v>0</v></c>',
                '<c r="D1" t="b"><v>1</v></c>', '<c r="E1" t="e"><v>#N/A</v></c>'),
            extra={"xl/sharedStrings.xml": f"{HEAD}<sst {MAIN}><si><t>x_x0041_</t></si></sst>"},
            kinds=f'<Relationship Id="c" Type="{KIND}/sharedStrings" Target="sharedStrings.xml"/>',
        )  # fmt: skip
        values = read_contents(path).sheets["S"].values
        self.assertEqual([values[1, k] for k in (1, 2, 3, 4)], ["=1+1", "ab", "xA", True])
        self.assertEqual(repr(values[1, 5]), "#N/A")

    def test_dates_of_1904(self):
        rows = row(
            1, '<c r="A1"><v>0</v></c>', '<c r="B1"><f>YEAR(A1)</f></c>',
            '<c r="C1"><f>DATE(2027,3,15)</f></c>', '<c r="D1"><f>EDATE(A1,12)</f></c>',
        )  # fmt: skip
        path = self.book(rows, book='<workbookPr date1904="1"/>')
        self.assertEqual(self.values(path, "B1", "C1", "D1"), [1904, 46_461 - 1_462, 366])
        path = self.book(rows)
        self.assertEqual(self.values(path, "C1"), [46_461])

    def test_tables_and_their_columns(self):
        table = (
            f'{HEAD}<table {MAIN} displayName="Sales" ref="A1:B4" totalsRowCount="1"><tableColumns>'
            '<tableColumn name="Month"/><tableColumn name="Net sales"/></tableColumns></table>'
        )
        links = (
            f'{HEAD}<Relationships><Relationship Id="t" Type="{KIND}/table" '
            'Target="../tables/table1.xml"/></Relationships>'
        )
        path = self.book(
            row(1, '<c r="A1" t="str"><v>Month</v></c>', '<c r="B1" t="str"><v>Net sales</v></c>')
            + row(2, '<c r="A2"><v>1</v></c>', '<c r="B2"><v>10</v></c>',
                  '<c r="D2"><f>Sales[[#This Row],[Net sales]]*2</f></c>')
            + row(3, '<c r="A3"><v>2</v></c>', '<c r="B3"><v>20</v></c>',
                  '<c r="D3"><f>SUM(Sales[Net sales])</f></c>')
            + row(4, '<c r="B4"><f>SUBTOTAL(109,Sales[Net sales])</f></c>',
                  '<c r="D4"><f>SUM(Sales[[#Totals],[Net sales]])+COUNTA(Sales[#Headers])</f></c>',
                  '<c r="E4"><f>SUM(Sales[[Month]:[Net sales]])</f></c>'),
            extra={"xl/tables/table1.xml": table,
                   "xl/worksheets/_rels/sheet1.xml.rels": links},
        )  # fmt: skip
        self.assertEqual(self.values(path, "D2", "D3", "B4", "D4", "E4"), [20, 30, 30, 32, 33])

    def test_other_workbooks_and_the_day_keep_their_stored_values(self):
        path = self.book(
            row(1, '<c r="A1"><f>[1]Other!B2*2</f><v>84</v></c>',
                '<c r="B1"><f>TODAY()</f><v>46000</v></c>',
                '<c r="C1"><f>A1+B1</f><v>46084</v></c>'),
            book="",
        )  # fmt: skip
        book = kd.read_workbook(path)
        self.assertEqual(self.values(path, "C1"), [46_084])
        self.assertEqual(
            book.notes,
            [
                "1 cell that refers to another workbook keeps the stored value",
                "1 cell with the day of today keeps the stored value",
            ],
        )

    def test_a_workbook_that_was_never_calculated(self):
        book = kd.read_workbook(write(self.folder, {"A1": 1, "B1": "=A1+1"}))
        self.assertIn("none of its 1 formulas has a stored value", book.agreement.words)

    def test_names_of_a_sheet_come_before_those_of_the_workbook(self):
        names = (
            '<definedNames><definedName name="rate">S!$A$1</definedName>'
            '<definedName name="rate" localSheetId="0">S!$A$2</definedName>'
            '<definedName name="twice">2*S!$A$1</definedName></definedNames>'
        )
        path = self.book(
            row(1, '<c r="A1"><v>5</v></c>', '<c r="B1"><f>rate+1</f></c>')
            + row(2, '<c r="A2"><v>7</v></c>', '<c r="B2"><f>twice+1</f></c>'),
            book=names,
        )  # fmt: skip
        self.assertEqual(self.values(path, "B1", "B2"), [8, 11])

    def test_a_million_empty_rows(self):
        rows = "".join(f'<row r="{k}"><c r="A{k}" s="1"/></row>' for k in range(1, 60_001))
        path = self.book(rows + row(60_001, '<c r="A60001"><v>3</v></c>'))
        self.assertEqual(len(Graph.of(read_contents(path)).cells), 2)


class NoWorkbooks(Folder):
    def refused(self, name: str, data: bytes, *words: str) -> None:
        path = self.folder / name
        path.write_bytes(data)
        with self.subTest(name), self.fails(name, *words, kind=kd.FileError):
            kd.read_workbook(path)

    def test_each_is_told(self):
        good = packed(row(1, '<c r="A1"><v>1</v></c>'))
        self.refused("old.xls", b"x", ".xls workbooks are not read; save it as an .xlsx workbook")
        self.refused("open.ods", b"x", ".ods workbooks are not read")
        self.refused("book.csv", b"x", "its name must end in .xlsx or .xlsm")
        self.refused("locked.xlsx", b"\xd0\xcf\x11\xe0" + b"\0" * 50, "protected by a password")
        self.refused("cut.xlsx", good[: len(good) // 2], "is damaged")
        self.refused("text.xlsx", b"no zip at all", "is damaged")
        self.refused("other.xlsx", _zip({"a.txt": "x"}), "is not a workbook: it holds no sheets")
        self.refused("broken.xlsx", packed("<row"), "is damaged: a part of it cannot be read")
        doctype = f'<!DOCTYPE x [<!ENTITY a "b">]><worksheet {MAIN}><sheetData/></worksheet>'
        self.refused(
            "entity.xlsx",
            packed("", extra={"xl/worksheets/sheet1.xml": doctype}),
            "has a part that is not read",
        )
        with self.fails("missing.xlsx"):
            kd.read_workbook(self.folder / "missing.xlsx")

    def test_what_unpacks_to_far_more_than_it_is(self):
        blank = " " * (60 * 2**20)
        self.refused(
            "bomb.xlsx", packed(blank), "unpacks to more than 33 MB from", "which no table does"
        )

    def test_macros_are_not_run(self):
        path = self.folder / "macros.xlsm"
        path.write_bytes(packed(row(1, '<c r="A1"><v>1</v></c>'), extra={"xl/vbaProject.bin": "x"}))
        self.assertEqual(kd.read_workbook(path).notes, ["its macros are not run"])


def _zip(parts: dict[str, str]) -> bytes:
    found = io.BytesIO()
    with zipfile.ZipFile(found, "w") as file:
        for name, text in parts.items():
            file.writestr(name, text)
    return found.getvalue()


class UncertainSheet(Folder):
    def model(self, *lines: list, **more) -> kd.Model:
        cells = dict(FARES)
        for number, line in enumerate(lines, start=1):
            cells |= {f"Uncertain!{'ABCDEFG'[k]}{number}": v for k, v in enumerate(line)}
        return model_of(kd.read_workbook(write(self.folder, cells)), **more)

    def test_tables_with_titles(self):
        model = self.model(
            ["given"], ["name", "cell", "unit"], ["fare", "Data!B1", "EUR"], [],
            ["drivers:"], ["name", "cell", "distribution", "mean", "sd", "source"],
            ["sold", "Data!B2", "normal", 1000, 50, "records"], [],
            ["outcomes"], ["name", "cell", "unit", "target", "better"],
            ["sales", "Data!B3", "EUR", 40_000, "low"],
        )  # fmt: skip
        run = model.simulate(2_000, seed=1)
        self.assertAlmostEqual(float(run["sales"].sd), 42 * 50, delta=20)
        self.assertEqual((run["sales"].target, run["sales"].better), (40_000, "low"))
        self.assertEqual(model.quantities["fare"].unit, "EUR")
        self.assertEqual(model.quantities["sold"].source, "records")

    def test_names_may_be_left_out(self):
        model = self.model(
            ["cell", "distribution", "low", "high"], ["Data!B2", "uniform", 900, 1100], [],
            ["cell"], ["Data!B3"],
        )  # fmt: skip
        self.assertEqual(list(model.quantities), ["sold", "sales"])

    def test_mistakes_name_the_row(self):
        for lines, words in (
            ([["cell", "distribution", "mean"], ["Data!B2", "normal", 1]], "row 2", ),
            ([["cell", "distribution"], ["Data!B2", "norml"], [], ["cell"], ["Data!B3"]],
             "did you mean 'normal'"),
            ([["cell", "distribution"], ["Data!B2", None], [], ["cell"], ["Data!B3"]],
             "driver 'sold' has no distribution"),
            ([["cell", "units"], ["Data!B3", "EUR"]], "did you mean 'unit'"),
            ([["name", "cell"], ["x", "Data!B3"], ["x", "Data!B2"]], "'x' is there twice"),
            ([["drivers"], ["cell", "distribution", "mean", "sd"], ["Data!B2", "normal", 1, 1]],
             "names no outcome"),
        ):  # fmt: skip
            with self.subTest(words), self.fails(words):
                self.model(*lines)

    def test_cells_named_by_texts(self):
        path = write(self.folder, FARES)
        book = kd.read_workbook(path)
        model = model_of(book, ["B3"], ["B2=pert 800 1_000 1.2e3", "B1=student t 5 40 2"])
        drivers = model.compiled().drivers
        self.assertEqual(drivers["sold"].distribution, kd.Pert(800, 1000, 1200))
        self.assertEqual(drivers["fare"].distribution, kd.StudentT(5, 40, 2))
        for text, words in (
            ("B2", "say 'NAME = CELL: DISTRIBUTION"),
            ("B2=pert", "lacks the parameter"),
            ("B2=prt 1 2 3", "did you mean 'pert'"),
            ("B2=normal 1 2 3", "normal takes mean, sd, and 3 numbers are stated"),
        ):
            with self.subTest(text), self.fails(words):
                model_of(book, ["B3"], [text])
        with self.fails("which cell is the outcome"):
            model_of(book)


class OneTrialInAWorkbook(Folder):
    def test_it_is_worked_out_to_the_same_values(self):
        path = write(self.folder, SALES)
        model = kd.read_workbook(path).model(
            outcomes={"sales": "B5"},
            drivers={"fare": ("B1", kd.Normal(42, 3))},
            given={"base": "B3"},
        )
        run = model.replace(base=120).simulate(500, seed=1)
        for number in (0, 7, 499):
            target = self.folder / f"trial{number}.xlsx"
            run.workbook(number, target)
            graph = Graph.of(read_contents(target))
            whole = calculation(target, {}, {"sales": "Data!B5"})
            self.assertFalse(
                any("RAND" in f.text for f in graph.contents.sheets["Data"].formulas.values())
            )
            found = float(whole.evaluate(["sales"], {}, 1)["sales"])
            self.assertAlmostEqual(found / float(run["sales"].values[number]), 1, delta=1e-12)
            self.assertEqual(graph.contents.sheets["Data"].values[3, 2], 120)

    def test_what_cannot_be_written_is_told(self):
        path = write(self.folder, SALES)
        run = kd.read_workbook(path).model(outcomes={"sales": "B5"}).simulate(100, seed=1)
        with self.fails("there is no trial 100; the run has trials 0 to 99"):
            run.workbook(100, self.folder / "t.xlsx")
        with self.fails("must be named .xlsx"):
            run.workbook(1, self.folder / "t.csv")
        with self.fails("does not rest on a workbook"):
            kd.load_model(kd.demo_file("berths.toml")).simulate(100, seed=1).workbook(
                1, self.folder / "t.xlsx"
            )

    def test_draws_inside_texts_are_no_draws(self):
        text = '=RAND()&"RAND()"&RANDBETWEEN(1,SUM(2,3))&RAND()'
        self.assertEqual(
            with_draws(text, {0: 0.5, 1: 0.25, 3: 0.75}),
            '=(0.5)&"RAND()"&(INT(0.25*((SUM(2,3))-(1)+1))+(1))&(0.75)',
        )


if __name__ == "__main__":
    unittest.main()
