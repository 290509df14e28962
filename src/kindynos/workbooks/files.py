"""Models of workbooks without a model file: from a sheet named ``uncertain``, or from cells that
the command line names; and one trial written back into a workbook.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kindynos.atomic import check_writable, replacing
from kindynos.errors import FileError, ModelError, RunError, concerning
from kindynos.model.model import Model
from kindynos.validate import path_of
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.calculation import CellCalculation, Draw
from kindynos.workbooks.cell_texts import correlation_in, driver_in, outcome_in
from kindynos.workbooks.formulas import TOKEN
from kindynos.workbooks.modelling import CellModel, title_of
from kindynos.workbooks.uncertain_sheet import NAME, stated_on, uncertain_sheet
from kindynos.workbooks.workbook import Workbook

if TYPE_CHECKING:
    from kindynos.results.run import Run


def model_of(
    book: Workbook,
    outcomes: Sequence[str] = (),
    drivers: Sequence[str] = (),
    accept_differences: bool = False,
) -> Model:
    """Return the model of a workbook: of the ``outcomes`` and ``drivers`` that texts name, such as
    "NPV = Summary!C20, EUR, at least 0" and "Price = Inputs!C4: pert 40 50 70 EUR/t", beside those
    of its sheet ``uncertain``.

    Raises ModelError where no outcome is named, or for a text that cannot be read.
    """
    sheet = uncertain_sheet(book.contents)
    if sheet is None and not outcomes:
        raise ModelError(
            f"which cell is the outcome? Say --outcome CELL, such as --outcome 'Summary!C20', or "
            f"name it on a sheet {NAME!r}"
        )
    stated = CellModel(book.graph) if sheet is None else stated_on(sheet, book.graph)
    stated.accept_differences = accept_differences
    for text in outcomes:
        with concerning(f"--outcome {text!r:.60}"):
            stated.state("outcomes", outcome_in(text))
    for text in drivers:
        with concerning(f"--driver {text!r:.60}"):
            pair = correlation_in(text)
            if pair is None:
                stated.state("drivers", driver_in(text))
            else:
                stated.correlations.append(pair)
    lengths = stated.lengths()
    periods = lengths.pop() if len(lengths) == 1 else None
    model = Model(title_of(book.path), periods)
    stated.add_to(model)
    return model


def trial_workbook(run: Run, number: int, path: str | Path) -> None:
    """Write a trial into a copy of its workbook; see Run.workbook."""
    calculation = _calculation_of(run)
    target = path_of("path", path)
    if target.suffix.lower() not in (".xlsx", ".xlsm"):
        raise FileError("a workbook must be named .xlsx", file=str(target))
    check_writable(target)
    try:
        import openpyxl
    except ImportError:
        raise FileError(
            "writing a workbook needs pip install 'kindynos[excel]'", file=str(target)
        ) from None
    values = run._trial_values(number)
    source = Path(calculation.file)
    if not source.is_file():
        raise FileError("the workbook of the model is no longer there", file=str(source))
    book = openpyxl.load_workbook(source, keep_vba=target.suffix.lower() == ".xlsm")
    drawn: dict[Cell, dict[int, float]] = {}
    for name, index in calculation.inputs.items():
        if isinstance(index, Draw):
            drawn.setdefault(index.cell, {})[index.place] = float(values[name])
            continue
        if name not in values:
            continue
        row = values[name].reshape(-1)
        for position, cell in enumerate(index):
            figure = float(row[position if name in calculation.rows else 0])
            book[cell.sheet][cell.short] = figure
    for cell, calls in drawn.items():
        drawn_cell = book[cell.sheet][cell.short]
        text = getattr(drawn_cell.value, "text", drawn_cell.value)
        replaced = with_draws(str(text), calls)
        if hasattr(drawn_cell.value, "text"):
            drawn_cell.value.text = replaced
        else:
            drawn_cell.value = replaced
    with replacing(target) as temporary:
        book.save(temporary)


def _calculation_of(run: Run) -> CellCalculation:
    for line in run.program.lines.values():
        if isinstance(line.calculation, CellCalculation):
            return line.calculation
    raise RunError("the model does not rest on a workbook")


def with_draws(text: str, calls: Mapping[int, float]) -> str:
    """Return a formula with numbers in place of calls of RAND and RANDBETWEEN, by their place among
    its calls.

    >>> with_draws("=RAND()*SUM(A1:A3)+RANDBETWEEN(1,6)", {0: 0.25, 2: 0.5})
    '=(0.25)*SUM(A1:A3)+(INT(0.5*((6)-(1)+1))+(1))'
    """
    draws, position, index = "", 0, 0
    while position < len(text):
        match = TOKEN.match(text, position)
        if match is None or match.lastgroup != "call":
            end = position + 1 if match is None else match.end()
            draws, position = draws + text[position:end], end
            continue
        value = calls.get(index)
        index += 1
        if value is None:
            draws, position = draws + match[0], match.end()
            continue
        inner, position = _inside(text, match.end())
        if not inner:
            draws += f"({value!r})"
            continue
        low, high = inner[0], inner[1]
        draws += f"(INT({value!r}*(({high})-({low})+1))+({low}))"
        index += sum(len(re.findall(r"[A-Za-z.]\(", formula)) for formula in inner)
    return draws


def _inside(text: str, begin: int) -> tuple[list[str], int]:
    """Return the arguments of a call whose bracket was opened before a place, and where it ends."""
    parts, depth, position = [""], 1, begin
    while position < len(text):
        match = TOKEN.match(text, position)
        token = text[position] if match is None else match[0]
        position += len(token)
        depth += token.count("(") - (token == ")") if not token.startswith('"') else 0
        if depth == 0:
            break
        if token == "," and depth == 1:
            parts.append("")
        else:
            parts[-1] += token
    return ([] if parts == [""] else parts), position
