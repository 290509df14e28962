"""The progress bar of a command."""

from __future__ import annotations

from kindynos.cli.output import output
from kindynos.reports.progress import ProgressBar

SHARE = "%"  # of the work, where it is not counted in trials


class Bar(ProgressBar):
    """A progress bar of a command, which says how far it had come when it is interrupted."""

    latest: tuple[int, int, str] | None = None  # how many, of how many, of what are done

    def __init__(self, label: str, of: str = "trials") -> None:
        super().__init__(label)
        self.of = of

    @classmethod
    def stopped(cls) -> str:
        """Return what is said of a command that was interrupted."""
        from kindynos.atomic import written_so_far

        if cls.latest is None:
            done = ""
        elif cls.latest[2] == SHARE:
            done = f" at {100 * cls.latest[0] / cls.latest[1]:.0f} %"
        else:
            done = " after {:,} of {:,} {}".format(*cls.latest)
        return f"stopped{done}; {written_so_far()}"

    def update(self, done: int, total: int) -> None:
        """Show how many of how many are done, unless nothing is to be printed."""
        Bar.latest = done, total, self.of
        if not output().quiet:
            super().update(done, total)
