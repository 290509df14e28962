"""The track record of opinions: past forecasts as ranges, with what came.

The score of a case is how far what came lies from the stated median, in units of the reach of
its side (the distance of the 10th or the 90th percentile over 1.2816). Of a forecaster whose ranges
are right the scores are standard normal; their mean is the bias, their sd the widening that would
have been right.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.canvas import Axes
from kindynos.delegation import Reported, delegated_to
from kindynos.distributions.recalibrated import OUTER
from kindynos.distributions.smooth import SmoothPercentiles, smooth_percentiles
from kindynos.distributions.special import ndtri
from kindynos.errors import FileError, KindynosError, ParameterError
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z, t_point, wilson
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.table import Table, counted
from kindynos.validate import checked, finite, listed

if TYPE_CHECKING:
    import pandas as pd

MOST_PARTS, FEWEST_A_PART = 10, 4  # of the range of a forecast, and outcomes
FEWEST = 10  # the fewest cases for a bias and a widening
LEVELS = (np.arange(199) + 0.5) / 199  # at which a forecast is scored
NAMES = {
    "actual": ("actual", "came"),
    "low": ("low",),
    "likely": ("likely", "mode"),
    "high": ("high",),
}
_PERCENTILE = re.compile(r"p(\d+(?:\.\d+)?)", re.IGNORECASE)


@dataclass(frozen=True)
class Case:
    """One forecast, and what came."""

    forecaster: str
    kind: str
    percentiles: tuple[tuple[float, float], ...]
    actual: float

    @cached_property
    def forecast(self) -> SmoothPercentiles:
        """The smooth distribution that has the percentiles."""
        return smooth_percentiles(dict(self.percentiles))

    @cached_property
    def middle(self) -> float:
        """The stated median."""
        return float(self.forecast.quantile(0.5))

    @cached_property
    def score(self) -> float:
        """How far what came lies from the median, in units of the reach of its side."""
        low, high = (float(self.forecast.quantile(level)) for level in OUTER)
        gap = self.actual - self.middle
        reach = (high - self.middle if gap > 0 else self.middle - low) / float(ndtri(OUTER[1]))
        return gap / reach

    @property
    def inside(self) -> bool:
        """Whether what came lies between the outermost percentiles that were stated."""
        return self.percentiles[0][1] <= self.actual <= self.percentiles[-1][1]

    @property
    def nominal(self) -> float:
        """The chance that it should have."""
        return (self.percentiles[-1][0] - self.percentiles[0][0]) / 100

    @property
    def level(self) -> float:
        """The level of the forecast at which what came lies (the probability integral
        transform).
        """
        return float(self.forecast.cdf(self.actual))

    @cached_property
    def loss(self) -> float:
        """The continuous ranked probability score: the mean over all levels of twice the loss of
        the quantile. Source: Gneiting and Raftery, JASA 102 (2007), 359-378.
        """
        return ranked_loss(np.asarray(self.forecast.quantile(LEVELS)), self.actual)


def ranked_loss(quantiles: Floats, actual: float) -> float:
    """Return the score of a forecast by its quantiles at LEVELS."""
    return float(2 * np.mean(((actual < quantiles) - LEVELS) * (quantiles - actual)))


@dataclass(frozen=True, repr=False)
class TrackRecord(Reported):
    """How past opinions have done; see ``track_record``.

    ``cases`` are the forecasts with what came, ``notes`` what was left out.
    """

    cases: tuple[Case, ...]
    notes: tuple[str, ...] = ()

    def __repr__(self) -> str:
        told = f", widening {self.widening}" if self.enough else ": too few to tell"
        return f"<track record of {len(self.cases):,} forecasts{told}>"

    @checked
    def of(self, forecaster: str | None = None, kind: str | None = None) -> TrackRecord:
        """Return the record of one forecaster, or of one kind of forecast; raises ParameterError,
        with the nearest spelling, for one that is not there.
        """
        kept = self.cases
        for what, requested in (("forecaster", forecaster), ("kind", kind)):
            if requested is None:
                continue
            ordered = sorted({getattr(case, what) for case in self.cases})
            if requested not in ordered:
                raise ParameterError(
                    f"no {what} {requested!r:.60}", unknown=requested, known=ordered
                )
            kept = tuple(case for case in kept if getattr(case, what) == requested)
        if not kept:
            raise ParameterError(f"{forecaster!r} has no forecast of {kind!r}")
        return TrackRecord(kept)

    @property
    def enough(self) -> bool:
        """Whether there are enough cases to tell a bias and a widening."""
        return len(self.cases) >= FEWEST

    @cached_property
    def scores(self) -> Floats:
        """The scores of all cases, ``(cases,)``."""
        return np.array([case.score for case in self.cases])

    @property
    def inside(self) -> Estimate:
        """The share of cases inside the outermost percentiles stated, with Wilson's interval."""
        share = float(np.mean([case.inside for case in self.cases]))
        return Estimate(share, *wilson(share, len(self.cases)))

    @property
    def nominal(self) -> float:
        """The share that should lie inside."""
        return math.fsum(case.nominal for case in self.cases) / len(self.cases)

    @property
    def above(self) -> Estimate:
        """The share of cases above the stated median, with Wilson's interval."""
        share = float(np.mean(self.scores > 0))
        return Estimate(share, *wilson(share, len(self.cases)))

    @cached_property
    def bias(self) -> Estimate:
        """The shift that would have been right, in reaches of the range: above 0 where more came
        than was said. NaN for fewer than 10 cases.
        """
        if not self.enough:
            return Estimate(math.nan)
        count, mean = len(self.cases), float(self.scores.mean())
        reach = t_point(count - 1) * float(self.scores.std(ddof=1)) / math.sqrt(count)
        return symmetrical(mean, reach)

    @cached_property
    def widening(self) -> Estimate:
        """The factor by which ranges should have been wider; NaN for fewer than 10 cases.

        Its interval holds for scores that are not normal too. Source: Bonett, Computational
        Statistics & Data Analysis 50 (2006), 775-782.
        """
        if not self.enough:
            return Estimate(math.nan)
        x, n = self.scores, len(self.cases)
        variance = float(x.var(ddof=1))
        trimmed = np.sort(x)
        cut = int(n / (2 * math.sqrt(n - 4)))
        middle = trimmed[cut : n - cut].mean()
        kurtosis = n * float(((x - middle) ** 4).sum()) / float(((x - x.mean()) ** 2).sum()) ** 2
        small = n / (n - Z)
        error = small * math.sqrt((kurtosis - (n - 3) / n) / (n - 1))
        centre = math.log(small * variance)
        low, high = (math.exp((centre + side * Z * error) / 2) for side in (-1, 1))
        return Estimate(math.sqrt(variance), low, high)

    @cached_property
    def skill(self) -> Estimate:
        """By how much the forecasts' score (CRPS) is better than that of a plain reference: 0.2 is
        a fifth less loss, below 0 they are worse.

        The reference knows only how far off the stated medians of the other cases were. NaN for
        fewer than 10 cases; the interval is a jackknife.
        """
        if not self.enough:
            return Estimate(math.nan)
        own = np.array([case.loss for case in self.cases])
        reference = self._reference_losses()
        scale = np.abs([case.middle for case in self.cases]) if self._in_ratios else 1.0
        own, reference = own / scale, reference / scale
        count, value = len(own), 1 - float(own.sum() / reference.sum())
        left_out = 1 - (own.sum() - own) / (reference.sum() - reference)
        spread = math.sqrt((count - 1) / count * float(((left_out - left_out.mean()) ** 2).sum()))
        reach = t_point(count - 1) * spread
        return symmetrical(value, reach)

    @property
    def _in_ratios(self) -> bool:
        """Whether all medians and all that came are amounts above 0, which compare by ratios."""
        return all(case.middle > 0 and case.actual > 0 for case in self.cases)

    def _reference_losses(self) -> Floats:
        middles = np.array([case.middle for case in self.cases])
        came = np.array([case.actual for case in self.cases])
        off = came / middles if self._in_ratios else came - middles
        losses = []
        for position, middle in enumerate(middles):
            others = np.delete(off, position)
            quantiles = np.quantile(others, LEVELS)
            scaled = quantiles * middle if self._in_ratios else quantiles + middle
            losses.append(ranked_loss(scaled, float(came[position])))
        return np.array(losses)

    def table(self) -> pd.DataFrame:
        """Return a row for all cases, each forecaster and each kind: how many, the share inside and
        the share that should be, the share above the median, bias, widening and skill, each with
        its error.
        """
        import pandas as pd

        groups: dict[str, TrackRecord] = {"all": self}
        for what in ("forecaster", "kind"):
            names = sorted({getattr(case, what) for case in self.cases} - {""})
            if len(names) > 1:
                groups |= {f"{what} {name}": self.of(**{what: name}) for name in names}
        rows = {}
        for name, record in groups.items():
            row: dict[str, float] = {"cases": len(record.cases), "should be inside": record.nominal}
            for label in ("inside", "above", "bias", "widening", "skill"):
                figure = getattr(record, label)
                row |= {
                    label: float(figure),
                    f"{label} low": figure.low,
                    f"{label} high": figure.high,
                }
            rows[name] = row
        return pd.DataFrame.from_dict(rows, orient="index")

    def sentences(self) -> list[str]:
        """What the record says, in one to three sentences."""
        count, share = len(self.cases), self.inside
        said = [
            f"{100 * share:.0f} % of {count:,} outcomes lie inside the stated ranges, and "
            f"{100 * self.nominal:.0f} % should (95 % interval {100 * share.low:.0f} to "
            f"{100 * share.high:.0f})."
        ]
        if not self.enough:
            return [*said, f"{count:,} cases are too few to tell by how much; {FEWEST} are needed."]
        wide, bias = self.widening, self.bias
        if wide.low > 1:
            said.append(f"The ranges should have been {wide} times as wide.")
        elif wide.high < 1:
            said.append(f"The ranges could have been narrower: {wide} times as wide.")
        else:
            said.append(f"Whether the ranges are too narrow cannot be told: {wide} times as wide.")
        if bias.low > 0 or bias.high < 0:
            more = "more" if bias > 0 else "less"
            size = f"{abs(float(bias)):.2f} ± {bias.error:.2f}"
            said.append(f"What came was {more} than was said, by {size} of a range's reach.")
        return said

    @delegated_to("kindynos.plots", "track_record")
    def plot(self, ax: Axes | None = None) -> Axes:
        """Draw where outcomes fell in their forecasts, with the band that chance allows; return the
        Matplotlib axes.
        """


def outcomes_by_part(record: TrackRecord) -> tuple[Floats, NDArray[np.int64], tuple[float, float]]:
    """Return the edges of equally likely parts of a forecast, how many outcomes fell into each, and
    the ends between which 95 of 100 such counts of right forecasts lie.
    """
    from scipy.stats import binom

    count = len(record.cases)
    parts = min(max(count // FEWEST_A_PART, 2), MOST_PARTS)
    edges = np.linspace(0, 1, parts + 1)
    counts, _ = np.histogram([case.level for case in record.cases], edges)
    low, high = binom.ppf((0.025, 0.975), count, 1 / parts)
    return edges, counts, (float(low), float(high))


def widening_of(record: TrackRecord | str | Path) -> tuple[float, str]:
    """Return by how much ranges should have been wider in a track record, or its file, and how that
    is known; raises ParameterError for fewer than 10 cases.
    """
    told = record if isinstance(record, TrackRecord) else track_record(record)
    factor = told.widening
    if not told.enough:
        raise ParameterError(
            f"the record has {len(told.cases)} cases; {FEWEST} are needed to tell a widening"
        )
    ends = f"{factor.low:.2g} to {factor.high:.2g}"
    return round(float(factor), 2), (
        f"Ranges are {factor.value:.2g} times as wide ({ends}), as those of {len(told.cases)} past "
        "forecasts should have been"
    )


@checked
def track_record(
    table: str | Path | pd.DataFrame, ends: tuple[float, float] = (10.0, 90.0), **form: Any
) -> TrackRecord:
    """Return the track record of past forecasts in a table, a file or a DataFrame, one per row.

    Columns ``P10``, ``P50``, ``P90`` and the like are percentiles; or ``low``, ``likely`` and
    ``high`` are the percentiles ``ends`` and the 50th. ``actual`` is what came; ``forecaster`` and
    ``kind`` group the cases. Rows without what came are left out, with a note. ``form`` are
    options of the reader, such as ``sheet`` or ``decimal``. Raises FileError, with the row, for
    a table that cannot be used so, and ParameterError for other ends.

    >>> import pandas as pd
    >>> past = pd.DataFrame({"low": [8.0, 10.0], "likely": [10.0, 14.0], "high": [13.0, 17.0],
    ...                      "actual": [14.0, 13.0]})
    >>> track_record(past).inside
    0.50 ± 0.41
    """
    levels_of_ends = [finite("ends", end) for end in listed(ends)]
    if len(levels_of_ends) != 2 or not 0 < levels_of_ends[0] < 50 < levels_of_ends[1] < 100:
        raise ParameterError(f"ends must be percentiles on either side of 50, not {ends!r:.60}")
    read = read_table(table, TableFormat.checked(**form))
    columns = {name.lower(): name for name in read.names}
    levels = _levels(read, columns, levels_of_ends)
    came = read.numbers(_column(read, columns, "actual"))
    stated = {level: read.numbers(name) for level, name in levels.items()}
    texts = {
        what: read.texts(columns[what]) if what in columns else [""] * len(read)
        for what in ("forecaster", "kind")
    }
    cases, missing = [], []
    for position, row in enumerate(read.rows.tolist()):
        pairs = [
            (level, float(values[position]))
            for level, values in sorted(stated.items())
            if not math.isnan(values[position])
        ]
        if math.isnan(came[position]):
            missing.append(row)
            continue
        case = Case(
            texts["forecaster"][position],
            texts["kind"][position],
            tuple(pairs),
            float(came[position]),
        )
        try:
            if len(pairs) < 2:
                raise ParameterError("a forecast needs two percentiles or more")
            _ = case.score
        except KindynosError as error:
            raise FileError(error.problem, file=read.file, row=row) from None
        cases.append(case)
    if not cases:
        raise FileError("no forecast has what came beside it", file=read.file)
    notes = [f"{counted(len(missing), 'forecast')} without what came left out"] if missing else []
    return TrackRecord(tuple(cases), (*read.notes, *notes))


def _levels(table: Table, columns: dict[str, str], ends: Sequence[float]) -> dict[float, str]:
    """Return the column of each percentile."""
    by_name = {
        float(match[1]): name
        for lower, name in columns.items()
        if (match := _PERCENTILE.fullmatch(lower)) is not None
    }
    if by_name:
        return by_name
    names: Sequence[str] = ("low", "likely", "high")
    levels = (ends[0], 50.0, ends[1])
    return {level: _column(table, columns, name) for level, name in zip(levels, names, strict=True)}


def _column(table: Table, columns: dict[str, str], name: str) -> str:
    for other in NAMES[name]:
        if other in columns:
            return columns[other]
    raise FileError(
        f"needs a column {name}; a track record has percentiles such as P10, P50 and P90, or low, "
        "likely and high, and actual",
        file=table.file,
        unknown=name,
        known=table.names,
    )
