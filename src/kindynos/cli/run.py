"""``kindynos run``: simulate a model file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from kindynos.cli.asking import table_options, table_spec
from kindynos.cli.options import cell_options, model_argument, set_option, simulated
from kindynos.cli.output import name_written, output, with_trials_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import read_model, use_titles
from kindynos.errors import KindynosError, ModelError

if TYPE_CHECKING:
    from kindynos.model.model import Model
    from kindynos.reports.report import Report
    from kindynos.results.figures import TableSpec
    from kindynos.results.run import Run


CHOOSING = 20_000  # trials on which rules are found
OTHERS = 0x2545F4914F  # changes the seed, for other draws
DEPARTURES = 5_000  # trials of each departure, at most
SHOWING = ("file", "percentiles", "statistics", "chances")  # what a saved run may be asked


@click.command()
@model_argument
@simulated
@set_option
@cell_options
@click.option(
    "--keep",
    multiple=True,
    metavar="NAME",
    help="Also write this line and draw it; repeatable. Needs --out.",
)
@with_trials_output
@click.option(
    "--save",
    "saved",
    type=click.Path(path_type=Path),
    metavar="FILE.parquet",
    help="Keep the run, to open or compare.",
)
@click.option(
    "--store",
    type=click.Choice(["all", "summary"]),
    default="all",
    show_default=True,
    help="summary: hold no trials but exact figures, for runs larger than memory.",
)
@click.option(
    "--resume",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="With --store summary: keep what is done in this file, and go on from it.",
)
@click.option(
    "--robustness",
    is_flag=True,
    help="Also report what the assumptions of each outcome are worth, as kindynos robustness does.",
)
@click.option(
    "--choose-for",
    metavar="OUTCOME",
    help="Have the model make its choices in every trial as is best on average for this outcome, "
    "by what is then known; default: each as its figures are given.",
)
@table_options
def run(
    file: Path,
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    cells: dict[str, Any],
    keep: tuple[str, ...],
    saved: Path | None,
    percentiles: list[float] | None,
    statistics: tuple[str, ...],
    chances: tuple[str, ...],
    store: str,
    resume: Path | None,
    robustness: bool,
    choose_for: str | None,
) -> Report:
    """Simulate the model in FILE, a model file or a workbook, and report its outcomes, each figure
    with its sampling error. Of a saved run (.parquet), report what was simulated.

    \b
      kindynos run night_ferry.toml --trials 50000 --seed 11
      kindynos run night_ferry.toml --set fare=58 --set load=0.55
      kindynos run night_ferry.toml --out results --keep cash_flow
      kindynos run night_ferry.toml --save spring.parquet
      kindynos run spring.parquet --report spring.html
      kindynos run night_ferry.toml --percentiles 1,25,75 --statistic skewness \\
        --chance "net_value > 1e6"
      kindynos run night_ferry.toml --trials 1e8 --store summary --resume ferry.npz
      kindynos run purser.xlsx --outcome "Evening!G13" --driver "B9=uniform 90 130"
    """
    from kindynos.model.saved import check_savable
    from kindynos.reports.runs import run_report

    if file.suffix.lower() == ".parquet":
        from kindynos.model.saved import open_run

        _only_shown()
        opened = open_run(file)
        use_titles(dict(opened.program.titles))
        return run_report(opened, table_spec(percentiles, statistics, chances, opened.outcomes))
    model = read_model(file, changes, cells)
    out, parquet = output().out, output().parquet
    if keep and out is None and saved is None:
        raise KindynosError(
            "--keep needs --out DIR, where the lines are written and drawn, or --save FILE.parquet"
        )
    if parquet and out is None:
        raise KindynosError("--parquet needs --out DIR, where the trials are written")
    if not model.compiled().outcomes:
        raise ModelError(
            "there is no outcome to report on; state one under [outcomes]", file=str(file)
        )
    model = _choosing(model, choose_for, simulation)
    if store == "summary":
        if keep or parquet or saved is not None:
            raise KindynosError("--store summary holds no trials to keep, save or write")
        figures = table_spec(percentiles, statistics, chances, model.compiled().outcomes)
        return _summarized(model, simulation, resume, figures)
    if resume is not None:
        raise KindynosError("--resume goes with --store summary")
    if saved is not None:
        check_savable(saved)
    figures = table_spec(percentiles, statistics, chances, model.compiled().outcomes)
    with Bar("simulating") as progress:
        simulated_run = model.simulate(**simulation, progress=progress, keep=keep)
    if saved is not None:
        simulated_run.save(saved)
        name_written(saved)
    report = run_report(simulated_run, figures)
    return _with_robustness(report, model, simulated_run) if robustness else report


def _choosing(model: Model, outcome: str | None, simulation: dict[str, Any]) -> Model:
    """Return the model with its choices made for an outcome, if one is named; its rules are found
    on other draws than those of the run.
    """
    from kindynos.sampling.streams import checked_seed

    if outcome is None:
        return model
    simulation["seed"] = checked_seed(simulation["seed"])
    with Bar("choosing") as progress:
        policy = model.policy(
            outcome,
            trials=min(simulation["trials"], CHOOSING),
            seed=simulation["seed"] ^ OTHERS,
            progress=progress,
        )
    return model.with_policy(policy)


def _with_robustness(report: Report, model: Model, run: Run) -> Report:
    """Return the report of a run with what the assumptions of each outcome are worth."""
    from kindynos.reports.robustness import with_robustness

    trials, seed = min(run.size, DEPARTURES), run.seed
    with Bar("departing", "departures") as progress:
        departed = [
            model.robustness(name, trials=trials, seed=seed, progress=progress)
            for name in run.outcomes
            if not run[name].is_row
        ]
    return with_robustness(report, departed)


def _only_shown() -> None:
    """Raise KindynosError for an option that a saved run cannot heed."""
    context = click.get_current_context()
    for parameter in context.command.params:
        name = str(parameter.name)
        stated = context.get_parameter_source(name) is ParameterSource.COMMANDLINE
        if stated and parameter.expose_value and name not in SHOWING:
            option = parameter.opts[0]
            raise KindynosError(f"{option} goes with a model; a saved run is reported as it is")


def _summarized(
    model: Model, simulation: dict[str, Any], resume: Path | None, figures: TableSpec
) -> Report:
    """Return the report of a run that keeps summaries."""
    from kindynos.reports.summaries import summarized

    with Bar("simulating") as progress:
        run = model.simulate(**simulation, progress=progress, store="summary", resume=resume)
    return summarized(run, figures)
