"""What a fit found, and how sure it is."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.fitting.families import FAMILIES
from kindynos.inference.intervals import Z
from kindynos.inference.later import Later

if TYPE_CHECKING:
    from kindynos.fitting.newton import NewtonOptimum
    from kindynos.fitting.search import LikelihoodSearch
    from kindynos.inference.estimates import Estimate

DROP = Z**2 / 2  # in log likelihood, at the end of a 95 % interval
EDGE_DROP = 3.8  # the same at a limit, beyond the usual theory: holds 92 to 98 % in simulation
MOST_FALLS = 40
STEPS_BACK = 16  # from a limit to where the scale begins
FARTHEST = 3.2  # normal score up to which a parameter at its limit is drawn
WIDE = 0.15  # sd on its scale from which the curvature does not tell a parameter with a limit
GRID = 1_001  # values of a mode
FIRST_STEP, GROWTH = 0.15, 1.3  # of theta, along a profile
MEANINGLESS = 5.0  # sd on its scale from which a direction at a limit means nothing


@dataclass(frozen=True)
class Fit:
    """How a distribution was fitted to values; its ``fitted``.

    ``standard_errors`` are those of what was fitted and ``intervals`` their 95 % intervals, by
    parameter; ``covariance`` is that of the parameters ``names``, in order. ``fixed`` were held.
    ``at_bound`` says of a parameter that its best value lies at an end, and why; its error is
    infinite where no finite one is meant. ``parameters`` is how many were fitted, which AIC counts.
    """

    estimates: Mapping[str, float]
    standard_errors: Mapping[str, float]
    intervals: Mapping[str, tuple[float, float]]
    names: tuple[str, ...]
    covariance: tuple[tuple[float, ...], ...]
    log_likelihood: float
    observations: float
    fixed: Mapping[str, float]
    at_bound: Mapping[str, str]
    method: str
    description: str
    label: str
    parameters: int
    theta: tuple[float, ...] = ()
    theta_covariance: tuple[tuple[float, ...], ...] = ()
    centre: float = 0.0
    spread: float = 1.0
    sample: tuple[tuple[float, ...], ...] = ()
    # of a parameter at its limit: how far the log likelihood falls on the way back, the parameter
    # and the others' best values there, all as theta
    edges: Mapping[str, tuple[tuple[float, ...], ...]] = field(default_factory=dict)
    search: LikelihoodSearch | None = field(default=None, repr=False, compare=False)

    @property
    def aic(self) -> float:
        """Akaike's criterion, 2 x parameters - 2 x log likelihood. Source: Akaike, IEEE
        Transactions AC-19 (1974).
        """
        return 2 * self.parameters - 2 * self.log_likelihood

    @property
    def aicc(self) -> float:
        """Akaike's criterion with its correction for few values. Source: Hurvich and Tsai,
        Biometrika 76 (1989).
        """
        left = self.observations - self.parameters - 1
        return (
            self.aic + 2 * self.parameters * (self.parameters + 1) / left if left > 0 else math.inf
        )

    @property
    def bic(self) -> float:
        """Schwarz's criterion, log(n) x parameters - 2 x log likelihood. Source: Schwarz, Annals of
        Statistics 6 (1978).
        """
        return math.log(self.observations) * self.parameters - 2 * self.log_likelihood

    @cached_property
    def unseen(self) -> Estimate | None:
        """How many values lie below the thresholds, unrecorded, with the 95 % interval in which
        their number and the open parameters leave it; None for a fit without thresholds. The upper
        end is infinite where the records cannot tell.
        """
        from kindynos.fitting.truncated import unseen

        search = self.search
        if search is None or search.data.thresholds is None:
            return None
        covariance = np.array(self.theta_covariance)
        return unseen(search, np.array(self.theta), covariance, self.log_likelihood)

    def table(self) -> Any:
        """Return a DataFrame of the parameters: estimate, standard error, and both ends of the 95 %
        interval.
        """
        import pandas as pd

        rows = {
            name: (
                value,
                self.standard_errors.get(name, 0.0),
                *self.intervals.get(name, (value, value)),
            )
            for name, value in self.estimates.items()
        }
        return pd.DataFrame.from_dict(
            rows, orient="index", columns=["estimate", "error", "low", "high"]
        )

    def drawn(self, scores: Floats) -> list[dict[str, float]]:
        """Return parameters drawn as the fit leaves them open, one set per column of standard
        normal ``scores (6, draws)``.
        """
        from kindynos.distributions.special import chdtri, ndtr

        values: dict[str, Any] = {
            name: np.full(scores.shape[1], value) for name, value in self.estimates.items()
        }
        if self.sample:
            rows = np.array(self.sample)[(ndtr(scores[0]) * len(self.sample)).astype(int)]
            values.update(dict(zip(self.names, rows.T, strict=True)))
        elif self.names:
            values.update(self._drawn_near(scores, chdtri, ndtr))
        for position, name in enumerate(self.at_bound, start=len(self.names)):
            if name not in self.edges:
                values[name] = self._at_end(name, scores[min(position, len(scores) - 1)], ndtr)
        return [
            {name: float(value[i]) for name, value in values.items()}
            for i in range(scores.shape[1])
        ]

    def widened(self, factor: float, why: str) -> Fit:
        """Return the fit with errors and intervals for values that tell less than independent ones,
        whose variance is a factor larger.
        """
        root = math.sqrt(factor)
        errors = {name: root * error for name, error in self.standard_errors.items()}
        covariance = tuple(tuple(factor * cell for cell in row) for row in self.covariance)
        on_scale = tuple(tuple(factor * cell for cell in row) for row in self.theta_covariance)
        return replace(
            self,
            standard_errors=errors,
            intervals=Later(WidenedIntervals(self.estimates, self.intervals, root), "found"),
            covariance=covariance,
            theta_covariance=on_scale,
            search=None,  # whose likelihood is that of independent values
            description=f"{self.description}; {why}, which widens errors and intervals",
        )

    def _drawn_near(self, scores: Floats, chdtri: Any, ndtr: Any) -> dict[str, Floats]:
        """Return draws of the parameters that were searched for, with one that lies at its limit:
        those of the curvature, weighed by their likelihood.
        """
        from kindynos.fitting.search import scale_of

        family, count = FAMILIES[self.label], len(self.names)
        covariance = np.array(self.theta_covariance)
        if not self.edges and not np.isfinite(covariance).all():  # the curvature tells no error
            return {name: np.full(scores.shape[1], np.nan) for name in self.names}
        lengths, vectors = np.linalg.eigh(np.nan_to_num(covariance))
        # a direction along which the likelihood is flat changes nothing
        lengths = np.where(lengths > MEANINGLESS**2, 0.0, np.maximum(lengths, 0.0))
        # Student's t, and the variance that maximum likelihood lacks
        left = max(self.observations - count, 1.0)
        wide = scores[:count] * np.sqrt(left / chdtri(left, ndtr(-scores[-1])))
        steps = (vectors * np.sqrt(lengths * self.observations / left)) @ wide
        theta = np.repeat(np.array(self.theta)[:, None], scores.shape[1], axis=1)
        names = list(self.names)
        drawn = -(left + count) / 2 * np.log1p((wide**2).sum(axis=0) / left)  # log density
        for position, (name, rows) in enumerate(self.edges.items(), start=count):
            score = scores[min(position, len(scores) - 2)]
            edge, theta = _on_the_way_back(rows, score)
            drawn, names = drawn - score**2 / 2, [*names, name]
            theta, steps = np.vstack([theta, edge]), np.vstack([steps, np.zeros_like(edge)])
        theta = theta + steps
        if self.search is not None and family.smooth:
            theta = theta[:, self._likely(dict(zip(names, theta, strict=True)), drawn)]
        values = {}
        for name, row in zip(names, theta, strict=True):
            scale = scale_of(family, name, self.estimates)
            values[name] = scale.to(np.clip(row, scale.least, scale.most), self.centre, self.spread)
        return values

    def _likely(self, theta: Mapping[str, Floats], drawn: Floats) -> NDArray[np.int64]:
        """Return which draws are kept, ``(draws,)``: each as often as its likelihood, over the log
        density it was drawn with, says.

        Where the likelihood is as curved as at its maximum, all weigh alike. Source: Rubin, in
        Bayesian Statistics 3 (1988), 395-402.
        """
        assert self.search is not None
        points = np.stack([theta[name] for name in self.search.free])
        low, high = self.search.bounds
        inside = ((points >= low[:, None]) & (points <= high[:, None])).all(axis=0)
        clipped = np.clip(points, low[:, None], high[:, None]).T[None]
        with np.errstate(all="ignore"):
            logs = self.search.likelihood(clipped, np.array([0]))[0]
        weights = np.where(inside & np.isfinite(logs), logs - drawn, -np.inf)
        count = len(drawn)
        if not np.isfinite(weights).any():
            return np.arange(count, dtype=np.int64)
        shares = np.exp(weights - weights.max())
        places = (np.arange(count) + 0.5) / count
        reached = np.cumsum(shares) / shares.sum()
        return np.asarray(np.minimum(np.searchsorted(reached, places), count - 1), dtype=np.int64)

    def _at_end(self, name: str, scores: Floats, ndtr: Any) -> Floats:
        """Return draws of an end of the distribution that lies at the data: exponential beyond
        it.
        """
        low, at = self.intervals[name][0], self.estimates[name]
        reach = self.standard_errors[name] * -np.log1p(-ndtr(scores))
        return np.asarray(at - reach if low < at else at + reach)


def _on_the_way_back(rows: tuple[tuple[float, ...], ...], scores: Floats) -> tuple[Floats, Floats]:
    """Return draws of a parameter at its limit, and the others' best values there ``(others,
    draws)``: the likelihood falls by half the square of a normal score.
    """
    table = np.array(rows).T
    reach = np.maximum.accumulate(np.sqrt(2 * np.maximum(table[0], 0.0)))
    drawn = np.abs(scores)
    values = np.array([np.interp(drawn, reach, row) for row in table[1:]])
    return values[0], values[1:]


def way_back(
    search: LikelihoodSearch, summit: NewtonOptimum, name: str
) -> tuple[tuple[float, ...], ...]:
    """Return how the likelihood falls as a parameter goes back from its limit, the others at their
    best: rows of the fall, the parameter and the others, as theta.
    """
    open_search = search.without([name])
    scale = open_search.scales[name]
    far = float(scale.back(np.asarray(search.held[name]), search.centre, search.spread))
    top, here = float(summit.value[0]), summit.theta[0]
    rows = [(0.0, far, *map(float, here))]
    for step in range(1, MOST_FALLS):
        theta = far - math.copysign(step * max(abs(far) / STEPS_BACK, 0.25), far)
        reached = search.holding(name, open_search.value_at(name, theta)).climb_from(here)
        fall = top - float(reached.value[0])
        if not math.isfinite(fall):
            break
        here = reached.theta[0]
        rows.append((fall, theta, *map(float, here)))
        if fall > FARTHEST**2 / 2:
            break
    return tuple(rows)


def profile_interval(
    search: LikelihoodSearch, summit: NewtonOptimum, name: str
) -> tuple[float, float]:
    """Return the 95 % interval of a parameter at its limit: as far back as the likelihood stays
    within reach, and on to the end of its range.
    """
    limit = search.held[name]
    open_search = search.without([name])
    scale = open_search.scales[name]
    far = float(scale.back(np.asarray(limit), search.centre, search.spread))
    near, here = far, summit.theta[0]
    step = math.copysign(1.0, far)

    def below(theta: float) -> bool:
        holding = search.holding(name, open_search.value_at(name, theta))
        return float(holding.climb_from(here).value[0]) < float(summit.value[0]) - EDGE_DROP

    while not below(near - step) and abs(far - near) < MOST_FALLS:
        near -= step
    low, high = near - step, near
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (middle, high) if below(middle) else (low, middle)
    end, last = open_search.value_at(name, high), open_search.value_at(name, step * math.inf)
    return (end, last) if step > 0 else (last, end)


@dataclass(frozen=True)
class WidenedIntervals:
    """95 % intervals of parameters that reach ``times`` as far from the estimates; those of a
    parameter above 0, by its logarithm.
    """

    estimates: Mapping[str, float]
    before: Mapping[str, tuple[float, float]]
    times: float

    @cached_property
    def found(self) -> dict[str, tuple[float, float]]:
        """The intervals by name."""
        return {name: self._wider(self.estimates[name], ends) for name, ends in self.before.items()}

    def _wider(self, value: float, ends: tuple[float, float]) -> tuple[float, float]:
        low, high = ends
        if low > 0 and value > 0:
            reached = [value * (end / value) ** self.times for end in (low, high)]
        else:
            reached = [value + (end - value) * self.times for end in (low, high)]
        return reached[0], reached[1]


@dataclass(frozen=True)
class ProfileIntervals:
    """95 % intervals of a fit whose family has a parameter that may run to a limit: of the
    ``narrow`` search, which holds what did, and its ``summit``.

    ``known`` are those by the curvature. Where the likelihood tells little of that parameter, the
    curvature tells little of the others too, and theirs come from the profile likelihood.
    """

    narrow: LikelihoodSearch
    summit: NewtonOptimum
    known: Mapping[str, tuple[float, float]]
    edges: Mapping[str, tuple[tuple[float, ...], ...]]

    @cached_property
    def found(self) -> dict[str, tuple[float, float]]:
        """The intervals by name."""
        parameters, family = dict(self.known), self.narrow.family
        if not family.smooth:
            return parameters | self._allowed()
        for name in self.edges:
            parameters[name] = profile_interval(self.narrow, self.summit, name)
        search = self.narrow.without(self.edges)
        reached = dict(zip(self.narrow.free, self.summit.theta[0].tolist(), strict=True))
        reached |= {name: rows[0][1] for name, rows in self.edges.items()}
        best = np.array([reached[name] for name in search.free])
        vague = (
            self.edges
            or search.data.thresholds is not None
            or any(
                self.narrow.spread_of(self.summit, self.narrow.free.index(name)) > WIDE
                for name in family.limits
                if name in self.narrow.free
            )
        )
        # beyond a location nothing lies at such a limit: nothing bounds it, and a scale is bounded
        # from above alone
        half = self.edges and "location" in search.free and "df" not in self.edges
        for name in search.free if vague else []:
            if name not in self.edges and math.isfinite(parameters[name][0]):
                low, high = profile_ends(search, best, self.summit, name, bool(self.edges))
                parameters[name] = (0.0 if half and name == "scale" else low, high)
        return parameters

    def _allowed(self) -> dict[str, tuple[float, float]]:
        """Return the range of the one parameter that the likelihood allows, by all of a grid: it
        has a corner at every value.
        """
        (name,) = self.narrow.free
        low, high = self.narrow.held["low"], self.narrow.held["high"]
        scale = self.narrow.scales[name]
        mode = self.narrow.value_at(name, float(self.summit.theta[0, 0]))
        best = (mode - low) / (high - low)
        near = best + np.sqrt(8 / self.narrow.data.total) * np.linspace(-1, 1, GRID)
        shares = np.unique(np.clip([*np.linspace(0.0, 1.0, GRID), *near, best], 0.0, 1.0))
        with np.errstate(divide="ignore"):
            theta = scale.back(low + shares * (high - low), 0.0, 1.0)
        least, most = (bound[0] for bound in self.narrow.bounds)
        points = np.clip(theta, least, most)[None, :, None]
        logs = self.narrow.likelihood(points, np.array([0]))[0]
        allowed = shares[logs > float(self.summit.value[0]) - DROP]
        ends = low + (high - low) * np.array([allowed.min(), allowed.max()])
        return {name: (float(ends[0]), float(ends[1]))}


def profile_ends(
    search: LikelihoodSearch, best: Floats, summit: NewtonOptimum, name: str, at_edge: bool
) -> tuple[float, float]:
    """Return the 95 % interval of a parameter: as far on either side of the ``best`` theta as the
    likelihood, the others at their best, stays within reach of its ``summit``.

    The reach is that of one ``at_edge`` where another parameter lies there, and grows where few
    values are left for each parameter, as Student's t does.
    """
    position, total, top = search.free.index(name), search.data.total, float(summit.value[0])
    left = max(total - len(search.free), 1.0)
    reach = total / 2 * math.log1p(2 * (EDGE_DROP if at_edge else DROP) / left)
    least, most = (bound[position] for bound in search.bounds)
    ends = []
    for side in (-1.0, 1.0):
        near, here, step = float(best[position]), np.delete(best, position), FIRST_STEP
        far: float | None = None
        for _ in range(MOST_FALLS):
            theta = near + side * step
            if not least <= theta <= most:
                break
            reached = search.holding(name, search.value_at(name, theta)).climb_from(here)
            if float(reached.value[0]) < top - reach:
                far = theta
                break
            near, here, step = theta, reached.theta[0], GROWTH * step
        if far is None:
            ends.append(search.value_at(name, side * math.inf))
            continue
        for _ in range(10):
            middle = (near + far) / 2
            reached = search.holding(name, search.value_at(name, middle)).climb_from(here)
            near, far = (near, middle) if float(reached.value[0]) < top - reach else (middle, far)
        ends.append(search.value_at(name, (near + far) / 2))
    return min(ends), max(ends)
