"""How the time of a piece of work grows when there is four times as much of one thing: of what is
linear, four times. A pair of each two correlated drivers is sixteen times as many.
"""

import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import xlsxwriter

import kindynos as kd
from benchmarks.decisions import tree
from benchmarks.large import correlated, ferry
from benchmarks.timing import SHORT

Row = tuple[str, str, float, str]
LINEAR = "at most 4.5"
TRIALS = 2_000 if SHORT else 20_000


def rows_model(periods: int, outcomes: int) -> kd.Model:
    """Return a model of rows: a driver redrawn each period, and outcomes made of it."""
    model = kd.Model("rows", periods=periods)
    model.driver("rate", kd.Normal(0.01, 0.02), each="period")
    model.line("value", "100 * grow(rate)")
    for place in range(outcomes):
        model.outcome(f"y{place}", f"last(value) + {place} * total(rate)")
    return model


def many_drivers(count: int, periods: int | None = None) -> kd.Model:
    """Return a model of the sum of drivers, which have a value each period where there are some."""
    model = kd.Model("drivers", **({} if periods is None else {"periods": periods}))
    for place in range(count):
        each = {} if periods is None else {"each": "period"}
        model.driver(f"d{place}", kd.Normal(10, 2), **each)
    total = " + ".join(f"d{place}" for place in range(count))
    model.outcome("y", total if periods is None else f"total({total})")
    return model


def many_lines(count: int) -> kd.Model:
    model = kd.Model("lines")
    model.driver("x", kd.Normal(1, 0.1))
    model.line("line0", "x + 1")
    for place in range(1, count):
        model.line(f"line{place}", f"0.9 * line{place - 1} + x")
    model.outcome("y", f"line{count - 1}")
    return model


def ranked(model: kd.Model) -> None:
    """Run a model, and say what drives it."""
    model.simulate(TRIALS // 4, 1).sensitivity("y", "rank")


def claims(count: int) -> kd.Model:
    """Return a model of the sum of claims."""
    model = kd.Model("Claims")
    model.claims("hull", kd.Poisson(count), kd.Exponential(1.0))
    model.outcome("loss", "total(hull)")
    return model


def events(count: int) -> kd.Model:
    """Return a model of the sum of what dated events bring."""
    model = kd.Model("Events", periods=12)
    for place in range(count):
        model.event(f"e{place}", 1 + place % 12, chance=0.3, brings=kd.Normal(1, 0.2))
    model.outcome("y", " + ".join(f"total(e{place})" for place in range(count)))
    return model


def alternatives(count: int) -> kd.Decision:
    """Return a decision between alternatives with payoffs that overlap."""
    payoffs = {f"a{place}": kd.Normal(place % 7, 5.0) for place in range(count)}
    return kd.Decision("Which", payoffs)


def portfolio(count: int) -> kd.Portfolio:
    generator = np.random.default_rng(1)
    moves = generator.normal(0, 0.01, (600, count)) + generator.normal(0, 0.01, (600, 1))
    names = [f"fund{place}" for place in range(count)]
    dates = pd.bdate_range("2028-01-03", periods=600, name="date")
    prices = pd.DataFrame(100 * np.exp(moves.cumsum(axis=0)), dates, names)
    return kd.Portfolio(kd.read_prices(prices.reset_index()), shares=dict.fromkeys(names, 10.0))


def series(count: int) -> pd.Series:
    months = pd.period_range("1900-01", periods=count, freq="M").to_timestamp()
    moves = np.random.default_rng(1).normal(0, 1, count)
    return pd.Series(100 + moves.cumsum() / 10, months, name="passengers")


def write_records(folder: Path, count: int) -> Path:
    """Write a table of dated trials and return its path."""
    path = folder / f"records{count}.csv"
    dates = pd.date_range("1900-01-01", periods=count, freq="h").strftime("%Y-%m-%d")
    values = np.random.default_rng(1).normal(size=count)
    pd.DataFrame({"date": dates, "result": values}).to_csv(path, index=False)
    return path


def write_workbook(folder: Path, rows: int) -> Path:
    """Write a workbook of rows of ten formulas, and return its path."""
    path = folder / f"rows{rows}.xlsx"
    total = sum(10 * (column + 1) + row for row in range(2, rows + 2) for column in range(10))
    with xlsxwriter.Workbook(path) as book:
        sheet = book.add_worksheet("Plan")
        sheet.write("A1", 10)
        for row in range(2, rows + 2):
            for column in range(10):
                letter = chr(ord("A") + column)
                sheet.write_formula(
                    f"{letter}{row}", f"=$A$1*{column + 1}+{row}", value=10 * (column + 1) + row
                )
        sheet.write_formula("L1", f"=SUM(A2:J{rows + 1})", value=total)
    return path


def run_workbook(path: Path) -> None:
    book = kd.read_workbook(path)
    book.model(drivers={"price": ("A1", kd.Normal(10, 1))}, outcomes={"total": "L1"}).simulate(
        100, 1
    )


def work_of(folder: Path) -> dict[str, tuple[tuple[int, int], Callable[[int], object], str]]:
    """Return each piece of work: how much of it, the work itself, and the growth wanted."""
    small = (lambda few, many: (few // 4, many // 4)) if SHORT else (lambda few, many: (few, many))
    records, books = small(25_000, 100_000), small(2_000, 8_000)
    tables = {count: write_records(folder, count) for count in records}
    workbooks = {count: write_workbook(folder, count) for count in books}
    night_ferry = ferry()
    return {
        "{} trials of the night ferry": (
            small(400_000, 1_600_000),
            lambda count: night_ferry.simulate(count, 1).table(),
            LINEAR,
        ),
        "{} drivers, run and ranked": (
            small(75, 300),
            lambda count: ranked(many_drivers(count)),
            LINEAR,
        ),
        "{} drivers of 12 periods, run and ranked": (
            small(10, 40),
            lambda count: ranked(many_drivers(count, periods=12)),
            "at most 16.5: each is exchanged in the sum of all",
        ),
        "{} periods": (small(300, 1_200), lambda n: rows_model(n, 1).simulate(TRIALS, 1), LINEAR),
        "{} lines": (small(100, 400), lambda n: many_lines(n).simulate(TRIALS, 1), LINEAR),
        "{} outcomes, with their table": (
            small(50, 200),
            lambda count: rows_model(12, count).simulate(TRIALS, 1).table(),
            LINEAR,
        ),
        "{} correlated drivers": (
            small(125, 500),
            lambda count: correlated(count)[0].simulate(2_000, 1),
            "at most 16.5: each two are a pair",
        ),
        "{} instruments, a table of risk": (
            small(20, 80),
            lambda count: portfolio(count).risk_table(),
            LINEAR,
        ),
        "{} dated events": (
            small(50, 200),
            lambda count: events(count).simulate(TRIALS, 1),
            LINEAR,
        ),
        "{} alternatives": (
            small(50, 200),
            lambda count: alternatives(count).solve(trials=TRIALS),
            LINEAR,
        ),
        "{} claims a trial": (
            small(100, 400),
            lambda count: claims(count).simulate(TRIALS, 1),
            LINEAR,
        ),
        "{} values of a series, fitted": (
            small(200, 800),
            lambda count: kd.fit_series(series(count), rolling=False),
            LINEAR,
        ),
        "{} values, distributions fitted": (
            records,
            lambda count: kd.fit_distributions(np.random.default_rng(1).gamma(3, 2, count)),
            LINEAR,
        ),
        "{} records read": (records, lambda count: kd.read_trials(tables[count]), LINEAR),
        "{} rows of ten formulas": (books, lambda count: run_workbook(workbooks[count]), LINEAR),
        "{} levels of a decision of four branches": (
            (2, 3) if SHORT else (4, 5),
            lambda count: kd.Decision("large", {"go": tree(count, 4, [0])}).solve(trials=1_000),
            LINEAR,
        ),
    }


def seconds_of(work: Callable[[], object], runs: int = 1 if SHORT else 3) -> float:
    """Return the least of a few times: what disturbs a machine only adds to it."""
    times = []
    for _ in range(runs):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)


def measure() -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as name:
        for label, ((few, many), work, wanted) in work_of(Path(name)).items():
            work(few)
            first, last = (seconds_of(partial(work, count)) for count in (few, many))
            detail = f"{last:.2f} s / {first:.2f} s"
            yield f"{label.format(f'{many:,}')} / {few:,}", detail, last / first, wanted
