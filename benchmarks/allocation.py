"""Best weights: the exact frontier against SLSQP's points, expected shortfall against the whole
linear program, and coverage.

``KINDYNOS_SEEDS`` sets how many histories are drawn for the coverage of resampled weights and of
before and after.
"""

import warnings
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pandas as pd
from scipy import optimize, sparse

import kindynos as kd
from benchmarks.timing import SHORT, repeats, seconds

SEEDS = repeats(60)
NAMES = list("abcde")
POINTS = repeats(50, 2)


def moments(size: int, seed: int = 1) -> kd.Moments:
    rng = np.random.default_rng(seed)
    loadings = rng.normal(size=(size, 20))
    return kd.Moments(
        rng.normal(5e-4, 1e-3, size),
        loadings @ loadings.T * 2e-5 + np.diag(rng.uniform(1e-5, 4e-4, size)),
    )


SIZE = 40 if SHORT else 200


def frontier_of_many() -> tuple[str, str, float, str]:
    source = moments(SIZE)
    means, matrix = source.mean.to_numpy(), source.covariance.to_numpy()
    table = None

    def ours() -> None:
        nonlocal table
        table = kd.frontier(source, bounds=(0.0, 0.1)).table()

    exact = min(seconds(ours) for _ in range(3))

    def slsqp() -> None:
        for mean in np.linspace(table["mean"].iloc[0], table["mean"].iloc[-1], POINTS):
            optimize.minimize(
                lambda w: 1e4 * w @ matrix @ w,
                np.full(SIZE, 1 / SIZE),
                jac=lambda w: 2e4 * matrix @ w,
                bounds=[(0, 0.1)] * SIZE,
                method="SLSQP",
                options={"maxiter": 500, "ftol": 1e-12},
                constraints=[
                    {"type": "eq", "fun": lambda w: w.sum() - 1, "jac": lambda w: np.ones(SIZE)},
                    {
                        "type": "ineq",
                        "fun": lambda w, m=mean: 1e3 * (w @ means - m),
                        "jac": lambda w: 1e3 * means,
                    },
                ],
            )

    other = seconds(slsqp)
    text = f"{exact:.2f} s, {len(table)} corners / {other:.1f} s, {POINTS} points"
    return (
        f"frontier of {SIZE} holdings under bounds / {POINTS} points of SLSQP",
        text,
        exact / other,
        "at most 0.05",
    )


def shortfall() -> tuple[str, str, float, str]:
    rng = np.random.default_rng(1)
    size, count = (20, 2_000) if SHORT else (50, 10_000)
    factors = rng.standard_t(4, (count, 3)) @ rng.normal(size=(3, size)) * 0.5
    returns = 0.001 * rng.normal(size=size) + 0.01 * (factors + rng.standard_t(4, (count, size)))
    source = kd.SimulatedReturns(pd.DataFrame(returns))
    found = kd.allocate(source, minimize="expected_shortfall", bounds=(0.0, 0.35))
    ours = min(
        seconds(lambda: kd.allocate(source, minimize="expected_shortfall", bounds=(0.0, 0.35)))
        for _ in range(3)
    )
    cost = np.r_[np.zeros(size), 1, np.full(count, 1 / (0.05 * count))]
    rows = sparse.hstack(
        [sparse.csr_matrix(-returns), -np.ones((count, 1)), -sparse.eye(count)]
    ).tocsc()
    ends = [(0, 0.35)] * size + [(None, None)] + [(0, None)] * count
    equal = np.r_[np.ones(size), np.zeros(count + 1)][None]
    answer = {}

    def whole() -> None:
        answer["least"] = optimize.linprog(
            cost, rows, np.zeros(count), equal, [1], ends, method="highs"
        ).fun

    other = seconds(whole)
    text = (
        f"{ours:.2f} s / {other:.1f} s, difference "
        f"{found.expected_shortfall() - answer['least']:.0e}"
    )
    return (
        "expected shortfall over scenarios / whole linear program",
        text,
        ours / other,
        "at most 0.1",
    )


TRUTH = kd.Moments(
    [4e-4, 8e-4, 2e-4, 6e-4, 5e-4],
    0.9e-4
    * np.array(
        [
            [1, 0.3, 0.1, 0, 0.2],
            [0.3, 1.5, 0.2, 0.1, 0],
            [0.1, 0.2, 0.4, 0, 0],
            [0, 0.1, 0, 0.8, 0.3],
            [0.2, 0, 0, 0.3, 1.1],
        ]
    ),
    names=NAMES,
)
AIMS = {
    "least sd": {"minimize": "sd"},
    "best ratio, bounds": {"maximize": "ratio", "bounds": (0.05, 0.4)},
    "highest mean within an sd": {"maximize": "mean", "limits": {"sd": 0.0065}},
}


def _held(task: tuple[str, int, int]) -> list[bool]:
    name, df, seed = task
    warnings.simplefilter("ignore")
    rng = np.random.default_rng(seed)
    shocks = rng.standard_normal((500, 5)) @ np.linalg.cholesky(TRUTH.covariance).T
    if df:
        shocks *= np.sqrt((df - 2) / rng.chisquare(df, (500, 1)))
    prices = np.vstack([np.ones(5), np.cumprod(1 + TRUTH.mean.to_numpy() + shocks, axis=0)]) * 100
    frame = pd.DataFrame(prices, pd.bdate_range("2020-01-01", periods=501, name="date"), NAMES)
    try:
        table = kd.allocate(kd.read_prices(frame), **AIMS[name]).resampled(150, seed=1).table()
    except kd.ParameterError:  # no weights of this history have a mean above the rate
        return []
    best = kd.allocate(TRUTH, **AIMS[name]).weights
    return ((table["low"] - 1e-9 <= best) & (best <= table["high"] + 1e-9)).tolist()


def _paired(seed: int) -> list[bool]:
    today = dict(zip(NAMES, (0.3, 0.3, 0.2, 0.1, 0.1), strict=True))
    found = kd.allocate(TRUTH, minimize="sd", today=today)
    table = found.compare(5, 5_000, seed=seed).table()
    truth = _TRUE.setdefault("table", found.compare(5, 1_000_000, seed=10**6).table()["difference"])
    return ((table["low"] <= truth) & (truth <= table["high"])).tolist()


_TRUE: dict[str, pd.Series] = {}


def measure() -> list[tuple[str, str, float, str]]:
    rows = [frontier_of_many(), shortfall()]
    with ProcessPoolExecutor() as pool:
        for name in AIMS:
            for df, word in ((0, "normal"), (4, "t with 4 degrees of freedom")):
                tasks = [(name, df, seed) for seed in range(SEEDS)]
                held = np.array([one for one in pool.map(_held, tasks, chunksize=5) if one])
                text = f"{len(held)} of {SEEDS} histories of 500 returns, {word}"
                rows.append(
                    (
                        f"resampled weights hold the best: {name}",
                        text,
                        float(held.mean()),
                        "0.92 to 0.98",
                    )
                )
        held = np.array(list(pool.map(_paired, range(5 * SEEDS), chunksize=10)))
    for place, name in enumerate(
        (
            "mean",
            "sd",
            "value at risk",
            "expected shortfall",
            "chance of a loss",
            "maximum drawdown",
        )
    ):
        rows.append(
            (
                f"before and after, {name}: coverage",
                f"{5 * SEEDS} seeds",
                float(held[:, place].mean()),
                "0.92 to 0.98",
            )
        )
    return rows
