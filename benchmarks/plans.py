"""The Latin plan's error of the mean of an additive model beside the random plan's."""

import numpy as np

import kindynos as kd

TRIALS, SEEDS = 10_000, 40


def measure() -> list[tuple[str, str, float, str]]:
    model = kd.Model("additive")
    model.driver("a", kd.Normal(10, 2))
    model.driver("b", kd.Triangular(0, 1, 5))
    model.driver("c", kd.Pert(2, 3, 9))
    model.outcome("y", "a + 2 * b + c")
    spread = {
        plan: np.std([float(model.simulate(TRIALS, seed=seed, sampling=plan)["y"].mean) for seed in range(SEEDS)])
        for plan in ("latin", "random")
    }
    text = f"sd over {SEEDS} seeds {spread['latin']:.2g} / {spread['random']:.2g}"
    return [
        ("Latin / random: error of an additive mean, 10,000 trials", text, spread["latin"] / spread["random"], "at most 0.1")
    ]
