"""Values in order against quantiles: plotting positions and the band of order statistics."""

import numpy as np
from scipy import stats

import kindynos as kd
from kindynos.fitting.ordered import density_of, ordered
from tests.common import Case


class Positions(Case):
    def test_of_a_uniform_distribution(self):
        """The i-th of n uniform values is beta(i, n + 1 - i); its place is (i - 1/2) / n."""
        count, i = 20, np.arange(1, 21)
        found = ordered(kd.Uniform(0, 1), np.linspace(0.99, 0.01, count), None)
        np.testing.assert_allclose(found.values, np.linspace(0.01, 0.99, count))
        np.testing.assert_allclose(found.expected, (i - 0.5) / count)
        np.testing.assert_allclose(found.low, stats.beta(i, count + 1 - i).ppf(0.025))
        np.testing.assert_allclose(found.high, stats.beta(i, count + 1 - i).ppf(0.975))

    def test_what_is_recorded_above_thresholds(self):
        """Of values that are recorded above 0 or above 1, half of the density is that of each
        truncated normal distribution.
        """
        x = np.linspace(-0.9, 4, 11)
        seen = [stats.truncnorm(at, np.inf).pdf(x) for at in (0.0, 1.0)]
        found = density_of(kd.Normal(0, 1), x, np.array([0.0, 1.0]))
        np.testing.assert_allclose(found, np.mean(seen, axis=0))
        np.testing.assert_allclose(density_of(kd.Normal(0, 1), x, None), stats.norm.pdf(x))
