"""A sweep of 20 x 20 base cases of the night ferry against 400 separate calls."""

import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "examples"))
from benchmarks.timing import paired
from night_ferry import model

HURDLES, FARES = np.linspace(0.05, 0.11, 20), np.linspace(45, 65, 20)


def measure() -> list[tuple[str, str, float, str]]:
    def one_by_one() -> None:
        for hurdle in HURDLES:
            for fare in FARES:
                model.replace(hurdle=hurdle, fare=fare).base_case()

    ours, baseline, ratio = paired(
        lambda: model.sweep(hurdle=HURDLES, fare=FARES), one_by_one, runs=3
    )
    return [
        (
            "sweep of 20 x 20 base cases / 400 calls of base_case",
            f"{ours:.3f} s / {baseline:.2f} s",
            ratio,
            "at most 0.3",
        )
    ]
