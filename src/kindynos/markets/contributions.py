"""What each holding adds to the risk of a portfolio.

Component contributions add up to the total by Euler's theorem. Source: Tasche, in Geometry of Risk (1999); McNeil, Frey and
Embrechts, Quantitative Risk Management (2005), section 6.3.
"""

from __future__ import annotations

import math

import numpy as np
import pandas as pd

from kindynos.distributions.special import ndtri
from kindynos.markets.exposure import Exposure
from kindynos.markets.returns import covariance
from kindynos.validate import one_of


def contributions(exposure: Exposure, level: float, measure: str) -> pd.DataFrame:
    """Return a row for each holding: value, marginal (a unit of money more), component, share of the total, incremental.

    Incremental is by how much the risk would fall without the holding.
    """
    one_of("contributions", "measure", measure, ("value_at_risk", "expected_shortfall"))
    values = exposure.values
    if measure == "value_at_risk":
        matrix, z = covariance(exposure.returns), float(ndtri(level))
        means = exposure.returns.mean(axis=0)

        def risk(held: np.ndarray) -> float:
            return -float(means @ held) + z * math.sqrt(max(float(held @ matrix @ held), 0.0))

        spread = math.sqrt(float(values @ matrix @ values))
        marginal = -means + z * (matrix @ values) / spread
    else:
        losses = exposure.losses
        count = max(1, math.ceil(len(losses) * (1 - level) - 1e-9))
        worst = np.argsort(losses, kind="stable")[-count:]
        marginal = -exposure.returns[worst].mean(axis=0)

        def risk(held: np.ndarray) -> float:
            return float(np.sort(-(exposure.returns @ held))[-count:].mean())

    total = risk(values)
    component = marginal * values
    alone = [total - risk(np.where(np.arange(len(values)) == place, 0.0, values)) for place in range(len(values))]
    frame = pd.DataFrame(
        {
            "value": values,
            "marginal": marginal,
            "component": component,
            "share": component / total if total else np.nan,
            "incremental": alone,
        },
        index=pd.Index(exposure.names, name="instrument"),
    )
    frame.attrs |= {"total": total, "level": level, "measure": measure}
    return frame
