"""Processes fitted to series: the exact likelihood against a Kalman filter, fans that hold,
time.
"""

import time

import numpy as np

import kindynos as kd
from benchmarks.timing import paired, repeats
from kindynos.fitting.diagnostics import RESIDUAL_SIZES
from kindynos.processes.arima_fit import ArimaLikelihood, Orders

SERIES, LENGTH, AHEAD, TRIALS = repeats(60), 120, 12, 2_000
SEASON = 12


def kalman(w, phi, theta):
    """Return the log likelihood of a stationary series by a plain Kalman filter; the start solves
    the Lyapunov equation.
    """
    from scipy.linalg import solve_discrete_lyapunov

    size = max(len(phi), len(theta) + 1)
    move = np.zeros((size, size))
    move[: len(phi), 0] = phi
    move[:-1, 1:] = np.eye(size - 1)
    load = np.zeros(size)
    load[0], load[1 : len(theta) + 1] = 1.0, theta
    noise = np.outer(load, load)
    state, spread = np.zeros(size), solve_discrete_lyapunov(move, noise)
    squares = logs = 0.0
    for value in w:
        gap, variance = value - state[0], spread[0, 0]
        gain = spread[:, 0] / variance
        squares += gap**2 / variance
        logs += np.log(variance)
        state = move @ (state + gain * gap)
        spread = move @ (spread - np.outer(gain, spread[0])) @ move.T + noise
    count = len(w)
    return -0.5 * count * (np.log(2 * np.pi * squares / count) + 1) - 0.5 * logs


def measure():
    rng = np.random.default_rng(1)
    w = rng.standard_normal(131)
    orders = Orders(0, 0, 1, 0, 0, 1, SEASON)
    found = {"ar": (), "ma": (-0.4,), "seasonal_ar": (), "seasonal_ma": (-0.55,)}
    model = ArimaLikelihood(w, orders, False)
    theta = orders.whole(found)[1]
    ours, theirs, ratio = paired(
        lambda: [model.at(found) for _ in range(50)],
        lambda: [kalman(w, [], theta) for _ in range(50)],
    )
    gap = abs(model.at(found).log_likelihood - kalman(w, [], theta))
    rows = [
        (
            "seasonal likelihood, 131 values / Kalman filter",
            f"{20 * ours:.2f} / {20 * theirs:.2f} ms",
            ratio,
            "at most 0.067",
        ),
        ("the same: difference of the log likelihoods", "", gap, "at most 1e-8"),
    ]
    rows += [
        (f"90 % fan, 12 ahead, of {name}", "", _covered(*case), "0.86 to 0.94")
        for name, case in CASES.items()
    ]
    rows += _residual_sizes()
    t = np.arange(LENGTH)
    made = np.exp(
        8
        + 0.005 * t
        + 0.3 * np.sin(2 * np.pi * t / 12)
        + 0.04 * np.cumsum(rng.standard_normal(LENGTH))
    )
    for label, rolling, wanted in (
        ("without rolling origins", False, "at most 3"),
        ("with them", True, "at most 15"),
    ):
        begun = time.perf_counter()
        kd.fit_series(made, season=12, rolling=rolling)
        rows.append(
            (f"fit_series, 120 months, {label}, seconds", "", time.perf_counter() - begun, wanted)
        )
    return rows


CASES = {
    "an AR(1)": (kd.Arima(ar=[0.7], sd=1.0, constant=10.0), {"order": (1, 0, 0)}),
    "an ARMA(1,1)": (kd.Arima(ar=[0.8], ma=[-0.3], sd=1.0, constant=5.0), {"order": (1, 0, 1)}),
    "a seasonal ARIMA": (
        kd.Arima(
            ma=[-0.4], seasonal_ma=[-0.5], differences=1, seasonal_differences=1, season=12, sd=1.0
        ),
        {"order": (0, 1, 1), "seasonal": (0, 1, 1, 12)},
    ),
    "smoothing with a trend": (
        kd.ExponentialSmoothing(level=100.0, level_weight=0.4, sd=2.0, trend=0.5, trend_weight=0.1),
        {"trend": True},
    ),
}


def _covered(truth, options):
    paths = truth.paths(LENGTH + AHEAD, SERIES * 4, seed=5)[1:]
    inside = []
    for series in paths.T:
        estimated = type(truth).fit(series[:LENGTH], **options)
        fan = estimated.paths(AHEAD, TRIALS, seed=1, uncertain=True)[-1]
        low, high = np.quantile(fan, [0.05, 0.95])
        inside.append(low <= series[-1] <= high)
    return float(np.mean(inside))


def _residual_sizes():
    """Return how often the tests of residuals reject those of the right model at 5 %."""
    made = {
        "arima (1,0,0)": (
            kd.Arima(ar=[0.6], constant=50.0),
            {"order": (1, 0, 0), "constant": True},
        ),
        "smoothing": (kd.ExponentialSmoothing(level=100.0, level_weight=0.4, sd=1.0), {}),
    }
    rows = []
    for name, (truth, options) in made.items():
        for count in (40, 120):
            rejected: dict[str, list[bool]] = {}
            for series in truth.paths(count, 4 * SERIES, seed=2)[1:].T:
                fitted = type(truth).fit(series, **options)
                for test in kd.diagnose(fitted).tests:
                    rejected.setdefault(test.name, []).append(test.p < 0.05)
            rows += [
                (
                    f"size of {test}, residuals of {name}, {count} values",
                    "",
                    float(np.mean(hits)),
                    " to ".join(f"{end:g}" for end in (0.0, RESIDUAL_SIZES[test][1] + 0.03)),
                )
                for test, hits in rejected.items()
            ]
    return rows
