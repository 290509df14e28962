"""Tests of how sure a fit of Student's t is, against its information matrix."""

import unittest

import numpy as np
from scipy import special, stats

from kindynos.fitting.student import drawn_student
from tests.common import Case


class Information(Case):
    def test_draws_spread_as_the_inverse_information_says(self):
        """Source: Lange, Little and Taylor, Journal of the American Statistical Association 84
        (1989), appendix B.
        """
        for df in (4, 8):
            x = stats.t(df).rvs(4000, random_state=df)
            drawn = drawn_student(x)
            scale, v = drawn.fit.scale, drawn.fit.df
            of_scale, of_both = 2 * v / (v + 3), -2 / ((v + 1) * (v + 3))
            of_df = (special.polygamma(1, v / 2) - special.polygamma(1, (v + 1) / 2)) / 4
            of_df -= (v + 5) / (2 * v * (v + 1) * (v + 3))
            inverse = np.linalg.inv([[of_scale, of_both], [of_both, of_df]]) / len(x)
            with self.subTest(df=df):
                at = np.sqrt((v + 3) / (v + 1) / len(x)) * scale
                self.assertAlmostEqual(drawn.location.std() / at, 1, delta=0.08)
                found = np.log(drawn.scale).std() / np.sqrt(inverse[0, 0])
                self.assertAlmostEqual(found, 1, delta=0.12)
                found = (1 / drawn.df).std() * v**2 / np.sqrt(inverse[1, 1])
                self.assertAlmostEqual(found, 1, delta=0.15)


if __name__ == "__main__":
    unittest.main()
