"""Tests of what is expected from what is known."""

import numpy as np

from kindynos.inference.regression import expected_given
from tests.common import Case


class Shapes(Case):
    def test_cubic_surfaces_are_found_as_they_are(self):
        known = np.random.default_rng(2).uniform(-1, 1, (2, 400))
        new = np.array([[0.5, -0.2, 0.9], [0.1, 0.9, -0.8]])
        for surface in (
            lambda x, y: x * y,
            lambda x, y: x**2 * y,
            lambda x, y: x * y**2,
            lambda x, y: x**3 - 2 * y**2,
            lambda x, y: 3 + 0 * x,
        ):
            expects = expected_given(known, surface(*known))
            np.testing.assert_allclose(expects(new), surface(*new), atol=1e-4)
