"""Tests of time-series processes that are stated by their parameters, against recursions written
out here.
"""

import numpy as np
from scipy import stats

import kindynos as kd
from tests.common import Case

STATED = {
    "ar 2": ({"ar": [0.5, 0.3], "constant": 10.0}, [0.5, 0.3], [], 0),
    "arma 1 1": ({"ar": [0.7], "ma": [0.4], "constant": 10.0}, [0.7], [0.4], 0),
    "ma 2": ({"ma": [0.5, -0.2], "constant": 10.0}, [], [0.5, -0.2], 0),
    "walk": ({"differences": 1}, [], [], 1),
    "ima": ({"ma": [-0.6], "differences": 1}, [], [-0.6], 1),
    "ari": ({"ar": [0.4], "differences": 1}, [0.4], [], 1),
}
PAST = [9.0, 11.0, 12.5, 11.5, 10.0, 12.0, 13.0, 12.5, 11.0, 12.0]


def psi_weights(phi, theta, differences, count):
    """Weights of past shocks, by filtering one unit shock."""
    shocks = np.zeros(count)
    shocks[0] = 1.0
    found = np.zeros(count)
    for t in range(count):
        found[t] = shocks[t] + sum(th * shocks[t - i - 1] for i, th in enumerate(theta) if t > i)
        found[t] += sum(ph * found[t - i - 1] for i, ph in enumerate(phi) if t > i)
    for _ in range(differences):
        found = np.cumsum(found)
    return found


class Arimas(Case):
    def processes(self):
        for name, (fields, phi, theta, differences) in STATED.items():
            with self.subTest(name):
                yield kd.Arima(sd=2.0, history=PAST, **fields), phi, theta, differences

    def test_variances_are_sums_of_squared_weights(self):
        for process, phi, theta, differences in self.processes():
            weights = psi_weights(phi, theta, differences, 12)
            for steps in (1, 3, 12):
                self.assertAlmostEqual(
                    process._closed_form_at(steps).variance,
                    4 * (weights[:steps] ** 2).sum(),
                    places=8,
                )

    def test_paths_spread_as_the_closed_form_says(self):
        for process, *_ in self.processes():
            paths = process.paths(12, 8000, seed=3)
            self.assertEqual(paths.shape, (13, 8000))
            np.testing.assert_array_equal(paths[0], PAST[-1])
            for steps in (1, 12):
                exact = process._closed_form_at(steps)
                self.assertAlmostEqual(
                    paths[steps].mean(), exact.mean, delta=4.5 * exact.sd / np.sqrt(8000)
                )
                self.assertAlmostEqual(paths[steps].std() / exact.sd, 1, delta=0.035)
                self.assertGreater(
                    stats.kstest((paths[steps] - exact.mean) / exact.sd, "norm").pvalue, 1e-4
                )

    def test_percentiles_and_chances_belong_together(self):
        for process, *_ in self.processes():
            exact = process._closed_form_at(6)
            for level in (0.05, 0.5, 0.9):
                value = exact.quantile(level)
                self.assertAlmostEqual(
                    value, exact.mean + exact.sd * stats.norm.ppf(level), places=8
                )
                self.assertAlmostEqual(float(process.chance(6, below=value)), level, places=6)

    def test_an_autoregression_of_two_follows_its_recursion(self):
        process = kd.Arima(ar=[0.5, 0.3], constant=10.0, sd=2.0, history=PAST)
        gaps = [PAST[-2] - 10, PAST[-1] - 10]
        for _ in range(8):
            gaps.append(0.5 * gaps[-1] + 0.3 * gaps[-2])
        np.testing.assert_allclose(process._expected_values(8, 1.0), 10 + np.array(gaps[2:]))

    def test_changes_that_follow_their_recursion_add_up(self):
        process = kd.Arima(ar=[0.4], differences=1, sd=2.0, history=PAST)
        last = PAST[-1] - PAST[-2]
        np.testing.assert_allclose(
            process._expected_values(6, 1.0), PAST[-1] + last * np.cumsum(0.4 ** np.arange(1, 7))
        )

    def test_shocks_scale_with_the_sd_alone(self):
        for fields, *_ in STATED.values():
            small, large = (
                kd.Arima(sd=sd, history=PAST, **fields).paths(5, 50, seed=9) for sd in (1.0, 3.0)
            )
            middle = kd.Arima(sd=1.0, history=PAST, **fields)._expected_values(5, 1.0)
            if not fields.get("ma"):  # with moving averages, the past's shocks count as well
                np.testing.assert_allclose(
                    large[1:] - middle[:, None], 3 * (small[1:] - middle[:, None]), atol=1e-9
                )

    def test_what_does_not_settle_is_refused(self):
        for fields, words in (
            ({"ar": [1.02]}, "stationary"),
            ({"ar": [0.7, 0.4]}, "stationary"),
            ({"ma": [1.5]}, "invertible"),
            ({"ar": [0.5], "sd": -1.0}, "sd"),
        ):
            with self.subTest(words), self.fails(words):
                kd.Arima(**{"sd": 1.0, "constant": 0.0, "history": PAST, **fields})


class Smoothing(Case):
    def test_a_level_is_a_walk_with_forgetful_steps(self):
        process = kd.ExponentialSmoothing(level=50.0, level_weight=0.4, sd=2.0)
        np.testing.assert_allclose(process._expected_values(5, 1.0), 50.0)
        for steps in (1, 2, 9):
            self.assertAlmostEqual(
                process._closed_form_at(steps).variance, 4 * (1 + (steps - 1) * 0.16)
            )
        paths = process.paths(9, 8000, seed=4)
        self.assertAlmostEqual(paths[9].std() / np.sqrt(4 * (1 + 8 * 0.16)), 1, delta=0.035)

    def test_a_level_is_the_moving_average_of_changes(self):
        """With weight a it is a process of one difference whose moving-average term is a - 1."""
        smooth = kd.ExponentialSmoothing(level=PAST[-1], level_weight=0.4, sd=2.0)
        same = kd.Arima(ma=[-0.6], differences=1, sd=2.0, history=PAST)
        for steps in (1, 4, 12):
            self.assertAlmostEqual(
                smooth._closed_form_at(steps).variance, same._closed_form_at(steps).variance
            )

    def test_a_trend_adds_up(self):
        process = kd.ExponentialSmoothing(
            level=50.0, level_weight=0.5, sd=1.0, trend=3.0, trend_weight=0.2
        )
        np.testing.assert_allclose(process._expected_values(4, 1.0), [53, 56, 59, 62])
        weights = np.r_[1.0, 0.5 + 0.2 * np.arange(1, 6)]
        for steps in (1, 3, 6):
            self.assertAlmostEqual(
                process._closed_form_at(steps).variance, (weights[:steps] ** 2).sum()
            )
