"""How a run was made, in sentences: its errors, what was assumed, reached and repaired."""

from __future__ import annotations

from typing import Any

from kindynos.formatting import spoken
from kindynos.model.review import review
from kindynos.results.run import Run

MOST_CORRELATIONS = 6  # that are reported one by one


def made_lines(run: Run) -> list[str]:
    """Return how a run was made: what its errors are, what is assumed, reached and repaired."""
    facts = run.facts()
    lines = [
        "The 95 % error is how far a figure may be off because trials are drawn at random: "
        "more trials shrink the error, and the risk stays. `kindynos robustness` says what the "
        "assumptions are worth."
    ]
    if run.size < 200:
        lines = [
            f"{run.size} trials are too few to say how far off these figures are: at least 200 "
            "are needed."
        ]
    lines += [f"Rounded up {facts['rounded up']}."] if facts["rounded up"] else []
    lines += [f"Partial: {facts['partial']}."] if facts["partial"] else []
    lines += [f"Carried out as {facts['processes']}."] if facts["processes"] else []
    lines += [f"{aim}: {met}." for aim, met in facts["aims"].items()]
    lines += _correlations(facts["correlations"])
    lines += [
        f"Repaired, since the correlations asked for cannot hold together: {text}."
        for text in facts["repaired"]
    ]
    lines += [
        f"Chosen in every trial, {spoken(name.removesuffix('_option'))}: {words}."
        for name, words in facts.get("rules", {}).items()
    ]
    lines += [f"Assumed independent: {text}." for text in facts["assumed independent"]]
    lines += [
        f"{name} has no value in some trials; the first is {text}."
        for name, text in facts["first failed"].items()
    ]
    return lines


def advice_lines(run: Run) -> list[str]:
    """Return what the maker of a model should look at."""
    return [
        f"Look at {finding.name}: {finding.text}{'' if finding.text.endswith('?') else '.'}"
        for finding in review(run.program, calculations=False)
        if finding.name not in ("dependence", "sources")
    ]


def _correlations(rows: list[dict[str, Any]]) -> list[str]:
    """Return what was reached of each correlation, or of many how far off the worst is."""

    def is_stated(row: dict[str, Any]) -> bool:
        return row["requested"] is not None and row["requested"] == row["requested"]

    def what(row: dict[str, Any]) -> str:
        requested = f", asked {row['requested']:g}" if is_stated(row) else ""
        return (
            f"{row['first']} with {row['second']}: {row['kind']} correlation {row['reached']:.3f} "
            f"reached{requested} ({row['copula']} copula)."
        )

    stated = [row for row in rows if is_stated(row)]
    if len(rows) <= MOST_CORRELATIONS or not stated:
        return [what(row) for row in rows[:MOST_CORRELATIONS]]
    worst = max(stated, key=lambda row: abs(row["reached"] - row["requested"]))
    gap = abs(worst["reached"] - worst["requested"])
    return [
        f"Of {len(rows):,} correlations each was reached to within {gap:.3f}; the worst is "
        f"{what(worst)} All are in correlations.csv with --out."
    ]
