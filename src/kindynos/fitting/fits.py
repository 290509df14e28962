"""Fitting one distribution from data: ``X.fit(values)``.

By maximum likelihood: the parameters under which the data are likeliest, with standard errors from
the curvature of the log likelihood there. Source: Casella and Berger, Statistical Inference (2002),
chapters 7 and 10.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import MISSING, fields, replace
from typing import Any, TypeVar

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.errors import ParameterError
from kindynos.fitting.data import Data, data_of
from kindynos.fitting.families import FAMILIES, Family
from kindynos.fitting.fit import Fit, ProfileIntervals, way_back
from kindynos.fitting.moments import by_lmoments, by_moments
from kindynos.fitting.newton import NewtonOptimum, at_optimum, climb
from kindynos.fitting.search import LikelihoodSearch
from kindynos.inference.intervals import Z
from kindynos.inference.later import Later
from kindynos.processes.clustering import less_told
from kindynos.validate import finite, one_of

METHODS = ("likelihood", "moments", "l-moments")
# of the extreme-value and Pareto distributions, whose likelihood has no maximum beyond -1
LEAST_SHAPE = -0.9
FEWEST_DF = 2.0001  # of Student's t by its sd
# of the way to the limit, from which it is tried too: there the curvature is lost in rounding
FAR = 0.35
VAGUE = 0.5  # sd of a parameter on its scale from which its limit is tried
AS_GOOD = 1e-3  # log likelihood by which a parameter's limit may be worse
MANY, FIRST = 20_000, 5_000  # values from which a few of them are searched first, and how many
FINISHING = 20  # steps from there, where few are needed but on a flat ridge
BOOTSTRAPPED = 200  # samples for the errors of moments
Kind = TypeVar("Kind", bound=Distribution)


def fit(
    kind: type[Kind],
    values: Any,
    weights: Any = None,
    *,
    method: str = "likelihood",
    at_least: Any = None,
    at_most: Any = None,
    weights_kind: str = "counts",
    truncated_below: Any = None,
    censored_above: Any = None,
    **fixed: float,
) -> Kind:
    """Return the distribution of a kind fitted to values; see ``Distribution.fit``."""
    family = family_of(kind)
    one_of("method", method, METHODS)
    data = data_of(
        values, weights, at_least, at_most, weights_kind, truncated_below, censored_above
    )
    held = held_parameters(family, data, fixed)
    check_support(family, data, held)
    if method != "likelihood":
        return _by_moments(kind, family, data, held, method)
    search = LikelihoodSearch(family, data, held)
    summit = summit_of(search)
    by_name = {name: float(value) for name, value in search.parameters(summit.theta[0]).items()}
    check_maximum(kind, by_name)
    pinned = _limits(search, summit)
    if pinned:
        search, summit = pinned[0], pinned[1]
        by_name = {name: float(value) for name, value in search.parameters(summit.theta[0]).items()}
    made = _made(kind, search, summit, by_name, pinned[2] if pinned else {}, dict(fixed))
    factor, clusters = 1.0, ""
    if data.even and data.plain:
        factor, clusters = less_told(data.values, own_tails=len(search.free) > 2)
    if clusters:
        object.__setattr__(made, "fitted", made.fitted.widened(factor, clusters))
    return made


def family_of(kind: type[Distribution]) -> Family:
    """Return how a distribution is fitted; raises ParameterError for one that is not."""
    if kind.label not in FAMILIES:
        reason = _NOT_LEARNED.get(kind.label, "its parameters are stated, not fitted")
        raise ParameterError(f"cannot be fitted to values: {reason}")
    return FAMILIES[kind.label]


_NOT_LEARNED = {
    "mixture": "its likelihood has no maximum, since one part can collapse onto a single value",
    "hypergeometric": "how many were drawn, and from how many, is known",
    "empirical": "it holds the values themselves: Empirical(values)",
    "kernel density": "it holds the values themselves: KernelDensity(values)",
    "histogram": "it is made of the counts in each interval: Histogram(edges, weights)",
}


def held_parameters(family: Family, data: Data, fixed: Mapping[str, Any]) -> dict[str, float]:
    """Return the parameters that are not searched for: those given, those with a default, and ends
    that lie at the data.
    """
    kind: Any = family.kind
    names = [field.name for field in fields(kind)]
    defaults = {f.name: f.default for f in fields(kind) if f.default is not MISSING}
    by_name: dict[str, float] = {}
    for name, value in fixed.items():
        if name not in names:
            raise ParameterError(f"no parameter {name!r} to hold", unknown=name, known=names)
        by_name[name] = float(kind.rules.get(name, finite)(name, value))
    for name in family.needed:
        if name not in by_name and name not in defaults:
            listed = " and ".join(f"{needed}=" for needed in family.needed)
            raise ParameterError(
                f"give {listed}; with {name} free the likelihood has no maximum to speak of"
            )
    by_name = {**defaults, **by_name}
    for name, side in family.at_data.items():
        if name not in by_name and side < 0 and data.thresholds is not None:
            raise ParameterError(
                f"give {name}=, the lower end: the smallest value seen says nothing of it where "
                "smaller ones are not recorded"
            )
        if name not in by_name:
            values = data.values[data.known]
            by_name[name] = float(values.min() if side < 0 else values.max())
    if all(name in fixed for name in names):
        raise ParameterError("every parameter is held; there is nothing to estimate")
    return by_name


def check_support(family: Family, data: Data, held: Mapping[str, float]) -> None:
    """Raise ParameterError for values that the distribution cannot give, naming the first."""
    reason = outside(family, data, held)
    if reason:
        raise ParameterError(reason)


def outside(family: Family, data: Data, held: Mapping[str, float]) -> str:
    """Return why a distribution cannot have given the values, nothing where it can."""
    x, seen = data.values, data.known
    low = (
        held.get("low", held.get("location", family.low))
        if family.at_data or family.needed
        else family.low
    )
    high = held.get("high", family.high)
    if family.kind.label == "binomial":
        high = held["trials"]
    if family.whole and (x != np.floor(x)).any():
        return f"{data.named(x != np.floor(x))}; it gives whole numbers only"
    open_ends = family.open_ends and not family.at_data
    below, above = (x <= low, x >= high) if open_ends else (x < low, x > high)
    below, above = below & seen, above & seen
    if below.any():
        return f"{data.named(below)}; its values lie {'above' if open_ends else 'from'} {low:g}"
    if above.any():
        return f"{data.named(above)}; its values lie {'below' if open_ends else 'up to'} {high:g}"
    return _bound_beyond(data, low, high, open_ends)


def _bound_beyond(data: Data, low: float, high: float, open_ends: bool) -> str:
    """Return that a value is known only to lie beyond an end, nothing where none is."""
    x = data.values
    for bound, beyond, end in (
        (data.above, x >= high if open_ends else x > high, f"upper end, {high:g}"),
        (data.below, x <= low if open_ends else x < low, f"lower end, {low:g}"),
    ):
        if (bound & beyond).any():
            side = "at least" if end.startswith("upper") else "at most"
            told = data.named(bound & beyond).replace(" is ", f" is known only to be {side} ")
            return f"{told}, which lies beyond the {end}; give that end"
    return ""


def summit_of(search: LikelihoodSearch) -> NewtonOptimum:
    """Return the best summit: the exact one where there is one, otherwise the best that is reached
    from the starts; of many values, the one that is reached from the summit of a few of them.
    """
    if not search.free:
        return search.flat_summit(np.empty((1, 0)))
    exact = search.exact()
    if exact is not None:
        theta = search.theta(exact)[None]
        return (
            at_optimum(search.likelihood, theta)
            if search.family.smooth
            else search.flat_summit(theta)
        )
    low, high = search.bounds
    many = search.rows is None and search.data.values.size > MANY
    if many and search.data.even and search.data.plain:
        few = replace(search, data=search.data.thinned(FIRST))
        start = search.theta(few.parameters(summit_of(few).theta[0]))
        reached = climb(search.likelihood, np.clip(start, low, high)[None], low, high, FINISHING)
        if np.isfinite(reached.value).all():
            return reached
    starts = np.array([search.theta(start) for start in search.starts()])
    starts = np.clip(starts, low, high)
    begun = search.likelihood(starts[:, None, :], np.arange(len(starts)))[:, 0]
    starts = starts[np.argsort(-begun)][: int(np.isfinite(begun).sum())]
    if not len(starts):
        raise ParameterError("finds no parameters under which all the values are possible")
    reached = climb(search.likelihood, starts[:1], low, high)
    if reached.converged.all() or len(starts) == 1:
        return reached
    others = climb(search.likelihood, starts[1:], low, high)
    return (
        reached
        if reached.value[0] >= others.value.max()
        else others.row(int(np.argmax(others.value)))
    )


def check_maximum(kind: type[Distribution], parameters: Mapping[str, float]) -> None:
    """Raise ParameterError where the likelihood has no maximum."""
    if kind.__name__.startswith("Generalized") and parameters["shape"] <= LEAST_SHAPE:
        raise ParameterError(
            "the likelihood has no maximum: it grows without end as the upper end of the "
            "distribution, at a shape below -1, "
            "comes down to the largest value; method='l-moments' has an answer"
        )
    if "df" in parameters and "sd" in parameters and parameters["df"] < FEWEST_DF:
        raise ParameterError(
            "the data are likeliest with df below 2, where the sd does not exist; use "
            "StudentTByScale.fit"
        )


def _limits(
    search: LikelihoodSearch, summit: NewtonOptimum
) -> tuple[LikelihoodSearch, NewtonOptimum, dict[str, str]] | None:
    """Return the search with a parameter at the limit towards which it runs off, None where none
    does.
    """
    for name, (theta, reason) in search.family.limits.items():
        if name not in search.free:
            continue
        index = search.free.index(name)
        if search.spread_of(summit, index) < VAGUE and abs(summit.theta[0, index]) < FAR * theta:
            continue
        limit = (
            math.copysign(theta, float(summit.theta[0, index]))
            if name in ("shape", "mode")
            else theta
        )
        narrowed = search.holding(name, search.value_at(name, limit))
        reached = narrowed.climb_from(np.delete(summit.theta[0], index))
        if reached.value[0] >= summit.value[0] - AS_GOOD:
            return narrowed, reached, {name: reason.format(name=name)}
    return None


def _made(
    kind: type[Kind],
    search: LikelihoodSearch,
    summit: NewtonOptimum,
    outcome_found: dict[str, float],
    at_bound: dict[str, str],
    fixed: dict[str, float],
) -> Kind:
    """Return the distribution with the error of its fit."""
    made: Any = kind
    distribution = made(**{f.name: _of_type(f, outcome_found[f.name]) for f in fields(made)})
    theta_covariance = search.theta_covariance(summit)
    covariance = search.covariance(summit, theta_covariance)
    errors, intervals = search.errors(summit, theta_covariance)
    for name, side in search.family.at_data.items():
        if name not in fixed:
            errors[name], intervals[name] = _end_error(search, distribution, name, side)
            at_bound[name] = (
                f"{name} is the {'smallest' if side < 0 else 'largest'} value, where the "
                "likelihood is highest"
            )
    at_limits = [name for name in at_bound if name not in search.family.at_data]
    for name in at_limits:
        errors[name] = math.inf
        # Beyond a location nothing lies, so that the curvature does not tell its error; a t
        # distribution has no such end.
        if "location" in errors and name != "df":
            errors["location"], intervals["location"] = math.inf, (-math.inf, math.inf)
    edges = {name: way_back(search, summit, name) for name in at_limits}
    data = search.data
    record = Fit(
        estimates=outcome_found,
        standard_errors=errors,
        intervals=(
            Later(ProfileIntervals(search, summit, intervals, edges), "found")
            if search.family.limits
            or data.thresholds is not None
            or (not search.family.smooth and search.free == ["mode"])
            else intervals
        ),
        names=tuple(search.free),
        covariance=covariance,
        log_likelihood=float(summit.value[0]),
        observations=data.total,
        fixed=fixed,
        at_bound=at_bound,
        method="likelihood",
        description=_description(data, fixed, at_bound),
        label=search.family.label,
        theta=tuple(map(float, summit.theta[0])),
        theta_covariance=tuple(map(tuple, theta_covariance.tolist())),
        centre=search.centre,
        spread=search.spread,
        edges=edges,
        search=search.without(edges),
        parameters=len(search.free) + _ends_learned(search.family, fixed) + len(at_limits),
    )
    object.__setattr__(distribution, "fitted", record)
    result: Kind = distribution
    return result


def _ends_learned(family: Family, fixed: Mapping[str, float]) -> int:
    return sum(name not in fixed for name in family.at_data)


def _of_type(field: Any, value: float) -> Any:
    return int(value) if str(field.type) == "int" else float(value)


def _end_error(
    search: LikelihoodSearch, fitted: Distribution, name: str, side: int
) -> tuple[float, tuple[float, float]]:
    """Return error and interval of an end at the data: its distance to the true one is
    exponential.
    """
    end = search.held[name]
    density = float(fitted._density(np.array([end]))[0])
    error = 1 / (search.data.total * density)
    reach = -math.log(0.05) * error
    return error, ((end - reach, end) if side < 0 else (end, end + reach))


def _description(data: Data, fixed: Mapping[str, float], at_bound: Mapping[str, str]) -> str:
    parts = [f"maximum likelihood from {data.total:g} values"]
    if data.above.any():
        parts.append(f"{int(data.above.sum())} of them known only to be at least so much")
    if data.below.any():
        parts.append(f"{int(data.below.sum())} of them known only to be at most so much")
    if data.thresholds is not None:
        parts.append(f"recorded only above {_thresholds(data.thresholds)}")
    parts += [f"{name} held at {value:g}" for name, value in fixed.items()]
    return "; ".join([*parts, *at_bound.values()])


def _thresholds(thresholds: Floats) -> str:
    low, high = (float(end) for end in (thresholds.min(), thresholds.max()))
    if low == high:
        return f"{low:,g}"
    return f"thresholds of up to {high:,g}" if math.isinf(low) else f"{low:,g} to {high:,g}"


def _by_moments(
    kind: type[Kind], family: Family, data: Data, held: dict[str, float], method: str
) -> Kind:
    """Return the distribution with the data's moments, and errors from samples drawn of it and
    fitted in the same way.
    """
    if not data.plain:
        raise ParameterError(
            f"method={method!r} needs values that are known exactly, and all of them; use the "
            "likelihood"
        )
    solve = by_moments if method == "moments" else by_lmoments
    solved = solve(kind, data, held)
    drawn = solved.sample((BOOTSTRAPPED, len(data.values)), seed=0, purpose="moments")
    names = [name for name in family.scales if name not in held]
    again = []
    for row in drawn:
        try:
            other = solve(kind, Data(row, data.weights, data.above, data.below), held)
        except ParameterError:
            continue
        again.append([getattr(other, name) for name in names])
    sample = np.array(again)
    covariance = np.atleast_2d(np.cov(sample.T))
    estimates = {field.name: float(getattr(solved, field.name)) for field in fields(_any(kind))}
    errors = {name: float(sd) for name, sd in zip(names, np.sqrt(np.diag(covariance)), strict=True)}
    intervals = {
        name: (estimates[name] - Z * error, estimates[name] + Z * error)
        for name, error in errors.items()
    }
    likelihood = float(data.weights @ np.log(np.maximum(solved._density(data.values), 1e-300)))
    record = Fit(
        estimates=estimates,
        standard_errors=errors,
        intervals=intervals,
        names=tuple(names),
        parameters=len(names),
        covariance=tuple(tuple(map(float, row)) for row in covariance),
        log_likelihood=likelihood,
        observations=data.total,
        fixed={},
        at_bound={},
        method=method,
        label=family.label,
        sample=tuple(map(tuple, sample.tolist())),
        description=f"by {method} from {data.total:g} values; errors from {len(sample)} samples "
        "of the distribution found",
    )
    object.__setattr__(solved, "fitted", record)
    return solved


def _any(value: Any) -> Any:
    return value
