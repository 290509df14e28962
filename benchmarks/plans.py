"""The error of a mean under each plan beside the random plan's."""

import sys
from pathlib import Path

import numpy as np

import kindynos as kd
from benchmarks.timing import repeats

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "examples"))
from night_ferry import model as night_ferry

SEEDS = repeats(40)


def _additive() -> kd.Model:
    model = kd.Model("additive")
    model.driver("a", kd.Normal(10, 2))
    model.driver("b", kd.Triangular(0, 1, 5))
    model.driver("c", kd.Pert(2, 3, 9))
    model.outcome("y", "a + 2 * b + c")
    return model


def _exponentials(sd: float) -> kd.Model:
    model = kd.Model("exponentials of normals")
    for i in range(10):
        model.driver(f"x{i}", kd.Normal(0, sd))
    model.outcome("y", " + ".join(f"exp(x{i})" for i in range(10)))
    return model


CASES = (
    ("Latin", "additive model", _additive(), "y", 10_000, "at most 0.1"),
    (
        "Sobol'",
        "ten exponentials of normals, sd 0.25",
        _exponentials(0.25),
        "y",
        16_384,
        "at most 0.067",
    ),
    (
        "Sobol'",
        "ten exponentials of normals, sd 0.5",
        _exponentials(0.5),
        "y",
        16_384,
        "at most 0.067",
    ),
    (
        "Sobol'",
        "ten exponentials of normals, sd 1",
        _exponentials(1.0),
        "y",
        16_384,
        "at most 0.067",
    ),
    ("Sobol'", "night ferry", night_ferry, "net_value", 16_384, "at most 0.2"),
)


def measure() -> list[tuple[str, str, float, str]]:
    rows = []
    for plan, what, model, outcome, trials, wanted in CASES:
        spread = {
            label: np.std(
                [
                    float(model.simulate(trials, seed=seed, sampling=label)[outcome].mean)
                    for seed in range(SEEDS)
                ]
            )
            for label in (plan.lower().strip("'"), "random")
        }
        ours, theirs = spread.values()
        text = f"sd over {SEEDS} seeds {ours:.2g} / {theirs:.2g}"
        rows.append(
            (
                f"{plan} / random: error of the mean, {what}, {trials:,} trials",
                text,
                ours / theirs,
                wanted,
            )
        )
    return rows
