"""Claims: their time and memory against drawing them in NumPy, and how often figures of layers and
loans lie within their errors of closed forms.
"""

import tracemalloc
from collections.abc import Iterator

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from benchmarks.timing import SHORT, paired, repeats

TRIALS, MEAN = 20_000, 12.0
SEEDS = repeats(400)


def model(mean: float = MEAN) -> kd.Model:
    made = kd.Model("Claims")
    made.claims("hull", kd.Poisson(mean), kd.Pareto(2.5, 1.0))
    made.outcome("ceded", "total(layer(hull, 1.5, 4))", better="low")
    return made


def drawn() -> float:
    """The same by whole arrays."""
    generator = np.random.default_rng(1)
    counts = generator.poisson(MEAN, TRIALS)
    sizes = generator.pareto(2.5, counts.sum()) + 1
    ceded = np.clip(sizes - 1.5, 0, 4)
    trials = np.repeat(np.arange(TRIALS), counts)
    return float(np.bincount(trials, ceded, TRIALS).mean())


def peak(work) -> int:
    """The bytes that a piece of work holds at the most."""
    tracemalloc.start()
    work()
    held = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return held


def measure() -> Iterator[tuple[str, str, float, str]]:
    claims = model()
    ours, theirs, ratio = paired(lambda: claims.simulate(TRIALS, 1, workers=1), drawn)
    words = f"{1000 * ours:.0f} and {1000 * theirs:.0f} ms"
    yield f"{TRIALS:,} trials of {MEAN:g} claims / drawing them", words, ratio, "at most 4"
    few, many = (50, 200) if SHORT else (500, 2_000)
    held = [peak(lambda m=m: model(m).simulate(TRIALS, 1, workers=1)) for m in (few, many)]
    words = f"{held[0] / 1e6:.0f} and {held[1] / 1e6:.0f} MB: slices are cut by events"
    yield f"memory of {many} claims a trial / {few}", words, held[1] / held[0], "at most 1.5"

    grid = np.linspace(0, 4, 20_001)
    exact = MEAN * np.trapezoid([claims_above(1.5 + x) for x in grid.tolist()], grid)
    for plan in ("random", "latin"):
        means = [model().simulate(2_000, s, sampling=plan)["ceded"].mean for s in range(SEEDS)]
        share = np.mean([mean.low <= exact <= mean.high for mean in means])
        yield f"mean of a layer, {plan}", f"{SEEDS} seeds", share, "0.92 to 0.98"

    loans = kd.Model("Loans")
    table = {"amount": [1.0] * 100, "chance": [0.03] * 100}
    loans.loans(pd.DataFrame(table), "book", correlation=0.2)
    loans.outcome("defaults", "above(book)", better="low")
    levels, weights = np.polynomial.hermite_e.hermegauss(200)
    given = stats.norm.cdf((stats.norm.ppf(0.03) - np.sqrt(0.2) * levels) / np.sqrt(0.8))
    exact = weights @ stats.binom.sf(10, 100, given) / weights.sum()
    chances = [loans.simulate(2_000, s)["defaults"].chance(above=10) for s in range(SEEDS)]
    share = np.mean([chance.low <= exact <= chance.high for chance in chances])
    yield "chance of more than 10 defaults of 100", f"{SEEDS} seeds", share, "0.92 to 0.98"


def claims_above(bound: float) -> float:
    """The chance that a claim is larger than a bound."""
    return float(kd.Pareto(2.5, 1.0).chance(above=bound))
