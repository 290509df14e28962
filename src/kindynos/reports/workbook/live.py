"""An outcome as a living sheet: a cut-off whose chances the sheet works out itself, with their
intervals, and a histogram over its trials.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.formatting import is_per_cent
from kindynos.inference.intervals import Z, wilson
from kindynos.printable import visible
from kindynos.results.result import Result

if TYPE_CHECKING:
    from kindynos.arrays import Floats
    from kindynos.inference.sample import Sample

MOST_LIVE = 20_000  # trials whose values a sheet has; of more, a histogram alone
FEWEST_LIVE = 200
BINS = 30
CHANCES, CHART, DATA = 4, 8, 27  # the rows, from 0, of the chances, the chart and the first trial
LOWER, UPPER, COUNT = 7, 8, 9  # the columns of the bins of the histogram


def write_outcome(book: Any, sheet: Any, result: Result) -> None:
    """Write the sheet of an outcome that is one number."""
    unit = f", {visible(result.unit)}" if result.unit else ""
    title = f"{visible(result.name)}{unit}"
    bold = book.add_format({"bold": True})
    values = np.asarray(result.sample.values)
    live = FEWEST_LIVE <= len(values) <= MOST_LIVE
    sheet.set_column(0, 0, 30)
    sheet.set_column(1, 5, 16)
    if live:
        sheet.write_string(0, 0, f"{title}: change the yellow cell", bold)
        _Cutoff(book, sheet, result).write()
    else:
        sheet.write_string(0, 0, title, bold)
    _histogram(book, sheet, title, result, values, live)


class _Cutoff:
    """The cut-off, the trials by block, and the chances on both sides."""

    def __init__(self, book: Any, sheet: Any, result: Result) -> None:
        self.sheet, self.sample = sheet, result.sample
        self.values = np.asarray(self.sample.values)
        size = float(np.nanmax(np.abs(self.values)))
        self.cut = float(result.median if result.target is None else result.target)
        self.sizes = [end - begin for begin, end in pairwise(self.sample.bounds)]
        self.head = book.add_format({"bold": True, "bottom": 1, "align": "right"})
        self.plain = book.add_format({"num_format": "#,##0" if size >= 1000 else "#,##0.####"})
        self.precise = book.add_format({"num_format": "0.00E+00"})
        self.whole = book.add_format({"num_format": "#,##0"})
        self.share = book.add_format({"num_format": "0.0%"})
        form = "0.0#%" if is_per_cent(result.unit) else "#,##0.####"
        self.input = book.add_format({"bg_color": "#FFF2CC", "border": 1, "num_format": form})

    def write(self) -> None:
        """Write all of it."""
        sheet = self.sheet
        sheet.write_string(1, 0, "cut-off")
        sheet.write_number(1, 1, self.cut, self.input)
        heads = ("", "chance", "low", "high", "variance", "trials that count")
        for column, head in enumerate(heads):
            sheet.write_string(CHANCES - 1, column, head, self.head)
        for row, (label, sign) in enumerate((("below", "<"), ("above", ">")), start=CHANCES):
            self._chance(row, label, sign)
        sheet.write_string(DATA - 1, 0, "block", self.head)
        sheet.write_string(DATA - 1, 1, "value", self.head)
        for column, text in enumerate(("below", "above", "of trials"), start=3):
            sheet.write_string(DATA - 1, column, text, self.head)
        blocks = [
            position for position, size in enumerate(self.sizes, start=1) for _ in range(size)
        ]
        sheet.write_column(DATA, 0, blocks)
        for row, value in enumerate(self.values.tolist(), start=DATA):
            if value == value:
                sheet.write_number(row, 1, value, self.plain)
        bounds = np.asarray(self.sample.bounds).tolist()
        for k, (begin, end) in enumerate(pairwise(bounds)):
            piece = self.values[begin:end]
            area = f"$B${begin + DATA + 1}:$B${end + DATA}"
            hits_of = (("<", piece < self.cut), (">", piece > self.cut))
            for column, (sign, hits) in enumerate(hits_of, start=3):
                formula = f'=COUNTIF({area},"{sign}"&$B$2)'
                sheet.write_formula(DATA + k, column, formula, None, int(np.count_nonzero(hits)))
            sheet.write_number(DATA + k, 5, self.sizes[k])

    def _chance(self, row: int, label: str, sign: str) -> None:
        """Write the chance on one side, with Wilson's interval by the spread between blocks."""
        hits = self.values < self.cut if sign == "<" else self.values > self.cut
        count, blocks = len(self.values), len(self.sizes)
        p = float(hits.mean())
        column, last = "D" if sign == "<" else "E", DATA + blocks
        area, sized = f"{column}${DATA + 1}:{column}${last}", f"$F${DATA + 1}:$F${last}"
        line = row + 1
        everyone: Sample = self.sample.__class__(np.zeros(count), self.sample.bounds)
        variance = everyone.variance_of_mean(hits)
        exact = self.sample.independent or variance <= 0
        effective = float(count) if exact else p * (1 - p) / variance
        low, high = wilson(p, effective, Z if exact else everyone.student)
        sheet, share = self.sheet, self.share
        sheet.write_string(row, 0, f"chance {label} the cut-off")
        sheet.write_formula(row, 1, f"=SUM({area})/{count}", share, p)
        spread = f"SUMPRODUCT(({area}-{sized}*SUM({area})/{count})^2)"
        sheet.write_formula(
            row, 4, f"={spread}/{count}^2*{blocks}/{blocks - 1}", self.precise, variance
        )
        sampled = "FALSE" if self.sample.independent else f"E{line}>0"
        formula = f"=IF({sampled},B{line}*(1-B{line})/E{line},{count})"
        sheet.write_formula(row, 5, formula, self.whole, effective)
        t = f"IF({sampled},{everyone.student!r},{Z!r})"
        middle = f"(B{line}+{t}^2/(2*F{line}))"
        reach = f"{t}*SQRT(B{line}*(1-B{line})/F{line}+{t}^2/(4*F{line}^2))"
        scale = f"(1+{t}^2/F{line})"
        sheet.write_formula(row, 2, f"=({middle}-{reach})/{scale}", share, low)
        sheet.write_formula(row, 3, f"=({middle}+{reach})/{scale}", share, high)


def _histogram(
    book: Any, sheet: Any, title: str, result: Result, values: Floats, live: bool
) -> None:
    """Write bins with their counts, which follow the trials of the sheet where it has them, and a
    chart of them.
    """
    value = values[np.isfinite(values)]
    first, last = np.quantile(value, [0.001, 0.999])
    if first == last:
        return
    step = _round_up((last - first) / BINS)
    edges = np.arange(math.floor(first / step), math.ceil(last / step) + 1) * step
    counts = np.histogram(value, edges)[0].tolist()
    head = book.add_format({"bold": True, "bottom": 1, "align": "right"})
    form = "0.0%" if is_per_cent(result.unit) else "#,##0" if step >= 1 else "#,##0.####"
    plain = book.add_format({"num_format": form})
    for column, text in ((LOWER, "from"), (UPPER, "to"), (COUNT, "trials")):
        sheet.write_string(DATA - 1, column, text, head)
    sheet.set_column(LOWER, COUNT, 14)
    final = len(counts) - 1
    for position, count in enumerate(counts):
        row = DATA + position
        sheet.write_number(row, LOWER, float(edges[position]), plain)
        sheet.write_number(row, UPPER, float(edges[position + 1]), plain)
        if live:
            area = f"$B${DATA + 1}:$B${DATA + len(values)}"
            end = "<=" if position == final else "<"  # the last bin has both of its ends
            formula = f'=COUNTIFS({area},">="&H{row + 1},{area},"{end}"&I{row + 1})'
            sheet.write_formula(row, COUNT, formula, None, count)
        else:
            sheet.write_number(row, COUNT, count)
    chart = book.add_chart({"type": "column"})
    name, bottom = sheet.get_name(), DATA + final
    chart.add_series(
        {
            "name": "trials",
            "categories": [name, DATA, LOWER, bottom, LOWER],
            "values": [name, DATA, COUNT, bottom, COUNT],
            "gap": 5,
            "fill": {"color": "#3B6FA0"},
        }
    )
    chart.set_title({"name": f"Trials by {title}", "name_font": {"size": 12}})
    chart.set_legend({"none": True})
    chart.set_x_axis({"num_format": form, "label_position": "low", "num_font": {"rotation": -45}})
    chart.set_y_axis({"name": "trials", "major_gridlines": {"visible": True}})
    chart.set_size({"width": 640, "height": 340})
    sheet.insert_chart(CHART if live else 2, 0, chart)


def _round_up(step: float) -> float:
    """Return the next of 1, 2 and 5 times a power of ten."""
    power = 10.0 ** math.floor(math.log10(step))
    return float(next(k * power for k in (1, 2, 5, 10) if k * power >= step * (1 - 1e-9)))
