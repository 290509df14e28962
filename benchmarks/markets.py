"""A risk table of 8 methods, 3 levels and 3 windows, and a rolling backtest against pandas'
rolling.apply.
"""

import numpy as np
import pandas as pd

import kindynos as kd
from benchmarks.timing import paired, seconds

DAYS = 1_001


def portfolio() -> kd.Portfolio:
    rng = np.random.default_rng(5)
    steps = 0.01 * rng.standard_t(5, (DAYS, 6)) + 0.005 * rng.standard_t(5, (DAYS, 1))
    frame = pd.DataFrame(50 * np.exp(np.cumsum(steps, axis=0)), columns=[f"i{n}" for n in range(6)])
    frame.insert(0, "date", pd.bdate_range("2024-01-01", periods=DAYS).strftime("%Y-%m-%d"))
    return kd.Portfolio(kd.read_prices(frame), shares={f"i{n}": 100.0 for n in range(6)})


def measure() -> list[tuple[str, str, float, str]]:
    held = portfolio()
    held.risk_table(windows=(60,))  # imports and tables that are made once
    table = seconds(lambda: held.risk_table(windows=(250, 500, None)))
    losses = pd.Series(held.exposure().losses)
    ours, baseline, ratio = paired(
        lambda: held.backtest("historical", 250, 0.99),
        lambda: losses.rolling(250).apply(lambda window: np.quantile(window, 0.99), raw=True),
        runs=3,
    )
    return [
        (
            "risk table, 8 methods x 3 levels x 3 windows, 6 x 1,000 days: seconds",
            "",
            table,
            "at most 3",
        ),
        (
            "backtest, 250-day windows: times faster than rolling.apply",
            f"{ours:.4f} s / {baseline:.2f} s",
            1 / ratio,
            "at least 20",
        ),
    ]
