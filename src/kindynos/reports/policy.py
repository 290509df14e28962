"""What choices inside a model are worth, as a terminal shows it, and as plain data."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from kindynos.formatting import in_unit, per_cent, short, spoken, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import amount, opening
from kindynos.reports.page.of_decision import of_policy
from kindynos.reports.page.view import charts_view
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, table_from
from kindynos.studies.policy import Policy

HOW = (
    "Rules are found by regression on one half of the trials and judged on the other, so the worth "
    "can only be too low; all plans are on the same draws."
)


def policy_report(policy: Policy) -> Report:
    """Return what the choices are worth, their rules and shares, and the plans side by side."""
    return Report.of(
        [
            *opening(policy_answer(policy)),
            _choices(policy),
            "",
            _plans(policy),
            "",
            Text(HOW, style="dim"),
        ],
        kind="policy",
        heading=f"What the choices behind {spoken(policy.outcome)} are worth",
        result=policy,
        facts=lambda: plain_value(
            {
                "outcome": policy.outcome,
                "unit": policy.unit,
                "trials": policy.trials,
                "seed": policy.seed,
                "value": plain_estimate(policy.value),
                "worth": plain_estimate(policy.worth),
                "promised": policy.promised,
                "best fixed plan": policy.best,
                "rules": dict(policy.rules),
            }
        ),
        tables=lambda: {"shares": policy.shares.reset_index(), "plans": policy.table.reset_index()},
        figures=lambda: {"policy": policy.plot},
        view=lambda report: charts_view(report, of_policy(policy)),
    )


def policy_answer(policy: Policy) -> list[str]:
    """Return what choosing later is worth, and the first rule."""
    outcome = spoken(policy.outcome)
    value = amount(policy.value, policy.unit)
    if policy.worth > policy.worth.error:
        less = "less" if policy.better == "low" else "more"
        lead = (
            f"Chosen by what is known then, {outcome} is {value} on average: "
            f"{amount(policy.worth, policy.unit)} {less} than with the best plan fixed today "
            f"({policy.best})."
        )
    else:
        lead = (
            f"{outcome[:1].upper()}{outcome[1:]} is {value} on average; choosing by what is known "
            f"then brings nothing that can be told over the best plan fixed today ({policy.best})."
        )
    name, rule = next(iter(policy.rules.items()))
    shares = policy.shares.loc[name]["chooses"].items()
    said = ", ".join(f"{option} in {per_cent(float(share))}" for option, share in shares)
    return [lead, f"The rule of {spoken(name)!r}: {rule} ({said} of the trials)."]


def _choices(policy: Policy) -> FigureTable:
    return table_from(
        "What is chosen, by what is known then",
        policy.shares.reset_index().to_dict("records"),
        {
            "choice": "choice",
            "option": "option",
            "come to": lambda row: per_cent(row["comes to it"]),
            "choose it": lambda row: per_cent(row["chooses"]),
        },
        keys=2,
    )


def _plans(policy: Policy) -> FigureTable:
    unit = policy.unit

    def plain(name: str) -> Any:
        return lambda row: short(in_unit(row[name], unit))

    def mean(row: Any) -> str:
        if not row["error"] > 0:
            return short(in_unit(row["mean"], unit))
        return " ".join(with_error(in_unit(symmetrical(row["mean"], row["error"]), unit)))

    columns: dict[str, Any] = {"plan": "plan", "mean": mean}
    for name in policy.table.columns[2:]:
        chance = name.startswith("chance")
        columns[name] = (lambda row, name=name: per_cent(row[name])) if chance else plain(name)
    after = f", {unit}" if unit else ""
    title = f"{policy.outcome} under the policy, and under each plan fixed today{after}"
    return table_from(title, policy.table, columns)
