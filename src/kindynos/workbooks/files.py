"""Models of workbooks without a model file: from a sheet named ``uncertain``, or from cells that
the command line names; and one trial written back into a workbook.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import fields
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kindynos.atomic import check_writable, replacing
from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import distribution_from
from kindynos.distributions.stated import StatedDistribution
from kindynos.errors import FileError, KindynosError, ModelError, RunError
from kindynos.model.model import Model
from kindynos.validate import path_of
from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.calculation import CellCalculation, Draw
from kindynos.workbooks.formulas import TOKEN
from kindynos.workbooks.labels import unique
from kindynos.workbooks.modelling import CellModel, names_for, title_of
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
    "Summary!C20" and "Inputs!B7=pert 17.5e6 19e6 26e6", beside those of its sheet ``uncertain``.

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
    taken = {*stated.outcomes, *stated.drivers, *stated.given}
    for label, cell in names_for(book.graph, outcomes).items():
        name = unique(label, taken)
        taken.add(name)
        stated.outcomes[name] = cell, {}
    for text in drivers:
        cell, distribution = _driver_in(text)
        name = unique(next(iter(names_for(book.graph, [cell]))), taken)
        taken.add(name)
        stated.drivers[name] = cell, distribution, {}
    lengths = stated.lengths()
    periods = lengths.pop() if len(lengths) == 1 else None
    model = Model(title_of(book.path), periods)
    stated.add_to(model)
    return model


def _driver_in(text: str) -> tuple[str, Distribution | StatedDistribution]:
    """Return the cell and the distribution that a text states."""
    cell, equals, rest = text.partition("=")
    words = rest.split()
    numbers: list[float] = []
    while words and _number(words[-1]) is not None:
        numbers.insert(0, float(_number(words.pop()) or 0.0))
    label = " ".join(words)
    if not equals or not label:
        raise ModelError(
            f"{text!r:.80}: say CELL=DISTRIBUTION PARAMETERS, such as 'Inputs!B7=pert 17.5e6 19e6 "
            "26e6'"
        )
    try:
        kind: Any = CATALOGUE.find(label)  # every distribution is a dataclass
        names = [field.name for field in fields(kind) if not field.kw_only]
        if len(numbers) > len(names):
            raise ModelError(
                f"{label} takes {', '.join(names)}, and {len(numbers)} numbers are stated"
            )
        return cell.strip(), distribution_from(label, dict(zip(names, numbers, strict=False)))
    except KindynosError as error:
        raise error.inside(f"--driver {cell.strip()}") from None


def _number(text: str) -> float | None:
    try:
        return float(text.replace("_", ""))
    except ValueError:
        return None


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
        kept_values = book[cell.sheet][cell.short]
        text = getattr(kept_values.value, "text", kept_values.value)
        replaced = with_draws(str(text), calls)
        if hasattr(kept_values.value, "text"):
            kept_values.value.text = replaced
        else:
            kept_values.value = replaced
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
        index += sum(len(re.findall(r"[A-Za-z.]\(", piece)) for piece in inner)
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
