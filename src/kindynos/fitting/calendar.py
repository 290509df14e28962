"""Days of trading and holidays as regressors of a series, which are known ahead."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from kindynos.errors import DataWarning, ParameterError
from kindynos.fitting.dates import DatedSeries, dated_series
from kindynos.tables.reader import read_table
from kindynos.validate import Horizon, checked, mapping, one_of

if TYPE_CHECKING:
    import pandas as pd

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday")
DAYS = ("working", "each", "none")


@checked
def calendar_regressors(
    series: Any,
    ahead: Horizon = 24,
    days: str = "working",
    holidays: Mapping[str, Iterable[Any]] | None = None,
    *,
    every: str | None = None,
) -> pd.DataFrame:
    """Return regressors that the calendar alone decides, for ``exog`` of ``Arima.fit`` and
    ``fit_series``: one row for each period of a dated series and ``ahead`` more.

    ``days`` of a month, quarter or year: "working" gives one column, working days - 5/2 weekend
    days, which is 0 in a period of whole weeks; "each" gives six, Mondays - Sundays to Saturdays -
    Sundays; "none" gives none. ``holidays`` are dates by name, such as {"Easter": ["2027-03-28",
    "2028-04-16"]}: a column for each name counts them in the period; give those ahead too. A
    DataWarning names the years for which a holiday has no date, since it counts as none there. Of
    days and weeks (a date is the week's first day) there are holidays only. Raises ParameterError
    for a series without dates.

    Source: Bell and Hillmer, Journal of the American Statistical Association 78 (1983), 526-534.

    >>> import pandas as pd
    >>> months = pd.Series([1.0, 2.0, 3.0], pd.date_range("2027-01-01", periods=3, freq="MS"))
    >>> calendar_regressors(months, ahead=1)["working days"].tolist()
    [-4.0, 0.0, 3.0, 2.0]
    """
    import pandas as pd

    one_of("days", days, DAYS)
    dated = dated_series(series, every)
    if dated.dates is None:
        raise ParameterError("needs a series with dates as its index")
    dates = dated.dates.append(dated.after(ahead))
    begins, ends = _bounds(dated, dates)
    by_name: dict[str, Any] = {}
    if dated.every in ("month", "quarter", "year") and days != "none":
        counts = np.array([_weekdays(begins, ends, day) for day in range(7)], dtype=np.float64)
        if days == "working":
            by_name["working days"] = counts[:5].sum(axis=0) - 2.5 * counts[5:].sum(axis=0)
        else:
            by_name = {f"{label}s": counts[i] - counts[6] for i, label in enumerate(WEEKDAYS)}
    of_name = {} if holidays is None else mapping("holidays", holidays, "dates by name")
    for name, given in of_name.items():
        by_name[str(name)] = _counted(str(name), given, begins, ends)
    if not by_name:
        raise ParameterError(
            f"a series of one value per {dated.every} has no regressors of days; name holidays"
        )
    return pd.DataFrame(by_name, index=dates)


def holidays_in(source: str | Path) -> dict[str, list[Any]]:
    """Return the dates of each holiday in a table with the columns holiday and date; raises
    FileError for a file that cannot be read so.
    """
    table = read_table(source)
    names, dates = table.texts(table.named("holiday")), table.dates("date")
    holidays: dict[str, list[Any]] = {}
    for name, date in zip(names, dates, strict=True):
        holidays.setdefault(name, []).append(date)
    return holidays


def _bounds(dated: DatedSeries, dates: Any) -> tuple[Any, Any]:
    """Return the first day of each period, and the first day after it."""
    codes = {"month": "M", "quarter": "Q", "year": "Y"}
    if dated.every in codes:
        periods = dates.to_period(codes[dated.every])
        begins, after = periods.to_timestamp(), (periods + 1).to_timestamp()
    else:
        import pandas as pd

        begins = dates.normalize()
        after = begins + pd.Timedelta(days=7 if dated.every == "week" else 1)
    return begins.to_numpy().astype("datetime64[D]"), after.to_numpy().astype("datetime64[D]")


def _weekdays(begins: Any, ends: Any, day: int) -> Any:
    """Return how often a day of the week, 0 for Monday, lies in each period."""
    mask = [position == day for position in range(7)]
    return np.busday_count(begins, ends, weekmask=mask)


def _counted(name: str, given: Iterable[Any], begins: Any, ends: Any) -> Any:
    """Return the number of holidays in each period."""
    import pandas as pd

    if isinstance(given, str):
        given = [given]
    try:
        days = pd.DatetimeIndex(list(given)).to_numpy().astype("datetime64[D]")
    except (TypeError, ValueError):
        raise ParameterError(f"holidays[{name!r}] must be dates, such as '2027-03-28'") from None
    days = np.sort(days)
    counts = np.searchsorted(days, ends) - np.searchsorted(days, begins)
    if not counts.any():
        raise ParameterError(f"none of the holidays {name!r} lies in the periods of the series")
    uncovered = _uncovered_years(days, begins, ends)
    if uncovered:
        warnings.warn(
            f"the holiday {name!r} has no date in {uncovered}, and counts as none there",
            DataWarning,
            stacklevel=3,
        )
    return counts.astype(np.float64)


def _uncovered_years(days: Any, begins: Any, ends: Any) -> str:
    """Return the years of the periods in which no holiday lies, as ranges; a year that the
    periods hold only in part is left out.
    """
    given = set(days.astype("datetime64[Y]").astype(int).tolist())
    first, after = begins[0], ends[-1]
    years = range(int(first.astype("datetime64[Y]").astype(int)), 10_000)
    missing = []
    for year in years:
        start = np.datetime64(f"{1970 + year}-01-01")
        if start >= after:
            break
        whole = start >= first and start + np.timedelta64(365, "D") <= after
        if whole and year not in given:
            missing.append(1970 + year)
    runs = np.split(missing, np.flatnonzero(np.diff(missing) > 1) + 1) if missing else []
    spans = [f"{run[0]}" if len(run) == 1 else f"{run[0]} to {run[-1]}" for run in runs]
    return ", ".join(spans)
