"""``kindynos compare``: a model's scenarios, or saved runs, side by side."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.asking import table_options, table_spec
from kindynos.cli.options import set_option, simulated, study_cost_option
from kindynos.cli.output import with_output
from kindynos.cli.progress import Bar
from kindynos.cli.reading import changed, read_model
from kindynos.errors import KindynosError

SAVED = ".parquet"

if TYPE_CHECKING:
    from kindynos.reports.report import Report, Section
    from kindynos.studies.comparison import Comparison


@click.command()
@click.argument(
    "files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE..."
)
@simulated
@set_option
@table_options
@click.option(
    "--knowing",
    is_flag=True,
    help="Say what it would be worth to know each driver before choosing a scenario, on average.",
)
@study_cost_option
@with_output
def compare(
    files: tuple[Path, ...],
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    percentiles: list[float] | None,
    statistics: tuple[str, ...],
    chances: tuple[str, ...],
    knowing: bool,
    costs: dict[str, float],
) -> Report:
    """Compare the scenarios of the model in FILE on the same draws, or several models or runs
    saved with `kindynos run --save`; of two models it says what changed.

    Scenarios are stated in the model file, as replacements of given figures and drivers:

    \b
      [scenarios."dear yard"]
      vessel = { distribution = "pert", low = 20e6, mode = 24e6, high = 30e6 }

    \b
      kindynos compare night_ferry.toml --trials 20000 --seed 11
      kindynos compare night_ferry.toml --out results
      kindynos compare spring.parquet autumn.parquet
      kindynos compare night_ferry_last_year.toml night_ferry.toml
      kindynos compare night_ferry.toml --percentiles 10,90 --statistic "expected_shortfall 0.95"
      kindynos compare night_ferry.toml --knowing --study-cost load=100_000
    """
    from kindynos.reports import studies
    from kindynos.reports.knowing import with_knowing

    several = len(files) > 1
    compared = (
        _runs(files, changes, simulation) if several else _scenarios(files[0], changes, simulation)
    )
    asked = table_spec(percentiles, statistics, chances, compared.outcomes)
    report = studies.comparison(compared, asked)
    if knowing or costs:
        report = with_knowing(report, compared, costs)
    models = [file for file in files if file.suffix != SAVED]
    if several and len(files) == len(models) == 2:
        report = report.with_second_section(_what_changed(files))
    return report


def _scenarios(file: Path, changes: tuple[str, ...], simulation: dict[str, Any]) -> Comparison:
    loaded = read_model(file)
    model = changed(loaded, changes)
    for name, replacements in loaded.scenarios.items():
        model.scenario(name, **replacements)
    with Bar("comparing") as progress:
        return model.compare(**simulation, progress=progress)


def _runs(
    files: tuple[Path, ...], changes: tuple[str, ...], simulation: dict[str, Any]
) -> Comparison:
    """Return the comparison of several files: saved runs, and models that are run on one seed."""
    from kindynos.model.saved import open_run
    from kindynos.sampling.streams import checked_seed
    from kindynos.studies.comparison import compare

    if len({file.stem for file in files}) < len(files):
        raise KindynosError("the files need names that differ, since they name the scenarios")
    options = {**simulation, "seed": checked_seed(simulation["seed"])}
    runs = {}
    for file in files:
        if file.suffix == SAVED:
            runs[file.stem] = open_run(file)
            continue
        with Bar(f"simulating {file.stem}") as progress:
            model = changed(read_model(file), changes)
            runs[file.stem] = model.simulate(**options, progress=progress)
    return compare(runs)


def _what_changed(files: tuple[Path, ...]) -> Section:
    """Return what changed from the first model to the second."""
    from kindynos.model.bridging import list_changes
    from kindynos.reports.bridges import changes_table
    from kindynos.reports.report import Section

    changes, renamed = list_changes(*(read_model(file) for file in files))
    return Section((changes_table(changes, renamed),))
