"""Fitted distributions with parameters that are drawn too."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.base import Distribution
from kindynos.distributions.mixture import MOST_PARTS
from kindynos.distributions.special import ndtri
from kindynos.distributions.uncertain import Uncertain
from kindynos.errors import ParameterError
from kindynos.fitting.fit import Fit
from kindynos.inference.estimates import Estimates
from kindynos.sampling.streams import stream
from kindynos.validate import check_integer, checked

MOST_PARAMETERS = 6
BEYOND = 1  # of 100 draws beyond each end of an interval, as of 95 % of them
LEAST_SHARE = 0.01  # of the Akaike weights, below which a family is left out
TRIES = 20  # times as many draws as are wanted; the likely ones are taken


@checked
def uncertain(fitted: Distribution, draws: int = 100) -> Uncertain:
    """Return a fitted distribution with parameters drawn as its fit leaves them; see
    ``Distribution.uncertain``.
    """
    record = fitted.fitted
    if not isinstance(record, Fit):
        kind = type(fitted).__name__
        raise ParameterError(
            f"only a fitted distribution is uncertain, such as {kind}.fit(values)",
            owner=f"{kind}.uncertain",
        )
    check_integer("draws", draws, least=20, most=MOST_PARTS)
    even, count = stream(0, "uncertain", 0), TRIES * draws
    scores = even.permuted((even.random((MOST_PARAMETERS, count)) + range(count)) / count, axis=1)
    # weighed draws are in order of their weights' sum, which must not decide who comes first
    drawn = record.drawn(ndtri(scores))
    parts: list[Distribution] = []
    for position in even.permutation(count).tolist():
        try:
            parts.append(_made(fitted, drawn[position]))
        except ParameterError:
            continue
        if len(parts) == draws:
            break
    if len(parts) < draws // 2:
        raise ParameterError(
            "the values leave the parameters so open that they cannot be drawn; hold one of them, "
            "or fit from more values",
            owner=f"{type(fitted).__name__}.uncertain",
        )
    return Uncertain(parts)


def percentiles_left_open(fitted: Distribution, percentiles: Sequence[float]) -> Estimates:
    """Return percentiles of a fitted distribution, with the 95 % intervals in which its open
    parameters leave them: the second of the least and of the greatest of 100 draws.
    """
    levels = np.asarray(percentiles) / 100
    values = np.array([refit.quantile(levels) for refit in uncertain(fitted).parts])
    values.sort(axis=0)
    return Estimates(fitted.quantile(levels), values[BEYOND], values[-1 - BEYOND])


def percentiles_of_any(
    shown: Distribution,
    families: Mapping[str, float],
    fitted: Sequence[Distribution],
    percentiles: Sequence[float],
) -> Estimates:
    """Return percentiles of the ``shown`` fit, with the 95 % intervals in which open parameters and
    the choice of the family leave them: draws of each of the ``fitted`` families count by its
    Akaike weight. Families whose parameters cannot be drawn are left out.

    Source: Burnham and Anderson, Model Selection and Multimodel Inference (2002), chapter 4.
    """
    levels = np.asarray(percentiles) / 100
    drawn, shares = [], []
    for distribution in fitted:
        if families[distribution.label] < LEAST_SHARE:
            continue
        with suppress(ParameterError):
            values = np.array([refit.quantile(levels) for refit in uncertain(distribution).parts])
            drawn.append(values)
            shares.append(np.full(len(values), families[distribution.label] / len(values)))
    if not drawn:
        return percentiles_left_open(shown, percentiles)
    whole, weights = np.concatenate(drawn), np.concatenate(shares)
    own = shown.quantile(levels)
    ends = np.array([_weighted_ends(column, weights) for column in whole.T])
    return Estimates(own, np.minimum(ends[:, 0], own), np.maximum(ends[:, 1], own))


def _weighted_ends(values: Floats, weights: Floats) -> Floats:
    """Return the 2.5 and 97.5 % quantiles of weighted draws."""
    order = np.argsort(values)
    reached = np.cumsum(weights[order]) / weights.sum()
    places = np.searchsorted(reached, (0.025, 0.975))
    return np.asarray(values[order][np.minimum(places, len(values) - 1)])


def _made(fitted: Distribution, parameters: dict[str, float]) -> Distribution:
    kind = type(fitted)
    whole_ones = {name for name, value in vars(fitted).items() if isinstance(value, int)}
    return kind(
        **{name: int(value) if name in whole_ones else value for name, value in parameters.items()}
    )
