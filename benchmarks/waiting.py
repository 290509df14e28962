"""What people wait for: the processor time of commands and calls beside what is wanted of them, in
one run on one machine; where there is an alternative, the ratio to it.
"""

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from statistics import median

import numpy as np
import pandas as pd

import kindynos as kd
from benchmarks.timing import SHORT, paired, repeats

Row = tuple[str, str, float, str]
RUNS = repeats(5, 1)
TREASURY = ("treasury_prices.csv", "--holdings", "treasury_holdings.csv")
COMMANDS = {  # the words of a command, and the seconds wanted
    "--version": (("--version",), 0.12),
    "--help": (("--help",), 0.25),
    "risk --help": (("risk", "--help"), 0.35),
    "risk": (("risk", *TREASURY), 3.0),
    "risk --whole": (("risk", *TREASURY, "--whole"), 5.0),
    "risk --whole, 3 levels and 3 windows": (
        ("risk", *TREASURY, "--whole", "--levels", "0.9,0.95,0.99", "--windows", "250,500,all"),
        4.0,
    ),
    "validate": (("validate", *TREASURY), 4.0),
    "backtest": (("backtest", *TREASURY), 2.5),
    "fit --series, 120 values": (("fit", "passengers.csv", "--series"), 3.0),
    "forecast, 120 values": (("forecast", "passengers.csv"), 3.0),
}


def child_seconds(words: tuple[str, ...], folder: str) -> float:
    """Return the processor seconds of a Python process."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        [sys.executable, *words], cwd=folder, check=True,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def least(work: Callable[[], float]) -> float:
    """Return the median of a few measurements."""
    return median(work() for _ in range(RUNS))


def spent(work: Callable[[], object]) -> float:
    begun = time.process_time()
    work()
    return time.process_time() - begun


def commands(folder: str) -> Iterator[Row]:
    """Yield the seconds of commands, and of two of them over the import of what they need."""
    for name, (words, wanted) in COMMANDS.items():
        value = least(lambda words=words: child_seconds(("-m", "kindynos", *words), folder))
        yield f"kindynos {name}, processor seconds", "", value, f"at most {wanted}"
    for name, words, needs, wanted in (
        ("check", ("check", "night_ferry.toml"), "numpy, click, rich, pydantic", 1.4),
        ("run", ("run", "night_ferry.toml", "--seed", "1"), "numpy, click, rich, pydantic", 1.8),
    ):
        importing = least(lambda needs=needs: child_seconds(("-c", f"import {needs}"), folder))
        whole = least(lambda words=words: child_seconds(("-m", "kindynos", *words), folder))
        detail = f"{whole:.2f} / {importing:.2f} s"
        yield f"kindynos {name} / import of {needs}", detail, whole / importing, f"at most {wanted}"


def pairs() -> Iterator[Row]:
    """Yield the seconds of correlating drivers pair by pair."""

    def correlate(count: int) -> None:
        model = kd.Model("pairs")
        for place in range(count):
            model.driver(f"d{place}", kd.Normal(0, 1))
        for i in range(count):
            for j in range(i):
                model.correlate(f"d{i}", f"d{j}", 0.2)

    value = least(lambda: spent(lambda: correlate(30 if SHORT else 100)))
    yield "100 drivers correlated pair by pair, seconds", "", value, "at most 0.3"


def tables() -> Iterator[Row]:
    """Yield the table of many outcomes over plain statistics of them."""
    model = kd.Model("many")
    model.driver("x", kd.Normal(1, 0.2))
    for place in range(300):
        model.outcome(f"y{place}", f"x * {place + 1}")
    run = model.simulate(10_000, seed=1)
    arrays = [run[name].values for name in run.outcomes]

    def plain() -> None:
        for values in arrays:
            np.percentile(values, [1, 5, 10, 25, 50, 75, 90, 95, 99])
            values.mean(), values.std()

    def ours() -> None:
        from kindynos.reports.runs import run_report

        run_report(model.simulate(10_000, seed=1)).frames()

    base = least(lambda: spent(lambda: model.simulate(10_000, seed=1)))
    table = least(lambda: spent(ours)) - base
    other = least(lambda: spent(plain))
    detail = f"{table:.2f} / {other:.2f} s"
    yield "table of 300 outcomes / plain percentiles", detail, table / other, "at most 1.5"


def drawn() -> Iterator[Row]:
    """Yield how long distributions whose parameter is another driver take over normal ones."""

    def made(distribution: object) -> kd.Model:
        model = kd.Model("m")
        model.driver("p", kd.Uniform(0.2, 0.8))
        model.driver("x", distribution)
        model.outcome("y", "x")
        return model

    normal = made(kd.Normal(0, 1))
    for name, other in (("Bernoulli", kd.Bernoulli("p")), ("Poisson", kd.Poisson("p"))):
        model = made(other)
        ours, theirs, ratio = paired(
            lambda model=model: model.simulate(400_000, seed=1),
            lambda: normal.simulate(400_000, seed=1),
            RUNS,
        )
        detail = f"{ours:.2f} / {theirs:.2f} s"
        yield f"{name} with a parameter per trial / a normal driver", detail, ratio, "at most 5"


def media(folder: str) -> Iterator[Row]:
    """Yield the seconds of pages and workbooks over those of the run."""
    model = kd.load_model(kd.demo_file("night_ferry.toml"))
    run = model.simulate(20_000, seed=1)
    for name, write, wanted in (
        ("page", lambda: run.report(Path(folder, "p.html")), 1.5),
        ("workbook", lambda: run.to_excel(Path(folder, "w.xlsx")), 2.0),
    ):
        value = least(lambda write=write: spent(write))
        yield f"{name} of 20,000 trials, 2 outcomes, seconds", "", value, f"at most {wanted}"


def reading(folder: str) -> Iterator[Row]:
    """Yield reading a million trials over plain pandas."""
    count = 20_000 if SHORT else 1_000_000
    path = Path(folder, "trials.csv")
    generator = np.random.default_rng(1)
    pd.DataFrame(generator.normal(size=(count, 2)), columns=["a", "b"]).to_csv(path, index=False)
    ours, theirs, ratio = paired(
        lambda: kd.read_trials(path), lambda: pd.read_csv(path), 1 if SHORT else 3
    )
    yield (
        "read_trials of a million rows / pandas",
        f"{ours:.2f} / {theirs:.2f} s",
        ratio,
        ("at most 1.5"),
    )


def fits() -> Iterator[Row]:
    """Yield the seconds of ranking distributions."""
    for count, wanted in ((10_000, 0.8), (100_000, 1.2)):
        values = np.random.default_rng(1).lognormal(3, 0.5, count // (10 if SHORT else 1))
        value = least(lambda values=values: spent(lambda: kd.fit_distributions(values)))
        yield f"fits of {count:,} values, seconds", "", value, f"at most {wanted}"


def measure() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        for file in Path(kd.__file__).parent.joinpath("demo").glob("*.*"):
            if file.suffix in (".csv", ".toml"):
                Path(folder, file.name).write_bytes(file.read_bytes())
        yield from commands(folder)
        yield from pairs()
        yield from tables()
        yield from drawn()
        yield from media(folder)
        yield from reading(folder)
        yield from fits()
