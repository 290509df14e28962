"""The night ferry with 100,000 trials against a whole-array NumPy script of the same model,
statistics included.
"""

import sys
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "examples"))
from benchmarks.timing import paired
from night_ferry import model

TRIALS = 100_000
PERCENTILES = [1, 5, 10, 25, 50, 75, 90, 95, 99]


def kindynos_run() -> None:
    run = model.simulate(TRIALS, seed=11, sampling="random")
    run.table()


def internal_rate(flows: np.ndarray) -> np.ndarray:
    """Whole-array Newton in 1 / (1 + rate), as such a script has it: no check for a second root."""
    x = np.full(flows.shape[1], 1 / 1.1)
    for _ in range(8):
        value, slope = np.zeros_like(x), np.zeros_like(x)
        for row in flows[::-1]:
            slope = slope * x + value
            value = value * x + row
        x = x - value / slope
    return 1 / x - 1


def numpy_script() -> None:
    rng = np.random.default_rng(11)
    n, periods = TRIALS, 15
    a, b = 1 + 4 * 1.5 / 8.5, 1 + 4 * 7 / 8.5
    vessel = 17.5e6 + 8.5e6 * rng.beta(a, b, n)
    load = rng.beta(30, 19, n)
    fare_growth = rng.normal(0.02, 0.006, n)
    sigma = np.sqrt(np.log1p((0.035 / 0.15) ** 2))
    energy = rng.lognormal(np.log(0.15) - sigma**2 / 2, sigma, (periods, n))
    spend = rng.triangular(4, 7, 12, n)
    resale_share = rng.triangular(0.05, 0.15, 0.30, n)
    years = np.arange(periods)[:, None]
    passengers = 320 * 680 * load
    ticket_sales = passengers * 54.0 * (1 + fare_growth) ** years
    crew_cost = 3.05e6 * 1.025**years
    operating = ticket_sales + passengers * spend - 680 * 11_500 * energy - crew_cost - 0.95e6
    tax_paid = np.maximum(operating - vessel / 15, 0) * 0.21
    cash_flow = operating - tax_paid
    cash_flow[-1] += vessel * resale_share
    net_value = (cash_flow / 1.08 ** (years + 1)).sum(axis=0) - vessel
    rate_of_return = internal_rate(np.concatenate([-vessel[None], cash_flow]))
    for outcome, target in ((net_value, 0), (rate_of_return, 0.08)):
        (
            outcome.mean(),
            outcome.std(ddof=1),
            np.percentile(outcome, PERCENTILES),
            outcome.min(),
            outcome.max(),
        )
        (outcome < target).mean(), (outcome > target).mean()


def measure() -> list[tuple[str, str, float, str]]:
    ours, baseline, ratio = paired(kindynos_run, numpy_script)
    return [
        (
            "(a) night ferry, 100,000 trials / whole-array NumPy",
            f"{ours:.3f} s / {baseline:.3f} s",
            ratio,
            "at most 0.9",
        )
    ]
