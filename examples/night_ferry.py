"""Should Larkholm Ferries (invented) buy an electric night ferry? The model of night_ferry.toml, in
Python.

Run it: python examples/night_ferry.py
"""

import numpy as np

import kindynos as kd

model = kd.Model("Night ferry", periods=15, start="2028")

model.given("fare", 54.0, unit="EUR", source="price list 2027")
model.given("seats", 320, unit="seats", source="yard specification")
model.given("crossings", 680, unit="a year", source="timetable")
model.given("crew", 3.05e6, unit="EUR a year", source="collective agreement")
model.given("port_fees", 0.95e6, unit="EUR a year", source="tariffs of both ports")
model.given("kwh", 11_500, unit="kWh a crossing", source="yard specification")
model.given("wage_growth", 0.025, unit="% a year", source="collective agreement")
model.given("hurdle", 0.08, unit="% a year", source="board decision")
model.given("tax", 0.21, source="tax law")

model.driver(
    "vessel", kd.Pert(low=17.5e6, mode=19e6, high=26e6), unit="EUR", source="three yard quotes"
)
model.driver("load", kd.Beta(30, 19), unit="share of seats", source="day ferry, ten years")
model.driver("fare_growth", kd.Normal(0.02, 0.006), unit="% a year", source="fares since 2012")
model.driver(
    "energy", kd.LogNormal(0.15, 0.035), each="period", unit="EUR/kWh", source="supplier's range"
)
model.driver(
    "spend",
    kd.Triangular(4, 7, 12),
    unit="EUR a passenger",
    source="two opinions of the catering lead",
)
model.driver("resale_share", kd.Triangular(0.05, 0.15, 0.30), source="broker's opinion")


def index(growth):
    """A yearly index that compounds from the second year on, as a row."""
    return kd.finance.grow(np.broadcast_to(growth, (15, np.size(growth))), lag=1)


@model.line
def passengers(seats, crossings, load):
    return seats * crossings * load


@model.line
def ticket_sales(passengers, fare, fare_growth):
    return passengers * fare * index(fare_growth)


@model.line
def energy_cost(crossings, kwh, energy):
    return crossings * kwh * energy


@model.line
def crew_cost(crew, wage_growth):
    return crew * index(wage_growth)


@model.line
def operating(ticket_sales, passengers, spend, energy_cost, crew_cost, port_fees):
    return ticket_sales + passengers * spend - energy_cost - crew_cost - port_fees


@model.line
def depreciation(vessel):
    return vessel / 15


@model.line
def tax_paid(operating, depreciation, tax):
    return np.maximum(operating - depreciation, 0) * tax


@model.line
def resale(vessel, resale_share, period):
    return np.where(period == 15, vessel * resale_share, 0)


@model.line(unit="EUR")
def cash_flow(operating, tax_paid, resale):
    return operating - tax_paid + resale


model.outcome("net_value", "npv(hurdle, cash_flow, -vessel)", unit="EUR", target=0)
model.outcome("rate_of_return", "irr(cash_flow, -vessel)", unit="% a year", target=0.08)

if __name__ == "__main__":
    run = model.simulate(trials=20_000, seed=11)
    value = run["net_value"]
    print(
        f"base case {value.base:,.0f} EUR, at percentile {value.percentile_of(value.base):.0f} of "
        "the trials"
    )
    print(f"mean      {value.mean:,.0f} EUR, give or take {value.mean.error:,.0f} for the sampling")
    low, high = value.central_range(0.80)
    print(f"8 of 10 trials end between {low:,.0f} and {high:,.0f} EUR")
    loss = value.chance(below=0)
    print(
        f"chance of a loss at the hurdle rate {100 * loss:.1f} %, give or take "
        f"{100 * loss.error:.1f} %"
    )
    print("\nwhat moves it:")
    print(run.sensitivity("net_value").round(3).to_string())
