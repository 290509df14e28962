"""The model of a command: read from its file, a workbook or standard input, with --set changes."""

from __future__ import annotations

import re
import sys
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.output import output
from kindynos.errors import KindynosError
from kindynos.sources import note_text
from kindynos.validate import raw_figure

if TYPE_CHECKING:
    from kindynos.model.model import Model

WORKBOOKS = (".xlsx", ".xlsm", ".xltx", ".xltm", ".xls", ".xlsb", ".ods")  # as model.file has it
THOUSANDS = re.compile(r"[+-]?\d{1,3}(,\d{3})+(\.\d*)?")  # or one value per period


def read_model(
    file: Path, changes: Sequence[str] = (), cells: Mapping[str, Any] | None = None
) -> Model:
    """Return the model in a file, a workbook's, or from standard input for ``-``, with ``--set``
    changes; raises FileError.

    What a workbook does not agree with is said before anything else.
    """
    from kindynos.errors import DataWarning

    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", DataWarning)
        model = _read_model(file, cells or {})
    for warning in caught:
        click.echo(str(warning.message), err=output().json)
    use_titles(model.statement.titles)
    return changed(model, changes) if changes else model


def use_titles(titles: Mapping[str, str]) -> None:
    """Call quantities by their titles until the command ends."""
    from kindynos.formatting import TITLES, titled

    click.get_current_context().with_resource(titled({**TITLES.get(), **titles}))


def _read_model(file: Path, cells: Mapping[str, Any]) -> Model:
    from kindynos.model.file import load_model, model_from_text

    if file.suffix.lower() in WORKBOOKS:
        from kindynos.workbooks.files import model_of
        from kindynos.workbooks.workbook import read_workbook

        try:
            return model_of(read_workbook(file), **cells)
        except KindynosError as error:
            raise error if error.file else error.with_context(file=str(file)) from None
    stated = next((f"--{key.rstrip('s')}" for key, value in cells.items() if value), None)
    if stated is not None:
        option = stated.replace("_", "-")
        raise KindynosError(f"{option} goes with a workbook, not with {file.name}")
    if str(file) == "-":
        text = sys.stdin.read()
        note_text("standard input", text.encode("utf-8", "replace"))
        return model_from_text(text, "standard input")
    return load_model(file)


def changed(model: Model, changes: Sequence[str]) -> Model:
    """Return the model with ``name=value`` replacements; raises KindynosError for one that cannot
    be read.
    """
    replacements: dict[str, Any] = {}
    for change in changes:
        name, equals, text = change.partition("=")
        if not equals:
            raise KindynosError(f"--set {change}: say NAME=VALUE, such as --set fare=45")
        if THOUSANDS.fullmatch(text.strip()):
            plain = text.strip().replace(",", "")
            raise KindynosError(
                f"--set {change}: write {plain} for the number, or a space after each comma for "
                "one value per period"
            )
        try:
            numbers = [raw_figure(figure) for figure in text.split(",")]
        except ValueError:
            raise KindynosError(
                f"--set {change}: {text.strip()!r} is not a number, or one per period with commas "
                "between"
            ) from None
        replacements[name.strip()] = numbers[0] if len(numbers) == 1 else numbers
    try:
        return model.replace(**replacements)
    except KindynosError as error:
        raise error.inside("--set") from None
