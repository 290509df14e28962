"""Where the output of a command goes: the options of it, and what is done with a report."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, fields, replace
from functools import partial, wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from kindynos.cli.types import WHOLE
from kindynos.errors import FileError
from kindynos.extras import require
from kindynos.sources import sources_read

if TYPE_CHECKING:
    from kindynos.reports.files import CsvForm
    from kindynos.reports.origin import Origin
    from kindynos.reports.report import Report

Command = TypeVar("Command", bound=Callable[..., Any])


def _stated(help_text: str, **stated: Any) -> dict[str, Any]:
    """Return what makes the option of a field: its help and what click takes, ``of_page`` for one
    that changes a page, and ``needs`` with the extra that writes a file.
    """
    return {"help": help_text, **stated}


_PATH = click.Path(path_type=Path)


@dataclass
class Output:
    """Where the output of a command goes. The options of all commands are made from the fields."""

    out: Path | None = field(
        default=None,
        metadata=_stated(
            "Write the tables (CSV), the data (JSON) and the figures (PNG) there.",
            type=_PATH,
            metavar="DIR",
        ),
    )
    note: str | None = field(
        default=None,
        metadata=_stated("A note beside it, such as a status or what it is for.", metavar="TEXT"),
    )
    author: str | None = field(
        default=None,
        metadata=_stated("Who made it, on pages, in workbooks and in data.", metavar="NAME"),
    )
    report: Path | None = field(
        default=None,
        metadata=_stated(
            "Write a page that opens in a browser without a network.",
            type=_PATH,
            metavar="FILE.html",
            needs="report",
            of_page=True,
        ),
    )
    excel: Path | None = field(
        default=None,
        metadata=_stated(
            "Write a workbook of the answer and all tables.",
            type=_PATH,
            metavar="FILE.xlsx",
            needs="excel",
        ),
    )
    brief: bool = field(
        default=False, metadata=_stated("Print the answer alone, in a sentence or two.")
    )
    quiet: bool = field(
        default=False,
        metadata=_stated(
            "Print nothing, neither the report nor progress; write the files that were asked for."
        ),
    )
    digits: int | None = field(
        default=None,
        metadata=_stated(
            "Print figures with at most this number of significant digits; default: as many as "
            "their errors leave.",
            type=WHOLE,
            metavar="NUMBER",
            of_page=True,
        ),
    )
    out_decimal: str = field(
        default=".",
        metadata=_stated(
            "With --out: the decimal sign of CSV files.", type=click.Choice([".", ","])
        ),
    )
    out_separator: str | None = field(
        default=None,
        metadata=_stated(
            "With --out: what separates the cells of CSV files; default: a comma, or a semicolon "
            "beside a decimal comma.",
            metavar="SIGN",
        ),
    )
    force: bool = field(
        default=False, metadata=_stated("Replace files of others that have the names of ours.")
    )
    json: bool = field(default=False, metadata=_stated("Print plain data, for other programs."))

    def is_written(self) -> bool:
        """Whether something is given out that says where it comes from."""
        files = (self.out, self.report, self.excel)
        return self.json or any(path is not None for path in files)


@dataclass
class TrialsOutput(Output):
    """The output of a command that has trials to write."""

    parquet: bool = field(
        default=False, metadata=_stated("With --out: the trials as Parquet instead of CSV.")
    )
    excel_trials: bool = field(default=False, metadata=_stated("With --excel: all trials too."))


fields_by_name = {stated.name: stated for stated in fields(TrialsOutput)}


@dataclass
class _Finished:
    """What a command has read and written."""

    files: list[Path] = field(default_factory=list)
    sources: tuple[Any, ...] = ()
    seeds: tuple[int, ...] = ()  # that were chosen


def output() -> TrialsOutput:
    """Return the options of the output of the command that runs, as they stand without one."""
    context = click.get_current_context(silent=True)
    options = {} if context is None else context.meta.get("kindynos.output", {})
    return TrialsOutput(**options)


def _finished() -> _Finished:
    meta = click.get_current_context().meta
    done: _Finished = meta.setdefault("kindynos.finished", _Finished())
    return done


def _keep(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    """Keep an option of the output for when the report is there; what it needs is tried before the
    work that it is for.
    """
    stated = fields_by_name[str(param.name)].metadata
    if value is not None and "needs" in stated:
        require(stated["needs"])
    if param.name == "out" and value is not None:
        from kindynos.atomic import check_folder

        check_folder(value)
    if param.name == "digits":
        from kindynos.formatting import digits

        if value is not None and value < 1:
            raise click.BadParameter("needs at least 1 digit", ctx, param)
        ctx.with_resource(digits(value))
    ctx.meta.setdefault("kindynos.output", {})[param.name] = value


def _click_option(name: str) -> Callable[[Command], Command]:
    """Return the option of the command line for a field of ``Output``."""
    stated = fields_by_name[name]
    return click.option(
        f"--{name.replace('_', '-')}",
        name,
        default=stated.default,
        is_flag=stated.default is False,
        expose_value=False,
        callback=_keep,
        **{key: value for key, value in stated.metadata.items() if key not in ("needs", "of_page")},
    )


def name_written(path: Path) -> None:
    """Have the command name a file that it has written, beside those of ``finish``."""
    _finished().files.append(path)


def with_output(
    command: Callable[..., Report | None], kind: type[Output] = Output
) -> Callable[..., None]:
    """Add --out, --json, --report and the other options of output to a command; the report that it
    returns is then written and printed as they say.
    """

    @wraps(command)
    def call(*arguments: Any, **options: Any) -> None:
        csv_form()
        from kindynos.sampling.streams import seeds_chosen

        with sources_read() as read, seeds_chosen() as seeds:
            report = command(*arguments, **options)
            _finished().sources, _finished().seeds = tuple(read), tuple(seeds)
            if report is not None:
                finish(report)  # while it is known what was read, which nothing may replace
        if report is not None and report.status:
            sys.exit(report.status)

    for stated in reversed(fields(kind)):
        _click_option(stated.name)(call)
    return call


with_trials_output = partial(with_output, kind=TrialsOutput)


def csv_form() -> CsvForm:
    """Return how CSV files are to be written; raises ParameterError where that cannot be."""
    from kindynos.reports.files import CsvForm

    return CsvForm(output().out_decimal, output().out_separator)


def finish(report: Report) -> None:
    """Write a report's tables and pictures to a folder if asked, then print it, or its data."""
    from kindynos.reports.console import console

    written = []
    to = output()
    if to.is_written():
        report = replace(report, origin=_origin(report, to))
    if to.out is not None:
        with results_folder(to.out, report.origin) as stage:
            trials = "parquet" if to.parquet else "csv"
            _say_size(report, trials)
            written = report.write(stage, trials, csv_form())
    files = [*_write_pages(report, to), *_finished().files]
    # Only now that all files are there: the reader of the output may have gone, or its disk be
    # full.
    if to.json:
        click.echo(report.json(), nl=False)
        return
    if to.quiet:
        return
    console(140).print(report.brief() if to.brief else report)
    if files:
        click.echo(f"\nWritten: {', '.join(map(str, files))}")
    if to.out is not None:
        click.echo(f"\nWritten to {to.out}: {', '.join(written)}")


def _say_size(report: Report, trials: str) -> None:
    """Say how large a file of trials will be, where it is large and Parquet is smaller."""
    frame = report.frames().get("trials")
    if frame is not None and trials == "csv" and frame.size * BYTES > LARGE:
        click.echo(
            f"trials.csv will have {len(frame):,} rows, about {frame.size * BYTES / 1e6:,.0f} MB; "
            "--parquet takes less than half of that",
            err=True,
        )


def _origin(report: Report, to: Output) -> Origin:
    """Return who made a result from which files, and the command that makes it again."""
    import shlex

    from kindynos.reports.origin import Origin, model_of

    words = ["kindynos", *_without_output(sys.argv[1:])]
    chosen = _finished().seeds
    seed = chosen[0] if chosen else getattr(report.result, "seed", None)
    if seed is not None and "--seed" not in words and not any("--seed=" in w for w in words):
        words += ["--seed", str(seed)]
    return Origin(
        _finished().sources,
        shlex.join(words),
        to.author or "",
        to.note or "",
        model_of(report.result),
    )


BYTES = 18  # of a number in a CSV file, about
LARGE = 50e6  # bytes of a file from which its size is said before it is written


def _without_output(words: Sequence[str]) -> list[str]:
    """Return the words of a command without options that do not change its page."""
    aside = {f"--{name.replace('_', '-')}": stated for name, stated in fields_by_name.items()}
    flags = {"--save": False}  # by option, whether it is a flag; those that are left out
    for option, stated in aside.items():
        if "of_page" not in stated.metadata:
            flags[option] = stated.default is False
    kept, skip = [], False
    for word in words:
        if skip:
            skip = False
            continue
        option, given, _ = word.partition("=")
        skip = not flags.get(option, True) and not given
        if option not in flags:
            kept.append(word)
    return kept


def _write_pages(report: Report, to: TrialsOutput) -> list[Path]:
    """Write the page and the workbook that were asked for; return their paths."""
    if to.report is not None:
        from kindynos.reports.page.page import write_report

        write_report(report, to.report)
    if to.excel is not None:
        from kindynos.reports.workbook.book import write_workbook

        write_workbook(report, to.excel, to.excel_trials)
    return [path for path in (to.report, to.excel) if path is not None]


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
        others = [] if output().force else not_ours(stage, folder)
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
