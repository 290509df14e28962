"""A put on the shipyard's shares and a loan at a fixed rate: positions that a function values.

Run it: python examples/treasury_option.py
"""

import numpy as np
import pandas as pd
from scipy.special import ndtr

import kindynos as kd

SHARES, STRIKE, VOLATILITY, DAYS_LEFT = 16_000, 50.0, 0.35, 120
LOAN, YEARS = 3e6, 8.0


def put(price, days):
    """Return what a European put is worth at no rate of interest (Black and Scholes 1973)."""
    reach = VOLATILITY * np.sqrt((DAYS_LEFT - days) / 252)
    first = np.log(price / STRIKE) / reach + reach / 2
    return STRIKE * ndtr(reach - first) - price * ndtr(-first)


def worth(prices, days, hedged=True):
    """Return what the shares, the puts on them and the loan are worth after days."""
    shares = SHARES * prices["shipyard"]
    loan = LOAN * np.exp(-YEARS * prices["ten_year_rate"])
    return shares + loan + (SHARES * put(prices["shipyard"], days) if hedged else 0.0)


def bare(prices, days):
    """Return the same without the puts."""
    return worth(prices, days, hedged=False)


if __name__ == "__main__":
    frames = [
        pd.read_csv(kd.demo_file(name), parse_dates=["date"], index_col="date")
        for name in ("treasury_prices.csv", "treasury_rate.csv")
    ]
    table = pd.concat([frames[0][["shipyard"]], frames[1]], axis=1)
    prices = kd.read_prices(table, changes={"ten_year_rate": "absolute"})
    print(prices)
    for label, revalue in (("without the puts", bare), ("with them", worth)):
        held = kd.Portfolio(prices, revalue=revalue)
        figure = held.value_at_risk(0.99, horizon=10)
        crash = held.stress({"shipyard": -0.3, "ten_year_rate": 0.01}).attrs["profit"]
        print(
            f"{label}: worth {held.value:,.0f} EUR; over ten days it loses more than "
            f"{float(figure):,.0f} once in 100; if the shares fall by 30 % and the rate rises by "
            f"1 point, {crash:+,.0f}"
        )
    print(figure.description)
