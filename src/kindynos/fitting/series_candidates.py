"""Which processes are tried for a series, and how each is fitted."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.fitting.normality import Test
from kindynos.fitting.stationarity import (
    MANY_SEASONAL,
    has_season,
    kpss,
    seasonal_strength,
    spread_against_level,
    unit_root,
)
from kindynos.processes.arima import Arima
from kindynos.processes.base import Process
from kindynos.processes.garch import Garch
from kindynos.processes.smoothing import ExponentialSmoothing
from kindynos.validate import names_in

MOST_DIFFERENCES = 2
POWER = 0.5  # of the spread in the level, from which logs are taken
STATIONARY = (
    (1, 0),
    (2, 0),
    (0, 1),
    (1, 1),
    (0, 0),
    (2, 1),
)  # autoregressive and moving-average terms
DIFFERENCED = ((0, 1), (0, 2), (1, 1), (1, 0), (0, 0), (2, 1))
WITH_SEASON = 4  # of them that are tried with each seasonal part
SIGNS = {"": "", "additive": " + season", "multiplicative": " x season"}
_NAME = re.compile(
    r"(log )?arima \((\d+), ?(\d+), ?(\d+)\)(?: ?\((\d+), ?(\d+), ?(\d+)\) ?(\d+))?( \+c| -c)?"
)


@dataclass(frozen=True)
class Candidate:
    """A process to be fitted: its name, its options, and the group within which AICc can be
    compared.
    """

    name: str
    kind: type[Process]
    options: tuple[tuple[str, Any], ...]
    group: str

    def fit(self, values: Floats, near: Process | None = None, exog: Any = None) -> Process:
        """Return the process fitted to values, with regressors, the search begun ``near`` another;
        raises ParameterError where it cannot be.
        """
        kind: Any = self.kind
        options = dict(self.options)
        if near is not None and self.kind is not Garch:
            options["near"] = near
        if exog:
            if self.kind is not Arima:
                raise ParameterError("takes no regressors")
            options["exog"] = exog
        fitted: Process = kind.fit(values, **options)
        return fitted


def aicc(process: Process) -> float:
    """Return Akaike's criterion with its correction for few values, of the values themselves, also
    where logs are modelled.

    Source: Hurvich and Tsai, Biometrika 76 (1989), 297-307.
    """
    assert process.fitted is not None
    assert process.fitted.log_likelihood is not None
    count, estimated = process.fitted.observations, process.fitted.parameter_count
    left = count - estimated - 1
    if left <= 0:
        return math.inf
    value = process.fitted.log_likelihood + process.fitted.jacobian
    return -2 * value + 2 * estimated + 2 * estimated * (estimated + 1) / left


def criterion_of(process: Process, criterion: str) -> float:
    """Return AICc, AIC or BIC of a fitted process; lower is better."""
    if criterion == "aicc":
        return aicc(process)
    assert process.fitted is not None
    assert process.fitted.log_likelihood is not None
    estimated = process.fitted.parameter_count
    price = 2.0 if criterion == "aic" else math.log(process.fitted.observations)
    return price * estimated - 2 * (process.fitted.log_likelihood + process.fitted.jacobian)


@dataclass(frozen=True)
class Choices:
    """Whether logs and how many differences are taken of a series, and the tests that say so."""

    values: Floats
    season: int

    @cached_property
    def spread(self) -> Test:
        """Whether the spread grows with the level."""
        return spread_against_level(self.values, self.season)

    @cached_property
    def log(self) -> bool:
        """Whether logs are taken."""
        above = bool(np.nanmin(self.values) > 0)
        return above and self.spread.p < 0.05 and self.spread.statistic > POWER

    @cached_property
    def modelled(self) -> Floats:
        """The values, or their logs."""
        return np.log(self.values) if self.log else self.values

    @cached_property
    def seasonal_differences(self) -> int:
        """How often it is differenced over the season."""
        return int(self.seasonal.p < 0.05 and self.strength >= MANY_SEASONAL)

    @cached_property
    def seasonal(self) -> Test:
        """Whether it has a season."""
        if self.season < 2 or len(self.values) < 3 * self.season:
            return Test("season", math.nan, 1.0, "fewer than 3 seasons cannot show one")
        return has_season(self.modelled, self.season)

    @cached_property
    def strength(self) -> float:
        """How much of what is not trend is season, from 0 to 1."""
        return seasonal_strength(self.modelled, self.season)

    @cached_property
    def differenced(self) -> list[tuple[int, Test, Test]]:
        """The number of differences, with the tests of what it leaves: until KPSS finds nothing
        against a stationary level.
        """
        x = self.modelled
        if self.seasonal_differences:
            x = x[self.season :] - x[: -self.season]
        tested = []
        for times in range(MOST_DIFFERENCES + 1):
            values = x[~np.isnan(x)]
            if len(values) < 8 or np.ptp(values) == 0:
                break
            tested.append((times, unit_root(x), kpss(x)))
            if tested[-1][2].p >= 0.05:
                break
            x = np.diff(x)
        return tested

    @property
    def differences(self) -> int:
        """How often it is differenced."""
        return (
            min(self.differenced[-1][0], 1 if self.seasonal_differences else MOST_DIFFERENCES)
            if self.differenced
            else 0
        )

    @property
    def words(self) -> list[str]:
        """What was chosen, and why, a sentence each."""
        if math.isnan(self.spread.statistic):
            said = ["no logs: too few seasons to show whether the spread grows with the level"]
        else:
            said = [f"{'logs' if self.log else 'no logs'}: {self.spread.words}"]
        if self.season > 1:
            how = "" if self.seasonal_differences else "not "
            reason = self.seasonal.words
            if self.seasonal.p < 0.05:
                reason += f", of strength {self.strength:.2f}; {MANY_SEASONAL} is the limit"
            said.append(f"{how}differenced over the season of {self.season}: {reason}")
        for times, root, level in self.differenced:
            count = (
                "no difference" if not times else f"{times} difference{'s' if times > 1 else ''}"
            )
            said.append(f"{count}: KPSS says {level.words}; the unit-root test says {root.words}")
        return said


def default_candidates(values: Floats, season: int, choices: Choices) -> list[Candidate]:
    """Return the processes that are tried when none are named."""
    return [*_arimas(season, choices), *_smoothings(values, season)]


def _arimas(season: int, choices: Choices) -> list[Candidate]:
    d, seasonal_d = choices.differences, choices.seasonal_differences
    plain = DIFFERENCED if d else STATIONARY
    if season < 2:
        orders = [(p, q, 0, 0) for p, q in plain]
    else:
        orders = [(p, q, sp, sq) for p, q in plain[:WITH_SEASON] for sp, sq in ((0, 1), (1, 0))]
        orders += [(1, 1, 1, 1), (*plain[0], 0, 0), (0, 0, 0, 0)]
    arimas = []
    for p, q, sp, sq in orders:
        constants = (False,) if d + seasonal_d > 1 else ((False, True) if d else (True,))
        arimas += [
            _arima((p, d, q), (sp, seasonal_d, sq, season), choices.log, constant)
            for constant in constants
        ]
    return arimas


def _arima(
    order: tuple[int, int, int], seasonal: tuple[int, int, int, int], log: bool, constant: bool
) -> Candidate:
    name = f"{'log ' if log else ''}arima ({order[0]},{order[1]},{order[2]})"
    if any(seasonal[:3]):
        name += f"({seasonal[0]},{seasonal[1]},{seasonal[2]}){seasonal[3]}"
    else:
        seasonal = (0, 0, 0, 0)
    differenced = order[1] + seasonal[1] > 0
    if differenced and constant:
        name += " +c"
    if not differenced and not constant:
        name += " -c"
    options = (("order", order), ("seasonal", seasonal), ("log", log), ("constant", constant))
    group = f"arima, {order[1]} and {seasonal[1]} seasonal differences"
    return Candidate(name, Arima, options, group)


def _smoothings(values: Floats, season: int) -> list[Candidate]:
    smoothings = []
    kinds = [""]
    if season > 1:
        kinds += ["additive", "multiplicative"] if np.nanmin(values) > 0 else ["additive"]
    for kind in kinds:
        for trend, words in ((False, "level"), (True, "trend"), ("damped", "damped trend")):
            name = f"smoothing: {words}{SIGNS[kind]}"
            options: tuple[tuple[str, Any], ...] = (("trend", trend),)
            if kind:
                options = (*options, ("season", season), ("season_kind", kind))
            smoothings.append(
                Candidate(name, ExponentialSmoothing, options, "exponential smoothing")
            )
    return smoothings


def _garches() -> list[Candidate]:
    return [
        Candidate(
            f"garch, {label} shocks{', ar mean' if mean == 'ar' else ''}",
            Garch,
            (("shocks", label), ("mean", mean)),
            "garch",
        )
        for label in ("normal", "t")
        for mean in ("constant", "ar")
    ]


def named_candidates(
    names: Iterable[str], values: Floats, season: int, choices: Choices
) -> list[Candidate]:
    """Return the candidates that names stand for: a whole family, or one process as the table
    writes it.
    """
    families = {
        "arima": _arimas(season, choices),
        "exponential smoothing": _smoothings(values, season),
        "garch": _garches(),
    }
    single = {candidate.name: candidate for group in families.values() for candidate in group}
    candidates: list[Candidate] = []
    for name in names_in("candidates", names):
        if name in families:
            candidates += families[name]
        elif name in single:
            candidates.append(single[name])
        else:
            candidates.append(_parsed(name, [*families, *single]))
    return candidates


def _parsed(name: Any, known_names: list[str]) -> Candidate:
    """Return an Arima process by its name, such as "log arima (1,1,0)(0,1,1)12 +c"; +c adds a
    constant, -c leaves it out.
    """
    match = _NAME.fullmatch(name) if isinstance(name, str) else None
    if match is None:
        raise ParameterError(f"no process {name!r:.60}", unknown=str(name), known=known_names)
    p, d, q, sp, seasonal_d, sq, season = (int(group or 0) for group in match.groups()[1:8])
    said = match.group(9)
    constant = said != " -c" and (said is not None or d + seasonal_d == 0)
    return _arima((p, d, q), (sp, seasonal_d, sq, season), bool(match.group(1)), constant)
