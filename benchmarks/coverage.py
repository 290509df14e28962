"""How often the 95 % errors cover the truth: three models, both plans, five statistics, over many seeds."""

from collections.abc import Callable

import numpy as np
from scipy import stats

import kindynos as kd

SEEDS, TRIALS = 400, 2_000


def sum_of_normals() -> tuple[kd.Model, Callable[[str, float], float]]:
    model = kd.Model("sum of normals")
    for i in range(3):
        model.driver(f"x{i}", kd.Normal(10, 1 + i))
    model.outcome("y", "x0 + x1 + x2")
    return model, _truth(stats.norm(30, np.sqrt(14)))


def product_of_lognormals() -> tuple[kd.Model, Callable[[str, float], float]]:
    model = kd.Model("product of lognormals")
    for i, sigma in enumerate((0.2, 0.3, 0.1)):
        model.driver(f"x{i}", kd.LogNormal.from_log(0.5, sigma))
    model.outcome("y", "x0 * x1 / x2")
    return model, _truth(stats.lognorm(np.sqrt(0.14), scale=np.exp(0.5)))


def least_of_uniforms() -> tuple[kd.Model, Callable[[str, float], float]]:
    model = kd.Model("least of uniforms")
    for i in range(4):
        model.driver(f"x{i}", kd.Uniform(0, 1))
    model.outcome("y", "min(x0, x1, x2, x3)")
    return model, _truth(stats.beta(1, 4))


MODELS = (sum_of_normals, product_of_lognormals, least_of_uniforms)


def _truth(law) -> Callable[[str, float], float]:
    """Return the true statistics of an outcome whose law is known in closed form."""

    def truth(statistic: str, argument: float) -> float:
        if statistic == "mean":
            return float(law.mean())
        if statistic == "chance":
            return float(law.cdf(law.ppf(argument)))
        if statistic == "percentile":
            return float(law.ppf(argument / 100))
        if statistic == "value_at_risk":
            return float(-law.ppf(1 - argument))
        tail = 1 - argument
        return float(-law.expect(ub=law.ppf(tail)) / tail)

    truth.law = law
    return truth


STATISTICS = (("mean", 0.0), ("chance", 0.3), ("percentile", 5), ("value_at_risk", 0.99), ("expected_shortfall", 0.99))


def covered(build, sampling: str, seeds: int = SEEDS, trials: int = TRIALS) -> dict[str, float]:
    """Return the share of seeds whose interval holds the truth, for each statistic."""
    model, truth = build()
    hits = {f"{name} {argument:g}": 0 for name, argument in STATISTICS}
    for seed in range(seeds):
        result = model.simulate(trials, seed=seed, sampling=sampling, workers=1)["y"]
        for name, argument in STATISTICS:
            if name == "mean":
                estimate = result.mean
            elif name == "chance":
                estimate = result.chance(below=truth.law.ppf(argument))
            else:
                estimate = getattr(result, name)(argument)
            hits[f"{name} {argument:g}"] += estimate.low <= truth(name, argument) <= estimate.high
    return {name: count / seeds for name, count in hits.items()}


def measure() -> list[tuple[str, str, float, str]]:
    rows = []
    for build in MODELS:
        for sampling in ("random", "latin"):
            for statistic, share in covered(build, sampling).items():
                place = f"(e) coverage: {build.__name__.replace('_', ' ')}, {sampling}, {statistic}"
                rows.append((place, f"{SEEDS} seeds, {TRIALS:,} trials", share, "0.92 to 0.98"))
    return rows
