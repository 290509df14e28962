"""A report as a workbook: the answer, its tables with numbers as numbers, and whole tables on
sheets of their own; of a run also live cells, whose chances are formulas over its trials by block.
"""

from __future__ import annotations

import math
import re
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from kindynos.atomic import check_folder, replacing
from kindynos.errors import FileError
from kindynos.formatting import is_per_cent
from kindynos.inference.intervals import Z, wilson
from kindynos.printable import visible
from kindynos.reports.base_case import HEADING, base_case
from kindynos.reports.cell_formulas import FIRST_PERIOD, NUMBER_COLUMN, PERIOD_ROW
from kindynos.reports.report import Report
from kindynos.reports.showing import report_of
from kindynos.reports.tables import FigureTable
from kindynos.results.run import Run
from kindynos.validate import path_of

if TYPE_CHECKING:
    from kindynos.results.sample import Sample

MOST_ROWS = 1_048_575  # of a sheet, below its heading
MOST_LIVE = 20_000  # trials whose values the live cells look at
NAME = re.compile(r"[\[\]:*?/\\]")
FIGURE = re.compile(r"-?\d[\d,]*(?:\.\d+)?(?:e[-+]?\d+)?")
WIDEST = 60


def write_excel(result: Any, path: str | Path) -> None:
    """Write the workbook of a result; see Run.to_excel."""
    write_workbook(replace(report_of(result), result=result), path)


def write_workbook(report: Report, path: str | Path) -> None:
    """Write a report as a workbook. Raises FileError for a path that cannot be written, and without
    XlsxWriter.
    """
    target = path_of("to_excel", "path", path)
    if target.suffix.lower() != ".xlsx":
        raise FileError("a workbook must be named .xlsx", file=str(target))
    try:
        import xlsxwriter
    except ImportError:
        raise FileError("a workbook needs XlsxWriter: pip install 'kindynos[excel]'") from None
    check_folder(target.parent)
    target.parent.mkdir(parents=True, exist_ok=True)
    # a text of a user is a text, whatever it begins with
    options = {"strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
    with replacing(target) as part, xlsxwriter.Workbook(str(part), options) as book:
        _Book(book, report).write()


class _Book:
    """The sheets of a report."""

    def __init__(self, book: Any, report: Report) -> None:
        self.book, self.report = book, report
        self.names: set[str] = set()
        self.formats: dict[tuple[str, bool], Any] = {}
        self.faint = book.add_format({"font_color": "#777777"})
        self.bold = book.add_format({"bold": True})
        self.head = book.add_format({"bold": True, "bottom": 1})
        self.wrapped = book.add_format({"text_wrap": True, "valign": "top"})
        self.share = book.add_format({"num_format": "0.0%"})
        self.amount = book.add_format({"num_format": "#,##0"})
        self.input = book.add_format(
            {"bg_color": "#FFF2CC", "border": 1, "num_format": "#,##0.####"}
        )

    def write(self) -> None:
        """Write all sheets."""
        self._answer()
        for name, frame in self.report.frames().items():
            self._frame(name, frame)
        run = self.report.result
        if isinstance(run, Run):
            self._base_case(run)
            for name in run.outcomes:
                result = run[name]
                if not result.is_row and np.isfinite(result.values).any():
                    self._live(name, result)

    def _sheet(self, name: str) -> Any:
        plain = NAME.sub(" ", visible(name))[:28].strip("' ") or "sheet"
        found, number = plain, 2
        while found.lower() in self.names:
            found, number = f"{plain} {number}", number + 1
        self.names.add(found.lower())
        return self.book.add_worksheet(found)

    def _answer(self) -> None:
        """Write the answer and the tables that the terminal prints."""
        sheet = self._sheet("answer")
        sheet.set_column(0, 0, 34)
        sheet.set_column(1, 8, 18)
        row = 0
        for line in self.report.answer:
            sheet.write_string(row, 0, visible(line), self.bold)
            row += 1
        for section in self.report.sections[bool(self.report.answer) :]:
            row += 1
            for part in section.parts:
                if isinstance(part, FigureTable):
                    row = self._table(sheet, row, part)
                else:
                    for line in part.plain.splitlines():
                        sheet.write_string(row, 0, visible(line))
                        row += 1

    def _table(self, sheet: Any, row: int, table: FigureTable) -> int:
        if table.title:
            sheet.write_string(row, 0, visible(table.title), self.bold)
            row += 1
        for place, column in enumerate(table.columns):
            sheet.write_string(row, place, visible(column.header), self.head)
            for down, cell in enumerate(column.cells, start=row + 1):
                self._cell(sheet, down, place, cell, column.right)
        return row + 1 + max((len(column.cells) for column in table.columns), default=0)

    def _cell(self, sheet: Any, row: int, column: int, text: str, right: bool) -> None:
        """Write a cell as a number where it is one, and else as a text."""
        plain = text.removeprefix("± ").strip()
        share = plain.endswith(" %")
        figure = plain.removesuffix(" %")
        if right and FIGURE.fullmatch(figure):
            value = float(figure.replace(",", ""))
            decimals = len(figure.partition(".")[2])
            form = f"#,##0{'.' + '0' * decimals if decimals else ''}"
            sign = '"± "' if text.startswith("± ") else ""
            kind = f"{sign}{form}%" if share else f"{sign}{form}"
            sheet.write_number(
                row,
                column,
                value / 100 if share else value,
                self.book.add_format({"num_format": kind}),
            )
        else:
            sheet.write_string(row, column, visible(text))

    def _frame(self, name: str, frame: pd.DataFrame) -> None:
        """Write a whole table, with its heading frozen and a filter."""
        sheet = self._sheet(name)
        whole = frame.reset_index()
        left_out = max(len(whole) - MOST_ROWS, 0)
        whole = whole.iloc[:MOST_ROWS]
        for column, label in enumerate(map(_label, whole.columns)):
            sheet.write_string(0, column, label, self.head)
            values = whole.iloc[:, column]
            width = max(len(label) + 2, 11)
            if values.dtype.kind in "fiu":
                sheet.write_column(1, column, values.to_numpy(dtype=np.float64).tolist())
            else:
                texts = [visible(str(v)) for v in values]
                width = min(max([width, *map(len, texts[:200])]), WIDEST)
                for row, text in enumerate(texts, start=1):
                    sheet.write_string(row, column, text)
            sheet.set_column(column, column, width)
        sheet.freeze_panes(1, 1)
        sheet.autofilter(0, 0, len(whole), max(len(whole.columns) - 1, 0))
        if left_out:
            self._sheet(f"{name} left out").write_string(
                0, 0, f"{left_out:,} rows do not fit on a sheet and are left out"
            )

    def _base_case(self, run: Run) -> None:
        """Write the base case, whose lines are formulas over the cells that are known."""
        found = base_case(run)
        if found is None:
            return
        sheet = self._sheet("base case")
        sheet.set_column(0, 0, 26)
        sheet.set_column(1, 1, 10)
        sheet.set_column(2, 2, 40)
        sheet.set_column(NUMBER_COLUMN, FIRST_PERIOD + len(found.labels), 13)
        title = "The base case: change a yellow cell, and the lines follow"
        sheet.write_string(0, 0, title, self.bold)
        for column, head in enumerate(("name", "unit", "source or formula", "value")):
            sheet.write_string(HEADING - 1, column, head, self.head)
        for period, label in enumerate(found.labels):
            sheet.write_string(HEADING - 1, FIRST_PERIOD + period, str(label), self.head)
            sheet.write_number(PERIOD_ROW, FIRST_PERIOD + period, period + 1, self.faint)
        for row, heading in found.headings.items():
            sheet.write_string(row, 0, visible(heading), self.bold)
        for place, line in found.rows.items():
            for column, text in enumerate((line.name, line.unit, line.how)):
                sheet.write_string(place, column, visible(text))
            for column, (formula, value) in line.cells.items():
                form = self._number_format(line.unit, value, place in found.given)
                if formula is not None:
                    known = value if math.isfinite(value) else "#N/A"
                    sheet.write_formula(place, column, f"={formula}", form, known)
                elif math.isfinite(value):
                    sheet.write_number(place, column, value, form)
                else:
                    sheet.write_formula(place, column, "=NA()", form, "#N/A")
        sheet.freeze_panes(HEADING, NUMBER_COLUMN)

    def _number_format(self, unit: str, value: float, given: bool) -> Any:
        """Return the format of a cell: per cent by the unit, decimals by the size."""
        plain = "#,##0" if abs(value) >= 1000 else "#,##0.####"
        form = "0.0#%" if is_per_cent(unit) else plain
        if (form, given) not in self.formats:
            colour = {"bg_color": "#FFF2CC"} if given else {}
            self.formats[form, given] = self.book.add_format({"num_format": form, **colour})
        return self.formats[form, given]

    def _live(self, name: str, result: Any) -> None:
        """Write an outcome with a cut-off whose chances are worked out by the sheet itself."""
        sample = result._sample
        values = np.asarray(sample.values)
        if len(values) > MOST_LIVE or len(values) < 200:
            return
        sheet = self._sheet(f"live {name}")
        sheet.set_column(0, 0, 30)
        sheet.set_column(1, 4, 16)
        cut = float(result.median if result.target is None else result.target)
        unit = f", {visible(result.unit)}" if result.unit else ""
        sheet.write_string(0, 0, f"{visible(name)}{unit}: change the yellow cell", self.bold)
        sheet.write_string(1, 0, "cut-off")
        sheet.write_number(1, 1, cut, self.input)
        sizes = np.diff(np.asarray(sample.bounds))
        heads = ("chance", "", "low", "high", "variance", "trials that count")
        for column, head in enumerate(heads):
            sheet.write_string(3, column, head, self.head)
        for row, (word, sign) in enumerate((("below", "<"), ("above", ">")), start=4):
            self._chance(sheet, row, word, sign, sample, cut, sizes)
        sheet.write_string(10, 0, "block", self.head)
        sheet.write_string(10, 1, "value", self.head)
        sheet.write_string(10, 3, "hits per block, below and above", self.head)
        blocks = np.repeat(np.arange(1, len(sizes) + 1), sizes)
        sheet.write_column(11, 0, blocks.tolist())
        for row, value in enumerate(values.tolist(), start=11):
            if value == value:
                sheet.write_number(row, 1, value)
        begins = np.asarray(sample.bounds)
        for k, (begin, end) in enumerate(pairwise(begins.tolist())):
            part = values[begin:end]
            area = f"$B${begin + 12}:$B${end + 11}"
            for column, (sign, hits) in enumerate((("<", part < cut), (">", part > cut)), start=3):
                formula = f'=COUNTIF({area},"{sign}"&$B$2)'
                sheet.write_formula(11 + k, column, formula, None, int(np.count_nonzero(hits)))
            sheet.write_number(11 + k, 5, int(sizes[k]))

    def _chance(
        self, sheet: Any, row: int, word: str, sign: str, sample: Sample, cut: float, sizes: Any
    ) -> None:
        """Write the chance on one side, with Wilson's interval by the spread between blocks."""
        values = np.asarray(sample.values)
        hits = values < cut if sign == "<" else values > cut
        count, blocks = len(values), len(sizes)
        p = float(hits.mean())
        column = "D" if sign == "<" else "E"
        area, sized = f"{column}$12:{column}${11 + blocks}", f"$F$12:$F${11 + blocks}"
        line = row + 1
        everyone = sample.__class__(np.zeros(count), sample.bounds)
        variance = everyone.variance_of_mean(hits)
        exact = sample.independent or variance <= 0
        z = Z if exact else everyone.student
        effective = float(count) if exact else p * (1 - p) / variance
        low, high = wilson(p, effective, z)
        sheet.write_string(row, 0, f"chance {word} the cut-off")
        sheet.write_formula(row, 1, f"=SUM({area})/{count}", self.share, p)
        spread = f"SUMPRODUCT(({area}-{sized}*SUM({area})/{count})^2)"
        sheet.write_formula(row, 4, f"={spread}/{count}^2*{blocks}/{blocks - 1}", None, variance)
        sampled = "FALSE" if sample.independent else f"E{line}>0"
        sheet.write_formula(
            row, 5, f"=IF({sampled},B{line}*(1-B{line})/E{line},{count})", None, effective
        )
        t = f"IF({sampled},{everyone.student!r},{Z!r})"
        middle = f"(B{line}+{t}^2/(2*F{line}))"
        reach = f"{t}*SQRT(B{line}*(1-B{line})/F{line}+{t}^2/(4*F{line}^2))"
        scale = f"(1+{t}^2/F{line})"
        sheet.write_formula(row, 2, f"=({middle}-{reach})/{scale}", self.share, low)
        sheet.write_formula(row, 3, f"=({middle}+{reach})/{scale}", self.share, high)


def _label(label: Any) -> str:
    return visible(" ".join(map(str, label)) if isinstance(label, tuple) else str(label))
