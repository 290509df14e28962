"""The risk register of a run: each risk's chance and impact, and what it does to an outcome."""

from __future__ import annotations

import math
from collections.abc import Callable

import pandas as pd

from kindynos.distributions.event_impact import EventImpact
from kindynos.errors import RunError
from kindynos.program.quantities import DistributionDriver
from kindynos.results.trials import SimulatedTrials
from kindynos.validate import checked


def risks_of(run: SimulatedTrials, outcome: str) -> dict[str, EventImpact]:
    """Return the risk events among the drivers that reach an outcome."""
    reach = run.program.ancestors([outcome])
    return {
        name: driver.distribution
        for name, driver in run.program.drivers.items()
        if name in reach
        and isinstance(driver, DistributionDriver)
        and isinstance(driver.distribution, EventImpact)
    }


@checked
def risk_register(
    run: SimulatedTrials, outcome: str, contributions: Callable[[], pd.DataFrame]
) -> pd.DataFrame:
    """Return a row for each risk, from the contributions of all drivers to the contingency; see
    ``Run.risk_register``.
    """
    risks = risks_of(run, outcome)
    if not risks:
        raise RunError(
            f"no risk event reaches {outcome!r}; a driver is one with the distribution "
            "EventImpact, or a row with a chance in a table of drivers"
        )
    to_contingency = contributions()
    rows = []
    for name, event in risks.items():
        share = to_contingency.loc[name]
        impact = float(event.impact.mean)
        rows.append(
            {
                "risk": name,
                "chance": event.probability,
                "impact": impact,
                "expected": event.probability * impact,
                "contribution": share["contribution"],
                "error": share["error"],
                "share": share["share"],
                "error of share": share["error of share"],
            }
        )
    frame = pd.DataFrame(rows).set_index("risk")
    size = frame["contribution"].abs()
    frame = frame.loc[size.sort_values(ascending=False, kind="stable").index]
    frame.attrs = {**to_contingency.attrs, "of risks": math.fsum(frame["contribution"])}
    return frame
