"""Large runs: summaries against trials in memory, one worker of a cluster against two, correlated
drivers against the best plain code, and how cost grows with trials and drivers.
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
        lambda: model.simulate(trials, 1, plan, workers=1), plain, runs=2 if SHORT else 5
    )
    label = f"{count} correlated lognormal drivers, {plan} plan, {trials:,} trials / NumPy"
    return label, f"{1000 * ours:.0f} ms / {1000 * known:.0f} ms", ratio, most


def growth() -> list[Row]:
    """The time of ten times as many trials, and of four times as many correlated drivers."""
    model, few = ferry(), 40_000 if SHORT else 200_000
    more, _, ratio = paired(
        lambda: model.simulate(10 * few, 1), lambda: model.simulate(few, 1), runs=2
    )
    rows = [(f"night ferry, {10 * few:,} trials / {few:,}", f"{more:.2f} s", ratio, "at most 10.5")]
    seconds = {}
    for count in (25, 100) if SHORT else (125, 500):
        begun = time.perf_counter()
        correlated(count)[0].simulate(2_000, 1)
        seconds[count] = time.perf_counter() - begun
    (fewer, first), (many, last) = seconds.items()
    label = f"stating and running {many} correlated drivers / {fewer}"
    rows.append((label, f"{last:.2f} s / {first:.2f} s", last / first, "at most 20"))
    return rows


def measure() -> list[Row]:
    return [
        summaries(),
        *cluster(),
        together(50, "random", "at most 1.5"),
        together(50, "latin", "at most 2"),
        *growth(),
    ]
