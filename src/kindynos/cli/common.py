"""What several commands share."""

from __future__ import annotations

import re
import sys
import tomllib
import warnings
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from decimal import Decimal
from functools import wraps
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast, get_args

import click
from click.shell_completion import CompletionItem

from kindynos.errors import KindynosError
from kindynos.extras import require
from kindynos.literals import ReturnPeriod, Spacing
from kindynos.reports.progress import ProgressBar
from kindynos.validate import raw_figure

if TYPE_CHECKING:
    from kindynos.model.model import Model
    from kindynos.reports.report import Report


class _Whole(click.ParamType):  # type: ignore[type-arg]  # generic in some versions only
    """A whole number, which may be written 20000, 20_000, 20,000 or 2e4."""

    name = "integer"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        if isinstance(value, int):
            return value
        try:
            number = Decimal(value.replace(",", "").replace("_", ""))
            if (
                not number.is_finite()
                or number != number.to_integral_value()
                or abs(number.adjusted()) > 30
            ):
                raise ValueError
        except (ArithmeticError, ValueError):
            self.fail(
                f"{value!r} is not a whole number; write one such as 20000 or 2e4", param, ctx
            )
        return int(number)


class Words(click.ParamType):  # type: ignore[type-arg]  # generic in some versions only
    """One of some names, several with commas where ``many``; hyphens may stand for the blanks.

    The names are those of a Literal, or of a registry such as
    ``"kindynos.markets.methods:METHODS"``, which is loaded when it is needed: a new entry of it is
    a choice of the command line at once.
    """

    name = "name"

    def __init__(self, source: Any, many: bool = False) -> None:
        self.source, self.many = source, many

    @property
    def choices(self) -> list[str]:
        """The names, with hyphens."""
        if isinstance(self.source, str):
            module, _, registry = self.source.partition(":")
            names = list(getattr(import_module(module), registry))
        else:
            names = list(get_args(self.source))
        return [name.replace(" ", "-") for name in names]

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        """Return what a shell may complete the last of the names to."""
        before, comma, begun = incomplete.rpartition(",") if self.many else ("", "", incomplete)
        return completed(self.choices, begun, f"{before}{comma}")

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the name, or the list of names."""
        if isinstance(value, list):
            return value
        choices = self.choices
        parts = [piece.strip().replace(" ", "-") for piece in str(value).split(",")]
        parts = parts if self.many else [str(value).replace(" ", "-")]
        for piece in parts:
            if piece not in choices:
                if OTHER_NAMES.get(piece.lower()) in choices:
                    self.fail(
                        f"{piece}: the name here is {OTHER_NAMES[piece.lower()]!r}", param, ctx
                    )
                error = KindynosError(
                    f"no {piece!r} among its choices", unknown=piece, known=choices
                )
                self.fail(str(error), param, ctx)
        replaceds = [piece.replace("-", " ") for piece in parts]
        return replaceds if self.many else replaceds[0]

    def get_metavar(self, param: click.Parameter, ctx: click.Context | None = None) -> str:
        """Return what help shows in place of a value."""
        return "NAME,..." if self.many else "NAME"


# other names of methods and plans
OTHER_NAMES = {"tornado": "swing", "spearman": "rank", "monte-carlo": "random", "lhs": "latin"}


class NameOption(click.Option):
    """An option whose help lists the names that it takes in place of ``{names}``."""

    def get_help_record(self, ctx: click.Context) -> tuple[str, str] | None:
        """Return the option and its help, with the names."""
        record = super().get_help_record(ctx)
        if record is None or not isinstance(self.type, Words):
            return record
        *first, last = self.type.choices
        return record[0], record[1].replace("{names}", f"{', '.join(first)} or {last}")


PLANS, PROCESSES = "kindynos.sampling.plans:PLANS", "kindynos.processes.registry:PROCESSES"
RISK_METHODS = "kindynos.markets.methods:METHODS"
SENSITIVITIES = "kindynos.results.sensitivity.methods:METHODS"


class Figure(click.ParamType):  # type: ignore[type-arg]
    """A number, or a percentage such as 9%."""

    name = "number"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return the raw figure."""
        try:
            return value if isinstance(value, float) else raw_figure(str(value))
        except ValueError:
            self.fail(f"{value!r} is not a number, such as 0.09 or 9%", param, ctx)


FIGURE = Figure()


class Numbers(click.ParamType):  # type: ignore[type-arg]
    """Numbers with commas between them."""

    name = "numbers"

    def __init__(self, example: str) -> None:
        self.example = example

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> list[float]:
        """Return the numbers."""
        if isinstance(value, list):
            return value
        try:
            return [raw_figure(piece) for piece in str(value).split(",")]
        except ValueError:
            self.fail(
                f"{value!r} is not numbers with commas between, such as {self.example}", param, ctx
            )


class OutcomeName(click.ParamType):  # type: ignore[type-arg]
    """The name of an outcome, which a shell completes from the model file of the same line."""

    name = "text"

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        """Return the outcomes of the file that begin so; none where it cannot be read."""
        # an option whose value is still missing leaves the arguments unread
        file = ctx.params.get("file") or next(iter(ctx.args), "")
        try:
            document = tomllib.loads(Path(file).read_text(encoding="utf-8"))
            return completed(list(document["outcomes"]), incomplete)
        except (OSError, ValueError, KeyError, TypeError):
            return []


def completed(names: Iterable[str], begun: str, before: str = "") -> list[CompletionItem]:
    """Return the names that begin so as a shell's completions."""
    return [CompletionItem(f"{before}{name}") for name in names if name.startswith(begun)]


WHOLE = _Whole()
WORKBOOKS = (".xlsx", ".xlsm", ".xltx", ".xltm", ".xls", ".xlsb", ".ods")  # endings of workbooks
THOUSANDS = re.compile(r"[+-]?\d{1,3}(,\d{3})+(\.\d*)?")  # or one value per period
PATIENT = 10  # seconds in which a cluster must answer
SHARE = "%"  # of the work, where it is not counted in trials

model_argument = click.argument("file", type=click.Path(path_type=Path))
set_option = click.option(
    "--set",
    "changes",
    multiple=True,
    metavar="NAME=VALUE",
    help="Replace a given figure, fix a driver at a value (or one per period: 1,2,3), set a "
    "parameter of its distribution or process "
    "(vessel.mode=18e6, fuel.volatility=0.3), or change the number of periods (periods=25); "
    "repeatable.",
)


whole_option = click.option(
    "--whole",
    is_flag=True,
    help="Show every period of the sheet, not the first and the last, and all rows.",
)
json_option = click.option(
    "--json", "as_data", is_flag=True, help="Print plain data, for other programs."
)


def _writable_folder(ctx: click.Context, param: click.Parameter, out: Path | None) -> Path | None:
    """Return the folder, which is tried before the work that it is for."""
    from kindynos.atomic import check_folder

    if out is not None:
        check_folder(out)
    return out


Command = TypeVar("Command", bound=Callable[..., Any])


def for_output(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    """Keep an option of the output for ``finish``."""
    ctx.meta[f"kindynos.{param.name}"] = value


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


# where the output goes; all but the folder are seen by ``finish`` alone
_OUT_OPTIONS = (
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
        help="With --report: who made it.",
    ),
    click.option(
        "--note",
        expose_value=False,
        callback=for_output,
        metavar="TEXT",
        help="With --report: a note at its head, such as a status or what it is for.",
    ),
    click.option(
        "--out",
        type=click.Path(path_type=Path),
        callback=_writable_folder,
        metavar="DIR",
        help="Write the tables (CSV), the data (JSON) and the figures (PNG) there.",
    ),
)


def out_option(command: Command) -> Command:
    """Add --out, --report, --excel and --brief."""
    for option in _OUT_OPTIONS:
        command = option(command)
    return command


def _option_group(group: str, *options: Callable[[Any], Any]) -> Callable[[Command], Command]:
    """Return what adds several options, which the command gets by name in one argument, ``group``;
    the first is the last in its help.
    """

    def add(command: Command) -> Command:
        @wraps(command)
        def call(*arguments: Any, **given: Any) -> Any:
            gathered = {name: given.pop(name) for name in names}
            return command(*arguments, **{group: gathered}, **given)

        before = len(getattr(command, "__click_params__", ()))
        for option in options:
            option(call)
        names = [parameter.name for parameter in cast(Any, call).__click_params__[before:]]
        return cast(Command, call)

    return add


def _cluster(ctx: click.Context, param: click.Parameter, address: str | None) -> Any:
    """Return the executor of a cluster, which is left when the command ends."""
    if address is None:
        return None
    try:
        from distributed import Client
    except ImportError:
        raise KindynosError(
            "--cluster needs Dask's scheduler: pip install 'kindynos[cluster]'"
        ) from None
    where = {"scheduler_file": address} if Path(address).is_file() else {"address": address}
    try:
        kind: Any = Client
        client = ctx.with_resource(kind(**where, timeout=PATIENT))
    except (OSError, TimeoutError, ValueError) as error:
        raise KindynosError(
            f"no cluster answers at {address} ({type(error).__name__}); say the address that its "
            "scheduler shows, such as tcp://10.0.0.5:8786, or its scheduler file"
        ) from None
    return client.get_executor()


DRAWS = (
    click.option(
        "--sampling",
        cls=NameOption,
        type=Words(PLANS),
        default="latin",
        show_default=True,
        help="The sampling plan: {names}.",
    ),
    click.option(
        "--seed", type=WHOLE, help="A whole number that reproduces a run; else one is chosen."
    ),
    click.option(
        "--trials", type=WHOLE, default=10_000, show_default=True, help="How many joint draws."
    ),
)
# the options of draws, and those of a whole simulation
drawn = _option_group("draws", *DRAWS)
simulated = _option_group(
    "simulation",
    click.option(
        "--cluster",
        "executor",
        callback=_cluster,
        metavar="ADDRESS",
        help="Run on the workers of a cluster: the address of its scheduler, or its scheduler "
        "file. The answer is the same.",
    ),
    click.option("--workers", type=WHOLE, help="Threads; default: all. The answer is the same."),
    *DRAWS,
)

# the options of a series in a table
series_options = _option_group(
    "series",
    click.option(
        "--season",
        type=WHOLE,
        help="Periods of one season, 0 for none; default: 12 for months and 4 for quarters.",
    ),
    click.option(
        "--every",
        type=Words(Spacing),
        help="How far apart the dates are: day, working-day, week, month, quarter or year.",
    ),
    click.option(
        "--dates",
        metavar="NAME",
        help="The column of dates of a series; default: the first that holds such.",
    ),
    click.option(
        "--column",
        metavar="NAME",
        help="The column of records; may be left out where there is one beside the dates.",
    ),
)

# the options of how a file of a table is laid out
TABLE_OPTIONS = (
    click.option(
        "--decimal",
        type=click.Choice([".", ","]),
        help="The decimal sign; default: found from the cells.",
    ),
    click.option("--encoding", metavar="NAME", help="The encoding; default: found, with a note."),
    click.option(
        "--header",
        type=WHOLE,
        metavar="ROW",
        help="The row with the names of the columns, 0 for none; default: found.",
    ),
    click.option("--sheet", metavar="NAME", help="The sheet of a workbook; default: the first."),
)
table_file = _option_group("layout", *TABLE_OPTIONS)

# the time over which returns are taken
every_option = click.option(
    "--every",
    cls=NameOption,
    type=Words(ReturnPeriod),
    help="Take returns over a {names}; default: from one date of PRICES to the next.",
)


def _by_name(example: str) -> Callable[..., dict[str, str]]:
    """Return a callback that turns repeated ``NAME=VALUE`` into a dictionary."""

    def gather(
        ctx: click.Context, param: click.Parameter, given: tuple[str, ...]
    ) -> dict[str, str]:
        pairs = [text.rpartition("=") for text in given]  # a name may hold the sign
        for text, (_, equals, _) in zip(given, pairs, strict=True):
            if not equals:
                raise click.BadParameter(f"{text}: say {example}", ctx, param)
        return {name.strip(): value.strip() for name, _, value in pairs}

    return gather


def _split_dates(
    ctx: click.Context, param: click.Parameter, given: tuple[str, ...]
) -> dict[str, dict[str, str]]:
    """Return ratios of splits by instrument and date."""
    example = "NAME=RATIO@DATE, such as ferry=2:1@2027-03-04"
    dates: dict[str, dict[str, str]] = {}
    for text in given:
        name, equals, ratio_and_date = text.rpartition("=")
        ratio, at, date = ratio_and_date.partition("@")
        if not (equals and at):
            raise click.BadParameter(f"{text}: say {example}", ctx, param)
        dates.setdefault(name.strip(), {})[date.strip()] = ratio.strip()
    return dates


# the options of how a file of prices is laid out, and what its columns are
price_file = _option_group(
    "layout",
    *TABLE_OPTIONS,
    click.option(
        "--per-year",
        type=FIGURE,
        metavar="NUMBER",
        help="The dates in a year of a market that has its own number; default: found from the "
        "dates (252 days, or 365 where weekends have prices, 52 weeks, 12 months).",
    ),
    click.option(
        "--change",
        "changes",
        multiple=True,
        callback=_by_name("NAME=absolute"),
        metavar="NAME=absolute",
        help="A column that changes by differences, such as a yield, and may be 0 or below; "
        "repeatable.",
    ),
    click.option(
        "--split",
        "splits",
        multiple=True,
        callback=_split_dates,
        metavar="NAME=RATIO@DATE",
        help="A split of shares, such as ferry=2:1@2027-03-04; prices before are adjusted; "
        "repeatable.",
    ),
    click.option(
        "--keep-suspicious",
        is_flag=True,
        help="Use prices that look wrong; default: they count as missing.",
    ),
)

missing_words_option = click.option(
    "--missing",
    "missing",
    multiple=True,
    metavar="WORD",
    help="A further word for a missing value, beside n/a, - and the like; repeatable.",
)


def finish(report: Report, out: Path | None, as_data: bool, trials: str = "csv") -> None:
    """Write a report's tables and pictures to a folder if asked, then print it, or its data."""
    from kindynos.reports.console import console

    written = []
    meta = click.get_current_context().meta
    if out is not None:
        with results_folder(out) as stage:
            written = report.write(stage, trials, meta["kindynos.csv"])
    pages = _write_pages(report, meta)
    # Only now that all files are there: the reader of the output may have gone, or its disk be
    # full.
    if as_data:
        click.echo(report.json(), nl=False)
        return
    if meta.get("kindynos.quiet"):
        return
    console(140).print(report.brief() if meta.get("kindynos.brief") else report)
    if pages:
        click.echo(f"\nWritten: {', '.join(pages)}")
    if out is not None:
        click.echo(f"\nWritten to {out}: {', '.join(written)}")


def _origin(report: Report, meta: Mapping[str, Any]) -> Any:
    """Return who made a page from which files, and the command that makes it again."""
    import shlex

    from kindynos.reports.page.origin import Origin, sources_of

    context = click.get_current_context()
    words = ["kindynos", *_without_output(sys.argv[1:])]
    seed = getattr(report.result, "seed", None)
    if seed is not None and "--seed" not in words and not any("--seed=" in w for w in words):
        words += ["--seed", str(seed)]
    stated = sorted(context.command.params, key=lambda value: not isinstance(value, click.Argument))
    values = [context.params.get(value.name or "") for value in stated]
    values = [two for value in values for two in (value if isinstance(value, tuple) else (value,))]
    given = [value for value in values if isinstance(value, Path)]
    read = [*given, *(beside for value in given for beside in _named_in(value))]
    return Origin(
        sources_of(read),
        shlex.join(words),
        meta.get("kindynos.author") or "",
        meta.get("kindynos.note") or "",
    )


_SILENT = ("--quiet", "--brief", "--json", "--parquet", "--excel-trials")
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


def _named_in(file: Path) -> Iterator[Path]:
    """Yield the files beside a model file that it names."""
    try:
        document = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return
    waiting: list[Any] = [document]
    while waiting:
        item = waiting.pop(0)
        if isinstance(item, dict):
            waiting += item.values()
        elif isinstance(item, list):
            waiting += item
        elif (
            isinstance(item, str)
            and len(item) < 200
            and Path(item).suffix
            and (file.parent / item).is_file()
        ):
            yield file.parent / item


def _write_pages(report: Report, meta: Mapping[str, Any]) -> list[str]:
    """Write the page and the workbook that were asked for; return their names."""
    page, excel = meta.get("kindynos.page"), meta.get("kindynos.excel")
    if page is not None:
        from kindynos.reports.page.page import write_report

        write_report(report, page, _origin(report, meta))
    if excel is not None:
        from kindynos.reports.workbook.book import write_workbook

        write_workbook(report, excel, bool(meta.get("kindynos.excel_trials")))
    return [str(path) for path in (page, excel) if path is not None]


@contextmanager
def results_folder(folder: Path) -> Iterator[Path]:
    """Give a temporary folder whose files are moved into ``folder`` together, with a manifest of
    how they were made and of their checksums.
    """
    from kindynos.atomic import staged
    from kindynos.reports.manifest import write_manifest

    context = click.get_current_context()
    options = {
        name: value for name, value in context.params.items() if value not in (None, (), False)
    }
    with staged(folder) as stage:
        yield stage
        write_manifest(stage, folder, {"command": context.info_name, "options": options})


# which cells of a workbook are the answer, and which are drawn
cell_options = _option_group(
    "cells",
    click.option(
        "--accept-differences",
        is_flag=True,
        help="Of a workbook: go on where our value of an outcome is not the one stored in it.",
    ),
    click.option(
        "--driver",
        "drivers",
        multiple=True,
        metavar="CELL=DISTRIBUTION",
        help="Of a workbook: a cell that is drawn, with its distribution and the parameters in "
        "order, such as 'Inputs!B7=pert 17.5e6 19e6 26e6'; repeatable.",
    ),
    click.option(
        "--outcome",
        "outcomes",
        multiple=True,
        metavar="CELL",
        help="Of a workbook: a cell to report on, such as 'Summary!C20'; repeatable.",
    ),
)


def read_model(
    file: Path, changes: Sequence[str] = (), cells: Mapping[str, Any] | None = None
) -> Model:
    """Return the model in a file, a workbook's, or from standard input for ``-``, with ``--set``
    changes; raises FileError.

    What a workbook does not agree with is said before anything else.
    """
    from kindynos.errors import DataWarning

    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always", DataWarning)
        model = _read_model(file, cells or {})
    for warning in caught:
        context = click.get_current_context(silent=True)
        plain = context is not None and context.params.get("as_data")
        click.echo(str(warning.message), err=bool(plain))
    return changed(model, changes) if changes else model


def _read_model(file: Path, cells: Mapping[str, Any]) -> Model:
    from kindynos.model.file import load_model, model_from_text

    if file.suffix.lower() in WORKBOOKS:
        from kindynos.workbooks.files import model_of
        from kindynos.workbooks.workbook import read_workbook

        try:
            return model_of(read_workbook(file), **cells)
        except KindynosError as error:
            raise error if error.file else error.with_context(file=str(file)) from None
    stated = next((f"--{key.rstrip('s')}" for key, value in cells.items() if value), None)
    if stated is not None:
        option = stated.replace("_", "-")
        raise KindynosError(f"{option} goes with a workbook, not with {file.name}")
    if str(file) == "-":
        return model_from_text(sys.stdin.read(), "standard input")
    return load_model(file)


def changed(model: Model, changes: Sequence[str]) -> Model:
    """Return the model with ``name=value`` replacements; raises KindynosError for one that cannot
    be read.
    """
    replacements: dict[str, Any] = {}
    for change in changes:
        name, equals, text = change.partition("=")
        if not equals:
            raise KindynosError(f"--set {change}: say NAME=VALUE, such as --set fare=45")
        if THOUSANDS.fullmatch(text.strip()):
            plain = text.strip().replace(",", "")
            raise KindynosError(
                f"--set {change}: write {plain} for the number, or a space after each comma for "
                "one value per period"
            )
        try:
            numbers = [float(piece) for piece in text.split(",")]
        except ValueError:
            raise KindynosError(
                f"--set {change}: {text.strip()!r} is not a number, or one per period with commas "
                "between"
            ) from None
        replacements[name.strip()] = numbers[0] if len(numbers) == 1 else numbers
    try:
        return model.replace(**replacements)
    except KindynosError as error:
        raise error.inside("--set") from None


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
        context = click.get_current_context(silent=True)
        if context is None or not context.meta.get("kindynos.quiet"):
            super().update(done, total)
