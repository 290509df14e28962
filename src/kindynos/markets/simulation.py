"""Losses of a portfolio simulated by the library's own engine."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from kindynos.distributions import Distribution, Normal
from kindynos.errors import ParameterError, nearest
from kindynos.fitting import fit_student
from kindynos.markets.methods import Exposure
from kindynos.model.model import Model
from kindynos.results.correlations import correlation, ranks
from kindynos.results.result import Result


def simulated_losses(
    exposure: Exposure, horizon: int, trials: int, seed: int, marginals: Any, copula: str, df: float | None
) -> Result:
    """Return the profit of simulated paths (a loss is below 0); see ``methods.simulated``."""
    laws = _laws(exposure, marginals)
    model = Model("portfolio", periods=horizon)
    names = [f"r{place}" for place in range(len(laws))]
    for name, law in zip(names, laws, strict=True):
        model.driver(name, law, each="period", base=0.0)
    if len(names) > 1:
        if copula in ("gaussian", "t"):
            scaled = [ranks(column) for column in exposure.returns.T]
            for i, first in enumerate(names):
                for j in range(i):
                    figure = float(np.clip(correlation(scaled[i], scaled[j]), -0.999, 0.999))
                    model.correlate(names[j], first, figure, copula=copula, df=df, repair=True)
        else:
            raise ParameterError(
                f"simulated: copula must be 'gaussian' or 't', not {copula!r}{nearest(copula, ['gaussian', 't'])}"
            )
    given = {f"v{place}": float(value) for place, value in enumerate(exposure.values)}
    for name, value in given.items():
        model.given(name, value)
    terms = [f"v{place} * (last(grow({name})) - 1)" for place, name in enumerate(names)]
    model.outcome("profit", " + ".join(terms))
    return model.simulate(trials, seed, "random")["profit"]


def _laws(exposure: Exposure, marginals: Any) -> list[Distribution]:
    if marginals in (None, "student"):
        return [fit_student(column) for column in exposure.returns.T]
    if marginals == "normal":
        return [Normal(float(c.mean()), float(c.std(ddof=1))) for c in exposure.returns.T]
    if not isinstance(marginals, Mapping):
        raise ParameterError(
            f"simulated: marginals must be 'student', 'normal', or distributions by instrument, not {marginals!r:.60}"
        )
    for name in exposure.names:
        if not isinstance(marginals.get(name), Distribution):
            raise ParameterError(f"simulated: marginals need a distribution for {name!r}")
    return [marginals[name] for name in exposure.names]
