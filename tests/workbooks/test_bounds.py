"""Work and memory of a formula are bounded, and wildcards match without trying again."""

import openpyxl
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.formula import ArrayFormula

import kindynos as kd
from kindynos.workbooks.agreement import recalculated
from kindynos.workbooks.functions.text import wildcard
from tests.common import Folder

STRAYING = {  # formulas that would never end, or fill the memory
    "COMBIN(1E300,1E9)": "#NUM!", "COMBIN(1E14,1E9)": "#NUM!", "COMBINA(1E14,1E9)": "#NUM!",
    "PERMUT(1E14,1E9)": "#NUM!", "FIXED(2,1E9)": "#VALUE!", "DOLLAR(2,1E9)": "#VALUE!",
    "VDB(1E12,1E3,1E9,0,1E9)": "#NUM!", "DB(1E6,1,1E9,1E9)": "#NUM!",
    "PERCENTRANK(B1:B3,2,1E9)": "#NUM!", "BASE(2,2,1E10)": "#NUM!",
    "HYPGEOM.DIST(1E9,1E10,1E10,1E11,TRUE)": "#NUM!",
    "SEARCH(\"a*a*a*a*a*a*a*b\",REPT(\"a\",30000))": "#VALUE!",
    "MATCH(\"a*a*a*a*a*a*a*b\",A1:A3,0)": "#N/A",
}  # fmt: skip
KEPT = {  # and those that end
    "COMBIN(1000,3)": 166_167_000.0, "COMBIN(1E6,2)": 499_999_500_000.0, "PERMUT(100,2)": 9_900.0,
    "COUNTIF(A1:A3,\"a*a*a*a*a*a*a*b\")": 0.0, "COUNTIF(A1:A3,\"a*a*a*a*a\")": 3.0,
    "BINOM.INV(1E9,0.5,0.5)": 500_000_000.0, "BINOM.INV(10,0.3,0.5)": 3.0,
    "SEARCH(\"b?d*f\",\"aabcdeef\")": 3.0,
}  # fmt: skip


class Bounds(Folder):
    def test_straying_formulas_are_errors_and_others_are_worked_out(self):
        book = openpyxl.Workbook()
        sheet = book.active
        for row in (1, 2, 3):
            sheet.cell(row, 1, "a" * 3_000)
            sheet.cell(row, 2, row)
        known = STRAYING | KEPT
        for row, formula in enumerate(known, start=1):
            sheet.cell(row, 5, f"={formula}")
        path = self.folder / "book.xlsx"
        book.save(path)
        graph = kd.read_workbook(path).graph
        values, failed = recalculated(graph, graph.formulas)
        self.assertEqual(failed, {})
        by_cell = {str(graph.cells[number]): value for number, value in values.items()}
        for row, (formula, expected) in enumerate(known.items(), start=1):
            value = by_cell[f"Sheet!E{row}"]
            with self.subTest(formula):
                self.assertEqual(getattr(value, "code", value), expected)

    def test_what_is_forged_or_damaged_is_a_problem_of_its_cell(self):
        book = openpyxl.Workbook()
        sheet = book.active
        sheet["A1"], sheet["A2"] = 2, 3
        book.defined_names["P"] = DefinedName("P", attr_text="Q+1")
        book.defined_names["Q"] = DefinedName("Q", attr_text="P")
        formulas = {
            "C1": ("=P+1", "#NAME?"),
            "C2": ("=" + "+".join(["A1"] * 500), 1_000.0),
            "C3": ("=" + "+".join(["A1"] * 2_000), "more than 1,000 operations"),
            "C4": ("=" + "-" * 5_000 + "A1", "nested too deeply"),
            "C5": ("=A1" + "%" * 3_000, "more than 1,000 operations"),
            "C6": ("=" + "(" * 2_000 + "A1" + ")" * 2_000, "nested too deeply"),
            "C7": ("=A1*A2", 6.0),
        }
        for cell, (formula, _) in formulas.items():
            sheet[cell] = formula
        sheet["D1"] = ArrayFormula("D1:XFD1048576", "=A1:A2*2")
        path = self.folder / "book.xlsx"
        book.save(path)
        graph = kd.read_workbook(path).graph
        values, failed = recalculated(graph, [*graph.formulas, *graph.unreadable])
        found = {
            str(graph.cells[number]): value for number, value in [*values.items(), *failed.items()]
        }
        for cell, (_, expected) in formulas.items():
            value = found[f"Sheet!{cell}"]
            with self.subTest(cell):
                if isinstance(value, str):
                    self.assertIn(expected, value)
                else:
                    self.assertEqual(getattr(value, "code", value), expected)
        self.assertIn("fills 17,176,723,456 cells", found["Sheet!D1"])

        data = bytearray(path.read_bytes())
        start = data.find(b"xl/worksheets/sheet1.xml") + 60
        for place in range(start, start + 200, 7):
            data[place] ^= 0x5A
        path.write_bytes(data)
        with self.fails("is damaged", kind=kd.FileError):
            kd.read_workbook(path)


def matches(pattern, text):
    """Whether a pattern of letters, ? and * matches a whole text, tried in all ways."""
    if not pattern:
        return not text
    if pattern[0] == "*":
        return any(matches(pattern[1:], text[begin:]) for begin in range(len(text) + 1))
    return bool(text) and pattern[0] in ("?", text[0]) and matches(pattern[1:], text[1:])


class Wildcards(Folder):
    @settings(max_examples=300, deadline=None)
    @given(st.text("ab?*", max_size=7), st.text("ab", max_size=9))
    def test_they_match_what_trying_all_ways_would(self, pattern, text):
        self.assertEqual(bool(wildcard(pattern).fullmatch(text)), matches(pattern, text))
