"""Distributions fitted to values: time and likelihood against SciPy's, recovery of known
parameters, p-values.
"""

import numpy as np
from scipy import stats

import kindynos as kd
from benchmarks.timing import paired, repeats

VALUES, SIZE = 1_250, 200
SETS, SAMPLES = repeats(50), repeats(400)
RETURNS = {
    "norm": kd.Normal,
    "t": kd.StudentTByScale,
    "laplace": kd.Laplace,
    "logistic": kd.Logistic,
    "cauchy": kd.Cauchy,
    "gumbel_r": kd.Gumbel,
    "skewnorm": kd.SkewNormal,
    "johnsonsu": kd.JohnsonSU,
    "genextreme": kd.GeneralizedExtremeValue,
    "uniform": kd.Uniform,
}
POSITIVE = {
    "lognorm": kd.LogNormal,
    "gamma": kd.Gamma,
    "expon": kd.Exponential,
    "weibull_min": kd.Weibull,
    "fisk": kd.LogLogistic,
    "invgauss": kd.InverseGaussian,
    "genpareto": kd.GeneralizedPareto,
    "pareto": kd.Pareto,
}
KNOWN = {
    "normal": (kd.Normal(3, 2), {}),
    "lognormal": (kd.LogNormal(3, 2), {}),
    "student t": (kd.StudentT(5, 1, 2), {}),
    "student t by scale": (kd.StudentTByScale(3, 1, 2), {}),
    "logistic": (kd.Logistic(1, 2), {}),
    "laplace": (kd.Laplace(1, 2), {}),
    "cauchy": (kd.Cauchy(1, 2), {}),
    "gumbel": (kd.Gumbel(1, 2), {}),
    "extreme value": (kd.GeneralizedExtremeValue(1, 2, 0.1), {}),
    "pareto, excesses": (kd.GeneralizedPareto(0, 2, 0.2), {"location": 0}),
    "skew normal": (kd.SkewNormal(1, 2, 4), {}),
    "johnson su": (kd.JohnsonSU(0.5, 1.5, 1, 2), {}),
    "gamma": (kd.Gamma(2, 3), {}),
    "exponential": (kd.Exponential(3), {}),
    "weibull": (kd.Weibull(1.5, 3), {}),
    "log logistic": (kd.LogLogistic(3, 3), {}),
    "inverse gaussian": (kd.InverseGaussian(2, 5), {}),
    "pareto": (kd.Pareto(2, 3), {"low": 3}),
    "beta": (kd.Beta(2, 5), {}),
    "pert": (kd.Pert(0, 0.3, 1), {"low": 0, "high": 1}),
    "triangular": (kd.Triangular(0, 0.3, 1), {"low": 0, "high": 1}),
    "poisson": (kd.Poisson(4), {}),
    "negative binomial": (kd.NegativeBinomial(3, 0.4), {}),
    "geometric": (kd.Geometric(0.3), {}),
    "binomial": (kd.Binomial(10, 0.3), {"trials": 10}),
    "bernoulli": (kd.Bernoulli(0.3), {}),
}
FIXED = {
    "gamma": {"floc": 0},
    "lognorm": {"floc": 0},
    "expon": {"floc": 0},
    "weibull_min": {"floc": 0},
    "fisk": {"floc": 0},
    "invgauss": {"floc": 0},
}


def measure():
    heavy = 0.01 * np.random.default_rng(1).standard_t(4, VALUES)
    skewed = np.random.default_rng(2).gamma(2.0, 3.0, VALUES)
    rows = []
    for label, kinds, data in (
        ("ten return distributions", RETURNS, heavy),
        ("eight positive ones", POSITIVE, skewed),
    ):
        ours, theirs, ratio = paired(
            lambda kinds=kinds, data=data: [kind.fit(data) for kind in kinds.values()],
            lambda kinds=kinds, data=data: [
                getattr(stats, n).fit(data, **_fixed(n, data)) for n in kinds
            ],
            runs=3,
        )
        rows.append(
            (
                f"{label}, {VALUES:,} values / scipy.stats",
                f"{ours:.3f} s / {theirs:.3f} s",
                ratio,
                "at most 0.125",
            )
        )
    rows.append(
        (
            "lowest log likelihood against scipy.stats, over 50 sets",
            "",
            _likelihoods(),
            "above -1e-6",
        )
    )
    rows += _recovery()
    rows.append(
        ("p of uniform bootstrap p-values, 300 samples of a gamma", "", _uniform(), "above 0.01")
    )
    return rows


def _fixed(name, data):
    if name in ("genpareto", "uniform"):
        return {"floc": data.min()} if name == "genpareto" else {}
    return {"floc": 0, "fscale": data.min()} if name == "pareto" else FIXED.get(name, {})


def _likelihoods():
    least = np.inf
    for seed in range(SETS):
        rng = np.random.default_rng(seed)
        heavy, skewed = rng.standard_t(3 + seed % 6, 300), rng.gamma(1 + seed % 4, 2.0, 300)
        for kinds, data in ((RETURNS, heavy), (POSITIVE, skewed)):
            for name, kind in kinds.items():
                with np.errstate(all="ignore"):
                    theirs = (
                        getattr(stats, name)(*getattr(stats, name).fit(data, **_fixed(name, data)))
                        .logpdf(data)
                        .sum()
                    )
                gap = kind.fit(data).fitted.log_likelihood - theirs
                if np.isfinite(gap) and gap < least:
                    least = gap
    return float(least)


def _recovery():
    rows = []
    for name, (truth, fixed) in KNOWN.items():
        gaps, inside = {}, {}
        for row in truth.sample((SAMPLES, SIZE), seed=7):
            estimated = type(truth).fit(row, **fixed)
            for key, error in estimated.fitted.standard_errors.items():
                low, high = estimated.fitted.intervals[key]
                gaps.setdefault(key, []).append(
                    (getattr(estimated, key) - getattr(truth, key)) / error
                )
                inside.setdefault(key, []).append(low <= getattr(truth, key) <= high)
        means = ", ".join(f"{key} {np.mean(gap):.2f}" for key, gap in gaps.items())
        least, most = min(map(np.mean, inside.values())), max(map(np.mean, inside.values()))
        rows.append(
            (
                f"{name}: coverage {least:.3f} to {most:.3f}; mean (estimate - truth) / error",
                means,
                max(abs(float(np.mean(gap))) for gap in gaps.values()),
                "at most 0.15",
            )
        )
    return rows


def _uniform():
    p = [
        kd.fit_distributions(row, ["gamma"]).distances["gamma"].anderson_darling_p
        for row in kd.Gamma(2, 3).sample((300, 50), seed=3)
    ]
    return float(stats.kstest(p, "uniform").pvalue)
