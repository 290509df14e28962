"""The command line. To add a command: a file here with a click command, and its line in COMMANDS."""

from __future__ import annotations

import sys

import click

from kindynos import __version__
from kindynos.cli.check import check
from kindynos.cli.compare import compare
from kindynos.cli.demo import demo
from kindynos.cli.distributions import distributions
from kindynos.cli.drivers import drivers
from kindynos.cli.paths import paths
from kindynos.cli.risk import backtest, risk
from kindynos.cli.run import run
from kindynos.cli.solve import solve
from kindynos.cli.sweep import sweep
from kindynos.cli.trial import trial
from kindynos.errors import KindynosError, RunError

COMMANDS = (demo, check, run, compare, sweep, solve, drivers, trial, risk, backtest, paths, distributions)


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="kindynos")
def cli() -> None:
    """Decisions under uncertainty: simulate a model of an investment and read its risk.

    A model file (TOML) states known figures, uncertain drivers, lines that are calculated from them, and the outcomes to
    report on. Begin with an example and a model of your own:

    \b
      kindynos demo                    an invented ferry company's files, and what can be done with them
      kindynos check night_ferry.toml  read a model, show its base case, warn of what looks wrong
      kindynos run night_ferry.toml    simulate it
      kindynos compare ..., sweep ..., solve ..., drivers ..., trial ...
                                       scenarios, grids of values, goals, what matters, one trial read through
      kindynos risk ..., backtest ..., paths ...
                                       a portfolio's value at risk, whether it was right, where a price may go
      kindynos distributions           the laws a driver may have

    Exit status: 0 done, 1 the run failed, 2 bad input.
    """


for command in COMMANDS:
    cli.add_command(command)


def main() -> None:
    """Run the command line; errors of ours become one message and an exit status, never a traceback."""
    try:
        cli.main(standalone_mode=False)
    except click.exceptions.Abort:
        _fail("stopped", 1)
    except KeyboardInterrupt:
        _fail("stopped", 1)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except RunError as error:
        _fail(str(error), 1)
    except KindynosError as error:
        _fail(str(error), 2)
    except BrokenPipeError:
        sys.stderr.close()  # the reader of our output has gone; Python would complain on closing it
        sys.exit(0)


def _fail(message: str, status: int) -> None:
    click.echo(f"kindynos: {message}", err=True)
    sys.exit(status)
