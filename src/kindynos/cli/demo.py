"""``kindynos demo``: the made-up company's files, and the main job done on them."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

import click

from kindynos.cli.output import results_folder
from kindynos.cli.progress import Bar
from kindynos.errors import KindynosError
from kindynos.literals import RiskMethod

if TYPE_CHECKING:
    from kindynos.model.model import Model

FILES = (
    "night_ferry.toml",
    "night_ferry_last_year.toml",
    "best_fare.toml",
    "dry_dock.toml",
    "hydrofoil.toml",
    "staff_shares.toml",
    "berths.toml",
    "median_month.toml",
    "vessels.toml",
    "lease_or_buy.toml",
    "second_ferry.toml",
    "terminal.toml",
    "new_route.toml",
    "vessel_claims.toml",
    "berth_loans.toml",
)
DATA = (
    *("treasury_prices.csv", "treasury_holdings.csv", "treasury_holdings_november.csv"),
    *("treasury_positions.csv", "heating_oil.csv", "treasury_rate.csv"),
)
TERMINAL = ("terminal_items.csv", "terminal_risks.csv")
RECORDS = (
    "passengers.csv",
    "repair_bills.csv",
    "fuel_hedging.csv",
    "past_estimates.csv",
    "berth_loans.csv",
    "claims_by_year.csv",
    "claim_sizes.csv",
    *TERMINAL,
)
WORKBOOKS = ("night_ferry.xlsx", "purser.xlsx")
RISK_METHODS: tuple[RiskMethod, ...] = ("historical", "filtered", "student")
TRIALS, SEED, KEEP = 20_000, 11, ("cash_flow",)
DEPARTURES = 5_000  # trials of each departure
BOARD = 0.01, 0.35, 0.006  # the least and the most of a weight, and the highest sd a day


@click.command()
@click.option(
    "--to",
    "folder",
    type=click.Path(path_type=Path),
    default=Path("larkholm"),
    show_default=True,
    metavar="DIR",
    help="The folder to write to; made when it is not there.",
)
@click.option(
    "--overwrite",
    is_flag=True,
    help="Write the demo files again, also over those that were changed.",
)
def demo(folder: Path, overwrite: bool) -> None:
    """Copy the demo files of Larkholm Ferries (invented) to a folder and run the night ferry,
    saying what is done and why.

    \b
      kindynos demo
      kindynos demo --to /tmp/larkholm
    """
    from kindynos.model.file import load_model
    from kindynos.reports.console import console
    from kindynos.reports.runs import run_report

    originals = {
        name: files("kindynos.demo").joinpath(name).read_bytes()
        for name in (*FILES, *DATA, *RECORDS, *WORKBOOKS)
    }
    changed = [
        name
        for name, data in originals.items()
        if (folder / name).is_file() and (folder / name).read_bytes() != data
    ]
    if changed and not overwrite:
        raise KindynosError(
            f"{', '.join(changed)} in {folder} was changed; give another folder with --to, or say "
            "--overwrite"
        )
    with results_folder(folder) as stage:
        for name, data in originals.items():
            (stage / name).write_bytes(data)
    model_file = folder / FILES[0]
    click.echo(
        f"Larkholm Ferries, an invented company, may buy an electric night ferry. {model_file} "
        "states what is known (fares,\n"
        "crew, tax) and what is uncertain (the yard's price, how full the ferry sails, energy). "
        "One forecast would hide how\n"
        f"sure it is, so the model is simulated {TRIALS:,} times with drawn drivers:\n\n"
        f"  kindynos run {model_file} --trials {TRIALS} --seed {SEED} --keep {KEEP[0]} --out "
        f"{folder}\n"
    )
    model = load_model(model_file)
    with results_folder(folder) as stage:
        with Bar("simulating") as progress:
            run = model.simulate(TRIALS, SEED, progress=progress, keep=KEEP)
        report = run_report(run)
        written = report.write(stage)
    console().print(report.brief())
    _assumptions(model, model_file)
    click.echo("\nThe whole report of the run:\n")
    console().print(report)
    value = run["net_value"]
    loss, base = value.chance(below=0), value.percentile_of(value.base)
    click.echo(
        f"\nThe base case alone looks safe, and yet {100 * loss:.0f} % of the trials lose money "
        "at the hurdle rate; the base\n"
        f"case lies at percentile {base:.0f} of the trials. The ranking shows which figure "
        "deserves more study."
    )
    click.echo(f"\nWritten to {folder}: {', '.join([*FILES, *written])}\n")
    _last_year(folder)
    _treasury(folder)
    _best_weights(folder)
    click.echo(
        f"\nNext: kindynos check {model_file}; kindynos compare {model_file}; kindynos run "
        f"{model_file} --set fare=58;\nthe same from a spreadsheet: kindynos check "
        f"{folder / WORKBOOKS[0]}"
    )


def _assumptions(model: Model, model_file: Path) -> None:
    """Say how far the chance of a loss rests on what was assumed."""
    from kindynos.reports.console import console
    from kindynos.reports.robustness import robustness_answer

    click.echo(
        "\nThe error beside a chance is that of the sampling. How far does it rest on what was "
        "assumed? In the words of\n"
        f"kindynos robustness {model_file} --outcome net_value --trials {DEPARTURES} --seed "
        f"{SEED}:\n"
    )
    with Bar("departing", "departures") as progress:
        assumed = model.robustness("net_value", trials=DEPARTURES, seed=SEED, progress=progress)
    console().print(" ".join(robustness_answer(assumed)))


def _last_year(folder: Path) -> None:
    """Report why the chance of a loss is another one than a year ago."""
    from kindynos.model.bridging import bridge
    from kindynos.plots import save_figure
    from kindynos.reports.bridges import bridge_report
    from kindynos.reports.console import console

    old, new = folder / FILES[1], folder / FILES[0]
    click.echo(
        "A year ago the same ferry was judged with other figures. What has changed since, and what "
        "did that to the chance of a\nloss?\n\n"
        f'  kindynos bridge {old} {new} --statistic "chance below 0" --seed {SEED}\n'
    )
    bridged = bridge(old, new, statistic="chance below 0", seed=SEED)
    with results_folder(folder) as stage:
        save_figure(stage / "last-year.png", lambda ax: bridged.plot(ax=ax))
    console(140).print(bridge_report(bridged))
    click.echo(f"\nWritten to {folder}: last-year.png\n")


def _treasury(folder: Path) -> None:
    """Report what the treasury's holdings may lose, and whether that would have been right."""
    from kindynos.cli.risk import read_portfolio
    from kindynos.markets.portfolio import LEVELS
    from kindynos.plots import backtest, save_figure
    from kindynos.reports import markets
    from kindynos.reports.console import console

    prices, holdings = folder / DATA[0], folder / DATA[1]
    click.echo(
        "Its treasury holds six instruments. Four years of daily prices, with gaps and a late "
        "listing as real files have, say\n"
        "which loss is exceeded on one day in twenty or in a hundred, by several methods:\n\n"
        f"  kindynos risk {prices} --holdings {holdings} --methods {','.join(RISK_METHODS)} "
        "--windows 250,all\n"
    )
    portfolio = read_portfolio(prices, holdings, None, "drop")
    report = markets.risk(portfolio, LEVELS, RISK_METHODS, (250, None), 1)
    tested = portfolio.backtest()
    with results_folder(folder) as stage:
        save_figure(stage / "treasury-risk.png", report.figures()["risk"])
        save_figure(stage / "treasury-backtest.png", lambda ax: backtest(tested, ax=ax))
    console(140).print(report)
    click.echo(
        "\nWould the figures have been right? Forecast each day from the 250 before it, the "
        f"{tested.method} value at risk at\n"
        f"99 % was exceeded on {tested.exceptions} of {tested.days} days; {tested.expected:.1f} "
        f"are expected ({tested.zone}).\n"
        f"\nWritten to {folder}: "
        f"{', '.join([*DATA, *RECORDS, 'treasury-risk.png', 'treasury-backtest.png'])}"
    )


def _best_weights(folder: Path) -> None:
    """Report what the treasury should hold under the board's bounds, beside what it holds."""
    from kindynos.cli.risk import read_portfolio
    from kindynos.markets.allocation.allocation import allocate
    from kindynos.markets.allocation.frontier import frontier
    from kindynos.plots import save_figure
    from kindynos.reports.allocation import before_and_after
    from kindynos.reports.console import console

    prices, holdings = folder / DATA[0], folder / DATA[1]
    low, high, sd = BOARD
    click.echo(
        f"\nThe board allows each holding {100 * low:g} to {100 * high:g} % of the value, and an "
        f"sd of {100 * sd:g} % a day.\n"
        "The weights with the highest mean within that, beside today's:\n\n"
        f"  kindynos allocate {prices} --holdings {holdings} --within {low:g}:{high:g} "
        f"--subject-to 'sd <= {sd:g}' --horizon 60 --seed {SEED} --resampled 50\n"
    )
    portfolio = read_portfolio(prices, holdings, None, "drop")
    best = allocate(portfolio, bounds=(low, high), limits={"sd": sd})
    curve, compared, sure = (
        frontier(portfolio, bounds=(low, high)),
        best.compare(60, seed=SEED),
        best.resampled(50, SEED),
    )
    with results_folder(folder) as stage:
        save_figure(stage / "treasury-frontier.png", lambda ax: curve.plot(best, ax=ax))
        save_figure(stage / "treasury-before-after.png", lambda ax: compared.plot(ax=ax))
    console(140).print(before_and_after(best, compared))
    click.echo("\n".join(["\nHow sure is that?", "", *sure.sentences()[:3]]))
    click.echo(f"\nWritten to {folder}: treasury-frontier.png, treasury-before-after.png")
