"""Tests of least squares from several starts."""

import numpy as np
from scipy import optimize

from kindynos.processes.descent import descend
from tests.common import Case


class Descents(Case):
    def test_bounded_lines_against_scipy(self):
        generator = np.random.default_rng(3)
        for case in range(20):
            slopes, target = generator.normal(size=(12, 3)), 3 * generator.normal(size=12)

            def sloped(theta, places, slopes=slopes, target=target):
                errors = slopes @ theta - target[:, None]
                return errors, np.broadcast_to(slopes, (len(places), *slopes.shape))

            starts = generator.uniform(-0.5, 1.0, (3, 4))
            least = descend(sloped, starts, -0.5, 1.0, enough=1e-13)
            best = optimize.lsq_linear(slopes, target, (-0.5, 1.0), method="bvls")
            with self.subTest(case):
                np.testing.assert_allclose(least.theta, best.x[:, None] + np.zeros(4), atol=1e-4)
                np.testing.assert_allclose(least.squares, 2 * best.cost, rtol=1e-7)

    def test_a_curved_valley_and_what_is_held(self):
        def sloped(theta, places):  # Rosenbrock's function: 0 at (1, 1)
            x, y = theta
            one = np.ones(len(places))
            slopes = np.array([[-20 * x, 10 * one], [-one, 0 * one]]).transpose(2, 0, 1)
            return np.array([10 * (y - x**2), 1 - x]), slopes

        starts = np.array([[-1.2, 3.0, 1.0], [1.0, -2.0, 1.0]])
        least = descend(sloped, starts, -5.0, 5.0)
        np.testing.assert_allclose(least.theta, 1.0, atol=1e-6)
        self.assertEqual(least.best, int(np.argmin(least.squares)))

        held = descend(sloped, starts[:, :2], -5.0, 5.0, held=np.array([False, True]))
        np.testing.assert_array_equal(held.theta[1], starts[1, :2])
        for x, y, squares in zip(*held.theta, held.squares, strict=True):
            here = optimize.minimize_scalar(
                lambda x, y=y: 100 * (y - x**2) ** 2 + (1 - x) ** 2, (x - 0.1, x + 0.1)
            )
            self.assertAlmostEqual(squares, here.fun, 6)
        none = descend(sloped, starts, -5.0, 5.0, held=np.array([True, True]))
        np.testing.assert_array_equal(none.theta, starts)

    def test_few_steps_are_few(self):
        asked = []

        def sloped(theta, places):
            asked.append(len(places))
            return np.exp(theta), np.exp(theta)[:, :, None].transpose(1, 0, 2)

        descend(sloped, np.array([[5.0, 4.0]]), -50.0, 50.0, steps=3)
        self.assertEqual(asked, [2, 2, 2, 2])
