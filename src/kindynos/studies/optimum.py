"""The best decisions of a model, what they are worth on fresh draws, and all that was tried."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import pandas as pd

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.formatting import number
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.program.statement import Statement
from kindynos.results.options import SimulationOptions
from kindynos.results.run import Run
from kindynos.results.simulate import simulate
from kindynos.studies.aims import Constraint, Figure
from kindynos.studies.optimizing import OptimumRequest, evaluations_table, run_search, search_for
from kindynos.studies.optimum_error import decision_errors
from kindynos.studies.points import Point
from kindynos.studies.search import DecisionSearch
from kindynos.studies.sets_search import tried_all

_KEPT = {"yes": "", "no": ", and is broken", "perhaps": ", which may just break it"}
AT_LIMIT = 0.005  # of what was seen of a constraint, within which a figure is at its limit
MOST_LOOKED_AT = 6  # points that are worked out on fresh draws until one keeps the constraints
FRESH = 0x5DEECE66D  # added to the seed for the draws on which the optimum is judged


@dataclass(frozen=True)
class Inside:
    """The best decisions whose constraints are kept for certain: on fresh draws the objective, and
    each constraint's figure.
    """

    decisions: Mapping[str, float]
    objective: Estimate
    figures: tuple[Estimate, ...]


@dataclass(frozen=True, eq=False)
class Optimum(Reported):
    """The best ``decisions`` by name, each an Estimate, and the ``objective`` there on fresh draws.

    ``found`` is the objective on the draws of the search, which is too good by as much as chance
    was chosen for. ``run`` is the run on fresh draws, ``evaluations`` has all that was tried; see
    ``constraints``, ``sentences`` and ``plot``.
    """

    decisions: dict[str, Estimate]
    objective: Estimate
    found: Estimate
    what: str
    maximize: bool
    run: Run
    evaluations: pd.DataFrame
    limits: tuple[tuple[Constraint, Estimate, Estimate, bool], ...]
    trials: int
    seed: int
    unit: str | None = None
    units: Mapping[str, str | None] | None = None
    # decisions that lie at an end of their range
    ends: Mapping[str, float] = field(default_factory=dict)
    tried_all: bool = False  # every set of values that the decisions may take
    # where a constraint may be broken at the best, the best that keeps it for certain
    inside: Inside | None = None

    def __repr__(self) -> str:
        best = ", ".join(f"{name} = {value!r}" for name, value in self.decisions.items())
        aim = "highest" if self.maximize else "least"
        return (
            f"<{aim} {self.what} at {best}: {self.objective!r} on fresh draws; "
            f"{len(self.evaluations)} evaluations>"
        )

    def constraints(self) -> pd.DataFrame:
        """Return one row per constraint: its limit, the figure on the search's draws and on fresh
        ones with its interval.

        ``binds`` says whether a better point broke it; ``kept`` whether fresh draws leave no doubt
        ("yes"), some ("perhaps") or say that it is broken ("no").
        """
        rows = []
        for constraint, figure, fresh, binds in self.limits:
            best_end = fresh.low if constraint.most else fresh.high
            least = constraint.excess(float(fresh) if math.isnan(best_end) else best_end)
            most = constraint.excess_at_worst(fresh)
            kept = "yes" if most <= 0 else "no" if least > 0 else "perhaps"
            rows.append(
                (
                    constraint.label,
                    constraint.limit,
                    float(figure),
                    float(fresh),
                    fresh.low,
                    fresh.high,
                    binds,
                    kept,
                )
            )
        columns = [
            "constraint",
            "limit",
            "on the search's draws",
            "on fresh draws",
            "low",
            "high",
            "binds",
            "kept",
        ]
        return pd.DataFrame(rows, columns=columns)

    def sentences(self) -> list[str]:
        """Return in words what fresh draws say of the optimum, and which constraints bind."""
        figure, fresh = (
            number(float(f"{float(value):.5g}")) for value in (self.found, self.objective)
        )
        count = len(self.evaluations)
        said = [
            f"All {count:,} sets of values were tried."
            if self.tried_all
            else f"It is the best of {count:,} points tried.",
            f"On the draws of the search the {self.what} was {figure}; on fresh ones, which had no "
            "part in the choice, it is "
            f"{fresh}.",
        ]
        for name, end in self.ends.items():
            said.append(
                f"The best {name} is the end of its range, {end:g}: a wider range may hold a "
                "better one."
            )
        for row in self.constraints().to_dict("records"):
            binds = "binds" if row["binds"] else "does not bind"
            said.append(
                f"The constraint {row['constraint']} {binds}; on fresh draws it is "
                f"{row['on fresh draws']:.4g}{_ends(row['low'], row['high'])}{_KEPT[row['kept']]}."
            )
        return said

    @delegated_to("kindynos.plots", "optimum")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the objective at all points tried around the optimum, those that break a constraint
        marked.
        """


def _ends(low: float, high: float) -> str:
    """Return the interval of a constraint's figure, where it has one."""
    return "" if math.isnan(low) else f" ({low:.4g} to {high:.4g})"


def optimize(
    statement: Statement, optimum_request: OptimumRequest, settings: SimulationOptions
) -> Optimum:
    """Return the best decisions of a model; see Model.optimize."""
    seed = settings.checked_seed()
    settings = replace(settings, seed=seed)
    search = search_for(statement, optimum_request, settings)
    best = run_search(search)
    names = [choice.name for choice in search.choices]
    errors = decision_errors(search, best)
    decisions = {name: symmetrical(x, e) for name, x, e in zip(names, best, errors, strict=True)}
    changed = statement.replace(**dict(zip(names, best, strict=True)))
    fresh = replace(
        settings, seed=(seed ^ FRESH) % 2**63, keep=search.points.outcomes, progress=None
    )
    run = simulate(changed.program, fresh)
    tried = search.tried[best]
    limits = tuple(
        (
            constraint,
            reached,
            constraint.figure.read(run[constraint.figure.outcome]),
            _bound(search, best, position),
        )
        for position, (constraint, reached) in enumerate(
            zip(search.constraints, tried.figures, strict=True)
        )
    )
    figure: Figure = search.figure
    doubtful = any(
        constraint.excess_at_worst(on_fresh) > 0 for constraint, _, on_fresh, _ in limits
    )
    chance = figure.statistic.label.startswith("chance")
    ends = {
        c.name: x
        for c, x in zip(search.choices, best, strict=True)
        if not c.listed and x in (c.low, c.high)
    }
    return Optimum(
        decisions,
        figure.read(run[figure.outcome]),
        tried.objective,
        figure.label,
        search.sign > 0,
        run,
        evaluations_table(search),
        limits,
        settings.trials,
        seed,
        None if chance else run.program.unit(figure.outcome),
        {
            name: run.program.unit(name) if name in run.program.quantities else None
            for name in names
        },
        ends,
        tried_all(search),
        _inside(statement, search, fresh) if doubtful else None,
    )


def _inside(
    statement: Statement, search: DecisionSearch, settings: SimulationOptions
) -> Inside | None:
    """Return the best of the points tried that keeps the constraints for certain, on the draws of
    the search and on fresh ones too; None where none of a few does.
    """
    names = [choice.name for choice in search.choices]
    for point in _surely_inside(search)[:MOST_LOOKED_AT]:
        decisions = dict(zip(names, point, strict=True))
        run = simulate(statement.replace(**decisions).program, settings)
        figures = tuple(c.figure.read(run[c.figure.outcome]) for c in search.constraints)
        if all(
            constraint.excess_at_worst(figure) <= 0
            for constraint, figure in zip(search.constraints, figures, strict=True)
        ):
            return Inside(decisions, search.figure.read(run[search.figure.outcome]), figures)
    return None


def _surely_inside(search: DecisionSearch) -> list[Point]:
    """Return the points tried whose constraints are kept at twice the reach of their intervals, so
    that fresh draws will agree, the best first.
    """
    inside = [
        point
        for point, tried in search.tried.items()
        if tried.worth > -math.inf
        and all(
            2 * constraint.excess_at_worst(figure) <= constraint.excess(float(figure))
            for constraint, figure in zip(search.constraints, tried.figures, strict=True)
        )
    ]
    return sorted(inside, key=lambda point: -search.tried[point].worth)


def _bound(search: DecisionSearch, best: Point, position: int) -> bool:
    """Whether a better point broke this constraint, and no other, and the best is at its limit."""
    worth, scale = search.tried[best].worth, search.scales[position]
    if -search.tried[best].excess[position] > AT_LIMIT * scale:
        return False
    return any(
        t.worth > worth and t.excess[position] > 0 and sum(e > 0 for e in t.excess) == 1
        for t in search.tried.values()
    )
