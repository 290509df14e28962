"""SciPy's special functions as the distributions use them: on float arrays, giving float arrays."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy import special

Special = Callable[..., NDArray[np.float64]]

ndtr: Special = special.ndtr  # the normal cdf
ndtri: Special = special.ndtri  # the normal quantile
pdtrik: Special = special.pdtrik  # the quantile of Poisson counts, between whole numbers too
betainc: Special = special.betainc
betaincc: Special = special.betaincc
betaincinv: Special = special.betaincinv
betainccinv: Special = special.betainccinv
betaln: Special = special.betaln
gammainc: Special = special.gammainc
gammaincc: Special = special.gammaincc
gammaincinv: Special = special.gammaincinv
gammainccinv: Special = special.gammainccinv
gammaln: Special = special.gammaln
digamma: Special = special.digamma
log_ndtr: Special = special.log_ndtr
logit: Special = special.logit
expit: Special = special.expit
owens_t: Special = special.owens_t
xlogy: Special = special.xlogy
xlog1py: Special = special.xlog1py
chdtri: Special = special.chdtri  # the value that a chi-square exceeds with a chance
fdtrc: Special = special.fdtrc  # the chance that an F statistic is larger
stdtr: Special = special.stdtr  # Student's cdf
stdtrit: Special = special.stdtrit  # Student's quantile
pdtr: Special = special.pdtr  # the Poisson cdf of a count and a mean


def trigamma(x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the second derivative of the logarithm of the gamma function."""
    return np.asarray(special.polygamma(1, x))


@cache
def laguerre(count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return nodes and weights of an integral from 0 on, of what is multiplied by exp(-x)."""
    return np.polynomial.laguerre.laggauss(count)


@cache
def legendre(count: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return nodes and weights of an integral from -1 to 1."""
    return np.polynomial.legendre.leggauss(count)
