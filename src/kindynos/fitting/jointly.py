"""Columns of records fitted together: a distribution for each, and the copula that joins them.

Copulas are fitted by pseudo-likelihood: that of the ranks over n + 1, so that what is taken for the
margins does not enter. Sources: Genest, Ghoudi and Rivest, Biometrika 82 (1995), 543-552; Joe,
Dependence Modeling with Copulas (2014), chapter 4.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.delegation import Reported
from kindynos.dependence.copulas import of_tau
from kindynos.dependence.matrices import is_correlation_matrix, nearest_correlation
from kindynos.distributions.special import gammaln, ndtri
from kindynos.errors import ParameterError
from kindynos.fitting.ranking import Ranking, fit_distributions
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import stream
from kindynos.validate import array_of, checked, known_name, mapping, names_in, one_of

if TYPE_CHECKING:
    import pandas as pd

TINY = 1e-9
FEWEST = 30  # records with all columns
MOST = 10  # columns
DFS = np.array([2, 2.5, 3, 4, 5, 6, 8, 10, 13, 17, 22, 30, 45.0])  # of a t copula
RESAMPLED = 200  # histories, for the errors of Kendall's tau
IN_PAIRS = 1_000  # records, up to which all their pairs are held
AS_NORMAL = 17.0  # degrees of freedom from which a t copula is as good as a gaussian one
CLOSE = 6.0  # of AIC, within which the records cannot tell two copulas apart
SHARE = 0.05  # of the records, whose lowest and highest are compared
LEAST_TAU = 0.02  # below which Archimedean copulas are as good as independent ones


@dataclass(frozen=True, eq=False)
class JointFit(Reported):
    """Columns fitted together; see ``fit_jointly``. ``margins`` are the fits of each, ``records``
    their values ``(records, columns)``, and ``copulas`` the AIC of each copula that was tried, with
    its degrees of freedom.
    """

    margins: Mapping[str, Ranking]
    records: Floats
    copulas: Mapping[str, tuple[float, float | None]]

    @property
    def names(self) -> list[str]:
        """The columns."""
        return list(self.margins)

    @property
    def best(self) -> str:
        """The copula with the lowest AIC."""
        best = min(self.copulas, key=lambda label: self.copulas[label][0])
        df = self.copulas[best][1]
        return "gaussian" if df is not None and df >= AS_NORMAL else best

    @property
    def alike(self) -> list[str]:
        """The copulas that the records cannot tell from the best, which is the first."""
        ordered = sorted(self.copulas, key=lambda label: self.copulas[label][0])
        least, df = self.copulas[self.best][0], self.copulas["t"][1]
        alike = [label for label in ordered if self.copulas[label][0] <= least + CLOSE]
        if "gaussian" in alike and df is not None and df >= AS_NORMAL:
            return [label for label in alike if label != "t"]
        return alike

    @property
    def verdict(self) -> str:
        """Which copula the records support, in a sentence."""
        if len(self.alike) == 1:
            return f"{self.best} joins the columns best of {len(self.copulas)} copulas"
        others = ", ".join(self.alike[1:])
        return f"{len(self.records):,} records cannot tell the copula {self.best} from {others}"

    @cached_property
    def tau(self) -> dict[tuple[str, str], Estimate]:
        """Kendall's tau of each two columns, with its 95 % interval from records drawn again, all
        columns of a record together.
        """
        generator, count = stream(0, "records drawn again"), len(self.records)
        drawn = generator.integers(0, count, (RESAMPLED, count))
        taus = {}
        for i, j in combinations(range(len(self.names)), 2):
            one, other = self.records[:, i], self.records[:, j]
            value = kendall(one, other)
            sd = float(np.std(_kendalls(one, other, drawn))) * math.sqrt(count / (count - 1))
            reach = Z * sd / max(1 - value**2, TINY)  # on Fisher's scale, where -1 and 1 are far
            centre = math.atanh(min(max(value, TINY - 1), 1 - TINY))
            low, high = math.tanh(centre - reach), math.tanh(centre + reach)
            taus[self.names[i], self.names[j]] = Estimate(value, low, high)
        return taus

    def tails(self, copula: str | None = None) -> tuple[float, float]:
        """Return the tail dependence of the first two columns under a copula, by default the best:
        the chance that one is at its lowest, or highest, where the other is, in the limit.
        """
        label = one_of("copula", self.best if copula is None else copula, tuple(self.copulas))
        tau = float(next(iter(self.tau.values())))
        return tail_dependence(label, tau, self.copulas[label][1])

    def table(self) -> pd.DataFrame:
        """Return a row for each two columns: Kendall's tau with its interval, and how many of the
        lowest and of the highest 5 % of the records they share.
        """
        import pandas as pd

        rows = {}
        for pair, tau in self.tau.items():
            one, other = (self.records[:, self.names.index(name)] for name in pair)
            shared = [_shared(one, other, highest) for highest in (False, True)]
            rows[pair] = (float(tau), tau.low, tau.high, *shared)
        columns = ["tau", "low", "high", "lowest together", "highest together"]
        frame = pd.DataFrame.from_dict(rows, orient="index", columns=columns)
        frame.index = pd.MultiIndex.from_tuples(rows, names=["first", "second"])
        return frame

    @property
    def correlations(self) -> list[dict[str, Any]]:
        """How the columns move together as ``Model.correlate`` takes it, by its keywords and
        ``names``.
        """
        df = self.copulas[self.best][1]
        extra = {"copula": self.best} if df is None else {"copula": self.best, "df": df}
        return [{"names": pair, "tau": round(float(t), 4), **extra} for pair, t in self.tau.items()]


@checked
def fit_jointly(records: Any, columns: Any = None) -> JointFit:
    """Return columns of records fitted together: to each the distribution of the lowest AIC, and to
    their ranks the copula: gaussian, t, and of two columns clayton, gumbel and frank.

    ``records`` is a DataFrame, or values by name; records that lack a value of one are left out.
    Rows share their dates: what is drawn of them moves together as they did. Raises ParameterError
    for fewer than 2 columns or 30 records, and for a column that is constant.

    >>> rng = np.random.default_rng(1)
    >>> storm = rng.standard_normal(400)
    >>> frame = {"hull": np.exp(storm), "pier": storm + 0.4 * rng.standard_normal(400)}
    >>> fitted = fit_jointly(frame)
    >>> fitted.best, round(fitted.tau["hull", "pier"], 2)
    ('gaussian', 0.72)
    """
    by_name = _by_name(records)
    names = list(by_name) if columns is None else names_in("columns", columns)
    for name in names:
        known_name("column", name, list(by_name))
    if not 2 <= len(names) <= MOST:
        raise ParameterError(f"columns must be 2 to {MOST}, not {len(names)}")
    each = [array_of(f"the column {name!r}", by_name[name]) for name in names]
    if any(column.ndim != 1 or len(column) != len(each[0]) for column in each):
        raise ParameterError("all columns must have one number for each record")
    values = np.stack(each, axis=1)
    values = values[np.isfinite(values).all(axis=1)]
    if len(values) < FEWEST:
        raise ParameterError(f"needs {FEWEST} records with all columns, and has {len(values)}")
    for name, column in zip(names, values.T, strict=True):
        if np.ptp(column) == 0:
            raise ParameterError(f"{name!r} is the same in all records")
    columns_by_name = dict(zip(names, values.T, strict=True))
    margins = {name: fit_distributions(column) for name, column in columns_by_name.items()}
    return JointFit(margins, values, copulas_of(values))


def _by_name(records: Any) -> dict[str, Any]:
    """Return the columns of records by name."""
    import pandas as pd

    if isinstance(records, pd.DataFrame):
        return {str(name): records[name].to_numpy() for name in records.columns}
    columns = mapping("records", records, "a DataFrame, or the values of each column by its name")
    return {str(name): values for name, values in columns.items()}


def _kendalls(one: Floats, other: Floats, drawn: NDArray[np.int64]) -> Floats:
    """Return Kendall's tau-b of two columns, their records drawn again ``(times, records)``: of few
    records by how often each is drawn, since they keep the order of each two.
    """
    count = len(one)
    if count > IN_PAIRS:
        return np.array([kendall(one[rows], other[rows]) for rows in drawn])
    often = np.array([np.bincount(rows, minlength=count) for rows in drawn], dtype=np.float64)
    first, second = (np.sign(column[:, None] - column) for column in (one, other))

    def pairs(signs: Floats) -> Floats:
        return np.asarray(((often @ signs) * often).sum(axis=1))

    apart = pairs(np.abs(first)) * pairs(np.abs(second))
    return np.asarray(pairs(first * second) / np.sqrt(apart))


def kendall(one: Floats, other: Floats) -> float:
    """Return Kendall's tau-b of two columns."""
    from scipy.stats import kendalltau

    return float(kendalltau(one, other).statistic)


def _shared(one: Floats, other: Floats, highest: bool) -> float:
    """Return how many of the lowest (highest) 5 % of one column are among those of the other."""
    count = max(round(SHARE * len(one)), 1)
    sign = -1 if highest else 1
    orders = (np.argsort(sign * column, kind="stable") for column in (one, other))
    sets = [set(order[:count].tolist()) for order in orders]
    return len(sets[0] & sets[1]) / count


def tail_dependence(label: str, tau: float, df: float | None) -> tuple[float, float]:
    """Return the lower and the upper tail dependence of a copula."""
    from scipy.special import stdtr

    if label == "t" and df is not None:
        rho = math.sin(math.pi / 2 * tau)
        both = 2 * float(stdtr(df + 1, -math.sqrt((df + 1) * (1 - rho) / (1 + rho))))
        return both, both
    if label == "clayton":
        return 2 ** (-1 / of_tau(label, tau)), 0.0
    if label == "gumbel":
        return 0.0, 2 - 2 ** (1 / of_tau(label, tau))
    return 0.0, 0.0


def copulas_of(values: Floats) -> dict[str, tuple[float, float | None]]:
    """Return the AIC of each copula at Kendall's tau, and its degrees of freedom."""
    from scipy.stats import rankdata

    scores = rankdata(values, axis=0) / (len(values) + 1)
    count = values.shape[1]
    taus = np.eye(count)
    for i, j in combinations(range(count), 2):
        taus[i, j] = taus[j, i] = kendall(values[:, i], values[:, j])
    rho = np.sin(math.pi / 2 * taus)
    if not is_correlation_matrix(rho):
        rho = nearest_correlation(rho)
    free = count * (count - 1) / 2
    log_likelihoods: dict[str, tuple[float, float | None]] = {
        "gaussian": (2 * free - 2 * _gaussian(ndtri(scores), rho), None)
    }
    by_df = [_student(scores, rho, df) for df in DFS.tolist()]
    top = int(np.argmax(by_df))
    log_likelihoods["t"] = (2 * (free + 1) - 2 * by_df[top], float(DFS[top]))
    tau = float(taus[0, 1])
    if count == 2:
        for label, density in ARCHIMEDEAN.items():
            if tau > LEAST_TAU or (label == "frank" and abs(tau) > LEAST_TAU):
                parameter = of_tau(label, tau)
                log_likelihoods[label] = (
                    2 - 2 * float(density(scores[:, 0], scores[:, 1], parameter).sum()),
                    None,
                )
    return log_likelihoods


def _gaussian(normal: Floats, rho: Floats) -> float:
    """Return the log density of a normal copula at normal scores, summed."""
    inverse = np.linalg.inv(rho) - np.eye(len(rho))
    squares = np.einsum("ri,ij,rj->r", normal, inverse, normal)
    return float(-0.5 * squares.sum() - 0.5 * len(normal) * np.linalg.slogdet(rho)[1])


def _student(scores: Floats, rho: Floats, df: float) -> float:
    """Return the log density of a t copula at uniform scores, summed."""
    from scipy.special import stdtrit

    x, count = stdtrit(df, scores), scores.shape[1]
    squares = np.einsum("ri,ij,rj->r", x, np.linalg.inv(rho), x)
    top = gammaln((df + count) / 2) + (count - 1) * gammaln(df / 2) - count * gammaln((df + 1) / 2)
    joint = top - 0.5 * np.linalg.slogdet(rho)[1] - (df + count) / 2 * np.log1p(squares / df)
    return float((joint + (df + 1) / 2 * np.log1p(x**2 / df).sum(axis=1)).sum())


def _clayton(u: Floats, v: Floats, p: float) -> Floats:
    inside = np.log(u**-p + v**-p - 1)
    return np.asarray(math.log1p(p) - (1 + p) * np.log(u * v) - (2 + 1 / p) * inside)


def _gumbel(u: Floats, v: Floats, p: float) -> Floats:
    x, y = -np.log(u), -np.log(v)
    s = x**p + y**p
    root = s ** (1 / p)
    powers = (p - 1) * np.log(x * y) + (1 / p - 2) * np.log(s)
    return np.asarray(-root + x + y + powers + np.log(root + p - 1))


def _frank(u: Floats, v: Floats, p: float) -> Floats:
    whole = -math.expm1(-p)
    inside = whole - np.expm1(-p * u) * np.expm1(-p * v)
    return np.asarray(math.log(p * whole) - p * (u + v) - 2 * np.log(np.abs(inside)))


ARCHIMEDEAN: dict[str, Callable[[Floats, Floats, float], Floats]] = {
    "clayton": _clayton,
    "gumbel": _gumbel,
    "frank": _frank,
}
