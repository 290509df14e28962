"""Means and covariances of returns: given, shrunk, changed by an analyst's views, or implied by
weights.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from kindynos.arrays import Floats
from kindynos.errors import ParameterError
from kindynos.validate import (
    array_of,
    check_integer,
    checked,
    finite,
    invalid_argument,
    known_name,
    mapping,
    names_in,
    positive,
)

SINGULAR = 1e-10  # smallest eigenvalue of a correlation matrix that still counts as above 0
TOGETHER = 0.05  # share in the direction without variance from which a holding is named
AGREE = 1e-9
NO_TRUST = 1e-12  # a confidence that moves no mean by a digit that can be told


@dataclass(frozen=True, eq=False, init=False)
class Moments:
    """Means ``(holdings,)`` and covariance ``(holdings, holdings)`` of returns over one period, as
    fractions.

    Arrays or pandas objects, whose index has the names; else ``names``, or "1", "2" and on.
    ``observations`` is the number of returns they were fitted to, which ``resampled`` needs.
    Raises ParameterError for shapes that do not fit, a matrix that is not a covariance, and one
    that is singular, with the holdings that move together.

    >>> moments = Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["bond", "share"])
    >>> moments.sd.tolist()
    [0.1, 0.2]
    """

    mean: pd.Series
    covariance: pd.DataFrame
    observations: int | None
    description: str

    @checked
    def __init__(
        self,
        mean: Any,
        covariance: Any,
        names: Sequence[str] | None = None,
        observations: int | None = None,
        description: str = "means and covariance as given",
    ) -> None:
        index = _index(mean, covariance) if names is None else names_in("names", names)
        values, matrix = (array_of("mean", mean), array_of("covariance", covariance))
        size = len(values) if values.ndim == 1 else 0
        if size == 0:
            raise invalid_argument("mean", "one number for each holding", mean)
        if matrix.shape != (size, size):
            raise ParameterError(
                f"{size} means need a covariance of {size} x {size}, not of "
                f"{' x '.join(map(str, matrix.shape))}"
            )
        index = [str(name) for name in index or range(1, size + 1)]
        if len(index) != size or len(set(index)) != size:
            raise ParameterError(f"{size} means need {size} different names")
        matrix = check_covariance(matrix, index)
        if not np.isfinite(values).all():
            raise ParameterError("the means must be finite numbers")
        if observations is not None:
            check_integer("observations", observations, least=2)
        fields = {
            "mean": pd.Series(values, index, name="mean"),
            "covariance": pd.DataFrame(matrix, index, index),
            "observations": observations,
            "description": description,
        }
        for field, value in fields.items():
            object.__setattr__(self, field, value)

    @property
    def names(self) -> list[str]:
        """The names of the holdings."""
        return [str(name) for name in self.mean.index]

    @property
    def sd(self) -> pd.Series:
        """The sd of each return."""
        return pd.Series(np.sqrt(np.diag(self.covariance)), self.mean.index, name="sd")

    def _with_mean(self, mean: Floats, how: str) -> Moments:
        return Moments(
            mean, self.covariance, self.names, self.observations, f"{self.description}; {how}"
        )

    @checked
    def shrunk(self, weight: float | None = None) -> Moments:
        """Return means drawn towards that of the weights of least variance, by a ``weight`` from 0
        to 1.

        Without one it is (n + 2) / ((n + 2) + T d'S^-1 d), for n holdings, T observations and the
        means' distances d from that mean: Jorion, Journal of Financial and Quantitative Analysis 21
        (1986), 279-292. Raises ParameterError where neither a weight nor the observations are
        known.
        """
        mean, inverse = self.mean.to_numpy(), np.linalg.inv(self.covariance.to_numpy())
        centre = float(inverse.sum(axis=0) @ mean / inverse.sum())
        if weight is None:
            if self.observations is None:
                raise ParameterError("say weight=, or of how many observations= these moments are")
            gaps, size = mean - centre, len(mean)
            weight = (size + 2) / (size + 2 + self.observations * float(gaps @ inverse @ gaps))
        elif not 0 <= finite("weight", weight) <= 1:
            raise invalid_argument("weight", "from 0 to 1", weight)
        return self._with_mean(
            mean + weight * (centre - mean), f"means shrunk by {weight:.2f} towards {centre:.3g}"
        )

    @checked
    def with_views(
        self, views: Mapping[Any, float], confidence: float | Mapping[Any, float] = 0.5
    ) -> Moments:
        """Return means moved towards views, by a confidence from 0 (not at all) to 1 (all the way),
        one or one for each view.

        A view is ``{"share": 0.09}``, the mean of a holding, or ``{("share", "bond"): 0.03}``, by
        how much the first exceeds the second. All means move with the covariance: m + S P'(P S P' +
        W)^-1 (q - P m), where P m = q are the views and W is diagonal with (1 - c) / c times the
        variance of each view. Source: Black and Litterman, Financial Analysts Journal 48 (1992),
        28-43. Raises ParameterError for unknown holdings, and for views that contradict each other.
        """
        stated = mapping("views", views, "means by holding, or differences by pair of holdings")
        if not stated:
            return self
        picks = np.array([self._pick(view) for view in stated])
        sought = np.array(
            [finite(f"the view of {_worded(view)}", value) for view, value in stated.items()]
        )
        _check_views(list(stated), picks, sought)
        trust = np.array([self._trust(view, confidence) for view in stated])
        mean, matrix = self.mean.to_numpy(), self.covariance.to_numpy()
        used = trust > NO_TRUST
        picks, sought, trust = picks[used], sought[used], trust[used]
        spread = picks @ matrix @ picks.T
        doubt = np.diag((1 - trust) / trust * np.diag(spread))
        posterior = mean + matrix @ picks.T @ np.linalg.pinv(spread + doubt) @ (
            sought - picks @ mean
        )
        count = f"{len(stated)} view{'' if len(stated) == 1 else 's'}"
        return self._with_mean(np.asarray(posterior), f"means moved by {count}")

    def _pick(self, view: Any) -> Floats:
        pick = np.zeros(len(self.names))
        if isinstance(view, tuple):
            if len(view) != 2:
                raise invalid_argument("a view", "of a holding, or of a pair of holdings", view)
            pick[self._place(view[0])] += 1.0
            pick[self._place(view[1])] -= 1.0
        else:
            pick[self._place(view)] = 1.0
        return pick

    def _place(self, name: Any) -> int:
        return self.names.index(known_name("holding", name, self.names))

    def _trust(self, view: Any, confidence: float | Mapping[Any, float]) -> float:
        trust = confidence.get(view, 0.5) if isinstance(confidence, Mapping) else confidence
        number = finite(f"the confidence in {_worded(view)}", trust)
        if not 0 <= number <= 1:
            raise invalid_argument("confidence", "from 0 to 1", number)
        return number

    @classmethod
    @checked
    def implied(
        cls,
        weights: Any,
        covariance: Any,
        mean: float,
        rate: float = 0.0,
        names: Sequence[str] | None = None,
    ) -> Moments:
        """Return the means under which weights would be the best ratio of mean above ``rate`` to
        sd: reverse optimization.

        ``mean`` is that of the weights together; each mean is rate + (mean - rate) S w / w'S w.
        Source: Sharpe, in Financial Analysts Journal 30 (1974), July, 57-63. Raises ParameterError
        for weights that do not fit the covariance.

        >>> covariance = [[0.01, 0.0], [0.0, 0.03]]
        >>> Moments.implied([0.5, 0.5], covariance, mean=0.06).mean.round(4).tolist()
        [0.03, 0.09]
        """
        array = array_of("weights", weights)
        matrix = array_of("covariance", covariance)
        if array.ndim != 1 or matrix.shape != (len(array), len(array)):
            raise ParameterError(
                f"{array.size} weights do not fit a covariance of shape {matrix.shape}"
            )
        spread = matrix @ array
        variance = positive("the variance of the weights", float(array @ spread))
        means = rate + (finite("mean", mean) - finite("rate", rate)) * spread / variance
        index = _index(weights, covariance) if names is None else names
        return cls(means, matrix, index or None, description="means implied by weights")


def _index(*given: Any) -> list[Any]:
    """Return the names that the first pandas object among what was given has, or none."""
    return next(
        (
            list(value.index)
            for value in given
            if hasattr(value, "index") and hasattr(value, "to_numpy")
        ),
        [],
    )


def _worded(view: Any) -> str:
    return " over ".join(map(str, view)) if isinstance(view, tuple) else str(view)


def _check_views(views: list[Any], picks: Floats, sought: Floats) -> None:
    """Raise ParameterError for the first view that those before it contradict."""
    for count in range(2, len(views) + 1):
        before, last = picks[: count - 1], picks[count - 1]
        shares = np.linalg.lstsq(before.T, last)[0]
        follows = float(shares @ sought[: count - 1])
        size = max(np.abs(sought).max(), 1e-12)
        if (
            np.abs(before.T @ shares - last).max() < AGREE
            and abs(follows - sought[count - 1]) > AGREE * size
        ):
            used = [
                _worded(view)
                for view, share in zip(views, shares, strict=False)
                if abs(share) > AGREE
            ]
            raise ParameterError(
                f"views contradict each other: from {' and '.join(used)} follows {follows:.6g} for "
                f"{_worded(views[count - 1])}, not {sought[count - 1]:.6g}"
            )


def check_covariance(matrix: Floats, names: Sequence[str]) -> Floats:
    """Return a symmetric matrix; raises ParameterError for one that is not a covariance, or that is
    singular.
    """
    if (
        not np.isfinite(matrix).all()
        or np.abs(matrix - matrix.T).max() > 1e-8 * np.abs(matrix).max()
    ):
        raise ParameterError("the covariance must be symmetric, of finite numbers")
    variances = np.diag(matrix)
    if not (variances > 0).all():
        name = names[int(np.argmin(variances))]
        raise ParameterError(f"the variance of {name} is {variances.min():g}; it must be above 0")
    scale = np.sqrt(np.outer(variances, variances))
    values, vectors = np.linalg.eigh((matrix + matrix.T) / 2 / scale)
    if values[0] < -1e-8:
        raise ParameterError(
            "this is not a covariance: some sum of holdings would have a variance below 0 "
            f"(smallest eigenvalue {values[0]:.2g})"
        )
    if values[0] < SINGULAR:
        loading = np.abs(vectors[:, 0])
        moving = [
            name
            for name, share in zip(names, loading, strict=True)
            if share > TOGETHER * loading.max()
        ]
        raise ParameterError(
            "the covariance is singular: "
            f"{', '.join(moving[:8])}{' and more' if len(moving) > 8 else ''} move together "
            "exactly; leave one of them out, or shrink the covariance"
        )
    return np.asarray((matrix + matrix.T) / 2)
