"""Tests of drawdowns."""

import numpy as np

import kindynos as kd
from tests.common import Case

PRICE = kd.GeometricBrownianMotion(100.0, drift=0.06, volatility=0.25)


class Drawdowns(Case):
    def test_against_pandas(self):
        import pandas as pd

        paths = PRICE.paths(200, 50, seed=1, dt=1 / 250)
        frame = pd.DataFrame(paths)
        drawdowns = 1 - frame / frame.cummax()
        np.testing.assert_allclose(kd.finance.drawdown(paths), drawdowns)
        np.testing.assert_allclose(kd.max_drawdown(paths), drawdowns.max())
        np.testing.assert_allclose(
            kd.finance.time_under_water(paths), (drawdowns.iloc[1:] > 0).mean()
        )
        returns = frame.pct_change().iloc[1:]
        np.testing.assert_allclose(
            kd.finance.sharpe_ratio(paths, 0.0001, 250),
            (returns.mean() - 0.0001) / returns.std() * 250**0.5,
        )
        np.testing.assert_allclose(
            kd.finance.volatility(paths, 250), np.log(frame).diff().std() * 250**0.5
        )
        np.testing.assert_allclose(
            kd.finance.compound_growth(paths, 250), (paths[-1] / paths[0]) ** (250 / 200) - 1
        )
        short = (returns.clip(upper=0) ** 2).mean() ** 0.5
        np.testing.assert_allclose(kd.finance.sortino_ratio(paths), returns.mean() / short)
        self.assertEqual(kd.max_drawdown(paths[:, 0]), kd.max_drawdown(paths)[0])

    def test_durations_and_mistakes(self):
        self.assertEqual(kd.finance.drawdown_duration([5.0, 4, 3, 5, 6, 5, 5, 5]), 3)
        np.testing.assert_array_equal(
            kd.finance.drawdown_duration([[1.0, 2], [2, 1], [1, 1]]), [1, 2]
        )
        for call, words in (
            (lambda: kd.max_drawdown([1.0, 0.0]), ("above 0",)),
            (lambda: kd.max_drawdown([1.0]), ("at least 2",)),
            (lambda: kd.finance.sharpe_ratio([1.0, 2.0]), ("at least 3",)),
            (lambda: kd.finance.volatility([1.0, 2.0, 3.0], per_year=0), ("per_year",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
