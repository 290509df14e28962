"""Large runs: summaries against trials in memory, one worker of a cluster against two, correlated
drivers and paths against the best plain code, and sweeps.
"""

import time
import warnings

import numpy as np
import pandas as pd
from scipy.special import ndtri

import kindynos as kd
from benchmarks.timing import SHORT, paired

Row = tuple[str, str, float, str]


def ferry() -> kd.Model:
    return kd.load_model(kd.demo_file("night_ferry.toml"))


def correlated(count: int) -> tuple[kd.Model, np.ndarray]:
    """Return a model of correlated lognormal drivers, and their correlation matrix."""
    names = [f"d{place}" for place in range(count)]
    matrix = np.full((count, count), 0.4) + 0.6 * np.eye(count)
    model = kd.Model("correlated")
    for name in names:
        model.driver(name, kd.LogNormal(10, 2))
    model.correlate(pd.DataFrame(matrix, names, names))
    model.outcome("y", " + ".join(names))
    return model, matrix


def summaries() -> Row:
    trials = 400_000 if SHORT else 4_000_000
    model = ferry()
    ours, known, ratio = paired(
        lambda: model.simulate(trials, 1, store="summary"),
        lambda: model.simulate(trials, 1).table(),
        runs=1 if SHORT else 3,
    )
    label = f"summary of {trials:,} trials of the night ferry / all in memory, with their table"
    return label, f"{ours:.2f} s / {known:.2f} s", ratio, "at most 1.2"


def cluster() -> list[Row]:
    """Two workers of a cluster against one, by the trials that they do in a second."""
    from distributed import Client, LocalCluster

    trials = 400_000 if SHORT else 4_000_000
    model, seconds = ferry(), {}
    for count in (1, 2, 4):
        with (
            warnings.catch_warnings(action="ignore"),
            LocalCluster(
                n_workers=count, threads_per_worker=1, dashboard_address=None, silence_logs=50
            ) as made,
            Client(made) as client,
        ):
            executor = client.get_executor()
            model.simulate(200_000, 1, store="summary", executor=executor)  # workers have loaded it
            begun = time.perf_counter()
            model.simulate(trials, 1, store="summary", executor=executor)
            seconds[count] = time.perf_counter() - begun
    told = ", ".join(f"{count}: {taken:.1f} s" for count, taken in seconds.items())
    label = f"two workers of a cluster / one, {trials:,} trials as a summary"
    return [
        (label, told, seconds[1] / seconds[2], "at least 1.7"),
        (label.replace("two", "four"), told, seconds[1] / seconds[4], "by processors"),
    ]


def together(count: int, plan: str, most: str) -> Row:
    model, matrix = correlated(count)
    trials = 20_000 if SHORT else 100_000
    factor = np.linalg.cholesky(2 * np.sin(np.pi / 6 * matrix))
    law = kd.LogNormal(10, 2)
    log_sd = np.sqrt(np.log1p((law.sd / law.mean) ** 2))
    log_mean = np.log(law.mean) - log_sd**2 / 2

    def plain() -> float:
        generator = np.random.default_rng(1)
        if plan == "latin":
            places = generator.permuted(np.tile(np.arange(trials), (count, 1)), axis=1)
            normal = ndtri((places + generator.random((count, trials))) / trials)
        else:
            normal = generator.standard_normal((count, trials))
        return float(np.exp(log_mean + log_sd * (factor @ normal)).sum(axis=0).mean())

    ours, known, ratio = paired(
        lambda: model.simulate(trials, 1, sampling=plan, workers=1), plain, runs=2 if SHORT else 5
    )
    label = f"{count} correlated lognormal drivers, {plan} plan, {trials:,} trials / NumPy"
    return label, f"{1000 * ours:.0f} ms / {1000 * known:.0f} ms", ratio, most


def correlated_paths() -> Row:
    """Ten correlated price paths of 60 months, stratified month by month."""
    count, periods, trials = 10, 60, 4_000 if SHORT else 20_000
    names = [f"p{place}" for place in range(count)]
    matrix = np.full((count, count), 0.4) + 0.6 * np.eye(count)
    model = kd.Model("paths", periods=periods)
    for name in names:
        model.driver(name, kd.GeometricBrownianMotion(100, 0.05, 0.2), dt=1 / 12)
    model.correlate(pd.DataFrame(matrix, names, names))
    model.outcome("y", " + ".join(f"last({name})" for name in names))
    factor = np.linalg.cholesky(matrix)

    def plain() -> float:
        generator = np.random.default_rng(1)
        shape = (count, periods, trials)
        places = generator.permuted(np.tile(np.arange(trials), (count, periods, 1)), axis=-1)
        normal = ndtri((places + generator.random(shape)) / trials).reshape(count, -1)
        shocks = 0.2 * np.sqrt(1 / 12) * (factor @ normal).reshape(shape)
        paths = 100 * np.exp(np.cumsum((0.05 - 0.02) / 12 + shocks, axis=1))
        return float(paths[:, -1].sum(axis=0).mean())

    ours, known, ratio = paired(
        lambda: model.simulate(trials, 1, workers=1), plain, runs=2 if SHORT else 5
    )
    label = f"{count} correlated paths of {periods} months, latin plan, {trials:,} trials / NumPy"
    return label, f"{1000 * ours:.0f} ms / {1000 * known:.0f} ms", ratio, "at most 1.2"


def sweep() -> Row:
    """A sweep of two given figures by simulation against one run of as many trials in all."""
    side, trials = (5, 2_000) if SHORT else (21, 2_000)
    model = ferry()
    fares, growth = np.linspace(45, 65, side), np.linspace(0, 0.04, side)
    ours, known, ratio = paired(
        lambda: model.sweep(
            fare=fares,
            wage_growth=growth,
            outcome="net_value",
            statistic="percentile 10",
            trials=trials,
        ),
        lambda: model.simulate(side * side * trials, 1)["net_value"].percentile(10),
        runs=1 if SHORT else 3,
    )
    label = f"sweep of {side} x {side} points of {trials:,} trials / one run of as many"
    return label, f"{ours:.2f} s / {known:.2f} s", ratio, "at most 1.5"


def measure() -> list[Row]:
    return [
        summaries(),
        *cluster(),
        together(50, "random", "at most 1.5"),
        together(50, "latin", "at most 2"),
        correlated_paths(),
        sweep(),
    ]
