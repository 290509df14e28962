"""An outcome as a living sheet: a cut-off whose chances the sheet looks up and whose intervals it
works out, a histogram, and what both are read from.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.formatting import heading, is_per_cent
from kindynos.inference.intervals import wilson
from kindynos.printable import visible
from kindynos.results.cutoffs import Cutoffs, cutoffs
from kindynos.results.result import Result

FEWEST_LIVE = 200
BINS = 30
CHANCES, CHART, DATA = 4, 8, 27  # the rows, from 0, of the chances, the chart and the first cut-off
# columns of the table of cut-offs, and of the bins of the histogram
CUT, BELOW, UPTO, TRIALS, POINT = 0, 1, 2, (3, 4), (5, 6)
LOWER, COUNT = 8, 10
PAGE_ROWS = 26  # what is printed: the chances and the chart


def write_outcome(book: Any, sheet: Any, result: Result) -> None:
    """Write the sheet of an outcome that is one number."""
    unit = f", {visible(result.unit)}" if result.unit else ""
    title = f"{visible(heading(result.name))}{unit}"
    bold = book.add_format({"bold": True})
    live = result.size >= FEWEST_LIVE
    sheet.set_column(0, 0, 30)
    sheet.set_column(1, 6, 17)
    sheet.fit_to_pages(1, 1)
    sheet.print_area(0, 0, PAGE_ROWS - 1, 6)
    sheet.write_string(0, 0, f"{title}: change the yellow cell" if live else title, bold)
    if live:
        _Cutoff(book, sheet, result).write()
    _histogram(book, sheet, title, result, live)


class _Cutoff:
    """The cut-off, the chances on both sides, and the table in which they are looked up."""

    def __init__(self, book: Any, sheet: Any, result: Result) -> None:
        self.sheet = sheet
        self.cut = float(result.median if result.target is None else result.target)
        at = (self.cut,) if math.isfinite(self.cut) else ()
        self.table: Cutoffs = cutoffs(result, at)
        size = float(np.abs(self.table.values).max())
        amount = "0.0#%" if is_per_cent(result.unit) else "#,##0.####"
        self.head = book.add_format({"bold": True, "bottom": 1, "align": "right"})
        self.amount = book.add_format({"num_format": "#,##0" if size >= 1000 else amount})
        self.whole = book.add_format({"num_format": "#,##0"})
        self.share = book.add_format({"num_format": "0.0%"})
        self.point = book.add_format({"num_format": "0.000"})
        self.input = book.add_format({"bg_color": "#FFF2CC", "border": 1, "num_format": amount})

    def write(self) -> None:
        """Write all of it."""
        sheet, table = self.sheet, self.table
        sheet.write_string(1, 0, "cut-off")
        sheet.write_number(1, 1, self.cut, self.input)
        sheet.write_string(2, 0, "row of the table below")
        sheet.write_formula(2, 1, f"=IFERROR(MATCH($B$2,{self._column(CUT)},1),0)", None, self.row)
        heads = ("", "chance", "low", "high", "trials that count", "point")
        for column, head in enumerate(heads):
            sheet.write_string(CHANCES - 1, column, head, self.head)
        for side, label in enumerate(("below", "above")):
            self._chance(side, label)
        columns = {
            CUT: ("cut-off", table.values, self.amount),
            BELOW: ("below", table.below, self.share),
            UPTO: ("at most at it", table.upto, self.share),
            TRIALS[0]: ("trials, below", table.trials[0], self.whole),
            TRIALS[1]: ("trials, above", table.trials[1], self.whole),
            POINT[0]: ("point, below", table.points[0], self.point),
            POINT[1]: ("point, above", table.points[1], self.point),
        }
        for column, (head, numbers, form) in columns.items():
            sheet.write_string(DATA - 1, column, head, self.head)
            for row, number in enumerate(numbers.tolist(), start=DATA):
                if number == number:
                    sheet.write_number(row, column, number, form)

    @property
    def row(self) -> int:
        """The last row of the table, from 1, whose cut-off is not above the one chosen."""
        return int(np.searchsorted(self.table.values, self.cut, side="right"))

    def _column(self, column: int) -> str:
        letter = "ABCDEFG"[column]
        return f"${letter}${DATA + 1}:${letter}${DATA + len(self.table.values)}"

    def _at(self, column: int, later: int = 0) -> str:
        """Return the formula of a cell of the table in the row of the cut-off, or a later one."""
        last = len(self.table.values)
        return f"INDEX({self._column(column)},MIN(MAX($B$3+{later},1),{last}))"

    def _chance(self, side: int, label: str) -> None:
        """Write the chance on one side: exact at the cut-offs of the table, between two of them on
        a straight line; and Wilson's interval of it.
        """
        sheet, table, line = self.sheet, self.table, CHANCES + side + 1
        cut, upto, following = self._at(CUT), self._at(UPTO), self._at(CUT, 1)
        between = f"{upto}+({self._at(BELOW, 1)}-{upto})*($B$2-{cut})/({following}-{cut})"
        first = f"{self._at(BELOW)}"  # below the table: what is infinite
        below = f"IF($B$3=0,{first},IF({following}={cut},{upto},{between}))"
        position = max(self.row - 1, 0)
        share = table.below[position] if side == 0 else table.with_a_value - table.upto[position]
        exact = self._at(BELOW) if side == 0 else f"{table.with_a_value!r}-{upto}"
        beside = below if side == 0 else f"{table.with_a_value!r}-{below}"
        sheet.write_string(line - 1, 0, f"chance {label} the cut-off")
        formula = f"=IF($B$2={cut},{exact},{beside})"
        sheet.write_formula(line - 1, 1, formula, self.share, share)
        count, point = float(table.trials[side, position]), float(table.points[side, position])
        if count != count:
            return
        sheet.write_formula(line - 1, 4, f"={self._at(TRIALS[side])}", self.whole, count)
        sheet.write_formula(line - 1, 5, f"={self._at(POINT[side])}", self.point, point)
        middle = f"(B{line}+F{line}^2/(2*E{line}))"
        reach = f"F{line}*SQRT(B{line}*(1-B{line})/E{line}+F{line}^2/(4*E{line}^2))"
        scale = f"(1+F{line}^2/E{line})"
        low, high = wilson(float(share), count, point)
        least, most = f"=MAX(({middle}-{reach})/{scale},0)", f"=MIN(({middle}+{reach})/{scale},1)"
        sheet.write_formula(line - 1, 2, least, self.share, low)
        sheet.write_formula(line - 1, 3, most, self.share, high)


def _histogram(book: Any, sheet: Any, title: str, result: Result, live: bool) -> None:
    """Write bins with the share of the trials in each, and a chart of them."""
    sample = result.sample
    finite = sample.only(np.isfinite(sample.values))
    if not finite.count:
        return
    first, last = (float(end) for end in finite.quantile([0.001, 0.999]))
    if first == last:
        return
    step = _round_up((last - first) / BINS)
    places = np.arange(math.floor(first / step), math.ceil(last / step) + 1, dtype=np.float64)
    edges: Floats = places * step
    shares = finite.histogram(edges).tolist()
    head = book.add_format({"bold": True, "bottom": 1, "align": "right"})
    form = "0.0%" if is_per_cent(result.unit) else "#,##0" if step >= 1 else "#,##0.####"
    plain, share = book.add_format({"num_format": form}), book.add_format({"num_format": "0.0%"})
    for column, text in enumerate(("from", "to", "share of the trials"), start=LOWER):
        sheet.write_string(DATA - 1, column, text, head)
    sheet.set_column(LOWER, COUNT, 14)
    for position, height in enumerate(shares):
        sheet.write_number(DATA + position, LOWER, float(edges[position]), plain)
        sheet.write_number(DATA + position, LOWER + 1, float(edges[position + 1]), plain)
        sheet.write_number(DATA + position, COUNT, height, share)
    chart = book.add_chart({"type": "column"})
    name, bottom = sheet.get_name(), DATA + len(shares) - 1
    chart.add_series(
        {
            "name": "share of the trials",
            "categories": [name, DATA, LOWER, bottom, LOWER],
            "values": [name, DATA, COUNT, bottom, COUNT],
            "gap": 5,
            "fill": {"color": "#3B6FA0"},
        }
    )
    chart.set_title({"name": f"Trials by {title}", "name_font": {"size": 12}})
    chart.set_legend({"none": True})
    chart.set_x_axis({"num_format": form, "label_position": "low", "num_font": {"rotation": -45}})
    chart.set_y_axis({"num_format": "0%", "major_gridlines": {"visible": True}})
    chart.set_size({"width": 640, "height": 340})
    sheet.insert_chart(CHART if live else 2, 0, chart)


def _round_up(step: float) -> float:
    """Return the next of 1, 2 and 5 times a power of ten."""
    power = 10.0 ** math.floor(math.log10(step))
    return float(next(k * power for k in (1, 2, 5, 10) if k * power >= step * (1 - 1e-9)))
