"""Distribution functions and their inverses, under their newer and older names."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from scipy import special

from kindynos.workbooks.functions.registry import bounded, function, required, whole
from kindynos.workbooks.values import Value


def _inside(level: float) -> None:
    required(0 < level < 1)


def _normal_quick(level: Any, mean: Any, sd: Any) -> Any:
    wrong = (np.asarray(level) <= 0) | (np.asarray(level) >= 1) | (np.asarray(sd) <= 0)
    return np.where(wrong, np.nan, mean + sd * special.ndtri(level))


@function("NORM.INV NORMINV", "nnn", _normal_quick)
def _norm_inv(level: float, mean: float, sd: float) -> Value:
    """Return the quantile of a normal distribution."""
    _inside(level)
    required(sd > 0)
    return mean + sd * float(special.ndtri(level))


@function("NORM.S.INV NORMSINV", "n", special.ndtri)
def _norm_s_inv(level: float) -> Value:
    """Return the quantile of the standard normal distribution."""
    _inside(level)
    return float(special.ndtri(level))


def density(x: float) -> float:
    """Return the standard normal density."""
    return math.exp(-x * x / 2) / math.sqrt(2 * math.pi)


@function("NORM.DIST NORMDIST", "nnnb")
def _norm_dist(x: float, mean: float, sd: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of a normal distribution."""
    required(sd > 0)
    z = (x - mean) / sd
    return float(special.ndtr(z)) if cumulative else density(z) / sd


@function("NORM.S.DIST", "n[b]")
def _norm_s_dist(x: float, cumulative: bool = True) -> Value:
    """Return the chance of at most x, or the density, of the standard normal distribution."""
    return float(special.ndtr(x)) if cumulative else density(x)


@function("NORMSDIST", "n", special.ndtr)
def _normsdist(x: float) -> Value:
    """Return the chance of at most x of the standard normal distribution."""
    return float(special.ndtr(x))


@function("GAUSS", "n")
def _gauss(x: float) -> Value:
    """Return the chance that a standard normal figure lies between 0 and x."""
    return float(special.ndtr(x)) - 0.5


@function("PHI", "n")
def _phi(x: float) -> Value:
    """Return the standard normal density."""
    return density(x)


@function("LOGNORM.INV LOGINV", "nnn", lambda p, m, s: np.exp(_normal_quick(p, m, s)))
def _lognorm_inv(level: float, mean: float, sd: float) -> Value:
    """Return the quantile of a lognormal distribution; mean and sd are of the log."""
    _inside(level)
    required(sd > 0)
    return math.exp(mean + sd * float(special.ndtri(level)))


@function("LOGNORM.DIST", "nnnb")
def _lognorm_dist(x: float, mean: float, sd: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of a lognormal distribution."""
    required(x > 0 and sd > 0)
    z = (math.log(x) - mean) / sd
    return float(special.ndtr(z)) if cumulative else density(z) / (sd * x)


@function("LOGNORMDIST", "nnn")
def _lognormdist(x: float, mean: float, sd: float) -> Value:
    """Return the chance of at most x of a lognormal distribution."""
    required(x > 0 and sd > 0)
    return float(special.ndtr((math.log(x) - mean) / sd))


@function("BETA.INV BETAINV", "nnn[nn]")
def _beta_inv(level: float, a: float, b: float, low: float = 0.0, high: float = 1.0) -> Value:
    """Return the quantile of a beta distribution between two ends."""
    required(0 < level <= 1 and a > 0 and b > 0 and low < high)
    return low + (high - low) * float(special.betaincinv(a, b, level))


@function("BETA.DIST", "nnnb[nn]")
def _beta_dist(
    x: float, a: float, b: float, cumulative: bool, low: float = 0.0, high: float = 1.0
) -> Value:
    """Return the chance of at most x, or the density, of a beta distribution."""
    required(a > 0 and b > 0 and low < high and low <= x <= high)
    share = (x - low) / (high - low)
    if cumulative:
        return float(special.betainc(a, b, share))
    logs = (a - 1) * math.log(share) + (b - 1) * math.log1p(-share) - special.betaln(a, b)
    return math.exp(logs) / (high - low)


@function("BETADIST", "nnn[nn]")
def _betadist(x: float, a: float, b: float, low: float = 0.0, high: float = 1.0) -> Value:
    """Return the chance of at most x of a beta distribution."""
    required(a > 0 and b > 0 and low < high and low <= x <= high)
    return float(special.betainc(a, b, (x - low) / (high - low)))


@function("GAMMA.INV GAMMAINV", "nnn")
def _gamma_inv(level: float, shape: float, scale: float) -> Value:
    """Return the quantile of a gamma distribution."""
    required(0 <= level < 1 and shape > 0 and scale > 0)
    return scale * float(special.gammaincinv(shape, level))


@function("GAMMA.DIST GAMMADIST", "nnnb")
def _gamma_dist(x: float, shape: float, scale: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of a gamma distribution."""
    required(x >= 0 and shape > 0 and scale > 0)
    if cumulative:
        return float(special.gammainc(shape, x / scale))
    if x == 0:
        required(shape >= 1)
        return 1 / scale if shape == 1 else 0.0
    logs = (shape - 1) * math.log(x / scale) - x / scale - special.gammaln(shape)
    return math.exp(logs) / scale


@function("GAMMALN GAMMALN.PRECISE", "n")
def _gammaln(x: float) -> Value:
    """Return the log of the gamma function."""
    required(x > 0)
    return math.lgamma(x)


@function("GAMMA", "n")
def _gamma(x: float) -> Value:
    """Return the gamma function."""
    return math.gamma(x)


@function("EXPON.DIST EXPONDIST", "nnb")
def _expon_dist(x: float, rate: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of an exponential distribution."""
    required(x >= 0 and rate > 0)
    return -math.expm1(-rate * x) if cumulative else rate * math.exp(-rate * x)


@function("WEIBULL.DIST WEIBULL", "nnnb")
def _weibull(x: float, shape: float, scale: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of a Weibull distribution."""
    required(x >= 0 and shape > 0 and scale > 0)
    power = (x / scale) ** shape
    if cumulative:
        return -math.expm1(-power)
    return shape / scale * (x / scale) ** (shape - 1) * math.exp(-power)


@function("CHISQ.INV", "nn")
def _chisq_inv(level: float, df: float) -> Value:
    """Return the quantile of a chi-squared distribution."""
    required(0 <= level < 1 and whole(df) >= 1)
    return 2 * float(special.gammaincinv(whole(df) / 2, level))


@function("CHISQ.INV.RT CHIINV", "nn")
def _chisq_inv_rt(level: float, df: float) -> Value:
    """Return the value that a chi-squared distribution exceeds with a chance."""
    required(0 < level <= 1 and whole(df) >= 1)
    return 2 * float(special.gammainccinv(whole(df) / 2, level))


@function("CHISQ.DIST.RT CHIDIST", "nn")
def _chisq_dist_rt(x: float, df: float) -> Value:
    """Return the chance that a chi-squared distribution exceeds a value."""
    required(x >= 0 and whole(df) >= 1)
    return float(special.gammaincc(whole(df) / 2, x / 2))


@function("CHISQ.DIST", "nnb")
def _chisq_dist(x: float, df: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of a chi-squared distribution."""
    half = whole(df) / 2
    required(x >= 0 and half > 0)
    if cumulative:
        return float(special.gammainc(half, x / 2))
    return math.exp((half - 1) * math.log(x / 2) - x / 2 - math.lgamma(half)) / 2


@function("T.INV", "nn")
def _t_inv(level: float, df: float) -> Value:
    """Return the quantile of Student's t."""
    _inside(level)
    required(whole(df) >= 1)
    return float(special.stdtrit(whole(df), level))


@function("T.INV.2T TINV", "nn")
def _t_inv_2t(level: float, df: float) -> Value:
    """Return the value that Student's t exceeds on either side with a chance."""
    required(0 < level <= 1 and whole(df) >= 1)
    return -float(special.stdtrit(whole(df), level / 2))


@function("T.DIST", "nnb")
def _t_dist(x: float, df: float, cumulative: bool) -> Value:
    """Return the chance of at most x, or the density, of Student's t."""
    n = whole(df)
    required(n >= 1)
    if cumulative:
        return float(special.stdtr(n, x))
    logs = math.lgamma((n + 1) / 2) - math.lgamma(n / 2) - 0.5 * math.log(n * math.pi)
    return math.exp(logs - (n + 1) / 2 * math.log1p(x * x / n))


@function("T.DIST.RT", "nn")
def _t_dist_rt(x: float, df: float) -> Value:
    """Return the chance that Student's t exceeds a value."""
    required(whole(df) >= 1)
    return float(special.stdtr(whole(df), -x))


@function("T.DIST.2T", "nn")
def _t_dist_2t(x: float, df: float) -> Value:
    """Return the chance that Student's t exceeds a value on either side."""
    required(x >= 0 and whole(df) >= 1)
    return 2 * float(special.stdtr(whole(df), -x))


@function("TDIST", "nnn")
def _tdist(x: float, df: float, sides: float) -> Value:
    """Return the chance that Student's t exceeds a value on one side or either."""
    required(x >= 0 and whole(df) >= 1 and whole(sides) in (1, 2))
    return whole(sides) * float(special.stdtr(whole(df), -x))


@function("F.INV", "nnn")
def _f_inv(level: float, df1: float, df2: float) -> Value:
    """Return the quantile of an F distribution."""
    required(0 <= level < 1 and whole(df1) >= 1 and whole(df2) >= 1)
    return float(special.fdtri(whole(df1), whole(df2), level))


@function("F.INV.RT FINV", "nnn")
def _f_inv_rt(level: float, df1: float, df2: float) -> Value:
    """Return the value that an F distribution exceeds with a chance."""
    required(0 < level <= 1 and whole(df1) >= 1 and whole(df2) >= 1)
    return float(special.fdtri(whole(df1), whole(df2), 1 - level))


@function("F.DIST.RT FDIST", "nnn")
def _f_dist_rt(x: float, df1: float, df2: float) -> Value:
    """Return the chance that an F distribution exceeds a value."""
    required(x >= 0 and whole(df1) >= 1 and whole(df2) >= 1)
    return float(special.fdtrc(whole(df1), whole(df2), x))


@function("BINOM.DIST BINOMDIST", "nnnb")
def _binom_dist(k: float, n: float, chance: float, cumulative: bool) -> Value:
    """Return the chance of at most, or exactly, k successes in n trials."""
    k, n = whole(k), whole(n)
    required(0 <= k <= n and 0 <= chance <= 1)
    if cumulative:
        return float(special.bdtr(k, int(n), chance))
    return math.comb(int(n), int(k)) * chance**k * (1 - chance) ** (n - k)


@function("BINOM.INV CRITBINOM", "nnn")
def _binom_inv(n: float, chance: float, level: float) -> Value:
    """Return the least number of successes that is not exceeded with at least a chance."""
    n = whole(n)
    required(n >= 0 and 0 < chance < 1 and 0 < level < 1)
    low, high = 0, int(n)  # the answer lies between them
    while low < high:
        middle = (low + high) // 2
        if special.bdtr(middle, int(n), chance) >= level * (1 - 1e-14):
            high = middle
        else:
            low = middle + 1
    return low


@function("NEGBINOM.DIST", "nnnb")
def _negbinom_dist(k: float, n: float, chance: float, cumulative: bool) -> Value:
    """Return the chance of at most, or exactly, k failures before n successes."""
    k, n = whole(k), whole(n)
    required(k >= 0 and n >= 1 and 0 <= chance <= 1)
    if cumulative:
        return float(special.nbdtr(int(k), int(n), chance))
    return math.comb(int(k + n - 1), int(k)) * chance**n * (1 - chance) ** k


@function("POISSON.DIST POISSON", "nnb")
def _poisson(k: float, mean: float, cumulative: bool) -> Value:
    """Return the chance of at most, or exactly, k events."""
    k = whole(k)
    required(k >= 0 and mean >= 0)
    if cumulative:
        return float(special.pdtr(k, mean))
    if mean == 0:
        return 1.0 if k == 0 else 0.0
    return math.exp(k * math.log(mean) - mean - math.lgamma(k + 1))


@function("HYPGEOM.DIST", "nnnnb")
def _hypgeom(k: float, drawn: float, marked: float, size: float, cumulative: bool) -> Value:
    """Return the chance of at most, or exactly, k marked things among those drawn."""
    k, n, m, total = (int(whole(x)) for x in (k, drawn, marked, size))
    required(0 <= k <= min(n, m) and n <= total and m <= total)
    bounded(total)

    def chance(j: int) -> float:
        if j < max(0, n - total + m):
            return 0.0
        return math.comb(m, j) * math.comb(total - m, n - j) / math.comb(total, n)

    return math.fsum(chance(j) for j in range(k + 1)) if cumulative else chance(k)


@function("CONFIDENCE CONFIDENCE.NORM", "nnn")
def _confidence(level: float, sd: float, count: float) -> Value:
    """Return the half width of a normal interval of a mean, which misses it with a chance."""
    _inside(level)
    required(sd > 0 and whole(count) >= 1)
    return -float(special.ndtri(level / 2)) * sd / math.sqrt(whole(count))


@function("ERF ERF.PRECISE", "n")
def _erf(x: float) -> Value:
    """Return the error function."""
    return math.erf(x)


@function("ERFC ERFC.PRECISE", "n")
def _erfc(x: float) -> Value:
    """Return one less the error function."""
    return math.erfc(x)
