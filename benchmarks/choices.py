"""Choices inside a model, against a normal integral and a lattice: the mean under the policy over
the best there is, which it can only fall short of, and how often its interval holds that.
"""

import math
import os
from collections.abc import Iterator

import numpy as np
from scipy import stats

import kindynos as kd

SEEDS = 2 if "KINDYNOS_SHORT_BENCH" in os.environ else 60
TRIALS = 4_000
DATES = 10


def berth() -> kd.Model:
    """Build in year 1, or in year 2 if it was left: a fee less 50 is earned from then on."""
    model = kd.Model("Berth", periods=6)
    model.given(first=0, second=0)
    model.driver("change", kd.Normal(0, 6), each="period")
    model.driver("noise", kd.Normal(0, 25), each="period")
    model.line("fee", "previous(fee, 52) + change")
    model.line("built", "first * (period > 1) + second * (period > 2)")
    model.outcome("value", "total(built * (fee - 50 + noise)) - 30 * (first + second)")
    model.choice("start", 1, ["fee"], {"wait": {}, "build": {"first": 1}})
    model.choice("later", 2, ["fee"], {"leave": {}, "build": {"second": 1}}, {"start": "wait"})
    return model


def berth_truth() -> float:
    p = 52 + 6 * stats.norm.ppf((np.arange(20_000) + 0.5) / 20_000)
    grid = np.linspace(-20, 125, 40_001)
    nodes, weights = np.polynomial.hermite_e.hermegauss(101)
    later = np.maximum(0, 4 * (grid - 50) - 30)
    pairs = zip(nodes, weights, strict=True)
    wait = sum(w * np.interp(p + 6 * z, grid, later) for z, w in pairs) / weights.sum()
    return float(np.maximum(wait, 5 * (p - 50) - 30).mean())


def put() -> kd.Model:
    """An option to sell at 40 what costs 36 now, once, on ten dates of a year."""
    model = kd.Model("Put", periods=DATES)
    model.given(sold=0)
    process = kd.GeometricBrownianMotion(36.0, 0.06 / DATES, 0.2 / math.sqrt(DATES))
    model.driver("price", process)
    paid = f"max(40 - price, 0) * exp(-{0.06 / DATES} * period)"
    model.outcome("value", f"total((period == sold) * {paid})")
    before = None
    for date in range(1, DATES + 1):
        options = {"hold": {}, "sell": {"sold": date}}
        model.choice(f"date{date}", date, ["price"], options, after=before)
        before = {f"date{date}": "hold"}
    return model


def put_truth(steps: int = 5_000) -> float:
    up, rate = math.exp(0.2 / math.sqrt(steps)), math.exp(0.06 / steps)

    def price(step: int) -> np.ndarray:
        return 36 * up ** (2.0 * np.arange(step + 1) - step)

    q, value = (rate - 1 / up) / (up - 1 / up), np.maximum(40 - price(steps), 0)
    for step in range(steps - 1, -1, -1):
        value = (q * value[1:] + (1 - q) * value[:-1]) / rate
        if step and step % (steps // DATES) == 0:
            value = np.maximum(value, 40 - price(step))
    return float(value[0])


def measure() -> Iterator[tuple[str, str, float, str]]:
    for model, exact in ((berth(), berth_truth()), (put(), put_truth())):
        found = [model.policy("value", trials=TRIALS, seed=seed).value for seed in range(SEEDS)]
        mean = float(np.mean([float(value) for value in found]))
        held = float(np.mean([value.low <= exact <= value.high for value in found]))
        words = f"{SEEDS} seeds of {TRIALS:,} trials: {mean:.4g} for {exact:.4g}"
        yield (
            f"{model.name}: mean under the policy / the best",
            words,
            mean / exact,
            "at least 0.98",
        )
        yield f"{model.name}: the best held by its interval", words, held, "at least 0.92"
