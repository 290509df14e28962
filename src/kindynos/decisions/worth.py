"""What would change a choice: another figure, knowing more before choosing, or a test that errs.

Source: Raiffa and Schlaifer, Applied Statistical Decision Theory (1961), chapters 4 and 5.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.decisions.decision import RULES, TRIALS, Decision, DecisionDraws
from kindynos.decisions.solve import (
    CONSISTENT,
    Rollback,
    Solution,
    count_of_ways,
    mean_error,
    solved,
    tail_share,
    ways,
)
from kindynos.decisions.tree import Choice, Event, EventTest, Pay, Payoff, Tree, children, walk
from kindynos.distributions.base import Distribution
from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import checked_seed
from kindynos.studies.knowing import Gain, by_halves, expected_leads, worth_table
from kindynos.validate import array_of, check_integer, checked, finite, known_name, mapping, one_of

if TYPE_CHECKING:
    import pandas as pd


MOST_WORLDS = 50_000  # combinations of outcomes that are looked at one by one
ROUNDING = 1e-12  # of the payoffs
STEPS = 33  # of a range in which a switch is sought


def _options(decision: Decision, options: Mapping[str, Any]) -> tuple[str, float, int, int]:
    by_name = {"by": decision.rule, "level": None, "trials": TRIALS, "seed": 1}
    for name in options:
        if name not in by_name:
            raise ParameterError(f"no option {name!r}", unknown=name, known=by_name)
    selected = {**by_name, **options}
    if selected["by"] is None:
        selected["by"] = decision.rule
    return (
        one_of("by", selected["by"], RULES),
        tail_share(selected["by"], selected["level"]),
        check_integer("trials", selected["trials"], least=2),
        checked_seed(selected["seed"]),
    )


def _number(decision: Decision, name: str) -> None:
    known_name("given quantity", name, decision.given)


@checked
def sweep(decision: Decision, name: str, values: Any, **options: Any) -> pd.DataFrame:
    """Return each alternative's value over values of a quantity; see ``Decision.sweep``."""
    import pandas as pd

    _number(decision, name)
    by, level, trials, seed = _options(decision, options)
    grid = np.atleast_1d(array_of("values", values))
    rows: dict[float, dict[str, Any]] = {}
    for value in grid.tolist():
        solution = solved(decision.replace(**{name: value}), by, level, trials, seed)
        rows[value] = {
            alternative: float(solution.parts[(alternative,)].value)
            for alternative in decision.alternatives
        }
        rows[value]["best"] = solution.best
    table = pd.DataFrame.from_dict(rows, orient="index")
    table.index.name = name
    return table


@checked
def switchover_points(
    decision: Decision, name: str, low: float, high: float, **options: Any
) -> pd.DataFrame:
    """Return where the best alternative changes; see ``Decision.switchover_points``."""
    import pandas as pd

    _number(decision, name)
    by, level, trials, seed = _options(decision, options)
    low, high = finite("low", low), finite("high", high)
    if not low < high:
        raise ParameterError(f"low must be below high ({high:g}), not {low:g}")

    def best(value: float) -> str:
        return str(solved(decision.replace(**{name: value}), by, level, trials, seed).best)

    grid = np.linspace(low, high, STEPS).tolist()
    points, before = [], best(grid[0])
    for one, two in pairwise(grid):
        after = best(two)
        if after == before:
            continue
        near, far, changed = one, two, after
        for _ in range(60):
            middle = (near + far) / 2
            there = best(middle)
            near, far, changed = (
                (middle, far, changed) if there == before else (near, middle, there)
            )
        points.append((far, before, changed))
        before = after
    return pd.DataFrame(points, columns=[name, "best below", "best above"])


@checked
def perfect_information(
    decision: Decision, study_cost: Mapping[str, float] | None = None, **options: Any
) -> pd.DataFrame:
    """Return what knowing each event and quantity first would be worth; see
    ``Decision.perfect_information``.
    """
    by, level, trials, seed = _options(decision, options)
    _consistent(by)
    base = solved(decision, by, level, trials, seed)
    events = {f"event {name}": event for name, event in decision.events.items()}
    drawn = [name for name, value in decision.given.items() if isinstance(value, Distribution)]

    def gain_of(names: tuple[str, ...]) -> Gain | None:
        if not names:
            return _everything(base)
        if names[0] in events:
            return _known_event(base, events[names[0]]) if len(names) == 1 else None
        return None if names[-1] in events else _known_quantities(base, names)

    return worth_table(gain_of, [*events, *drawn], partial(_in_money, base), study_cost)


def _consistent(by: str) -> None:
    if by not in CONSISTENT:
        raise ParameterError(
            "the value of knowing is measured by the mean or the certainty equivalent"
        )


def _in_money(base: Solution, gains: Floats) -> Estimate:
    """Return the mean of what values (or utilities) gain, one per trial or one for all, in the
    units of the payoffs; its error is 0 where nothing was drawn, or the gain is always the same.
    """
    plain = base._brought(base.draws, base.rolling.policy)
    mean = float(gains.mean())
    error = mean_error(base.draws, gains, 1.0, mean)
    if error <= ROUNDING * float(np.abs(plain).max()):
        error = 0.0
    if base.rolling.utility is None or base.by == "mean":
        return symmetrical(mean, error)
    expected, back = float(np.mean(plain)), base.rolling.utility.back
    worth, low, high = (
        back(expected + mean + side * error) - back(expected) for side in (0, -1, 1)
    )
    return symmetrical(worth, max(high - worth, worth - low))


def _over_plain(base: Solution, informed: Any) -> Gain:
    """Return what knowledge brings over the decision as it is."""
    plain = base._brought(base.draws, base.rolling.policy)
    gains = np.atleast_1d(np.asarray(informed - plain, dtype=np.float64))
    return Gain(gains, gains)


def _known_event(base: Solution, event: Event) -> Gain:
    chances = base.draws.chances(event)
    informed: Any = 0.0
    for outcome, chance in chances.items():
        if float(np.mean(chance)) > 0:
            sure = {name: float(name == outcome) for name in chances}
            solved_knowing = _solved_knowing(base, {event.name: sure}, chance)
            informed = informed + chance * solved_knowing._brought(
                solved_knowing.draws, solved_knowing.rolling.policy
            )
    return _over_plain(base, informed)


def _solved_knowing(
    base: Solution, valid: Mapping[str, Mapping[str, Any]], weight: Any
) -> Solution:
    """Return the decision solved with better known chances of events, on the same draws."""
    return solved(base.decision, base.by, base.level, base.trials, base.draws.seed, valid, weight)


@dataclass
class _Informed(Rollback):
    """A pass that chooses in each trial what is best to expect given what is ``known``
    ``(quantities, trials)``, by rules found on the trials ``found_on``.
    """

    known: Floats = field(default_factory=lambda: np.empty((0, 0)))
    found_on: Any = None
    missed: float = 0.0
    promised: Any = 0.0  # by the rule of the first choice

    def _choose(self, node: Choice, path: tuple[str, ...], weight: Any, paid: Any) -> Any:
        count = self.known.shape[1]
        rolled = [
            self.roll(then, (*path, name), weight, paid) for name, then in node.alternatives.items()
        ]
        values = np.stack([np.broadcast_to(np.asarray(row, float), (count,)) for row in rolled])
        expected, missed, _ = expected_leads(values * weight, self.known, self.found_on)
        self.missed = max(self.missed, missed)
        self.promised = values[0] + expected.max(axis=0)
        return "", values[expected.argmax(axis=0), np.arange(count)]


def _known_quantities(base: Solution, names: tuple[str, ...]) -> Gain:
    """Return what it brings to know drawn quantities, each half of the trials by the rules that are
    found on the other.
    """
    drawn = np.stack([np.asarray(base.draws.quantities[name], dtype=np.float64) for name in names])
    rolling, root = base.rolling, base.decision.root

    def of_half(found_on: Any) -> Gain:
        part = replace(base.draws, chosen=np.flatnonzero(found_on))
        fixed = replace(rolling, draws=part, policy={}, parts=[], record=False)
        fixed.roll(root, (), 1.0, 0.0)
        plain = base._brought(base.draws, fixed.policy)
        passed = _Informed(
            base.draws, base.by, base.level, rolling.utility, rolling.sign,
            record=False, known=drawn, found_on=found_on,
        )  # fmt: skip
        total = passed.roll(root, (), 1.0, 0.0)
        return Gain(total - plain, passed.promised - plain, passed.missed)

    return by_halves(drawn.shape[1], of_half)


def _everything(base: Solution) -> Gain | None:
    """Return what it brings to know all events and quantities; None where there are too many
    combinations.
    """
    decision, rolling = base.decision, base.rolling
    if count_of_ways(decision) > MOST_WORLDS:
        return None
    total: Any = 0.0
    for turned, weight in ways(base.draws):
        if float(np.max(weight)) > 0:
            best = _best_of(decision.root, (), base.draws, turned, 0.0, rolling.sign)
            worth = (
                best
                if rolling.utility is None or base.by == "mean"
                else rolling.utility.of(np.asarray(best))
            )
            total = total + weight * worth
    return _over_plain(base, total)


def _best_of(
    node: Tree,
    path: tuple[str, ...],
    draws: DecisionDraws,
    turned: Mapping[str, str],
    paid: Any,
    sign: float,
) -> Any:
    """Return the most that can be had in a world that is known."""
    where = " > ".join(path)
    if isinstance(node, Payoff):
        return sign * draws.total(paid, node.amount, where)
    if isinstance(node, Pay):
        return _best_of(
            node.then, path, draws, turned, paid + draws.amount(node.amount, where), sign
        )
    if isinstance(node, Event | EventTest):
        outcome = turned[node.name]
        then = dict(children(node))[outcome]
        return _best_of(then, (*path, outcome), draws, turned, paid, sign)
    assert isinstance(node, Choice)
    bests = [
        _best_of(then, (*path, name), draws, turned, paid, sign)
        for name, then in node.alternatives.items()
    ]
    best = bests[0]
    for other in bests[1:]:
        best = np.maximum(best, other)
    return best


@checked
def _posterior(joint: Mapping[str, Any], chance: Any) -> dict[str, Any]:
    """Return the chance of each outcome once a signal is seen, by Bayes' rule, from those of both
    and that of the signal.
    """
    with np.errstate(all="ignore"):
        shares = {outcome: np.nan_to_num(both / chance) for outcome, both in joint.items()}
    return {outcome: one if np.ndim(one) else float(one) for outcome, one in shares.items()}


def sample_information_value(
    decision: Decision, event: str, signals: Mapping[str, Mapping[str, float]], **options: Any
) -> pd.DataFrame:
    """Return what a test of an event is worth, and what to do on each signal; see
    ``Decision.sample_information_value``.

    The table has one row per signal: its chance, the chance of each outcome once it is seen, the
    best alternative and its value; ``attrs["worth"]`` is what the test is worth before its price,
    and ``attrs["error"]`` the error of that where payoffs are drawn.
    """
    import pandas as pd

    by, level, trials, seed = _options(decision, options)
    _consistent(by)
    known_name("event", event, decision.events)
    outcomes = list(decision.events[event].outcomes)
    table = {
        str(signal): _likelihoods(str(signal), row, outcomes)
        for signal, row in mapping("signals", signals, "chances by signal").items()
    }
    for outcome in outcomes:
        total = sum(row[outcome] for row in table.values())
        if abs(total - 1) > 1e-9:
            raise ParameterError(
                f"the chances of the signals given {outcome!r} add up to {total:.6g}; they must "
                "add up to 1"
            )
    base = solved(decision, by, level, trials, seed)
    prior = base.draws.chances(decision.events[event])
    informed: Any = 0.0
    rows = {}
    for signal, row in table.items():
        joint = {outcome: prior[outcome] * row[outcome] for outcome in outcomes}
        chance = sum(joint.values())
        if float(np.max(chance)) <= 0:
            continue
        solved_knowing = _solved_knowing(base, {event: _posterior(joint, chance)}, chance)
        informed = informed + chance * solved_knowing._brought(
            solved_knowing.draws, solved_knowing.rolling.policy
        )
        weights = {
            f"chance of {outcome}": float(np.mean(joint[outcome]) / np.mean(chance))
            for outcome in outcomes
        }
        rows[signal] = {
            "chance": float(np.mean(chance)),
            **weights,
            "best": solved_knowing.best,
            "value": float(solved_knowing.value),
        }
    by_signal = pd.DataFrame.from_dict(rows, orient="index")
    by_signal.index.name = "signal"
    worth = _in_money(base, _over_plain(base, informed).judged)
    by_signal.attrs["worth"], by_signal.attrs["error"] = (max(float(worth), 0.0), worth.error)
    return by_signal


@checked
def worth_of_tests(decision: Decision, **options: Any) -> pd.DataFrame:
    """Return what the tests of events are worth; see ``Decision.worth_of_tests``."""
    import pandas as pd

    by, level, trials, seed = _options(decision, options)
    _consistent(by)
    base = solved(decision, by, level, trials, seed)
    rows = []
    for path, choice in walk(decision.root):
        if not isinstance(choice, Choice):
            continue
        for name, node in choice.alternatives.items():
            test = node.then if isinstance(node, Pay) else node
            others = [other for other in choice.alternatives if not _tests(choice, other)]
            if not isinstance(test, EventTest) or not others:
                continue
            figure = {other: float(base.parts[(*path, other)].value) for other in others}
            best = max(others, key=lambda other: base.rolling.sign * figure[other])
            net = _more(base, path, name, best)
            # without its cost, it is the same tree without the payment before the test
            free = _replaced(decision, _with(decision.root, (*path, name), test))
            gross = _more(solved(free, by, level, trials, seed), path, name, best)
            rows.append(
                (" > ".join(path) or decision.name, test.name, test.event, *gross, *net,
                 base.rolling.policy[path] == name)
            )  # fmt: skip
    columns = [
        "choice", "test", "event", "worth", "error", "net of cost", "error of net", "best"
    ]  # fmt: skip
    return pd.DataFrame(rows, columns=columns).set_index(["choice", "test"])


def _tests(choice: Choice, name: str) -> bool:
    """Return whether an alternative begins with a test."""
    node = choice.alternatives[name]
    return isinstance(node.then if isinstance(node, Pay) else node, EventTest)


def _more(base: Solution, path: tuple[str, ...], name: str, other: str) -> tuple[float, float]:
    """Return by how much one alternative of a choice is worth more than another, and the error of
    that, on the same draws.
    """
    sign = base.rolling.sign
    parts = [base.parts[(*path, alternative)].value for alternative in (name, other)]
    gap = sign * (float(parts[0]) - float(parts[1]))
    if base.rolling.utility is not None and base.by != "mean":
        return gap, math.hypot(parts[0].error, parts[1].error)
    chance = base.parts[path].chance
    policies = ({**base.rolling.policy, path: alternative} for alternative in (name, other))
    alternative, two = (base._brought(base.draws, policy) for policy in policies)
    gains = np.atleast_1d(np.asarray(alternative - two, dtype=np.float64))
    error = Z * float(gains.std(ddof=1)) / math.sqrt(gains.size) if gains.size > 1 else 0.0
    return gap, error / chance if chance > 0 else 0.0


def _with(node: Tree, path: tuple[str, ...], tree: Tree) -> Tree:
    """Return a tree with another part at a path of branches."""
    if not path:
        return tree
    if isinstance(node, Pay):
        return Pay(node.amount, _with(node.then, path, tree))
    first, *rest = path
    inner = {
        name: _with(then, tuple(rest), tree) if name == first else then
        for name, then in children(node)
    }
    if isinstance(node, Choice):
        return Choice(node.name, inner)
    if isinstance(node, EventTest):
        return EventTest(node.name, node.event, node.signals, inner)
    assert isinstance(node, Event)
    return Event(node.name, {n: (node.outcomes[n][0], then) for n, then in inner.items()})


def _replaced(decision: Decision, root: Tree) -> Decision:
    """Return a decision with another tree."""
    assert isinstance(root, Choice)
    return replace(decision, alternatives=root.alternatives)


def _likelihoods(signal: str, row: Any, outcomes: list[str]) -> dict[str, float]:
    likelihoods = {}
    given = mapping(f"signal {signal!r}", row, "chances by outcome")
    for outcome in outcomes:
        if outcome not in given:
            raise ParameterError(f"signal {signal!r} needs its chance given {outcome!r}")
        number = finite(f"the chance of {signal!r} given {outcome!r}", given[outcome])
        if not 0 <= number <= 1:
            raise ParameterError(
                f"the chance of {signal!r} given {outcome!r} must be from 0 to 1, not {number:g}"
            )
        likelihoods[outcome] = number
    for outcome in given:
        if outcome not in outcomes:
            raise ParameterError(
                f"signal {signal!r}: no outcome {outcome!r}", unknown=str(outcome), known=outcomes
            )
    return likelihoods
