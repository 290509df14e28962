"""What assumptions are worth, against the closed forms of a sum of normals: each departure's figure
over the exact one, and how often the interval of its difference holds the exact difference.
"""

import math
import os
from collections.abc import Iterator

import numpy as np
from scipy import stats

import kindynos as kd

SEEDS = 3 if "KINDYNOS_SHORT_BENCH" in os.environ else 100
TRIALS = 4_000
SDS = np.array([1.0, 2.0, 2.0])
RANKS = 6 / math.pi * np.arcsin(SDS / 3 / 2)  # of each driver with the sum
LINEAR = 2 * math.sin(math.pi * 0.3 / 6)  # of normals with a rank correlation of 0.3
TOGETHER = math.sqrt((1 - LINEAR) * 9 + LINEAR * 25)
DEPARTURES = {  # the mean and the sd that each leaves, of 1 and 3 as stated
    "ranges x 1.5": (1.0, 4.5),
    "b x 1.5": (1.0, math.sqrt(1 + 9 + 4)),
    "bad news together": (1.0, TOGETHER),
    "ranges and together": (1.0, 1.5 * TOGETHER),
    "worse centres": (1.0 - 0.25 * float(RANKS @ SDS), 3.0),
}
FIGURES = {
    "chance below 0": lambda mean, sd: stats.norm.cdf(-mean / sd),
    "percentile 5": lambda mean, sd: mean + sd * stats.norm.ppf(0.05),
}


def measure() -> Iterator[tuple[str, str, float, str]]:
    model = kd.Model("sums")
    for name, sd in zip("abc", SDS, strict=True):
        model.driver(name, kd.Normal(1.0, sd))
    model.outcome("total", "a + b - c", target=0, unit="EUR")
    tables = [model.robustness("total", trials=TRIALS, seed=seed).table for seed in range(SEEDS)]
    for departure, law in DEPARTURES.items():
        name = next(key for key in tables[0].index.unique(0) if str(key).startswith(departure))
        for figure, exact in FIGURES.items():
            rows = [table.loc[(name, figure)] for table in tables]
            wanted, stated = exact(*law), exact(1.0, 3.0)
            mean = np.mean([row["value"] for row in rows])
            held = np.mean([row["low"] <= wanted - stated <= row["high"] for row in rows])
            words = f"{SEEDS} seeds of {TRIALS:,} trials: {mean:.4g} for {wanted:.4g}"
            yield f"{figure} under {departure} / exact", words, mean / wanted, "at most 1.02"
            if departure != "worse centres":  # by how much is as sure as the rank correlations
                label = "the same, held by the interval of its difference"
                yield label, words, held, "at least 0.92"
