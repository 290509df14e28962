"""Methods whose work is done in a higher layer, and those that every reported result has.

``distribution.plot()`` and ``run.save()`` are where a user looks for them, and yet pictures and
files lie above distributions and runs, which must not import them. Such a method states its
signature and its docstring, and names here the function that does the work; that function gets the
same arguments, and its module is loaded at the first call. ``[tool.kindynos.upward]`` in
pyproject.toml lists the calls that go up a layer, and ``make check`` holds that list.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from importlib import import_module
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

from kindynos.handed_out import HandsOutCopies
from kindynos.validate import checked

Arguments = ParamSpec("Arguments")
Answer = TypeVar("Answer")


def delegated_to(
    module: str, function: str
) -> Callable[[Callable[Arguments, Answer]], Callable[Arguments, Answer]]:
    """Return a decorator that replaces the body of a method by a call of ``module.function``."""

    def decorate(method: Callable[Arguments, Answer]) -> Callable[Arguments, Answer]:
        @wraps(method)
        def call(*arguments: Arguments.args, **options: Arguments.kwargs) -> Answer:
            returned: Answer = getattr(import_module(module), function)(*arguments, **options)
            return returned

        return checked(call)

    return decorate


class Inline:
    """What a notebook shows as a table: a model, a distribution, a figure with its error."""

    __slots__ = ()

    @delegated_to("kindynos.reports.page.inline", "inline")
    def _repr_html_(self) -> Any:
        """Return it as a notebook shows it: the answer and the first tables."""


class Reported(HandsOutCopies, Inline):
    """A result that has a report: printed, as a page, as a workbook and in a notebook it says the
    same. What the report of a class holds is registered in ``kindynos.reports.showing``.
    """

    @delegated_to("kindynos.reports.showing", "show")
    def show(self) -> None:
        """Print the answer, and the tables with their errors, as the command does that makes such a
        result.
        """

    @delegated_to("kindynos.reports.showing", "to_json")
    def to_json(self) -> str:
        """Return its figures and tables as JSON, as the command gives it with ``--json``."""

    @delegated_to("kindynos.reports.page.page", "write_page")
    def report(self, path: str | Path, *, author: str = "", note: str = "") -> None:
        """Write a page of it: one file that a browser opens without a network, with the ``author``
        and a ``note`` at its head. Raises FileError for a path that cannot be written, and without
        ``kindynos[report]``.
        """

    @delegated_to("kindynos.reports.workbook.book", "write_excel")
    def to_excel(
        self, path: str | Path, *, trials: bool = False, author: str = "", note: str = ""
    ) -> None:
        """Write a workbook of it: the answer, the tables with their errors, and whole tables on
        sheets of their own; of a run also its base case as formulas, cut-offs to change, and with
        ``trials`` all trials. ``author`` and ``note`` stand on the sheet of its origin. Raises
        FileError for a path that cannot be written, and without ``kindynos[excel]``.
        """
