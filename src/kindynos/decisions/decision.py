"""A decision: a tree, the quantities in it, and what is wanted."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.decisions.preferences import Utility, Weights, exponential, increasing
from kindynos.decisions.tree import (
    REST,
    Choice,
    Event,
    EventTest,
    ModelOutcome,
    Pay,
    Payoff,
    check_tree,
    ranked_payoffs,
    walk,
)
from kindynos.delegation import delegated_to
from kindynos.distributions.base import Distribution
from kindynos.errors import ParameterError
from kindynos.formula.parse import is_name, parse
from kindynos.formula.tree import Name, Operation, Scope
from kindynos.inference.sample import Sample
from kindynos.results.result import Result
from kindynos.sampling.streams import Seed, stream
from kindynos.validate import checked, checked_init, finite, instance, mapping, one_of, owner_is

if TYPE_CHECKING:
    import pandas as pd


RULES = ("mean", "certainty equivalent", "percentile", "expected shortfall")
TRIALS = 10_000


@checked_init
@dataclass(frozen=True)
class Decision:
    """A choice among ``alternatives`` by name, each with what follows: events, later choices,
    payments, a payoff.

    ``given`` are quantities that chances and payoffs may use in formulas: numbers and
    distributions, drawn once a trial. With several ``criteria`` (name to unit), payoffs are tables
    by criterion and ``score`` is the expression that combines them; ``better="low"`` wants little
    of it. ``risk_tolerance`` or an increasing ``utility`` values risk.

    >>> from kindynos import Decision, Event
    >>> permit = Event("permit", {"granted": (0.6, 9.0), "refused": ("rest", -4.0)})
    >>> Decision("night ferry", {"buy": permit, "stay": 3.0}).solve().best
    'buy'
    """

    name: str
    alternatives: Mapping[str, Any]
    given: Mapping[str, Any] = field(default_factory=dict)
    criteria: Mapping[str, str | None] = field(default_factory=dict)
    score: Any = None
    unit: str | None = None
    better: str = "high"
    risk_tolerance: float | None = None
    utility: Any = None

    @owner_is("decision {self.name!r:.60}")
    def __post_init__(self) -> None:
        instance("name", self.name, str, "a text")
        root = Choice(self.name, self.alternatives)
        object.__setattr__(self, "alternatives", root.alternatives)
        given: dict[str, Any] = {}
        for name, value in mapping("given", self.given, "quantities by name").items():
            if not is_name(name):
                raise ParameterError(f"{name!r:.40} cannot be the name of a quantity")
            given[name] = value if isinstance(value, Distribution) else finite(name, value)
        object.__setattr__(self, "given", given)
        object.__setattr__(
            self, "criteria", mapping("criteria", self.criteria, "units by criterion")
        )
        one_of("better", self.better, ("high", "low"))
        if self.risk_tolerance is not None and self.utility is not None:
            raise ParameterError("say risk_tolerance= or utility=, and not both")
        if isinstance(self.score, Weights):
            object.__setattr__(self, "score", self.score.expression)
        check_tree(root, given)
        self._check_criteria()

    def _check_criteria(self) -> None:
        if self.criteria and self.score is None:
            raise ParameterError("several criteria need score=, the expression that combines them")
        if self.score is not None and not self.criteria:
            raise ParameterError("score= combines criteria; say criteria={name: unit}")
        for path, node in walk(self.root):
            if isinstance(node, Payoff | Pay):
                self._check_amount(" > ".join(path) or self.name, node.amount)
        if self.score is not None:
            self._check_score()

    def _check_amount(self, where: str, amount: Any) -> None:
        tabled = isinstance(amount, dict)
        if tabled != bool(self.criteria) and not (isinstance(amount, float) and amount == 0.0):
            what = "one amount, not a table" if tabled else "a table by criterion"
            raise ParameterError(f"the payoff at {where} must be {what}")
        for name in amount if tabled else ():
            if name not in self.criteria:
                raise ParameterError(
                    f"no criterion {name!r} (at {where})", unknown=name, known=self.criteria
                )

    def _check_score(self) -> None:
        rows = [*self.criteria, *self.given]
        for node in parse(self.score).walk():
            if isinstance(node, Name) and node.name not in rows:
                raise ParameterError(f"score uses {node.name!r}", unknown=node.name, known=rows)
            if not isinstance(node, Operation) or node.symbol not in ("+", "-"):
                continue
            sides = [
                part.name
                for part in node.parts
                if isinstance(part, Name) and part.name in self.criteria
            ]
            if len(sides) == 2 and len({self.criteria[side] for side in sides}) > 1:
                one, two = (f"{side} ({self.criteria[side] or 'no unit'})" for side in sides)
                raise ParameterError(
                    f"score adds {one} to {two}; multiply one by what a unit of it is worth"
                )

    @cached_property
    def root(self) -> Choice:
        """The tree, from its first choice."""
        return Choice(self.name, self.alternatives)

    @cached_property
    def events(self) -> dict[str, Event]:
        """The events by name, in order."""
        by_name: dict[str, Event] = {}
        for _, node in walk(self.root):
            if isinstance(node, Event):
                by_name.setdefault(node.name, node)
        return by_name

    @cached_property
    def tests(self) -> dict[str, EventTest]:
        """The tests of events by name, in order."""
        by_name: dict[str, EventTest] = {}
        for _, node in walk(self.root):
            if isinstance(node, EventTest):
                by_name.setdefault(node.name, node)
        return by_name

    @cached_property
    def amounts(self) -> list[Any]:
        """All amounts that are paid on the way or at an end; of a table each on its own."""
        stated = [node.amount for _, node in walk(self.root) if isinstance(node, Payoff | Pay)]
        return [
            amount
            for one in stated
            for amount in (one.values() if isinstance(one, dict) else (one,))
        ]

    @cached_property
    def random(self) -> bool:
        """Whether some payoff or quantity is drawn, so that values are estimates."""
        drawn = any(isinstance(value, Distribution) for value in self.given.values())
        chances = [
            chance for event in self.events.values() for chance, _ in event.outcomes.values()
        ]
        return drawn or any(
            isinstance(amount, Distribution | Result | ModelOutcome)
            for amount in (*self.amounts, *chances)
        )

    @checked
    def utility_of(self, low: float, high: float) -> Utility | None:
        """Return the utility, None where payoffs count as they are."""
        if self.risk_tolerance is not None:
            return exponential(self.risk_tolerance)
        return None if self.utility is None else increasing(self.utility, low, high)

    @property
    def rule(self) -> str:
        """What counts by default: the certainty equivalent where a utility or a tolerance of risk
        is stated, else the mean.
        """
        stated = self.risk_tolerance is not None or self.utility is not None
        return "certainty equivalent" if stated else "mean"

    @checked
    def replace(self, **given: Any) -> Decision:
        """Return the decision with other values of given quantities; raises ParameterError for an
        unknown one.
        """
        for name in given:
            if name not in self.given:
                raise ParameterError(f"no quantity {name!r}", unknown=name, known=self.given)
        return replace(self, given={**self.given, **given})

    @checked
    @delegated_to("kindynos.decisions.solve", "solve")
    def solve(
        self,
        by: str | None = None,
        *,
        level: float | None = None,
        trials: int = TRIALS,
        seed: Seed = 1,
    ) -> Any:
        """Return the best policy, found by rolling the tree back, with every part's value; see
        ``Solution``.

        ``by`` is "mean", "certainty equivalent" (of the utility), "percentile" (the quantile at
        ``level``, by default 0.05) or "expected shortfall" (the mean of the worst 1 - ``level``, by
        default 0.95). Rolling back by the
        last two is not consistent over time: what is best now need not be what will look best then;
        each choice is then made by its own prospects. Discrete payoffs are exact; drawn ones share
        the draws of ``seed``. Raises ParameterError for another rule, and a certainty equivalent
        without a utility.
        """

    @delegated_to("kindynos.decisions.worth", "sweep")
    def sweep(self, name: str, values: Any, **options: Any) -> pd.DataFrame:
        """Return each alternative's value over values of a given quantity, a DataFrame; options are
        those of ``solve``.
        """

    @delegated_to("kindynos.decisions.worth", "switchover_points")
    def switchover_points(self, name: str, low: float, high: float, **options: Any) -> pd.DataFrame:
        """Return the values of a given quantity between two at which the best alternative changes,
        a DataFrame.
        """

    @delegated_to("kindynos.decisions.worth", "perfect_information")
    def perfect_information(
        self, study_cost: Mapping[str, float] | None = None, **options: Any
    ) -> pd.DataFrame:
        """Return what it would be worth to know each event and each drawn quantity before choosing,
        each two of the three quantities worth most, and everything, a DataFrame; the columns are
        those of ``Comparison.worth_of_knowing``.
        """

    @delegated_to("kindynos.decisions.worth", "worth_of_tests")
    def worth_of_tests(self, **options: Any) -> pd.DataFrame:
        """Return what each test that a choice offers is worth there, a DataFrame: before what it
        costs, and net of that, beside the best alternative without it, with errors, and whether it
        is the best alternative.
        """

    @delegated_to("kindynos.decisions.worth", "sample_information_value")
    def sample_information_value(
        self, event: str, signals: Mapping[str, Mapping[str, float]], **options: Any
    ) -> pd.DataFrame:
        """Return what an imperfect test of an event is worth before choosing, and what to do on
        each signal.

        ``signals`` are the chances of each signal by outcome: ``{"positive": {"granted": 0.9,
        "refused": 0.2}, ...}``; those of an outcome add up to 1.
        """


@dataclass(frozen=True)
class ByCriterion:
    """Amounts by criterion, which add up along a path; a score is made of them once, at its end."""

    amounts: Mapping[str, Any]
    __array_ufunc__ = None  # an array plus this is this plus the array

    def __add__(self, other: Any) -> ByCriterion:
        if isinstance(other, ByCriterion):
            names = dict.fromkeys([*self.amounts, *other.amounts])
            return ByCriterion(
                {n: self.amounts.get(n, 0.0) + other.amounts.get(n, 0.0) for n in names}
            )
        # nothing has been paid before: a number, or one per trial
        return ByCriterion({name: amount + other for name, amount in self.amounts.items()})

    __radd__ = __add__

    def __getitem__(self, trials: Any) -> ByCriterion:
        """Return the amounts of some trials."""
        return ByCriterion(
            {
                name: amount[trials] if np.ndim(amount) else amount
                for name, amount in self.amounts.items()
            }
        )


@dataclass(frozen=True)
class DecisionDraws:
    """The quantities and payoffs of a decision over its trials."""

    decision: Decision
    trials: int
    seed: int
    quantities: Mapping[str, Any]
    # chances of events that are known better
    fixed: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    # chances after signals that were seen on the way, for the trials that are looked at
    seen: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    chosen: Any = None  # the trials that are looked at; default: all

    @classmethod
    def of(
        cls,
        decision: Decision,
        trials: int,
        seed: int,
        fixed: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> DecisionDraws:
        """Return the draws of a seed: one number per trial of each distribution."""
        count = trials if decision.random else 1
        values = {
            name: value._quantile(scores_of(seed, name, count))
            if isinstance(value, Distribution)
            else value
            for name, value in decision.given.items()
        }
        return cls(decision, count, seed, values, fixed or {})

    def amount(self, amount: Any, where: str) -> Any:
        """Return an amount, a number or one per trial; of a table by criterion, one for each."""
        return self._picked(self._amount(amount, where))

    def total(self, paid: Any, amount: Any, where: str) -> Any:
        """Return what a path brings with the payoff at its end, a number or one per trial: where
        there are criteria, the score of what was collected of each. Raises ParameterError for a
        criterion that the path says nothing of.
        """
        collected = paid + self.amount(amount, where)
        if not isinstance(collected, ByCriterion):
            return collected
        for name in self.decision.criteria:
            if name not in collected.amounts:
                raise ParameterError(
                    f"the payoff lacks the criterion {name!r}; say 0 where it brings none of it",
                    owner=f"decision {self.decision.name!r}, {where}",
                )
        amounts = {name: self._picked(value) for name, value in self.quantities.items()}
        return self._formula(self.decision.score, {**amounts, **collected.amounts})

    def sample(self, values: Any) -> Sample:
        """Return values, one per trial, as a sample of the draws: in the blocks of a run whose
        results are payoffs, else independent.
        """
        array = np.asarray(values, dtype=np.float64)
        for amount in self.decision.amounts:
            of_model = isinstance(amount, ModelOutcome)
            result = amount.result(self.trials, self.seed) if of_model else amount
            if isinstance(result, Result) and result.size == len(array) == self.trials:
                return result.sample.with_values(array)
        return Sample.of(array)

    def _picked(self, value: Any) -> Any:
        if isinstance(value, ByCriterion):
            return value if self.chosen is None else value[self.chosen]
        return value if self.chosen is None or not np.ndim(value) else value[self.chosen]

    def _amount(self, amount: Any, where: str) -> Any:
        if isinstance(amount, dict):
            return ByCriterion(
                {name: self._amount(each, f"{where} {name}") for name, each in amount.items()}
            )
        if isinstance(amount, Distribution):
            return amount._quantile(scores_of(self.seed, f"payoff {where}", self.trials))
        if isinstance(amount, ModelOutcome):
            return ranked_payoffs(amount.result(self.trials, self.seed))
        if isinstance(amount, Result):
            if amount.size < self.trials:
                raise ParameterError(
                    f"the result at {where} has {amount.size:,} trials, and {self.trials:,} are "
                    "asked for"
                )
            return ranked_payoffs(amount)[: self.trials]
        return self._formula(amount, self.quantities) if isinstance(amount, str) else amount

    def _formula(self, text: str, values: Mapping[str, Any]) -> Any:
        scope = Scope(
            {name: np.asarray(value, dtype=np.float64) for name, value in values.items()}, 0
        )
        with np.errstate(all="ignore"):
            amounts = parse(text).evaluate(scope)
        return amounts if np.ndim(amounts) else float(amounts)

    def chances(self, event: Event) -> dict[str, Any]:
        """Return the chance of each outcome, a number or one per trial; raises ParameterError for
        one outside 0 to 1.
        """
        if event.name in self.seen:
            return dict(self.seen[event.name])
        if event.name in self.fixed:
            return {name: self._picked(chance) for name, chance in self.fixed[event.name].items()}
        by_name: dict[str, Any] = {}
        for name, (chance, _) in event.outcomes.items():
            if chance == REST:
                continue
            by_name[name] = (
                chance._quantile(scores_of(self.seed, f"chance {event.name} {name}", self.trials))
                if isinstance(chance, Distribution)
                else self._formula(chance, self.quantities)
                if isinstance(chance, str)
                else chance
            )
        total = sum(by_name.values())
        low = min((float(np.min(chance)) for chance in by_name.values()), default=0.0)
        if low < -1e-9 or float(np.max(total)) > 1 + 1e-9:
            raise ParameterError(
                f"its chances are outside 0 to 1 in some trial: the lowest is {low:.4g}, and "
                "their sum reaches "
                f"{float(np.max(total)):.4g}",
                owner=f"event {event.name!r}",
            )
        return {
            name: self._picked(by_name[name] if name in by_name else 1 - total)
            for name in event.outcomes
        }


def scores_of(seed: int, name: str, count: int) -> Floats:
    """Return independent uniform scores of the seed's and the name's own."""
    scores: Floats = stream(seed, f"decision {name}", 0).random(count)
    return np.maximum(scores, 2.0**-54)
