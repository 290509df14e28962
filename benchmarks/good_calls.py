"""A good call of every public function, class and method: its required arguments by their names,
for attacks that replace one of them at a time by something hostile.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable
from inspect import isfunction
from typing import Any

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.results.figures import TableSpec

DAYS = pd.bdate_range("2026-01-01", periods=60)
WALK = np.exp(np.cumsum(np.random.default_rng(2).standard_normal(60) / 100))
STEPS = np.random.default_rng(3).normal(0, 0.01, (200, 2))
MONTHS = pd.Series(100 + WALK, pd.date_range("2020-01-31", periods=60, freq="ME"), name="sales")
EVENT = kd.Event("e", {"x": (0.5, 1.0), "y": (0.5, 3.0)})
SIGNALS = {"good": {"x": 0.8, "y": 0.1}, "bad": {"x": 0.2, "y": 0.9}}
RECORD = pd.DataFrame({"P10": [1.0] * 12, "P50": 2.0, "P90": 3.0, "actual": [*WALK[:11], 5.0]})

# by the name of a parameter, wherever it stands
BY_NAME: dict[str, Callable[[], Any]] = {
    "a": lambda: 2.0,
    "alternative": lambda: "a",
    "amount": lambda: -1.0,
    "alternatives": lambda: {"a": 1.0, "b": EVENT},
    "asked": TableSpec,
    "b": lambda: 3.0,
    "capital": lambda: 100.0,
    "changes": lambda: {"shipyard": -10.0},
    "choices": lambda: ["said"],
    "cohort": lambda: kd.Cohort(["a", "b"], {"a": 5}, {"a": {"a": 0.9, "b": 0.1}}),
    "comparisons": lambda: {("a", "b"): 2.0},
    "condition": lambda: "y > 1",
    "conditions": lambda: ["y > 1"],
    "consistency_ratio": lambda: 0.0,
    "count": lambda: 2,
    "counts": lambda: [3, 5, 4, 6, 2, 3],
    "covariance": lambda: [[0.04, 0.0], [0.0, 0.09]],
    "date": lambda: "2026-06-30",
    "dates": lambda: ["2026-01-01", "2026-07-01", "2027-01-01"],
    "decisions": lambda: {"fare": [1.0, 2.0]},
    "df": lambda: 5.0,
    "distribution": lambda: kd.Normal(1.0, 1.0),
    "drawn": lambda: 3,
    "drift": lambda: 0.01,
    "drifts": lambda: (0.1, 0.0),
    "edges": lambda: [0.0, 1.0, 2.0],
    "event": lambda: "e",
    "figure": lambda: lambda process: process.expected(1.0),
    "finance": lambda: 0.05,
    "first": lambda: "2026-01-05",
    "flow": lambda: [1.0, 2.0, 3.0],
    "flows": lambda: [-100.0, 60.0, 60.0],
    "forecasts": lambda: pd.Series(np.full(60, 0.02), DAYS),
    "frame": lambda: pd.DataFrame(
        np.random.default_rng(3).normal(0, 0.01, (200, 2)), columns=["a", "b"]
    ),
    "function": lambda: lambda fare: 2.0 * fare,
    "growth": lambda: 0.01,
    "high": lambda: 3.0,
    "impact": lambda: kd.Normal(3.0, 1.0),
    "initial": lambda: 100.0,
    "instruments": lambda: ["shipyard"],
    "jump_mean": lambda: 0.0,
    "jump_sd": lambda: 0.1,
    "key": lambda: "y",
    "kind": lambda: "cash",
    "known": lambda: np.random.default_rng(4).normal(size=(2, 500)),
    "last": lambda: "2026-02-05",
    "leaving": lambda: "b",
    "level": lambda: 0.95,
    "level_weight": lambda: 0.3,
    "life": lambda: 3,
    "location": lambda: 1.0,
    "low": lambda: 1.0,
    "marked": lambda: 4,
    "matrix": lambda: [[1.0, 0.5], [0.5, 1.0]],
    "mean": lambda: 2.0,
    "mode": lambda: 2.0,
    "n": lambda: 100,
    "name": lambda: "y",
    "number": lambda: 3,
    "opening": lambda: 10.0,
    "other": lambda: "b",
    "outcome": lambda: "y",
    "outcomes": lambda: {"x": (0.5, 1.0), "y": ("rest", 2.0)},
    "output": lambda: "y",
    "parts": lambda: [kd.Normal(0.0, 1.0), kd.Normal(3.0, 1.0)],
    "paths": lambda: WALK[:, None] * np.ones(3),
    "payoffs": lambda: np.random.default_rng(5).normal(size=(2, 500)),
    "percentile": lambda: 50,
    "percentiles": lambda: {10: 1.0, 50: 2.0, 90: 4.0},
    "period": lambda: 1,
    "periods": lambda: 3,
    "persistence": lambda: 0.9,
    "place": lambda: 0,
    "population": lambda: 10,
    "probability": lambda: 0.3,
    "processes": lambda: {"a": kd.RandomWalk(1.0, 0.0, 1.0)},
    "q": lambda: 50.0,
    "rate": lambda: 0.05,
    "rates": lambda: (1.0, 2.0),
    "reaction": lambda: 0.05,
    "record": lambda: kd.track_record(RECORD),
    "records": lambda: np.random.default_rng(6).normal(size=(80, 2)),
    "reinvest": lambda: 0.03,
    "returns": lambda: [0.01, -0.02, 0.03],
    "scale": lambda: 2.0,
    "scenario": lambda: "one",
    "sd": lambda: 1.0,
    "seed": lambda: 1,
    "series": lambda: MONTHS,
    "shape": lambda: 2.0,
    "shares": lambda: 10.0,
    "shocks": lambda: {"shipyard": -0.1},
    "signals": lambda: SIGNALS,
    "size": lambda: 5,
    "speed": lambda: 0.5,
    "start": lambda: 1.0,
    "state": lambda: "a",
    "states": lambda: ["a", "b"],
    "successes": lambda: 3.0,
    "table": lambda: RECORD,
    "then": lambda: 2.0,
    "time": lambda: 1.0,
    "times": lambda: 2.0,
    "transition": lambda: {"a": {"a": 0.9, "b": 0.1}},
    "trial": lambda: 3,
    "trials": lambda: 60,
    "u": lambda: 0.3,
    "values": lambda: WALK,
    "volatilities": lambda: (0.1, 0.2),
    "volatility": lambda: 0.2,
    "weights": lambda: [1.0, 2.0],
    "within": lambda: (1.0, 3.0),
    "x": lambda: 1.5,
    "y": lambda: "y",
    "yearly_cost": lambda: 5.0,
    "yearly_quantity": lambda: 50.0,
}
PRICES = kd.read_prices(kd.demo_file("treasury_prices.csv"))
READ = kd.read_trials(pd.DataFrame({"a": WALK, "b": WALK**2}))
MODEL = kd.Model("small")
MODEL.given(fare=2.0)
MODEL.driver("d", kd.Normal(1.0, 1.0))
MODEL.driver("f", kd.Normal(1.0, 1.0))
MODEL.outcome("y", "d * fare + f")

# of one callable, or of all methods of one name, where a name means something else or more is
# needed than the arguments without a default
OF: dict[str, dict[str, Any]] = {
    "*.chance": {"above": 1.0, "time": None},
    "*.hit_probability": {"level": 1.1, "within": 2.0},
    "*.pdf": {"x": 1.0},
    "*.report": {"path": "page.html"},
    "*.to_excel": {"path": "book.xlsx"},
    "Cohort": {"start": {"a": 5}},
    "Compound": {"count": kd.Poisson(2.0), "size": kd.Exponential(3.0)},
    "Event": {"outcomes": {"x": (0.5, 1.0), "y": ("rest", 2.0)}},
    "Moments": {"mean": [0.1, 0.2]},
    "Portfolio": {"prices": PRICES, "shares": {"shipyard": 10}},
    "Precision": {"statistic": "mean", "within": 0.5},
    "allocate": {"source": PRICES.subset(["shipyard", "wind_farm"])},
    "arima.chance": {"time": 1.0, "above": 0.0},
    "backtest": {"returns": pd.Series(WALK / 100, DAYS)},
    "bridge": {"old": MODEL, "new": MODEL.replace(fare=3.0), "trials": 60},
    "compare": {"runs": {"one": READ, "two": READ}, "outcome": "a"},
    "comparison.chance": {"condition": "y > 1", "above": None},
    "comparison.row_differences": {"outcome": "row"},
    "comparison.rows_of": {"outcome": "row"},
    "decision.sample_information_value": {"signals": lambda: SIGNALS},
    "demo_file": {"name": "berths.toml"},
    "first_period": {"condition": [0.0, 1.0, 1.0]},
    "fit_jointly": {"records": lambda: pd.DataFrame(np.random.default_rng(6).normal(size=(80, 2)))},
    "fit_series": {"candidates": ["arima (1,0,0)"], "rolling": False, "season": 0},
    "fitted.chance": {"time": 1.0, "above": 1.0},
    "forecast": {"process": "arima (1,0,0)", "season": 0, "rolling": False},
    "from_percentiles": {"name": "normal", "percentiles": {10: 1.0, 90: 3.0}},
    "frontier": {"source": PRICES.subset(["shipyard", "wind_farm"]), "points": 3},
    "gamma.chance": {"above": 1.0},
    "joint_distribution": {"x": lambda: READ["a"], "y": lambda: READ["b"]},
    "load_decision": {"path": str(kd.demo_file("new_route.toml"))},
    "model.claims": {"name": "fires", "count": kd.Poisson(2.0), "size": kd.Exponential(3.0)},
    "model.driver": {"name": "new"},
    "model.drivers_from": {"source": str(kd.demo_file("terminal_items.csv"))},
    "model.frontier": {"what": "mean y", "against": "sd y", "trials": 60},
    "model.optimize": {"maximize": "mean y", "trials": 60, "evaluations": 10},
    "model.solve": {"name": "fare", "mean": 2.0, "trials": 60},
    "paths.outcome": {"function": lambda: lambda prices: prices[:, -1].sum(axis=0)},
    "portfolio.against": {"benchmark": "shipyard"},
    "portfolio.bridge": {"earlier": lambda: kd.Portfolio(PRICES, shares={"shipyard": 5})},
    "prices.every": {"period": "month"},
    "prices.in_currency": {"rates": {"shipyard": "wind_farm"}},
    "prices.with_changes": {"changes": {"shipyard": "relative"}},
    "prices.with_choices": {"choices": ("said",)},
    "prices.with_proxies": {"proxies": {"shipyard": "wind_farm"}},
    "profitability_index": {"initial": -100.0},
    "read.chance": {"condition": "a > 1", "time": None},
    "read.get": {"key": "a"},
    "read.joint": {"x": "a", "y": "b"},
    "read.percentile": {"name": "a"},
    "read.scatter": {"x": "a", "y": "b"},
    "read.sensitivity": {"name": "a"},
    "read_series": {"source": str(kd.demo_file("passengers.csv"))},
    "read_trials": {"source": lambda: pd.DataFrame({"a": [1.0, 2.0, 3.0]})},
    "read_values": {"source": str(kd.demo_file("repair_bills.csv"))},
    "read_workbook": {"source": str(kd.demo_file("purser.xlsx"))},
    "result.chance": {"above": 1.0},
    "result.statistic": {"name": "mean"},
    "rows.chance": {"above": 1.0},
    "rows.statistic": {"name": "mean"},
    "run.chance": {"condition": "y > 1"},
    "run.from_json": {"text": lambda: MODEL.simulate(20, seed=1).to_json()},
    "run.joint": {"x": "d", "y": "y"},
    "run.row": {"name": "row"},
    "run.shocks": {"name": "d"},
    "run.extend": {"trials": 400},
    "solution.lead": {"name": "a", "other": "b"},
    "sweep": {"function": lambda: lambda fare: {"y": fare}, "fare": [1.0, 2.0]},
    "cohort.by_age": {"leaving": [0.1, 0.2, 1.0]},
    "moments.shrunk": {"weight": 0.5},
    "model.loans": {"source": str(kd.demo_file("berth_loans.csv"))},
    "model.sweep": {"fare": [1.0, 2.0], "trials": 60},
    "model.given": {"x": 1.0},
    "run.workbook": {"path": "book.xlsx"},
    "walk.chance": {"time": 1.0, "above": 1.0},
}
OF |= {f"{owner}.chance": {"above": 1.0} for owner in ("Normal()", "Poisson()")}


class NoGoodCallError(Exception):
    """There is no good call of a function."""


def good_call(name: str, thing: Callable[..., Any]) -> dict[str, Any]:
    """Return good arguments for the required parameters of a function, by name."""
    own = OF.get(name, OF.get(f"*.{name.rpartition('.')[2]}", {}))
    made = {key: value() if isfunction(value) else value for key, value in own.items()}
    arguments = {key: value for key, value in made.items() if value is not None}
    for parameter in inspect.signature(thing).parameters.values():
        if parameter.kind in (parameter.VAR_POSITIONAL, parameter.VAR_KEYWORD):
            continue
        if parameter.default is parameter.empty and parameter.name not in arguments:
            if parameter.name not in BY_NAME:
                raise NoGoodCallError(f"{name}: {parameter.name}")
            arguments[parameter.name] = BY_NAME[parameter.name]()
    return arguments
