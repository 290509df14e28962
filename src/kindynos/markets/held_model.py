"""Holdings as a model: a driver for the return of each, and the profit and the maximum drawdown of
them all as outcomes.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import Normal
from kindynos.errors import ParameterError
from kindynos.fitting.ranking import fit_distributions
from kindynos.fitting.student import fit_student
from kindynos.formula.functions import FUNCTIONS
from kindynos.formula.parse import is_name
from kindynos.markets.exposure import Exposure
from kindynos.markets.history_error import statistic_errors
from kindynos.markets.profits import ProfitOf
from kindynos.program.correlations import Correlation, checked_correlation
from kindynos.program.quantities import DistributionDriver, Given, Line, Quantity
from kindynos.program.statement import Statement
from kindynos.program.timeline import Timeline
from kindynos.results.options import SimulationKeywords, SimulationOptions
from kindynos.results.reached_correlations import ranks
from kindynos.results.run import Run
from kindynos.results.simulate import simulate
from kindynos.sampling.streams import Seed
from kindynos.validate import check_integer, one_of

STRONGEST = 0.999  # rank correlation that a copula is given
MARGINALS = ("ranked", "student", "normal")
MOST_PERIODS = 1_000
HARDLY = 1e-12  # the sd of returns that are all alike


@dataclass(frozen=True)
class Joined:
    """How returns are drawn: a distribution of each, their correlations ``(holdings, holdings)``,
    and the copula.
    """

    marginals: tuple[Distribution, ...]
    correlations: Floats
    kind: str = "rank"
    copula: str = "gaussian"
    df: float | None = None


def held_statement(
    names: Sequence[str],
    values: Sequence[float],
    joined: Joined,
    horizon: int,
    shifts: Sequence[float] | None = None,
    cost: float = 0.0,
) -> Statement:
    """Return the model of holdings of these values over that many periods.

    ``shifts`` are added to each return, and a ``cost`` in money is taken off the profit. Drivers
    have the names of the holdings (what a name cannot hold becomes an underscore);
    ``value_NAME`` is what is held of each, ``return_NAME`` its return over all periods. Outcomes:
    ``profit``, in money, and ``max_drawdown``, the deepest fall of the value below its highest so
    far, as a share of that.
    """
    labels = driver_names(names)
    several = horizon > 1
    quantities: dict[str, Quantity] = {}
    worth, returns = [], []
    for position, label in enumerate(labels):
        quantities[f"value_{label}"] = Given(f"value_{label}", float(values[position]))
        quantities[label] = DistributionDriver(
            label,
            distribution=joined.marginals[position],
            each="period" if several else None,
            base=None,
        )
        text = label
        if shifts is not None and shifts[position] != 0:
            quantities[f"shift_{label}"] = Given(f"shift_{label}", float(shifts[position]))
            text = f"{label} + shift_{label}"
        total = f"last(grow({text})) - 1" if several else text
        quantities[f"return_{label}"] = Line(f"return_{label}", formula=total)
        worth.append(
            f"value_{label} * grow({text})" if several else f"value_{label} * (1 + {text})"
        )
        returns.append(f"value_{label} * return_{label}")
    if cost:
        quantities["cost_of_trades"] = Given("cost_of_trades", float(cost))
        returns.append("-cost_of_trades")
    total = " + ".join(f"value_{label}" for label in labels)
    quantities["start_value"] = Line("start_value", formula=total)
    quantities["worth"] = Line("worth", formula=" + ".join(worth))
    quantities["profit"] = Line(
        "profit", formula=" + ".join(returns).replace("+ -", "- "), outcome=True, target=0.0
    )
    if several:
        quantities["peak"] = Line("peak", formula="max(previous(peak, start_value), worth)")
    fall = "highest(1 - worth / peak)" if several else "max(1 - worth / start_value, 0)"
    quantities["max_drawdown"] = Line("max_drawdown", formula=fall, outcome=True, better="low")
    return Statement(
        "Holdings",
        Timeline(periods=horizon if several else None),
        quantities,
        _correlations(labels, joined),
    )


def driver_names(names: Sequence[str]) -> list[str]:
    """Return a name for each holding that a model can use: letters, digits and underscores, each
    once.

    >>> driver_names(["green loan", "A.1", "A-1", "2nd"])
    ['green_loan', 'A_1', 'A_1_2', 'x2nd']
    """
    rows: list[str] = []
    for name in names:
        label = re.sub(r"\W", "_", name)
        label = label if label.isidentifier() else f"x{label}"
        if not is_name(label) or label in (*TAKEN, *FUNCTIONS) or label.startswith(PREFIXES):
            label = f"holding_{label}"
        several = sum(
            other == label or (other.startswith(f"{label}_") and other[len(label) + 1 :].isdigit())
            for other in rows
        )
        rows.append(f"{label}_{several + 1}" if several else label)
    return rows


TAKEN = (
    "profit",
    "worth",
    "peak",
    "max_drawdown",
    "start_value",
    "cost_of_trades",
    "period",
    "periods",
)
PREFIXES = ("value_", "return_", "shift_")  # of the model's own quantities


def joined_returns(
    returns: Floats, names: Sequence[str], marginals: Any, copula: str, df: float | None
) -> Joined:
    """Return distributions fitted to returns ``(returns, holdings)`` and their rank
    correlations.

    ``marginals`` is "ranked" (the best of ``fit_distributions``), "student", "normal", or
    distributions by name.
    """
    if isinstance(marginals, Mapping):
        for name in names:
            if not isinstance(marginals.get(name), Distribution):
                raise ParameterError(f"marginals need a distribution for {name!r}")
        fitted = [marginals[name] for name in names]
    else:
        one_of("marginals", marginals, MARGINALS)
        fitted = [
            still(column) or _FITS[marginals](np.ascontiguousarray(column)) for column in returns.T
        ]
    return Joined(tuple(fitted), rank_correlations(returns), copula=copula, df=df)


def still(values: Floats) -> Distribution | None:
    """Return the distribution of returns that are all alike, such as those of cash or of a pegged
    rate: hardly any spread. None where they differ.
    """
    return Normal(float(values[0]), HARDLY) if float(np.ptp(values)) == 0 else None


def _normal(values: Floats) -> Distribution:
    return Normal(float(values.mean()), float(values.std(ddof=1)))


def _ranked(values: Floats) -> Distribution:
    return fit_distributions(values).best


_FITS: dict[str, Callable[[Floats], Distribution]] = {
    "ranked": _ranked,
    "student": fit_student,
    "normal": _normal,
}


def rank_correlations(returns: Floats) -> Floats:
    """Return the rank correlations of returns ``(returns, holdings)``, none so strong that a copula
    could not have it.
    """
    moving = np.ptp(returns, axis=0) > 0  # what does not move moves with nothing
    matrix = np.eye(returns.shape[1])
    if moving.sum() > 1:
        scaled = np.array([ranks(column) for column in returns[:, moving].T])
        matrix[np.ix_(moving, moving)] = np.clip(np.corrcoef(scaled), -STRONGEST, STRONGEST)
        np.fill_diagonal(matrix, 1.0)
    return matrix


def simulate_held(
    exposure: Exposure,
    horizon: int,
    trials: int,
    seed: Seed,
    marginals: Any,
    copula: tuple[str, float | None],
    options: SimulationKeywords,
) -> Run:
    """Return the run of an exposure's holdings; see ``Portfolio.simulate``."""
    check_integer("horizon", horizon, least=1, most=MOST_PERIODS)
    joined = joined_returns(exposure.returns, exposure.names, marginals, *copula)
    if exposure.book.in_proportion and not exposure.differences.any():
        statement = held_statement(exposure.names, exposure.values.tolist(), joined, horizon)
    else:
        statement = _valued_statement(exposure, joined, horizon)
    run = simulate(statement.program, SimulationOptions.stated(trials, seed, options))
    return HeldRun(run, exposure, horizon)


def _valued_statement(exposure: Exposure, joined: Joined, horizon: int) -> Statement:
    """Return the model of a book whose profits are no formula of returns: drivers are the moves of
    the columns, and the outcomes those of ``held_statement``.
    """
    labels = driver_names(exposure.names)
    quantities: dict[str, Quantity] = {
        label: DistributionDriver(label, distribution=marginal, each="period", base=None)
        for label, marginal in zip(labels, joined.marginals, strict=True)
    }
    absolute = tuple(exposure.differences.tolist())
    earned = ProfitOf(
        exposure.book, None, absolute, exposure.days * horizon, tuple(labels), each_period=True
    )
    # falls are shares of the value, or of the size of what is held where that is worth nothing
    total = float(exposure.values.sum())
    start = total if total > 0 else float(np.abs(exposure.values).sum())
    quantities["start_value"] = Given("start_value", start)
    quantities["earned"] = Line("earned", earned)
    quantities["worth"] = Line("worth", formula="start_value + earned")
    quantities["profit"] = Line("profit", formula="last(earned)", outcome=True, target=0.0)
    quantities["peak"] = Line("peak", formula="max(previous(peak, start_value), worth)")
    fall = "highest(1 - worth / peak)" if start > 0 else "0 * last(earned)"
    quantities["max_drawdown"] = Line("max_drawdown", formula=fall, outcome=True, better="low")
    entries = _correlations(labels, joined)
    return Statement("Holdings", Timeline(periods=horizon), quantities, entries)


def _correlations(labels: Sequence[str], joined: Joined) -> tuple[Correlation, ...]:
    return tuple(
        checked_correlation(
            (labels[j], labels[i]),
            float(joined.correlations[i, j]),
            kind=joined.kind,
            copula=joined.copula,
            df=joined.df,
            repair=True,
        )
        for i in range(len(labels))
        for j in range(i)
    )


class HeldRun(Run):
    """A run of holdings whose returns come from a history: its table has the error that the history
    leaves beside that of the draws, which is mostly far smaller.
    """

    def __init__(self, run: Run, exposure: Exposure, horizon: int) -> None:
        super().__init__(run.program, run.drawing, run._values, run.provenance)
        self._exposure, self._horizon = exposure, horizon

    def table(
        self,
        percentiles: Iterable[float] | None = None,
        statistics: Sequence[str] = (),
        chances: str | Sequence[str] = (),
    ) -> pd.DataFrame:
        """Return the table of ``Run.table`` with a column "history error": half the 95 % interval
        that the history leaves of a figure, by histories drawn from it again in blocks.
        """
        frame = super().table(percentiles, statistics, chances)
        names = [(str(outcome), str(statistic)) for outcome, statistic in frame.index]
        errors = statistic_errors(
            -self._exposure.losses, self._exposure.values, self._horizon, names
        )
        frame.insert(list(frame.columns).index("error"), "history error", errors)
        return frame
