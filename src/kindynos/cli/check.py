"""``kindynos check``: read a model file and look it over."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import cell_options, model_argument, set_option, whole_option
from kindynos.cli.output import output, with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import WORKBOOKS, read_model
from kindynos.errors import FileError, KindynosError, RunError
from kindynos.printable import visible

if TYPE_CHECKING:
    from kindynos.model.model import Model
    from kindynos.reports.report import Report

TRIED = 200  # trials; a spreadsheet program recalculates some of them


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
    from. For results, a folder that --out wrote, its summary.json or a page, say how they were
    made, whether they are still so, and whether the model was edited since.

    Warns of what looks wrong: a driver nothing uses, a rate of 8 where 0.08 is meant, an sd out of
    proportion, a distribution that can be negative for a price or exceed 1 for a share, nothing
    said about what moves together.

    Of a workbook it also says whether our values are those stored in it; where a spreadsheet
    program is installed, that recalculates three trials. Without an outcome it proposes cells.

    \b
      kindynos check night_ferry.toml
      kindynos check night_ferry.toml --set hurdle=0.10
      kindynos check results
      kindynos check results/summary.json
      kindynos check night_ferry.xlsx --write plan.toml
    """
    if file.is_dir() or _is_result(file):
        _check_result(file)
        return None
    from kindynos.reports.models import checked

    said: list[str] = []
    if file.suffix.lower() in WORKBOOKS:
        from kindynos.reports.cells import sentences, workbook_checked
        from kindynos.workbooks.uncertain_sheet import uncertain_sheet
        from kindynos.workbooks.workbook import read_workbook

        book = read_workbook(file)
        if uncertain_sheet(book.contents) is None and not cells["outcomes"]:
            return workbook_checked(book)
        said = sentences(book)
    elif write is not None:
        raise KindynosError("--write goes with a workbook")
    model = read_model(file, changes, cells)
    if said and model.compiled().drivers and not output().brief:
        from kindynos.workbooks.recalculation import recalculated

        with Bar("recalculating three trials"):
            said.append(recalculated(model.simulate(TRIED, seed=1)).words)
    if write is not None:
        _write_model(model, file, write)
        said.append(f"Written: {write}.")
    return checked(model, whole, said)


def _write_model(model: Model, file: Path, write: Path) -> None:
    """Write the model file of a workbook."""
    from kindynos.atomic import check_writable, replacing

    if write.resolve().parent != file.resolve().parent:
        raise FileError("must lie beside the workbook, which it names", file=str(write))
    check_writable(write)
    if write.exists() and not output().force:
        raise FileError("is there already; take another name, or say --force", file=str(write))
    with replacing(write) as temporary:
        temporary.write_text(model.to_toml(), encoding="utf-8")


def _is_result(file: Path) -> bool:
    """Whether a file is a result that we wrote, and not a model."""
    return file.suffix.lower() in (".json", ".html", ".htm")


def _check_result(result: Path) -> None:
    """Report how a folder of results, or one file of them, was made; exit status 1 where the files
    are not what they were, or what they were made from was changed since.
    """
    from kindynos.reports.manifest import differences, read_manifest
    from kindynos.reports.origin import changes, origin_in

    entries = read_manifest(result) if result.is_dir() else [{"origin": origin_in(result)}]
    problems = differences(result) if result.is_dir() else []
    beside = result.resolve() if result.is_dir() else result.resolve().parent
    absent: list[str] = []
    for made in entries:
        origin = made.get("origin", {})
        if "files" in made:
            seed = "" if made.get("seed") is None else f", seed {made['seed']}"
            files = ", ".join(made["files"])
            version = f"version {made.get('kindynos')}"
            click.echo(visible(f"kindynos {made.get('command')}{seed}, {version}: {files}"))
        signed = [origin.get("date"), origin.get("author"), origin.get("note")]
        if any(signed):
            click.echo(visible(f"Made {', '.join(text for text in signed if text)}."))
        changed, missing = changes(origin, (Path(), beside, beside.parent))
        problems += changed
        absent += missing
    if absent:
        click.echo(visible(f"Not here to be compared: {', '.join(dict.fromkeys(absent))}."))
    if problems:
        raise RunError("; ".join(dict.fromkeys(problems)), file=str(result))
    if result.is_dir():
        click.echo("All files are as they were written.")
    if not absent and any("origin" in made for made in entries):
        click.echo("What they were made from is as it was read.")
