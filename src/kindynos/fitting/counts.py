"""How often something happens, from yearly counts and what was exposed to it: a rate, and whether
the years scatter more than independent events would.

Poisson: count ~ Poisson(rate x exposure). Negative binomial: the same with a rate that differs from
year to year as a gamma distribution does, so that the variance is mean + mean^2 / size. Source:
Klugman, Panjer and Willmot, Loss Models (2012), chapters 6 and 15.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.delegation import Reported
from kindynos.distributions.counts import NegativeBinomial, Poisson
from kindynos.distributions.special import gammaln
from kindynos.distributions.uncertain import Uncertain
from kindynos.errors import ParameterError
from kindynos.formatting import p_value
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z
from kindynos.sampling.streams import stream
from kindynos.validate import array_of, checked, instance, positive

if TYPE_CHECKING:
    import pandas as pd

FEWEST = 5  # years
SAMPLES = 9_999  # of the test of scatter
SIZE = 0.03  # of that test, from which the counts are said to scatter
SIZES = np.geomspace(0.02, 1e5, 400)  # of the negative binomial, where its profile is worked out
DRAWS = 25  # of the rate, where it is uncertain: parts of a mixture


@dataclass(frozen=True, eq=False)
class CountFit(Reported):
    """A rate fitted to yearly counts; see ``fit_counts``. ``exposure`` are ones where none is
    given.
    """

    counts: Floats
    exposure: Floats

    @property
    def dispersion(self) -> float:
        """The variance over the mean, given the exposure: about 1 for independent events."""
        return float(self._scatter(self.counts)) / (len(self.counts) - 1)

    @property
    def shares(self) -> Floats:
        """The share of the exposure in each year."""
        shares: Floats = self.exposure / self.exposure.sum()
        return shares

    def _scatter(self, counts: Any) -> Any:
        """Return Pearson's chi-squared of counts, given their total."""
        expected = self.counts.sum() * self.shares
        return ((counts - expected) ** 2 / expected).sum(axis=-1)

    @cached_property
    def p(self) -> float:
        """The chance of so much scatter, or more, where events are independent: exact but for the
        sampling, given the total. 1 where nothing happened.
        """
        total = int(self.counts.sum())
        if not total:
            return 1.0
        drawn = stream(0, "scatter of counts", total).multinomial(total, self.shares, SAMPLES)
        at_least = self._scatter(drawn) >= self._scatter(self.counts) * (1 - 1e-12)
        return float((np.count_nonzero(at_least) + 1) / (SAMPLES + 1))

    @property
    def scattered(self) -> bool:
        """Whether the years scatter more than independent events do (p below 0.03)."""
        return self.p < SIZE

    @cached_property
    def rate(self) -> Estimate:
        """How many a unit of exposure, with its 95 % interval: exact for Poisson counts; for
        scattered ones of the quasi-likelihood, by Student's t.
        """
        total, exposed = float(self.counts.sum()), float(self.exposure.sum())
        if not self.scattered:
            from scipy.special import chdtri

            low = chdtri(2 * total, 1 - 0.025) / 2 if total else 0.0
            high = chdtri(2 * (total + 1), 0.025) / 2
            return Estimate(total / exposed, float(low) / exposed, float(high) / exposed)
        from scipy.special import stdtrit

        sd = math.sqrt(self.dispersion / total)
        reach = math.exp(float(stdtrit(len(self.counts) - 1, 0.975)) * sd)
        return Estimate(total / exposed, total / exposed / reach, total / exposed * reach)

    @cached_property
    def _profile(self) -> tuple[Floats, Floats]:
        """Return the log likelihood of each size, at the rate that is likeliest under it."""
        best = np.full(len(SIZES), float(self.counts.sum() / self.exposure.sum()))
        for _ in range(50):  # a fixed point: counts weigh less the more their rate varies
            weights = 1 / (1 + best[:, None] * self.exposure / SIZES[:, None])
            best = (weights * self.counts).sum(axis=1) / (weights * self.exposure).sum(axis=1)
        means, k = best[:, None] * self.exposure, SIZES[:, None]
        ways = gammaln(self.counts + k) - gammaln(self.counts + 1) - gammaln(k)
        with np.errstate(divide="ignore", invalid="ignore"):
            odds = np.where(self.counts > 0, self.counts * np.log(means / (k + means)), 0.0)
        return (ways - k * np.log1p(means / k) + odds).sum(axis=1), best

    @cached_property
    def size(self) -> Estimate:
        """The size of the negative binomial with its 95 % interval by profile likelihood; infinite
        is Poisson.
        """
        height, _ = self._profile
        top = int(height.argmax())
        inside = np.flatnonzero(height >= height[top] - Z**2 / 2)
        low, high = SIZES[inside[0]], SIZES[inside[-1]]
        endless = inside[-1] == len(SIZES) - 1
        value = math.inf if top == len(SIZES) - 1 else float(SIZES[top])
        return Estimate(value, float(low), math.inf if endless else float(high))

    @property
    def verdict(self) -> str:
        """What the counts tell, in a sentence."""
        words = f"{len(self.counts)} years ({p_value(self.p)})"
        if self.scattered:
            return f"the counts scatter more than independent events in {words}: negative binomial"
        return f"the counts scatter no more than independent events may in {words}: Poisson"

    @checked
    def distribution(
        self, exposure: float = 1.0, uncertain: bool = False
    ) -> Poisson | NegativeBinomial | Uncertain:
        """Return the distribution of the number for an exposure, such as that of next year:
        Poisson, or negative binomial where the counts scatter.

        With ``uncertain`` the rate is drawn too, as the records leave it open: of a Poisson count
        the result is negative binomial. Raises ParameterError where nothing happened, unless it is
        uncertain.
        """
        exposed = positive("exposure", exposure)
        total = float(self.counts.sum())
        mean = float(self.rate) * exposed
        if instance("uncertain", uncertain, bool, "true or false") and not self.scattered:
            successes = total + 0.5  # Jeffreys' prior of the rate
            weight = float(self.exposure.sum())
            return NegativeBinomial(successes, weight / (weight + exposed))
        if not total:
            raise ParameterError("nothing happened in all the years; say uncertain=True")
        if not self.scattered:
            return Poisson(mean)
        k = float(self.size)
        if not uncertain:
            return NegativeBinomial(k, k / (k + mean))
        from scipy.special import stdtrit

        levels = (np.arange(DRAWS) + 0.5) / DRAWS
        sd = math.sqrt(self.dispersion / total)
        means = mean * np.exp(stdtrit(len(self.counts) - 1, levels) * sd)
        return Uncertain([NegativeBinomial(k, k / (k + one)) for one in means.tolist()])

    def table(self) -> pd.DataFrame:
        """Return a row for each year: the exposure, the count, and what the rate expects."""
        import pandas as pd

        expected = float(self.rate) * self.exposure
        columns = {"exposure": self.exposure, "count": self.counts, "expected": expected}
        return pd.DataFrame(columns, pd.RangeIndex(1, len(self.counts) + 1, name="record"))


@checked
def fit_counts(counts: Any, exposure: Any = None) -> CountFit:
    """Return a rate fitted to yearly ``counts``, and whether they scatter more than independent
    events: Poisson against negative binomial.

    ``exposure`` says how much could have been hit in each year, such as vessels or insured sums;
    the rate is for a unit of it. Raises ParameterError for fewer than 5 counts, for counts that are
    no whole numbers from 0 up, and for an exposure that is not above 0.

    >>> fitted = fit_counts([4, 7, 5, 9, 6, 3, 8], exposure=[36, 38, 38, 40, 41, 41, 42])
    >>> round(fitted.rate, 3), round(fitted.distribution(exposure=42).mean, 2)
    (0.152, 6.39)
    """
    values = array_of("counts", counts)
    if values.ndim != 1 or len(values) < FEWEST:
        raise ParameterError(f"counts must be a list of at least {FEWEST}, one for each year")
    if not (np.isfinite(values) & (values >= 0) & (values == np.floor(values))).all():
        raise ParameterError("counts must be whole numbers, at least 0")
    exposed = np.ones(len(values)) if exposure is None else array_of("exposure", exposure)
    if exposed.shape != values.shape:
        raise ParameterError(
            f"exposure must be one for each of the {len(values)} counts, not {exposed.size}"
        )
    if not (np.isfinite(exposed) & (exposed > 0)).all():
        raise ParameterError("exposure must be above 0 in every year")
    return CountFit(values, exposed)
