"""What a page shows of a decision: its tree, which folds, and its alternatives."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.decisions.solve import Solution
from kindynos.formatting import per_cent, spoken, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.inference.sample import Sample
from kindynos.reports.page.curves import POINTS, Curves, cumulative
from kindynos.reports.page.figures import exactly, rounded
from kindynos.reports.page.view import PageView, plain_view
from kindynos.reports.report import Report
from kindynos.studies.policy import POLICY, Policy


def decision_view(report: Report, solution: Solution) -> PageView:
    """Return what a page shows of a decision."""
    return plain_view(
        report,
        f"{solution.decision.name}: the decision",
        facts=[f"{solution.trials:,} trials", f"seed {solution.draws.seed}"],
        beside=_alternatives(solution),
        tree=tree(solution),
        charts=[_profiles(solution)],
        drawn=frozenset(report.figures()) | {"tree", "profiles"},
    )


def _profiles(solution: Solution) -> Curves:
    """Return the share of cases at or below each payoff of the alternatives."""
    shares = {}
    for name in solution.decision.alternatives:
        values, chances = solution.distribution(name)  # in order
        below = np.concatenate([[0.0], np.repeat(np.cumsum(chances), 2)[:-1]])
        shares[name] = np.repeat(values, 2), below
    return cumulative("What each alternative may bring", shares, solution.decision.unit or None)


def of_policy(solved: Policy) -> Curves:
    """Return the share of trials at or below each outcome under a policy, and under the best plan
    fixed today.
    """
    names = {"chosen by what is known then": POLICY, f"fixed today: {solved.best}": solved.best}
    bounds = np.array([0, solved.trials])  # of one block: no errors are asked of it
    shares = {
        said: Sample(solved.under[name], bounds).cumulative(POINTS) for said, name in names.items()
    }
    return cumulative(f"What choosing later makes of {spoken(solved.outcome)}", shares, solved.unit)


def _alternatives(solution: Solution) -> dict[str, Any]:
    """Return the alternatives of a decision, the best first."""
    table: Any = solution.table().sort_values("value", ascending=solution.rolling.sign < 0)
    rows = []
    for name, row in table.iterrows():
        worth = symmetrical(row["value"], row["error"])
        ends = [rounded(float(row[key]), solution.decision.unit) for key in ("P5", "P95")]
        rows.append([str(name), exactly(worth), *ends, f"{100 * row['chance below 0']:.1f} %"])
    return {
        "title": "The alternatives",
        "heads": ["alternative", "worth", "P5", "P95", "below 0"],
        "rows": rows,
    }


@dataclass(frozen=True)
class Branch:
    """A part of a decision tree with the parts that follow."""

    name: str
    what: str
    worth: str
    chance: str
    chosen: bool
    parts: list[Branch]


def tree(solution: Solution) -> Branch:
    """Return the tree of a decision, in which the best policy is marked."""
    unit = f" {solution.decision.unit}" if solution.decision.unit else ""

    def branch(path: tuple[str, ...], selected: bool) -> Branch:
        node = solution.parts[path]
        inside = [p for p in solution.parts if len(p) == len(path) + 1 and p[: len(path)] == path]
        value, error = with_error(node.value)
        best = solution.policy.get(path)
        follows = [branch(p, selected and (best is None or p[-1] == best)) for p in inside]
        what = {
            "choice": f"choose {best}" if best is not None else "",
            "event": f"depends on {node.name}",
        }
        return Branch(
            path[-1] if path else solution.decision.name,
            what.get(node.kind, ""),
            f"{value}{unit} {error}".strip(),
            per_cent(node.chance) if node.chance < 1 else "",
            selected,
            follows,
        )

    return branch((), True)
