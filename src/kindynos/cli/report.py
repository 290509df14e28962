"""``kindynos report``: results as pages that can be sent on."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.options import simulated
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model
from kindynos.errors import FileError, ModelError

if TYPE_CHECKING:
    from kindynos.results.run import Run


@click.command()
@click.argument("file", nargs=-1, required=True, type=click.Path(path_type=Path))
@simulated
@click.option(
    "--to",
    "folder",
    type=click.Path(path_type=Path),
    default=Path(),
    metavar="DIR",
    help="The folder of the pages; made when it is not there. Default: this one.",
)
def report(file: tuple[Path, ...], simulation: dict[str, Any], folder: Path) -> None:
    """Write a page for each FILE: a model file or a workbook, which is simulated, or a saved run
    (.parquet).

    A page is one file that a browser opens without a network: the answer, what is known and what is
    uncertain, each outcome with cut-offs to drag or type and the chances on either side, and in
    which values of the drivers it goes wrong.

    \b
      kindynos report night_ferry.toml --trials 20000 --seed 11
      kindynos report night_ferry.xlsx berths.toml --to pages
    """
    from kindynos.atomic import check_folder

    check_folder(folder)
    names = [path.stem for path in file]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise FileError(f"two files are named {twice!r}, and so would be their pages")
    for path in file:
        page = folder / f"{path.stem}.html"
        _run_of(path, simulation).report(page)
        click.echo(f"Written: {page}")


def _run_of(path: Path, simulation: dict[str, Any]) -> Run:
    """Return a saved run, or that of a model."""
    if path.suffix.lower() == ".parquet":
        from kindynos.model.saved import open_run

        return open_run(path)
    model = read_model(path)
    if not model.compiled().outcomes:
        raise ModelError(
            "there is no outcome to report on; state one under [outcomes]", file=str(path)
        )
    with Bar("simulating") as progress:
        run: Run = model.simulate(**simulation, progress=progress)
    return run
