"""Makes the treasury's data of Larkholm Ferries (invented): prices of six instruments, holdings, and heating oil.

Run it: python docs/demo/make_data.py. The same seed gives the same files. Returns have fat tails and a volatility
that changes; two prices are missing and one instrument is listed late, as in real files.
"""

from pathlib import Path

import numpy as np
import pandas as pd

HERE = Path(__file__).resolve().parents[2] / "src/kindynos/demo"
SEED, DAYS = 20_280_103, 1_040
INSTRUMENTS = {  # start, yearly drift, yearly volatility, how strongly it follows the market
    "harbour_bond": (101.0, 0.025, 0.04, -0.15),
    "green_loan": (99.5, 0.035, 0.06, 0.2),
    "shipyard": (42.0, 0.07, 0.28, 0.8),
    "island_hotels": (18.5, 0.06, 0.24, 0.75),
    "wind_farm": (63.0, 0.05, 0.2, 0.5),
    "grain_store": (27.0, 0.03, 0.18, 0.25),
}
LATE, LATE_FROM = "wind_farm", 130
GAPS = (("shipyard", 401), ("grain_store", 733))
SHARES = {
    "harbour_bond": 21_000,
    "green_loan": 12_000,
    "shipyard": 16_000,
    "island_hotels": 30_000,
    "wind_farm": 9_000,
    "grain_store": 14_000,
}


def calm_and_wild(rng: np.random.Generator, count: int) -> np.ndarray:
    """A multiplier of the volatility that moves slowly and jumps at times."""
    level, levels = 0.0, np.empty(count)
    for t in range(count):
        level = 0.975 * level + 0.09 * rng.standard_normal() + (0.9 if rng.random() < 0.006 else 0.0)
        levels[t] = level
    return np.asarray(np.exp(levels - levels.mean()))


def fat(rng: np.random.Generator, count: int) -> np.ndarray:
    """Student's t with 5 degrees of freedom and sd 1."""
    return np.asarray(rng.standard_t(5, count) * np.sqrt(3 / 5))


def main() -> None:
    """Write the three files beside this one."""
    rng = np.random.default_rng(SEED)
    days = pd.bdate_range("2024-01-02", periods=DAYS).strftime("%Y-%m-%d")
    wild, market = calm_and_wild(rng, DAYS), fat(rng, DAYS)
    prices = pd.DataFrame({"date": days})
    for name, (start, drift, volatility, follows) in INSTRUMENTS.items():
        shocks = follows * market + np.sqrt(1 - follows**2) * fat(rng, DAYS)
        steps = (drift - volatility**2 / 2) / 252 + volatility / np.sqrt(252) * wild * shocks
        prices[name] = (start * np.exp(np.cumsum(steps))).round(3)
    text = prices.astype(object)
    text.loc[: LATE_FROM - 1, LATE] = ""
    for name, place in GAPS:
        text.loc[place, name] = ""
    text.to_csv(HERE / "treasury_prices.csv", index=False)
    pd.DataFrame({"instrument": list(SHARES), "shares": list(SHARES.values())}).to_csv(
        HERE / "treasury_holdings.csv", index=False
    )
    gap, oil = 0.0, np.empty(DAYS)
    for t in range(DAYS):
        gap = gap * np.exp(-1.2 / 252) + 0.32 / np.sqrt(252) * wild[t] ** 0.5 * fat(rng, 1)[0]
        oil[t] = 0.82 * np.exp(gap)
    pd.DataFrame({"date": days, "heating_oil": oil.round(4)}).to_csv(HERE / "heating_oil.csv", index=False)


if __name__ == "__main__":
    main()
