"""A report as a workbook: the answer, its tables with numbers as numbers, and whole tables on
sheets of their own; of a run also its base case and its outcomes as living sheets.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from kindynos.atomic import check_folder, replacing
from kindynos.cells import Cell
from kindynos.errors import FileError
from kindynos.extras import require
from kindynos.formatting import is_per_cent, number, titled
from kindynos.printable import visible
from kindynos.reports.origin import Origin, titles_of
from kindynos.reports.report import Report
from kindynos.reports.run_tables import chosen_trials
from kindynos.reports.showing import signed
from kindynos.reports.tables import FigureTable
from kindynos.reports.workbook.base_case import HEADING, base_case
from kindynos.reports.workbook.cell_formulas import FIRST_PERIOD, NUMBER_COLUMN, PERIOD_ROW
from kindynos.reports.workbook.charts import chart_of
from kindynos.reports.workbook.live import write_outcome
from kindynos.results.run import Run
from kindynos.validate import path_of

MOST_ROWS = 1_048_575  # of a sheet, below its heading
NAME = re.compile(r"[\[\]:*?/\\]")
WIDEST = 60
MOST_LIVE = 20  # outcomes with a sheet of their own
A4 = 9  # of the kinds of paper
FIRST_WIDTH, WIDTH, LINE = 34, 20, 15  # characters of the columns of the answer, points of a line


def write_excel(
    result: Any, path: str | Path, *, trials: bool = False, author: str = "", note: str = ""
) -> None:
    """Write the workbook of a result; see Run.to_excel."""
    with titled(titles_of(result)):
        write_workbook(signed(result, author, note), path, trials)


def write_workbook(report: Report, path: str | Path, trials: bool = False) -> None:
    """Write a report as a workbook, with all trials of a run if asked. Raises FileError for a path
    that cannot be written, and without XlsxWriter.
    """
    target = path_of("path", path)
    if target.suffix.lower() != ".xlsx":
        raise FileError("a workbook must be named .xlsx", file=str(target))
    require("excel")
    import xlsxwriter

    check_folder(target.parent)
    target.parent.mkdir(parents=True, exist_ok=True)
    # a text of a user is a text, whatever it begins with
    options = {"strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
    with replacing(target) as temporary, xlsxwriter.Workbook(str(temporary), options) as book:
        _Book(book, report, trials).write()


class _Book:
    """The sheets of a report."""

    def __init__(self, book: Any, report: Report, trials: bool) -> None:
        self.book, self.report, self.trials = book, report, trials
        self.names: set[str] = set()
        self.formats: dict[tuple[str, bool], Any] = {}
        self.faint = book.add_format({"font_color": "#777777"})
        self.bold = book.add_format({"bold": True})
        self.wrapped = book.add_format({"text_wrap": True, "valign": "top"})
        self.said = book.add_format({"text_wrap": True, "valign": "top", "bold": True})
        self.right = book.add_format({"align": "right"})
        self.indented = book.add_format({"indent": 1})  # so that it does not meet a number
        self.head = book.add_format({"bold": True, "bottom": 1})
        self.head_text = book.add_format({"bold": True, "bottom": 1, "indent": 1})
        wrapped = {"text_wrap": True, "valign": "bottom"}
        self.head_right = book.add_format({"bold": True, "bottom": 1, "align": "right", **wrapped})

    def write(self) -> None:
        """Write all sheets."""
        self._answer()
        run = self.report.result
        if isinstance(run, Run):
            self._base_case(run)
            for name in run.outcomes[:MOST_LIVE]:
                result = run[name]
                if not result.is_row and np.isfinite(result.values).any():
                    write_outcome(self.book, self._sheet(f"live {name}"), result)
        for name, frame in self.report.frames().items():
            if name != "trials" or self.trials or not isinstance(run, Run):
                self._frame(name, frame)
        if isinstance(run, Run):
            selected = chosen_trials(run)
            if len(selected):
                self._frame("chosen trials", selected)
        if self.report.origin is not None:
            self._origin(self.report.origin)

    def _origin(self, origin: Origin) -> None:
        """Write who made it from which files, and the command for it."""
        sheet = self._sheet("origin")
        sheet.set_column(0, 0, 24)
        sheet.set_column(1, 1, 90)
        facts = origin.facts()
        files = {f"SHA-256 of {name}": checksum for name, checksum in facts.pop("files").items()}
        facts["fingerprint of model"] = facts.pop("model")
        named = {name: value for name, value in {**facts, **files}.items() if value}
        for row, (name, value) in enumerate(named.items()):
            sheet.write_string(row, 0, visible(name), self.bold)
            sheet.write_string(row, 1, visible(value))

    def _sheet(self, name: str) -> Any:
        plain = NAME.sub(" ", visible(name))[:28].strip("' ") or "sheet"
        title, number = plain, 2
        while title.lower() in self.names:
            title, number = f"{plain} {number}", number + 1
        self.names.add(title.lower())
        sheet = self.book.add_worksheet(title)
        sheet.set_landscape()
        sheet.set_paper(A4)
        sheet.set_margins(left=0.5, right=0.5, top=0.6, bottom=0.6)
        sheet.set_footer("&L&A&R&P / &N")
        sheet.fit_to_pages(1, 0)  # as wide as a page, as long as it needs
        return sheet

    def _answer(self) -> None:
        """Write the answer and the tables that the terminal prints."""
        sheet = self._sheet("answer")
        sheet.set_portrait()
        tables = [table for section in self.report.sections for table in section.tables]
        widths = [FIRST_WIDTH] + [WIDTH] * (max([2, *(len(t.columns) for t in tables)]) - 1)
        for column, width in enumerate(widths):
            sheet.set_column(column, column, width)
        row = 0
        for line in self.report.answer:
            row = self._sentence(sheet, row, line, widths, self.said)
        for section in self.report.sections[bool(self.report.answer) :]:
            row += 1
            for part in section.parts:
                if isinstance(part, FigureTable):
                    row = self._table(sheet, row, part)
                else:
                    for line in part.plain.splitlines():
                        row = self._sentence(sheet, row, line, widths, self.wrapped)
        sheet.print_area(0, 0, max(row - 1, 0), len(widths) - 1)

    def _sentence(self, sheet: Any, row: int, line: str, widths: Sequence[int], form: Any) -> int:
        """Write a sentence over the columns of the page, as high as it needs; return the next
        row.
        """
        text = visible(line)
        sheet.merge_range(row, 0, row, len(widths) - 1, "", form)
        sheet.write_string(row, 0, text, form)
        sheet.set_row(row, LINE * max(1, -(-len(text) // sum(widths))))
        return row + 1

    def _table(self, sheet: Any, row: int, table: FigureTable) -> int:
        if table.title:
            sheet.write_string(row, 0, visible(table.title), self.bold)
            row += 1
        for position, column in enumerate(table.columns):
            text_head = self.head_text if position else self.head
            head = self.head_right if column.right else text_head
            sheet.write_string(row, position, visible(column.header), head)
            for down, cell in enumerate(column.cells, start=row + 1):
                self._cell(sheet, down, position, cell, column.right)
        return row + 1 + max((len(column.cells) for column in table.columns), default=0)

    def _cell(self, sheet: Any, row: int, column: int, text: str, right: bool) -> None:
        """Write a cell as a number where it is one, and else as a text."""
        figure = text.figure if isinstance(text, Cell) else None
        if figure is None:
            form = self.right if right else self.indented if column else None
            sheet.write_string(row, column, visible(text), form)
            return
        form = f"#,##0{'.' + '0' * figure.decimals if figure.decimals else ''}"
        sign = f'"{figure.before}"' if figure.before else ""
        kind = f"{sign}{form}{'%' if figure.per_cent else ''}"
        sheet.write_number(row, column, figure.rounded, self.book.add_format({"num_format": kind}))

    def _frame(self, name: str, frame: pd.DataFrame) -> None:
        """Write a whole table, with its heading frozen and a filter."""
        sheet = self._sheet(name)
        whole = frame.reset_index()
        left_out = max(len(whole) - MOST_ROWS, 0)
        whole = whole.iloc[:MOST_ROWS]
        for column, label in enumerate(map(_label, whole.columns)):
            values = whole.iloc[:, column]
            is_number = values.dtype.kind in "fiu"
            text_head = self.head_text if column else self.head
            sheet.write_string(0, column, label, self.head_right if is_number else text_head)
            widths = [len(label) + 2, 11, *(len(str(v)) for v in values[:200] if not is_number)]
            for row, value in enumerate(values.tolist(), start=1):
                self._value(sheet, row, column, value)
            width = min(max(widths), WIDEST)
            sheet.set_column(column, column, width)
        sheet.freeze_panes(1, 1)
        sheet.repeat_rows(0)
        sheet.autofilter(0, 0, len(whole), max(len(whole.columns) - 1, 0))
        chart = chart_of(self.book, sheet.get_name(), name, whole, frame.index.nlevels)
        if chart is not None:
            sheet.insert_chart(1, len(whole.columns) + 1, chart)
        if left_out:
            self._sheet(f"{name} left out").write_string(
                0, 0, f"{left_out:,} rows do not fit on a sheet and are left out"
            )

    def _value(self, sheet: Any, row: int, column: int, value: Any) -> None:
        """Write a cell of a whole table: nothing for a missing number."""
        if isinstance(value, int | float) and not isinstance(value, bool):
            if math.isfinite(value):
                sheet.write_number(row, column, value, self._number_format("", value, False))
            elif math.isinf(value):
                sheet.write_string(row, column, number(value))
        else:
            sheet.write_string(row, column, visible(str(value)), self.indented if column else None)

    def _base_case(self, run: Run) -> None:
        """Write the base case, whose lines are formulas over the cells that are known."""
        living = base_case(run)
        if living is None:
            return
        sheet = self._sheet("base case")
        sheet.set_column(0, 0, 26)
        sheet.set_column(1, 1, 16)
        sheet.set_column(2, 2, 40)
        sheet.set_column(NUMBER_COLUMN, FIRST_PERIOD + len(living.labels), 13)
        title = "The base case: change a yellow cell, and the lines follow"
        sheet.write_string(0, 0, title, self.bold)
        for column, head in enumerate(("name", "unit", "source or formula")):
            sheet.write_string(HEADING - 1, column, head, self.head)
        sheet.write_string(HEADING - 1, NUMBER_COLUMN, "value", self.head_right)
        for period, label in enumerate(living.labels):
            sheet.write_string(HEADING - 1, FIRST_PERIOD + period, str(label), self.head_right)
            sheet.write_number(PERIOD_ROW, FIRST_PERIOD + period, period + 1, self.faint)
        for row, heading in living.headings.items():
            sheet.write_string(row, 0, visible(heading), self.bold)
        for position, line in living.rows.items():
            for column, text in enumerate((line.name, line.unit, line.how)):
                sheet.write_string(position, column, visible(text))
            for column, (formula, value) in line.cells.items():
                form = self._number_format(line.unit, value, position in living.given)
                if formula is not None:
                    shown = value if math.isfinite(value) else "#N/A"
                    sheet.write_formula(position, column, f"={formula}", form, shown)
                elif math.isfinite(value):
                    sheet.write_number(position, column, value, form)
                else:
                    sheet.write_formula(position, column, "=NA()", form, "#N/A")
        sheet.freeze_panes(HEADING, NUMBER_COLUMN)

    def _number_format(self, unit: str, value: float, given: bool) -> Any:
        """Return the format of a cell: per cent by the unit, decimals by the size."""
        whole = not math.isfinite(value) or abs(value) >= 1000 or value == round(value)
        plain = "#,##0" if whole else "#,##0.0###"
        form = "0.0#%" if is_per_cent(unit) else plain
        if (form, given) not in self.formats:
            colour = {"bg_color": "#FFF2CC"} if given else {}
            self.formats[form, given] = self.book.add_format({"num_format": form, **colour})
        return self.formats[form, given]


def _label(label: Any) -> str:
    return visible(" ".join(map(str, label)) if isinstance(label, tuple) else str(label))
