"""Tests of drawdowns."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import kindynos as kd
from tests.common import Case

quick = settings(max_examples=30, deadline=None)


class Drawdowns(Case):
    @quick
    @given(arrays(np.float64, (9, 4), elements=st.floats(0.1, 1000)), st.floats(0.01, 100))
    def test_falls_do_not_depend_on_the_unit(self, paths, unit):
        np.testing.assert_allclose(kd.max_drawdown(paths * unit), kd.max_drawdown(paths), atol=1e-9)
        drawdowns = kd.finance.drawdown(paths)
        self.assertTrue(((drawdowns >= 0) & (drawdowns < 1)).all())
        np.testing.assert_allclose(drawdowns.max(axis=0), kd.max_drawdown(paths), atol=1e-12)
        rising = np.sort(paths, axis=0)
        np.testing.assert_array_equal(kd.max_drawdown(rising), 0)
        self.assertTrue(
            (kd.finance.drawdown_duration(paths) >= (kd.finance.time_under_water(paths) > 0)).all()
        )
        np.testing.assert_allclose(
            (1 + kd.finance.compound_growth(paths)) ** 8, paths[-1] / paths[0], rtol=1e-9
        )
