"""What knowing is worth before a choice: how much more the options bring on average if the one is
chosen that is best given what is known, than the one that is best without.

A rule is found by regression on one half of the trials, of differences between options on what is
known, and judged by what its choices bring in the other half, and the other way round; so it is not
too good by having been chosen. Source: Raiffa and Schlaifer, Applied Statistical Decision Theory
(1961), chapter 4; Strong, Oakley and Brennan, Medical Decision Making 34 (2014), 311-326.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtr
from kindynos.errors import ParameterError, RunError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.regression import Expectation, expected_given
from kindynos.results import statistics
from kindynos.results.run import Run
from kindynos.results.sensitivity.inputs import inputs_of
from kindynos.studies.comparison import on_same_draws
from kindynos.validate import finite, mapping, names_in

if TYPE_CHECKING:
    import pandas as pd

    from kindynos.studies.comparison import Comparison

PAIRED = 3  # quantities, worth most to know: each two of them are looked at together
ONE_SIDED = 1.645  # standard errors, of a signal that a rule finds only above sqrt(log n) of them
FAR = 6.0  # sds at which one option is always ahead
EVERYTHING = "everything"
OfHalf = Callable[[NDArray[np.bool_]], "Gain"]


@dataclass(frozen=True)
class Gain:
    """What choosing well brings in each trial over the best fixed option: as ``judged`` by trials
    on which the rule was not found, and as ``promised`` by its regressions, which mostly err
    upwards; and the worth of a signal so weak that the rule may have ``missed`` it.
    """

    judged: Floats
    promised: Floats
    missed: float = 0.0


def by_halves(trials: int, of_half: OfHalf) -> Gain:
    """Return the gain in each half of the trials of the rule that is found on the other."""
    first = np.arange(trials) % 2 == 0
    judged, promised, missed = np.empty(trials), np.empty(trials), 0.0
    for found_on in (first, ~first):
        gain = of_half(found_on)
        judged[~found_on], promised[~found_on] = gain.judged[~found_on], gain.promised[~found_on]
        missed = max(missed, gain.missed)
    return Gain(judged, promised, missed)


def gain_of_knowing(options: Floats, known: Floats) -> Gain:
    """Return what it brings to know quantities ``(quantities, trials)`` before choosing between
    options ``(options, trials)``, where more is better.
    """
    count = options.shape[1]

    def of_half(found_on: NDArray[np.bool_]) -> Gain:
        fixed = options[options[:, found_on].mean(axis=1).argmax()]
        expected, missed, _ = expected_leads(options, known, found_on)
        chosen = options[expected.argmax(axis=0), np.arange(count)]
        return Gain(chosen - fixed, options[0] + expected.max(axis=0) - fixed, missed)

    return by_halves(count, of_half)


def gain_of_everything(options: Floats) -> Gain:
    """Return what it brings to choose the best option of every trial."""

    def of_half(found_on: NDArray[np.bool_]) -> Gain:
        gains = options.max(axis=0) - options[options[:, found_on].mean(axis=1).argmax()]
        return Gain(gains, gains)

    return by_halves(options.shape[1], of_half)


def expected_leads(
    options: Floats, known: Floats, found_on: NDArray[np.bool_]
) -> tuple[Floats, float, list[Expectation]]:
    """Return by how much each option is expected to be ahead of the first in each trial, found on
    the trials in ``found_on``, what a signal would be worth that is too weak to be found there, and
    what tells the leads of the second option on.
    """
    leads = options - options[0]
    expected, missed, count = np.zeros_like(leads), 0.0, int(found_on.sum())
    found = [expected_given(known[:, found_on], lead[found_on]) for lead in leads[1:]]
    for position, lead in enumerate(leads[1:], start=1):
        expected[position] = found[position - 1](known)
        if not np.ptp(expected[position]) > 0:
            weak = float(lead.std()) * (math.sqrt(math.log(count)) + ONE_SIDED) / math.sqrt(count)
            missed = max(missed, _loss(float(lead.mean()), weak))
    return expected, missed, found


def _loss(mean: float, sd: float) -> float:
    """Return what it is worth to know a normal difference of two options: sd φ(m / sd) - |m| Φ(-|m|
    / sd).
    """
    if not sd * FAR > abs(mean):
        return 0.0
    at = abs(mean) / sd
    density = math.exp(-at * at / 2) / math.sqrt(2 * math.pi)
    return sd * density - abs(mean) * float(ndtr(-at))


def worth_of_knowing(
    compared: Comparison,
    outcome: str,
    known: Sequence[str] | None = None,
    study_cost: Mapping[str, float] | None = None,
) -> pd.DataFrame:
    """Return what it is worth to know drivers before choosing a scenario; see
    ``Comparison.worth_of_knowing``.
    """
    results = [compared.result(name, outcome) for name in compared.scenarios]
    runs = list(compared.runs.values())
    if not all(isinstance(run, Run) and on_same_draws(runs[0], run) for run in runs):
        raise RunError(
            "what knowing is worth is found trial by trial; the scenarios must be runs on the same "
            "draws (one seed, plan and number of trials)"
        )
    for name, result in zip(compared.scenarios, results, strict=True):
        if not np.isfinite(result.values).all():
            raise RunError(
                f"{outcome!r} of {name!r} has trials without a value, or infinite ones; what "
                "knowing is worth is a mean over all"
            )
    drivers = _same_drivers([run for run in runs if isinstance(run, Run)], outcome)
    names = list(drivers) if known is None else names_in("known", known)
    for name in names:
        if name not in drivers:
            raise RunError(
                f"{name!r} is not a driver of {outcome} that all scenarios share",
                unknown=name,
                known=drivers,
            )
    sign = -1.0 if results[0].better == "low" else 1.0
    options = sign * np.stack([result.values for result in results])

    def gain_of(members: tuple[str, ...]) -> Gain:
        if not members:
            return gain_of_everything(options)
        return gain_of_knowing(options, np.stack([drivers[name] for name in members]))

    def mean_of(gains: Floats) -> Estimate:
        return statistics.mean(results[0].sample.with_values(gains))

    return worth_table(gain_of, names, mean_of, study_cost)


def _same_drivers(runs: Sequence[Run], outcome: str) -> dict[str, Floats]:
    """Return the drivers that reach an outcome in any scenario and are alike in all: one number a
    trial, of those over periods the average. What a scenario replaces follows from the choice.
    """
    reach = [
        reached.driver
        for run in runs
        for reached in inputs_of(run, outcome, False, everyone=True)
        if reached.driver in run.program.ancestors([outcome])
    ]
    shared = {}
    for name in dict.fromkeys(reach):
        if all(name in run.program.drivers for run in runs):
            rows = [np.atleast_2d(run[name].values).mean(axis=0) for run in runs]
            if all(np.array_equal(rows[0], row) for row in rows[1:]):
                shared[name] = rows[0]
    return shared


def worth_table(
    gain_of: Callable[[tuple[str, ...]], Gain | None],
    names: list[str],
    mean_of: Callable[[Floats], Estimate],
    study_cost: Mapping[str, float] | None = None,
) -> pd.DataFrame:
    """Return what it is worth to know each quantity, each two of the three that are worth most, and
    everything, the most first; see ``Comparison.worth_of_knowing`` for the columns.

    ``gain_of`` gives the gain of knowing quantities, of none of them: everything, None where that
    cannot be told. Raises ParameterError for the cost of a study of something else.
    """
    import pandas as pd

    stated = {} if study_cost is None else study_cost
    given = mapping("study_cost", stated, "the cost of each study by the name of a quantity")
    costs = {name: finite(f"study_cost of {name!r}", cost) for name, cost in given.items()}
    rows: dict[str, dict[str, Any]] = {}

    def add(label: str, members: tuple[str, ...]) -> None:
        gain = gain_of(members)
        if gain is not None:
            rows[label] = _row(gain, mean_of)

    for name in names:
        add(name, (name,))
    first = sorted(rows, key=lambda name: -rows[name]["worth"])[:PAIRED]
    for a, b in combinations(names, 2):
        label = f"{a} and {b}"
        if {a, b} <= set(first) or label in costs:
            add(label, (a, b))
    add(EVERYTHING, ())
    for name, cost in costs.items():
        if name not in rows:
            raise ParameterError(f"study_cost: no {name!r} to know", unknown=name, known=rows)
        rows[name] |= {
            "study cost": cost,
            "net": rows[name]["worth"] - cost,
            "pays": _pays(rows[name], cost),
        }
    table = pd.DataFrame.from_dict(rows, orient="index")
    table.index.name = "known before choosing"
    return table.sort_values("worth", ascending=False, kind="stable")


def mean_and_missed(gain: Gain, mean_of: Callable[[Floats], Estimate]) -> Estimate:
    """Return the worth of a gain, at least 0, with the larger error of the judged trials and of
    what may have been missed.
    """
    judged = mean_of(gain.judged)
    error = judged.error if np.ptp(gain.judged) > 0 else 0.0
    if gain.missed:
        error = max(error, float(mean_of(np.full_like(gain.judged, gain.missed))))
    return symmetrical(max(float(judged), 0.0), error)


def _row(gain: Gain, mean_of: Callable[[Floats], Estimate]) -> dict[str, Any]:
    worth = mean_and_missed(gain, mean_of)
    fitted = max(float(mean_of(gain.promised)), float(worth))
    return {"worth": float(worth), "error": worth.error, "fitted": fitted}


def _pays(row: Mapping[str, Any], cost: float) -> str:
    if row["worth"] - row["error"] > cost:
        return "yes"
    return "no" if max(row["worth"] + row["error"], row["fitted"]) < cost else "cannot be told"
