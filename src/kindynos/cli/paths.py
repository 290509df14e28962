"""``kindynos paths``: where a price may go."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kindynos.cli.common import finish, json_option, out_option
from kindynos.errors import KindynosError, nearest

PROCESSES = {
    "geometric": "GeometricBrownianMotion", "walk": "RandomWalk", "reverting": "MeanReverting", "jumps": "JumpDiffusion",
    "regimes": "RegimeSwitching", "bootstrap": "BootstrapReturns",
}  # fmt: skip
PER_YEAR = 252


@click.command()
@click.argument("prices", type=click.Path(path_type=Path))
@click.option("--instrument", metavar="NAME", help="The instrument; may be left out where there is one.")
@click.option(
    "--process", default="geometric", show_default=True, help=f"What is fitted to its history: {', '.join(PROCESSES)}."
)
@click.option("--periods", type=int, default=250, show_default=True, help="Days ahead.")
@click.option("--above", type=float, help="Give the chance of ending, and of being at any time, above this price.")
@click.option("--below", type=float, help="The same below this price.")
@click.option("--no-mean", is_flag=True, help="Drop the mean of a short history: the drift is set to 0 (geometric, walk).")
@click.option("--uncertain", is_flag=True, help="Draw the fitted parameters too, so that a short history shows in the fan.")
@click.option("--trials", type=int, default=20_000, show_default=True, help="How many paths.")
@click.option("--seed", type=int, default=1, show_default=True, help="A whole number that reproduces them.")
@out_option
@json_option
def paths(
    prices: Path,
    instrument: str | None,
    process: str,
    periods: int,
    above: float | None,
    below: float | None,
    no_mean: bool,
    uncertain: bool,
    trials: int,
    seed: int,
    out: Path | None,
    as_data: bool,
) -> None:
    """Fit a process to a price's history and simulate where it may go: the fan, odds, and how deep a fall to expect.

    \b
      kindynos paths heating_oil.csv --periods 250 --above 1.0
      kindynos paths treasury_prices.csv --instrument shipyard --process regimes --below 35 --out results
    """
    import numpy as np

    from kindynos import processes
    from kindynos.finance.falls import max_drawdown
    from kindynos.markets.prices import read_prices
    from kindynos.plots import growth_against_fall, paths_fan, worst_falls
    from kindynos.reports import markets

    table = read_prices(prices)
    if instrument is None and len(table.instruments) > 1:
        raise KindynosError(f"paths: say --instrument; the file has {', '.join(table.instruments)}")
    name = instrument or table.instruments[0]
    if process not in PROCESSES:
        raise KindynosError(f"--process {process}: one of {', '.join(PROCESSES)}{nearest(process, PROCESSES)}")
    history = table.only([name]).frame[name].to_numpy()
    dt = 1.0 if process == "bootstrap" else 1 / PER_YEAR
    kind: Any = getattr(processes, PROCESSES[process])
    if no_mean and process not in ("geometric", "walk"):
        raise KindynosError("--no-mean goes with the processes geometric and walk")
    fitted = kind.fit(history, dt, mean=False) if no_mean else kind.fit(history, dt)
    made = fitted.paths(periods, trials, seed, dt, uncertain=uncertain)
    odds = markets.odds(fitted, made, periods * dt, above, below, uncertain)
    falls = np.asarray(max_drawdown(made)) if made.min() > 0 else None
    seen = float(np.asarray(max_drawdown(history))) if falls is not None else None
    table_of = markets.path_table(made)
    figures: dict[str, Any] = {"paths": lambda ax: paths_fan(made, above=above, below=below, name=name, ax=ax)}
    if falls is not None:
        figures |= {
            "falls": lambda ax: worst_falls(falls, seen, ax=ax),
            "growth": lambda ax: growth_against_fall(made, PER_YEAR, ax=ax),
        }
    report = markets.paths(name, fitted, made, odds, falls, seen, len(history))

    def data() -> dict[str, Any]:
        return {
            "instrument": name,
            "process": fitted.label,
            "parameters": {key: str(value) for key, value in fitted.parameters.items() if key != "returns"},
            "said": fitted.fitted.said if fitted.fitted else "",
            "odds": [{**row, "chance": float(row["chance"])} for row in odds],
            "end": {f"P{q}": value for q, value in markets.ends(made).items()},
            "worst fall": None if falls is None else {"mean": float(falls.mean()), "seen": seen},
        }

    finish(report, data, out, as_data, {"paths": table_of}, figures)
