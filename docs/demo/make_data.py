"""Makes the data of Larkholm Ferries (invented): prices of six instruments, holdings, heating oil,
passengers, repair bills, the budget of a terminal, and the results of a hedging rule.

Run it: python docs/demo/make_data.py. The same seed gives the same files. Returns have fat tails
and a volatility that changes; two prices are missing and one instrument is listed late, as in real
files. Passengers have a trend, a season that grows with their number, and a month without ferries,
in a strike.
"""

from pathlib import Path

import numpy as np
import pandas as pd

import kindynos as kd

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
IN_NOVEMBER = {"shipyard": 14_000, "wind_farm": 25_000}  # before some were sold


MONTHS, STRIKE = 120, "2024-10"
SUMMER = (0.62, 0.66, 0.78, 0.95, 1.08, 1.31, 1.72, 1.68, 1.15, 0.83, 0.58, 0.64)
BILLS, RULES = 40, 1_000
FORECASTERS = {"yard": (0.1, 1.1, 26), "planning": (0.7, 2.1, 34), "finance": (0.0, 1.6, 8)}
SECTIONS = {  # of the new terminal, in thousands of EUR
    "quay": 5_200,
    "linkspan": 3_400,
    "dredging": 1_900,
    "building": 4_600,
    "access_road": 1_300,
    "car_park": 900,
    "power": 2_100,
    "water": 650,
    "signals": 480,
    "security": 390,
    "ticketing": 310,
    "landscape": 240,
}
PARTS = {  # share of the section, low and high as multiples of the likeliest, source
    "design": (0.09, 0.9, 1.3, "engineer's fee scale"),
    "groundworks": (0.26, 0.8, 1.7, "two borings"),
    "materials": (0.31, 0.9, 1.35, "supplier quotes"),
    "equipment": (0.14, 0.92, 1.25, "supplier quotes"),
    "labour": (0.20, 0.88, 1.4, "three tenders"),
}
RISKS = {  # chance, distribution of the impact, low, mode, high
    "old_wall_under_quay": (0.3, "pert", 300_000, 900_000, 2_600_000),
    "storm_in_works": (0.25, "pert", 100_000, 350_000, 1_200_000),
    "permit_late": (0.35, "triangular", 120_000, 300_000, 700_000),
    "steel_dearer": (0.4, "pert", 80_000, 260_000, 600_000),
    "contractor_fails": (0.05, "pert", 800_000, 1_900_000, 4_500_000),
    "polluted_silt": (0.2, "pert", 200_000, 600_000, 1_800_000),
    "grid_connection": (0.15, "triangular", 150_000, 400_000, 900_000),
    "strike": (0.1, "uniform", 60_000, "", 240_000),
    "second_berth_needed": (0.08, "pert", 900_000, 1_400_000, 2_200_000),
    "bird_nesting": (0.12, "triangular", 30_000, 80_000, 200_000),
    "design_error": (0.18, "pert", 50_000, 200_000, 900_000),
    "cable_theft": (0.06, "uniform", 20_000, "", 90_000),
}


def calm_and_wild(rng: np.random.Generator, count: int) -> np.ndarray:
    """A multiplier of the volatility that moves slowly and jumps at times."""
    level, levels = 0.0, np.empty(count)
    for t in range(count):
        level = (
            0.975 * level + 0.09 * rng.standard_normal() + (0.9 if rng.random() < 0.006 else 0.0)
        )
        levels[t] = level
    return np.asarray(np.exp(levels - levels.mean()))


def fat(rng: np.random.Generator, count: int) -> np.ndarray:
    """Student's t with 5 degrees of freedom and sd 1."""
    return np.asarray(rng.standard_t(5, count) * np.sqrt(3 / 5))


def main() -> None:
    """Write the files beside the models."""
    prices_and_oil()
    passengers()
    repair_bills()
    fuel_hedging()
    terminal()
    past_estimates()
    median_month()
    berth_loans()
    claims()


def past_estimates() -> None:
    """What works were said to cost, as low, likely and high, and what they cost: by three
    forecasters, of whom one is too sure and too hopeful.
    """
    rng = np.random.default_rng(SEED + 12)
    rows = []
    for forecaster, (bias, widening, count) in FORECASTERS.items():
        for _ in range(count):
            kind = str(rng.choice(["refit", "building", "software"]))
            likely = float(np.exp(rng.normal(np.log(240), 0.7)))
            low, high = likely * rng.uniform(0.8, 0.93), likely * rng.uniform(1.1, 1.4)
            score = bias + widening * rng.standard_normal()
            reach = (high - likely if score > 0 else likely - low) / 1.2816
            cost = max(likely + score * reach, 0.3 * low)
            figures = [round(value, 1) for value in (low, likely, high, cost)]
            rows.append((forecaster, kind, *figures))
    columns = ["forecaster", "kind", "low", "likely", "high", "actual"]
    table = pd.DataFrame(rows, columns=columns)
    table.to_csv(HERE / "past_estimates.csv", index=False)


def terminal() -> None:
    """The budget of a new terminal: 60 items with low, likeliest and high, and twelve risks."""
    rng = np.random.default_rng(SEED + 9)
    rows = []
    for section, cost in SECTIONS.items():
        for part, (share, low, high, source) in PARTS.items():
            mode = 1000 * round(cost * share * float(np.exp(0.25 * rng.standard_normal())))
            ends = [1000 * round(mode / 1000 * end) for end in (low, high)]
            rows.append((f"{section}_{part}", "pert", ends[0], mode, ends[1], mode, "EUR", source))
    columns = ["name", "distribution", "low", "mode", "high", "base", "unit", "source"]
    items = pd.DataFrame(rows, columns=columns)
    items.to_csv(HERE / "terminal_items.csv", index=False)
    risks = [(name, *figures, 0, "EUR", "risk workshop") for name, figures in RISKS.items()]
    columns = ["name", "chance", "distribution", "low", "mode", "high", "base", "unit", "source"]
    pd.DataFrame(risks, columns=columns).to_csv(HERE / "terminal_risks.csv", index=False)


def median_month() -> None:
    """A model of the median month of next year, with the process's parameters as fitted and
    uncertain.
    """
    history = kd.read_series(HERE / "passengers.csv")
    process = kd.Arima.fit(
        history, order=(1, 0, 1), seasonal=(1, 1, 1, 12), log=True, constant=True
    )
    model = kd.Model("Passengers next year", periods=12, start="2028-01", every="month")
    for name, uncertain in (("as_fitted", False), ("uncertain", True)):
        model.driver(
            name, process, uncertain=uncertain, unit="passengers", source="ten years of months"
        )
        model.outcome(f"median_{name}", f"median({name})", unit="passengers", target=36_000)
    (HERE / "median_month.toml").write_text(model.to_toml(), encoding="utf-8")


def passengers() -> None:
    """Monthly passengers, ten years, with a strike month that is missing."""
    rng = np.random.default_rng(SEED + 1)
    months = pd.period_range("2018-01", periods=MONTHS, freq="M")
    level, logs = np.log(31_000.0), np.empty(MONTHS)
    for t in range(MONTHS):
        level += 0.0035 + 0.018 * rng.standard_normal()
        logs[t] = level + np.log(SUMMER[t % 12]) + 0.028 * rng.standard_normal()
    counts = np.exp(logs).round().astype(int).astype(object)
    counts[list(months.astype(str)).index(STRIKE)] = ""
    pd.DataFrame({"month": months.astype(str), "passengers": counts}).to_csv(
        HERE / "passengers.csv", index=False
    )


def repair_bills() -> None:
    """Yard repair bills in EUR: few, and skewed to the right."""
    rng = np.random.default_rng(SEED + 5)
    bills = 9_400 * np.exp(0.75 * rng.standard_normal(BILLS))
    days = np.sort(rng.choice(3_650, BILLS, replace=False))
    dates = (np.datetime64("2018-01-01") + days).astype(str)
    pd.DataFrame({"date": dates, "bill": bills.round(0).astype(int)}).to_csv(
        HERE / "repair_bills.csv", index=False
    )


def fuel_hedging() -> None:
    """A trial a row of a fuel-hedging rule that was simulated elsewhere: yearly growth of its fund,
    and the maximum drawdown.
    """
    rng = np.random.default_rng(SEED + 3)
    months = 0.0045 + 0.027 * rng.standard_t(5, (120, RULES)) * np.sqrt(3 / 5)
    fund = np.exp(np.cumsum(np.concatenate([np.zeros((1, RULES)), months]), axis=0))
    growth = fund[-1] ** (12 / 120) - 1
    fall = (fund / np.maximum.accumulate(fund, axis=0) - 1).min(axis=0)
    cost = 1.6e6 * np.exp(-0.9 * growth) + 5e4 * rng.standard_normal(RULES)
    table = pd.DataFrame({"growth": growth, "max_drawdown": fall})
    shown = pd.DataFrame(
        {name: [f"{100 * value:.2f}%" for value in column] for name, column in table.items()}
    )
    shown["fuel_cost"] = [f"{value:,.0f}" for value in cost]
    shown.to_csv(HERE / "fuel_hedging.csv", index=False)


def claims() -> None:
    """Twelve years of claims on vessels: how many a year beside the vessels insured, and the amount
    of each with an index of prices.
    """
    rng = np.random.default_rng(SEED + 7)
    years = np.arange(2016, 2028)
    vessels = np.linspace(33, 41, len(years)).round().astype(int)
    counts = rng.poisson(rng.gamma(5, 0.16 * vessels / 5))
    prices = np.cumprod(1 + rng.normal(0.03, 0.012, len(years)))
    prices /= prices[0]
    by_year = pd.DataFrame({"year": years, "vessels": vessels, "claims": counts})
    by_year.to_csv(HERE / "claims_by_year.csv", index=False)
    level = np.repeat(prices, counts)
    amounts = 280_000 * level * np.exp(0.85 * rng.standard_normal(len(level)))
    sizes = {"year": np.repeat(years, counts), "amount": amounts.round(-2).astype(int)}
    frame = pd.DataFrame({**sizes, "price_index": level.round(4)})
    frame.to_csv(HERE / "claim_sizes.csv", index=False)


def berth_loans() -> None:
    """Loans to the owners of boats in the harbour: amount, chance of default within the year, share
    that is recovered, and group.
    """
    rng = np.random.default_rng(SEED + 9)
    rows = []
    for group, count, typical, chances, recovery in (
        ("day boats", 60, 9_000, (0.01, 0.02, 0.04), 0.55),
        ("charter boats", 40, 60_000, (0.02, 0.03, 0.06), 0.4),
        ("workshops", 20, 140_000, (0.01, 0.015, 0.03), 0.3),
    ):
        for _ in range(count):
            amount = round(typical * float(np.exp(0.5 * rng.standard_normal())), -2)
            chance = f"{100 * float(rng.choice(chances)):g}%"
            rows.append((int(amount), chance, f"{100 * recovery:g}%", group))
    columns = ["amount", "chance", "recovery", "group"]
    pd.DataFrame(rows, columns=columns).to_csv(HERE / "berth_loans.csv", index=False)


def prices_and_oil() -> None:
    """Prices of the treasury's instruments, its holdings, and heating oil."""
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
    for name, held in (("", SHARES), ("_november", {**SHARES, **IN_NOVEMBER})):
        pd.DataFrame({"instrument": list(held), "shares": list(held.values())}).to_csv(
            HERE / f"treasury_holdings{name}.csv", index=False
        )
    gap, oil = 0.0, np.empty(DAYS)
    for t in range(DAYS):
        gap = gap * np.exp(-1.2 / 252) + 0.32 / np.sqrt(252) * wild[t] ** 0.5 * fat(rng, 1)[0]
        oil[t] = 0.82 * np.exp(gap)
    pd.DataFrame({"date": days, "heating_oil": oil.round(4)}).to_csv(
        HERE / "heating_oil.csv", index=False
    )
    # the ten-year rate, which was below 0 for a while, in shares (0.01 is 1 %)
    moves = 0.00045 * wild * fat(np.random.default_rng(SEED + 1), DAYS)
    path = 0.004 + 0.006 * np.sin(np.arange(DAYS) / 170) + np.cumsum(moves - moves.mean()) / 2
    pd.DataFrame({"date": days, "ten_year_rate": path.round(6)}).to_csv(
        HERE / "treasury_rate.csv", index=False
    )


if __name__ == "__main__":
    main()
