"""What knowing is worth before a choice, against the closed form of a difference that is linear in
normal drivers: the mean over the exact worth, how often its interval holds that, and how often
noise is worth something.
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
