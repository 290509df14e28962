"""What several commands share."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from kindynos.errors import KindynosError

if TYPE_CHECKING:
    import pandas as pd
    from rich.console import RenderableType

    from kindynos.model.model import Model

PATIENCE = 0.7  # seconds before a progress bar appears

model_argument = click.argument("file", type=click.Path(path_type=Path))
set_option = click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="NAME=VALUE",
    help="Replace a given figure, or fix a driver at a value; repeatable.",
)


json_option = click.option("--json", "as_data", is_flag=True, help="Print plain data, for other programs.")
out_option = click.option(
    "--out", type=click.Path(path_type=Path), metavar="DIR", help="Write the tables (CSV) and figures (PNG) there."
)
Command = TypeVar("Command", bound=Callable[..., Any])


def sampled(command: Command) -> Command:
    """Add the options of a simulation: trials, seed and sampling plan."""
    plan = "The sampling plan: latin, random, antithetic or sobol."
    command = click.option("--sampling", default="latin", show_default=True, help=plan)(command)
    command = click.option("--seed", type=int, help="A whole number that reproduces a run.")(command)
    return click.option("--trials", type=int, default=10_000, show_default=True, help="How many joint draws.")(command)


def finish(
    report: RenderableType,
    data: Callable[[], dict[str, Any]],
    out: Path | None,
    as_data: bool,
    tables: Mapping[str, pd.DataFrame],
    figures: Mapping[str, Callable[..., Any]],
) -> None:
    """Write tables and figures to a folder if asked, then print the report, or the data as JSON."""
    from kindynos.plots import save_figure
    from kindynos.reports.files import staged
    from kindynos.reports.summary import as_json
    from kindynos.reports.text import console

    if out is not None:
        with staged(out) as stage:
            for name, table in tables.items():
                table.to_csv(stage / f"{name}.csv")
            for name, draw in figures.items():
                save_figure(stage / f"{name}.png", draw)
    if as_data:
        click.echo(as_json(data()), nl=False)
        return
    console(140).print(report)
    if out is not None:
        written = [f"{name}.csv" for name in tables] + [f"{name}.png" for name in figures]
        click.echo(f"\nWritten to {out}: {', '.join(written)}")


def changed(model: Model, changes: Sequence[str]) -> Model:
    """Return the model with ``name=value`` replacements; raises KindynosError for one that cannot be read."""
    replacements: dict[str, float] = {}
    for change in changes:
        name, equals, text = change.partition("=")
        if not equals:
            raise KindynosError(f"--set {change}: say NAME=VALUE, such as --set fare=45")
        try:
            replacements[name.strip()] = float(text)
        except ValueError:
            raise KindynosError(f"--set {change}: {text.strip()!r} is not a number") from None
    try:
        return model.replace(**replacements)
    except KindynosError as error:
        raise type(error)(f"--set: {str(error).removeprefix('replace: ')}") from None


class Bar:
    """A progress bar for long runs: shown on a terminal only, and only when the work takes longer than a moment."""

    def __init__(self, label: str) -> None:
        self.label = label
        self.begun = time.monotonic()
        self.bar: Any = None
        self.task: Any = None

    def __enter__(self) -> Callable[[int, int], None] | None:
        return self._update if sys.stderr.isatty() else None

    def _update(self, done: int, total: int) -> None:
        if self.bar is None and time.monotonic() - self.begun > PATIENCE:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

            columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.percentage:>3.0f} %"))
            self.bar = Progress(*columns, TimeRemainingColumn(), console=Console(stderr=True), transient=True)
            self.bar.start()
            self.task = self.bar.add_task(self.label, total=total)
        if self.bar is not None:
            self.bar.update(self.task, completed=done)

    def __exit__(self, *error: object) -> None:
        if self.bar is not None:
            self.bar.stop()
