"""A solved decision as a terminal shows it."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import per_cent, share_decimals, short, with_error
from kindynos.inference.estimates import Estimate
from kindynos.reports.answers import decision_answer, opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_rows, plain_value
from kindynos.reports.tables import FigureTable, table_of

if TYPE_CHECKING:
    from kindynos.decisions.solve import Solution

MOST_COMPARED = 12  # alternatives that are compared in pairs


def decided(
    solution: Solution,
    worth: pd.DataFrame | None,
    switches: dict[str, pd.DataFrame],
    tests: pd.DataFrame | None = None,
) -> Report:
    """Return the alternatives, the policy, dominance, what it is worth to know, and where the best
    alternative switches.
    """
    parts: list[RenderableType] = [
        *opening(decision_answer(solution, switches)),
        _alternatives(solution),
        "",
        _policy(solution),
        "",
        _beats(solution),
    ]
    if worth is not None:
        parts += ["", _worth(worth)]
    if tests is not None and len(tests):
        parts += ["", _tests(tests)]
    if solution.decision.criteria:
        parts += ["", _criteria(solution)]
    for name, table in switches.items():
        parts += ["", _switch(name, table)]
    dominated = _dominated(solution)
    parts += ["", Text("\n".join(dominated), style="dim")] if dominated else []
    return Report.of(
        parts,
        kind="decision",
        result=solution,
        data=partial(_data, solution, worth, switches, tests),
        frames=lambda: {"alternatives": solution.table(), "parts": solution.nodes()},
        pages=lambda: {kind: partial(_draw, solution, kind) for kind in ("tree", "profiles")},
    )


def _draw(solution: Solution, kind: str, figure: Any) -> Any:
    return solution.plot(kind, figure)


def _with_error(value: float, error: float) -> str:
    if not error > 0:
        return short(value)
    return " ".join(with_error(Estimate(value, value - error, value + error)))


def _share(chance: float, error: float) -> str:
    if not error > 0:
        return per_cent(chance)
    decimals = share_decimals([error])
    return f"{per_cent(chance, decimals)} ± {100 * error:.{decimals}f}"


def _alternatives(solution: Solution) -> FigureTable:
    unit = f", {solution.decision.unit}" if solution.decision.unit else ""
    table = table_of(
        f"{solution.decision.name}: alternatives under the best later choices{unit}",
        ("alternative", "left"),
        ("value", "right"),
        ("mean", "right"),
        ("sd", "right"),
        ("P5", "right"),
        ("P50", "right"),
        ("P95", "right"),
        ("chance below 0", "right"),
    )
    for name, row in solution.table().iterrows():
        cells = [short(row[key]) for key in ("mean", "sd", "P5", "P50", "P95")]
        table.add_row(
            str(name),
            _with_error(row["value"], row["error"]),
            *cells,
            per_cent(row["chance below 0"]),
        )
    return table


def _policy(solution: Solution) -> FigureTable:
    table = table_of(
        "The best policy",
        ("after", "left"),
        ("choice", "left"),
        ("choose", "left"),
        ("value", "right"),
    )
    for path, best in sorted(solution.policy.items(), key=lambda item: (len(item[0]), item[0])):
        part = solution.parts[path]
        after = " > ".join(path) or "now"
        table.add_row(after, part.name, best, _with_error(float(part.value), part.value.error))
    return table


def _beats(solution: Solution) -> FigureTable:
    names = solution.best_alternatives(MOST_COMPARED)
    found: Any = solution.beats(names)
    errors: Any = solution.beats(names, errors=True)
    regret: Any = solution.regret()
    more = len(regret) - len(names)
    columns = [(f"more than {name}", "right") for name in names]
    table = table_of(
        "In the same trial" + (f"; the best {len(names)} of {len(regret)}" if more else ""),
        ("alternative", "left"),
        *columns,
        ("best in", "right"),
        ("mean regret", "right"),
        ("P95", "right"),
    )
    for name in names:
        cells = [
            "" if name == other else _share(found.loc[name, other], errors.loc[name, other])
            for other in names
        ]
        row = regret.loc[name]
        table.add_row(
            name,
            *cells,
            _share(row["best in"], row["error of best in"]),
            _with_error(row["mean"], row["error"]),
            short(row["P95"]),
        )
    return table


def _worth(worth: pd.DataFrame) -> FigureTable:
    table = table_of(
        "What it would be worth to know before choosing",
        ("known", "left"),
        ("worth at most", "right"),
    )
    for name, row in worth.iterrows():
        table.add_row(str(name), _with_error(row["worth"], row["error"]))
    return table


def _tests(tests: pd.DataFrame) -> FigureTable:
    table = table_of(
        "What tests are worth beside the best alternative without one",
        ("choice", "left"),
        ("test", "left"),
        ("of", "left"),
        ("worth", "right"),
        ("net of its cost", "right"),
        ("", "left"),
        keys=2,
    )
    for row in tests.reset_index().to_dict("records"):
        table.add_row(
            row["choice"],
            row["test"],
            row["event"],
            _with_error(row["worth"], row["error"]),
            _with_error(row["net of cost"], row["error of net"]),
            "best" if row["best"] else "",
        )
    return table


def _criteria(solution: Solution) -> FigureTable:
    table = table_of(
        "By criterion, under the best later choices",
        ("alternative", "left"),
        ("criterion", "left"),
        ("unit", "left"),
        ("mean", "right"),
        ("P5", "right"),
        ("P50", "right"),
        ("P95", "right"),
        keys=2,
    )
    for row in solution.by_criterion().reset_index().to_dict("records"):
        name, criterion = row["alternative"], row["criterion"]
        unit = solution.decision.criteria[criterion] or ""
        ends = (short(row[key]) for key in ("P5", "P50", "P95"))
        table.add_row(name, criterion, unit, _with_error(row["mean"], row["error"]), *ends)
    return table


def _switch(name: str, table: pd.DataFrame) -> RenderableType:
    if not len(table):
        return Text(f"The best alternative does not change with {name} in this range.")
    shown = table_of(
        f"Where the best alternative changes with {name}",
        (name, "right"),
        ("below", "left"),
        ("above", "left"),
    )
    for _, row in table.iterrows():
        shown.add_row(short(row[name]), row["best below"], row["best above"])
    return shown


def _dominated(solution: Solution) -> list[str]:
    found = []
    rest = ", on the trials drawn." if solution.draws.trials > 1 else "."
    names = solution.best_alternatives(MOST_COMPARED)
    for pair, row in solution.dominance(names).iterrows():
        one, other = pair if isinstance(pair, tuple) else (pair, "")
        if row["first order"]:
            found.append(
                f"{one} dominates {other}: at every amount its chance of more is at least as "
                f"large{rest}"
            )
        elif row["second order"]:
            found.append(f"{one} dominates {other} for whoever shuns risk (second order){rest}")
    return found


def _data(
    solution: Solution,
    worth: pd.DataFrame | None,
    switches: dict[str, pd.DataFrame],
    tests: pd.DataFrame | None,
) -> dict[str, Any]:
    """Return the same for JSON."""
    answer: Any = plain_value(
        {
            "decision": solution.decision.name,
            "best": solution.best,
            "rule": solution.by,
            "value": float(solution.value),
            "low": solution.value.low,
            "high": solution.value.high,
            "policy": [
                {"after": list(path), "choose": best} for path, best in solution.policy.items()
            ],
        }
    )
    tables = {
        "alternatives": solution.table(),
        "parts": solution.nodes(),
        "beats": solution.beats(solution.best_alternatives(MOST_COMPARED)),
        "regret": solution.regret(),
    }
    answer |= {name: plain_rows(table) for name, table in tables.items()}
    if tests is not None and len(tests):
        answer["tests"] = plain_rows(tests)
    if solution.decision.criteria:
        answer["by criterion"] = plain_rows(solution.by_criterion())
    answer["worth of knowing"] = None if worth is None else plain_rows(worth)
    answer["switches"] = {name: plain_rows(table) for name, table in switches.items()}
    found: dict[str, Any] = answer
    return found
