"""A solved decision as a terminal shows it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.formatting import per_cent, share_decimals, short, spoken, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import decision_answer, opening
from kindynos.reports.knowing import knowing_answer, knowing_table
from kindynos.reports.page.of_decision import decision_view
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_rows, plain_value
from kindynos.reports.tables import FigureTable, Words, table_from

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
    knows = (
        []
        if worth is None or "pays" not in worth
        else (knowing_answer(worth, solution.decision.unit))
    )
    parts: list[RenderableType] = [
        *opening([*decision_answer(solution, switches), *knows]),
        _alternatives(solution),
        "",
        _policy(solution),
        "",
        _trial_by_trial(solution),
    ]
    if worth is not None:
        title = "What it would be worth to know before choosing"
        parts += ["", knowing_table(worth, solution.decision.unit, title)]
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
        view=lambda report: decision_view(report, solution),
        glance=partial(_keys, solution),
        facts=partial(_facts, solution, worth, switches),
        tables=partial(_tables, solution, tests),
        pages=lambda: {kind: partial(_draw, solution, kind) for kind in ("tree", "profiles")},
    )


def _keys(solution: Solution) -> list[tuple[str, str, str, bool]]:
    """Return the figures at a glance of the best alternative."""
    row: Any = solution.table().loc[solution.best]
    worth, error = with_error(solution.value)  # judged on trials that did not choose it
    best = spoken(solution.best)
    unit = f", {solution.decision.unit}" if solution.decision.unit else ""
    keys = [("Best", f"{best[:1].upper()}{best[1:]}", solution.words.partition("; ")[0], False)]
    keys.append((f"Worth{unit}", worth, error, False))
    plain = {"P5": "1 in 20 is lower", "P50": "half is lower", "P95": "1 in 20 is higher"}
    keys += [(name, short(row[name]), words, False) for name, words in plain.items()]
    if solution.rolling.sign > 0:
        keys.append(("Ends below 0", per_cent(row["chance below 0"]), "chance", True))
    return keys


def _draw(solution: Solution, kind: str, figure: Any) -> Any:
    return solution.plot(kind, figure)


def _worth_of(value: str = "value", error: str = "error") -> Callable[[Any], str]:
    return lambda row: _with_error(row[value], row[error])


def _plainly(*names: str) -> dict[str, Callable[[Any], str]]:
    return {name: _short_of(name) for name in names}


def _short_of(name: str) -> Callable[[Any], str]:
    return lambda row: short(row[name])


def _with_error(value: float, error: float) -> str:
    if not error > 0:
        return short(value)
    return " ".join(with_error(symmetrical(value, error)))


def _share(chance: float, error: float) -> str:
    if not error > 0:
        return per_cent(chance)
    decimals = share_decimals([error])
    return f"{per_cent(chance, decimals)} ± {100 * error:.{decimals}f}"


def _alternatives(solution: Solution) -> FigureTable:
    unit = f", {solution.decision.unit}" if solution.decision.unit else ""
    return table_from(
        f"{solution.decision.name}: alternatives under the best later choices{unit}",
        solution.table(),
        {
            "alternative": "alternative",
            "value": _worth_of(),
            **_plainly("mean", "sd", "P5", "P50", "P95"),
            "chance below 0": lambda row: per_cent(row["chance below 0"]),
        },
    )


def _policy(solution: Solution) -> FigureTable:
    parts = [
        {"after": " > ".join(path) or "now", "part": solution.parts[path], "best": best}
        for path, best in sorted(solution.policy.items(), key=lambda at: (len(at[0]), at[0]))
    ]
    return table_from(
        "The best policy",
        parts,
        {
            "after": "after",
            Words("choice"): lambda row: row["part"].name,
            "choose": "best",
            "value": lambda row: _with_error(float(row["part"].value), row["part"].value.error),
        },
    )


def _trial_by_trial(solution: Solution) -> FigureTable:
    """Return how often each of the best alternatives pays more than each other one in the same
    trial, how often it is the best of all, and what choosing it would be regretted by.
    """
    names = solution.best_alternatives(MOST_COMPARED)
    shares: Any = solution.beats(names)
    errors: Any = solution.beats(names, errors=True)
    regret: Any = solution.regret()
    left_out = f"; the best {len(names)} of {len(regret)}" if len(regret) > len(names) else ""

    def more_than(other: str) -> Callable[[Any], str]:
        return lambda row: (
            ""
            if (name := row["alternative"]) == other
            else _share(shares.loc[name, other], errors.loc[name, other])
        )

    return table_from(
        f"In the same trial{left_out}",
        regret.loc[names].rename_axis("alternative"),
        {
            "alternative": "alternative",
            **{f"more than {name}": more_than(name) for name in names},
            "best in": lambda row: _share(row["best in"], row["error of best in"]),
            "mean regret": _worth_of("mean"),
            **_plainly("P95"),
        },
    )


def _tests(tests: pd.DataFrame) -> FigureTable:
    return table_from(
        "What tests are worth beside the best alternative without one",
        tests,
        {
            "choice": "choice",
            "test": "test",
            "of": "event",
            "worth": _worth_of("worth"),
            "net of its cost": _worth_of("net of cost", "error of net"),
            Words(""): lambda row: "best" if row["best"] else "",
        },
        keys=2,
    )


def _criteria(solution: Solution) -> FigureTable:
    return table_from(
        "By criterion, under the best later choices",
        solution.by_criterion(),
        {
            "alternative": "alternative",
            "criterion": "criterion",
            Words("unit"): lambda row: solution.decision.criteria[row["criterion"]] or "",
            "mean": _worth_of("mean"),
            **_plainly("P5", "P50", "P95"),
        },
        keys=2,
    )


def _switch(name: str, table: pd.DataFrame) -> RenderableType:
    if not len(table):
        return Text(f"The best alternative does not change with {name} in this range.")
    return table_from(
        f"Where the best alternative changes with {name}",
        table,
        {**_plainly(name), "below": "best below", "above": "best above"},
        numbers_first=True,
    )


def _dominated(solution: Solution) -> list[str]:
    dominated = []
    rest = ", on the trials drawn." if solution.draws.trials > 1 else "."
    names = solution.best_alternatives(MOST_COMPARED)
    for pair, row in solution.dominance(names).iterrows():
        one, other = pair if isinstance(pair, tuple) else (pair, "")
        if row["first order"]:
            dominated.append(
                f"{one} dominates {other}: at every amount its chance of more is at least as "
                f"large{rest}"
            )
        elif row["second order"]:
            dominated.append(f"{one} dominates {other} for whoever shuns risk (second order){rest}")
    return dominated


def _tables(solution: Solution, tests: pd.DataFrame | None) -> dict[str, pd.DataFrame]:
    """Return the whole tables."""
    tables = {
        "alternatives": solution.table(),
        "parts": solution.nodes(),
        "beats": solution.beats(solution.best_alternatives(MOST_COMPARED)),
        "regret": solution.regret(),
    }
    if tests is not None and len(tests):
        tables["tests"] = tests
    if solution.decision.criteria:
        tables["by criterion"] = solution.by_criterion()
    return tables


def _facts(
    solution: Solution, worth: pd.DataFrame | None, switches: dict[str, pd.DataFrame]
) -> dict[str, Any]:
    """Return the plain data beside the tables."""
    facts: Any = plain_value(
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
    facts["worth of knowing"] = None if worth is None else plain_rows(worth)
    facts["switches"] = {name: plain_rows(table) for name, table in switches.items()}
    data: dict[str, Any] = facts
    return data
