"""Statistics of a distribution's shape, each with its 95 % interval: skewness, kurtosis and the
mode.
"""

from __future__ import annotations

import math

import numpy as np

from kindynos.arrays import Floats
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import jackknife_error
from kindynos.inference.sample import AnySample, Sample

# of a histogram behind a mode, and of groups of trials, left out one at a time
BINS, GROUPS = (2048, 20)


def skewness(sample: AnySample) -> Estimate:
    """Skewness: the same jackknife; marked rough, since single trials far out decide it."""
    if sample.count < 3:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        value = sample.standardized(3) if sample.sd > 0 else math.nan
        if not sample.has_error or not math.isfinite(value):
            return Estimate(value, rough=True)
        reach = jackknife_error(skewness_of_sums(*sample.left_out(3)))
    return symmetrical(value, reach, rough=True)


def skewness_of_sums(count: Floats, one: Floats, two: Floats, three: Floats) -> Floats:
    """Return skewnesses from sums of the powers 0 to 3."""
    centre = one / count
    second = two / count - centre**2
    third = three / count - 3 * centre * two / count + 2 * centre**3
    return third / second**1.5


def kurtosis(sample: AnySample) -> Estimate:
    """Excess kurtosis, 0 for a normal distribution: the same jackknife; marked rough as skewness
    is.
    """
    if sample.count < 4:
        return Estimate(math.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        value = sample.standardized(4) - 3 if sample.sd > 0 else math.nan
        if not sample.has_error or not math.isfinite(value):
            return Estimate(value, rough=True)
        count, one, two, three, four = sample.left_out(4)
        centre = one / count
        second = two / count - centre**2
        fourth = (four - 4 * centre * three + 6 * centre**2 * two) / count - 3 * centre**4
        reach = jackknife_error(fourth / second**2)
    return symmetrical(value, reach, rough=True)


def mode(sample: Sample) -> Estimate:
    """The likeliest value: the most frequent where values repeat, else the peak of a kernel density
    of the middle 98 %.

    Its interval is the jackknife that leaves out a twentieth of the trials at a time; rough, since
    a flat peak moves freely. Source of the bandwidth: Silverman, Density Estimation (1986),
    equation 3.31.
    """
    finite = sample.only(np.isfinite(sample.values))
    values, weights = finite.valid, finite.valid_weights
    if not len(values):
        return Estimate(math.nan, rough=True)
    distinct, owner = np.unique(values, return_inverse=True)
    if len(distinct) <= len(values) / 2:
        return Estimate(float(distinct[np.bincount(owner, weights).argmax()]), rough=True)
    low, first, last, high = finite.quantile(np.array([0.01, 0.25, 0.75, 0.99])).tolist()
    width = 0.9 * (last - first) / 1.34 * finite.effective_count**-0.2
    if not width > 0:
        return Estimate(float(finite.quantile(0.5)), rough=True)
    edges = np.linspace(low - 3 * width, high + 3 * width, BINS + 1)
    groups = np.array(
        [
            np.histogram(values[some], edges, weights=None if weights is None else weights[some])[0]
            for some in np.array_split(finite.in_blocks(np.arange(len(values))), GROUPS)
        ],
        dtype=np.float64,
    )
    total = groups.sum(axis=0)
    value = _peak(total, edges, width)
    if not sample.has_error:
        return Estimate(value, rough=True)
    reach = jackknife_error(np.array([_peak(total - group, edges, width) for group in groups]))
    return symmetrical(value, reach, rough=True)


def _peak(counts: Floats, edges: Floats, width: float) -> float:
    """Return where counts, smoothed by a normal kernel, are largest: the top of the parabola
    through three bins.
    """
    from scipy.ndimage import gaussian_filter1d  # which takes long to load

    step = float(edges[1] - edges[0])
    smooth = gaussian_filter1d(counts, width / step, mode="constant")
    position = int(np.clip(smooth.argmax(), 1, len(counts) - 2))
    before, top, after = smooth[position - 1 : position + 2]
    bend = before - 2 * top + after
    shift = 0.5 * (before - after) / bend if bend < 0 else 0.0
    return float(edges[position] + step * (0.5 + min(max(shift, -1.0), 1.0)))
