"""Internal rates of return of flows that are evenly spaced."""

from __future__ import annotations

import warnings

import numpy as np
from numpy.typing import ArrayLike

from kindynos.arrays import Floats
from kindynos.errors import DataWarning
from kindynos.finance.notes import note
from kindynos.finance.rates import Even, IrrReport, solve
from kindynos.finance.shapes import joined, on_arrays


@on_arrays
def irr(flows: ArrayLike, initial: ArrayLike | None = None) -> Floats | float:
    """Return the internal rate of return per period: NaN where none exists, or more than one does.

    ``flows`` is ``(periods,)`` or ``(periods, trials)``, evenly spaced; ``initial``, a number or
    one per trial, comes one period before them. The answer is ``(trials,)``, or a float of flat
    flows. Rates are sought from just above -1 to 1e250 and are exact to 1e-10 of 1 + rate (to 1e-6
    where two coincide); each trial's answer is its own, whatever the others are. Raises
    ParameterError for shapes that do not fit.

    Source: Descartes' rule of signs; see the head of this file and ``irr_report``.

    >>> round(irr([-100.0, 60.0, 60.0]), 6)
    0.130662
    """
    row = joined(flows, initial)
    return unique_rates(
        row,
        solve(row, Even(len(row))),
        flat=np.ndim(flows) == 1 and (initial is None or np.ndim(initial) == 0),
    )


def unique_rates(row: Floats, report: IrrReport, flat: bool) -> Floats | float:
    """Return the rates of a report, and say of how many trials there is none, and why; of one flat
    series, warn.
    """
    if (report.count != 1).any():
        one_sign = (report.count == 0) & ((row >= 0).all(axis=0) | (row <= 0).all(axis=0))
        note("no IRR: flows all of one sign", int(np.count_nonzero(one_sign)))
        note("no IRR", int(np.count_nonzero((report.count == 0) & ~one_sign)))
        note("several IRRs", int(np.count_nonzero(report.count > 1)))
        if flat and one_sign[0]:
            text = (
                "the flows are all of one sign, so there is no rate of return: one must be "
                "paid out and one come back"
            )
            warnings.warn(text, DataWarning, stacklevel=3)
    return float(report.rate[0]) if flat else report.rate


@on_arrays
def irr_report(flows: ArrayLike, initial: ArrayLike | None = None) -> IrrReport:
    """Return for each trial whether its internal rate of return is unique, does not exist or is one
    of several.

    Arguments and errors as for ``irr``. A trial whose flows hold a NaN, are all zero or never
    change sign has none.

    >>> report = irr_report([-100, 230, -132])
    >>> report.status[0], report.roots[0].round(6)
    (np.str_('several'), array([0.1, 0.2]))
    """
    row = joined(flows, initial)
    return solve(row, Even(len(row)))
