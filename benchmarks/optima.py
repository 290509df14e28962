"""How often the error of the best decisions holds the best of all, and how many evaluations it
takes.
"""

import warnings
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from scipy import optimize, stats
from tests.studies.test_optimum import LIMIT, limited, newsvendor

import kindynos as kd
from benchmarks.timing import repeats

SEEDS = repeats(60)


def quadratic() -> kd.Model:
    model = kd.Model("Quadratic")
    model.given(x=0.0, y=0.0)
    model.driver("z", kd.Normal(1, 1))
    model.driver("w", kd.Normal(2, 1))
    model.outcome("v", "-(x - z)**2 - (y - w)**2 - 0.8 * x * y")
    return model


REACH = 3 / stats.norm.ppf(0.95)
EDGE = optimize.minimize(
    lambda p: (p[0] - 3) ** 2 + (p[1] - 2) ** 2,
    [1, 1],
    constraints={"type": "eq", "fun": lambda p: np.hypot(*p) - REACH},
).x
CASES = {
    "newsvendor": (
        newsvendor,
        {"order": (400, 1600)},
        {"maximize": "mean profit"},
        [stats.norm(1000, 200).ppf(0.4)],
    ),
    "quadratic, two decisions": (
        quadratic,
        {"x": (-4, 4), "y": (-4, 4)},
        {"maximize": "mean v"},
        np.linalg.solve([[2, 0.8], [0.8, 2]], [2, 4]),
    ),
    "quadratic under a chance limit": (
        limited,
        {"x": (0, 5), "y": (0, 5)},
        {"maximize": "mean v", "subject_to": [LIMIT]},
        EDGE,
    ),
}


def _found(task: tuple[str, str, int]) -> tuple[list[bool], int]:
    name, sampling, seed = task
    warnings.simplefilter("ignore")
    build, decisions, aim, truth = CASES[name]
    found = build().optimize(
        decisions, **aim, trials=4_000, seed=seed, sampling=sampling, workers=1
    )
    held = [
        abs(value - true) <= value.error
        for value, true in zip(found.decisions.values(), truth, strict=True)
    ]
    return held, len(found.evaluations)


def measure() -> list[tuple[str, str, float, str]]:
    rows = []
    with ProcessPoolExecutor() as pool:
        for name in CASES:
            for sampling in ("random", "latin"):
                answers = list(
                    pool.map(_found, [(name, sampling, seed) for seed in range(SEEDS)], chunksize=5)
                )
                text = (
                    f"{SEEDS} seeds, {sampling}; at most {max(count for _, count in answers)} "
                    "evaluations"
                )
                held = float(np.mean([held for held, _ in answers]))
                rows.append((f"best decisions hold the truth: {name}", text, held, "0.92 to 0.98"))
    return rows
