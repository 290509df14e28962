"""What was fitted to records, and trials that were read, as a terminal shows them."""

from __future__ import annotations

import math
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from rich.console import RenderableType
from rich.text import Text

from kindynos.arrays import Floats
from kindynos.cells import Cell
from kindynos.errors import ParameterError
from kindynos.fitting.uncertain import LEAST_SHARE, percentiles_left_open, percentiles_of_any
from kindynos.formatting import (
    brief,
    in_unit,
    number,
    p_value,
    per_cent,
    share_range,
    short,
    shown,
    spoken,
    step_of,
    threshold,
)
from kindynos.inference.autocorrelation import autocorrelations, portmanteau
from kindynos.processes.clustering import listed
from kindynos.reports.answers import asked_sentences, opening, read_answer
from kindynos.reports.forecasts import doubt_lines
from kindynos.reports.page import of_fits
from kindynos.reports.page.of_trials import trials_view
from kindynos.reports.page.view import charts_view, plain_view
from kindynos.reports.report import DataTable, Draws, Report, only_files
from kindynos.reports.runs import conditions_table, label
from kindynos.reports.summary import chances_asked, plain_estimate, plain_value
from kindynos.reports.tables import FigureTable, Words, table_of
from kindynos.results.figures import DEFAULT, TableSpec, outcome_table, reported_figures

if TYPE_CHECKING:
    from kindynos.distributions.base import Distribution
    from kindynos.fitting.diagnostics import Diagnostics
    from kindynos.fitting.ranking import Ranking
    from kindynos.fitting.series import SeriesRanking
    from kindynos.fitting.track_record import TrackRecord
    from kindynos.processes.base import Process
    from kindynos.results.joint import JointDistribution
    from kindynos.results.read_trials import ReadTrials

FEWEST_IN_ORDER = 20  # values from which a test of their order says anything
MOST_OUTLIERS = 6
PERCENTILES = (1, 5, 25, 50, 75, 95, 99)
CRITERION_WORDS = {"aic": "AIC", "aicc": "AICc", "bic": "BIC"}
BEYOND = 1e12  # times an estimate, from which an end of its interval says nothing


def _distance(value: float, decimals: int) -> str:
    """Return a distance from the data; of weighted or censored data there is none."""
    return "-" if math.isnan(value) else f"{value:.{decimals}f}"


def _ranked_distributions(name: str, ranking: Ranking) -> FigureTable:
    """Return the distributions, the best first, each with its criterion and distances."""
    table = table_of(
        f"{name}: distributions for {len(ranking.data.values):,} values, by "
        f"{ranking.criterion.upper()}",
        "distribution",
        Words("parameters"),
        ranking.criterion.upper(),
        "weight",
        "Anderson-Darling",
        "p",
        "Kolmogorov-Smirnov",
        "p",
    )
    for distribution in ranking:
        distances = ranking.distances[distribution.label]
        parameters = ", ".join(
            f"{key} {short(value)}" for key, value in distribution.fitted.estimates.items()
        )
        table.add_row(
            distribution.label,
            parameters,
            f"{ranking._criterion_of(distribution):,.1f}",
            per_cent(ranking.weights[distribution.label]),
            _distance(distances.anderson_darling, 2),
            _p(distances.anderson_darling_p),
            _distance(distances.kolmogorov_smirnov, 3),
            _p(distances.kolmogorov_smirnov_p),
        )
    return table


def distributions(name: str, ranking: Ranking, shown: Distribution, notes: list[str]) -> Report:
    """Return the ranking of distributions, the parameters of one of them, and what it tells; where
    records begin abruptly at a figure, the question whether smaller ones are recorded.
    """
    words = [
        f"The p-values are by parametric bootstrap, {ranking.samples} samples each."
        if ranking.data.plain
        else "Tests of fit need all values, and each known exactly: there are none here."
    ]
    words += [
        f"{distribution.label}: {'; '.join(distribution.fitted.at_bound.values())}."
        for distribution in ranking
        if distribution.fitted.at_bound
    ]
    words += [*_order(ranking.data.values), *_left_out(ranking.left_out)]
    words += [f"{note}." for note in notes]
    ranked = ranking.table()
    percentiles = _fitted_percentiles(shown, ranking)
    chosen = _families(ranking, shown)
    if len(chosen) > 1 and not percentiles.empty:
        words.insert(
            0,
            "The intervals of the percentiles hold the choice among "
            f"{', '.join(chosen)}, by their weights.",
        )
    return Report.of(
        [
            *opening([f"{ranking.verdict}.", *_not_recorded(shown, ranking)]),
            _ranked_distributions(name, ranking),
            "",
            _fitted(shown),
            "",
            *_percentiles_table(
                percentiles, f"Percentiles of the fitted {shown.label}, and of the records"
            ),
            Text("\n".join(words), style="dim"),
        ],
        kind="fit",
        facts=lambda: plain_value(
            {
                "column": name,
                "values": len(ranking.data.values),
                "notes": notes,
                "criterion": ranking.criterion,
                "ranking": _known(ranked, "distribution"),
                "verdict": ranking.verdict,
                "begins at": ranking.begins_at,
                **_facts_of(shown),
            }
        ),
        tables=lambda: {**only_files(fits=ranked), "percentiles": percentiles},
        figures=lambda: {
            "fits": ranking.plot,
            "quantiles": partial(ranking.plot, "quantiles", name=shown.label),
        },
        view=lambda report: charts_view(report, *of_fits.of_ranking(ranking, shown, name)),
    )


def _facts_of(shown: Distribution) -> dict[str, Any]:
    """Return what the plain data say of a fitted distribution."""
    fit = shown.fitted
    return {
        "unseen": None if fit.unseen is None else plain_estimate(fit.unseen),
        "shown": shown.label,
        "parameters": dict(fit.estimates),
        "standard_errors": dict(fit.standard_errors),
        "intervals": {name: list(ends) for name, ends in fit.intervals.items()},
        "at_bound": dict(fit.at_bound),
    }


def _not_recorded(shown: Distribution, ranking: Ranking) -> list[str]:
    """Return how many values are not recorded, or the question whether there are such."""
    begins = ranking.begins_at
    if begins is not None:
        return [
            f"All {len(ranking.data.values):,} values are at least {begins:,g}, and many lie close "
            f"to it: are smaller ones recorded? If not, --truncated-below {begins:g} (in Python "
            "truncated_below=) makes the distribution that of all."
        ]
    unseen = shown.fitted.unseen
    if unseen is None:
        return []
    if not math.isfinite(unseen.high):
        return [
            f"How many lie below the threshold, unrecorded, the records cannot tell by "
            f"{shown.label}: at least {_count(unseen.low)}."
        ]
    return [
        f"By {shown.label} about {_count(float(unseen))} more ({_count(unseen.low)} to "
        f"{_count(unseen.high)}) lie below the threshold, unrecorded."
    ]


def _count(value: float) -> str:
    return short(value) if value >= 100 else f"{value:.0f}"


def _known(table: pd.DataFrame, key: str) -> list[dict[str, Any]]:
    """Return the rows of a ranking without what is not known of a candidate."""
    return [
        {key: str(name), **{str(k): value for k, value in row.items() if value == value}}
        for name, row in table.iterrows()
    ]


def _at(value: float, error: float) -> str:
    """Return an estimate to the digits that its error leaves."""
    step = step_of(error) if 0 < error < math.inf else None
    return brief(value) if step is None else number(value, step)


def _left_out(reasons: dict[str, str]) -> list[str]:
    """Return a line that says what was left out, those with one reason together."""
    together: dict[str, list[str]] = {}
    for name, reason in reasons.items():
        together.setdefault(reason, []).append(name)
    parts = [f"{', '.join(names)}: {reason}" for reason, names in together.items()]
    return [f"Left out: {'; '.join(parts)}."] if parts else []


def _p(value: float) -> str:
    if math.isnan(value):
        return ""
    return "below 0.001" if value < 0.001 else f"{value:.3f}" if value < 0.1 else f"{value:.2f}"


def _fitted(distribution: Distribution) -> FigureTable:
    table = table_of(
        f"{distribution.label}: {distribution.fitted.description}",
        "parameter",
        "estimate",
        "standard error",
        "95 % interval",
    )
    for name, value in distribution.fitted.estimates.items():
        error = distribution.fitted.standard_errors.get(name, 0.0)
        low, high = distribution.fitted.intervals.get(name, (value, value))
        error_text = "held" if error == 0.0 else "at an end" if math.isinf(error) else short(error)
        table.add_row(
            name,
            _at(value, error),
            error_text,
            "" if error == 0.0 else f"{_end(low, value)} to {_end(high, value)}",
        )
    return table


def _end(end: float, value: float) -> str:
    """Return an end of an interval; one that is nothing beside the estimate, or beyond all bounds,
    as 0 or in words.
    """
    if 0 < abs(end) * BEYOND < abs(value):
        return "0"
    return "any size" if abs(end) > BEYOND * abs(value) > 0 else short(end)


def _families(ranking: Ranking, shown: Distribution) -> list[str]:
    """Return the families that the records leave, where the best of several is shown."""
    if shown is not ranking.best:
        return [shown.label]
    return [
        distribution.label
        for distribution in ranking
        if ranking.weights[distribution.label] >= LEAST_SHARE
    ]


def _fitted_percentiles(distribution: Distribution, ranking: Ranking) -> pd.DataFrame:
    """Return percentiles of what was fitted, beside those of the records where there are some
    beyond; no rows where the parameters cannot be drawn.
    """
    columns, records = ["fitted", "low", "high", "records"], ranking.data.values
    try:
        if len(_families(ranking, distribution)) > 1:
            fitted = percentiles_of_any(distribution, ranking.weights, list(ranking), PERCENTILES)
        else:
            fitted = percentiles_left_open(distribution, PERCENTILES)
    except ParameterError:
        return pd.DataFrame(columns=columns)
    beyond = len(records) * np.minimum(PERCENTILES, 100 - np.array(PERCENTILES)) / 100
    own = np.where(beyond < 1, np.nan, np.percentile(records, PERCENTILES))
    if ranking.data.thresholds is not None:  # of all values, not of those that were recorded
        own = np.full(len(own), np.nan)
    rows = np.column_stack([fitted.value, fitted.low, fitted.high, own])
    return pd.DataFrame(rows, pd.Index(PERCENTILES, name="percentile"), columns)


def _percentiles_table(percentiles: pd.DataFrame, title: str) -> list[RenderableType]:
    if percentiles.empty:
        return []
    table = table_of(title, "percentile", "fitted", "95 % interval", "records", numbers_first=True)
    for percentile, row in percentiles.iterrows():
        step = step_of(float(row["high"] - row["low"]) / 2)
        fitted, low, high = (number(float(row[key]), step) for key in ("fitted", "low", "high"))
        own = "-" if math.isnan(row["records"]) else number(float(row["records"]), step)
        table.add_row(f"P{percentile}", fitted, f"{low} to {high}", own)
    return [table, ""]


def series(
    name: str, ranking: SeriesRanking, selected: str, ahead: int, seed: int, notes: list[str]
) -> Report:
    """Return the ranking of processes, the parameters of one of them, the tests of what it leaves,
    and what it tells.
    """
    diagnosis = ranking.diagnose(selected)
    words = [f"{line}." for line in ranking.choices.words]
    words.append(
        f"{CRITERION_WORDS[ranking.criterion]} and weight compare processes of one group only, "
        "which a blank line ends; +c is with a constant. CRPS scores the whole fan; lower is "
        "better. Processes more than 10 behind the first of their group are not scored."
    )
    words += [*_left_out(ranking.left_out), *(f"{note}." for note in notes)]
    process = ranking[selected]
    ranked = ranking.table()
    coming = fan_table(process, ranking.series.after(ahead), seed)
    outliers = ranking.outliers(selected)
    without = None
    if 0 < len(outliers) <= MOST_OUTLIERS:
        without = fan_table(ranking.without_outliers(selected), ranking.series.after(ahead), seed)
    words += _outlying(outliers, coming, without)
    return Report.of(
        [
            *opening([f"{ranking.verdict}."], doubt_lines(ranking)),
            _processes(name, ranking),
            "",
            _fitted_parameters(selected, process),
            "",
            _residual_tests(selected, diagnosis),
            "",
            Text("\n".join(words), style="dim"),
        ],
        kind="series",
        facts=lambda: plain_value(
            {
                "column": name,
                "notes": notes,
                "doubts": ranking.doubts,
                **_series_facts(ranking, selected),
                "outliers": _by_period(outliers),
                "ahead without outliers": None if without is None else _by_period(without),
                "ahead": _by_period(coming),
            }
        ),
        tables=lambda: only_files(
            processes=ranked,
            fan=coming,
            **({} if without is None else {"fan without outliers": without}),
        ),
        figures=lambda: {"fan": partial(ranking.plot, selected, periods=ahead)},
        pages=lambda: {"diagnostics": diagnosis.plot},
        view=lambda report: plain_view(
            report,
            charts=[
                of_fits.of_series(ranking, selected, coming),
                *of_fits.of_diagnostics(diagnosis),
            ],
            drawn=frozenset(("fan", "diagnostics")),
        ),
    )


def _by_period(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """Return the rows of a table with their periods as days, as plain data."""
    return [{"period": str(period)[:10], **row} for period, row in frame.iterrows()]


def _series_facts(ranking: SeriesRanking, selected: str) -> dict[str, Any]:
    """Return the ranking, and what is known of one process, as plain data."""
    process, fitted = ranking[selected], ranking[selected].fitted
    parameters = parameters_of(process).items()
    tests = ranking.diagnose(selected).tests
    intervals = fitted.intervals.items() if fitted else ()
    return {
        "values": ranking.observations,
        "season": ranking.season,
        "choices": ranking.choices.words,
        "criterion": ranking.criterion,
        "ranking": _known(ranking.table(), "process"),
        "verdict": ranking.verdict,
        "shown": selected,
        "parameters": {key: value for key, value in parameters if not key.startswith("history")},
        "standard_errors": dict(fitted.standard_errors) if fitted else {},
        "intervals": {key: list(ends) for key, ends in intervals},
        "tests": [{"test": test.name, "p": test.p, "meaning": test.words} for test in tests],
    }


def _order(values: Floats) -> list[str]:
    """Return in a line whether values depend on those before them in the file, as far as their
    order can be one of time.
    """
    if len(values) < FEWEST_IN_ORDER or listed(values):
        return []
    lags = min(10, len(values) // 4)
    _, p = portmanteau(autocorrelations(values, lags), len(values), lags)
    if p < 0.01:
        return [
            f"Values depend on those before them in the file (Ljung-Box, {p_value(p)}); errors and "
            "p-values are those of independent values, and too small."
        ]
    return [f"Nothing shows that values depend on those before them (Ljung-Box, {p_value(p)})."]


def _outlying(
    outliers: pd.DataFrame, coming: pd.DataFrame, without: pd.DataFrame | None
) -> list[str]:
    """Return which values the process hardly allows, and what the forecast is without them."""
    if not len(outliers):
        return []
    named = ", ".join(
        f"{str(period)[:10]} ({brief(row['value'])}, {row['sds']:+.1f} sds)"
        for period, row in outliers.head(MOST_OUTLIERS).iterrows()
    )
    more = f" and {len(outliers) - MOST_OUTLIERS} more" if len(outliers) > MOST_OUTLIERS else ""
    said = [f"Hardly expected: {named}{more}."]
    if without is not None:
        first, last = (f"{brief(float(fan['P50'].iloc[-1]))}" for fan in (coming, without))
        ends = [f"{brief(float(without[q].iloc[-1]))}" for q in ("P5", "P95")]
        said.append(
            f"Without {'it' if len(outliers) == 1 else 'them'} the forecast for the last period "
            f"ahead is {last} ({ends[0]} to {ends[1]}), not {first}."
        )
    return said


def _processes(name: str, ranking: SeriesRanking) -> FigureTable:
    """Return a table of the processes, best first, a blank line between groups."""
    columns = [Words("process"), "parameters", CRITERION_WORDS[ranking.criterion], "weight"]
    if ranking.scores:
        columns += ["mean abs. error", "CRPS", "inside 50 %", "inside 90 %"]
    table = table_of(
        f"{name}: processes for {ranking.observations:,} values",
        *columns,
        Words(""),
        numbers_first=True,
    )
    frame = ranking.table()
    for position, names in enumerate(ranking.groups.values()):
        if position:
            table.add_row("", *[""] * len(columns))
        for process in names:
            row: Any = frame.loc[process]
            cells = [
                str(int(row["parameters"])),
                f"{row[ranking.criterion]:,.1f}",
                per_cent(row["weight"]),
            ]
            if process in ranking.scores:
                cells += [
                    short(row["mae"]),
                    short(row["crps"]),
                    per_cent(row["inside_50"], 0),
                    per_cent(row["inside_90"], 0),
                ]
            elif ranking.scores:
                cells += [""] * 4
            table.add_row(process, *cells, row["note"])
    return table


def _residual_tests(selected: str, diagnostics: Diagnostics) -> FigureTable:
    from kindynos.fitting.diagnostics import RESIDUAL_SIZES

    size = "rejects right models at 5 %"
    tests = table_of(
        f"What {selected} leaves", "test of the residuals", "p", size, Words("meaning")
    )
    for test in diagnostics.tests:
        low, high = (per_cent(share, 0).removesuffix(" %") for share in RESIDUAL_SIZES[test.name])
        tests.add_row(test.name, _p(test.p), f"{low} to {high} %", test.words)
    return tests


def _fitted_parameters(name: str, process: Process) -> FigureTable:
    assert process.fitted is not None
    table = table_of(
        f"{name}: {process.fitted.description}",
        "parameter",
        "estimate",
        "standard error",
        *(["95 % interval"] if process.fitted.intervals else []),
    )
    values = parameters_of(process)
    for key, error in process.fitted.standard_errors.items():
        within = process.fitted.intervals.get(key)
        table.add_row(
            key,
            _at(values[key], error),
            "at an end" if math.isinf(error) else short(error),
            *([f"{short(within[0])} to {short(within[1])}"] if within else []),
        )
    return table


def parameters_of(process: Process) -> dict[str, float]:
    """Return the parameters of a process by the names that its errors have: "ar 1" of several."""
    by_name: dict[str, float] = {}
    for key, value in process.parameters.items():
        if isinstance(value, tuple):
            by_name |= {
                f"{spoken(key)} {position}": float(number)
                for position, number in enumerate(value, start=1)
            }
        elif key == "effects":
            by_name |= {f"effect of {name}": effect for name, effect in value.items()}
        elif isinstance(value, float | int) and not isinstance(value, bool):
            by_name[key] = float(value)
    return by_name


def fan_table(process: Process, periods: Any, seed: int, trials: int = 10_000) -> pd.DataFrame:
    """Return the coming periods: mean and percentiles of simulated paths with parameters that are
    drawn too.
    """
    made = process.paths(len(periods), trials, seed, uncertain=True)[1:]
    table = pd.DataFrame(
        {f"P{q}": row for q, row in zip((5, 25, 50, 75, 95), _percentiles(made), strict=True)},
        index=periods,
    )
    table.insert(0, "mean", made.mean(axis=1))
    table.index.name = "period"
    return table


def _percentiles(made: Any) -> Any:
    import numpy as np

    return np.percentile(made, [5, 25, 50, 75, 95], axis=1)


def trials(
    read_trials: ReadTrials,
    names: list[str],
    pair: JointDistribution | None,
    ranking: pd.DataFrame | None,
    asked: TableSpec = DEFAULT,
) -> Report:
    """Return the figures of columns of trials, how two go together, and which others go with the
    first.
    """
    parts: list[RenderableType] = [_column(read_trials, name, asked) for name in names]
    if asked.conditions:
        parts.append(conditions_table(read_trials, asked.conditions))
    if pair is not None:
        parts.append(_pair(pair))
    if ranking is not None and len(ranking):
        table = table_of(
            f"What goes with {names[0]}", "column", "rank correlation", "share of variance"
        )
        for other, row in ranking.iterrows():
            table.add_row(
                str(other),
                f"{row['rank correlation']:.2f}",
                per_cent(max(row["first-order share"], 0.0)),
            )
        parts.append(table)
    spaced: list[RenderableType] = [item for part in parts for item in (part, "")]
    if read_trials.notes:
        spaced.append(Text("\n".join(f"{note}." for note in read_trials.notes), style="dim"))
    figures = outcome_table(read_trials, asked)

    def facts() -> Any:
        plain: dict[str, Any] = {
            "file": read_trials.source,
            "trials": read_trials.size,
            "notes": list(read_trials.notes),
            "columns": {name: _figures(figures.loc[[name]].droplevel(0)) for name in names},
        }
        plain |= chances_asked(read_trials, asked)
        return plain_value(plain | ({} if pair is None else {"together": _figures(pair.table())}))

    def draws() -> Draws:
        from kindynos.plots import distribution

        return {name: partial(distribution, read_trials[name]) for name in names}

    def page() -> Draws:
        from kindynos.plots.scatter import scatter_of

        return {} if pair is None else {"scatter": partial(scatter_of, pair)}

    sentences = [*read_answer(read_trials, names), *asked_sentences(read_trials, asked, names)]
    return Report.of(
        [*opening(sentences), *spaced],
        kind="read",
        result=read_trials,
        view=lambda report: trials_view(report, read_trials, pair),
        facts=facts,
        tables=lambda: only_files(
            trials=figures, **({} if pair is None else {"together": pair.table()})
        ),
        figures=draws,
        pages=page,
    )


def _figures(table: pd.DataFrame) -> dict[str, Any]:
    """Return figures with the ends of their intervals by name."""
    ends = table[["value", "low", "high"]]
    return {str(name): row for name, row in zip(ends.index, ends.to_dict("records"), strict=True)}


def _column(read_trials: ReadTrials, name: str, asked: TableSpec) -> FigureTable:
    result = read_trials[name]
    unit = f", {result.unit}" if result.unit else ""
    table = table_of(f"{name}{unit}: {result.size:,} trials", "statistic", "value", "± 95 %")
    for figure in reported_figures(result, asked):
        value, error = shown(figure.estimate, figure.kind, result.unit)
        error = Cell.of("") if figure.name in ("lowest", "highest") else error
        table.add_row(label(figure, result.unit), value, error)
    low, high = (brief(in_unit(float(end), result.unit)) for end in result.central_range(0.80))
    table.add_row("80 % of trials lie", Cell.of(low, " to ", high), "")
    return table


def _pair(pair: JointDistribution) -> FigureTable:
    table = table_of(f"{pair.y.name} against {pair.x.name}", "", "value", "95 % interval")
    at_x, at_y = (
        threshold(cut, side.unit) for cut, side in zip(pair.cuts, (pair.x, pair.y), strict=True)
    )
    for (item, two), share in pair.quadrants.items():
        words = f"{pair.x.name} {item} {at_x}, {pair.y.name} {two} {at_y}"
        table.add_row(words, per_cent(float(share)), share_range(share.low, share.high))
    if pair.without_value is not None:
        lacking = pair.without_value
        ends = share_range(lacking.low, lacking.high)
        table.add_row("one of the two has no value", per_cent(float(lacking)), ends)
    correlation = pair.correlation
    ends = Cell.of(number(correlation.low, 0.01), " to ", number(correlation.high, 0.01))
    table.add_row("rank correlation", number(float(correlation), 0.01), ends)
    left = f"share of the variance of {pair.y.name} that {pair.x.name} leaves open"
    ends = share_range(max(pair.scatter.low, 0.0), pair.scatter.high)
    table.add_row(left, per_cent(max(float(pair.scatter), 0.0)), ends)
    return table


def track_record(record: TrackRecord) -> Report:
    """Return how past forecasts have done, for all, each forecaster and each kind."""
    table = table_of(
        f"Track record of {len(record.cases):,} forecasts",
        "",
        "cases",
        "inside",
        "should be",
        "above median",
        "bias",
        "widening",
        "skill",
    )
    for name, row in record.table().iterrows():
        shares = (_interval(row, label, 100, 0, " %") for label in ("inside", "above"))
        inside, above = shares
        few = math.isnan(row["widening"])
        told = (
            ["too few to tell", "", ""]
            if few
            else [
                _interval(row, "bias", 1, 2),
                _interval(row, "widening", 1, 2),
                _interval(row, "skill", 100, 0, " %"),
            ]
        )
        nominal = per_cent(float(row["should be inside"]), 0)
        table.add_row(str(name), f"{row['cases']:.0f}", inside, nominal, above, *told)
    how = (
        "Figures in brackets are 95 % intervals. Bias and widening are in reaches of the stated "
        "range; skill is the loss (CRPS) saved against a forecast that knows only how far off the "
        "others were."
    )
    parts: list[RenderableType] = [Text(" ".join(record.sentences()), style="bold"), "", table]
    parts += [Text("\n".join([how, *record.notes]), style="dim")]
    return Report.of(
        parts,
        kind="track-record",
        facts=lambda: {"said": record.sentences()},
        tables=lambda: {
            "record": DataTable(record.table().rename_axis("of"), "record", "track-record")
        },
        figures=lambda: {"track-record": record.plot},
        view=lambda report: charts_view(report, of_fits.of_record(record)),
    )


def _interval(row: pd.Series, label: str, times: float, decimals: int, unit: str = "") -> str:
    """Return a figure with its interval in brackets."""
    low, value, high = (
        f"{times * row[key]:.{decimals}f}" for key in (f"{label} low", label, f"{label} high")
    )
    return f"{value}{unit} ({low} to {high})"
