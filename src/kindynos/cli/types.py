"""The types of arguments and options: names, figures, ranges, dates, ``NAME=VALUE``."""

from __future__ import annotations

import sys
import tomllib
from collections.abc import Callable, Iterable
from decimal import Decimal
from importlib import import_module
from pathlib import Path
from typing import Any, get_args

import click
from click.shell_completion import CompletionItem

from kindynos.errors import KindynosError
from kindynos.literals import ProcessName, RiskMethod
from kindynos.validate import raw_figure

MOST_VALUES = 100_000  # of one range


class Whole(click.ParamType):  # type: ignore[type-arg]  # generic in some versions only
    """A whole number, which may be written 20000, 20_000, 20,000 or 2e4."""

    name = "integer"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Return the number."""
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


WHOLE = Whole()


class Words(click.ParamType):  # type: ignore[type-arg]  # generic in some versions only
    """One of some names, several with commas where ``many``; hyphens may stand for the blanks.

    The names are those of a Literal, or of a registry such as
    ``"kindynos.markets.methods:METHODS"``: a new entry of it is a choice of the command line at
    once. Help lists the names of the Literal in LISTED until the registry is loaded, which takes
    long.
    """

    name = "name"

    def __init__(self, source: Any, many: bool = False) -> None:
        self.source, self.many = source, many

    @property
    def choices(self) -> list[str]:
        """The names, with hyphens."""
        if not isinstance(self.source, str):
            return self._hyphenated(get_args(self.source))
        module, _, registry = self.source.partition(":")
        return self._hyphenated(getattr(import_module(module), registry))

    @property
    def listed(self) -> list[str]:
        """The names that help lists, with hyphens."""
        literal = LISTED.get(self.source) if isinstance(self.source, str) else None
        if literal is None or self.source.partition(":")[0] in sys.modules:
            return self.choices
        return self._hyphenated(get_args(literal))

    def _hyphenated(self, names: Iterable[str]) -> list[str]:
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
        parts = [word.strip().replace(" ", "-") for word in str(value).split(",")]
        parts = parts if self.many else [str(value).replace(" ", "-")]
        for word in parts:
            if word not in choices:
                if OTHER_NAMES.get(word.lower()) in choices:
                    self.fail(f"{word}: the name here is {OTHER_NAMES[word.lower()]!r}", param, ctx)
                error = KindynosError(f"no {word!r} among its choices", unknown=word, known=choices)
                self.fail(str(error), param, ctx)
        replaceds = [word.replace("-", " ") for word in parts]
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
        *first, last = self.type.listed
        return record[0], record[1].replace("{names}", f"{', '.join(first)} or {last}")


PLANS, PROCESSES = "kindynos.sampling.plans:PLANS", "kindynos.processes.registry:PROCESSES"
RISK_METHODS = "kindynos.markets.methods:METHODS"
LISTED = {PROCESSES: ProcessName, RISK_METHODS: RiskMethod}
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


class Text(click.ParamType):  # type: ignore[type-arg]
    """A text that a function reads; ``form`` says how it is written where that fails."""

    name = "text"

    def __init__(self, read: Callable[[str], Any], form: str) -> None:
        self.read, self.form = read, form

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return what the text states."""
        if not isinstance(value, str):
            return value
        try:
            return self.read(value)
        except ValueError:
            option = param.opts[0] if param is not None else "the text"
            raise KindynosError(f"{option} {value}: say {self.form}") from None


def numbers(text: str) -> list[float]:
    """Return numbers with commas between them."""
    return [raw_figure(figure) for figure in text.split(",")]


def names(text: str) -> list[str]:
    """Return names with commas between them."""
    listed = [name.strip() for name in text.split(",") if name.strip()]
    if not listed:
        raise ValueError
    return listed


def ends(text: str) -> tuple[float, float]:
    """Return the ends of ``LOW:HIGH``."""
    low, high = (raw_figure(figure) for figure in text.split(":"))
    return low, high


def values(text: str) -> list[float]:
    """Return the values of ``LOW:HIGH:STEP``, or of numbers with commas between them."""
    if ":" not in text:
        return numbers(text)
    low, high, step = (raw_figure(figure) for figure in text.split(":"))
    if not (step > 0 and low <= high and (high - low) / step < MOST_VALUES):
        raise ValueError
    count = int((high - low) / step + 1e-9) + 1
    return [float(f"{low + i * step:.12g}") for i in range(count)]


def ends_or_values(text: str) -> tuple[float, float] | list[float]:
    """Return the ends of a range, or values."""
    return ends(text) if text.count(":") == 1 else values(text)


def dates(text: str) -> tuple[str, str]:
    """Return the two dates of ``FROM:TO``."""
    first, last = text.split(":")
    return first, last


def named(read: Callable[[str], Any]) -> Callable[[str], tuple[str, Any]]:
    """Return a reader of ``NAME=VALUE``; the name may hold the sign too."""

    def pair(text: str) -> tuple[str, Any]:
        name, equals, stated = text.rpartition("=")
        if not (equals and name.strip()):
            raise ValueError
        return name.strip(), read(stated.strip())

    return pair


def figures_by_name(text: str) -> dict[str, float]:
    """Return numbers by name from ``NAME=NUMBER`` with commas between."""
    return dict(map(named(raw_figure), text.split(",")))


def by_name(ctx: click.Context, param: click.Parameter, pairs: Iterable[tuple[str, Any]]) -> Any:
    """Return what was stated of each name; for an option that is repeated."""
    stated: dict[str, Any] = {}
    for name, value in pairs:
        if name in stated:
            raise KindynosError(f"{param.opts[0]}: {name!r} is given already; state each name once")
        stated[name] = value
    return stated


def gathered(ctx: click.Context, param: click.Parameter, parts: Iterable[dict[str, float]]) -> Any:
    """Return the numbers by name of an option that is repeated."""
    return {name: number for part in parts for name, number in part.items()}
