"""What choices inside a model are worth, as a terminal shows it, and as plain data."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from kindynos.formatting import in_unit, per_cent, short, with_error
from kindynos.inference.estimates import symmetrical
from kindynos.reports.answers import amount, opening
from kindynos.reports.report import Report
from kindynos.reports.summary import plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, table_from
from kindynos.studies.policy import Policy

HOW = (
    "Rules are found by regression on one half of the trials and judged on the other, so the worth "
    "can only be too low; all plans are on the same draws."
)


def policy_report(answer: Policy) -> Report:
    """Return what the choices are worth, their rules and shares, and the plans side by side."""
    return Report.of(
        [
            *opening(policy_answer(answer)),
            _choices(answer),
            "",
            _plans(answer),
            "",
            Text(HOW, style="dim"),
        ],
        kind="policy",
        heading=f"What the choices behind {answer.outcome.replace('_', ' ')} are worth",
        result=answer,
        facts=lambda: plain_value(
            {
                "outcome": answer.outcome,
                "unit": answer.unit,
                "trials": answer.trials,
                "seed": answer.seed,
                "value": plain_estimate(answer.value),
                "worth": plain_estimate(answer.worth),
                "promised": answer.promised,
                "best fixed plan": answer.best,
                "rules": dict(answer.rules),
            }
        ),
        tables=lambda: {"shares": answer.shares.reset_index(), "plans": answer.table.reset_index()},
        figures=lambda: {"policy": answer.plot},
    )


def policy_answer(answer: Policy) -> list[str]:
    """Return what choosing later is worth, and the first rule."""
    outcome = answer.outcome.replace("_", " ")
    value = amount(answer.value, answer.unit)
    if answer.worth > answer.worth.error:
        less = "less" if answer.better == "low" else "more"
        lead = (
            f"Chosen by what is known then, {outcome} is {value} on average: "
            f"{amount(answer.worth, answer.unit)} {less} than with the best plan fixed today "
            f"({answer.best})."
        )
    else:
        lead = (
            f"{outcome[:1].upper()}{outcome[1:]} is {value} on average; choosing by what is known "
            f"then brings nothing that can be told over the best plan fixed today ({answer.best})."
        )
    name, rule = next(iter(answer.rules.items()))
    shares = answer.shares.loc[name]["chooses"].items()
    said = ", ".join(f"{option} in {per_cent(float(share))}" for option, share in shares)
    return [lead, f"The rule of {name.replace('_', ' ')!r}: {rule} ({said} of the trials)."]


def _choices(answer: Policy) -> FigureTable:
    return table_from(
        "What is chosen, by what is known then",
        answer.shares.reset_index().to_dict("records"),
        {
            "choice": "choice",
            "option": "option",
            "come to": lambda row: per_cent(row["comes to it"]),
            "choose it": lambda row: per_cent(row["chooses"]),
        },
        keys=2,
    )


def _plans(answer: Policy) -> FigureTable:
    unit = answer.unit

    def plain(name: str) -> Any:
        return lambda row: short(in_unit(row[name], unit))

    def mean(row: Any) -> str:
        if not row["error"] > 0:
            return short(in_unit(row["mean"], unit))
        return " ".join(with_error(in_unit(symmetrical(row["mean"], row["error"]), unit)))

    columns: dict[str, Any] = {"plan": "plan", "mean": mean}
    for name in answer.table.columns[2:]:
        chance = name.startswith("chance")
        columns[name] = (lambda row, name=name: per_cent(row[name])) if chance else plain(name)
    after = f", {unit}" if unit else ""
    title = f"{answer.outcome} under the policy, and under each plan fixed today{after}"
    return table_from(title, answer.table, columns)
