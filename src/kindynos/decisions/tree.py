"""The tree of a decision: choices, chance events, payments on the way, and payoffs at the ends.

Source: Raiffa, Decision Analysis (1968).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.distributions.base import Distribution
from kindynos.errors import ParameterError, concerning
from kindynos.formula.parse import parse
from kindynos.formula.tree import Expression as Formula
from kindynos.results.result import Result
from kindynos.validate import checked, checked_init, finite, instance, mapping, owner_is, words

CLOSE = 1e-9
REST = "rest"
Amount = float | Distribution | Result | str | dict[str, Any]


@dataclass(frozen=True)
class ModelOutcome:
    """An outcome of a whole model as a payoff: it is simulated with the trials and the seed of the
    decision.
    """

    model: Any
    outcome: str

    def result(self, trials: int, seed: int) -> Result:
        """Return the outcome of a run; raises KindynosError as the model does."""
        key = (trials, seed)
        kept: dict[Any, Result] = self.__dict__.setdefault("_kept", {})
        if key not in kept:
            kept[key] = self.model.simulate(trials, seed=seed)[self.outcome]
        return kept[key]


def ranked_payoffs(result: Result) -> Any:
    """Return the payoffs of a result ``(trials,)``, in which trials without a value rank as its
    ``missing`` says; raises ParameterError where it does not say.
    """
    if result.unranked:
        raise ParameterError(
            f"{100 * result.unranked:.1f} % of the trials of {result.name!r} have no value, and a "
            'decision cannot rank them; missing="worst" (or "best", or a number) on the outcome '
            "says how they do"
        )
    return np.asarray(result.ranked.values)


@dataclass(frozen=True)
class Payoff:
    """The end of a branch: an amount, a distribution, a formula, the result of a run, or a table of
    these by criterion.
    """

    amount: Any


@checked_init
@dataclass(frozen=True)
class Pay:
    """An amount that is paid (or, with a minus, spent) on the way, and what follows.

    >>> from kindynos import Decision, Pay
    >>> Decision("Survey", {"survey": Pay(-0.2, 1.0), "none": 0.7}).solve().best
    'survey'
    """

    amount: Any
    then: Any

    def __post_init__(self) -> None:
        object.__setattr__(self, "amount", amount_of(self.amount, "Pay"))
        object.__setattr__(self, "then", node_of(self.then, "Pay"))


@checked_init
@dataclass(frozen=True)
class Choice:
    """A choice among alternatives by name, made with the knowledge of the events before it and of
    nothing else.

    >>> from kindynos import Choice, Decision
    >>> dock = Choice("dock", {"now": 2.0, "later": 1.5})
    >>> Decision("Yard", {"keep": dock, "sell": 1.8}).solve().best
    'keep'
    """

    name: str
    alternatives: Mapping[str, Any]

    @owner_is("choice {self.name!r}")
    def __post_init__(self) -> None:
        _named(self.name)
        if not isinstance(self.alternatives, Mapping) or not self.alternatives:
            raise ParameterError("needs at least one alternative, by name")
        made = {
            _named(str(name)): node_of(node, f"choice {self.name!r}, {name}")
            for name, node in self.alternatives.items()
        }
        object.__setattr__(self, "alternatives", made)


@checked_init
@dataclass(frozen=True)
class Event:
    """A chance event: outcomes by name, each with its chance and what follows.

    ``{"granted": (0.7, then), "refused": ("rest", then)}``; chances add up to 1, and ``"rest"``
    takes what is missing. A chance may be a number, a distribution, or a formula over the
    decision's quantities. Events of one name are one event.

    >>> from kindynos import Decision, Event
    >>> demand = Event("demand", {"high": (0.4, 3.0), "low": ("rest", -1.0)})
    >>> round(float(Decision("Second ferry", {"buy": demand, "wait": 0.0}).solve().value), 9)
    0.6
    """

    name: str
    outcomes: Mapping[str, Any]

    @owner_is("event {self.name!r}")
    def __post_init__(self) -> None:
        _named(self.name)
        if not isinstance(self.outcomes, Mapping) or not self.outcomes:
            raise ParameterError("needs at least one outcome, by name")
        made: dict[str, tuple[Any, Any]] = {}
        for name, pair in self.outcomes.items():
            if not isinstance(pair, tuple | list) or len(pair) != 2:
                raise ParameterError(
                    f"outcome {name!r} must be a chance and what follows, not {pair!r:.60}"
                )
            made[_named(str(name))] = (
                _chance(str(name), pair[0]),
                node_of(pair[1], f"event {self.name!r}, {name}"),
            )
        chances = [chance for chance, _ in made.values()]
        if chances.count(REST) > 1:
            raise ParameterError("only one outcome can take the rest")
        if all(isinstance(chance, float) for chance in chances) and abs(sum(chances) - 1) > CLOSE:
            raise ParameterError(
                f"its chances add up to {sum(chances):.6g}; they must add up to 1, or one be 'rest'"
            )
        total = sum(chance for chance in chances if isinstance(chance, float))
        if total > 1 + CLOSE:
            raise ParameterError(
                f"its chances add up to {total:.6g} already; they must add up to 1"
            )
        if REST not in chances and not all(isinstance(chance, float) for chance in chances):
            raise ParameterError(
                "a chance that is drawn or calculated needs an outcome with the chance 'rest'"
            )
        object.__setattr__(self, "outcomes", made)


@checked_init
@dataclass(frozen=True)
class EventTest:
    """A test of an event, such as a survey or a trial run, whose signals tell something of how the
    event will turn out; what it costs is a ``Pay`` before it.

    ``event`` is the name of an event further down; ``signals`` are the chances of each signal by
    outcome of the event, ``{"good": {"high": 0.8, "low": 0.3}, "bad": "rest"}``, and ``then`` is
    what follows, for all signals or by signal. After a signal the event's chances are those that
    Bayes' rule gives; each choice there is made with that knowledge. Tests of one event err
    independently of each other, and tests of one name are one test.

    Source: Raiffa and Schlaifer, Applied Statistical Decision Theory (1961), chapter 1.

    >>> from kindynos import Choice, Decision, Event, EventTest, Pay
    >>> demand = Event("demand", {"high": (0.4, 12.0), "low": ("rest", -6.0)})
    >>> launch = Choice("launch?", {"launch": demand, "drop": 0.0})
    >>> survey = EventTest("survey", "demand", {"good": {"high": 0.9, "low": 0.2}, "bad": "rest"},
    ...                    launch)
    >>> Decision("new route", {"survey": Pay(-0.5, survey), "launch": demand}).solve().best
    'survey'
    """

    name: str
    event: str
    signals: Mapping[str, Any]
    then: Any

    @owner_is("test {self.name!r}")
    def __post_init__(self) -> None:
        _named(self.name)
        _named(self.event)
        stated = mapping("signals", self.signals, "chances by signal")
        rests = [signal for signal, row in stated.items() if row == REST]
        if len(stated) < 2 or len(rests) > 1:
            raise ParameterError("needs at least two signals; one may take the rest")
        by_name = {
            _named(signal): _likelihoods(signal, row)
            for signal, row in stated.items()
            if row != REST
        }
        outcomes = list(next(iter(by_name.values())))
        if any(set(row) != set(outcomes) for row in by_name.values()):
            raise ParameterError("all signals need chances for the same outcomes")
        for outcome in outcomes:
            total = sum(row[outcome] for row in by_name.values())
            if total > 1 + CLOSE or (not rests and abs(total - 1) > CLOSE):
                raise ParameterError(
                    f"the chances of the signals given {outcome!r} add up to {total:.6g}; they "
                    "must add up to 1"
                )
        for signal in rests:
            by_name[_named(signal)] = {
                outcome: max(1 - sum(row[outcome] for row in by_name.values()), 0.0)
                for outcome in outcomes
            }
        by_signal = isinstance(self.then, Mapping) and set(self.then) == set(by_name)
        object.__setattr__(self, "signals", {signal: by_name[signal] for signal in stated})
        made = {
            signal: node_of(
                self.then[signal] if by_signal else self.then, f"test {self.name!r}, {signal}"
            )
            for signal in stated
        }
        object.__setattr__(self, "then", made)

    @checked
    def posterior(self, prior: Mapping[str, Any]) -> dict[str, tuple[Any, dict[str, Any]]]:
        """Return for each signal its chance and the chances of the event's outcomes once it is
        seen, by Bayes' rule; numbers, or one per trial.
        """
        by_signal = {}
        for signal, row in self.signals.items():
            joint = {outcome: chance * row[outcome] for outcome, chance in prior.items()}
            total = sum(joint.values())
            with np.errstate(all="ignore"):
                after = {
                    outcome: np.where(total > 0, share / np.asarray(total), prior[outcome])
                    for outcome, share in joint.items()
                }
            by_signal[signal] = (
                total,
                {
                    outcome: share if share.ndim else float(share)
                    for outcome, share in after.items()
                },
            )
        return by_signal


def _likelihoods(signal: str, row: Any) -> dict[str, float]:
    likelihoods = {}
    for outcome, chance in mapping(f"signal {signal!r}", row, "chances by outcome").items():
        likelihoods[str(outcome)] = _chance(
            f"{signal} given {outcome}",
            float(finite(f"the chance of {signal!r} given {outcome!r}", chance)),
        )
    if not likelihoods:
        raise ParameterError(f"signal {signal!r} needs its chance by outcome")
    return likelihoods


def _named(name: Any) -> str:
    return str(words("name", instance("name", name, str, "a text")))


Tree = Payoff | Pay | Choice | Event | EventTest


def node_of(node: Any, where: str) -> Tree:
    """Return a part of a tree; anything but one is the amount of a payoff."""
    if isinstance(node, Payoff | Pay | Choice | Event | EventTest):
        return node
    return Payoff(amount_of(node, where))


def amount_of(amount: Any, where: str) -> Any:
    """Return an amount that is checked: a number, a distribution, a formula, a result, or a table
    of these.
    """
    if isinstance(amount, Mapping):
        if not amount:
            raise ParameterError("a payoff by criterion must name at least one", owner=where)
        return {str(key): amount_of(value, f"{where}, {key}") for key, value in amount.items()}
    if isinstance(amount, Distribution | Result | ModelOutcome):
        return amount
    if isinstance(amount, str):
        parse(amount)
        return amount
    with concerning(where):
        return finite("a payoff", amount)


def _chance(name: str, chance: Any) -> Any:
    if isinstance(chance, str):
        if chance != REST:
            parse(chance)
        return chance
    if isinstance(chance, Distribution):
        low, high = chance.support
        if low < 0 or high > 1:
            raise ParameterError(
                f"the chance of {name!r} must lie from 0 to 1, and {chance!r:.60} does not"
            )
        return chance
    number = finite(f"the chance of {name!r}", chance)
    if not 0 <= number <= 1:
        raise ParameterError(f"the chance of {name!r} must be from 0 to 1, not {number:g}")
    return number


def children(node: Tree) -> list[tuple[str, Tree]]:
    """Return what follows a part of a tree, by the name of the branch."""
    if isinstance(node, Choice):
        return list(node.alternatives.items())
    if isinstance(node, Event):
        return [(name, then) for name, (_, then) in node.outcomes.items()]
    if isinstance(node, EventTest):
        return list(node.then.items())
    return [("", node.then)] if isinstance(node, Pay) else []


def walk(node: Tree, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Tree]]:
    """Give every part of a tree with the branches that lead to it."""
    yield path, node
    for name, child in children(node):
        yield from walk(child, (*path, name) if name else path)


def formulas(amount: Any) -> Iterator[Formula]:
    """Give the formulas in an amount or a chance."""
    if isinstance(amount, str) and amount != REST:
        yield parse(amount)
    elif isinstance(amount, dict):
        for formula in amount.values():
            yield from formulas(formula)


def check_tree(root: Tree, quantities: Mapping[str, Any]) -> None:
    """Raise ParameterError for names that nothing states, an event twice on a branch, and events of
    one name that differ.
    """
    chances: dict[str, dict[str, Any]] = {}
    for _, node in walk(root):
        amounts: list[Any] = [node.amount] if isinstance(node, Pay | Payoff) else []
        if isinstance(node, Event):
            own = {name: chance for name, (chance, _) in node.outcomes.items()}
            if chances.setdefault(node.name, own) != own:
                raise ParameterError(
                    f"event {node.name!r} has other chances elsewhere; events of one name are "
                    "one event"
                )
            amounts = list(own.values())
        for formula in (formula for amount in amounts for formula in formulas(amount)):
            for name in formula.names():
                if name not in quantities:
                    raise ParameterError(f"{name!r} is not stated", unknown=name, known=quantities)
    _check_circles(root, ())
    _check_tests(root)


def _check_tests(root: Tree) -> None:
    """Raise ParameterError for a test of something other than an event, and for tests of one name
    that differ.
    """
    parts = [node for _, node in walk(root)]
    events = {node.name: node for node in parts if isinstance(node, Event)}
    tests: dict[str, EventTest] = {}
    for node in parts:
        if not isinstance(node, EventTest):
            continue
        with concerning(f"test {node.name!r}"):
            _check_test(node, events)
        other = tests.setdefault(node.name, node)
        if (other.event, other.signals) != (node.event, node.signals):
            raise ParameterError(
                f"test {node.name!r} has other signals elsewhere; tests of one name are one test"
            )


def _check_test(test: EventTest, events: Mapping[str, Event]) -> None:
    if test.event not in events:
        raise ParameterError(f"no event {test.event!r}", unknown=test.event, known=events)
    if test.name in events:
        raise ParameterError("an event has the same name")
    outcomes = set(events[test.event].outcomes)
    for signal, row in test.signals.items():
        if set(row) != outcomes:
            raise ParameterError(
                f"signal {signal!r} needs its chance for each of {', '.join(outcomes)}"
            )


def _check_circles(node: Tree, passed: tuple[str, ...]) -> None:
    if isinstance(node, EventTest) and node.event in passed:
        raise ParameterError(f"test {node.name!r} comes after its event {node.event!r}")
    if isinstance(node, Event | Choice | EventTest):
        if node.name in passed:
            raise ParameterError(
                f"{node.name!r} is there twice on one branch; a tree has no circles"
            )
        passed = (*passed, node.name)
    for _, child in children(node):
        _check_circles(child, passed)


def sizes(root: Tree) -> tuple[int, int]:
    """Return the number of parts of a tree, and of its ends."""
    parts = [node for _, node in walk(root)]
    return len(parts), sum(isinstance(node, Payoff) for node in parts)
