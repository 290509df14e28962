"""What weights may be: bounds, groups, trades from today's weights; and the same as a system of
equations for the solvers.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import finite, fraction, invalid_argument, known_name, mapping, positive

OTHERS = "others"  # in bounds by name, all that are not named
NEAR = 1e-9  # how far sums of bounds may be off, by rounding


@dataclass(frozen=True, eq=False)
class WeightRow:
    """A sum of weights, each times a coefficient ``(holdings,)``, that must lie from ``low`` to
    ``high``.
    """

    label: str
    coefficients: Floats
    low: float
    high: float


@dataclass(frozen=True, eq=False)
class System:
    """All that holds for x: ``matrix @ x == right`` and ``lower <= x <= upper``; the weights are
    the first of x.

    After the weights come what is bought and what is sold of each holding, where trades are limited
    or cost something, and the value of each row. ``cost`` is what one unit of x costs.
    """

    matrix: Floats
    right: Floats
    lower: Floats
    upper: Floats
    cost: Floats
    twins: dict[int, int]  # bought and sold of the same holding: never both


@dataclass(frozen=True, eq=False)
class Region:
    """The weights that are allowed: ``lower`` and ``upper`` ``(holdings,)``, rows, and the trades
    that lead to them.

    ``turnover`` is the most that may be bought and sold together, ``cost`` the share of each trade
    that is lost, both as shares of the value; they need the weights of ``today``. Against the mean
    of one period stands the cost of trades over ``holding_period``, the number of periods that the
    weights are held. ``floor`` are means and the least that the mean of all, after the cost of
    trades, may be.
    """

    names: Sequence[str]
    lower: Floats
    upper: Floats
    rows: tuple[WeightRow, ...] = field(default=())
    today: Floats | None = None
    turnover: float | None = None
    cost: float = 0.0
    holding_period: float = 1.0
    floor: tuple[Floats, float] | None = None

    @property
    def count(self) -> int:
        """The number of holdings."""
        return len(self.lower)

    @property
    def trades(self) -> bool:
        """Whether trades matter."""
        return self.turnover is not None or self.cost > 0

    def with_row(
        self, label: str, coefficients: Floats, low: float = -np.inf, high: float = np.inf
    ) -> Region:
        """Return the region with one more row."""
        return replace(self, rows=(*self.rows, WeightRow(label, coefficients, low, high)))

    def system(self) -> System:
        """Return the equations of the region."""
        n, trading = self.count, 2 * self.count if self.trades else 0
        rows = [*self.rows]
        size = n + trading + len(rows) + (self.turnover is not None) + (self.floor is not None)
        equations, right = [np.r_[np.ones(n), np.zeros(size - n)]], [1.0]
        lower, upper = np.full(size, -np.inf), np.full(size, np.inf)
        lower[:n], upper[:n] = self.lower, self.upper
        cost = np.zeros(size)
        twins: dict[int, int] = {}
        if self.trades:
            assert self.today is not None
            for i in range(n):
                equation = np.zeros(size)
                equation[[i, n + i, 2 * n + i]] = 1.0, -1.0, 1.0
                equations.append(equation)
                right.append(float(self.today[i]))
                twins |= {n + i: 2 * n + i, 2 * n + i: n + i}
            lower[n : 3 * n] = 0.0
            # What may be bought and sold has an end, so that every x has.
            upper[n : 2 * n] = np.maximum(self.upper - self.today, 0.0) + 1.0
            upper[2 * n : 3 * n] = np.maximum(self.today - self.lower, 0.0) + 1.0
            cost[n : 3 * n] = self.cost / self.holding_period
        for position, row in enumerate(rows, start=n + trading):
            equation = np.zeros(size)
            equation[:n], equation[position] = row.coefficients, -1.0
            equations.append(equation)
            right.append(0.0)
            # A row without an end has the one that the bounds leave it.
            ends = np.stack([row.coefficients * self.lower, row.coefficients * self.upper])
            lower[position] = (
                row.low if np.isfinite(row.low) else min(ends.min(axis=0).sum(), row.high) - 1.0
            )
            upper[position] = (
                row.high if np.isfinite(row.high) else max(ends.max(axis=0).sum(), row.low) + 1.0
            )
        last = n + trading + len(rows)
        if self.turnover is not None:
            equation = np.zeros(size)
            equation[n : 3 * n], equation[last] = 1.0, -1.0
            equations.append(equation)
            right.append(0.0)
            lower[last], upper[last] = 0.0, self.turnover
        if self.floor is not None:
            gains, least = self.floor
            # so that the solvers' tolerances mean the same in every equation
            unit = float(np.abs(gains).max()) or 1.0
            equation = -cost / unit
            equation[:n], equation[-1] = gains / unit, -1.0
            equations.append(equation)
            right.append(0.0)
            lower[-1] = least / unit
            upper[-1] = (
                max(float(np.maximum(gains * self.lower, gains * self.upper).sum()), least) / unit
                + 1.0
            )
        return System(np.array(equations), np.array(right), lower, upper, cost, twins)

    def trading_cost(self, weights: Floats) -> float:
        """Return what the trades from today's weights to these cost, once, as a share of the
        value.
        """
        return (
            0.0
            if self.cost == 0 or self.today is None
            else float(self.cost * np.abs(weights - self.today).sum())
        )

    def charge(self, weights: Floats) -> float:
        """Return what these trades cost in each period that the weights are held."""
        return self.trading_cost(weights) / self.holding_period


def region_of(
    names: Sequence[str],
    bounds: Any,
    groups: Any,
    members: Any,
    *,
    today: Floats | None,
    turnover: float | None,
    cost: float | None,
    holding_period: float,
    short: bool,
) -> Region:
    """Return the region that the arguments of ``allocate`` state; raises ParameterError for what
    cannot be met.
    """
    lower, upper = _bounds(names, bounds, short)
    if turnover is not None:
        positive("turnover", turnover)
    charge = 0.0 if cost is None else fraction("cost", cost)
    if today is None and (turnover is not None or charge > 0):
        raise ParameterError("turnover and cost need today's weights: a Portfolio, or today=")
    rows = tuple(_group(names, label, ends, members) for label, ends in _groups(groups).items())
    _check_sums(names, lower, upper)
    region = Region(
        names,
        lower,
        upper,
        rows,
        today,
        turnover,
        charge,
        positive("holding_period", holding_period),
    )
    for row in rows:
        _check_group(region, row)
    _check_turnover(region)
    return region


def _bounds(names: Sequence[str], bounds: Any, short: bool) -> tuple[Floats, Floats]:
    usual = (-1.0, 1.0) if short else (0.0, 1.0)
    if bounds is None or (isinstance(bounds, tuple | list) and len(bounds) == 2):
        each = dict.fromkeys(names, usual if bounds is None else bounds)
    else:
        stated = mapping(
            "bounds", bounds, "a pair of a low and a high weight, or such pairs by name"
        )
        others = stated.pop(OTHERS, usual) if OTHERS not in names else usual
        each = {
            **dict.fromkeys(names, others),
            **{known_name("holding", name, names): b for name, b in stated.items()},
        }
    for name, pair in each.items():
        low, high = ends_of(f"the bounds of {name}", pair)
        if low < 0 and not short:
            raise ParameterError(
                f"the lower bound of {name} is {low:g}; say short=True for short positions"
            )
        each[name] = (low, high)
    return np.array([each[name][0] for name in names]), np.array([each[name][1] for name in names])


def ends_of(what: str, pair: Any) -> tuple[float, float]:
    """Return a low and a high end; raises ParameterError for anything else."""
    if not isinstance(pair, tuple | list) or len(pair) != 2:
        raise invalid_argument(what, "a pair of a low and a high end, such as (0.01, 0.35)", pair)
    low, high = (finite(what, end) for end in pair)
    if low > high:
        raise ParameterError(f"{what} are {low:g} to {high:g}; the low end comes first")
    if max(abs(low), abs(high)) > 10:
        raise ParameterError(f"{what} are shares of the value, not per cent; write 0.35 for 35 %")
    return low, high


def _groups(groups: Any) -> dict[Any, Any]:
    return (
        {}
        if groups is None
        else mapping("groups", groups, "pairs of a low and a high weight by group")
    )


def _group(names: Sequence[str], label: Any, ends: Any, members: Any) -> WeightRow:
    """Return the row of a group: its label is one of ``members``, or a tuple of the names; or the
    names come with its ends.
    """
    inside: Iterable[Any]
    if (
        isinstance(ends, tuple | list)
        and len(ends) == 3
        and not isinstance(ends[0], str | int | float)
    ):
        inside, ends = ends[0], ends[1:]
    elif isinstance(label, tuple):
        inside = label
        label = " and ".join(map(str, label))
    else:
        inside = _members(label, members)
    coefficients = np.zeros(len(names))
    for name in inside:
        coefficients[list(names).index(known_name("holding", name, names))] = 1.0
    return WeightRow(str(label), coefficients, *ends_of(f"the ends of group {label}", ends))


def _members(label: Any, members: Any) -> Iterable[Any]:
    """Return the names in a group, from lists of names by group or from groups by name."""
    stated = (
        {}
        if members is None
        else mapping("members", members, "lists of names by group, or groups by name")
    )
    by_group: dict[str, list[Any]] = {}
    for key, value in stated.items():
        if isinstance(value, str):
            by_group.setdefault(value, []).append(key)
        else:
            by_group[str(key)] = list(value)
    if label not in by_group:
        advice = (
            f"; say which holdings it has: members={{{label!r}: [...]}}" if not by_group else ""
        )
        raise ParameterError(f"no group {label!r}{advice}", unknown=str(label), known=by_group)
    return by_group[label]


def _check_sums(names: Sequence[str], lower: Floats, upper: Floats) -> None:
    if lower.sum() > 1 + NEAR:
        raise ParameterError(
            f"the lower bounds of {len(names)} holdings add up to {lower.sum():.6g}, above 1"
        )
    if upper.sum() < 1 - NEAR:
        raise ParameterError(
            f"the upper bounds of {len(names)} holdings add up to {upper.sum():.6g}, below 1"
        )


def _check_group(region: Region, row: WeightRow) -> None:
    """Raise ParameterError for a group that the bounds cannot meet, whatever the other groups."""
    inside = row.coefficients > 0
    low, high = region.lower, region.upper
    least = max(low[inside].sum(), 1 - high[~inside].sum())
    most = min(high[inside].sum(), 1 - low[~inside].sum())
    if row.high < least - NEAR or row.low > most + NEAR:
        raise ParameterError(
            f"group {row.label} must have {row.low:g} to {row.high:g}, and the bounds leave it "
            f"{least:.6g} to {most:.6g}"
        )


def _check_turnover(region: Region) -> None:
    if region.turnover is None or region.today is None:
        return
    needed = float(
        np.maximum(region.lower - region.today, 0).sum()
        + np.maximum(region.today - region.upper, 0).sum()
    )
    if needed > region.turnover + NEAR:
        raise ParameterError(
            f"today's weights must change by {needed:.6g} at least to meet the bounds, above the "
            f"turnover {region.turnover:g}"
        )


def by_name(names: Sequence[str], given: Any, what: str) -> Floats:
    """Return weights ``(holdings,)`` given by name; those not named are 0. Raises ParameterError
    for unknown names.
    """
    stated: Mapping[Any, Any] = mapping(what, given, "weights by name")
    if not stated:
        raise ParameterError(f"{what} must have at least one weight")
    weights = dict.fromkeys(names, 0.0)
    for name, weight in stated.items():
        weights[known_name("holding", name, names)] = finite(f"the weight of {name}", weight)
    return np.array(list(weights.values()))
