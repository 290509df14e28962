"""Make the pictures in this folder from the demo data: ``make screenshots``.

Figures are drawn by the command line. Terminal pictures need xvfb-run, xterm and ImageMagick's
import (Debian: xvfb, xterm, imagemagick), the page chromium.
"""

import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

import kindynos as kd

HERE = Path(__file__).parent
BIN = Path(sys.executable).parent
FIGURES = ("net_value", "cash_flow")
TERMINALS = {
    "run": "run larkholm/night_ferry.toml --trials 20000 --seed 11 | head -37",
    "check": "check larkholm/night_ferry.xlsx | head -42",
}


def terminal(name: str, command: str, folder: Path) -> None:
    """Save a picture of a terminal window after a command."""
    inside = f"tput civis; clear; COLUMNS=138 {BIN}/kindynos {command}; touch done; sleep 30"
    picture = shlex.quote(str(HERE / f"{name}.png"))
    shot = (
        "xterm -fa Monospace -fs 10 -geometry 158x46+0+0 -bg white -fg black -e bash -c "
        f"{shlex.quote(inside)} & "
        f"for i in $(seq 250); do [ -e done ] && break; sleep 0.2; done; sleep 1; "
        # without the black of the screen beside the window
        f"import -window root {picture}; mogrify -bordercolor black -border 1 -trim {picture}; "
        "rm done; kill %1"
    )
    subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", "bash", "-c", shot],
        cwd=folder,
        check=True,
        stderr=subprocess.DEVNULL,
    )


def page(path: Path) -> None:
    """Save a picture of a page in a browser."""
    browser = ["chromium", "--headless=new", "--no-sandbox", "--hide-scrollbars"]
    shot = [f"--screenshot={HERE / 'page.png'}", "--window-size=1280,900", path.as_uri()]
    subprocess.run([*browser, *shot], check=True, stderr=subprocess.DEVNULL)


def main() -> None:
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        subprocess.run(
            [BIN / "kindynos", "demo", "--to", "larkholm"],
            cwd=folder,
            check=True,
            stdout=subprocess.DEVNULL,
        )
        for name in FIGURES:
            shutil.copy(folder / "larkholm" / f"{name}.png", HERE / f"{name}.png")
        run = kd.load_model(folder / "larkholm" / "night_ferry.toml").simulate(20_000, seed=11)
        run.report(folder / "page.html")
        page(folder / "page.html")
        model = kd.load_model(folder / "larkholm" / "night_ferry.toml")
        compared = model.compare(trials=20_000, seed=11)
        swept = model.sweep(
            hurdle=[0.05, 0.065, 0.08, 0.095, 0.11], fare=[48, 50, 52, 54, 56, 58, 60], seed=11
        )
        solved = kd.load_model(folder / "larkholm" / "dry_dock.toml").solve(
            "deposit", "lowest_balance", chance=0.9, above=0, within=(8e4, 2e5), seed=11
        )
        claims = kd.load_model(folder / "larkholm" / "vessel_claims.toml").simulate(50_000, seed=11)
        assumed = model.robustness("net_value", trials=5_000, seed=11)
        for name, draw in {
            "robustness": lambda ax: assumed.plot(ax=ax),
            "return_periods": lambda ax: kd.plots.return_periods(claims["net"], ax=ax),
            "compare": lambda ax: compared.plot("net_value", ax=ax),
            "sweep": lambda ax: swept.plot("net_value", ax=ax),
            "solve": lambda ax: solved.plot(ax=ax),
            "drivers": lambda ax: kd.plots.sensitivity(run, "net_value", "swing", ax=ax),
        }.items():
            kd.plots.save_figure(HERE / f"{name}.png", draw)
        data = [
            folder / "larkholm" / name
            for name in ("treasury_prices.csv", "treasury_holdings.csv", "heating_oil.csv")
        ]
        out = folder / "markets"
        for command in (
            ["risk", data[0], "--holdings", data[1], "--windows", "250,all"],
            ["backtest", data[0], "--holdings", data[1]],
            ["paths", data[2], "--process", "mean-reverting", "--above", "1.0", "--seed", "11"],
            [
                "allocate",
                data[0],
                "--holdings",
                data[1],
                "--within",
                "0.01:0.35",
                "--subject-to",
                "sd <= 0.006",
                "--cost",
                "0.002",
            ],
            [
                "optimize",
                folder / "larkholm" / "best_fare.toml",
                *(
                    "--vary",
                    "fare=40:75",
                    "--vary",
                    "crossings=400:1000",
                    "--maximize",
                    "mean passengers",
                ),
                *(
                    "--subject-to",
                    "chance below 0 of net_value <= 0.2",
                    "--trials",
                    "20000",
                    "--seed",
                    "11",
                ),
            ],
            ["decide", folder / "larkholm" / "new_route.toml"],
            ["fit", folder / "larkholm" / "repair_bills.csv", "--column", "bill"],
            [
                "fit",
                folder / "larkholm" / "passengers.csv",
                "--series",
                "--spacing",
                "month",
                "--season",
                "12",
            ],
        ):
            subprocess.run(
                [BIN / "kindynos", *command, "--out", out], check=True, stdout=subprocess.DEVNULL
            )
        for name in ("risk", "backtest", "paths", "fits", "fan", "tree", "frontier", "optimum"):
            shutil.copy(out / f"{name}.png", HERE / f"{name}.png")
        if not shutil.which("xvfb-run"):
            sys.exit("the terminal pictures were left as they are: xvfb-run is not installed")
        for name, command in TERMINALS.items():
            terminal(name, command, folder)


if __name__ == "__main__":
    main()
