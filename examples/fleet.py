"""How many ferries, at which fare? A sweep of Larkholm Ferries' (invented) own calculation, which
takes one dataclass.

Run it: python examples/fleet.py
"""

from dataclasses import dataclass

import kindynos as kd


@dataclass(frozen=True)
class Fleet:
    """What the planners' calculation needs."""

    ferries: int = 3
    fare: float = 48.0
    seats: int = 320
    crossings: int = 680  # a year and ferry
    market: float = 520_000  # passengers a year at the reference fare
    reference: float = 48.0
    elasticity: float = -1.8
    cost: float = 6.9e6  # EUR a year and ferry


def profit(fleet: Fleet) -> float:
    """Return the yearly profit in EUR: passengers are what the market wants, or what the seats
    hold.
    """
    market = fleet.market * (fleet.fare / fleet.reference) ** fleet.elasticity
    carried = min(market, 0.85 * fleet.ferries * fleet.seats * fleet.crossings)
    return carried * fleet.fare - fleet.ferries * fleet.cost


swept = kd.sweep(
    profit, base=Fleet(), ferries=[1, 2, 3, 4, 5], fare=[40, 44, 48, 52, 56, 60, 64, 68]
)

if __name__ == "__main__":
    print("yearly profit, million EUR:\n")
    print((swept.grid() / 1e6).round(2).to_string())
    best = swept.best()
    print(
        f"\nbest: {best['ferries']:.0f} ferries at {best['fare']:.0f} EUR, "
        f"{best['profit'] / 1e6:.2f} million EUR a year"
    )
