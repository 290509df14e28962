"""How far a distribution lies from the data, and how often data of its own would lie as far: a
parametric bootstrap.

The tabulated p-values of these distances hold for a distribution that was stated before the data
were seen; once parameters are fitted they are far too large. Sources: Anderson and Darling, Journal
of the American Statistical Association 49 (1954), 765-769; Stute, Gonzalez Manteiga and Presedo
Quindimil, Metrika 40 (1993), 243-256.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from hashlib import blake2b
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.errors import KindynosError
from kindynos.fitting.data import Data
from kindynos.fitting.families import FAMILIES
from kindynos.fitting.newton import climb
from kindynos.fitting.search import MOST_AT_ONCE, LikelihoodSearch

SAMPLES = 199
ENOUGH = 1_000  # values of a sample: the distances of more have the same distribution in the limit
STEPS = 12  # of a fit that begins at the truth


@dataclass(frozen=True)
class Distances:
    """The Anderson-Darling and the Kolmogorov-Smirnov distance, with p-values; NaN where these
    cannot be had.
    """

    anderson_darling: float
    kolmogorov_smirnov: float
    anderson_darling_p: float
    kolmogorov_smirnov_p: float


def distances(fitted: Distribution, values: Floats) -> tuple[float, float]:
    """Return the Anderson-Darling statistic and the Kolmogorov-Smirnov distance of values from a
    distribution.
    """
    if fitted.discrete:
        return _of_counts(fitted, values)
    x = np.sort(values)
    count = len(x)
    with np.errstate(all="ignore"):
        below, above = fitted._cdf(x), fitted._survival(x)
        ranks = np.arange(1, count + 1)
        logs = np.log(np.maximum(below, 1e-300)) + np.log(np.maximum(above[::-1], 1e-300))
    square = -count - float(((2 * ranks - 1) * logs).sum()) / count
    largest = max(float((ranks / count - below).max()), float((below - (ranks - 1) / count).max()))
    return square, largest


def _of_counts(fitted: Distribution, values: Floats) -> tuple[float, float]:
    """The same over the values that can occur. Source: Choulakian, Lockhart and Stephens, Canadian
    J. of Stat. 22 (1994).
    """
    low, high = int(values.min()), int(values.max())
    grid = np.arange(low, high + 1, dtype=np.float64)
    with np.errstate(all="ignore"):
        cdf, mass = fitted._cdf(grid), fitted._density(grid)
    seen = np.searchsorted(np.sort(values), grid, side="right") / len(values)
    gaps, weight = seen - cdf, np.maximum(cdf * (1 - cdf), 1e-12)
    return len(values) * float((gaps**2 * mass / weight).sum()), float(np.abs(gaps).max())


def goodness(fitted: Distribution, data: Data, samples: int = SAMPLES) -> Distances:
    """Return the distances with p-values: the share of samples of the fitted distribution, fitted
    again, that lie as far.

    Of many values, samples of ``ENOUGH`` stand for all: the Anderson-Darling distance, and the
    Kolmogorov-Smirnov distance on its scale, have the same distribution then. Weighted and censored
    data have neither.
    """
    if not (data.plain and data.even):
        return Distances(np.nan, np.nan, np.nan, np.nan)
    first = distances(fitted, data.values)
    # the same data, the same samples
    own = int.from_bytes(blake2b(np.sort(data.values).tobytes(), digest_size=6).digest())
    size = min(len(data.values), ENOUGH)
    rows = fitted.sample((samples, size), seed=own, purpose="goodness")
    again = np.array(
        [
            distances(refit, row)
            for refit, row in zip(refitted(fitted, data, rows), rows, strict=True)
        ]
    )
    reached = np.array(first) * [1.0, _scale(len(data.values)) / _scale(size)]
    p = (1 + (again >= reached).sum(axis=0)) / (samples + 1)
    return Distances(*first, float(p[0]), float(p[1]))


def _scale(count: int) -> float:
    """Return the factor that makes the Kolmogorov-Smirnov distance of any number of values one
    figure. Source: Stephens, Journal of the American Statistical Association 69 (1974), 730-737.
    """
    root = math.sqrt(count)
    return root + 0.12 + 0.11 / root


def refitted(fitted: Distribution, data: Data, rows: Floats) -> list[Distribution]:
    """Return the distribution refitted to each row ``(samples, values)``, from where it
    stands.
    """
    kind: Any = type(fitted)
    family = FAMILIES[fitted.label]
    record = fitted.fitted
    by_name = {name: value for name, value in record.estimates.items() if name not in record.names}
    size = max(1, MOST_AT_ONCE // (20 * rows.shape[1]))
    refits: list[Distribution] = []
    for begin in range(0, len(rows), size):
        row = rows[begin : begin + size]
        ends: dict[str, Any] = {
            name: (row.min if side < 0 else row.max)(axis=1, keepdims=True)
            for name, side in family.at_data.items()
            if name in by_name and name not in record.fixed
        }
        own = replace(data, values=row[0], weights=data.weights[: row.shape[1]])
        search = LikelihoodSearch(family, own, {**by_name, **ends}, row)
        parameters = _parameters(search, record.estimates, len(row))
        for position in range(len(row)):
            values = {name: _one(value, position) for name, value in parameters.items()}
            try:
                refits.append(
                    kind(
                        **{
                            n: int(v) if isinstance(getattr(fitted, n), int) else v
                            for n, v in values.items()
                        }
                    )
                )
            except KindynosError:
                refits.append(fitted)
    return refits


def _parameters(search: LikelihoodSearch, at: Any, rows: int) -> dict[str, Any]:
    if not search.free:
        return dict(search.held)
    exact = search.exact()
    if exact is not None:
        return exact
    low, high = search.bounds
    start = np.clip(np.tile(search.theta(at), (rows, 1)), low, high)
    return search.parameters(climb(search.likelihood, start, low, high, most=STEPS).theta)


def _one(value: Any, position: int) -> float:
    array = np.asarray(value)
    return float(array.reshape(-1)[position]) if array.size > 1 else float(array.reshape(-1)[0])
