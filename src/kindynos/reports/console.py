"""The terminal that reports are printed on."""

from __future__ import annotations

import errno
from typing import Any

from rich.console import Console

from kindynos.reports.tables import Trimmed


class _Terminal(Console):
    def on_broken_pipe(self) -> None:
        """Leave it to the command line what a reader who has gone means."""
        raise BrokenPipeError(errno.EPIPE, "the reader of the output has gone")

    def print(self, *parts: Any, **_: Any) -> None:
        """Print parts below each other, without blanks at the ends of lines."""
        super().print(
            Trimmed([self.render_str(part) if isinstance(part, str) else part for part in parts]),
            end="",
        )


def console(width: int | None = None) -> Console:
    """Return the console for standard output; where that is not a terminal plain text, as wide as
    COLUMNS says.

    Without COLUMNS it is as wide as the terminal that has the error output, to which a pipe may
    lead, or else as given.
    """
    from os import environ, get_terminal_size
    from sys import stderr, stdout

    wide: int | None = None
    if not stdout.isatty() and not environ.get("COLUMNS", "").isdigit():
        try:
            wide = get_terminal_size(stderr.fileno()).columns
        except (OSError, ValueError):
            wide = width or 110
    return _Terminal(highlight=False, soft_wrap=False, width=wide)
