"""How often the 95 % errors cover the truth: five models, every plan, seven statistics, over many
seeds.

``python -m benchmarks coverage`` measures 2,000 and 10,000 trials; ``KINDYNOS_TRIALS=100000`` adds
to them (an hour's work).
"""

import os
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import integrate, stats

import kindynos as kd
from benchmarks.timing import repeats

SEEDS = repeats(400)
PLANS = ("random", "latin", "antithetic", "sobol")


@dataclass(frozen=True)
class Known:
    """A model whose outcome ``y`` has a distribution that SciPy knows."""

    name: str
    build: Callable[[], kd.Model]
    distribution: object

    @cached_property
    def statistics(self) -> dict[str, tuple[float, Callable[[kd.Result], kd.Estimate]]]:
        """For each statistic the truth, and how it is estimated."""
        distribution = self.distribution
        q = distribution.ppf
        shortfall = -integrate.quad(q, 0, 0.01, limit=200)[0] / 0.01
        return {
            "mean": (float(distribution.mean()), lambda y: y.mean),
            "chance of 0.3": (0.3, lambda y: y.chance(below=q(0.3))),
            "chance of 0.002": (0.002, lambda y: y.chance(below=q(0.002))),
            "percentile 5": (q(0.05), lambda y: y.percentile(5)),
            "percentile 95": (q(0.95), lambda y: y.percentile(95)),
            "value at risk 0.99": (-q(0.01), lambda y: y.value_at_risk(0.99)),
            "expected shortfall 0.99": (shortfall, lambda y: y.expected_shortfall(0.99)),
        }


def sum_of_normals() -> kd.Model:
    model = kd.Model("sum of normals")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2")
    return model


def product_of_lognormals() -> kd.Model:
    model = kd.Model("product of lognormals")
    for i, sigma in enumerate((0.2, 0.3, 0.1)):
        model.driver(f"x{i}", kd.LogNormal.from_log(0.5, sigma))
    model.outcome("y", "x0 * x1 / x2")
    return model


def least_of_uniforms() -> kd.Model:
    model = kd.Model("least of uniforms")
    for i in range(4):
        model.driver(f"x{i}", kd.Uniform(0, 1))
    model.outcome("y", "min(x0, x1, x2, x3)")
    return model


def sum_of_exponentials() -> kd.Model:
    model = kd.Model("sum of exponentials")
    for i in range(10):
        model.driver(f"x{i}", kd.Exponential(1))
    model.outcome("y", " + ".join(f"x{i}" for i in range(10)))
    return model


def correlated_pair() -> kd.Model:
    model = kd.Model("correlated pair")
    for i in range(2):
        model.driver(f"x{i}", kd.Normal(0, 1))
    model.correlate("x0", "x1", 6 / np.pi * np.arcsin(0.3))
    model.outcome("y", "x0 - x1")
    return model


MODELS = (
    Known("sum of normals", sum_of_normals, stats.norm(30, np.sqrt(14))),
    Known(
        "product of lognormals",
        product_of_lognormals,
        stats.lognorm(np.sqrt(0.14), scale=np.exp(0.5)),
    ),
    Known("least of uniforms", least_of_uniforms, stats.beta(1, 4)),
    Known("sum of exponentials", sum_of_exponentials, stats.gamma(10)),
    Known("correlated pair", correlated_pair, stats.norm(0, np.sqrt(0.8))),
)


def covered(known: Known, sampling: str, seeds: int, trials: int) -> dict[str, float]:
    """Return the share of seeds whose interval holds the truth, for each statistic."""
    model, hits = known.build(), dict.fromkeys(known.statistics, 0)
    for seed in range(seeds):
        y = model.simulate(trials, seed=seed, sampling=sampling, workers=1)["y"]
        for name, (truth, estimate) in known.statistics.items():
            found = estimate(y)
            # Met exactly, as antithetic means of symmetric distributions are, the error may be 0
            # but for rounding.
            exact = abs(found - truth) <= 1e-9 * (1 + abs(truth))
            hits[name] += exact or found.low <= truth <= found.high
    return {name: count / seeds for name, count in hits.items()}


def _job(case: tuple[int, str, int]) -> list[tuple[str, str, float, str]]:
    place, sampling, trials = case
    known = MODELS[place]
    return [
        (
            f"coverage: {known.name}, {sampling}, {statistic}",
            f"{SEEDS} seeds, {trials:,} trials",
            share,
            "0.92 to 0.98",
        )
        for statistic, share in covered(known, sampling, SEEDS, trials).items()
    ]


def measure() -> list[tuple[str, str, float, str]]:
    sizes = [2_000, 10_000]
    if "KINDYNOS_TRIALS" in os.environ:
        sizes = [int(os.environ["KINDYNOS_TRIALS"])]
    cases = [
        (place, sampling, trials)
        for trials in sizes
        for place in range(len(MODELS))
        for sampling in PLANS
    ]
    with ProcessPoolExecutor() as pool:
        return [row for rows in pool.map(_job, cases) for row in rows]
