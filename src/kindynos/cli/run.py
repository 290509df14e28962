"""``kindynos run``: simulate a model file."""

from __future__ import annotations

from contextlib import nullcontext
from pathlib import Path

import click

from kindynos.cli.common import Bar, changed, json_option, model_argument, set_option


@click.command()
@model_argument
@click.option("--trials", type=int, default=10_000, show_default=True, help="How many joint draws of the drivers.")
@click.option("--seed", type=int, help="A whole number that reproduces a run; without it one is chosen and shown.")
@click.option("--sampling", default="latin", show_default=True, help="The sampling plan: latin, random, antithetic or sobol.")
@click.option("--workers", type=int, help="Threads to use; all processors by default. The answer is the same.")
@set_option
@click.option("--keep", multiple=True, metavar="NAME", help="Also write this line and draw it; repeatable. Needs --out.")
@click.option("--out", type=click.Path(path_type=Path), metavar="DIR", help="Write trials, summary and figures there.")
@click.option("--parquet", is_flag=True, help="With --out: the trials as Parquet instead of CSV.")
@click.option(
    "--save", "saved", type=click.Path(path_type=Path), metavar="FILE.parquet", help="Keep the run, to open or compare."
)
@json_option
def run(
    file: Path,
    trials: int,
    seed: int | None,
    sampling: str,
    workers: int | None,
    changes: tuple[str, ...],
    keep: tuple[str, ...],
    out: Path | None,
    parquet: bool,
    saved: Path | None,
    as_data: bool,
) -> None:
    """Simulate the model in FILE and report its outcomes, each figure with its sampling error.

    \b
      kindynos run night_ferry.toml --trials 50000 --seed 11
      kindynos run night_ferry.toml --set fare=58 --set load=0.55
      kindynos run night_ferry.toml --out results --keep cash_flow
      kindynos run night_ferry.toml --save spring.parquet
    """
    from kindynos.model.file import load_model
    from kindynos.reports.files import staged, write_run

    model = changed(load_model(file), changes)
    with staged(out) if out else nullcontext() as stage:
        with Bar("simulating") as progress:
            found = model.simulate(trials, seed, sampling, workers, progress, keep)
        written = write_run(found, stage, parquet) if stage else []
        if saved is not None:
            found.save(saved)
        if as_data:
            from kindynos.reports.summary import as_json, summary

            click.echo(as_json(summary(found)), nl=False)
        else:
            from kindynos.reports.text import console, run_report

            console().print(run_report(found))
    if written and not as_data:
        click.echo(f"\nWritten to {out}: {', '.join(written)}")
