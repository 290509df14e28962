"""Cohorts against a script that draws multinomials, and large decision trees."""

import time

import numpy as np

import kindynos as kd
from benchmarks.timing import paired, seconds

MATRIX = np.array([[0.85, 0.10, 0.05], [0.30, 0.60, 0.10], [0.10, 0.20, 0.70]])
PERIODS, TRIALS = 10, 100_000


def script():
    rng = np.random.default_rng(1)
    counts = np.zeros((3, PERIODS + 1, TRIALS), dtype=np.int64)
    counts[0, 0], counts[1, 0] = 20, 7
    for t in range(PERIODS):
        for i in range(3):
            counts[:, t + 1] += rng.multinomial(counts[i, t], MATRIX[i]).T
    return counts


def tree(depth: int, breadth: int, number: list[int]):
    """A tree of alternating choices and events with a normal payoff at each end."""
    if depth == 0:
        number[0] += 1
        return kd.Normal(float(number[0] % 17), 5.0)
    inner = [tree(depth - 1, breadth, number) for _ in range(breadth)]
    number[0] += 1
    if depth % 2:
        return kd.Choice(f"choice {number[0]}", {str(i): node for i, node in enumerate(inner)})
    return kd.Event(
        f"event {number[0]}",
        {str(i): (1 / breadth if i else "rest", node) for i, node in enumerate(inner)},
    )


def measure():
    cohort = kd.Cohort(["a", "b", "c"], {"a": 20, "b": 7}, MATRIX)
    ours, theirs, ratio = paired(lambda: cohort.counts(PERIODS, TRIALS, seed=1), script, runs=5)
    rows = [
        (
            "27 things, 3 states, 10 periods, 100,000 trials / a NumPy script",
            f"{ours:.2f} s / {theirs:.2f} s",
            ratio,
            "at most 0.7",
        )
    ]
    few, many = (
        seconds(
            lambda count=count: kd.Cohort(["a", "b", "c"], {"a": count}, MATRIX).counts(
                PERIODS, 20_000, seed=1
            )
        )
        for count in (10**4, 10**8)
    )
    rows.append(
        (
            "the same with 100 million things / with 10,000",
            f"{many:.2f} s / {few:.2f} s",
            many / few,
            "at most 1.3",
        )
    )
    decision = kd.Decision("large", {str(i): tree(4, 4, [i]) for i in range(3)})
    begun = time.perf_counter()
    decision.solve(trials=10_000)
    rows.append(
        (
            "a tree of about 1,000 parts, 10,000 trials, seconds",
            "",
            time.perf_counter() - begun,
            "under 2",
        )
    )
    return rows
