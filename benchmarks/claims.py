"""Sentences that claim something: how often each is said where the thing is not there, which is to
be at most 5 %, and how often where it is plain, which is to be at least 90 %.

Each is read off the sentences themselves over records, without and with the thing; what waiting is
worth, dominance and a limit that is kept, off the figures that their sentences rest on.
"""

import os
import re
from collections.abc import Callable, Iterator

import numpy as np
import pandas as pd
from scipy.special import ndtr

import kindynos as kd
from kindynos.fitting.doubts import series_doubts
from kindynos.fitting.jointly import JointFit, copulas_of
from kindynos.markets.supported import REJECTED, hardest_test
from kindynos.markets.unsmoothing import unsmoothed
from kindynos.reports.showing import report_of

SHORT = "KINDYNOS_SHORT_BENCH" in os.environ
RECORDS = 10 if SHORT else 200
TRIALS = 1_000
FAMILIES = ("gamma", "lognormal", "weibull", "normal", "exponential", "logistic")


def said(result) -> str:
    """Return the answer of a result."""
    return " ".join(report_of(result).answer)


def model(formula: str) -> kd.Model:
    answer = kd.Model("m")
    answer.given(k=0.0, n=1.0)
    for name in ("x", "y", "z"):
        answer.driver(name, kd.Normal(0, 1))
    answer.outcome("v", formula)
    return answer


def scenarios(plan: str) -> Callable[[int, float], str]:
    """Two scenarios that rest on drivers of their own: alike, or a fifth of an sd apart."""

    def text(seed: int, gap: float) -> str:
        both = model("(k == 0) * x + (k == 1) * y + k * n + z")
        cases = {"one": {"k": 0, "n": gap}, "two": {"k": 1, "n": gap}}
        return said(both.compare(cases, TRIALS, seed, sampling=plan))

    return text


def decision(seed: int, gap: float) -> str:
    """Two alternatives with payoffs of their own."""
    payoffs = {"one": kd.Normal(0, 1), "two": kd.Normal(gap, 1)}
    return said(kd.Decision("d", payoffs).solve(trials=TRIALS, seed=seed))


def shared_decision(seed: int, gap: float) -> str:
    """Two alternatives on the same draws, the second with a little noise of its own."""
    both = model("x * 100")
    both.outcome("w", f"x * 100 + {gap} + 0.1 * y")
    run = both.simulate(TRIALS, seed, sampling="random")
    return said(kd.Decision("d", {"one": run["v"], "two": run["w"]}).solve(trials=TRIALS))


def points(seed: int, gap: float) -> str:
    """A sweep of an input that changes the spread alone, or the mean too."""
    swept = model(f"x * k + {gap} * k + z")
    options = {"trials": TRIALS, "seed": seed, "sampling": "random"}
    return said(swept.sweep(k=[1.0, 2.0], **options))


def drivers(seed: int, gap: float) -> str:
    """Two drivers that matter alike, or one that matters most."""
    return said(model(f"(1 + {gap}) * x + y").simulate(TRIALS, seed))


def waiting(seed: int, gap: float) -> str:
    """Payoffs that nothing known tells anything of, or that what is known tells."""
    generator = np.random.default_rng(seed)
    known = generator.normal(size=(2, TRIALS))
    payoffs = gap * known + generator.normal(size=(2, TRIALS))
    value = kd.value_of_waiting(payoffs, known).value
    return "waiting is worth something" if value.low > 0 else ""


def dominance(seed: int, gap: float) -> str:
    """One distribution, or the same moved upwards."""
    generator = np.random.default_rng(seed)
    columns = [generator.normal(shift, 1, 1_000) for shift in (0.0, gap)]
    one, two = (kd.read_trials(pd.DataFrame({"v": values})) for values in columns)
    row = kd.compare({"one": one, "two": two}, outcome="v").dominance("v").loc[("two", "one")]
    return "dominates" if row["first order"] else ""


def limit(seed: int) -> str:
    """A limit at the best, which fresh draws keep or break in half of the cases: do the decisions
    that are said to keep it for certain keep it?
    """
    prices = model("n - 10 - 2 * x")
    prices.outcome("sales", "100 - 3 * n")
    found = prices.optimize(
        {"n": (8.0, 20.0)},
        maximize="mean sales",
        subject_to="chance above 0 of v >= 0.9",
        trials=TRIALS,
        seed=seed,
        evaluations=40,
    )
    inside = found.inside
    if inside is None:
        return "kept" if list(found.constraints()["kept"]) == ["yes"] else ""
    truth = float(ndtr((inside.decisions["n"] - 10) / 2))
    return "broken" if truth < 0.9 else "kept for certain"


def doubted(mistake: str) -> Callable[[int, float], str]:
    """A calm monthly series, or one with a slipped decimal point, half a last month, or a level
    that shifts.
    """

    def text(seed: int, gap: float) -> str:
        generator = np.random.default_rng(seed)
        months = np.arange(96)
        season = 0.2 * np.sin(2 * np.pi * months / 12)
        values = 1_000 * np.exp(season + 0.05 * generator.standard_t(5, 96))
        if gap and mistake == "slipped":
            values[generator.integers(10, 80)] *= 10
        elif gap and mistake == "complete":
            values[-1] *= 0.5
        elif gap:
            values[50:] *= 0.4
        return " ".join(series_doubts(values, 12, [str(month) for month in months]))

    return text


def scatter(seed: int, gap: float) -> str:
    """Twelve yearly counts of independent events, or with a rate that differs from year to year."""
    generator = np.random.default_rng((11, seed))
    rates = generator.gamma(2.0, 12 / 2.0, 12) if gap else np.full(12, 12.0)
    return kd.fit_counts(generator.poisson(rates)).verdict


def joined(seed: int, gap: float) -> str:
    """Two columns that a normal copula joins, or a Clayton copula."""
    generator = np.random.default_rng(seed)
    first, second = generator.standard_normal((2, 400))
    records = np.stack([first, 0.6 * first + 0.8 * second], axis=1)
    if gap:  # by a frailty that both share
        frailty = generator.gamma(1 / 2.0, size=400)
        records = (1 + generator.exponential(size=(2, 400)) / frailty).T ** (-1 / 2.0)
    return JointFit({}, records, copulas_of(records)).verdict


def smoothed(seed: int, gap: float) -> str:
    """Monthly returns on their own, or each half of the one before."""
    returns = np.random.default_rng(seed).normal(0, 0.04, 120)
    for month in range(1, 120) if gap else ():
        returns[month] = 0.5 * returns[month] + 0.5 * returns[month - 1]
    try:
        unsmoothed("fund", 100 * np.exp(np.cumsum(returns)))
    except kd.ParameterError:
        return ""
    return "smoothed"


def by_percentile(seed: int, gap: float) -> str:
    """Two alternatives with payoffs of their own, by what one case in ten falls short of."""
    payoffs = {"one": kd.Normal(0, 1), "two": kd.Normal(gap, 1)}
    solution = kd.Decision("d", payoffs).solve("percentile", level=0.1, trials=TRIALS, seed=seed)
    return said(solution)


def widest(seed: int, gap: float) -> str:
    """Two drivers whose width matters alike, or one whose width matters most."""
    departed = model(f"(1 + {gap}) * x + y").robustness("v", trials=TRIALS, seed=seed)
    return said(departed)


def study(seed: int, gap: float) -> str:
    """A study that costs as much as it is worth, 0.399 sds, or half of that."""
    either = model("k * (x + y)")
    compared = either.compare({"no": {"k": 0}, "yes": {"k": 1}}, TRIALS, seed, sampling="random")
    worth = compared.worth_of_knowing("v", ["x"], study_cost={"x": 0.3989 * (1 - gap)})
    return worth.loc["x", "pays"]


def cause(seed: int, gap: float) -> str:
    """A change that leaves the mean as it is, or moves it by a tenth of its sd."""
    old = model("x + y")
    new = old.replace(y=kd.Normal(gap, 1.1))
    return said(kd.bridge(old, new, trials=TRIALS, seed=seed))


def ranges(seed: int, gap: float) -> str:
    """Twenty forecasts with the right ranges, or with ranges half as wide as they should be."""
    generator = np.random.default_rng((5, seed))
    actual = generator.normal(100, 10 * (1 + gap), 20)
    reach = 10 * 1.2816
    record = pd.DataFrame({"P10": 100 - reach, "P50": 100.0, "P90": 100 + reach, "actual": actual})
    return " ".join(kd.track_record(record).sentences())


def clearly(seed: int, gap: float) -> str:
    """Sixty values of a gamma distribution taken for another one, or 600 of a lognormal."""
    if gap:
        values = kd.LogNormal(1.0, 1.0).sample(600, seed=seed)
        return re.sub(
            "lognormal fits clearly best", "plain", kd.fit_distributions(values, FAMILIES).verdict
        )
    verdict = kd.fit_distributions(kd.Gamma(4.0, 1.0).sample(60, seed=seed), FAMILIES).verdict
    return re.sub("(?!gamma)[a-z ]+ fits clearly best", "plain", verdict)


def dependent(seed: int, gap: float) -> str:
    """A hundred values on their own, or each resting on the one before."""
    values = np.random.default_rng((6, seed)).normal(size=100)
    for place in range(1, 100) if gap else ():
        values[place] += 0.6 * values[place - 1]
    report = report_of(kd.fit_distributions(values, ["normal", "logistic"]))
    return " ".join(line for section in report.sections for line in section.sentences)


def spoken_against(seed: int, gap: float) -> str:
    """Value at risk of calm normal returns by the method normal, or where the sd doubles."""
    generator = np.random.default_rng((7, seed))
    returns = 0.01 * generator.normal(size=500)
    returns[250:] *= 1 + gap
    dates = pd.bdate_range("2026-01-01", periods=501)
    prices = kd.read_prices(pd.DataFrame({"a": 100 * np.exp(np.cumsum([0, *returns]))}, dates))
    tests = kd.Portfolio(prices, shares={"a": 1}).backtests(250, 0.95)
    return "speaks against" if hardest_test(tests)["normal"] < REJECTED else ""


CLAIMS = (
    # what it says, the words of the claim, the record, and how large the thing is where it is plain
    ("best of two scenarios, random", r"Best on average is", scenarios("random"), 0.2),
    ("best of two scenarios, latin", r"Best on average is", scenarios("latin"), 0.2),
    ("best of two alternatives", r"is best by", decision, 0.2),
    ("best of two alternatives on the same draws", r"is best by", shared_decision, 0.02),
    ("points of a sweep told apart", r"^(?!.*cannot be told apart)", points, 0.2),
    ("most of the spread comes from one driver", r"Most of the spread", drivers, 1.0),
    ("waiting is worth something", r"waiting is worth", waiting, 1.0),
    ("one distribution dominates another", r"dominates", dominance, 4.0),
    ("a decimal point has slipped", r"slipped decimal", doubted("slipped"), 1.0),
    ("a last period is not complete", r"is the period complete", doubted("complete"), 1.0),
    ("a level has shifted", r"has the level shifted", doubted("shift"), 1.0),
    ("counts scatter more than independent events", r"scatter more than", scatter, 1.0),
    ("a copula with a common tail joins columns", r"^(clayton|gumbel|t) joins", joined, 1.0),
    ("values are smoothed", r"smoothed", smoothed, 1.0),
    ("best of two alternatives by a percentile", r"is best by", by_percentile, 0.4),
    ("how wide one driver is matters most", r"matters most is how wide \w+ is", widest, 1.0),
    ("a study pays", r"^yes", study, 0.4),
    ("a change explains part of a difference", r"from y", cause, 0.1),
    ("ranges are too narrow", r"should have been", ranges, 1.0),
    ("one family fits clearly best", r"plain", clearly, 1.0),
    ("values depend on those before them", r"Values depend", dependent, 1.0),
    ("a test speaks against a method", r"speaks against", spoken_against, 1.0),
)


def measure() -> Iterator[tuple[str, str, float, str]]:
    for label, words, record, plain in CLAIMS:
        claim = re.compile(words)
        for what, gap, wanted in (("false", 0.0, "at most 0.05"), ("found", plain, "at least 0.9")):
            times = sum(bool(claim.search(record(seed, gap))) for seed in range(RECORDS))
            yield f"claim: {label}, {what}", f"{RECORDS} records", times / RECORDS, wanted
    found = [limit(seed) for seed in range(RECORDS)]
    for what, times, wanted in (
        ("false", found.count("broken"), "at most 0.05"),
        ("found", sum(one.startswith("kept") for one in found), "at least 0.9"),
    ):
        yield (
            f"claim: a limit is kept for certain, {what}",
            f"{RECORDS} records",
            times / RECORDS,
            wanted,
        )
