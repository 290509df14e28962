"""What a model says about drivers that move together, and the groups it makes of that."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.dependence import convert
from kindynos.dependence.copulas import ARCHIMEDEAN, COPULAS, Elliptical, StudentCopula, of_tau
from kindynos.dependence.groups import DriverGroup, LevelGroup
from kindynos.dependence.matrices import (
    conflicting_pairs,
    is_correlation_matrix,
    nearest_correlation,
)
from kindynos.dependence.scores import Scores
from kindynos.distributions.base import Distribution
from kindynos.distributions.normal import Normal
from kindynos.errors import ModelError, ParameterError
from kindynos.processes.together import needs_search, shared_shocks
from kindynos.program.quantities import DependentDriver, DistributionDriver, Driver, ProcessDriver
from kindynos.validate import finite, invalid_argument, one_of

KINDS = ("rank", "linear")
FEWEST_DF = 0.5  # of a t copula; below, its mixing variance leaves the floats
BUMP = 1e-3  # of a normal score
MOST_TOGETHER = 500  # drivers in one correlation matrix


@dataclass(frozen=True)
class Correlation:
    """One statement: these drivers move together so strongly, in this way."""

    names: tuple[str, ...]
    value: float | None = None  # a correlation; None for a copula given by its parameter
    kind: str = "rank"
    copula: str = "gaussian"
    df: float | None = None
    parameter: float | None = None
    tau: float | None = None
    repair: bool = False


@dataclass(frozen=True)
class Repair:
    """An entry that moved when a matrix that cannot be was repaired."""

    first: str
    second: str
    requested: float
    used: float


def checked_correlation(names: Sequence[Any], value: Any, **options: Any) -> Correlation:
    """Return a correlation of checked arguments; raises ParameterError or ModelError for each that
    is wrong.
    """
    entry = Correlation(tuple(names), value, **options)
    one_of("kind", entry.kind, KINDS)
    one_of("copula", entry.copula, COPULAS)
    if len(entry.names) < 2:
        raise ModelError("name at least two drivers")
    for position, name in enumerate(entry.names):
        if name in entry.names[:position]:
            raise ModelError(f"{name!r} cannot be correlated with itself")
    stated = [value for value in (entry.value, entry.parameter, entry.tau) if value is not None]
    if len(stated) != 1:
        raise ModelError("state one of a correlation, parameter= and tau=")
    return (
        _checked_archimedean(entry) if entry.copula in ARCHIMEDEAN else _checked_elliptical(entry)
    )


def checked_matrix(
    pairs: Sequence[tuple[Sequence[Any], float]], **options: Any
) -> list[Correlation]:
    """Return the correlations of the pairs of a checked matrix; raises as checked_correlation for
    options that do not fit.
    """
    for names, value in pairs[:1]:
        checked_correlation(names, value, **options)
    return [Correlation(tuple(names), value, **options) for names, value in pairs]


def _checked_elliptical(entry: Correlation) -> Correlation:
    if (entry.df is not None) != (entry.copula == "t"):
        rule = "needs df=, its degrees of freedom" if entry.copula == "t" else "takes no df"
        raise ModelError(f"the {entry.copula} copula {rule}")
    if entry.df is not None and finite("df", entry.df) < FEWEST_DF:
        raise invalid_argument("df", f"at least {FEWEST_DF}", entry.df)
    if entry.parameter is not None:
        raise ModelError(
            f"the {entry.copula} copula is stated by a correlation or tau=, not parameter="
        )
    for name, value in (("the correlation", entry.value), ("tau", entry.tau)):
        if value is not None and not -1 <= finite(name, value) <= 1:
            raise invalid_argument(name, "from -1 to 1", value)
    if entry.kind == "linear" and entry.copula == "t":
        raise ModelError(
            "a linear correlation goes with the gaussian copula; state a rank correlation for the t"
        )
    return entry


def _checked_archimedean(entry: Correlation) -> Correlation:
    if entry.df is not None:
        raise ModelError(f"the {entry.copula} copula takes no df")
    if entry.value is not None:
        raise ModelError(
            f"the {entry.copula} copula is stated by parameter= or tau=, not by a correlation"
        )
    several = len(entry.names) > 2
    if entry.tau is not None:
        tau = finite("tau", entry.tau)
        low = -1 if entry.copula == "frank" and not several else 0
        if not low < tau < 1 or tau == 0:
            raise invalid_argument(
                f"tau of the {entry.copula} copula", f"between {low} and 1, and not 0", tau
            )
        return entry
    value = finite("parameter", entry.parameter)
    least, rule = {
        "clayton": (0.0, "above 0"),
        "gumbel": (1.0, "at least 1"),
        "frank": (-math.inf, "other than 0"),
    }[entry.copula]
    if entry.copula == "frank" and several:
        least, rule = 0.0, "above 0 for more than two drivers"
    if value < least or (value == 0 and entry.copula != "gumbel"):
        raise invalid_argument(f"parameter of the {entry.copula} copula", rule, value)
    return entry


def check_names(
    correlations: Sequence[Correlation], drivers: Mapping[str, Driver], valid: Sequence[str]
) -> None:
    """Raise ModelError for a correlation of what is not a driver, or for one of a kind that drivers
    that are not drawn alike cannot have.
    """
    rows = {name: driver.each_period for name, driver in drivers.items()}
    for entry in correlations:
        for name in entry.names:
            if name not in drivers:
                what = "a given figure or a line" if name in valid else "not declared"
                raise ModelError(
                    f"{name!r} is {what}; only drivers are correlated", unknown=name, known=drivers
                )
        plain = entry.kind == "rank" and entry.copula == "gaussian"
        if len({rows[name] for name in entry.names}) > 1 and not plain:
            pair = " and ".join(entry.names)
            raise ModelError(
                f"{pair} are not drawn alike: one has one number per trial, the other one "
                "each period; state a rank correlation of the gaussian copula, which is then "
                "that with its level over all periods"
            )


def groups_of(
    correlations: Sequence[Correlation], drivers: Mapping[str, Driver], periods: int
) -> tuple[tuple[DriverGroup, ...], tuple[DriverGroup, ...], tuple[Repair, ...]]:
    """Return the groups of drivers that move together, the groups of their further shocks, such as
    those that decide when jumps come, and the entries that were repaired.

    Raises ParameterError, naming the most conflicting pairs, for correlations that cannot hold
    together.
    """
    groups: list[DriverGroup] = []
    further: list[DriverGroup] = []
    repairs: list[Repair] = []
    for names in _connected(correlations, drivers):
        members = set(names)
        inside = [entry for entry in correlations if entry.names[0] in members]
        serial = {n: convert.of_rank(s) for n in names if (s := serial_of(drivers[n])) is not None}
        if not inside:
            groups.append(DriverGroup(names, Elliptical(((1.0,),)), serial))
            continue
        group, shifted = _group(names, inside, drivers, serial, periods)
        shared = _shared(group, drivers)
        groups.append(shared[0] if shared else group)
        further += shared[1:]
        repairs += shifted
    return tuple(groups), tuple(further), tuple(repairs)


def _shared(group: DriverGroup, drivers: Mapping[str, Driver]) -> list[DriverGroup]:
    """Return the group of processes with jumps, regimes or fat tails whose returns have the
    correlations stated, and the groups of their further shocks; none for others.

    See ``kindynos.processes.together``.
    """
    members = [drivers[name] for name in group.names]
    processes = [
        member for member in members if isinstance(member, ProcessDriver) and not member.uncertain
    ]
    alike = len(processes) == len(members) and len({member.dt for member in processes}) == 1
    copula = group.copula
    if not alike or not isinstance(copula, Elliptical) or copula.df is not None:
        return []
    kinds = [member.process for member in processes]
    if not any(map(needs_search, kinds)) or any(kind.dated or kind.gap for kind in kinds):
        return []
    result = shared_shocks(kinds, np.array(copula.matrix), processes[0].dt, "together", "together")
    groups = [DriverGroup(group.names, Elliptical(_rows(result.main)))]
    for position, matrix, places in result.rows(kinds):
        if position and len(places) > 1:
            named = tuple(
                f"{processes[i].shares or processes[i].name}, shock {position + 1}" for i in places
            )
            own = Elliptical(_rows(matrix[np.ix_(places, places)]))
            groups.append(DriverGroup(named, own, drivers=group.names))
    return groups


def serial_of(driver: Driver) -> float | None:
    """Return the rank correlation of a driver's neighbouring periods, None where none is stated."""
    return driver.serial if isinstance(driver, DistributionDriver | DependentDriver) else None


def _connected(
    correlations: Sequence[Correlation], drivers: Mapping[str, Driver]
) -> list[tuple[str, ...]]:
    """Return the sets of drivers that links connect, and single drivers with a serial correlation,
    as declared.
    """
    home = {name: [name] for name in drivers}
    for entry in correlations:
        for name in entry.names[1:]:
            if home[name] is not home[entry.names[0]]:
                joined, added = sorted((home[entry.names[0]], home[name]), key=len, reverse=True)
                joined += added
                home.update(dict.fromkeys(added, joined))
    by_name = {name: i for i, name in enumerate(drivers)}
    linked = {id(home[name]): home[name] for name in drivers if len(home[name]) > 1}
    connected = [tuple(sorted(names, key=by_name.__getitem__)) for names in linked.values()]
    alone = [
        (name,) for name in drivers if len(home[name]) == 1 and serial_of(drivers[name]) is not None
    ]
    connected = sorted({*connected, *alone}, key=lambda members: by_name[members[0]])
    for members in connected:
        if len(members) > MOST_TOGETHER:
            raise ModelError(
                f"{len(members):,} drivers are linked by correlations; at most "
                f"{MOST_TOGETHER:,} may be"
            )
    return connected


def _group(
    names: tuple[str, ...],
    correlations: Sequence[Correlation],
    drivers: Mapping[str, Driver],
    serial: Mapping[str, float],
    periods: int,
) -> tuple[DriverGroup, list[Repair]]:
    first, repair = correlations[0], any(entry.repair for entry in correlations)
    singles = tuple(name for name in names if not drivers[name].each_period)
    mixed = 0 < len(singles) < len(names)
    _check_one_copula(names, correlations, serial)
    if first.copula in ARCHIMEDEAN:
        value = first.parameter if first.tau is None else of_tau(first.copula, first.tau)
        assert value is not None
        return DriverGroup(names, ARCHIMEDEAN[first.copula](value)), []
    if mixed:
        ordered = (*(name for name in names if name not in singles), *singles)
        matrix = _of_scores(ordered, correlations, drivers)
        return _level_group(matrix, ordered, singles, drivers, serial, periods, repair)
    matrix, shifted = _possible(_of_scores(names, correlations, drivers), names, repair)
    if first.df is not None:
        return DriverGroup(names, StudentCopula(_rows(matrix), first.df)), shifted
    if not serial:
        return DriverGroup(names, Elliptical(_rows(matrix))), shifted
    renewed = Elliptical(_rows(_innovations(matrix, names, serial)))
    return DriverGroup(names, renewed, serial, Elliptical(_rows(matrix))), shifted


def _check_one_copula(
    names: tuple[str, ...], correlations: Sequence[Correlation], serial: Mapping[str, float]
) -> None:
    """Raise ModelError for statements about drivers that hang together but cannot hold together."""
    first = correlations[0]
    if {(entry.copula, entry.df) for entry in correlations} != {(first.copula, first.df)}:
        raise ModelError(f"{', '.join(names)} hang together and need one copula, not several")
    if serial and first.copula != "gaussian":
        raise ModelError(f"serial= goes with the gaussian copula, not with {first.copula}")
    if first.copula in ARCHIMEDEAN and len(correlations) > 1:
        raise ModelError(
            f"{', '.join(names)} share a {first.copula} copula; state it once, with all its drivers"
        )


def _of_scores(
    names: tuple[str, ...], correlations: Sequence[Correlation], drivers: Mapping[str, Driver]
) -> Floats:
    """Return the correlations of normal scores that are stated, ``(drivers, drivers)``."""
    matrix = np.eye(len(names))
    places = {name: position for position, name in enumerate(names)}
    marginals = {name: convert.Marginal(_marginal(drivers[name])) for name in names}
    for entry in correlations:
        for a, named in enumerate(entry.names):
            for other in entry.names[a + 1 :]:
                i, j = places[named], places[other]
                matrix[i, j] = matrix[j, i] = _normal(entry, drivers, marginals, named, other)
    return matrix


def _level_group(
    matrix: Floats,
    names: tuple[str, ...],
    singles: tuple[str, ...],
    drivers: Mapping[str, Driver],
    serial: Mapping[str, float],
    periods: int,
    repair: bool,
) -> tuple[DriverGroup, list[Repair]]:
    """Return the group of drivers with one number each period and, after them, with one per trial:
    levels are as correlated as their shocks are, as far as they hang on the same periods or on
    those before.

    The score of one driver t periods after that of another is correlated with it by their own
    correlation times the first one's serial correlation to the power of t.
    """
    count = len(names) - len(singles)
    rows = names[:count]
    weights = np.array([_level_weights(drivers[name], periods) for name in rows])
    between, shifted = _possible(matrix[:count, :count].copy(), rows, repair)
    phi = np.array([serial.get(name, 0.0) for name in rows])[:, None, None]
    lags = np.subtract.outer(np.arange(periods), np.arange(periods))
    later = np.where(lags >= 0, phi ** np.maximum(lags, 0), 0.0)  # of the first after the second
    before = np.where(lags < 0, phi ** np.maximum(-lags, 0), 0.0)
    shared = np.einsum("it,its,js->ij", weights, later, weights)
    shared += np.einsum("it,jts,js->ij", weights, before, weights)
    sizes = np.sqrt(np.diag(shared))
    matrix[:count, :count] = between * shared / np.outer(sizes, sizes)
    np.fill_diagonal(matrix, 1.0)
    of_levels, moved = _possible(matrix, names, repair)
    group = LevelGroup(
        names,
        Elliptical(_rows(_innovations(between, rows, serial))),
        serial,
        Elliptical(_rows(between)) if serial else None,
        levels=Elliptical(_rows(of_levels)),
        weights=_rows(weights / sizes[:, None]),
    )
    return group, [*shifted, *moved]


def _level_weights(driver: Driver, periods: int) -> Floats:
    """Return how the mean of a driver over all periods moves with the normal score of each period,
    ``(periods,)``, scaled to squares that add up to 1.
    """
    weights = np.ones(periods)
    if isinstance(driver, ProcessDriver):
        normal = {
            request.name: np.zeros((request.rows, periods + 1) if request.rows else periods + 1)
            for request in driver.requests(periods)
        }
        np.fill_diagonal(normal[driver.shares or driver.name], BUMP)
        levels = driver.values(Scores({}, normal)).mean(axis=0)
        weights = levels[:-1] - levels[-1]
        if driver.process.dated or not np.abs(weights).max() > 0:
            raise ModelError(
                f"{driver.name!r} draws dates of its history, or its own shocks change nothing; it "
                "has no level that one number per trial could be correlated with"
            )
    return np.asarray(weights / np.linalg.norm(weights))


def _rows(matrix: Floats) -> tuple[tuple[float, ...], ...]:
    return tuple(map(tuple, matrix.tolist()))


def _possible(matrix: Floats, names: Sequence[str], repair: bool) -> tuple[Floats, list[Repair]]:
    """Return the matrix if it can be, or repaired with what moved; raises ParameterError for one
    that cannot be.

    Rank correlations that can hold together, but lie at the edge, may be a little beyond it as
    correlations of normal scores: then the nearest that can be are taken.
    """
    if is_correlation_matrix(matrix):
        return matrix, []
    if not repair and not is_correlation_matrix(
        np.vectorize(convert.to_rank)(np.clip(matrix, -1, 1))
    ):
        raise ParameterError(
            "these correlations cannot hold together: "
            f"{'; '.join(conflicting_pairs(matrix, names, convert.to_rank))}. "
            "See kd.nearest_correlation(matrix), or say repair=True"
        )
    near = nearest_correlation(matrix)
    repairs = [
        Repair(
            names[i],
            names[j],
            convert.to_rank(float(matrix[i, j])),
            convert.to_rank(float(near[i, j])),
        )
        for i in range(len(names))
        for j in range(i + 1, len(names))
        if abs(near[i, j] - matrix[i, j]) > 1e-9
    ]
    return near, repairs


def _normal(
    entry: Correlation,
    drivers: Mapping[str, Driver],
    marginals: Mapping[str, convert.Marginal],
    first: str,
    second: str,
) -> float:
    """Return the correlation of normal scores behind a correlation of two drivers."""
    if entry.tau is not None:
        return convert.of_tau(entry.tau)
    assert entry.value is not None
    if entry.kind == "linear":
        for name in (first, second):
            if isinstance(drivers[name], DependentDriver):
                raise ModelError(f"{name!r} has named parameters; state a rank correlation with it")
        try:
            return convert.of_linear(entry.value, marginals[first], marginals[second])
        except ParameterError as error:
            raise ParameterError(f"{first} with {second}: {error}") from None
    return (
        convert.of_rank(entry.value)
        if entry.df is None
        else convert.of_rank_t(entry.value, entry.df)
    )


def _marginal(driver: Driver) -> Distribution:
    """Return the distribution that is correlated: of a process that of its shocks."""
    return driver.distribution if isinstance(driver, DistributionDriver) else Normal(0.0, 1.0)


def _innovations(matrix: Floats, names: Sequence[str], serial: Mapping[str, float]) -> Floats:
    """Return the correlations of what is new each period, so that those of the chained scores are
    as asked.
    """
    if not serial:
        return matrix
    phi = np.array([serial.get(name, 0.0) for name in names])
    stretch = (1 - np.outer(phi, phi)) / np.sqrt(np.outer(1 - phi**2, 1 - phi**2))
    correlations = matrix * stretch
    np.fill_diagonal(correlations, 1.0)
    if np.abs(correlations).max() > 1 or not is_correlation_matrix(correlations):
        raise ParameterError(
            f"{', '.join(names)} cannot be so correlated with serial correlations so different"
        )
    return correlations
