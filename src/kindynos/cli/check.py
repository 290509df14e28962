"""``kindynos check``: read a model file and look it over."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import cell_options, model_argument, set_option, whole_option
from kindynos.cli.output import asked, with_output
from kindynos.cli.reading import WORKBOOKS, read_model
from kindynos.errors import FileError, KindynosError, RunError

if TYPE_CHECKING:
    from kindynos.model.model import Model
    from kindynos.reports.report import Report


@click.command()
@model_argument
@set_option
@cell_options
@click.option(
    "--write",
    type=click.Path(path_type=Path),
    metavar="FILE.toml",
    help="Of a workbook: write the model file that states the same, beside the workbook.",
)
@whole_option
@with_output
def check(
    file: Path, changes: tuple[str, ...], cells: dict[str, Any], write: Path | None, whole: bool
) -> Report | None:
    """Read the model in FILE, put its lines in order, show its base case and where its figures come
    from. For a folder that --out wrote, say how its files were made and whether they are still so.

    Warns of what looks wrong: a driver nothing uses, a rate of 8 where 0.08 is meant, an sd out of
    proportion, a distribution that can be negative for a price or exceed 1 for a share, nothing
    said about what moves together.

    \b
      kindynos check night_ferry.toml
      kindynos check night_ferry.toml --set hurdle=0.10
      kindynos check results
      kindynos check night_ferry.xlsx --write plan.toml
    """
    if file.is_dir():
        _check_folder(file)
        return None
    if file.suffix.lower() in WORKBOOKS:
        if not _check_workbook(file, cells):
            return None
    elif write is not None:
        raise KindynosError("--write goes with a workbook")
    from kindynos.reports.models import checked

    model = read_model(file, changes, cells)
    if write is not None:
        _write_model(model, file, write)
    return checked(model, whole)


def _check_workbook(file: Path, cells: dict[str, Any]) -> bool:
    """Say whether we agree with a workbook, and what is special about it; return whether it states
    an outcome.
    """
    from kindynos.workbooks.uncertain_sheet import uncertain_sheet
    from kindynos.workbooks.workbook import read_workbook

    book = read_workbook(file)
    if asked("json") and (uncertain_sheet(book.contents) is not None or cells["outcomes"]):
        return True  # the data are those of the model
    words = book.agreement.words
    click.echo(f"{words[:1].upper()}{words[1:]}.")
    for note in book.notes:
        click.echo(f"{note[:1].upper()}{note[1:]}.")
    functions = book.functions()
    for name, row in functions[~functions["known"]].iterrows():
        click.echo(f"The function {name} is not known; used in {row['cells']}.")
    drawn = book.random()
    if len(drawn):
        valid = len(drawn) == 1
        count = "1 cell draws" if valid else f"{len(drawn):,} cells draw"
        click.echo(f"{count}: {', '.join(drawn.index[:5])}{', ...' * (len(drawn) > 5)}.")
    click.echo("")
    if uncertain_sheet(book.contents) is None and not cells["outcomes"]:
        click.echo("Name the cell of the answer with --outcome CELL to see the model.")
        return False
    return True


def _write_model(model: Model, file: Path, write: Path) -> None:
    """Write the model file of a workbook."""
    from kindynos.atomic import check_writable, replacing

    if write.resolve().parent != file.resolve().parent:
        raise FileError("must lie beside the workbook, which it names", file=str(write))
    check_writable(write)
    with replacing(write) as temporary:
        temporary.write_text(model.to_toml(), encoding="utf-8")
    click.echo(f"Written: {write}\n")


def _check_folder(folder: Path) -> None:
    """Report how the files in a folder of results were made; exit status 1 where they are not what
    their manifest says.
    """
    from kindynos.reports.manifest import differences, read_manifest

    for made in read_manifest(folder):
        seed = "" if made.get("seed") is None else f", seed {made['seed']}"
        click.echo(
            f"kindynos {made.get('command')}{seed}, version {made.get('kindynos')}: "
            f"{', '.join(made['files'])}"
        )
    problems = differences(folder)
    if problems:
        raise RunError("; ".join(problems), file=str(folder))
    click.echo("All files are as they were written.")
