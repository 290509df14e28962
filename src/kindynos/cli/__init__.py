"""The command line. To add a command: a file here with a click command of the same name, and its
name in COMMANDS.
"""

from __future__ import annotations

import codecs
import os
import re
import signal
import sys
import tempfile
import traceback
from collections.abc import Collection, Mapping
from importlib import import_module
from importlib.resources import files

import click

from kindynos import __version__
from kindynos.atomic import remove_unfinished, written_so_far
from kindynos.errors import KindynosError, RunError, closest
from kindynos.printable import visible

COMMANDS = {
    "To begin": ("demo", "distributions", "schema"),
    "Models": (
        "check",
        "run",
        "compare",
        "bridge",
        "sweep",
        "solve",
        "optimize",
        "drivers",
        "robustness",
        "trial",
    ),
    "Choices": ("decide",),
    "Records and results made elsewhere": ("fit", "forecast", "read"),
    "Portfolios and prices": ("risk", "backtest", "validate", "allocate", "paths"),
}
FILES = {"backtest": "risk"}  # of commands that have no file of their own name

SPELLED = {  # what is written where an encoding lacks a sign
    "\N{PLUS-MINUS SIGN}": "+/-",
    "\N{MULTIPLICATION SIGN}": "x",
    "\N{MINUS SIGN}": "-",
    "\N{EN DASH}": "-",
    "\N{RIGHTWARDS ARROW}": "->",
    "\N{BOX DRAWINGS LIGHT HORIZONTAL}": "-",
    "\N{LESS-THAN OR EQUAL TO}": "<=",
    "\N{GREATER-THAN OR EQUAL TO}": ">=",
}


# what people type for what a command does
SYNONYMS = {
    "tornado": "drivers --method swing",
    "sensitivity": "drivers",
    "assumptions": "robustness",
    "stress-test": "robustness, or risk --stress",
    "goal-seek": "solve",
    "goalseek": "solve",
    "what-if": "compare, or sweep",
    "scenarios": "compare",
    "simulate": "run",
    "var": "risk",
    "value-at-risk": "risk",
    "excel": "check FILE.xlsx, or run FILE.xlsx",
    "predict": "forecast",
    "changes": "bridge --changes",
    "diff": "bridge --changes",
    "optimise": "optimize",
    "report": "run FILE --report PAGE.html",
}


def _advice(name: str, names: Collection[str]) -> str:
    """Return what may have been meant by a command that there is not."""
    if name.lower().endswith((".toml", ".xlsx", ".xlsm")):
        return f" Did you mean 'kindynos run {name}'?"
    near = SYNONYMS.get(name.lower()) or closest(name, list(names))
    return f" Did you mean {near!r}?" if near else ""


class _Commands(click.Group):
    """The commands in the order of COMMANDS, each imported when it is called for, and with the
    whole first sentence of its help.
    """

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [name for names in COMMANDS.values() for name in names]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self.list_commands(ctx):
            return None
        module = import_module(f"kindynos.cli.{FILES.get(cmd_name, cmd_name)}")
        command: click.Command = getattr(module, cmd_name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        name, names = args[0], self.list_commands(ctx)
        if name not in names and not name.startswith("-") and not ctx.resilient_parsing:
            ctx.fail(f"No such command {name!r}.{_advice(name, names)}")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, names in COMMANDS.items():
            with formatter.section(title):
                formatter.write_dl([(name, _short_help(name)) for name in names])


def _short_help(name: str) -> str:
    """Return the first sentence on a command, read from its file: to load all of them would take a
    quarter of a second.
    """
    folder = files("kindynos.cli")
    text = folder.joinpath(f"{FILES.get(name, name)}.py").read_text(encoding="utf-8")
    described = re.search(rf'^def {name}\(.*?"""(.*?)(?:\n\n|""")', text, re.M | re.S)
    words = " ".join(described[1].split()) if described else ""
    return words.split(". ")[0].rstrip(".") + "."


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, prog_name="kindynos")
def cli() -> None:
    """Decisions under uncertainty: simulate a model of an investment and read its risk.

    A model file (TOML) states known figures, uncertain drivers, lines that are calculated from
    them, and the outcomes to report on. `kindynos demo` writes examples; `kindynos COMMAND --help`
    tells more of each command.

    Exit status: 0 done, 1 the run failed, 2 bad input, 3 a limit is broken.
    """


def main() -> None:
    """Run the command line; errors of ours become one message and an exit status, never a
    traceback.
    """
    _prepare_output()
    try:
        cli.main(standalone_mode=False)
    except (click.exceptions.Abort, KeyboardInterrupt):
        _fail(_stopped(), 1)
    except click.ClickException as error:
        if type(error).__name__ == "NoArgsIsHelpError":  # of newer versions
            error.show()
            sys.exit(error.exit_code)
        context = getattr(error, "ctx", None)
        message = error.format_message().rstrip(".")
        if context and context.parent:
            message += " See" if message.endswith(("?", ")")) else "; see"
            message += f" kindynos {context.info_name} --help"
        _fail(message, error.exit_code)
    except KindynosError as error:
        failed = isinstance(error, RunError) and not error.known  # else it is a wrong name
        _fail(on_command_line(str(error), _options()), 1 if failed else 2)
    except OSError as error:  # of the output only: files of ours raise FileError
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        _fail(f"the output cannot be written: {error.strerror or error}", 1)
    except Exception as error:  # the last of all: nobody is shown a traceback
        _fail(_internal(error), 1)
    except SystemExit as leave:
        # Click ends with 1 when the reader of our output has gone. The files were written before:
        # that is not a failure.
        sys.exit(0 if "PacifyFlush" in type(sys.stdout).__name__ else leave.code)
    _flush()


def _stopped() -> str:
    """Return how far an interrupted command had come, and what it has written."""
    progress = sys.modules.get("kindynos.cli.progress")  # no more is loaded while it ends
    return str(progress.Bar.stopped()) if progress else f"stopped; {written_so_far()}"


def _internal(error: Exception) -> str:
    """Return an error of ours in words, with its details in a file that can be sent."""
    details = "".join(traceback.format_exception(error))
    kind = type(error).__name__
    try:
        with tempfile.NamedTemporaryFile(
            "w", prefix="kindynos-error-", suffix=".txt", delete=False, errors="replace"
        ) as file:
            file.write(f"{' '.join(sys.argv)}\n\n{details}")
    except OSError:
        return f"internal error ({kind}: {error}); please report it"
    return f"internal error ({kind}: {error}); please report it, with the details in {file.name}"


def _prepare_output() -> None:
    """Have output that the caller closed go nowhere, and signs that an encoding lacks be written
    with others.
    """
    codecs.register_error("kindynos", _spelled)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            stream = open(os.devnull, "w")  # noqa: SIM115
            setattr(sys, name, stream)
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="kindynos")


def _spelled(error: UnicodeError) -> tuple[str, int]:
    """Return what is written in place of characters that an encoding does not know."""
    assert isinstance(error, UnicodeEncodeError)
    characters = error.object[error.start : error.end]
    return "".join(SPELLED.get(c, "?") for c in characters), error.end


def handle_signals() -> None:
    """Have an interrupt and a termination leave nothing half done; for a process that does nothing
    else.
    """
    signal.signal(signal.SIGTERM, _terminate)
    signal.signal(signal.SIGINT, _interrupt)


def _interrupt(*_: object) -> None:
    if sys.stderr.isatty():
        # no half of a progress bar, and the cursor is seen again
        os.write(2, b"\r\x1b[2K\x1b[?25h")
    os.write(2, f"kindynos: {_stopped()}\n".encode())
    _end(1)


def _terminate(*_: object) -> None:
    _end(143)


def _end(status: int) -> None:
    """End at once, without half-written files and without workers that live on.

    No exception is raised for it: that might be caught on its way, or lost where Python cannot
    raise any.
    """
    try:
        remove_unfinished()
        # it may be half imported
        workers = getattr(sys.modules.get("multiprocessing"), "active_children", None)
        for child in workers() if workers is not None else ():
            child.kill()
    finally:
        os._exit(status)


QUOTES = "'\""


def _flush() -> None:
    """Write what is left of the output here, where it can be told that it cannot be written."""
    try:
        sys.stdout.flush()
    except OSError as error:
        # Python flushes once more at the end
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        if not isinstance(error, BrokenPipeError):
            _fail(f"the output cannot be written: {error.strerror or error}", 1)


def _options() -> dict[str, str]:
    """Return the options of the command that was called, by the names that Python has for them."""
    context = click.Context(cli)
    names = [label for label in sys.argv[1:] if label in cli.list_commands(context)]
    command = cli.get_command(context, names[0]) if names else None
    if command is None:
        return {}
    by_name: dict[str, str] = {}
    for parameter in command.params:
        spelled = [spelling for spelling in parameter.opts if spelling.startswith("--")]
        by_name |= {text.removeprefix("--").replace("-", "_"): text for text in spelled}
        by_name |= {str(parameter.name): spelled[0]} if spelled else {}
    return by_name


def on_command_line(message: str, options: Mapping[str, str]) -> str:
    """Return a message with advice such as ``chance=0.8`` worded for the command line, ``--chance
    0.8``.

    >>> options = {"percentile": "--percentile", "instrument": "--column"}
    >>> on_command_line("say percentile=80 or instrument=, not fare=4", options)
    'say --percentile 80 or --column, not fare=4'
    """

    def option(match: re.Match[str]) -> str:
        name, value = match[1], match[2]
        if name not in options:
            return match[0]
        spelled = options[name]
        implied = not value or spelled == f"--{value.strip(QUOTES)}"  # kind='returns': --returns
        return spelled if implied else f"{spelled} {value}"

    return re.sub(r"(?<![\w.\-])([a-z_]+)=([^\s,;)]*)", option, message)


def _fail(message: str, status: int) -> None:
    click.echo(f"kindynos: {visible(message)}", err=True)
    sys.exit(status)
