"""Puts on the shipyard's shares and a loan whose rate moves: positions valued one by one.

Run it: python examples/treasury_option.py
"""

import pandas as pd

import kindynos as kd

SHARES = kd.Position("share", 16_000, underlying="shipyard")
PUTS = kd.Position(
    "put", 16_000, underlying="shipyard", strike=50, expiry="2028-06-16", volatility=0.35
)
LOAN = kd.Position(
    "bond",
    -3e6,
    coupon=0.01,
    times=1,
    maturity="2035-12-31",
    **{"yield": "ten_year_rate"},  # the column, by whose differences the loan moves
)


def cargo(prices):
    """Return what a contract is worth that pays for the shipyard's price above 60, at once."""
    return 2_000 * (prices["shipyard"] - 60).clip(min=0)


if __name__ == "__main__":
    frames = [
        pd.read_csv(kd.demo_file(name), parse_dates=["date"], index_col="date")
        for name in ("treasury_prices.csv", "treasury_rate.csv")
    ]
    table = pd.concat([frames[0][["shipyard"]], frames[1]], axis=1)
    prices = kd.read_prices(table, changes={"ten_year_rate": "absolute"})
    print(prices)
    bare = {"shares": SHARES, "loan": LOAN, "cargo": cargo}
    for label, positions in (("without the puts", bare), ("with them", {**bare, "puts": PUTS})):
        held = kd.Portfolio(prices, positions=positions)
        figure = held.value_at_risk(0.99, horizon=10)
        crash = held.stress({"shipyard": -0.3, "ten_year_rate": 0.01}).attrs["profit"]
        print(
            f"{label}: worth {held.value:,.0f} EUR; over ten days it loses more than "
            f"{float(figure):,.0f} once in 100; if the shares fall by 30 % and the rate rises by "
            f"1 point, {crash:+,.0f}"
        )
    print(figure.description)
    print(held.sensitivities()[["at", "per", "money"]].round(3))
    print(held.contributions(0.99, horizon=10)[["value", "component", "share"]].round(3))
