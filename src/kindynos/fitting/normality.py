"""Is it normal? Three tests, and by how much it is not.

Sources: D'Agostino and Stephens, Goodness-of-Fit Techniques (1986), section 4.8.5 and chapter 9;
Jarque and Bera, International Statistical Review 55 (1987), 163-172; Anscombe and Glynn, Biometrika
70 (1983), 227-234.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import delegated_to
from kindynos.distributions.normal import Normal
from kindynos.distributions.special import gammaincc, ndtr
from kindynos.errors import ParameterError
from kindynos.fitting.goodness import distances
from kindynos.formatting import p_value
from kindynos.validate import array_of, checked

if TYPE_CHECKING:
    import pandas as pd


FEWEST = 8
MANY = 5_000  # values from which a departure of no importance is found
SMALL_SKEWNESS, SMALL_KURTOSIS = 0.1, 0.2  # which no decision hangs on


@dataclass(frozen=True)
class Test:
    """A test by name: its statistic, its p-value, and what it says."""

    name: str
    statistic: float
    p: float
    words: str


@dataclass(frozen=True)
class Normality:
    """How near values are to a normal distribution with their mean and sd.

    ``tests`` are Anderson-Darling, D'Agostino-Pearson and Jarque-Bera; ``skewness`` and
    ``excess_kurtosis`` (both 0 for a normal distribution) and ``distance``, the largest gap between
    the two cumulative curves, tell the size of the departure. The verdict is that of
    Anderson-Darling at 5 %; the least of three p-values would reject 9 % of normal samples.
    """

    values: Floats
    tests: tuple[Test, ...]
    skewness: float
    excess_kurtosis: float
    distance: float

    @property
    def verdict(self) -> str:
        """What the tests and the sizes tell, in a sentence or two."""
        deciding = self.tests[0]
        size = f"skewness {self.skewness:.2g}, excess kurtosis {self.excess_kurtosis:.2g}"
        size += f"; chances are off by up to {100 * self.distance:.1f} percentage points"
        if deciding.p >= 0.05:
            return f"nothing speaks against a normal distribution ({size})"
        text = f"not normal: {deciding.name}, {p_value(deciding.p)} ({size})"
        if len(self.values) >= MANY:
            text += (
                f". With {len(self.values):,} values every departure, however small, is "
                "significant: look at its size, not at p"
            )
        return text

    def table(self) -> pd.DataFrame:
        """Return a DataFrame, one row per test: statistic, p-value, and what it says."""
        import pandas as pd

        rows = {test.name: (test.statistic, test.p, test.words) for test in self.tests}
        table = pd.DataFrame.from_dict(rows, orient="index", columns=["statistic", "p", "meaning"])
        table.index.name = "test"
        return table

    def __repr__(self) -> str:
        return f"Normality({self.verdict})"

    @delegated_to("kindynos.plots", "normality")
    def plot(
        self, ax: Axes | None = None, name: str | None = None, unit: str | None = None
    ) -> Axes:
        """Draw a histogram of the values with the normal density of their mean and sd; return the
        Matplotlib axes.
        """


@checked
def normality(values: Any) -> Normality:
    """Return tests of whether values ``(values,)`` are normal, and the size of their departure; NaN
    are dropped.

    Raises ParameterError for fewer than 8 values, infinite ones, and values that are all equal.

    >>> found = normality(Normal(10, 2).sample(500, seed=1))
    >>> found.tests[0].p > 0.05
    True
    """
    x = array_of("values", values).reshape(-1)
    x = x[~np.isnan(x)]
    if len(x) < FEWEST:
        raise ParameterError(f"needs at least {FEWEST} values, and there are {len(x)}")
    if not np.isfinite(x).all():
        raise ParameterError("some values are infinite")
    mean, sd = float(x.mean()), float(x.std(ddof=1))
    if sd <= 1e-14 * max(abs(mean), 1e-300):
        raise ParameterError(f"all values are equal, {mean:g}")
    z = (x - mean) / x.std()
    skewness, kurtosis = float((z**3).mean()), float((z**4).mean())
    square, distance = distances(Normal(mean, sd), x)
    tests = (
        _anderson_darling(square, len(x)),
        _dagostino_pearson(skewness, kurtosis, len(x)),
        jarque_bera(skewness, kurtosis, len(x)),
    )
    return Normality(x, tests, skewness, kurtosis - 3, distance)


def said(p: float, against: str, supports: str) -> str:
    """Return what a p-value means: whether the data speak against the hypothesis."""
    return f"{against} ({p_value(p)})" if p < 0.05 else f"{supports} ({p_value(p)})"


def _words(p: float) -> str:
    return said(p, "the values are not normal", "nothing speaks against normal values")


def _anderson_darling(square: float, count: int) -> Test:
    a = square * (1 + 0.75 / count + 2.25 / count**2)
    if a < 0.2:
        p = 1 - math.exp(-13.436 + 101.14 * a - 223.73 * a**2)
    elif a < 0.34:
        p = 1 - math.exp(-8.318 + 42.796 * a - 59.938 * a**2)
    elif a < 0.6:
        p = math.exp(0.9177 - 4.279 * a - 1.38 * a**2)
    else:
        p = math.exp(1.2937 - 5.709 * min(a, 13.0) + 0.0186 * min(a, 13.0) ** 2)
    return Test("Anderson-Darling", square, p, _words(p))


def _dagostino_pearson(skewness: float, kurtosis: float, n: int) -> Test:
    y = skewness * math.sqrt((n + 1) * (n + 3) / (6 * (n - 2)))
    beta = 3 * (n**2 + 27 * n - 70) * (n + 1) * (n + 3) / ((n - 2) * (n + 5) * (n + 7) * (n + 9))
    w2 = math.sqrt(2 * (beta - 1)) - 1
    first = math.asinh(y / math.sqrt(2 / (w2 - 1))) / math.sqrt(math.log(math.sqrt(w2)))
    mean = 3 * (n - 1) / (n + 1)
    spread = math.sqrt(24 * n * (n - 2) * (n - 3) / ((n + 1) ** 2 * (n + 3) * (n + 5)))
    x = (kurtosis - mean) / spread
    lean = (
        6
        * (n**2 - 5 * n + 2)
        / ((n + 7) * (n + 9))
        * math.sqrt(6 * (n + 3) * (n + 5) / (n * (n - 2) * (n - 3)))
    )
    a = 6 + 8 / lean * (2 / lean + math.sqrt(1 + 4 / lean**2))
    base = (1 - 2 / a) / (1 + x * math.sqrt(2 / (a - 4)))
    second = (1 - 2 / (9 * a) - math.copysign(abs(base) ** (1 / 3), base)) / math.sqrt(2 / (9 * a))
    statistic = first**2 + second**2
    p = math.exp(-statistic / 2)
    return Test("D'Agostino-Pearson", statistic, p, _words(p))


def jarque_bera(skewness: float, kurtosis: float, n: int) -> Test:
    """Test normality by skewness and kurtosis (3 for a normal): chi-square with 2 degrees of
    freedom.
    """
    statistic = n / 6 * (skewness**2 + (kurtosis - 3) ** 2 / 4)
    p = float(gammaincc(np.array(1.0), np.array(statistic / 2)))
    return Test("Jarque-Bera", statistic, p, _words(p))


def two_sided(z: float) -> float:
    """Return the p-value of a standard normal statistic."""
    return 2 * float(ndtr(np.array(-abs(z))))
