"""``kindynos compare``: a model's scenarios, or saved runs, side by side."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kindynos.cli.common import Bar, changed, finish, json_option, out_option, sampled, set_option
from kindynos.errors import KindynosError

if TYPE_CHECKING:
    from kindynos.results.comparison import Comparison


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@sampled
@set_option
@out_option
@json_option
def compare(
    files: tuple[Path, ...],
    trials: int,
    seed: int | None,
    sampling: str,
    changes: tuple[str, ...],
    out: Path | None,
    as_data: bool,
) -> None:
    """Compare the scenarios of the model in FILE on the same draws, or runs saved with `kindynos run --save`.

    Scenarios are stated in the model file, as replacements of given figures and drivers:

    \b
      [scenarios."dear yard"]
      vessel = { distribution = "pert", low = 20e6, mode = 24e6, high = 30e6 }

    \b
      kindynos compare night_ferry.toml --trials 20000 --seed 11
      kindynos compare night_ferry.toml --out results
      kindynos compare spring.parquet autumn.parquet
    """
    from kindynos.reports import studies
    from kindynos.reports.summary import plain_rows

    compared = _runs(files) if len(files) > 1 else _scenarios(files[0], changes, trials, seed, sampling)

    def data() -> dict[str, object]:
        outcomes = compared.outcomes
        dominance = {name: plain_rows(compared.dominance(name)) for name in outcomes}
        return {
            "scenarios": compared.scenarios,
            "table": plain_rows(compared.table()),
            "differences": plain_rows(compared.differences()),
            "dominance": dominance,
        }

    figures = {
        f"{outcome}-{kind}": (lambda ax, o=outcome, k=kind: compared.plot(o, k, ax=ax))
        for outcome in compared.outcomes
        for kind in ("cumulative", "survival", "boxes")
    }
    tables = {"comparison": compared.table(), "differences": compared.differences()}
    finish(studies.comparison(compared), data, out, as_data, tables, figures)


def _scenarios(file: Path, changes: tuple[str, ...], trials: int, seed: int | None, sampling: str) -> Comparison:
    from kindynos.model.file import load_model

    loaded = load_model(file)
    model = changed(loaded, changes)
    for name, replacements in loaded.scenarios.items():
        model.scenario(name, **replacements)
    with Bar("comparing") as progress:
        return model.compare(None, trials, seed, sampling=sampling, progress=progress)


def _runs(files: tuple[Path, ...]) -> Comparison:
    from kindynos.results.comparison import compare
    from kindynos.results.saved import open_run

    if len({file.stem for file in files}) < len(files):
        raise KindynosError("compare: the files need names that differ, since they name the scenarios")
    return compare({file.stem: open_run(file) for file in files})
