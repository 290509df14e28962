"""``kindynos compare``: a model's scenarios, or saved runs, side by side."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.cli.asking import table_options, table_spec
from kindynos.cli.common import (
    Bar,
    changed,
    finish,
    json_option,
    out_option,
    read_model,
    set_option,
    simulated,
)
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.studies.comparison import Comparison


@click.command()
@click.argument(
    "files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE..."
)
@simulated
@set_option
@table_options
@out_option
@json_option
def compare(
    files: tuple[Path, ...],
    simulation: dict[str, Any],
    changes: tuple[str, ...],
    percentiles: list[float] | None,
    statistics: tuple[str, ...],
    chances: tuple[str, ...],
    out: Path | None,
    as_data: bool,
) -> None:
    """Compare the scenarios of the model in FILE on the same draws, or runs saved with `kindynos
    run --save`.

    Scenarios are stated in the model file, as replacements of given figures and drivers:

    \b
      [scenarios."dear yard"]
      vessel = { distribution = "pert", low = 20e6, mode = 24e6, high = 30e6 }

    \b
      kindynos compare night_ferry.toml --trials 20000 --seed 11
      kindynos compare night_ferry.toml --out results
      kindynos compare spring.parquet autumn.parquet
      kindynos compare night_ferry.toml --percentiles 10,90 --statistic "expected_shortfall 0.95"
    """
    from kindynos.reports import studies

    compared = _runs(files) if len(files) > 1 else _scenarios(files[0], changes, simulation)
    asked = table_spec(percentiles, statistics, chances, compared.outcomes)
    finish(studies.comparison(compared, asked), out, as_data)


def _scenarios(file: Path, changes: tuple[str, ...], simulation: dict[str, Any]) -> Comparison:
    loaded = read_model(file)
    model = changed(loaded, changes)
    for name, replacements in loaded.scenarios.items():
        model.scenario(name, **replacements)
    with Bar("comparing") as progress:
        return model.compare(**simulation, progress=progress)


def _runs(files: tuple[Path, ...]) -> Comparison:
    from kindynos.model.saved import open_run
    from kindynos.studies.comparison import compare

    if len({file.stem for file in files}) < len(files):
        raise KindynosError("the files need names that differ, since they name the scenarios")
    return compare({file.stem: open_run(file) for file in files})
