"""Which distribution? Several fitted to the same values, and compared."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.distributions.base import Distribution
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.mixture import Mixture
from kindynos.errors import ParameterError
from kindynos.fitting.data import Data, data_of
from kindynos.fitting.families import FAMILIES, Family
from kindynos.fitting.goodness import SAMPLES, Distances, goodness
from kindynos.fitting.truncated import abrupt_beginning
from kindynos.formatting import p_value
from kindynos.literals import WeightsKind
from kindynos.memory import remembering
from kindynos.validate import check_integer, checked, names_in, one_of

if TYPE_CHECKING:
    import pandas as pd


CRITERIA = ("aic", "aicc", "bic")
MOST_SAMPLES = 100_000  # of the bootstrap, each with fits of its own
LEAST_WEIGHT = 1e-6  # of a part of the average
# Of a criterion, within which the data cannot tell two distributions apart: with 2, a wrong family
# is said to fit clearly best in up to 18 % of samples of 40 values; with 4, in at most 3 %.
CLOSE = 4.0
MOST_NAMED = 5  # of those that the data cannot tell from the best
FEW_COUNTS = 0.7  # distinct values a value, above which whole numbers are taken for measurements


@dataclass(frozen=True, repr=False)
class Ranking(Reported):
    """Distributions fitted to the same values, best first; see ``fit_distributions``.

    ``[name]`` is one of them, by its name in model files; ``left_out`` says of the others why they
    are not here.
    """

    data: Data
    fitted: tuple[Distribution, ...]
    left_out: dict[str, str]
    criterion: str
    samples: int = SAMPLES

    @property
    def best(self) -> Distribution:
        """The distribution with the lowest criterion."""
        return self.fitted[0]

    @property
    def names(self) -> list[str]:
        """The names of the distributions, best first."""
        return [distribution.label for distribution in self.fitted]

    def __getitem__(self, name: str) -> Distribution:
        for distribution in self.fitted:
            if name in (distribution.label, type(distribution).__name__):
                return distribution
        if name in self.left_out:
            raise ParameterError(f"{name!r} was left out: {self.left_out[name]}")
        raise ParameterError(f"no distribution {name!r} among them", unknown=name, known=self.names)

    def __iter__(self) -> Iterator[Distribution]:
        return iter(self.fitted)

    def __len__(self) -> int:
        return len(self.fitted)

    def _criterion_of(self, distribution: Distribution) -> float:
        """Return the value of the criterion of a distribution; lower is better."""
        return float(getattr(distribution.fitted, self.criterion))

    @cached_property
    def weights(self) -> dict[str, float]:
        """The Akaike weight of each: how much of the evidence is for it, exp(-difference of the
        criterion / 2), scaled.

        Source: Burnham and Anderson, Model Selection and Multimodel Inference (2002), section 2.9.
        """
        gaps = np.array(
            [
                self._criterion_of(distribution) - self._criterion_of(self.best)
                for distribution in self.fitted
            ]
        )
        shares = np.exp(-0.5 * gaps)
        return dict(zip(self.names, map(float, shares / shares.sum()), strict=True))

    @cached_property
    def distances(self) -> dict[str, Distances]:
        """The distance of each from the data, with its p-value; worked out when first asked for, by
        a bootstrap.
        """
        return self._with_progress(None)

    def _with_progress(self, progress: Callable[[float], Any] | None) -> dict[str, Distances]:
        """Return ``distances``, calling ``progress`` with the share that is done."""
        kept: dict[str, Distances] = self.__dict__.setdefault("_distances", {})
        for position, distribution in enumerate(self.fitted):
            if distribution.label not in kept:
                kept[distribution.label] = goodness(distribution, self.data, self.samples)
            if progress is not None:
                progress((position + 1) / len(self.fitted))
        return kept

    @cached_property
    def begins_at(self) -> float | None:
        """The round figure at which the values begin so abruptly that smaller ones seem not to be
        recorded; None where nothing tells so, or ``truncated_below`` says it.
        """
        whole = _are_counts(self.data)
        plain = self.data.plain and self.data.even and not whole
        return abrupt_beginning(self.data.values) if plain else None

    def table(self) -> pd.DataFrame:
        """Return a DataFrame, one row per distribution, best first, and below them those left out,
        with the reason.

        ``weight`` is the Akaike weight. The p-values of both distances are by parametric bootstrap:
        the share of samples drawn from the fitted distribution, and refitted, that lie as far
        from it. A small one says that the data are not of it.
        """
        import pandas as pd

        rows: dict[str, dict[str, Any]] = {}
        for distribution in self.fitted:
            distances = self.distances[distribution.label]
            rows[distribution.label] = {
                "parameters": ", ".join(
                    f"{name} {distribution.fitted.estimates[name]:.4g}"
                    for name in distribution.fitted.estimates
                ),
                "log_likelihood": distribution.fitted.log_likelihood,
                "aic": distribution.fitted.aic,
                "aicc": distribution.fitted.aicc,
                "bic": distribution.fitted.bic,
                "weight": self.weights[distribution.label],
                "anderson_darling": distances.anderson_darling,
                "anderson_darling_p": distances.anderson_darling_p,
                "kolmogorov_smirnov": distances.kolmogorov_smirnov,
                "kolmogorov_smirnov_p": distances.kolmogorov_smirnov_p,
                "note": "; ".join(distribution.fitted.at_bound.values()),
            }
        table = pd.DataFrame.from_dict(rows, orient="index")
        for name, reason in self.left_out.items():
            table.loc[name, "note"] = f"left out: {reason}"
        table["parameters"] = table["parameters"].fillna("")
        table.index.name = "distribution"
        return table

    @property
    def verdict(self) -> str:
        """What the ranking tells, in a sentence or two."""
        near = [
            distribution.label
            for distribution in self.fitted[1:]
            if self._criterion_of(distribution) - self._criterion_of(self.best) < CLOSE
        ]
        count = f"{self.data.total:g} values"
        if near:
            named = near if len(near) <= MOST_NAMED else near[: MOST_NAMED - 1]
            more = [f"{len(near) - len(named)} more"] if len(near) > len(named) else []
            *first, last = [*named, *more]
            listed = f"{', '.join(first)} and {last}" if first else last
            text = f"{count} cannot tell {self.best.label} from {listed}; "
            text += "average() weighs them all (--average with --as-driver)"
        else:
            text = f"{self.best.label} fits clearly best of {len(self.fitted)}"
        p = self.distances[self.best.label].anderson_darling_p
        if p < 0.05:
            text += (
                f". Yet the data are not of it (Anderson-Darling, {p_value(p)}): "
                "look at the plot of quantiles"
            )
        return text

    def average(self) -> Mixture:
        """Return the mixture of all by their Akaike weights, for when the data cannot tell; those
        below 1e-6 are dropped.
        """
        kept = [
            (distribution, self.weights[distribution.label])
            for distribution in self.fitted
            if self.weights[distribution.label] >= LEAST_WEIGHT
        ]
        return Mixture([distribution for distribution, _ in kept], [weight for _, weight in kept])

    def __repr__(self) -> str:
        count = len(self.data.values)
        return f"<{len(self.fitted)} distributions for {count:,} values, best {self.best.label!r}>"

    @delegated_to("kindynos.plots", "fitted_distributions")
    def plot(
        self, what: str = "density", ax: Axes | None = None, best: int = 3, name: str | None = None
    ) -> Axes:
        """Draw the densities of the best few over a histogram of the values; return the Matplotlib
        axes.

        ``plot("quantiles")`` draws the values against the quantiles of the best, or of the one
        ``name``d, with a 95 % band. Raises ParameterError for another ``what``.
        """


@checked
def fit_distributions(
    values: Any,
    candidates: Iterable[str | type[Distribution]] | None = None,
    criterion: str = "aic",
    *,
    weights: Any = None,
    weights_kind: WeightsKind = "counts",
    at_least: Any = None,
    at_most: Any = None,
    truncated_below: Any = None,
    censored_above: Any = None,
    samples: int = SAMPLES,
) -> Ranking:
    """Return distributions fitted to values ``(values,)`` by maximum likelihood, best first by a
    criterion.

    ``candidates`` are names or classes; without them, all that can give such values, those of
    counts for whole numbers that repeat. The ``criterion`` is ``"aic"``, ``"aicc"`` (for few
    values) or ``"bic"``. ``weights_kind`` says what weights are, "counts" or "survey", as in
    ``Distribution.fit``, as are ``truncated_below`` and ``censored_above``; weighted, truncated and
    censored data have no tests of fit. ``samples`` is how many the bootstrap of the p-values draws,
    at most 100,000. Raises ParameterError for values that
    nothing can be estimated from, and where no
    candidate serves.

    >>> from kindynos import Gamma
    >>> values = Gamma(2, 3).sample(500, seed=1)
    >>> ranking = fit_distributions(values, candidates=["gamma", "normal", "pareto"])
    >>> ranking.best.label
    'gamma'
    """
    one_of("criterion", criterion, CRITERIA)
    check_integer("samples", samples, least=19, most=MOST_SAMPLES)
    data = data_of(
        values, weights, at_least, at_most, weights_kind, truncated_below, censored_above
    )
    left_out: dict[str, str] = {}
    selected = _candidates(candidates, data, left_out)
    with remembering():  # what all of them ask of the values
        fitted = _fitted_to(data, selected, criterion, left_out)
    if not fitted:
        reasons = "; ".join(f"{name}: {reason}" for name, reason in left_out.items())
        raise ParameterError(f"no candidate can be fitted ({reasons})")
    fitted.sort(key=lambda item: float(getattr(item.fitted, criterion)))
    return Ranking(data, tuple(fitted), left_out, criterion, samples)


def _fitted_to(
    data: Data, selected: list[type[Distribution]], criterion: str, left_out: dict[str, str]
) -> list[Distribution]:
    """Return what can be fitted of the candidates, and add to ``left_out`` why others cannot."""
    fitted: list[Distribution] = []
    stated: dict[str, Any] = {
        "at_least": data.above, "at_most": data.below, "truncated_below": data.thresholds
    }  # fmt: skip
    for kind in selected:
        try:
            distribution = kind.fit(data.values, data.weights, **stated)
        except ParameterError as error:
            left_out[kind.label] = str(error).split(": ", 1)[-1]
            if kind.label == "student t" and "df below 2" in str(error):
                by_scale = CATALOGUE.find("student t by scale")
                fitted.append(by_scale.fit(data.values, data.weights, **stated))
            continue
        if math.isfinite(getattr(distribution.fitted, criterion)):
            fitted.append(distribution)
        else:
            left_out[kind.label] = "its likelihood is 0 for some value"
    return fitted


def _candidates(
    candidates: Iterable[str | type[Distribution]] | None, data: Data, left_out: dict[str, str]
) -> list[type[Distribution]]:
    if candidates is None:
        return [family.kind for family in FAMILIES.values() if _sensible(family, data, left_out)]
    rows: list[type[Distribution]] = []
    for candidate in names_in(
        "candidates", [candidates] if isinstance(candidates, type) else candidates
    ):
        kind = (
            candidate
            if isinstance(candidate, type) and issubclass(candidate, Distribution)
            else _named(candidate)
        )
        if kind.label not in FAMILIES:
            raise ParameterError(f"{kind.label!r} cannot be fitted to values")
        rows.append(kind)
    return rows


def _named(name: Any) -> type[Distribution]:
    by_class = {kind.__name__: kind for kind in CATALOGUE.values()}
    if isinstance(name, str) and name in by_class:
        return by_class[name]
    return CATALOGUE.find(name)


def _sensible(family: Family, data: Data, left_out: dict[str, str]) -> bool:
    """Return whether a family is among the candidates that are tried when none are named; say why
    not.
    """
    if family.label == "student t by scale":
        return False
    if family.whole != _are_counts(data):  # says nothing of interest
        return False
    if family.at_data:
        reason = (
            "its end lies at a value, which the criterion does not allow for; name it as a "
            "candidate to see it"
        )
    elif data.thresholds is not None and family.low < 0 <= data.thresholds.min():
        reason = (
            "it reaches below 0, where records above a threshold say nothing; name it as a "
            "candidate to see it"
        )
    elif family.needed and family.label != "beta":
        reason = f"{' and '.join(family.needed)} must be given"
    else:
        return True
    left_out[family.label] = reason
    return False


def _are_counts(data: Data) -> bool:
    x = data.values
    return bool(
        (x == np.floor(x)).all() and x.min() >= 0 and len(np.unique(x)) <= FEW_COUNTS * len(x)
    )
