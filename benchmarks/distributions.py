"""A million quantiles of each distribution against SciPy, and Latin rows against random ones."""

import numpy as np
from scipy import special, stats

import kindynos as kd
from benchmarks.timing import paired

COUNT = 1_000_000

AGAINST_STATS = {
    "Normal": (kd.Normal(3, 2), stats.norm(3, 2).ppf),
    "LogNormal": (kd.LogNormal.from_log(1, 0.4), stats.lognorm(0.4, scale=np.e).ppf),
    "Uniform": (kd.Uniform(1, 4), stats.uniform(1, 3).ppf),
    "Triangular": (kd.Triangular(1, 2, 6), stats.triang(0.2, 1, 5).ppf),
    "Weibull": (kd.Weibull(1.7, 3), stats.weibull_min(1.7, scale=3).ppf),
    "Logistic": (kd.Logistic(0, np.pi / np.sqrt(3)), stats.logistic.ppf),
    "Gumbel": (kd.Gumbel(0, 1), stats.gumbel_r.ppf),
}
AGAINST_SPECIAL = {
    "Beta": (kd.Beta(30, 19), lambda u: special.betaincinv(30, 19, u)),
    "Pert": (kd.Pert(0, 0.2, 1), lambda u: special.betaincinv(1.8, 4.2, u)),
    "Gamma": (kd.Gamma(2.5, 1), lambda u: special.gammaincinv(2.5, u)),
    "StudentT": (kd.StudentT.from_location(5, 0, 1), lambda u: special.stdtrit(5, u)),
}


def measure() -> list[tuple[str, str, float, str]]:
    u = np.random.default_rng(1).random(COUNT)
    rows = []
    for distributions, wanted in ((AGAINST_STATS, "at least 2"), (AGAINST_SPECIAL, "at least 20")):
        for name, (distribution, theirs) in distributions.items():
            gap = float(
                (
                    np.abs(distribution.quantile(u) - theirs(u))
                    / (np.abs(theirs(u)) + distribution.sd)
                ).max()
            )
            ours, baseline, ratio = paired(
                lambda distribution=distribution: distribution.quantile(u),
                lambda f=theirs: f(u),
                runs=5,
            )
            text = f"{ours:.3f} s / {baseline:.3f} s, largest difference {gap:.0e}"
            rows.append(
                (f"a million quantiles of {name}: times faster than SciPy", text, 1 / ratio, wanted)
            )
    model = kd.Model("rows", periods=30)
    model.driver("x", kd.Normal(0, 1), each="period")
    model.outcome("y", "total(x)")
    latin, random, ratio = paired(
        *(lambda s=s: model.simulate(100_000, seed=1, sampling=s) for s in ("latin", "random"))
    )
    rows.append(
        (
            "30 periods x 100,000 trials of a Normal: Latin / random",
            f"{latin:.3f} s / {random:.3f} s",
            ratio,
            "at most 2",
        )
    )
    return rows
