"""``kindynos check``: read a model file and look it over."""

from __future__ import annotations

from pathlib import Path

import click

from kindynos.cli.common import model_argument, read_model, set_option, whole_option
from kindynos.errors import RunError

MOST_ROWS = 100  # of a table


@click.command()
@model_argument
@set_option
@whole_option
def check(file: Path, changes: tuple[str, ...], whole: bool) -> None:
    """Read the model in FILE, put its lines in order, show its base case and where its figures come
    from. For a folder that --out wrote, say how its files were made and whether they are still so.

    Warns of what looks wrong: a driver nothing uses, a rate of 8 where 0.08 is meant, an sd out of
    proportion, a distribution that can be negative for a price or exceed 1 for a share, nothing
    said about what moves together.

    \b
      kindynos check night_ferry.toml
      kindynos check night_ferry.toml --set hurdle=0.10
      kindynos check results
    """
    if file.is_dir():
        _check_folder(file)
        return
    from rich.markup import escape

    from kindynos.model.review import review
    from kindynos.model.writing import cohorts_of
    from kindynos.reports import text

    model = read_model(file, changes)
    program = model.compiled()
    units = {name: getattr(quantity, "unit", None) for name, quantity in model.quantities.items()}
    screen = text.console(140)
    counts = (
        f"{len(program.givens)} given, {len(program.drivers)} drivers, {len(program.lines)} lines"
    )
    cohorts = cohorts_of(list(program.lines.values()))
    lines = model.base_case().drop(index=list(program.givens), errors="ignore")
    screen.print(
        f"[bold]{escape(model.name)}[/]: {counts}, of which {len(program.outcomes)} outcomes\n"
    )
    title = "Base case, in the order of evaluation"
    tables = [
        *([text.givens_table(program)] if program.givens else []),
        *([text.drivers_table(program)] if program.drivers else []),
        *(text.cohort_table(name, cohort) for name, cohort in cohorts.items()),
        text.sheet_table(title, lines, units, whole),
    ]
    for table in tables:
        screen.print(table if whole else table.first(MOST_ROWS))
    screen.print(text.findings(review(program)))


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
