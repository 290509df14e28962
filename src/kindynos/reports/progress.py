"""Progress of long work: a bar on a terminal or in a notebook."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

PATIENCE = 0.7  # seconds before a bar appears


class ProgressBar:
    """A bar for long work, in a ``with`` statement; what it gives is the ``progress=`` of
    ``simulate`` and the like. It appears on a terminal or in a notebook only, and only when the
    work takes longer than a moment.

    >>> from kindynos import Model, Normal
    >>> model = Model("m")
    >>> model.driver("x", Normal(0, 1))
    >>> model.outcome("y", "x + 1")
    >>> with ProgressBar("simulating") as progress:
    ...     run = model.simulate(1_000, seed=1, progress=progress)
    >>> run.size
    1000
    """

    def __init__(self, label: str = "working") -> None:
        self.label = label
        self.begun = time.monotonic()
        self.bar: Any = None
        self.task: Any = None

    def __enter__(self) -> Callable[[int, int], None]:
        return self.update

    def update(self, done: int, total: int) -> None:
        """Show how many of how many are done."""
        if self.bar is None and time.monotonic() - self.begun > PATIENCE and _is_watched():
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

            columns = (
                TextColumn("{task.description}"),
                BarColumn(),
                TextColumn("{task.percentage:>3.0f} %"),
                TimeRemainingColumn(),
            )
            self.bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self.bar.start()
            self.task = self.bar.add_task(self.label, total=total)
        if self.bar is not None:
            self.bar.update(self.task, completed=done)

    def __exit__(self, *error: object) -> None:
        if self.bar is not None:
            self.bar.stop()


def _is_watched() -> bool:
    """Whether somebody sees it: on a terminal, or in a notebook."""
    if sys.stderr.isatty():
        return True
    shell = sys.modules.get("IPython")
    running = None if shell is None else shell.get_ipython()
    return type(running).__name__ == "ZMQInteractiveShell"
