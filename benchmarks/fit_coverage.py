"""Coverage of fits to few data: 95 % intervals of every family's parameters and 90 %
bands of the next value, complete, censored, weighted; the same of every process, with gaps too.

An interval that reaches an end of its range, and one whose standard error is infinite, is
one-sided: it may hold more often than a 95 % interval. In full this takes hours;
KINDYNOS_SEEDS sets how many samples are drawn of each case.
"""

import os
import warnings
from concurrent.futures import ProcessPoolExecutor

import numpy as np

import kindynos as kd
from benchmarks.fits import KNOWN
from benchmarks.timing import repeats

SAMPLES = repeats(200)
SIZES = (40, 60, 120, 250) if SAMPLES == 200 else (60,)
DRAWS = 2_000
AHEAD = 6
EDGES = {
    "negative binomial, near poisson": (kd.NegativeBinomial(60, 0.94), {}),
    "skew normal, symmetric": (kd.SkewNormal(1, 2, 0), {}),
    "student t by scale, near normal": (kd.StudentTByScale(30, 1, 2), {}),
    "extreme value, near gumbel": (kd.GeneralizedExtremeValue(1, 2, 0.0), {}),
    "pareto, excesses, near exponential": (kd.GeneralizedPareto(0, 2, 0.0), {"location": 0}),
    "pert, mode at its end": (kd.Pert(0, 0.02, 1), {"low": 0, "high": 1}),
    "triangular, mode at its end": (kd.Triangular(0, 0.02, 1), {"low": 0, "high": 1}),
}
KINDS = ("complete", "censored", "weighted")
COUNTS = ("poisson", "negative binomial", "geometric", "binomial", "bernoulli")
SERIES = {
    "ar 0.7": (kd.Arima(ar=[0.7], sd=1.0, constant=3.0), {"order": (1, 0, 0)}),
    "ar 0.95": (kd.Arima(ar=[0.95], sd=1.0, constant=0.5), {"order": (1, 0, 0)}),
    "ma 0.5": (kd.Arima(ma=[0.5], sd=1.0, constant=3.0), {"order": (0, 0, 1)}),
    "arma": (kd.Arima(ar=[0.8], ma=[-0.3], sd=1.0, constant=3.0), {"order": (1, 0, 1)}),
    "arima (0,1,1)": (kd.Arima(ma=[-0.4], differences=1, sd=1.0), {"order": (0, 1, 1)}),
    "smoothing, level 0.05": (kd.ExponentialSmoothing(100.0, 0.05, 2.0), {}),
    "smoothing, level 0.5": (kd.ExponentialSmoothing(100.0, 0.5, 2.0), {}),
    "smoothing, level 1": (kd.ExponentialSmoothing(100.0, 1.0, 2.0), {}),
    "smoothing, trend": (
        kd.ExponentialSmoothing(100.0, 0.4, 2.0, trend=0.5, trend_weight=0.1),
        {"trend": True},
    ),
    "smoothing, season": (
        kd.ExponentialSmoothing(100.0, 0.4, 2.0, season=(5, -5, 2, -2), season_weight=0.1),
        {"season": 4},
    ),
    "garch": (kd.Garch(100.0, 0.01, 0.1, 0.9), {"shocks": "normal"}),
    "geometric brownian motion": (kd.GeometricBrownianMotion(100.0, 0.0, 0.2), {}),
    "random walk": (kd.RandomWalk(100.0, 0.0, 2.0), {}),
    "mean reverting": (kd.MeanReverting(50.0, 50.0, 0.3, 2.0), {"log": False}),
}


def measure():
    cases = [
        (name, kind, size)
        for name in {**KNOWN, **EDGES}
        for kind in KINDS
        for size in SIZES
        if kind == "complete" or name.split(",")[0] not in COUNTS
    ]
    cases += [
        (name, kind, size) for name in SERIES for kind in ("complete", "gaps") for size in SIZES
    ]
    workers = os.cpu_count() or 1
    with ProcessPoolExecutor(workers) as pool:
        for (name, kind, size), found in zip(cases, pool.map(_case, cases), strict=True):
            for key, (share, wanted, detail) in found.items():
                yield f"{name}, {kind}, {size} values: {key}", detail, share, wanted


def _case(case):
    name, kind, size = case
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        one = _of_series if name in SERIES else _of_values
        found = [one(name, kind, size, seed) for seed in range(SAMPLES)]
    answer, failed = {}, sum(row is None for row in found)
    found = [row for row in found if row]
    for key in dict.fromkeys(key for row in found for key in row):
        rows = [row[key] for row in found if key in row]
        two_sided = [held for held, open_ in rows if not open_]
        share = float(np.mean([held for held, _ in rows]))
        detail = f"{len(rows) - len(two_sided)} one-sided, {failed} refused"
        wanted = "0.86 to 0.94" if key == "band" else "0.92 to 0.98"
        answer[key] = share, wanted, detail
    return answer


def _of_values(name, kind, size, seed):
    truth, fixed = {**KNOWN, **EDGES}[name]
    rng = np.random.default_rng(seed)
    values = truth.sample(size, seed=seed)
    options = dict(fixed)
    if kind == "censored":
        limit = float(truth.quantile(0.7))
        options["at_least"], values = values > limit, np.minimum(values, limit)
    if kind == "weighted":
        options["weights"], options["weights_kind"] = rng.uniform(0.5, 1.5, size), "survey"
    try:
        estimated = type(truth).fit(values, **options)
    except kd.KindynosError:
        return None
    answer = {}
    for key, (low, high) in estimated.fitted.intervals.items():
        held = low <= getattr(truth, key) <= high
        one_sided = key in (estimated.fitted.at_bound or {}) or np.isinf([low, high]).any()
        answer[key] = held, bool(one_sided)
    parts = estimated.uncertain().parts  # one by one: quantiles of all together take seconds
    levels = (np.arange(DRAWS // len(parts)) + 0.5) * len(parts) / DRAWS
    drawn = np.concatenate([part.quantile(levels) for part in parts])
    low, high = np.quantile(drawn, [0.05, 0.95])
    # the chance itself, not whether one value is inside
    inside = float(truth.cdf(high)) - float(truth.cdf(np.nextafter(low, -np.inf)))
    answer["band"] = inside, False
    return answer


def _of_series(name, kind, size, seed):
    truth, options = SERIES[name]
    dt = 1 / 250 if name == "geometric brownian motion" else 1.0
    path = truth.paths(size + AHEAD, 1, seed=seed, dt=dt)[:, 0]
    series, later = path[: size + 1].copy(), path[size + AHEAD]
    if kind == "gaps":
        inner = np.arange(1, size - 1)
        rng = np.random.default_rng(seed)
        series[rng.choice(inner, size // 5, replace=False)] = np.nan
    if dt != 1:
        options = {**options, "dt": dt}
    try:
        estimated = type(truth).fit(series, **options)
    except kd.KindynosError:
        return None
    answer = {}
    for key, error in estimated.fitted.standard_errors.items():
        true, own = _parameter(truth, key), _parameter(estimated, key)
        ends = estimated.fitted.intervals.get(key, (own - 1.96 * error, own + 1.96 * error))
        answer[key] = ends[0] <= true <= ends[1], bool(np.isinf(error))
    fan = estimated.paths(AHEAD, DRAWS, seed=1, dt=dt, uncertain=True)[-1]
    low, high = np.quantile(fan, [0.05, 0.95])
    answer["band"] = low <= later <= high, False
    return answer


def _parameter(process, key):
    name, _, place = key.rpartition(" ")
    if not name:
        return getattr(process, key)
    return getattr(process, name.replace(" ", "_"))[int(place) - 1]
