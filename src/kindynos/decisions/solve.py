"""Rolling a tree back: the best alternative at every choice, and every part's value with its
sampling error.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.canvas import Figure
from kindynos.decisions.decision import RULES, TRIALS, Decision, DecisionDraws, scores_of
from kindynos.decisions.preferences import Utility
from kindynos.decisions.tree import Choice, Event, EventTest, Pay, Payoff, Tree, children
from kindynos.delegation import Reported, delegated_to
from kindynos.errors import ParameterError, concerning
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z, proportion, wilson
from kindynos.inference.sample import Sample
from kindynos.results.result import Result
from kindynos.sampling.streams import Seed, checked_seed, stream
from kindynos.studies.dominance import dominance_of_chances
from kindynos.validate import (
    check_integer,
    checked,
    confidence_level,
    known_name,
    names_in,
    one_of,
    proper_fraction,
)

if TYPE_CHECKING:
    import pandas as pd


Path = tuple[str, ...]
MOST_WAYS = 50_000  # in which all events can turn out, up to which each is looked at
FRESH = 0x5DEECE66D  # changes the seed, for the draws on which the best is judged
FOLDS = 10  # parts of the trials, each judged by what the others choose
DRAWS = 2_000  # of the means of these parts
CONSISTENT = ("mean", "certainty equivalent")


@dataclass(frozen=True)
class Node:
    """A part of a solved tree: what it is, its name, its value as the rule counts it, the chance of
    coming there, and the best alternative of a choice.
    """

    path: Path
    kind: str
    name: str
    value: Estimate
    chance: float
    best: str | None = None


@dataclass
class Rollback:
    """One pass through a tree, from its ends to its root."""

    draws: DecisionDraws
    by: str
    level: float
    utility: Utility | None
    sign: float
    policy: dict[Path, str] = field(default_factory=dict)
    parts: list[Node] = field(default_factory=list)
    follow: bool = False  # keep to the policy instead of choosing
    record: bool = True

    def roll(self, node: Tree, path: Path, weight: Any, paid: Any) -> Any:
        """Return a part's value, a number or one per trial, or its distribution, where the rule
        needs it.

        ``weight`` is the chance of coming there, and ``paid`` what was paid on the way.
        """
        where = " > ".join(path)
        if isinstance(node, Pay):
            return self.roll(node.then, path, weight, paid + self.draws.amount(node.amount, where))
        best = None
        if isinstance(node, Payoff):
            total = self.sign * self.draws.total(paid, node.amount, where)
            end: Any = self._end(total, weight)
        elif isinstance(node, Event):
            chances = self.draws.chances(node)
            inner = [
                (chances[name], self.roll(then, (*path, name), weight * chances[name], paid))
                for name, (_, then) in node.outcomes.items()
            ]
            end = (
                sum(c * v for c, v in inner)
                if self.by in CONSISTENT
                else _joined([v for _, v in inner])
            )
        elif isinstance(node, EventTest):
            end = self._test(node, path, weight, paid)
        else:
            best, end = self._choose(node, path, weight, paid)
        if self.record:
            kinds = {Payoff: "payoff", Event: "event", Choice: "choice", EventTest: "test"}
            kind = kinds[type(node)]
            name = getattr(node, "name", path[-1] if path else "")
            self.parts.append(
                Node(path, kind, name, self.estimate(end, weight), float(np.mean(weight)), best)
            )
        return end

    def _test(self, node: EventTest, path: Path, weight: Any, paid: Any) -> Any:
        """Return the value of a test: after each signal the event has the chances that it
        leaves.
        """
        before = self.draws
        prior = before.chances(before.decision.events[node.event])
        inner = []
        for signal, (chance, after) in node.posterior(prior).items():
            self.draws = replace(before, seen={**before.seen, node.event: after})
            roll = self.roll(node.then[signal], (*path, signal), weight * chance, paid)
            inner.append((chance, roll))
        self.draws = before
        if self.by in CONSISTENT:
            return sum(chance * value for chance, value in inner)
        return _joined([value for _, value in inner])

    def _end(self, total: Any, weight: Any) -> Any:
        if self.by in CONSISTENT:
            return (
                total
                if self.utility is None or self.by == "mean"
                else self.utility.of(np.asarray(total, dtype=np.float64))
            )
        values, weights = np.broadcast_arrays(
            np.atleast_1d(np.asarray(total, dtype=np.float64)), weight
        )
        return values, np.array(weights, dtype=np.float64)

    def _choose(self, node: Choice, path: Path, weight: Any, paid: Any) -> tuple[str, Any]:
        if self.follow and path in self.policy:
            best = self.policy[path]
            return best, self.roll(node.alternatives[best], (*path, best), weight, paid)
        by_name = {
            name: self.roll(then, (*path, name), weight, paid)
            for name, then in node.alternatives.items()
        }
        best = max(by_name, key=lambda name: self.figure(by_name[name], weight))
        self.policy[path] = best
        return best, by_name[best]

    def figure(self, value: Any, weight: Any) -> float:
        """Return what a value is worth by the rule; higher is better."""
        if self.by in CONSISTENT:
            total = float(np.sum(weight)) if np.ndim(weight) else 0.0
            if np.ndim(weight) and total > 0:
                return float(np.sum(weight * value) / total)
            return float(np.mean(value))
        values, weights = value
        sample = Sample.of(values, weights)
        if self.by == "percentile":
            return sample.reached(self.level)
        return sample.tail_mean(self.level)

    def in_payoffs(self, figure: float) -> float:
        """Return a mean utility as the payoff that is worth as much; another mean as it is."""
        return figure if self.utility is None or self.by == "mean" else self.utility.back(figure)

    def estimate(self, value: Any, weight: Any) -> Estimate:
        """Return what a value is worth, with its sampling error, in the units of the payoffs."""
        figure = self.figure(value, weight)
        if self.by in CONSISTENT:
            error = mean_error(self.draws, value, weight, figure)
            ends = sorted(self.sign * self.in_payoffs(figure + side * error) for side in (-1, 1))
            return Estimate(self.sign * self.in_payoffs(figure), ends[0], ends[1])
        if self.draws.trials == 1:  # nothing was drawn
            return Estimate(self.sign * figure, self.sign * figure, self.sign * figure)
        ends = sorted(self.sign * end for end in self._ends(Sample.of(*value)))
        return Estimate(self.sign * figure, ends[0], ends[1])

    def _ends(self, sample: Sample) -> tuple[float, float]:
        """Return the 95 % interval of a percentile, or of the mean of the worst part."""
        if self.by == "percentile":
            up_to = sample.up_to(sample.reached(self.level))
            low, high = wilson(self.level, up_to.effective_count)
            return sample.reached(low), sample.reached(high)
        reach = Z * sample.shortfalls(self.level)[1].deviation(True) / self.level
        mean = sample.tail_mean(self.level)
        return mean - reach, mean + reach


def _chosen_by_others(means: Floats) -> NDArray[np.int64]:
    """Return the alternative that is best by the other parts ``(parts, draws)`` from the means of
    parts ``(parts, alternatives, draws)``.
    """
    return np.asarray((means.sum(axis=0) - means).argmax(axis=1))


def _joined(parts: list[tuple[Floats, Floats]]) -> tuple[Floats, Floats]:
    return np.concatenate([values for values, _ in parts]), np.concatenate(
        [weights for _, weights in parts]
    )


def mean_error(draws: DecisionDraws, value: Any, weight: Any, mean: float) -> float:
    """Return half the 95 % interval of a mean over the trials; 0 where nothing is drawn."""
    if not np.ndim(value) or np.size(value) < 2:
        return 0.0
    weights = np.broadcast_to(np.asarray(weight, dtype=np.float64), np.shape(value))
    if not weights.sum() > 0:
        return 0.0
    influence = weights * (value - mean) / weights.mean()
    sample = draws.sample(influence)
    independent = sample.independent or not sample.has_error
    point = Z if independent else sample.student
    return point * sample.terms(influence).deviation(independent)


@dataclass(frozen=True, repr=False)
class Solution(Reported):
    """The best policy of a decision: ``best`` is the alternative to choose now, ``value`` what it
    is worth by the rule.

    ``parts`` are all the parts of the tree, with their values; ``policy`` is the best alternative
    at each choice, by the branches that lead there.
    """

    decision: Decision
    by: str
    level: float
    draws: DecisionDraws
    rolling: Rollback
    trials: int

    def __repr__(self) -> str:
        return f"<solution of {self.decision.name!r}: {self.best}, worth {self.value}>"

    @property
    def policy(self) -> dict[Path, str]:
        """The best alternative at each choice, by the branches that lead there."""
        return dict(self.rolling.policy)

    @property
    def best(self) -> str:
        """The alternative to choose now."""
        return self.rolling.policy[()]

    @cached_property
    def parts(self) -> dict[Path, Node]:
        """The parts of the tree by the branches that lead there."""
        return {part.path: part for part in self.rolling.parts}

    @cached_property
    def value(self) -> Estimate:
        """What the decision is worth, chosen well. The best of several looks better on the trials
        that chose it, so that where payoffs are drawn it is judged on fresh draws; where they are
        results of a run, each tenth of the trials is judged by the choices of the others.
        """
        if self.by not in CONSISTENT or self.draws.trials == 1:
            return self.parts[()].value
        if not any(isinstance(amount, Result) for amount in self.decision.amounts):
            seed = self.draws.seed ^ FRESH
            fresh = DecisionDraws.of(self.decision, self.trials, seed, self.draws.fixed)
            rolling = replace(self.rolling, draws=fresh)
            return rolling.estimate(self._brought(fresh, self.policy), 1.0)
        values = np.empty(self.draws.trials)
        fold = np.arange(self.draws.trials) % FOLDS
        for number in range(FOLDS):
            part = replace(self.draws, chosen=np.flatnonzero(fold != number))
            rolling = replace(self.rolling, draws=part, policy={}, parts=[], record=False)
            rolling.roll(self.decision.root, (), 1.0, 0.0)
            rest = replace(self.draws, chosen=np.flatnonzero(fold == number))
            values[fold == number] = self._brought(rest, rolling.policy)
        judged = self.rolling.estimate(values, 1.0)
        wider, missed = self._price_of_choosing()
        value, sign = float(judged), self.rolling.sign
        low, high = (value + wider * (end - value) for end in (judged.low, judged.high))
        figure = self.rolling.figure(values, 1.0)
        gain = self.rolling.in_payoffs(figure + missed) - self.rolling.in_payoffs(figure)
        return Estimate(value, low + min(sign * gain, 0.0), high + max(sign * gain, 0.0))

    def _price_of_choosing(self) -> tuple[float, float]:
        """Return what close alternatives do to the value of the best, where each part of the trials
        is judged by the choices of the others: how much wider its error is than that of a mean,
        since what a part says and how the others choose by it hang together; and by how much it
        falls short of the best, since a part may miss it.

        By draws of the means of all parts, normal with the covariance of the alternatives. For the
        first, those that cannot be told from the best count as equal to it.
        """
        names = list(self.decision.alternatives)
        brought = [self._brought(self.draws, {**self.policy, (): name}) for name in names]
        payoffs = np.stack([np.broadcast_to(values, self.draws.trials) for values in brought])
        covariance = np.atleast_2d(np.cov(payoffs)) / self.draws.trials
        behind = payoffs.mean(axis=1) - payoffs.mean(axis=1).max()
        best = int(behind.argmax())
        variances = np.diagonal(covariance)
        if len(names) < 2 or not variances.max() > 0:  # nothing to choose, or nothing drawn
            return 1.0, 0.0
        of_gap = variances + variances[best] - 2 * covariance[best]
        told = np.abs(behind) > Z * np.sqrt(np.maximum(of_gap, 0.0))

        generator = stream(self.draws.seed, "parts of the trials", 0)
        spread = np.linalg.cholesky(covariance + 1e-10 * variances.max() * np.eye(len(names)))
        normals = generator.standard_normal((FOLDS, len(names), DRAWS))
        noise = math.sqrt(FOLDS) * spread @ normals
        as_seen = _chosen_by_others(behind[:, None] + noise)

        means = np.where(told, behind, 0.0)[:, None] + noise
        chosen = _chosen_by_others(means)
        judged = np.take_along_axis(means, chosen[:, None], axis=1)[:, 0]
        alone = float(np.sqrt(variances[chosen].mean()))
        wider = float(judged.mean(axis=0).std()) / alone if alone > 0 else 1.0
        return max(wider, 1.0), -float(behind[as_seen].mean())

    def _brought(self, draws: DecisionDraws, policy: Mapping[Path, str]) -> Any:
        """Return what a policy brings in each trial of some draws, by the rule of the decision."""
        rolling = replace(
            self.rolling, draws=draws, policy=dict(policy), parts=[], follow=True, record=False
        )
        return rolling.roll(self.decision.root, (), 1.0, 0.0)

    def lead(self, name: str, other: str) -> Estimate:
        """Return by how much one alternative is better than another, in the units of the payoffs,
        with the error of the difference on the same draws. Raises ParameterError for one that
        there is not.
        """
        for one in (name, other):
            self._known(one)
        sign, parts = self.rolling.sign, [self.parts[one,].value for one in (name, other)]
        gap = sign * (float(parts[0]) - float(parts[1]))
        if self.by not in CONSISTENT or (self.rolling.utility is not None and self.by != "mean"):
            return symmetrical(gap, math.hypot(*(part.error for part in parts)))
        policies = ({**self.rolling.policy, (): one} for one in (name, other))
        one, two = (self._brought(self.draws, policy) for policy in policies)
        gains = np.asarray(one - two, dtype=np.float64)
        return symmetrical(gap, mean_error(self.draws, gains, 1.0, float(gains.mean())))

    @property
    def words(self) -> str:
        """What the rule is, and what it does not promise."""
        rule = {
            "mean": "by the mean payoff",
            "certainty equivalent": "by the certainty equivalent "
            f"({getattr(self.rolling.utility, 'words', '')})",
            "percentile": f"by the payoff that {100 * self.level:g} % of cases fall short of",
            "expected shortfall": f"by the mean of the worst {100 * self.level:g} %",
        }[self.by]
        if self.by in CONSISTENT:
            return rule
        return (
            f"{rule}; such a rule is not consistent over time: each later choice is made by its "
            "own prospects, and a plan "
            "made now may look wrong then"
        )

    @checked
    def distribution(self, alternative: str) -> tuple[Floats, Floats]:
        """Return the payoffs of an alternative under the best later choices, in order, and their
        chances; equal ones together.
        """
        self._known(alternative)
        return self._payoffs(self.draws, alternative)

    def _payoffs(self, draws: DecisionDraws, alternative: str) -> tuple[Floats, Floats]:
        rolling = Rollback(
            draws,
            "percentile",
            0.5,
            None,
            1.0,
            {**self.rolling.policy, (): alternative},
            follow=True,
            record=False,
        )
        weight = np.full(draws.trials, 1 / draws.trials) if draws.trials > 1 else 1.0
        values, weights = rolling.roll(self.decision.root, (), weight, 0.0)
        distinct, places = np.unique(values, return_inverse=True)
        chances = np.bincount(places.reshape(-1), weights=weights)
        return distinct[chances > 0], chances[chances > 0] / chances.sum()

    def profile(self, alternative: str) -> Any:
        """Return the risk profile of an alternative, a DataFrame: payoff, chance, and the chances
        of at most a value, and of more.
        """
        import pandas as pd

        values, chances = self.distribution(alternative)
        below = np.cumsum(chances)
        return pd.DataFrame(
            {"payoff": values, "chance": chances, "cumulative": below, "survival": 1 - below}
        )

    @checked
    def table(self) -> pd.DataFrame:
        """Return a DataFrame, a row an alternative, the best first: value by the rule with its
        error, mean, sd, percentiles.
        """
        import pandas as pd

        rows = {}
        for name in self.decision.alternatives:
            values, chances = self.distribution(name)
            mean = float(values @ chances)
            part = self.parts[(name,)]
            ends = [Sample.of(values, chances).reached(level) for level in (0.05, 0.5, 0.95)]
            sd = math.sqrt(max(float((values - mean) ** 2 @ chances), 0.0))
            rows[name] = (
                float(part.value),
                part.value.error,
                mean,
                sd,
                *ends,
                float(chances[values < 0].sum()),
            )
        table = pd.DataFrame.from_dict(
            rows,
            orient="index",
            columns=["value", "error", "mean", "sd", "P5", "P50", "P95", "chance below 0"],
        )
        table.index.name = "alternative"
        return table.sort_values("value", ascending=self.decision.better == "low", kind="stable")

    @checked
    def by_criterion(self) -> pd.DataFrame:
        """Return what each alternative brings by each criterion, under the best later choices: a
        DataFrame by alternative and criterion, with mean, error, P5, P50 and P95.

        Raises ParameterError for a decision with one amount.
        """
        import pandas as pd

        if not self.decision.criteria:
            raise ParameterError("the decision has no criteria")
        rows = {}
        for criterion in self.decision.criteria:
            alone = replace(self.decision, score=criterion, risk_tolerance=None, utility=None)
            draws = replace(self.draws, decision=alone)
            for name in self.decision.alternatives:
                policy = {**self.rolling.policy, (): name}
                means = Rollback(draws, "mean", 0.5, None, 1.0, policy, follow=True, record=False)
                roll = means.roll(self.decision.root, (), 1.0, 0.0)
                mean = float(np.mean(roll))
                values, chances = self._payoffs(draws, name)
                ends = [Sample.of(values, chances).reached(level) for level in (0.05, 0.5, 0.95)]
                rows[name, criterion] = (mean, mean_error(draws, roll, 1.0, mean), *ends)
        order = [(a, c) for a in self.decision.alternatives for c in self.decision.criteria]
        index = pd.MultiIndex.from_tuples(order, names=["alternative", "criterion"])
        columns = ["mean", "error", "P5", "P50", "P95"]
        return pd.DataFrame([rows[key] for key in order], index=index, columns=columns)

    def nodes(self) -> pd.DataFrame:
        """Return a DataFrame, one row per part of the tree: branches, kind, value and error, chance
        of coming there, best alternative.
        """
        import pandas as pd

        ordered = sorted(self.rolling.parts, key=lambda piece: piece.path)
        rows = [
            (
                " > ".join(p.path) or self.decision.name,
                p.kind,
                p.name,
                float(p.value),
                p.value.error,
                p.chance,
                p.best or "",
            )
            for p in ordered
        ]
        return pd.DataFrame(
            rows, columns=["branches", "kind", "name", "value", "error", "chance", "best"]
        )

    @cached_property
    def realized(self) -> dict[str, Floats]:
        """What each alternative brings ``(trials,)`` in the same trials: events of one name turn
        out alike in all of them.
        """
        count = max(self.trials, self.draws.trials)
        return {
            name: self._realized(then, (name,), np.zeros(count), np.arange(count))
            for name, then in self.decision.alternatives.items()
        }

    def _realized(self, node: Tree, path: Path, paid: Any, trials: Any) -> Floats:
        """Return the payoffs of the trials that come to a part."""
        where, draws = " > ".join(path), replace(self.draws, chosen=trials)
        if isinstance(node, Payoff):
            total = draws.total(paid, node.amount, where)
            return np.broadcast_to(np.asarray(total, dtype=np.float64), trials.shape)
        if isinstance(node, Pay):
            so_far = paid + draws.amount(node.amount, where)
            return self._realized(node.then, path, so_far, trials)
        if isinstance(node, Choice):
            best = self.rolling.policy[path]
            return self._realized(node.alternatives[best], (*path, best), paid, trials)
        payoffs: Floats = np.empty(len(trials))
        turned = self._turned(node)[trials]
        for position, (name, then) in enumerate(children(node)):
            inside = turned == position
            if inside.any():
                payoffs[inside] = self._realized(then, (*path, name), paid[inside], trials[inside])
        return payoffs

    def _turned(self, node: Event | EventTest) -> NDArray[np.int64]:
        """Return the place of the outcome, or of the signal, in each trial: the same wherever the
        event or the test stands, and a signal given how its event turns out.
        """
        count = max(self.trials, self.draws.trials)
        if isinstance(node, Event):
            kind, chances = "event", list(self.draws.chances(node).values())
        else:
            event = self.decision.events[node.event]
            outcome = self._turned(event)
            kind = "test"
            chances = [
                np.array([row[name] for name in event.outcomes])[outcome]
                for row in node.signals.values()
            ]
        scores = scores_of(self.draws.seed, f"{kind} {node.name}", count)
        reached = np.cumsum(np.broadcast_arrays(*chances[:-1], np.zeros(count))[:-1], axis=0)
        return np.asarray((scores >= reached).sum(axis=0))

    @checked
    def best_alternatives(self, count: int) -> list[str]:
        """Return the names of the alternatives with the best values, in the decision's order."""
        check_integer("count", count, least=1)
        names = list(self.decision.alternatives)
        by_value = sorted(
            names, key=lambda name: -self.rolling.sign * float(self.parts[name,].value)
        )
        kept = set(by_value[:count])
        return [name for name in names if name in kept]

    @cached_property
    def _cases(self) -> tuple[dict[str, Floats], Floats | None]:
        """What each alternative brings in every way in which all events can turn out, with the
        chances of these where nothing else is drawn; else in the same trials, and None.
        """
        if self.draws.trials > 1 or count_of_ways(self.decision) > MOST_WAYS:
            return self.realized, None
        by_name: dict[str, list[float]] = {name: [] for name in self.decision.alternatives}
        weights = []
        for turned, weight in ways(self.draws):
            if float(weight) > 0:
                weights.append(float(weight))
                for name, then in self.decision.alternatives.items():
                    by_name[name].append(self._followed(then, (name,), turned, 0.0))
        return {name: np.array(values) for name, values in by_name.items()}, np.array(weights)

    def _followed(self, node: Tree, path: Path, turned: Mapping[str, str], paid: Any) -> float:
        """Return what a part brings under the best policy when it is known how events turn out."""
        where = " > ".join(path)
        if isinstance(node, Payoff):
            return float(self.draws.total(paid, node.amount, where))
        if isinstance(node, Pay):
            so_far = paid + self.draws.amount(node.amount, where)
            return self._followed(node.then, path, turned, so_far)
        if isinstance(node, Choice):
            branch = self.rolling.policy[path]
            return self._followed(node.alternatives[branch], (*path, branch), turned, paid)
        branch = turned[node.name]
        return self._followed(dict(children(node))[branch], (*path, branch), turned, paid)

    def _chance(self, hits: Any) -> Estimate:
        """Return the chance of some of the cases, exact where their chances are known."""
        weights = self._cases[1]
        if weights is None:
            return proportion(hits)
        chance = min(float(weights[hits].sum()), 1.0)
        return Estimate(chance, chance, chance)

    @checked
    def beats(self, among: Sequence[str] | None = None, *, errors: bool = False) -> pd.DataFrame:
        """Return the chance that an alternative (rows) brings more than another (columns) in the
        same trial, a DataFrame, or with ``errors`` the 95 % errors of these, which are 0 where
        nothing but events is drawn; ``among`` some alternatives, default: all.
        """
        import pandas as pd

        names, values = self._among(among), self._cases[0]

        def cell(name: str, other: str) -> float:
            if name == other:
                return math.nan
            chance = self._chance(values[name] > values[other])
            return chance.error if errors else float(chance)

        cells = [[cell(name, other) for other in names] for name in names]
        return pd.DataFrame(cells, index=names, columns=names)

    def regret(self) -> pd.DataFrame:
        """Return how much less than the best of its trial each alternative brings, a DataFrame:
        mean and P95, and how often it is best, with the 95 % errors of mean and share.
        """
        import pandas as pd

        values, weights = self._cases
        sign = self.rolling.sign
        best: Floats = np.maximum.reduce([sign * value for value in values.values()])
        rows = {}
        for name, value in values.items():
            gap = best - sign * value
            often = self._chance(gap == 0)
            sample = Sample.of(gap, weights)
            mean, high = sample.mean, sample.reached(0.95)
            error = Z * sample.distances().deviation(True) if weights is None else 0.0
            rows[name] = mean, error, high, float(often), often.error
        columns = ["mean", "error", "P95", "best in", "error of best in"]
        return pd.DataFrame.from_dict(rows, orient="index", columns=columns)

    @checked
    def dominance(self, among: Sequence[str] | None = None) -> pd.DataFrame:
        """Return for each pair of alternatives, or ``among`` some of them, whether the one
        dominates the other, by their risk profiles.

        First order: whoever wants more prefers it; second order: whoever also shuns risk. "Against"
        is what speaks against it, "by chance" whether so much can come from the draws; without
        drawn amounts the verdict is exact. See ``kd.Comparison.dominance``.
        """
        by_name = {name: self.distribution(name) for name in self._among(among)}
        if self.rolling.sign < 0:
            by_name = {
                name: (-values[::-1], chances[::-1]) for name, (values, chances) in by_name.items()
            }
        return dominance_of_chances(
            by_name, self.draws.trials if self.draws.trials > 1 else math.inf
        )

    def _among(self, names: Sequence[str] | None) -> list[str]:
        """Return the alternatives named, all by default; raises ParameterError for unknown ones."""
        if names is None:
            return list(self.decision.alternatives)
        listed = names_in("among", names)
        for name in listed:
            self._known(name)
        return listed

    def _known(self, alternative: str) -> None:
        with concerning(f"decision {self.decision.name!r}"):
            known_name("alternative", alternative, self.decision.alternatives)

    @delegated_to("kindynos.plots", "decision")
    def plot(self, what: str = "tree", figure: Figure | None = None) -> Figure:
        """Draw the tree with the best path marked (``"tree"``), or the risk profiles
        (``"profiles"``); return the Matplotlib figure.
        """


def count_of_ways(decision: Decision) -> int:
    """Return in how many ways all events and tests can turn out."""
    outcomes = math.prod(len(event.outcomes) for event in decision.events.values())
    return outcomes * math.prod(len(test.signals) for test in decision.tests.values())


def ways(draws: DecisionDraws) -> Iterator[tuple[dict[str, str], Any]]:
    """Give every way in which all events and tests can turn out: the outcome of each by its name,
    and the chance of all, a number or one per trial.
    """
    events, tests = draws.decision.events, draws.decision.tests
    chances = {name: draws.chances(event) for name, event in events.items()}
    outcomes = [event.outcomes for event in events.values()]
    signals = [test.signals for test in tests.values()]
    for way in product(*outcomes, *signals):
        turned = dict(zip([*events, *tests], way, strict=True))
        weight: Any = 1.0
        for name in events:
            weight = weight * chances[name][turned[name]]
        for name, test in tests.items():
            weight = weight * test.signals[turned[name]][turned[test.event]]
        yield turned, weight


@checked
def solve(
    decision: Decision,
    by: str | None = None,
    *,
    level: float | None = None,
    trials: int = TRIALS,
    seed: Seed = 1,
) -> Solution:
    """Return a solved decision; see ``Decision.solve``."""
    by = decision.rule if by is None else by
    one_of("by", by, RULES)
    check_integer("trials", trials, least=2)
    share = tail_share(by, level)
    if (
        by == "certainty equivalent"
        and decision.risk_tolerance is None
        and decision.utility is None
    ):
        raise ParameterError("a certainty equivalent needs risk_tolerance= or utility=")
    return solved(decision, by, share, trials, checked_seed(seed))


def tail_share(by: str, level: float | None) -> float:
    """Return the share of the payoffs below the percentile, or in the mean of the worst."""
    if by == "expected shortfall":
        return round(1 - confidence_level("level", 0.95 if level is None else level), 12)
    return proper_fraction("level", 0.05 if level is None else level)


def solved(
    decision: Decision,
    by: str,
    level: float,
    trials: int,
    seed: int,
    fixed: Mapping[str, Mapping[str, Any]] | None = None,
    weight: Any = 1.0,
) -> Solution:
    """Return a solved decision; ``fixed`` are better known chances of events, ``weight`` the chance
    of what is known, by trial.
    """
    draws = DecisionDraws.of(decision, trials, seed, fixed)
    sign = 1.0 if decision.better == "high" else -1.0
    rolling = Rollback(draws, by, level, _utility(decision, draws), sign)
    if np.ndim(weight) == 0 and by not in CONSISTENT and draws.trials > 1:
        weight = np.full(draws.trials, weight / draws.trials)
    rolling.roll(decision.root, (), weight, 0.0)
    return Solution(decision, by, level, draws, rolling, trials)


def _utility(decision: Decision, draws: DecisionDraws) -> Utility | None:
    """Return the utility over the range of the payoffs, None where they count as they are."""
    if decision.utility is None:
        return decision.utility_of(0.0, 1.0)
    sign = 1.0 if decision.better == "high" else -1.0
    ends: list[float] = []

    def visit(node: Tree, path: Path, paid: Any) -> None:
        where = " > ".join(path)
        if isinstance(node, Pay):
            visit(node.then, path, paid + draws.amount(node.amount, where))
        elif isinstance(node, Payoff):
            total = sign * draws.total(paid, node.amount, where)
            ends.extend((float(np.min(total)), float(np.max(total))))
        else:
            for name, child in children(node):
                visit(child, (*path, name), paid)

    visit(decision.root, (), 0.0)
    low, high = min(ends), max(ends)
    return decision.utility_of(low, high if high > low else low + 1.0)
