"""What choices inside a model are worth: the policy that takes, in every trial, the option that is
best on average given what is known when the choice is made.

From the last choice back, what each option brings more than the first is regressed on what is known
(``kindynos.inference.regression``), on one half of the trials; the choices that follow in the other
half are what the policy brings there, and the other way round. So its mean can only be too low: a
rule sees only what is named, and no trial on which it was found. Source: Longstaff and Schwartz,
Review of Financial Studies 14 (2001), 113-147; Dixit and Pindyck, Investment under Uncertainty
(1994).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ModelError, RunError
from kindynos.formatting import threshold
from kindynos.inference.estimates import Estimate
from kindynos.inference.regression import Expectation
from kindynos.inference.sample import Sample
from kindynos.program.identity import identity
from kindynos.program.planned import Plan, PlannedChoice, plans_of
from kindynos.program.quantities import Line
from kindynos.program.rules import Branch, ChoiceRule, ReplacedFigure
from kindynos.program.statement import Statement
from kindynos.results import statistics
from kindynos.results.options import SimulationOptions
from kindynos.results.simulate import simulate
from kindynos.studies.knowing import Gain, by_halves, expected_leads, mean_and_missed
from kindynos.studies.plans import Known, at_period, run_plans

if TYPE_CHECKING:
    import pandas as pd

MOST_PLANS = 64
MOST_SWITCHES = 3  # of a rule that is put into words
SHORTEST = 0.01  # of the trials, of a stretch of a rule that is put into words
TRIED = 64  # trials in which later draws are exchanged: what is known must not move
PERCENTILES = (5, 50, 95)
POLICY = "the policy"


@dataclass(frozen=True, repr=False)
class Policy(Reported):
    """The choices of a model made well, for one outcome.

    ``value`` is its mean under the policy and ``worth`` what that is more than ``best``, the best
    plan that is fixed today; both judged on trials on which the rules were not found, so that the
    best there is may be more: their upper ends reach as much further as ``promised``, what the
    regressions say, is above what was judged. ``shares`` has the
    share of the trials that choose each option, of those that come to the choice; ``rules`` the
    rule of each choice in words; ``table`` the figures under the policy and under each plan.
    """

    outcome: str
    unit: str | None
    better: str
    target: float | None
    value: Estimate
    worth: Estimate
    promised: float
    best: str
    shares: pd.DataFrame
    rules: Mapping[str, str]
    table: pd.DataFrame
    under: Mapping[str, Floats]  # the outcome under the policy, and under each plan ``(trials,)``
    trials: int
    seed: int
    of: str  # the identity of the model
    statement: Statement  # of the model whose choices are made by the rules

    def __repr__(self) -> str:
        return f"<policy of {self.outcome!r}: {self.value}, {self.worth} more than {self.best}>"

    @delegated_to("kindynos.plots", "policy")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw the outcome under the policy beside the best plan fixed today: the share of the
        trials that end below each value.
        """


@dataclass
class _Node:
    """A choice reached by the options before it: its options, what is known, and what was found."""

    choice: str
    options: list[str]
    known: Floats
    names: list[str]
    units: list[str | None]
    leads: Floats  # of the options, the average of both halves
    picked: NDArray[np.int64]  # by the rule of the other half
    found: list[Sequence[Expectation]]  # what tells the leads, found on each half


def policy(statement: Statement, outcome: str, options: SimulationOptions) -> Policy:
    """Return what the choices of a model are worth; see ``Model.policy``."""
    choices = statement.choices
    if not choices:
        raise ModelError(
            "the model has no choices; a model file states them as [choices.NAME], and Python as "
            "model.choice('expand', at=3, knowing=['demand'], options={'wait': {}, ...})"
        )
    plans = plans_of(choices)
    if len(plans) > MOST_PLANS:
        raise ModelError(
            f"the choices have {len(plans)} plans, and at most {MOST_PLANS} can be run; "
            "after= says which option leaves a later choice open"
        )
    for name, choice in choices.items():
        _check_known(statement, name, choice)
    runs = run_plans(statement, plans, outcome, options)
    results, one = runs.results, runs.results[plans[0]]
    sign = -1.0 if one.better == "low" else 1.0
    payoffs = {plan: sign * result.values for plan, result in results.items()}
    nodes: dict[Plan, _Node] = {}
    for plan in plans:
        for depth, (name, _) in enumerate(plan):
            prefix = plan[:depth]
            if prefix not in nodes:
                units = [statement.program.unit(source) for source in choices[name].knowing]
                nodes[prefix] = _node(choices[name], name, runs.known[plan], units)
    gain = _solved(payoffs, nodes)
    means = {plan: float(values.mean()) for plan, values in payoffs.items()}
    fixed = max(plans, key=lambda plan: means[plan])
    reached = _followed(nodes, runs.size)
    rules = {_label(prefix, nodes): _rule(n, reached[prefix]) for prefix, n in nodes.items()}
    under = {POLICY: _under(payoffs, nodes, runs.size) * sign}
    under |= {_in_words(plan): result.values for plan, result in results.items()}
    sample = one.sample
    promised = float(gain.promised.mean())
    short = max(promised - float(gain.judged.mean()), 0.0)
    judged = mean_and_missed(gain, lambda values: _mean(sample.with_values(values), 0.0))
    worth = Estimate(float(judged), judged.low, judged.high + short)
    value = _turned(_mean(sample.with_values(sign * under[POLICY]), short), sign)
    table = _table(under, sample, one.target)
    table.loc[POLICY, "error"] = value.error
    return Policy(
        outcome,
        one.unit,
        one.better,
        one.target,
        value,
        worth,
        promised,
        _in_words(fixed),
        _shares(nodes, reached),
        rules,
        table,
        under,
        runs.size,
        runs.seed,
        identity(statement.program),
        _with_rules(statement, nodes, rules),
    )


def _with_rules(
    statement: Statement, nodes: Mapping[Plan, _Node], rules: Mapping[str, str]
) -> Statement:
    """Return the statement of a model that makes its choices itself: a line ``CHOICE_option`` for
    each, and lines in place of the figures that its options replace. Raises ModelError for a figure
    that a distribution takes.
    """
    choices, program = statement.choices, statement.program
    order = {name: {o: k for k, o in enumerate(c.options)} for name, c in choices.items()}
    lines: dict[str, Line] = {}
    for name, choice in choices.items():
        branches = [(prefix, node) for prefix, node in nodes.items() if node.choice == name]
        earlier = list(dict.fromkeys(before for prefix, _ in branches for before, _ in prefix))
        rule = ChoiceRule(
            choice.at,
            choice.knowing,
            tuple(f"{before}_option" for before in earlier),
            tuple(
                Branch(
                    tuple(
                        order[before][dict(prefix)[before]] if before in dict(prefix) else -1
                        for before in earlier
                    ),
                    node.found,
                )
                for prefix, node in branches
            ),
            "; ".join(text for label, text in rules.items() if label.split(" (")[0] == name),
        )
        lines[f"{name}_option"] = Line(f"{name}_option", function=rule)
    replaced = {f for c in choices.values() for by in c.options.values() for f in by}
    for figure in sorted(replaced):
        own = {
            name: tuple(
                statement.replace(**{figure: by[figure]}).program.constants[figure]
                if figure in by
                else None
                for by in choice.options.values()
            )
            for name, choice in choices.items()
            if any(figure in by for by in choice.options.values())
        }
        function = ReplacedFigure(
            program.constants[figure], tuple(f"{name}_option" for name in own), tuple(own.values())
        )
        lines[figure] = Line(figure, function=function, unit=program.unit(figure))
    quantities = {n: q for n, q in statement.quantities.items() if n not in lines}
    return replace(statement, quantities={**quantities, **lines}, choices={}, scenarios={})


def _mean(sample: Sample, short: float) -> Estimate:
    """Return the mean with at least the error that as many independent trials would leave, and
    above it what the rules may fall ``short`` of the best.
    """
    planned, alone = statistics.mean(sample), statistics.mean(Sample.of(sample.values))
    error = max(planned.error, alone.error) if np.ptp(sample.values) > 0 else 0.0
    return Estimate(float(planned), float(planned) - error, float(planned) + error + short)


def _turned(figure: Estimate, sign: float) -> Estimate:
    low, high = sorted((sign * figure.low, sign * figure.high))
    return Estimate(sign * float(figure), low, high)


def _check_known(statement: Statement, name: str, choice: PlannedChoice) -> None:
    """Raise ModelError for what cannot be known when a choice is made: it follows from this choice
    or a later one, or from draws of later periods, which are exchanged between trials here.
    """
    program, owner = statement.program, f"choice {name!r}"
    if choice.at > (statement.timeline.periods or 0):
        raise ModelError(f"the model has no period {choice.at}", owner=owner)
    replaced = {
        figure
        for other in statement.choices.values()
        if other.at >= choice.at
        for changes in other.options.values()
        for figure in changes
    }
    for name_known in choice.knowing:
        follows = replaced & program.ancestors([name_known])
        if follows:
            raise ModelError(
                f"{name_known!r} follows from the choice (by {', '.join(sorted(follows))}), and "
                "cannot be known before it",
                owner=owner,
            )
    run = simulate(program, SimulationOptions(TRIED, 1, keep=list(program.drivers)))
    drawn = {driver: np.array(run[driver].values) for driver in program.drivers}
    seen = []
    for _ in range(2):
        values, _ = program.evaluate(drawn, TRIED, choice.knowing, lenient=True)
        seen.append(
            [at_period(np.asarray(values[name_known]), choice.at) for name_known in choice.knowing]
        )
        for row in (row for row in drawn.values() if row.ndim == 2):
            row[choice.at :] = np.roll(row[choice.at :], 1, axis=-1)
    for name_known, before, after in zip(choice.knowing, *seen, strict=True):
        if not np.array_equal(before, after, equal_nan=True):
            raise ModelError(
                f"{name_known!r} depends on draws after period {choice.at}, and cannot be known "
                "then",
                owner=owner,
            )


def _node(
    choice: PlannedChoice, name: str, known: Mapping[str | Known, Floats], units: list[str | None]
) -> _Node:
    values_known = np.stack([known[name, source] for source in choice.knowing])
    if not np.isfinite(values_known).all():
        raise RunError(f"what choice {name!r} knows has no value in some trials")
    options, trials = list(choice.options), values_known.shape[1]
    nothing, picked = np.zeros((len(options), trials)), np.zeros(trials, np.int64)
    return _Node(name, options, values_known, list(choice.knowing), units, nothing, picked, [])


def _solved(payoffs: Mapping[Plan, Floats], nodes: Mapping[Plan, _Node]) -> Gain:
    """Return what the policy brings over the best fixed plan, and leave in each node which option
    is picked.
    """
    trials = len(next(iter(payoffs.values())))

    def of_half(found_on: NDArray[np.bool_]) -> Gain:
        fixed = max(payoffs.values(), key=lambda values: float(values[found_on].mean()))
        missed, promised = [0.0], np.zeros(trials)

        def brought(prefix: Plan) -> Floats:
            nonlocal promised
            if prefix not in nodes:
                return payoffs[prefix]
            node = nodes[prefix]
            values = np.stack(
                [brought((*prefix, (node.choice, option))) for option in node.options]
            )
            expected, weak, found = expected_leads(values, node.known, found_on)
            missed.append(weak)
            node.found.append(found)
            node.leads += expected / 2
            best = expected.argmax(axis=0)
            node.picked[~found_on] = best[~found_on]
            promised = values[0] + expected.max(axis=0)  # of the first choice in the end
            return np.asarray(values[best, np.arange(trials)])

        total = brought(())
        return Gain(total - fixed, promised - fixed, max(missed))

    return by_halves(trials, of_half)


def _followed(nodes: Mapping[Plan, _Node], trials: int) -> dict[Plan, NDArray[np.bool_]]:
    """Return in which trials each choice is come to."""
    reached: dict[Plan, NDArray[np.bool_]] = {}
    for prefix in nodes:
        here = np.ones(trials, dtype=bool)
        for depth, (_, option) in enumerate(prefix):
            node = nodes[prefix[:depth]]
            here &= node.picked == node.options.index(option)
        reached[prefix] = here
    return reached


def _under(payoffs: Mapping[Plan, Floats], nodes: Mapping[Plan, _Node], trials: int) -> Floats:
    """Return what each trial brings under the policy."""
    outcomes = np.empty(trials)
    for plan, values in payoffs.items():
        here = np.ones(trials, dtype=bool)
        for depth, (_, option) in enumerate(plan):
            node = nodes[plan[:depth]]
            here &= node.picked == node.options.index(option)
        outcomes[here] = values[here]
    return outcomes


def _in_words(plan: Plan) -> str:
    return ", ".join(f"{name}: {option}" for name, option in plan)


def _label(prefix: Plan, nodes: Mapping[Plan, _Node]) -> str:
    """Return the name of a choice, with the options before it where it is come to in several
    ways.
    """
    choice = nodes[prefix].choice
    ways = sum(node.choice == choice for node in nodes.values())
    return choice if ways == 1 else f"{choice} (after {_in_words(prefix)})"


def _shares(nodes: Mapping[Plan, _Node], reached: Mapping[Plan, NDArray[np.bool_]]) -> pd.DataFrame:
    import pandas as pd

    rows = {}
    for prefix, node in nodes.items():
        here = reached[prefix]
        for place, option in enumerate(node.options):
            chosen = float((node.picked[here] == place).mean()) if here.any() else 0.0
            rows[_label(prefix, nodes), option] = (float(here.mean()), chosen)
    frame = pd.DataFrame.from_dict(rows, orient="index", columns=["comes to it", "chooses"])
    frame.index = pd.MultiIndex.from_tuples(list(rows), names=["choice", "option"])
    return frame


def _rule(node: _Node, reached: NDArray[np.bool_]) -> str:
    """Return the rule of a choice in words, where one quantity decides and it switches seldom."""
    if not reached.any():
        return "never come to"
    best, values_known = node.leads[:, reached].argmax(axis=0), node.known[:, reached]
    if (best == best[0]).all():
        return node.options[int(best[0])]
    moving = [place for place in range(len(values_known)) if np.ptp(values_known[place]) > 0]
    if len(moving) != 1:
        return f"by {' and '.join(name.replace('_', ' ') for name in node.names)} together"
    x, name = values_known[moving[0]], node.names[moving[0]].replace("_", " ")
    order = np.argsort(x, kind="stable")
    segments = _segments(best[order])
    if len(segments) - 1 > MOST_SWITCHES:
        return f"by {name}, with {len(segments) - 1} switches"
    step, unit = float(np.std(x)) / 50, node.units[moving[0]]
    parts = [node.options[segments[0][1]]]
    for begin, option in segments[1:]:
        at = float(x[order[begin - 1 : begin + 1]].mean())
        shown = threshold(0.0 if abs(at) < step else float(f"{at:.3g}"), unit)
        parts.append(f"{node.options[option]} if {name} is above {shown}")
    return "; ".join(parts)


def _segments(best: NDArray[np.int64]) -> list[tuple[int, int]]:
    """Return where each stretch of one option begins, and the option; short ones, in which it
    matters little, belong to the one before.
    """
    starts = [0, *(np.flatnonzero(np.diff(best)) + 1).tolist(), len(best)]
    segments: list[tuple[int, int]] = []
    for begin, end in pairwise(starts):
        option = int(best[begin])
        long = end - begin >= SHORTEST * len(best)
        if not segments or (long and option != segments[-1][1]):
            segments.append((begin, option))
    return segments


def _table(under: Mapping[str, Floats], sample: Sample, target: float | None) -> pd.DataFrame:
    """Return the mean, percentiles and chance of missing the target of each plan, the policy
    first.
    """
    import pandas as pd

    rows: dict[str, dict[str, Any]] = {}
    for name, values in under.items():
        own = sample.with_values(values)
        mean = statistics.mean(own)
        row = {"mean": float(mean), "error": mean.error}
        row |= {f"P{q}": float(statistics.percentile(own, q)) for q in PERCENTILES}
        if target is not None:
            row[f"chance below {target:g}"] = float(statistics.chance(own, below=target))
        rows[name] = row
    frame = pd.DataFrame.from_dict(rows, orient="index")
    frame.index.name = "plan"
    return frame
