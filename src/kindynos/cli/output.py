"""Where the output of a command goes: the options of it, and what is done with a report."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

from kindynos.cli.types import WHOLE
from kindynos.errors import FileError
from kindynos.extras import require
from kindynos.sources import sources_read

if TYPE_CHECKING:
    from kindynos.reports.origin import Origin
    from kindynos.reports.report import Report

Command = TypeVar("Command", bound=Callable[..., Any])


def for_output(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    """Keep an option of the output for when the report is there."""
    ctx.meta[f"kindynos.{param.name}"] = value


def asked(name: str) -> Any:
    """Return an option of the output of the command that runs; None where it has none."""
    context = click.get_current_context(silent=True)
    return None if context is None else context.meta.get(f"kindynos.{name}")


def _writable_folder(ctx: click.Context, param: click.Parameter, out: Path | None) -> None:
    """Return the folder, which is tried before the work that it is for."""
    from kindynos.atomic import check_folder

    if out is not None:
        check_folder(out)
    for_output(ctx, param, out)


def _for_file(extra: str) -> Callable[[click.Context, click.Parameter, Any], None]:
    """Return a callback that keeps a file of the output, and asks for the package that writes it
    before work begins.
    """

    def keep(ctx: click.Context, param: click.Parameter, value: Any) -> None:
        if value is not None:
            require(extra)
        for_output(ctx, param, value)

    return keep


def _most_digits(ctx: click.Context, param: click.Parameter, most: int | None) -> None:
    """Print figures with at most that number of digits, as long as the command runs."""
    from kindynos.formatting import digits

    if most is not None and most < 1:
        raise click.BadParameter("needs at least 1 digit", ctx, param)
    ctx.with_resource(digits(most))


def _csv_form(ctx: click.Context, param: click.Parameter, value: str | None) -> None:
    """Keep how CSV files are written, once both of its options are known."""
    for_output(ctx, param, value)
    if {"kindynos.out_decimal", "kindynos.out_separator"} <= set(ctx.meta):
        from kindynos.reports.files import CsvForm

        ctx.meta["kindynos.csv"] = CsvForm(
            ctx.meta["kindynos.out_decimal"], ctx.meta["kindynos.out_separator"]
        )


_OUT_OPTIONS = (
    click.option(
        "--json",
        is_flag=True,
        expose_value=False,
        callback=for_output,
        help="Print plain data, for other programs.",
    ),
    click.option(
        "--force",
        is_flag=True,
        expose_value=False,
        callback=for_output,
        help="Replace files of others that have the names of ours.",
    ),
    click.option(
        "--out-separator",
        metavar="SIGN",
        expose_value=False,
        callback=_csv_form,
        help="With --out: what separates the cells of CSV files; default: a comma, or a semicolon "
        "beside a decimal comma.",
    ),
    click.option(
        "--out-decimal",
        type=click.Choice([".", ","]),
        default=".",
        expose_value=False,
        callback=_csv_form,
        help="With --out: the decimal sign of CSV files.",
    ),
    click.option(
        "--digits",
        type=WHOLE,
        expose_value=False,
        callback=_most_digits,
        metavar="NUMBER",
        help="Print figures with at most this number of significant digits; default: as many as "
        "their errors leave.",
    ),
    click.option(
        "--quiet",
        is_flag=True,
        expose_value=False,
        callback=for_output,
        help="Print nothing, neither the report nor progress; write the files that were asked for.",
    ),
    click.option(
        "--brief",
        is_flag=True,
        expose_value=False,
        callback=for_output,
        help="Print the answer alone, in a sentence or two.",
    ),
    click.option(
        "--excel",
        type=click.Path(path_type=Path),
        expose_value=False,
        callback=_for_file("excel"),
        metavar="FILE.xlsx",
        help="Write a workbook of the answer and all tables.",
    ),
    click.option(
        "--report",
        "page",
        type=click.Path(path_type=Path),
        expose_value=False,
        callback=_for_file("report"),
        metavar="FILE.html",
        help="Write a page that opens in a browser without a network.",
    ),
    click.option(
        "--author",
        expose_value=False,
        callback=for_output,
        metavar="NAME",
        help="Who made it, on pages, in workbooks and in data.",
    ),
    click.option(
        "--note",
        expose_value=False,
        callback=for_output,
        metavar="TEXT",
        help="A note beside it, such as a status or what it is for.",
    ),
    click.option(
        "--out",
        type=click.Path(path_type=Path),
        expose_value=False,
        callback=_writable_folder,
        metavar="DIR",
        help="Write the tables (CSV), the data (JSON) and the figures (PNG) there.",
    ),
)


def name_written(path: Path) -> None:
    """Have the command name a file that it has written, beside those of ``finish``."""
    meta = click.get_current_context().meta
    meta["kindynos.files"] = [*meta.get("kindynos.files", ()), path]


def with_output(command: Callable[..., Report | None]) -> Callable[..., None]:
    """Add --out, --json, --report and the other options of output to a command; the report that it
    returns is then written and printed as they say.
    """

    @wraps(command)
    def call(*arguments: Any, **options: Any) -> None:
        with sources_read() as read:
            report = command(*arguments, **options)
            click.get_current_context().meta["kindynos.sources"] = tuple(read)
            if report is not None:
                finish(report)  # while it is known what was read, which nothing may replace
        if report is not None and report.status:
            sys.exit(report.status)

    for option in _OUT_OPTIONS:
        option(call)
    return cast(Callable[..., None], call)


def finish(report: Report) -> None:
    """Write a report's tables and pictures to a folder if asked, then print it, or its data."""
    from kindynos.reports.console import console

    written = []
    meta = click.get_current_context().meta
    out = asked("out")
    if out is not None or any(asked(name) for name in ("page", "excel", "json")):
        report = replace(report, origin=_origin(report, meta))
    if out is not None:
        with results_folder(out, report.origin) as stage:
            trials = "parquet" if asked("parquet") else "csv"
            _say_size(report, trials)
            written = report.write(stage, trials, meta["kindynos.csv"])
    files = [*_write_pages(report, meta), *(asked("files") or ())]
    # Only now that all files are there: the reader of the output may have gone, or its disk be
    # full.
    if asked("json"):
        click.echo(report.json(), nl=False)
        return
    if asked("quiet"):
        return
    console(140).print(report.brief() if asked("brief") else report)
    if files:
        click.echo(f"\nWritten: {', '.join(map(str, files))}")
    if out is not None:
        click.echo(f"\nWritten to {out}: {', '.join(written)}")


def _say_size(report: Report, trials: str) -> None:
    """Say how large a file of trials will be, where it is large and Parquet is smaller."""
    frame = report.frames().get("trials")
    if frame is not None and trials == "csv" and frame.size * BYTES > LARGE:
        click.echo(
            f"trials.csv will have {len(frame):,} rows, about {frame.size * BYTES / 1e6:,.0f} MB; "
            "--parquet takes less than half of that",
            err=True,
        )


def _origin(report: Report, meta: Mapping[str, Any]) -> Origin:
    """Return who made a result from which files, and the command that makes it again."""
    import shlex

    from kindynos.reports.origin import Origin, model_of

    words = ["kindynos", *_without_output(sys.argv[1:])]
    seed = getattr(report.result, "seed", None)
    if seed is not None and "--seed" not in words and not any("--seed=" in w for w in words):
        words += ["--seed", str(seed)]
    return Origin(
        tuple(meta.get("kindynos.sources", ())),
        shlex.join(words),
        meta.get("kindynos.author") or "",
        meta.get("kindynos.note") or "",
        model_of(report.result),
    )


BYTES = 18  # of a number in a CSV file, about
LARGE = 50e6  # bytes of a file from which its size is said before it is written
_SILENT = ("--force", "--quiet", "--brief", "--json", "--parquet", "--excel-trials")
_ASIDE = ("--out", "--excel", "--save", "--author", "--note", "--out-decimal", "--out-separator")


def _without_output(words: Sequence[str]) -> list[str]:
    """Return the words of a command without options that do not change its page."""
    kept, skip = [], False
    for label in words:
        if skip:
            skip = False
        elif label in _ASIDE:
            skip = True
        elif label not in _SILENT and label.partition("=")[0] not in _ASIDE:
            kept.append(label)
    return kept


def _write_pages(report: Report, meta: Mapping[str, Any]) -> list[Path]:
    """Write the page and the workbook that were asked for; return their paths."""
    page, excel = meta.get("kindynos.page"), meta.get("kindynos.excel")
    if page is not None:
        from kindynos.reports.page.page import write_report

        write_report(report, page)
    if excel is not None:
        from kindynos.reports.workbook.book import write_workbook

        write_workbook(report, excel, bool(meta.get("kindynos.excel_trials")))
    return [path for path in (page, excel) if path is not None]


@contextmanager
def results_folder(folder: Path, origin: Origin | None = None) -> Iterator[Path]:
    """Give a temporary folder whose files are moved into ``folder`` together, with a manifest of
    how they were made and of their checksums. Raises FileError for files there that no manifest of
    ours lists, unless they are to be replaced.
    """
    from kindynos.atomic import staged
    from kindynos.reports.manifest import not_ours, write_manifest

    context = click.get_current_context()
    options = {
        name: value for name, value in context.params.items() if value not in (None, (), False)
    }
    with staged(folder) as stage:
        yield stage
        others = [] if asked("force") else not_ours(stage, folder)
        if others:
            raise FileError(
                f"{', '.join(others[:5])} would be replaced, and no earlier results list "
                f"{'it' if len(others) == 1 else 'them'}; take another folder, or say --force",
                file=str(folder),
            )
        about = {"command": context.info_name, "options": options}
        if origin is not None:
            about["origin"] = origin.facts()
        write_manifest(stage, folder, about)
