"""What a model says about drivers that move together, and the groups it makes of that."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.dependence import convert
from kindynos.dependence.copulas import ARCHIMEDEAN, COPULAS, Elliptical, StudentCopula, of_tau
from kindynos.dependence.groups import DriverGroup
from kindynos.dependence.matrices import can_be, clashes, nearest_correlation
from kindynos.errors import ModelError, ParameterError, nearest
from kindynos.model.quantities import Driver
from kindynos.validate import finite, one_of, positive, wrong

Floats = NDArray[np.float64]

KINDS = ("rank", "linear")


@dataclass(frozen=True)
class Link:
    """One statement: these drivers move together so strongly, in this way."""

    names: tuple[str, ...]
    figure: float | None = None  # a correlation; None for a copula given by its parameter
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
    asked: float
    used: float


def checked_link(names: Sequence[Any], figure: Any, **options: Any) -> Link:
    """Return a link of checked arguments; raises ParameterError or ModelError for each that is wrong."""
    link = Link(tuple(names), figure, **options)
    one_of("correlate", "kind", link.kind, KINDS)
    if link.copula not in COPULAS:
        raise wrong("correlate", "copula", "one of " + ", ".join(map(repr, COPULAS)), link.copula)
    if len(link.names) < 2:
        raise ModelError("correlate: name at least two drivers")
    for place, name in enumerate(link.names):
        if name in link.names[:place]:
            raise ModelError(f"correlate: {name!r} cannot be correlated with itself")
    stated = [value for value in (link.figure, link.parameter, link.tau) if value is not None]
    if len(stated) != 1:
        raise ModelError("correlate: state one of a correlation, parameter= and tau=")
    return _checked_archimedean(link) if link.copula in ARCHIMEDEAN else _checked_elliptical(link)


def _checked_elliptical(link: Link) -> Link:
    if (link.df is not None) != (link.copula == "t"):
        rule = "needs df=, its degrees of freedom" if link.copula == "t" else "takes no df"
        raise ModelError(f"correlate: the {link.copula} copula {rule}")
    if link.df is not None:
        positive("correlate", "df", link.df)
    if link.parameter is not None:
        raise ModelError(f"correlate: the {link.copula} copula is stated by a correlation or tau=, not parameter=")
    for name, value in (("the correlation", link.figure), ("tau", link.tau)):
        if value is not None and not -1 <= finite("correlate", name, value) <= 1:
            raise wrong("correlate", name, "from -1 to 1", value)
    if link.kind == "linear" and link.copula == "t":
        raise ModelError("correlate: a linear correlation goes with the gaussian copula; state a rank correlation for the t")
    return link


def _checked_archimedean(link: Link) -> Link:
    if link.df is not None:
        raise ModelError(f"correlate: the {link.copula} copula takes no df")
    if link.figure is not None:
        raise ModelError(f"correlate: the {link.copula} copula is stated by parameter= or tau=, not by a correlation")
    several = len(link.names) > 2
    if link.tau is not None:
        tau = finite("correlate", "tau", link.tau)
        low = -1 if link.copula == "frank" and not several else 0
        if not low < tau < 1 or tau == 0:
            raise wrong("correlate", f"tau of the {link.copula} copula", f"between {low} and 1, and not 0", tau)
        return link
    value = finite("correlate", "parameter", link.parameter)
    least, rule = {"clayton": (0.0, "above 0"), "gumbel": (1.0, "at least 1"), "frank": (-math.inf, "other than 0")}[
        link.copula
    ]
    if link.copula == "frank" and several:
        least, rule = 0.0, "above 0 for more than two drivers"
    if value < least or (value == 0 and link.copula != "gumbel"):
        raise wrong("correlate", f"parameter of the {link.copula} copula", rule, value)
    return link


def check_names(links: Sequence[Link], drivers: Mapping[str, Driver], known: Sequence[str]) -> None:
    """Raise ModelError for a link of what is no driver, or of drivers that are not drawn alike."""
    for link in links:
        for name in link.names:
            if name not in drivers:
                what = "a given figure or a line" if name in known else "not declared"
                raise ModelError(f"correlate: {name!r} is {what}; only drivers are correlated{nearest(name, drivers)}")
        alike = {drivers[name].each for name in link.names}
        if len(alike) > 1:
            pair = " and ".join(link.names)
            raise ModelError(f"correlate: {pair} are not drawn alike: one has a number a trial, the other one each period")


def groups_of(links: Sequence[Link], drivers: Mapping[str, Driver]) -> tuple[tuple[DriverGroup, ...], tuple[Repair, ...]]:
    """Return the groups of drivers that move together, and the entries that were repaired.

    Raises ParameterError, naming the pairs that clash most, for correlations that cannot be.
    """
    groups: list[DriverGroup] = []
    repairs: list[Repair] = []
    for names in _connected(links, drivers):
        inside = [link for link in links if link.names[0] in names]
        serial = {n: convert.of_rank(s) for n in names if (s := drivers[n].serial) is not None}
        if not inside:
            groups.append(DriverGroup(names, Elliptical(((1.0,),)), serial))
            continue
        group, moved = _group(names, inside, drivers, serial)
        groups.append(group)
        repairs += moved
    return tuple(groups), tuple(repairs)


def _connected(links: Sequence[Link], drivers: Mapping[str, Driver]) -> list[tuple[str, ...]]:
    """Return the sets of drivers that links connect, and single drivers with a serial correlation, as declared."""
    home = {name: {name} for name in drivers}
    for link in links:
        joined = set().union(*(home[name] for name in link.names))
        for name in joined:
            home[name] = joined
    found = []
    for name in drivers:
        members = tuple(other for other in drivers if other in home[name])
        if members[0] == name and (len(members) > 1 or drivers[name].serial is not None):
            found.append(members)
    return found


def _group(
    names: tuple[str, ...], links: Sequence[Link], drivers: Mapping[str, Driver], serial: Mapping[str, float]
) -> tuple[DriverGroup, list[Repair]]:
    first = links[0]
    if {(link.copula, link.df) for link in links} != {(first.copula, first.df)}:
        raise ModelError(f"correlate: {', '.join(names)} hang together and need one copula, not several")
    if serial and first.copula != "gaussian":
        raise ModelError(f"correlate: serial= goes with the gaussian copula, not with {first.copula}")
    if first.copula in ARCHIMEDEAN:
        if len(links) > 1:
            raise ModelError(
                f"correlate: {', '.join(names)} share a {first.copula} copula; state it once, with all its drivers"
            )
        value = first.parameter if first.tau is None else of_tau(first.copula, first.tau)
        assert value is not None
        return DriverGroup(names, ARCHIMEDEAN[first.copula](value)), []
    matrix = np.eye(len(names))
    for link in links:
        for a, one in enumerate(link.names):
            for other in link.names[a + 1 :]:
                i, j = names.index(one), names.index(other)
                matrix[i, j] = matrix[j, i] = _normal(link, drivers[one], drivers[other])
    matrix, moved = _possible(matrix, names, any(link.repair for link in links))
    if first.df is not None:
        return DriverGroup(names, StudentCopula(_rows(matrix), first.df)), moved
    if not serial:
        return DriverGroup(names, Elliptical(_rows(matrix))), moved
    renewed = Elliptical(_rows(_innovations(matrix, names, serial)))
    return DriverGroup(names, renewed, serial, Elliptical(_rows(matrix))), moved


def _rows(matrix: Floats) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(float(value) for value in row) for row in matrix)


def _possible(matrix: Floats, names: Sequence[str], repair: bool) -> tuple[Floats, list[Repair]]:
    """Return the matrix if it can be, or repaired with what moved; raises ParameterError for one that cannot be."""
    if can_be(matrix):
        return matrix, []
    if not repair:
        raise ParameterError(
            f"correlate: these correlations cannot all be: {'; '.join(clashes(matrix, names, convert.to_rank))}. "
            "See kd.nearest_correlation(matrix), or say repair=True"
        )
    near = nearest_correlation(matrix)
    moved = [
        Repair(names[i], names[j], convert.to_rank(float(matrix[i, j])), convert.to_rank(float(near[i, j])))
        for i in range(len(names))
        for j in range(i + 1, len(names))
        if abs(near[i, j] - matrix[i, j]) > 1e-9
    ]
    return near, moved


def _normal(link: Link, first: Driver, second: Driver) -> float:
    """Return the correlation of normal scores behind a link of two drivers."""
    if link.tau is not None:
        return convert.of_tau(link.tau)
    assert link.figure is not None
    if link.kind == "linear":
        try:
            return convert.of_linear(link.figure, first.law, second.law)
        except ParameterError as error:
            raise ParameterError(f"correlate: {first.name} with {second.name}: {error}") from None
    return convert.of_rank(link.figure) if link.df is None else convert.of_rank_t(link.figure, link.df)


def _innovations(matrix: Floats, names: Sequence[str], serial: Mapping[str, float]) -> Floats:
    """Return the correlations of what is new each period, so that those of the chained scores are as asked."""
    if not serial:
        return matrix
    phi = np.array([serial.get(name, 0.0) for name in names])
    stretch = (1 - np.outer(phi, phi)) / np.sqrt(np.outer(1 - phi**2, 1 - phi**2))
    answer = matrix * stretch
    np.fill_diagonal(answer, 1.0)
    if np.abs(answer).max() > 1 or not can_be(answer):
        raise ParameterError(f"correlate: {', '.join(names)} cannot be so correlated with serial correlations so different")
    return answer
