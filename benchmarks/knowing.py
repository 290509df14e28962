"""What knowing is worth before a choice, against the closed form of a difference that is linear in
normal drivers, and against a simulation within a simulation of one that is not: the mean over the
exact worth, how often its interval holds that, and how often noise is worth something.
"""

import math
import os
from collections.abc import Iterator

import numpy as np
from scipy import stats

import kindynos as kd

SEEDS = 3 if "KINDYNOS_SHORT_BENCH" in os.environ else 100
TRIALS = 2_000
SDS = {"a": 60.0, "b": 30.0, "rest": 100.0, "a and b": math.hypot(60, 30)}


def loss(mean: float, sd: float) -> float:
    """The mean of what the better of two options is ahead, less the better mean."""
    return float(sd * stats.norm.pdf(mean / sd) - abs(mean) * stats.norm.cdf(-abs(mean) / sd))


def nested(known: str, outer: int = 1_000, inner: int = 20_000) -> float:
    """The worth of knowing the price or the volume of ``bounded``: for each of many values of it
    the mean of the gain over draws of the other, in plain NumPy.
    """
    generator = np.random.default_rng(0)
    levels = (np.arange(outer) + 0.5) / outer
    price, volume = kd.LogNormal(10.0, 4.0), kd.Gamma(9.0, 1.2)
    own, other = (price, volume) if known == "price" else (volume, price)
    drawn = other.quantile(generator.random(inner))
    gains = np.array([gain(value, drawn).mean() for value in own.quantile(levels)])
    return float(np.maximum(gains, 0).mean() - max(gains.mean(), 0.0))


def gain(price: object, volume: object) -> np.ndarray:
    """What building brings: sales less cost, and never a greater loss than is agreed on."""
    return np.maximum(price * volume - 105.0, -60.0)


def bounded() -> kd.Model:
    """The same as a model with two options."""
    model = kd.Model("Bounded")
    model.given(build=0)
    model.driver("price", kd.LogNormal(10.0, 4.0))
    model.driver("volume", kd.Gamma(9.0, 1.2))
    model.outcome("value", "build * max(price * volume - 105, -60)")
    model.scenario("yes", build=1)
    return model


def measure() -> Iterator[tuple[str, str, float, str]]:
    model = kd.Model("Linear")
    model.given(build=0)
    for name in ("a", "b", "rest", "idle"):
        model.driver(name, kd.Normal(0, 1))
    model.driver("odd", kd.LogNormal(1, 2))
    model.outcome("value", "100 * idle + build * (-20 + 60 * a + 30 * b + 100 * rest) + 0 * odd")
    model.scenario("yes", build=1)
    for plan in ("random", "latin"):
        tables = [
            model.compare(trials=TRIALS, seed=seed, sampling=plan).worth_of_knowing("value")
            for seed in range(SEEDS)
        ]
        for name, sd in SDS.items():
            exact, rows = loss(-20, sd), [table.loc[name] for table in tables]
            mean = np.mean([row["worth"] for row in rows])
            held = np.mean([abs(row["worth"] - exact) <= row["error"] for row in rows])
            words = f"{SEEDS} seeds of {TRIALS:,} trials: {mean:.3g} for {exact:.3g}"
            yield f"worth of knowing {name}, {plan} / exact", words, mean / exact, "at most 1.05"
            yield f"the same, held by its interval, {plan}", words, held, "at least 0.92"
        for name in ("idle", "odd"):
            seen = np.mean([t.loc[name, "worth"] > t.loc[name, "error"] for t in tables])
            yield f"{name} is worth something, {plan}", f"{SEEDS} seeds", seen, "at most 0.05"
    for known in ("price", "volume"):
        exact = nested(known)
        tables = [
            bounded().compare(trials=TRIALS, seed=seed).worth_of_knowing("value")
            for seed in range(SEEDS)
        ]
        rows = [table.loc[known] for table in tables]
        mean = np.mean([row["worth"] for row in rows])
        held = np.mean([abs(row["worth"] - exact) <= row["error"] for row in rows])
        words = f"{SEEDS} seeds of {TRIALS:,} trials: {mean:.3g} for {exact:.3g}"
        yield f"worth of knowing {known} / nested simulation", words, mean / exact, "at most 1.05"
        yield "the same, held by its interval", words, held, "at least 0.92"
