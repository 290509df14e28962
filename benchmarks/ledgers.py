"""A ledger of 40 quarters with two random rows, 100,000 trials, against a whole-array NumPy script,
statistics included.
"""

import numpy as np

import kindynos as kd
from benchmarks.timing import paired

TRIALS, QUARTERS = 100_000, 40
PERCENTILES = [1, 5, 10, 25, 50, 75, 90, 95, 99]


def model() -> kd.Model:
    made = kd.Model("reserve", periods=QUARTERS, start="2028-Q1", every="quarter")
    made.given(opening=4e5, deposit=6e4)
    made.driver("earned", kd.Normal(0.008, 0.02), each="period")
    made.driver("price", kd.LogNormal(1.0, 0.12), each="period")
    made.line("flow", "deposit - (1.1e6 * price if period % 16 == 0 else 0)")
    made.outcome("reserve", "last(roll_forward(opening, earned, flow))", target=0)
    return made


def numpy_script() -> None:
    rng = np.random.default_rng(11)
    shape = (QUARTERS, TRIALS)
    earned = rng.normal(0.008, 0.02, shape)
    sigma = np.sqrt(np.log1p(0.12**2))
    price = rng.lognormal(-(sigma**2) / 2, sigma, shape)
    quarter = np.arange(1, QUARTERS + 1)[:, None]
    flow = 6e4 - np.where(quarter % 16 == 0, 1.1e6 * price, 0)
    balance = np.empty(shape)
    before = np.full(TRIALS, 4e5)
    for t in range(QUARTERS):
        before = before * (1 + earned[t]) + flow[t]
        balance[t] = before
    last = balance[-1]
    last.mean(), last.std(ddof=1), np.percentile(last, PERCENTILES), last.min(), last.max()
    (last < 0).mean(), (last > 0).mean(), np.count_nonzero((balance < 0).any(axis=0))


def measure() -> list[tuple[str, str, float, str]]:
    rows = []
    made = model()
    for plan, wanted in (("random", "at most 0.75"), ("latin", "at most 1.1")):
        ours, baseline, ratio = paired(
            lambda p=plan: made.simulate(TRIALS, seed=11, sampling=p).table(), numpy_script
        )
        label = f"ledger of 40 quarters, 100,000 trials, plan {plan} / whole-array NumPy"
        rows.append((label, f"{ours:.3f} s / {baseline:.3f} s", ratio, wanted))
    return rows
