"""What each holding adds to a figure of risk.

Components add up to the figure by Euler's theorem. Source: Tasche, in Geometry of Risk (1999);
McNeil, Frey and Embrechts, Quantitative Risk Management (2005), section 6.3.
"""

from __future__ import annotations

import numpy as np
import pandas as pd

from kindynos.markets.exposure import Exposure
from kindynos.markets.method import MEASURES, Method
from kindynos.validate import checked, one_of


@checked
def contributions(
    method: Method, exposure: Exposure, measure: str, level: float, horizon: int
) -> pd.DataFrame:
    """Return a row for each holding: value, marginal (a unit of money more), component, share of
    the total, incremental.

    Incremental is by how much the figure would fall without the holding.
    """
    one_of("measure", measure, MEASURES)
    taken, exposure, left = method.over(exposure, horizon)
    values = exposure.values
    total = taken.figure(exposure, measure, level, left)
    component = taken.shares(exposure, measure, level, left)
    reached = float(component.sum())
    # differences leave a rest of a billionth
    component = component * (total / reached) if reached else component
    held = values != 0
    without = [
        taken.figure(exposure.without(position), measure, level, left)
        if np.count_nonzero(held) > 1
        else 0.0
        for position in range(len(values))
    ]
    frame = pd.DataFrame(
        {
            "value": values,
            "marginal": component / np.where(held, values, np.nan),
            "component": component,
            "share": component / total if total else np.nan,
            "incremental": total - np.array(without),
        },
        index=pd.Index(exposure.book.names, name="instrument"),
    )
    frame.attrs |= {
        "total": total,
        "level": level,
        "measure": measure,
        "method": method.label,
        "horizon": horizon,
    }
    return frame
