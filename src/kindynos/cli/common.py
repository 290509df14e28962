"""What several commands share."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.errors import KindynosError

if TYPE_CHECKING:
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
