"""Tests of the parts of fitting: the search, starts and ends, drawn parameters, spacing of
dates."""

import numpy as np
import pandas as pd
from scipy import optimize, stats

import kindynos as kd
from kindynos.fitting.dates import dated_series
from kindynos.fitting.families import FAMILIES
from kindynos.fitting.moments import lmoments
from kindynos.fitting.newton import climb
from tests.common import Case


class Newton(Case):
    def test_it_climbs_functions_with_known_tops_side_by_side(self):
        tops = np.array([[1.0, -2.0], [0.5, 3.0], [-4.0, 0.0]])

        def height(theta, rows):
            gaps = theta - tops[rows][:, None, :]
            return (
                -(gaps[..., 0] ** 2)
                - 3 * gaps[..., 1] ** 2
                - 0.5 * gaps[..., 0] * gaps[..., 1]
                - gaps[..., 0] ** 4
            )

        found = climb(height, np.zeros((3, 2)))
        np.testing.assert_allclose(found.theta, tops, atol=1e-6)
        np.testing.assert_allclose(found.value, 0, atol=1e-10)
        np.testing.assert_allclose(found.hessian[0], [[-2, -0.5], [-0.5, -6]], atol=1e-2)
        self.assertTrue(found.converged.all())

    def test_it_stays_between_ends_and_leaves_a_plateau(self):
        found = climb(
            lambda theta, rows: theta[..., 0], np.zeros((1, 1)), np.array([-1.0]), np.array([5.0])
        )
        self.assertEqual(float(found.theta[0, 0]), 5.0)
        flat = climb(lambda theta, rows: np.zeros(theta.shape[:2]), np.ones((1, 1)))
        self.assertEqual((float(flat.theta[0, 0]), bool(flat.converged[0])), (1.0, True))

    def test_a_wall_of_impossible_values_is_not_crossed(self):
        def height(theta, rows):
            x = theta[..., 0]
            return np.where(x < 2, -((x - 1.5) ** 2), -np.inf)

        self.assertAlmostEqual(float(climb(height, np.array([[-30.0]])).theta[0, 0]), 1.5, places=5)


class Searches(Case):
    def test_two_more_parameters_are_never_worse(self):
        for seed in range(6):
            values = kd.Gamma(3, 2).sample(80, seed=seed)
            for small, large in (
                (kd.Normal, kd.SkewNormal),
                (kd.Gumbel, kd.GeneralizedExtremeValue),
                (kd.Exponential, kd.Gamma),
            ):
                with self.subTest(seed=seed, large=large.__name__):
                    gain = (
                        large.fit(values).fitted.log_likelihood
                        - small.fit(values).fitted.log_likelihood
                    )
                    self.assertGreater(gain, -1e-6)

    def test_units_do_not_matter(self):
        values = kd.StudentTByScale(4, 3, 2).sample(150, seed=2)
        for kind in (
            kd.StudentTByScale,
            kd.Logistic,
            kd.SkewNormal,
            kd.JohnsonSU,
            kd.GeneralizedExtremeValue,
            kd.Cauchy,
        ):
            one, two = kind.fit(values), kind.fit(1e6 * values + 1e7)
            with self.subTest(kind.__name__):
                gap = one.fitted.log_likelihood - two.fitted.log_likelihood
                self.assertAlmostEqual(gap, 150 * np.log(1e6), places=4)

    def test_a_held_parameter_gives_the_profile(self):
        values = kd.Weibull(1.5, 3).sample(120, seed=3)
        free = kd.Weibull.fit(values)
        for shape in (1.2, 1.5, 1.9):
            held = kd.Weibull.fit(values, shape=shape)
            exact = optimize.minimize_scalar(
                lambda scale, shape=shape: -stats.weibull_min(shape, 0, scale).logpdf(values).sum(),
                bounds=(1, 9),
                method="bounded",
            )
            self.assertAlmostEqual(held.fitted.log_likelihood, -exact.fun, places=4)
            self.assertLessEqual(held.fitted.log_likelihood, free.fitted.log_likelihood + 1e-9)

    def test_covariance_is_the_inverse_of_the_curvature(self):
        values = kd.Gamma(3, 2).sample(200, seed=4)
        found = kd.Gamma.fit(values)

        def height(shape, scale):
            return stats.gamma(shape, 0, scale).logpdf(values).sum()

        h, (a, s) = 1e-3, (found.shape, found.scale)
        centre = height(a, s)
        aa = (height(a + h, s) - 2 * centre + height(a - h, s)) / h**2
        ss = (height(a, s + h) - 2 * centre + height(a, s - h)) / h**2
        cross = (
            height(a + h, s + h)
            - height(a + h, s - h)
            - height(a - h, s + h)
            + height(a - h, s - h)
        ) / (4 * h * h)
        np.testing.assert_allclose(
            found.fitted.covariance, np.linalg.inv(-np.array([[aa, cross], [cross, ss]])), rtol=2e-3
        )

    def test_every_family_knows_its_parameters(self):
        for family in FAMILIES.values():
            names = set(family.kind.__dataclass_fields__)
            with self.subTest(family.label):
                self.assertEqual(set(family.scales), names)
                self.assertLessEqual({*family.limits, *family.at_data, *family.needed}, names)

    def test_lmoments_are_those_of_the_textbook(self):
        x = np.sort(kd.Gumbel(0, 1).sample(60, seed=1))
        pairs = np.abs(x[:, None] - x).sum() / (60 * 59)
        from kindynos.fitting.data import data_of

        first, second, ratio = lmoments(data_of(x))
        self.assertAlmostEqual(first, x.mean())
        self.assertAlmostEqual(second, pairs / 2)
        self.assertTrue(-1 < ratio < 1)


class Drawn(Case):
    def test_parameters_are_drawn_as_the_errors_say(self):
        found = kd.Gamma.fit(kd.Gamma(4, 2.5).sample(400, seed=2))
        drawn = found.uncertain(100).parts
        shapes = np.array([part.shape for part in drawn])
        self.assertAlmostEqual(
            np.log(shapes).std(), found.fitted.standard_errors["shape"] / found.shape, delta=0.015
        )
        scales = np.array([part.scale for part in drawn])
        exact = np.array(found.fitted.covariance)
        self.assertAlmostEqual(
            np.corrcoef(shapes, scales)[0, 1],
            exact[0, 1] / np.sqrt(exact[0, 0] * exact[1, 1]),
            delta=0.1,
        )
        with self.fails("draws", "at most 100"):
            found.uncertain(400)

    def test_an_end_at_the_data_is_drawn_beyond_it(self):
        values = kd.Uniform(2, 5).sample(30, seed=1)
        drawn = kd.Uniform.fit(values).uncertain(60)
        self.assertTrue(
            all(part.low < values.min() and part.high > values.max() for part in drawn.parts)
        )
        heavy = kd.StudentT.fit(np.random.default_rng(3).uniform(-1, 1, 60)).uncertain(60)
        self.assertLess(min(part.df for part in heavy.parts), 30)


class Dates(Case):
    def test_spacing_is_found_and_goes_on(self):
        for frequency, spacing, after in (
            ("D", "day", "2024-04-10"),
            ("B", "working day", None),
            ("W-MON", "week", None),
            ("MS", "month", None),
            ("ME", "month", None),
            ("QS", "quarter", None),
            ("YS", "year", None),
        ):
            index = pd.date_range("2024-01-01", periods=101, freq=frequency)
            found = dated_series(pd.Series(np.arange(100.0), index[:100]))
            with self.subTest(frequency):
                self.assertEqual(found.every, spacing)
                self.assertEqual(found.after(1)[0], index[100])
                if after:
                    self.assertEqual(str(found.after(1)[0])[:10], after)
        months = dated_series(
            pd.Series(np.arange(40.0), pd.period_range("2020-01", periods=40, freq="M"))
        )
        self.assertEqual((months.every, months.season), ("month", 12))
        self.assertEqual(list(dated_series([1.0, 2.0]).after(2)), [3, 4])

    def test_what_is_wrong_is_named(self):
        index = pd.date_range("2024-01-01", periods=20, freq="D")
        for dates, words in (
            (index.delete(4), "2024-01-06 follows 2024-01-04"),
            (index[[0, 1, 1, 2]], "2024-01-02 is there twice"),
            (index[[0, 2, 1]], "comes after"),
            (index[:3].append(pd.DatetimeIndex([pd.NaT])), "date 3 is missing"),
        ):
            with self.subTest(words), self.fails(words):
                dated_series(pd.Series(np.arange(float(len(dates))), dates), "day")
