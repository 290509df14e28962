"""``irr`` and ``irr_dated`` on 100,000 trials against a loop of SciPy's brentq (on 2,000 trials,
scaled).
"""

import numpy as np
from scipy.optimize import brentq

import kindynos as kd
from benchmarks.timing import paired

TRIALS, LOOPED = 100_000, 2_000


def flows(count: int) -> np.ndarray:
    made = np.random.default_rng(1).normal(20, 6, (count, TRIALS)).clip(1)
    made[0] = -100
    return made


def against_brentq(
    label: str, made: np.ndarray, times: np.ndarray, solve
) -> tuple[str, str, float, str]:
    def loop() -> list[float]:
        return [
            brentq(lambda r, f=made[:, i]: f @ (1 + r) ** -times, -0.9, 10, xtol=1e-12)
            for i in range(LOOPED)
        ]

    gap = np.abs(np.array(loop()) - solve()[:LOOPED]).max()
    ours, baseline, ratio = paired(solve, loop)
    scale = TRIALS / LOOPED
    text = f"{ours:.3f} s / {baseline * scale:.1f} s, largest difference {gap:.0e}"
    return f"{label}: times faster than a brentq loop", text, scale / ratio, "at least 200"


def measure() -> list[tuple[str, str, float, str]]:
    even, dated = flows(11), flows(12)
    days = np.concatenate(
        [[0], np.sort(np.random.default_rng(2).choice(np.arange(1, 3000), 11, replace=False))]
    )
    dates = np.datetime64("2028-01-01") + days
    return [
        against_brentq("(b) irr, 100,000 x 11", even, np.arange(11.0), lambda: kd.irr(even)),
        against_brentq(
            "irr_dated, 100,000 x 12 dated (also under 0.5 s)",
            dated,
            days / 365,
            lambda: kd.irr_dated(dated, dates),
        ),
    ]
