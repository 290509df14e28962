"""Hostile input of every kind, seeded: what raises another error than ours, warns, loses a file or
keeps the caller waiting.

``python -m benchmarks attack``. Every class prints how many cases it tried; its ratio is the share
that went wrong, which must be 0. A class alone, with a count and a first seed, shows what went
wrong: ``python -m benchmarks.attack models 5000 0``.
"""

from __future__ import annotations

import contextlib
import importlib
import inspect
import io
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import tomllib
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from functools import cache, partial
from pathlib import Path

import cloudpickle
import numpy as np
import pandas as pd

import kindynos as kd
from benchmarks.good_calls import NoGoodCallError, good_call
from benchmarks.timing import SHORT
from kindynos.errors import DataWarning, FitWarning
from kindynos.model.file import model_from_text
from kindynos.reports.manifest import differences
from kindynos.tables.reader import read_table

LONGEST = 1.0  # seconds that any of these may take
DEMO = Path(kd.__file__).parent / "demo"
Wrong = tuple[str, str]  # the input, and what went wrong


def outcome(work: Callable[[], object], patience: float | None = None) -> str | None:
    """Return what went wrong in a piece of work that may raise our errors only, None if nothing
    did; it is ended when it takes several times too long.
    """
    longest = patience or LONGEST
    begun = time.process_time()
    signal.signal(signal.SIGALRM, _ring)
    signal.setitimer(signal.ITIMER_REAL, 10 * longest)  # on the clock: others may be busy
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            warnings.simplefilter("ignore", (DataWarning, FitWarning))  # type: ignore[arg-type]
            work()
    except kd.KindynosError as error:
        if not str(error).strip():
            return "a message without words"
    except _TooLong:
        return f"did not end within {10 * longest:g} s"
    except Exception as error:
        return f"{type(error).__name__}: {error!s:.120}"
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
    spent = time.process_time() - begun
    return f"took {spent:.1f} s" if spent > longest else None


class _TooLong(BaseException):
    """Ends a case that does not end by itself."""


def _ring(*_: object) -> None:
    raise _TooLong


# Formulas
# ------------------------------------------------------------------------------------------
WORDS = """
fare seats hurdle flow price table row npv irr mirr payback total last first previous lookup at
following min max clip round exp
log sqrt floor period cumulative discounted roll_forward first_period average median
terminal_value levelized_cost and or not if
else in is lambda import None True False def for while yield await ( ) [ ] { } , , . .. : ; = == !=
< > <= >= + - * / // % ** ^
& | ~ @ && || ! ? $ # " ' \\ ` 1 0 -1 2.5 1e308 1e-308 1e999 0x10 1_000 1j 10000000000000000000000
007 e é 数 𝒳 periods=3
shortfall=True floor=0 back=2 start=fare \x00 \u202e"""
FORMULAS = (
    "npv(hurdle, flow, -price)",
    "irr(flow, -price)",
    "previous(row, fare) * 1.1 + flow",
    "lookup(fare, table)",
    "fare * seats if fare > 3 else price",
    "roll_forward(price, hurdle, flow)",
    "total(flow) / max(fare, 1)",
)


def formulas(rng: random.Random) -> Wrong | None:
    """A line of random words, or a right one with a few of them put in, in a small model."""
    if rng.random() < 0.5:
        text = " ".join(rng.choice(WORDS.split()) for _ in range(rng.randint(1, 14)))
    else:
        tokens = re.findall(r"\w+|\W", rng.choice(FORMULAS))
        for _ in range(rng.randint(1, 3)):
            place = rng.randrange(len(tokens))
            tokens[place : place + rng.randint(0, 2)] = [
                rng.choice(WORDS.split()) for _ in range(rng.randint(0, 2))
            ]
        text = "".join(tokens)

    def work() -> None:
        model = kd.Model("attacked", periods=6)
        model.given(fare=3.0, seats=100, hurdle=0.1, price=50.0, table=[(0, 1.0), (5, 2.0)])
        model.driver("flow", kd.Normal(10, 20), each="period")
        model.line("row", text)
        model.outcome("y", "row * 1")
        model.compiled().evaluate(model.compiled().base_values(), 1)

    problem = outcome(work)
    return problem and (text, problem)


# Model files
# ------------------------------------------------------------------------------------------
VALUES = [
    "0",
    "-1",
    "1e400",
    "nan",
    "inf",
    "-inf",
    "1e-320",
    "1e308",
    "9" * 400,
    "true",
    '""',
    '"x"',
    '"fare"',
    "[]",
    "[1]",
    "[[1,2],[3]]",
    '["a","b"]',
    "{}",
    "{a=1}",
    "1979-05-27",
    "07:32:00",
    "[nan]",
    "1e17",
    "-0.0",
    "0.5",
    "1",
    "10000",
    '{distribution="poisson",mean=1e17}',
    '{distribution="normal",mean=0,sd=1}',
    "[[0,1],[0,2]]",
    "[0.1,0.2]",
    "3",
    '"previous(x,1)"',
    '"npv(0.1, 3)"',
    '"period"',
    '"year"',
    '"\\u202e"',
    '"\\u001b[31m"',
    "0x7fffffffffffffff",
]


def _catalogue() -> list[str]:
    """A small model file for every distribution and process, with parameters that are right."""
    from kindynos.distributions.catalogue import CATALOGUE
    from kindynos.distributions.registry import example
    from kindynos.processes.registry import PROCESSES

    texts = []
    for name in CATALOGUE:
        model = kd.Model(name, periods=4)
        model.driver("d", example(CATALOGUE.find(name)), each="period", base=1.0)
        model.outcome("y", "total(d)")
        texts.append(model.to_toml())
    parameters = {
        "start": 1.0,
        "drift": 0.1,
        "volatility": 0.2,
        "level": 1.0,
        "speed": 0.5,
        "rate": 1.0,
        "jump_mean": 0.0,
    }
    parameters |= {
        "jump_sd": 0.1,
        "drifts": (0.1, 0.0),
        "volatilities": (0.1, 0.2),
        "rates": (1.0, 2.0),
        "returns": (0.1, -0.1),
        "level_weight": 0.5,
        "sd": 1.0,
        "ar": 0.5,
        "history": (1.0, 2.0, 3.0),
        "reaction": 0.1,
        "persistence": 0.9,
    }
    for name in PROCESSES:
        known = inspect.signature(PROCESSES.find(name)).parameters
        model = kd.Model(name, periods=4)
        model.driver(
            "d",
            PROCESSES.find(name)(
                **{key: value for key, value in parameters.items() if key in known}
            ),
        )
        model.outcome("y", "last(d)")
        texts.append(model.to_toml())
    return texts


def sources() -> list[str]:
    """The texts of model files that are mutated."""
    return [path.read_text("utf-8") for path in sorted(DEMO.glob("*.toml"))] + _catalogue()


TEXTS: list[str] = []


def models(rng: random.Random) -> Wrong | None:
    """A right model file with values, keys, lines or characters changed: read, and simulated if it
    can be read.
    """
    if not TEXTS:
        # which fits in model files need, and whose loading is not what is timed
        importlib.import_module("scipy.optimize")
    TEXTS[:] = TEXTS or sources()
    text = rng.choice(TEXTS)
    for _ in range(rng.randint(1, 3)):
        lines = text.split("\n")
        place = rng.randrange(len(lines))
        kind = rng.random()
        if kind < 0.6 and "=" in lines[place]:
            lines[place] = lines[place].split("=")[0] + "= " + rng.choice(VALUES)
        elif kind < 0.7:
            del lines[place]
        elif kind < 0.8:
            lines.insert(place, rng.choice(lines))
        elif kind < 0.9 and lines[place]:
            spot = rng.randrange(len(lines[place]))
            lines[place] = (
                lines[place][:spot]
                + rng.choice('"=[]{}.,#x1- \u00e9\x07')
                + lines[place][spot + 1 :]
            )
        else:
            numbers = list(re.finditer(r"-?\d+(\.\d+)?", lines[place]))
            if numbers:
                found = rng.choice(numbers)
                lines[place] = (
                    lines[place][: found.start()] + rng.choice(VALUES) + lines[place][found.end() :]
                )
        text = "\n".join(lines)

    def read() -> None:
        with suppress(tomllib.TOMLDecodeError):
            made.append(model_from_text(text))

    made: list[kd.Model] = []
    problem = outcome(read)
    if problem is None and made:
        problem = outcome(lambda: made[0].simulate(60, seed=1, workers=1).table(), 4.0)
    return problem and (text, problem)


# Calls
# ------------------------------------------------------------------------------------------
def hostile_values() -> list[object]:
    """Return values of many kinds, hardly any of which a given argument takes."""
    return [
        0,
        1,
        -1,
        3,
        2.5,
        0.05,
        -0.5,
        1e308,
        1e-320,
        float("nan"),
        float("inf"),
        10**30,
        True,
        None,
        "",
        "x",
        b"x",
        [],
        [1.0],
        [1, 2, 3],
        [-100, 60, 60],
        [[1, 2], [3]],
        [[1, 2], [3, 4]],
        (0.1, 0.2),
        {},
        {"a": 1},
        {1, 2},
        object(),
        lambda *x: x,
        np.ones(3),
        np.ones((5, 3)),
        np.ones((0, 3)),
        np.array([]),
        np.ones((2, 2, 2)),
        np.array(["a"]),
        np.array([1 + 2j]),
        np.array([None, 1]),
        np.ma.array([1.0, 2.0, 3.0], mask=[0, 1, 0]),
        np.array([np.nan, 1.0, -2.0]),
        np.float32(1.5),
        np.array(["2020-01-01"], dtype="M8[D]"),
        pd.Series([1.0, -2.0, 3.0]),
        pd.DataFrame({"a": [1.0, 2.0], "b": [2.0, 1.0]}),
        pd.Series(["a", "b"]),
        pd.Timestamp("2020-01-01"),
        range(4),
        kd.Normal(0, 1),
        kd.RandomWalk(1.0, 0.0, 1.0),
        slice(3),
        np.random.default_rng(0).standard_normal(60),
        np.exp(np.cumsum(np.random.default_rng(0).standard_normal(60) / 100)),
        "\x00",
        "x" * 5_000,
        "../x",
        -(10**30),
        -0.0,
        complex(1, 2),
        frozenset(),
        {"a": {"b": 1}},
        {1: 2},
        iter([1, 2]),
        ...,
        np.int64(3),
        np.zeros(3),
        np.full(3, np.inf),
        np.arange(20_000),
        pd.Series([1.0, 2.0], ["a", "a"]),
        pd.DataFrame(),
        pd.Index([1, 2]),
        pd.NaT,
        Path("x"),
        kd.Poisson(2.0),
        kd.Estimate(1.0, 0.5, 1.5),
        _Hostile(),
    ]


class _Hostile:
    """An argument that cannot even be shown."""

    def __repr__(self) -> str:
        raise RuntimeError("no repr")

    def __len__(self) -> int:
        raise RuntimeError("no length")


def _arguments(rng: random.Random) -> object:
    return rng.choice(hostile_values())


FILES = {"load_model", "open_run", "read_prices"}  # have a class of their own
MADE = {
    "Run",
    "Sweep",
    "Comparison",
    "Estimate",
    "Estimates",
    "RiskFigure",
    "Distribution",
    "Process",
    "Result",
    "RowResult",
}
UNBOUND = {"batch", "add", "of"}  # which are not for users of an object


def targets() -> list[tuple[str, Callable[..., object]]]:
    """Every public function and class, and what a distribution, a process and a few results offer,
    by name.
    """
    found = [
        (name, getattr(kd, name))
        for name in kd.__all__
        if name[0] != "_" and name not in FILES | MADE
    ]
    found = [
        (name, thing)
        for name, thing in found
        if callable(thing) and not (inspect.isclass(thing) and issubclass(thing, BaseException))
    ]
    model = kd.Model("attacked", periods=3)
    model.given(fare=2.0)
    model.driver("d", kd.Normal(1, 1))
    model.driver("e", kd.Uniform(0, 1), each="period")
    model.outcome("y", "d * fare")
    model.outcome("row", "d * e")
    run = model.simulate(300, seed=1, workers=1)
    owners: list[tuple[str, object]] = [
        ("Normal()", kd.Normal(0, 1)),
        ("Poisson()", kd.Poisson(3)),
        ("model", model),
    ]
    owners += [
        ("run", run),
        ("result", run["y"]),
        ("rows", run["row"]),
        ("walk", kd.RandomWalk(1.0, 0.0, 1.0)),
        *_results(model, run),
    ]
    for label, owner in owners:
        methods = [
            name
            for name, _ in inspect.getmembers(type(owner), inspect.isfunction)
            if name[0] != "_"
        ]
        found += [
            (f"{label}.{name}", getattr(owner, name))
            for name in methods
            if name not in UNBOUND | {"save", "plot"}
        ]
    return [(name, thing) for name, thing in found if _has_signature(thing)]


def _results(model: kd.Model, run: kd.Run) -> list[tuple[str, object]]:
    """Return one result of each further kind, by name."""
    prices = kd.read_prices(DEMO / "treasury_prices.csv")
    held = kd.Portfolio(prices, shares={"shipyard": 100, "wind_farm": 50})
    event = kd.Event("e", {"x": (0.5, 1.0), "y": (0.5, 3.0)})
    cohort = kd.Cohort(["a", "b"], {"a": 50}, {"a": {"a": 0.9, "b": 0.1}})
    history = np.exp(np.cumsum(np.random.default_rng(1).standard_normal(120) / 100))
    return [
        ("prices", prices),
        ("portfolio", held),
        ("backtest", held.backtest()),
        ("allocation", kd.allocate(prices.subset(["shipyard", "wind_farm"]))),
        ("moments", kd.Moments([0.1, 0.2], [[0.04, 0.0], [0.0, 0.09]], names=["a", "b"])),
        ("comparison", kd.compare({"one": run, "two": run})),
        ("sweep", model.sweep(fare=[1.0, 2.0], trials=60, seed=1)),
        ("decision", kd.Decision("d", {"a": 2.0, "b": event})),
        ("solution", kd.Decision("d", {"a": 2.0, "b": event}).solve()),
        ("cohort", cohort),
        ("counts", cohort.simulate(3, 60, seed=1)),
        ("read", kd.read_trials(pd.DataFrame({"a": history, "b": history**2}))),
        ("fitted", kd.GeometricBrownianMotion.fit(history)),
        ("arima", kd.Arima(ar=[0.5], sd=1.0, history=history[:50])),
        (
            "paths",
            kd.PathSet({"a": kd.RandomWalk(1.0, 0.0, 1.0), "b": kd.RandomWalk(2.0, 0.0, 1.0)}),
        ),
        ("gamma", kd.Gamma.fit(history)),
        ("ranking", kd.fit_distributions(history, ["normal", "gamma"], samples=19)),
        ("drawdowns", kd.max_drawdown(history)),
    ]


def _has_signature(thing: Callable[..., object]) -> bool:
    try:
        inspect.signature(thing)
    except (TypeError, ValueError):
        return False
    return True


TARGETS: list[tuple[str, Callable[..., object]]] = []


def calls(rng: random.Random) -> Wrong | None:
    """A public function with as many arguments as it takes, of any type; too few or unknown ones
    are Python's to refuse.
    """
    TARGETS[:] = TARGETS or targets()
    name, thing = rng.choice(TARGETS)
    positional, named = [], {}
    for parameter in inspect.signature(thing).parameters.values():
        if parameter.kind in (parameter.POSITIONAL_ONLY, parameter.POSITIONAL_OR_KEYWORD):
            if parameter.default is not parameter.empty and rng.random() < 0.6:
                break
            positional.append(_arguments(rng))
        elif (
            parameter.kind == parameter.KEYWORD_ONLY
            and (parameter.default is parameter.empty or rng.random() < 0.3)
            and parameter.name not in ("workers", "executor")
        ):
            named[parameter.name] = _arguments(rng)
    with contextlib.redirect_stdout(io.StringIO()):  # results that show themselves
        problem = outcome(lambda: thing(*positional, **named), 10.0)
    shown = ", ".join(
        [*map(_shown, positional), *(f"{key}={_shown(value)}" for key, value in named.items())]
    )
    return problem and (f"{name}({shown})", problem)


def arguments(rng: random.Random) -> Wrong | None:
    """A good call of a public function with one of its arguments replaced by something hostile:
    none of the good arguments may change.
    """
    TARGETS[:] = TARGETS or targets()
    name, thing = rng.choice(TARGETS)
    try:
        good = good_call(name, thing)
    except NoGoodCallError:
        return None
    kinds = (inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY)
    names = [
        parameter.name
        for parameter in inspect.signature(thing).parameters.values()
        if parameter.kind in kinds and parameter.name not in ("workers", "executor")
    ]
    if not names:
        return None
    replaced, value = rng.choice(names), _arguments(rng)
    good.pop(replaced, None)
    before = pickled(good)
    here = os.getcwd()
    with tempfile.TemporaryDirectory() as folder, contextlib.redirect_stdout(io.StringIO()):
        os.chdir(folder)
        try:
            problem = outcome(lambda: thing(**good, **{replaced: value}), 10.0)
        finally:
            os.chdir(here)
    if problem is None and pickled(good) != before:
        problem = "an argument was changed"
    return problem and (f"{name}({replaced}={_shown(value)})", problem)


def pickled(values: dict[str, object]) -> list[bytes]:
    """Return what plain values hold: our own objects may remember what was asked of them."""
    written = []
    kinds = (list, dict, set, np.ndarray, pd.DataFrame, pd.Series)
    for value in (value for value in values.values() if isinstance(value, kinds)):
        with suppress(Exception):
            plain = value.to_dict() if isinstance(value, pd.DataFrame | pd.Series) else value
            written.append(cloudpickle.dumps(plain))
    return written


def _shown(value: object) -> str:
    try:
        return f"{value!r:.60}"
    except RuntimeError:
        return "what cannot be shown"


# Files
# ------------------------------------------------------------------------------------------
def saved(rng: random.Random) -> Wrong | None:
    """A saved run with bytes changed, cut or put in: refused, or the same run."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "run.parquet")
        first = kd.load_model(DEMO / "berths.toml").simulate(40, seed=3, workers=1)
        first.save(path)
        data = bytearray(path.read_bytes())
        for _ in range(rng.randint(1, 3)):
            place = rng.randrange(len(data))
            if rng.random() < 0.7:
                data[place] ^= 1 << rng.randrange(8)
            elif rng.random() < 0.5:
                del data[place : place + rng.randint(1, 200)]
            else:
                data[place:place] = rng.randbytes(rng.randint(1, 20))
        path.write_bytes(data)

        def work() -> None:
            again = kd.open_run(path)
            if not again.table().equals(first.table()) or again.seed != first.seed:
                raise RuntimeError("opened as another run")

        problem = outcome(work, 4.0)
        return problem and ("a saved run", problem)


CELLS = [
    "1",
    "2.5",
    "-3",
    "",
    "nan",
    "inf",
    "1e999",
    "abc",
    "2026-01-05",
    "2026-13-45",
    "05/01/2026",
    '"',
    '"a',
    ",,,",
    "\x00",
    "1,5",
    "é",
    "\u202e",
    "0x10",
    " 7 ",
    "1_000",
    "None",
    "9" * 30,
]


def prices(rng: random.Random) -> Wrong | None:
    """A file of prices, right or hopeless, under any of the endings that are read."""
    columns = rng.choice(
        [
            ["date", "a", "b"],
            ["date", "a", "a "],
            ["Date", "date", "a"],
            ["a"],
            [""],
            ["date", "\x1b[31ma"],
            [],
        ]
    )
    rows = [",".join(columns)]
    for day in range(rng.randint(0, 30)):
        row = [f"2026-01-{day + 1:02d}", *(f"{50 + rng.gauss(0, 1):.3f}" for _ in columns[1:])]
        if rng.random() < 0.2:
            row[rng.randrange(len(row))] = rng.choice(CELLS)
        rows.append(",".join(row))
    data = "\n".join(rows).encode("utf-8", "surrogatepass")
    if rng.random() < 0.2:
        data = rng.randbytes(rng.randint(0, 200))
    ending = rng.choice(
        [".csv"] * 4
        + [".gz", ".zip", ".xz", ".bz2", ".tar", ".xlsx", ".parquet", ".csv.gz", ".txt", ""]
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, f"prices{ending}")
        path.write_bytes(data)
        problem = outcome(lambda: kd.read_prices(path), 3.0)
    return problem and (f"{ending}: {data!r:.300}", problem)


def tables(rng: random.Random) -> Wrong | None:
    """A table of known numbers, laid out in any way that people use: read as it is, or refused."""
    count, width = rng.randint(1, 12), rng.randint(1, 4)
    decimals = rng.choice([0, 1, 2, 4])
    grouped = rng.random() < 0.3
    truth = [
        [round(rng.uniform(-9999, 9999), decimals) for _ in range(width)] for _ in range(count)
    ]
    separator = rng.choice(",;\t|")
    grouped = grouped and decimals > 0  # else thousands cannot be told from decimals
    decimal = rng.choice(".,") if separator in ";\t" else "."
    names = [f"{rng.choice(['a', 'net value', 'größe', 'x (EUR)'])} {k}" for k in range(width)]

    def written(number: float) -> str:
        text = f"{abs(number):{',' if grouped else ''}.{decimals}f}"
        text = text.translate(str.maketrans(",.", ".,")) if decimal == "," else text
        if number >= 0:
            return text
        return rng.choice([f"-{text}", f"({text})", f"\N{MINUS SIGN}{text}"])

    def quoted(cell: str) -> str:
        return f'"{cell}"' if separator in cell or '"' in cell or rng.random() < 0.1 else cell

    rows = [names, *([written(number) for number in row] for row in truth)]
    if rng.random() < 0.3:
        rows.insert(1, [rng.choice(["EUR", "pieces", "[EUR]"]) for _ in range(width)])
    lines = [separator.join(map(quoted, row)) for row in rows]
    if rng.random() < 0.3:
        lines[:0] = ["A title", ""]
    if rng.random() < 0.2:
        lines += ["", separator * (width - 1)]
    text = rng.choice(["\n", "\r\n", "\r"]).join(lines) + rng.choice(["", "\n"])
    encodings = ["utf-8", "utf-8-sig", "utf-16"]
    encoding = rng.choice(encodings if "\N{MINUS SIGN}" in text else [*encodings, "cp1252"])
    data = text.encode(encoding)
    spoilt = rng.random() < 0.3
    if spoilt:
        place = rng.randrange(len(data))
        data = data[:place] + rng.randbytes(rng.randint(0, 5)) + data[place + rng.randint(0, 5) :]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "t.csv")
        path.write_bytes(data)

        def work() -> None:
            table = read_table(path)
            found = [table.numbers(name).tolist() for name in table.names]
            if not spoilt and found != [list(column) for column in zip(*truth, strict=True)]:
                raise RuntimeError(f"read as {found!r:.150}")

        problem = outcome(work, 2.0)
    return problem and (repr(text)[:300], problem)


ENDS = (
    "", "2>&-", ">&-", ">&- 2>&-", "<&-", "| head -c 0", "| head -c 200", "> /dev/full",
    "2> /dev/full",
)  # fmt: skip
ENVIRONMENTS: tuple[dict[str, str], ...] = (
    {}, {"PYTHONIOENCODING": "ascii"}, {"COLUMNS": "20"}, {"COLUMNS": "1000"},
    {"PYTHONIOENCODING": "cp1252"}, {"TERM": "dumb", "NO_COLOR": "1"}, {"LC_ALL": "C"},
)  # fmt: skip
COMMANDS = (
    ("run", "berths.toml", "--trials", "60"),
    ("check", "night_ferry.toml"),
    ("drivers", "berths.toml", "--trials", "60"),
    ("compare", "night_ferry.toml", "--trials", "60"),
    ("decide", "lease_or_buy.toml", "--trials", "60"),
    ("read", "fuel_hedging.csv"),
    ("distributions",),
    ("run", "nothing.toml"),
    ("run", "berths.toml", "--trials", "many"),
    ("--help",),
)


def outputs(rng: random.Random) -> Wrong | None:
    """A command whose output is closed, full, cut off, or in an encoding without our signs."""
    command = rng.choice(COMMANDS)
    words = [str(DEMO / word) if word.endswith((".toml", ".csv")) else word for word in command]
    end, environment = rng.choice(ENDS), rng.choice(ENVIRONMENTS)
    made = subprocess.run(
        ["sh", "-c", f'"$@" {end}', "sh", sys.executable, "-m", "kindynos", *words],
        capture_output=True,
        env={**os.environ, **environment},
        check=False,
        timeout=60,
    )
    said = (made.stdout + made.stderr).decode("utf-8", "replace")
    shown = f"{environment} kindynos {' '.join(command)} {end}"
    if "Traceback" in said or "Error" in said.replace("Error: ", ""):
        return shown, said[-300:]
    if made.stderr.count(b"\n") > 1:
        return shown, f"several lines of errors: {said[-200:]}"
    if any(not c.isprintable() for c in said.replace("\n", "")):
        return shown, "a control character"
    return None


def flows(rng: random.Random) -> Wrong | None:
    """Whole-number flows: as many rates as Sturm's theorem counts, and the same for the flows with
    the signs turned.
    """
    from tests.finance.test_irr import count_of_rates

    column = [rng.randint(-9, 9) for _ in range(rng.randint(2, 7))]
    if rng.random() < 0.5:
        column.append(-sum(column))
    if sum(flow != 0 for flow in column) < 2:
        return None
    report, turned = kd.irr_report(column), kd.irr_report([-flow for flow in column])
    if report.count[0] != count_of_rates(column):
        return str(column), f"{report.count[0]} rates, and there are {count_of_rates(column)}"
    if report.count[0] != turned.count[0] or not np.allclose(
        report.roots[0], turned.roots[0], rtol=1e-8, atol=1e-8
    ):
        return str(column), "other rates with the signs turned"
    return None


# Files of every format
# ------------------------------------------------------------------------------------------
@cache
def _sound() -> dict[str, bytes]:
    """Return the contents of the sound files, by name."""
    with tempfile.TemporaryDirectory() as name:
        _write_originals(Path(name))
        return {
            str(path.relative_to(name)): path.read_bytes()
            for path in Path(name).rglob("*")
            if path.is_file()
        }


def _write_originals(folder: Path) -> None:
    """Write a sound file of each format that is read."""
    run = kd.load_model(DEMO / "berths.toml").simulate(60, seed=3, workers=1)
    run.save(folder / "run.parquet")
    run.to_frame().to_parquet(folder / "trials.parquet")
    model = kd.load_model(DEMO / "berths.toml")
    model.simulate(100_000, seed=3, workers=1, store="summary", resume=folder / "kept.npz")
    model.simulate(200, seed=3, workers=1, store="parts", resume=folder / "parts")
    table = pd.read_csv(DEMO / "fuel_hedging.csv").head(30)
    table.to_csv(folder / "table.csv", index=False)
    table.to_excel(folder / "table.xlsx", index=False)
    table.to_csv(folder / "table.zip", index=False)
    table.to_csv(folder / "table.csv.gz", index=False)
    shutil.copy(DEMO / "night_ferry.xlsx", folder / "model.xlsx")
    shutil.copy(DEMO / "hydrofoil.toml", folder / "model.toml")
    (folder / "run.json").write_text(run.to_json(), "utf-8")


def _originals(folder: Path) -> dict[str, tuple[Path, Callable[[Path], object]]]:
    """Put the sound files into a folder, and return each with what reads it."""
    for name, data in _sound().items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_bytes(data)
    model = kd.load_model(DEMO / "berths.toml")
    part = next((folder / "parts").glob("*.parquet"))

    def resumed(path: Path) -> object:
        return model.simulate(100_000, seed=3, workers=1, store="summary", resume=path)

    return {
        "a saved run": (folder / "run.parquet", kd.open_run),
        "trials in Parquet": (folder / "trials.parquet", kd.read_trials),
        "a checkpoint": (folder / "kept.npz", resumed),
        "a part": (part, lambda path: kd.open_parts(path.parent)["profit"].mean),
        "a CSV": (folder / "table.csv", kd.read_trials),
        "a sheet": (folder / "table.xlsx", kd.read_trials),
        "a zip": (folder / "table.zip", kd.read_trials),
        "a gzip": (folder / "table.csv.gz", kd.read_trials),
        "a workbook": (folder / "model.xlsx", kd.read_workbook),
        "a model file": (folder / "model.toml", kd.load_model),
        "JSON of a run": (
            folder / "run.json",
            lambda path: kd.Run.from_json(path.read_text("utf-8")),
        ),
    }


def forged(rng: random.Random) -> Wrong | None:
    """A file of any format with bytes changed, cut, put in or moved: read, or refused in words, in
    the memory and the time of a sound one.
    """
    with tempfile.TemporaryDirectory() as name:
        originals = _originals(Path(name))
        kind = rng.choice(list(originals))
        path, read = originals[kind]
        data = bytearray(path.read_bytes())
        for _ in range(rng.randint(1, 4)):
            place = rng.randrange(len(data))
            way = rng.random()
            if way < 0.5:
                data[place] ^= 1 << rng.randrange(8)
            elif way < 0.7:
                del data[place : place + rng.randint(1, 400)]
            elif way < 0.85:
                data[place:place] = rng.randbytes(rng.randint(1, 40))
            else:
                data[place:place] = data[rng.randrange(len(data)) :][: rng.randint(1, 400)]
            data = data or bytearray(b"x")
        path.write_bytes(data)

        def work() -> None:
            try:
                read(path)
            except UnicodeDecodeError:
                if kind != "JSON of a run":  # which is read as text by this attack
                    raise

        problem = outcome(work, 8.0)
    return problem and (kind, problem)


# Options
# ------------------------------------------------------------------------------------------
TEXTS_OF_OPTIONS = (
    *("0", "-1", "3", "2.5", "1e309", "nan", "", "x", "net_value", "mean", "0:1", "0.05:0.1:0.05"),
    *("fare=50,60", "load=0.5", "y > 1", "chance below 0", "percentile 5", "9%", "../x", "\u202e"),
    *(
        "historical",
        "latin",
        "normal",
        "2027-01-01",
        "month",
        "5,95",
        "=",
        "x.html",
        "x.xlsx",
        "out",
    ),
)
FIRST = {  # what each command reads
    "run": ["night_ferry.toml"],
    "check": ["night_ferry.toml"],
    "compare": ["night_ferry.toml"],
    "sweep": ["night_ferry.toml", "--vary", "fare=50,60"],
    "solve": ["night_ferry.toml", "fare"],
    "optimize": ["best_fare.toml", "--vary", "fare=50,60"],
    "drivers": ["night_ferry.toml"],
    "robustness": ["night_ferry.toml"],
    "trial": ["night_ferry.toml"],
    "decide": ["lease_or_buy.toml"],
    "bridge": ["night_ferry_last_year.toml", "night_ferry.toml"],
    "read": ["fuel_hedging.csv"],
    "fit": ["repair_bills.csv"],
    "forecast": ["passengers.csv", "--no-rolling", "--process", "smoothing: level"],
    "paths": ["heating_oil.csv", "--ahead", "5"],
    "risk": ["treasury_prices.csv", "--holdings", "treasury_holdings.csv", "--methods", "normal"],
    "backtest": ["treasury_prices.csv", "--holdings", "treasury_holdings.csv"],
    "validate": ["treasury_prices.csv", "--holdings", "treasury_holdings.csv"],
    "allocate": ["treasury_prices.csv"],
    "distributions": ["normal", "mean=1", "sd=2"],
}


def options(rng: random.Random) -> Wrong | None:
    """A command with some of its options, each with a text that fits or not: a report, or one
    message and exit status 2.
    """
    from tests.common import run as command_line

    from kindynos.cli import cli

    name = rng.choice(list(FIRST))
    command = cli.get_command(None, name)
    words = [str(DEMO / word) if word.endswith((".toml", ".csv")) else word for word in FIRST[name]]
    offered = [one for one in command.params if one.opts[0].startswith("--") and one.name != "help"]
    for option in rng.sample(offered, rng.randint(1, min(4, len(offered)))):
        if option.name in ("executor", "cluster"):
            continue
        choices = getattr(option.type, "choices", None)
        given = rng.choice(list(choices)) if choices and rng.random() < 0.7 else None
        words.append(option.opts[0])
        if not option.is_flag:
            words.append(str(given) if given is not None else rng.choice(TEXTS_OF_OPTIONS))
    if any(one.name == "trials" for one in offered) and "--trials" not in words:
        words += ["--trials", "100"]
    here = os.getcwd()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        try:
            answer = command_line(name, *words)
        finally:
            os.chdir(here)
    shown = " ".join([name, *words])
    if answer.returncode not in (0, 1, 2, 3):
        return shown, f"exit status {answer.returncode}: {answer.stderr[-200:]}"
    if "Traceback" in answer.stderr or "internal error" in answer.stderr:
        return shown, answer.stderr[-300:]
    return None


# Writers
# ------------------------------------------------------------------------------------------
def writers(rng: random.Random) -> Wrong | None:
    """Two threads that save different runs to one path: neither fails, and one of them is there,
    whole.
    """
    model = kd.load_model(DEMO / "berths.toml")
    runs = [model.simulate(rng.randint(20, 200), seed=seed, workers=1) for seed in (1, 2)]
    failed: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "run.parquet")

        def save(run: kd.Run) -> None:
            for _ in range(5):
                try:
                    run.save(path)
                    kd.open_run(path)
                except Exception as error:
                    failed.append(f"{type(error).__name__}: {error!s:.120}")

        threads = [threading.Thread(target=save, args=(run,)) for run in runs]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        if not failed and kd.open_run(path).seed not in (1, 2):
            failed.append("another run")
    return (str(path.name), failed[0]) if failed else None


# Kills
# ------------------------------------------------------------------------------------------
def kills(rng: random.Random) -> Wrong | None:
    """A command that writes is killed at any moment: what is there is complete, and the next
    command clears what is not.
    """
    command = [
        sys.executable,
        "-m",
        "kindynos",
        "run",
        str(DEMO / "berths.toml"),
        "--trials",
        "2000",
        "--seed",
        "1",
    ]
    with tempfile.TemporaryDirectory() as folder:
        writes = [*command, "--out", f"{folder}/new/out", "--save", f"{folder}/run.parquet"]
        if rng.random() < 0.5:  # an older folder, which is replaced whole or not at all
            subprocess.run([*writes, "--trials", "50"], stdout=subprocess.DEVNULL, check=True)
        process = subprocess.Popen(writes, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        _wait_for_handler(process.pid)
        time.sleep(rng.uniform(0.0, 2.5))
        sent = rng.choice([signal.SIGKILL, signal.SIGTERM, signal.SIGINT])
        process.send_signal(sent)
        begun = time.monotonic()
        said = process.communicate()[1].decode()
        waited = time.monotonic() - begun
        left = [path.name for path in Path(folder).rglob("*") if path.name.startswith(".")]
        if "Traceback" in said:
            return sent.name, said[-300:]
        if waited > LONGEST:
            return sent.name, f"took {waited:.1f} s to end"
        if sent != signal.SIGKILL and left:
            return sent.name, f"left {left}"
        spoilt = _spoilt(Path(folder))
        if spoilt and sent != signal.SIGKILL:
            return sent.name, spoilt
        if left:
            for path in Path(folder).rglob(".*"):  # which are cleared when they are old
                os.utime(path, (0, 0))
            subprocess.run(writes, stdout=subprocess.DEVNULL, check=True)
            left = [path.name for path in Path(folder).rglob("*") if path.name.startswith(".")]
            if left:
                return sent.name, f"the next command left {left}"
    return None


def _spoilt(folder: Path) -> str | None:
    """Return what a killed command left that is not whole, None where all is."""
    if (folder / "run.parquet").exists():
        kd.open_run(folder / "run.parquet")
    out = folder / "new" / "out"
    if (out / "summary.json").exists():
        json.loads((out / "summary.json").read_text("utf-8"))
    mixed = differences(out) if (out / "run.json").exists() else []
    return f"a mixed folder: {mixed}" if mixed else None


def _wait_for_handler(process: int) -> None:
    """Wait until a program catches a termination: what comes earlier meets Python's own start."""
    status = Path(f"/proc/{process}/status")
    while status.exists():
        caught = [
            line.split()[1] for line in status.read_text().splitlines() if line.startswith("SigCgt")
        ]
        if not caught or int(caught[0], 16) >> (signal.SIGTERM - 1) & 1:
            return
        time.sleep(0.01)
    time.sleep(0.5)  # where such files are not kept


CLASSES: dict[str, tuple[Callable[[random.Random], Wrong | None], int]] = {
    "formulas": (formulas, 100_000),
    "models": (models, 50_000),
    "calls": (calls, 100_000),
    "arguments": (arguments, 20_000),
    "saved": (saved, 1_000),
    "prices": (prices, 1_000),
    "tables": (tables, 2_000),
    "outputs": (outputs, 500),
    "flows": (flows, 20_000),
    "forged": (forged, 500),
    "options": (options, 300 * len(FIRST)),
    "writers": (writers, 40),
    "kills": (kills, 200),
}
CHUNK = 50


def attacked(name: str, first: int, count: int) -> list[Wrong]:
    """Return what went wrong in that many cases of a class, from a first seed on."""
    case, _ = CLASSES[name]
    return [
        wrong
        for seed in range(first, first + count)
        if (wrong := case(random.Random(f"{name} {seed}")))
    ]


def measure(scale: float = 1.0) -> Iterator[tuple[str, str, float, str]]:
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for name, (_, full) in CLASSES.items():
            count = 6 if SHORT else max(CHUNK, round(full * scale))
            parts = pool.map(
                partial(attacked, name, count=min(CHUNK, count)), range(0, count, CHUNK)
            )
            wrong = [one for part in parts for one in part]
            yield (
                f"attack: {name}, {count:,} cases",
                wrong[0][1] if wrong else "",
                len(wrong) / count,
                "0",
            )


def main() -> None:
    name, count, first = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for part in pool.map(
            partial(attacked, name, count=CHUNK), range(first, first + count, CHUNK)
        ):
            for shown, problem in part:
                print(f"{problem}\n    {shown}", flush=True)


if __name__ == "__main__":
    main()
