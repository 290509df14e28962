"""What an optimization is for, in words: ``"mean net_value"``, ``"chance below 0 of net_value <=
0.05"``.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Any

from kindynos.errors import ParameterError
from kindynos.inference.estimates import Estimate
from kindynos.program.statement import Statement
from kindynos.results.result import Result
from kindynos.results.statistic_text import ParsedStatistic, parse_statistic
from kindynos.studies.model_sweep import checked_outcome
from kindynos.validate import raw_figure

EXAMPLE = "chance below 0 of net_value <= 0.05"
ROUNDING = 1e-12  # of a figure, within which it is at its limit
JUMPING = ("chance", "percentile", "median", "value_at_risk")  # from trial to trial
RULE = re.compile(r"(.*?)\s*(<=|>=|=<|=>|<|>|≤|≥)\s*(\S+|\S+\s*%)")


@dataclass(frozen=True)
class Figure:
    """A statistic of an outcome: ``mean net_value``, or ``chance below 0 of net_value``."""

    statistic: ParsedStatistic
    outcome: str

    @property
    def label(self) -> str:
        """The figure in words."""
        return f"{self.statistic.label} of {self.outcome}"

    @property
    def jumps(self) -> bool:
        """Whether it jumps from trial to trial as a decision moves."""
        return self.statistic.label.split()[0] in JUMPING

    def read(self, result: Result) -> Estimate:
        """Return the figure of a result of the outcome."""
        return self.statistic.read(result)


@dataclass(frozen=True)
class Constraint:
    """A figure with a limit: ``most`` says whether it may be at most so high, else at least."""

    figure: Figure
    limit: float
    most: bool

    @property
    def label(self) -> str:
        """The constraint in words."""
        return f"{self.figure.label} {'at most' if self.most else 'at least'} {self.limit:g}"

    def nearness(self, result: Result) -> float:
        """Return how far the outcome of a chance lies towards keeping the limit, in its standard
        deviations: chances of 0 and 1 do not show it. 0 for other figures.
        """
        options = self.figure.statistic.options
        if self.figure.statistic.name != "chance" or len(options) != 1:
            return 0.0
        side, threshold = next(iter(options.items()))
        if side not in ("above", "below"):
            return 0.0
        away = float(result.mean) - float(threshold)
        scaled = away / (float(result.sd) or 1.0)
        return scaled if (side == "below") == self.most else -scaled

    def excess(self, value: float) -> float:
        """Return by how much a value breaks the limit; below 0 where it keeps it, and 0 at it, of
        which rounding may leave a little.
        """
        over = value - self.limit if self.most else self.limit - value
        return 0.0 if abs(over) <= ROUNDING * max(abs(value), abs(self.limit)) else over

    def excess_at_worst(self, figure: Estimate) -> float:
        """Return the excess of that end of a figure's interval which is nearer to breaking it."""
        end = figure.high if self.most else figure.low
        return self.excess(float(figure) if math.isnan(end) else end)


def figure_of(statement: Statement, text: Any) -> Figure:
    """Return the figure that a text names; raises ParameterError or ModelError, with the nearest
    spelling, for another.
    """
    words = text.split() if isinstance(text, str) else []
    if len(words) < 2:
        raise ParameterError(
            f"say a statistic and an outcome, such as 'mean net_value', not {text!r:.60}"
        )
    *statistic, outcome = words
    if statistic[-1] == "of":
        statistic = statistic[:-1]
    if not statistic:
        raise ParameterError(f"{text!r:.60} names no statistic; say 'mean {outcome}'")
    checked_outcome(statement, outcome)
    return Figure(parse_statistic(" ".join(statistic)), outcome)


def constraint_of(statement: Statement, text: Any) -> Constraint:
    """Return the constraint that a text states; raises ParameterError or ModelError for another."""
    match = RULE.fullmatch(text.strip()) if isinstance(text, str) else None
    if match is None:
        raise ParameterError(f"a constraint is such as {EXAMPLE!r}, not {text!r:.80}")
    try:
        limit = raw_figure(match[3])
    except ValueError:
        raise ParameterError(
            f"the limit of {text!r:.80} must be a number, not {match[3]!r}"
        ) from None
    figure = figure_of(statement, match[1])
    if figure.statistic.label.startswith("chance") and not 0 <= limit <= 1:
        raise ParameterError(f"a chance is from 0 to 1; in {text!r:.80} the limit is {limit:g}")
    return Constraint(figure, limit, match[2][0] in "<=≤" and ">" not in match[2])
