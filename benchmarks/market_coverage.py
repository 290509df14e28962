"""How often intervals hold the truth on the histories that people have: months and weeks instead of
days, short books, jointly fat tails, clustered volatility, and jumps that come together.

Rows give the share of histories whose 95 % interval held the true figure. ``KINDYNOS_SEEDS`` sets
how many histories are drawn.
"""

import math
import warnings
from concurrent.futures import ProcessPoolExecutor
from functools import cache

import numpy as np
import pandas as pd

import kindynos as kd
from benchmarks.timing import repeats

SEEDS = repeats(200)
LEVEL = 0.975
MATRIX = np.array([[1, 0.5, 0.3], [0.5, 1, 0.4], [0.3, 0.4, 1]])
LOWER = np.linalg.cholesky(MATRIX)
HELD = {"a": 1000.0, "b": 1000.0, "c": 1000.0}
SHORT_BOOK = {"a": -1000.0, "b": 800.0, "c": 150.0}
FREQUENCIES = {"days": ("B", 500), "weeks": ("W-FRI", 500), "months": ("MS", 240)}
METHODS = ("historical", "tail", "student", "simulated")


def draws(generator: np.random.Generator, count: int, df: float | None) -> np.ndarray:
    """Return joint returns ``(count, 3)`` with an sd of 0.01, normal or of a multivariate t."""
    found = 0.01 * generator.standard_normal((count, 3)) @ LOWER.T
    if df is None:
        return found
    return found * np.sqrt((df - 2) / df) / np.sqrt(generator.chisquare(df, count) / df)[:, None]


@cache
def truth(book: tuple[float, ...], df: float | None) -> tuple[float, float]:
    """Return the true value at risk and expected shortfall of a book."""
    losses = -draws(np.random.default_rng(99), 2_000_000, df) @ np.array(book)
    q = float(np.quantile(losses, LEVEL))
    return q, float(losses[losses > q].mean())


def _held(case: tuple[str, str, float | None, str, int]) -> tuple[int, int]:
    """Return whether both measures' intervals hold the truth on one history."""
    spacing, book_name, df, method, seed = case
    freq, count = FREQUENCIES[spacing]
    book = SHORT_BOOK if book_name == "short book" else HELD
    moves = draws(np.random.default_rng(seed), count, df)
    grown = 100 * np.cumprod(1 + np.vstack([np.zeros(3), moves]), axis=0)
    dates = pd.date_range("2000-01-01", periods=count + 1, freq=freq)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", kd.DataWarning)
        frame = pd.DataFrame(grown, dates, list("abc"))
        prices = kd.read_prices(frame, keep_suspicious=True)
    held = kd.Portfolio(prices, amounts=book, short=True)
    options = {"trials": 5000, "seed": seed} if method == "simulated" else {}
    figures = (
        held.value_at_risk(LEVEL, method, **options),
        held.expected_shortfall(LEVEL, method, **options),
    )
    wanted = truth(tuple(book.values()), df)
    one, two = (int(f.low <= t <= f.high) for f, t in zip(figures, wanted, strict=True))
    return one, two


def _volatility(case: tuple[str, int]) -> int:
    """Return whether the interval of a fitted volatility holds the long-run one."""
    kind, seed = case
    steady = kd.GeometricBrownianMotion(100.0, 0.0, 0.01)
    clustered = kd.Garch(100.0, 0.01, reaction=0.08, persistence=0.97, df=6)
    prices = (clustered if kind == "GARCH" else steady).paths(1000, 1, seed=seed)[:, 0]
    fitted = kd.GeometricBrownianMotion.fit(prices)
    error = fitted.fitted.standard_errors["volatility"] / fitted.volatility
    return int(abs(math.log(fitted.volatility / 0.01)) <= 1.96 * error)


def _jumps_together() -> float:
    """Return the correlation of returns that two processes with jumps reach where 0.6 is asked."""
    one = kd.JumpDiffusion(100.0, 0.05, 0.1, rate=10.0, jump_mean=-0.02, jump_sd=0.05)
    both = kd.PathSet({"a": one, "b": one}, [[1, 0.6], [0.6, 1]])
    moves = np.diff(np.log(both.paths(120, 4000, 1, 1 / 252)), axis=1).reshape(2, -1)
    return float(np.corrcoef(moves)[0, 1])


def measure() -> list[tuple[str, str, float, str]]:
    cases = [
        (spacing, book, df, method)
        for spacing, book, df in (
            ("days", "long book", 4.0),
            ("days", "short book", 4.0),
            ("weeks", "long book", None),
            ("months", "long book", None),
        )
        for method in METHODS
    ]
    rows = []
    with ProcessPoolExecutor() as pool:
        for case in cases:
            found = np.array(list(pool.map(_held, [(*case, seed) for seed in range(SEEDS)])))
            tails = "normal" if case[2] is None else f"joint t with {case[2]:g} df"
            for place, name in enumerate(("value at risk", "expected shortfall")):
                label = f"coverage: {case[0]}, {case[1]}, {tails}, {case[3]}, {name} {LEVEL:g}"
                rows.append(
                    (label, f"{SEEDS} seeds", float(found[:, place].mean()), "0.92 to 0.98")
                )
        for kind in ("independent", "GARCH"):
            hits = list(pool.map(_volatility, [(kind, seed) for seed in range(SEEDS)]))
            label = f"coverage: volatility of a fitted price, {kind} returns"
            rows.append((label, f"{SEEDS} seeds", float(np.mean(hits)), "0.92 to 0.98"))
    rows.append(("jumps together: correlation where 0.6 is asked", "", _jumps_together(), "0.6"))
    return rows
