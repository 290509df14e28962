"""Whether bounds, groups and turnover can hold together, and if not, which of them are to blame."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kindynos.errors import ParameterError, RunError
from kindynos.markets.allocation.critical_line import vertex
from kindynos.markets.allocation.region import Region


def check_feasible(region: Region) -> None:
    """Raise ParameterError for a region without any weights: the turnover that is needed, or the
    groups that conflict.
    """
    if not region.rows or _has_weights(region):
        return
    free = replace(region, turnover=None)
    if region.turnover is not None and _has_weights(free):
        # with a cost, so that trades are among the unknowns
        system = replace(free, cost=max(free.cost, 1e-6)).system()
        traded = np.zeros(len(system.lower))
        traded[free.count : 3 * free.count] = 1.0
        needed = float(traded @ vertex(system, -traded))
        raise ParameterError(
            f"to meet bounds and groups {needed:.6g} must be bought and sold, above the turnover "
            f"{region.turnover:g}"
        )
    blamed = [
        row.label
        for row in free.rows
        if _has_weights(replace(free, rows=tuple(r for r in free.rows if r is not row)))
    ]
    named = " and ".join(blamed or [row.label for row in free.rows])
    raise ParameterError(f"groups {named} cannot be met together within the bounds")


def _has_weights(region: Region) -> bool:
    try:
        vertex(region.system())
    except RunError:
        return False
    return True
