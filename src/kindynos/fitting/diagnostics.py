"""What is left in a series, or in what a process did not foresee: autocorrelations and tests in
words.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Figure
from kindynos.delegation import delegated_to
from kindynos.errors import ParameterError
from kindynos.fitting.data import check_size
from kindynos.fitting.normality import Test, normality, said
from kindynos.fitting.stationarity import kpss, unit_root
from kindynos.inference.autocorrelation import autocorrelations, portmanteau
from kindynos.inference.intervals import Z
from kindynos.processes.base import Process
from kindynos.validate import array_of, check_integer, checked

if TYPE_CHECKING:
    import pandas as pd


FEWEST = 12
# How often the tests reject residuals of the right model at 5 %, with 40 to 240 values and fitted
# parameters: from the least to the most of the cases of ``benchmarks series``.
RESIDUAL_SIZES = {"Ljung-Box": (0.05, 0.09), "Anderson-Darling": (0.01, 0.05)}


@dataclass(frozen=True)
class Diagnostics:
    """Autocorrelations of a series at lags from 1, partial ones, the band that independent values
    keep within, and tests.

    ``of`` says of what: a series, or the residuals of a process, in units of their sd.
    """

    of: str
    values: Floats
    autocorrelations: Floats
    partial: Floats
    band: float
    tests: tuple[Test, ...]

    def table(self) -> pd.DataFrame:
        """Return a DataFrame, one row per test: statistic, p-value, and what it says."""
        import pandas as pd

        rows = {test.name: (test.statistic, test.p, test.words) for test in self.tests}
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["statistic", "p", "meaning"])
        table.index.name = "test"
        return table

    @delegated_to("kindynos.plots", "diagnostics")
    def plot(self, figure: Figure | None = None) -> Figure:
        """Draw a page: the series, both autocorrelations with their band, and a histogram; return
        the Matplotlib figure.
        """


@checked
def diagnose(series: Any, lags: int | None = None) -> Diagnostics:
    """Return diagnostics of a series ``(values,)``, or of the residuals of a process that was
    fitted; NaN are missing values.

    Raises ParameterError for fewer than 12 values, a constant series, and a process without
    residuals.

    >>> rng = np.random.default_rng(2)
    >>> diagnose(rng.standard_normal(200)).tests[0].p > 0.05
    True
    """
    estimated = 0
    if isinstance(series, Process):
        residuals = getattr(series, "residuals", None)
        if residuals is None:
            raise ParameterError(
                f"{type(series).__name__} keeps no residuals; give the series itself"
            )
        values, what = np.asarray(residuals()), f"residuals of {series.label}"
        estimated = 0 if series.fitted is None else max(series.fitted.parameter_count - 2, 0)
    else:
        values, what = array_of("series", series), "series"
    if values.ndim != 1:
        raise ParameterError(f"series must be flat, one value a period, not {values.shape}")
    value = values[~np.isnan(values)]
    if len(value) < FEWEST or np.ptp(value) == 0:
        raise ParameterError(f"needs at least {FEWEST} values that are not all equal")
    check_size(value)
    most = min(len(value) // 2 - 1, max(10, 2 * int(math.log(len(value)) * 4)))
    lags = min(most, 36) if lags is None else check_integer("lags", lags, least=1)
    if lags > len(value) // 2:
        raise ParameterError(f"lags must be at most half the {len(value)} values, not {lags}")
    correlations = autocorrelations(values, lags)
    tests = [ljung_box(correlations, len(value), min(lags, max(10, estimated + 3)), estimated)]
    if what == "series":
        tests += [unit_root(values), kpss(values)]
    tests.append(normality(value).tests[0])
    return Diagnostics(
        what,
        values,
        correlations,
        partial_autocorrelations(correlations),
        Z / math.sqrt(len(value)),
        tuple(tests),
    )


def partial_autocorrelations(result: Floats) -> Floats:
    """Return partial autocorrelations from autocorrelations. Source: Durbin, Revue de l'Institut
    Int. de Stat. 28 (1960).
    """
    phi: Floats = np.empty(0)
    partial = []
    for lag in range(1, len(result) + 1):
        before = result[: lag - 1]
        value = (
            (result[lag - 1] - phi @ before[::-1]) / (1 - phi @ before) if lag > 1 else result[0]
        )
        phi = np.append(phi - value * phi[::-1], value)
        partial.append(float(value))
    return np.array(partial)


def ljung_box(correlations: Floats, count: int, lags: int, estimated: int = 0) -> Test:
    """Test that the first autocorrelations are all 0, with that many parameters fitted.

    Source: Ljung and Box, Biometrika 65 (1978), 297-303.
    """
    statistic, p = portmanteau(correlations, count, lags, estimated)
    words = said(p, "values depend on earlier ones", "nothing left in the autocorrelations")
    return Test("Ljung-Box", statistic, p, words)
