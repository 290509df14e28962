"""How often the interval of a risk figure holds the true one, for each method on returns on which
its assumption holds.

Returns are independent (normal, or Student's t with 5 or 4 degrees of freedom), or have a
volatility that clusters: GARCH(1,1) with 0.08 of a day's square, 0.9 of the variance before, and
Student's t shocks with 6 degrees of freedom. There ``filtered`` and ``weighted`` are asked for the
day to come, ``historical`` and ``tail`` for days of any year. Over several periods, held or sold
short, log returns are independent, and the truth is that of their sums. The last rows are of the
figure that is printed, by the method that is chosen for each history: its coverage, and its root
mean square error over that of the best single method. ``KINDYNOS_SEEDS`` sets how many histories
are drawn.
"""

import math
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import cache

import numpy as np
import pandas as pd
from scipy import stats

from benchmarks.timing import SHORT, repeats
from kindynos.markets.book import Held
from kindynos.markets.exposure import Exposure
from kindynos.markets.method import MEASURES
from kindynos.markets.methods import METHODS
from kindynos.markets.supported import supported_method

HELD = Held(("a",), (1.0,), (1.0,), (False,))  # one of an instrument that is worth 1
SEEDS = repeats(400)
MONTHS = 12  # the horizon in months; others are in days
CHOSEN = 100  # histories whose method is chosen, by seven back-tests each
LEVELS = (0.95, 0.975, 0.99)
DAYS = (250, 500, 1000)
REACTION, MEMORY, DF = 0.08, 0.9, 6
FREE = ("historical", "weighted", "filtered", "tail", "student", "simulated")


def independent(distribution: object) -> Callable[[int, int], tuple[np.ndarray, float]]:
    return lambda days, seed: (distribution.rvs(days, random_state=seed), 1.0)


def clustered(days: int, seed: int) -> tuple[np.ndarray, float]:
    """Return losses and the volatility of the day after."""
    shocks = stats.t(DF).rvs(days + 1000, random_state=seed) * math.sqrt((DF - 2) / DF)
    losses, variance = np.empty(len(shocks)), 1.0
    for day, shock in enumerate(shocks):
        losses[day] = math.sqrt(variance) * shock
        variance = 1 - REACTION - MEMORY + REACTION * losses[day] ** 2 + MEMORY * variance
    return losses[1000:], math.sqrt(variance)


@dataclass(frozen=True)
class Returns:
    """Returns of a kind, and the methods whose assumption holds on them."""

    name: str
    draw: Callable[[int, int], tuple[np.ndarray, float]]
    methods: tuple[str, ...]


KINDS = (
    Returns("normal", independent(stats.norm()), (*FREE, "normal", "cornish fisher")),
    Returns("t with 5 df", independent(stats.t(5)), FREE),
    Returns("t with 4 df", independent(stats.t(4)), FREE),
    Returns("GARCH, t with 6 df", clustered, ("historical", "weighted", "filtered", "tail")),
)


@cache
def truths(kind: int, level: float, conditional: bool) -> tuple[float, float]:
    """Return the true value at risk and expected shortfall, of a day whose volatility is 1 if it is
    conditional.
    """
    if kind < 3:
        distribution, scale = (stats.norm(), stats.t(5), stats.t(4))[kind], 1.0
    elif conditional:
        distribution, scale = stats.t(DF), math.sqrt((DF - 2) / DF)
    else:
        losses = _years()
        q = float(np.quantile(losses, level))
        return q, float(losses[losses > q].mean())
    q = float(distribution.ppf(level))
    return q * scale, float(distribution.expect(lambda x: x, lb=q, conditional=True)) * scale


@cache
def _years() -> np.ndarray:
    return np.concatenate([clustered(400_000, 10_000 + place)[0] for place in range(6)])


def _job(case: tuple[int, int, str, int]) -> list[tuple[str, str, float, str]]:
    place, days, name, seeds = case
    kind = KINDS[place]
    method = METHODS[name](trials=4000) if name == "simulated" else METHODS[name]()
    conditional = name in ("filtered", "weighted")
    hits, open_ends = np.zeros((3, 2)), np.zeros((3, 2))
    dates = pd.DatetimeIndex(pd.bdate_range("2020-01-01", periods=days))
    for seed in range(seeds):
        losses, volatility = kind.draw(days, seed)
        exposure = Exposure(HELD, -losses[:, None], ["a"], dates)
        for i, level in enumerate(LEVELS):
            for j, measure in enumerate(MEASURES):
                figure = method.interval(exposure, measure, level, 1)
                truth = truths(place, level, conditional)[j] * (volatility if conditional else 1.0)
                hits[i, j] += figure.low <= truth <= figure.high
                open_ends[i, j] += math.isinf(figure.high)
    return [
        (
            f"coverage: {kind.name}, {days} days, {name}, {measure.replace('_', ' ')} {level:g}",
            f"{seeds} seeds, {open_ends[i, j] / seeds:.0%} 'at least'",
            hits[i, j] / seeds,
            "0.92 to 0.98",
        )
        for i, level in enumerate(LEVELS)
        for j, measure in enumerate(MEASURES)
    ]


@cache
def _long_truth(kind: int, periods: int, mean: float, sd: float, number: float) -> float:
    """Return the loss at 99 % over several periods of one share that is held, or sold short."""
    draw, generator = (stats.norm(), stats.t(5))[kind].rvs, np.random.default_rng(9)
    scale = sd / (1.0, math.sqrt(5 / 3))[kind]
    logs = sum(mean + scale * draw(400_000, random_state=generator) for _ in range(periods))
    return float(np.quantile(-number * np.expm1(logs), 0.99))


def _long_job(case: tuple[int, str, int, int, float, int]) -> list[tuple[str, str, float, str]]:
    """Return how a figure over a horizon does for one share, held or sold short."""
    kind, name, count, horizon, number, seeds = case
    daily = horizon != MONTHS
    mean, sd = (0.0003, 0.01) if daily else (0.006, 0.045)
    scale = sd / (1.0, math.sqrt(5 / 3))[kind]
    frequency = "B" if daily else "ME"
    dates = pd.DatetimeIndex(pd.date_range("2000-01-03", periods=count, freq=frequency))
    book = Held(("a",), (number,), (1.0,), (False,))
    method, truth, hits = METHODS[name](), _long_truth(kind, horizon, mean, sd, number), 0
    ratios = []
    for seed in range(seeds):
        shocks = (stats.norm(), stats.t(5))[kind].rvs(count, random_state=seed)
        exposure = Exposure(book, np.expm1(mean + scale * shocks)[:, None], ["a"], dates)
        own, looked_at, left = method.over(exposure, horizon)
        figure = own.interval(looked_at, MEASURES[0], 0.99, left)
        hits += figure.low <= truth <= figure.high
        ratios.append(float(figure) / truth)
    side, unit = "held" if number > 0 else "sold short", "days" if daily else "months"
    title = f"{KINDS[kind].name}, {count} {unit}, {name} over {horizon} {unit}, {side}"
    what = f"{seeds} seeds; the figure is {np.median(ratios):.2f} of the true one"
    return [(f"coverage: {title}", what, hits / seeds, "0.92 to 0.98")]


def _chosen_job(case: tuple[int, int, int]) -> list[tuple[str, str, float, str]]:
    """Return how the figure at 99 % does whose method is chosen for each history."""
    place, days, seeds = case
    kind, level, measure = KINDS[place], 0.99, MEASURES[0]
    dates = pd.DatetimeIndex(pd.bdate_range("2020-01-01", periods=days))
    picked, hits = [], 0
    errors: dict[str, list[float]] = {name: [] for name in (*kind.methods, "chosen")}
    for seed in range(seeds):
        losses, volatility = kind.draw(days, seed)
        exposure = Exposure(HELD, -losses[:, None], ["a"], dates)
        picked.append(supported_method(exposure, level).method)
        for name in errors:
            if name == "simulated":
                continue
            label = picked[-1] if name == "chosen" else name
            figure = METHODS[label]().interval(exposure, measure, level, 1)
            truth = truths(place, level, True)[0] * volatility  # of the day to come
            errors[name].append(float(figure) / truth - 1)
            if name == "chosen":
                hits += figure.low <= truth <= figure.high
    spread = {name: float(np.sqrt(np.mean(np.square(e)))) for name, e in errors.items() if e}
    chosen = spread.pop("chosen")
    best = min(spread, key=spread.__getitem__)
    counts = ", ".join(f"{name} {picked.count(name)}" for name in dict.fromkeys(picked))
    title = f"the figure that is printed: {kind.name}, {days} days, value at risk {level:g}"
    bias = float(np.mean(errors["chosen"]))
    return [
        (f"coverage: {title}", f"{seeds} seeds; {counts}", hits / seeds, "0.9 to 0.97"),
        (
            f"error: {title} / {best}",
            f"{chosen:.3f} / {spread[best]:.3f}, {bias:+.1%} on average",
            chosen / spread[best],
            "at most 1.2",
        ),
    ]


def measure() -> list[tuple[str, str, float, str]]:
    cases = [
        (place, days, name, SEEDS)
        for place, kind in enumerate(KINDS)
        for days in (DAYS[:1] if SHORT else DAYS)
        for name in kind.methods
    ]
    with ProcessPoolExecutor() as pool:
        rows = [row for rows in pool.map(_job, cases) for row in rows]
        long = [
            (kind, name, 1000 if horizon != MONTHS else 240, horizon, number, min(SEEDS, CHOSEN))
            for kind in (0, 1)
            for name in ("historical", "weighted", "filtered", "tail")
            for horizon in ((10,) if SHORT else (10, MONTHS, 250))
            for number in (1.0, -1.0)
        ]
        rows += [row for rows in pool.map(_long_job, long) for row in rows]
        chosen = [
            (place, days, min(SEEDS, CHOSEN)) for place in range(len(KINDS)) for days in DAYS[1:]
        ]
        rows += [
            row for rows in pool.map(_chosen_job, chosen[:1] if SHORT else chosen) for row in rows
        ]
    return rows
