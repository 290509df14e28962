"""``kindynos distributions``: the catalogue of distributions, or one of them."""

from __future__ import annotations

from pathlib import Path

import click
from click.shell_completion import CompletionItem

from kindynos.cli.types import FIGURE, completed


def _names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from kindynos.distributions.catalogue import CATALOGUE
    from kindynos.processes.registry import PROCESSES

    names = [name.replace(" ", "-") for name in (*CATALOGUE, *PROCESSES)]
    return completed(names, incomplete)


@click.command()
@click.argument("name", required=False, shell_complete=_names)
@click.argument("parameters", nargs=-1, metavar="[KEY=VALUE]...")
@click.option(
    "--out",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE.png",
    help="Draw the distribution there.",
)
@click.option("--mark", type=FIGURE, help="Also give the chance on either side of this value.")
def distributions(
    name: str | None, parameters: tuple[str, ...], out: Path | None, mark: float | None
) -> None:
    """List the distributions and processes a model file may name, or tell about one: its facts, and
    of a distribution with --out its picture.

    Without parameters an example of the distribution is shown.

    \b
      kindynos distributions
      kindynos distributions pert
      kindynos distributions "mean reverting"
      kindynos distributions pert low=17.5 mode=19 high=26 --mark 22 --out pert.png
    """
    from kindynos.distributions.base import Distribution
    from kindynos.distributions.catalogue import CATALOGUE
    from kindynos.distributions.registry import distribution_from, example
    from kindynos.errors import ModelError
    from kindynos.processes.registry import PROCESSES
    from kindynos.reports import catalogues
    from kindynos.reports.console import console

    screen = console()
    if name is None:
        screen.print(catalogues.catalogue(), "", catalogues.processes())
        return
    process = PROCESSES.get(name.replace("-", " "))
    if process is not None:
        screen.print(*catalogues.about_process(process))
        return
    if parameters:
        stated = distribution_from(name, dict(_parameter(setting) for setting in parameters))
        if not isinstance(stated, Distribution):
            raise ModelError(f"{stated!r} needs a model, which knows {' and '.join(stated.names)}")
        distribution = stated
    else:
        distribution = example(CATALOGUE.find(name))
        screen.print(catalogues.about_distribution(type(distribution)), "\n\nFor example:\n")
    screen.print(catalogues.distribution_figures(distribution, mark))
    if out is not None:
        from functools import partial

        from kindynos.plots import density as picture
        from kindynos.plots import save_figure

        save_figure(out, partial(picture, distribution, mark=mark))
        click.echo(f"Drawn in {out}")


def _parameter(text: str) -> tuple[str, object]:
    """Return a name and its value, read as a TOML value; raises KindynosError for anything else."""
    import tomllib

    from kindynos.errors import KindynosError

    key, _, value = text.partition("=")
    try:
        return key.strip(), tomllib.loads(f"value = {value}")["value"]
    except tomllib.TOMLDecodeError:
        raise KindynosError(f"{text}: say KEY=VALUE, such as mean=10 or values=[1,2,3]") from None
