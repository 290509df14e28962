"""Reading prices strictly: what cannot be a price is refused or reported, with its row, and never
guessed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.spacing import SPACINGS, DateSpacing, spacing_of
from kindynos.tables.table import Table
from kindynos.validate import instance, names_in, one_of, positive, words

POLICIES = ("drop", "carry", "error")
LONG = {"date", "instrument", "price"}
# times its neighbours: a price that far off, which are near each other, looks like a slip of the
# decimal point
SLIP = 8.0
MOST_NAMED = 5


Rows = dict[Any, int]  # the row of each date, or of each date and instrument


@dataclass(frozen=True, eq=False)
class Prices:
    """Prices by date (rows) and instrument (columns), complete and above 0.

    ``problems`` lists what was found on reading: row, date, instrument and what is wrong;
    ``missing`` is the policy that filled or dropped the gaps, and ``description`` says what it did.
    ``raw`` has the prices before that, and ``notes`` say how the file was read. ``spacing`` is how
    far the dates lie apart, from which units, horizons and yearly figures follow.
    """

    frame: pd.DataFrame
    missing: str
    description: str
    problems: pd.DataFrame
    raw: pd.DataFrame = field(repr=False)
    source: str = "prices"
    notes: tuple[str, ...] = ()
    per_year: float | None = None  # where the market's own number of dates a year is stated

    @property
    def instruments(self) -> list[str]:
        """The names of the instruments."""
        return [str(name) for name in self.frame.columns]

    @property
    def dates(self) -> pd.DatetimeIndex:
        """The dates."""
        return pd.DatetimeIndex(self.frame.index)

    @cached_property
    def spacing(self) -> DateSpacing:
        """How far the dates lie apart, with the number of them in a year."""
        found = spacing_of(self.dates)
        return found if self.per_year is None else replace(found, per_year=self.per_year)

    def every(self, period: str | None) -> Prices:
        """Return the last price of each "week", "month", "quarter" or "year"; as they are for None
        or their own spacing.

        A week ends on the last day of trading, other periods on their last day, by which the prices
        are dated. A last period that is not over is left out, which ``description`` tells. Raises
        ParameterError for a period that is shorter than the prices lie apart, and for too few
        prices.
        """
        if period is None:
            return self
        one_of("prices", "every", period, tuple(SPACINGS))
        longer = SPACINGS[period]
        if longer.unit == self.spacing.unit:
            return self
        if longer.finer_than(self.spacing):
            own = self.spacing
            apart = "irregular" if own.name == "irregular" else f"one {own.unit} apart"
            raise ParameterError(
                f"the prices are {apart}; they have no returns for every {period}",
                owner=self.source,
            )
        last = self.dates[-1]
        periods = self.spacing.periods(self.dates, period)
        frame = self.frame.groupby(periods).last()
        ends = pd.PeriodIndex(frame.index).end_time.normalize()
        frame.index = pd.DatetimeIndex(ends, name="date")
        description = self.description
        following = pd.DatetimeIndex([self.spacing.after(last)])
        if self.spacing.periods(following, period)[0] == periods[-1]:
            frame = frame.iloc[:-1]
            description += f"; the {period} of {last:%Y-%m-%d}, which is not over, left out"
        empty = (periods[-1] - periods[0]).n + 1 - periods.nunique()
        if empty:
            description += f"; {empty} {period}s without prices, over which one return spans"
        if len(frame) < 2:
            raise ParameterError(
                f"{len(frame)} prices each {period} are too few for a return", owner=self.source
            )
        return replace(self, frame=frame, raw=frame, description=description, per_year=None)

    @property
    def stale(self) -> str:
        """Which instruments' prices end before those of the others, so that "today" lies back; ""
        where none do.
        """
        last = self.raw.index[self.raw.notna().any(axis=1)][-1]
        if self.dates[-1] == last:
            return ""
        ended = [str(name) for name in self.raw.columns if self.raw[name].last_valid_index() < last]
        return (
            f"today is {self.dates[-1]:%Y-%m-%d}: no later price of {', '.join(ended)}; others "
            f"run to {last:%Y-%m-%d}"
        )

    def __repr__(self) -> str:
        span = f"{self.dates[0]:%Y-%m-%d} to {self.dates[-1]:%Y-%m-%d}"
        return (
            f"<prices of {', '.join(self.instruments)}: {len(self.frame):,} dates, {span}; "
            f"{self.description}>"
        )

    def _with_raw(self, raw: pd.DataFrame) -> Prices:
        """Return other raw prices of the same dates, with the same policy and problems."""
        return _settled(raw, self.missing, self.problems, self.source, self.notes, self.per_year)

    def subset(self, instruments: Iterable[str]) -> Prices:
        """Return the prices of some instruments, with the same policy; raises ParameterError for an
        unknown one.
        """
        names = names_in("prices", "instruments", instruments)
        for name in names:
            if not isinstance(name, str) or name not in self.raw.columns:
                raise ParameterError(
                    f"no instrument {name!r:.60}",
                    owner=self.source,
                    unknown=name,
                    known=map(str, self.raw.columns),
                )
        return _settled(
            self.raw[names],
            self.missing,
            self.problems[self.problems["instrument"].isin(names)],
            self.source,
            self.notes,
            self.per_year,
        )


def read_prices(
    source: str | Path | pd.DataFrame,
    missing: str = "drop",
    instruments: Iterable[str] | None = None,
    *,
    per_year: float | None = None,
    sheet: str | None = None,
    header: int | None = None,
    encoding: str | None = None,
    decimal: str | None = None,
) -> Prices:
    """Return the prices of a file (CSV, Parquet, or Excel with ``kindynos[excel]``) or a DataFrame.

    Wide: a ``date`` and a column an instrument; long: ``date, instrument, price``, of which other
    columns are left out. Dates are written 2027-12-31, in any order, each once. Only the
    ``instruments`` named are read; default: all. Gaps, late listings, prices that are not
    above 0, and those that are eight times their neighbours or an eighth of them, are listed in
    ``problems``; ``missing="drop"`` leaves out dates on which any instrument has no price, "carry"
    goes on with the last one (dates before the last listing are left out), "error" refuses. How far
    the dates lie apart is found: days of a week of five or seven, weeks, months, quarters, years,
    or irregular; ``per_year`` states the dates in a year of a market that has its own. Raises
    FileError with file and row for text in a price, decimal commas, dates that cannot be read or
    stand twice, and files with too little.
    """
    one_of("read_prices", "missing", missing, POLICIES)
    if per_year is not None:
        positive("read_prices", "per_year", per_year)
    form = TableFormat.checked("read_prices", sheet, header, encoding, decimal)
    table = _raw_prices(source, form)
    name = table.file
    frame, rows = _wide(table, None if instruments is None else list(dict.fromkeys(instruments)))
    problems = _problems(frame, rows, name)
    values = frame.where(frame > 0)
    return _settled(values, missing, problems, name, table.notes, per_year)


def prices_of(owner: str, prices: Prices | pd.DataFrame) -> Prices:
    """Return prices, read from a DataFrame where one is given; raises ParameterError for anything
    else.
    """
    if isinstance(prices, pd.DataFrame):
        return read_prices(prices)
    return instance(
        owner,
        "prices",
        prices,
        Prices,
        "prices, as read_prices returns them, or a DataFrame of them",
    )


def _raw_prices(source: str | Path | pd.DataFrame, form: TableFormat) -> Table:
    """Return the table of prices, of which one column is named "date"."""
    if isinstance(source, pd.DataFrame):
        lacks_dates = "date" not in [str(c).lower() for c in source.columns]
        source = source.rename_axis(index="date").reset_index() if lacks_dates else source
        table = replace(read_table(source, form), file="prices")
        table = replace(table, rows=np.arange(len(table)) + 2)
    else:
        table = read_table(source, form)
    if len(table.names) < 2:
        raise FileError(
            f"needs a column of dates and at least one of prices; it has {len(table.names)} "
            "column(s)",
            file=table.file,
        )
    return table


def _date_column(table: Table) -> str:
    """Return the column named "date"; raises FileError, with the column that holds dates, where
    there is none.
    """
    for name in table.names:
        if name.lower() == "date":
            return name
    dated = table.date_column()
    advice = f"; name the column {dated!r}, which has dates, 'date'" if dated else ""
    raise FileError(
        f"no column 'date'; it has {', '.join(map(repr, table.names[:6]))}{advice}", file=table.file
    )


def _wide(table: Table, wanted: list[str] | None) -> tuple[pd.DataFrame, Rows]:
    """Return prices by date and instrument, and where each is in the file."""
    dated = _date_column(table)
    dates, rows = table.dates(dated), table.rows.tolist()
    by_name = {name.lower(): name for name in table.names}
    if by_name.keys() >= LONG:
        names = np.array(table.texts(by_name["instrument"]), dtype=object)
        keys = pd.DataFrame({"date": dates, "instrument": names})
        _check_single(keys.duplicated(), table, dates, names)
        keys["price"] = table.numbers(by_name["price"])
        frame = keys.pivot_table(
            index="date", columns="instrument", values="price", dropna=False, sort=True
        )
        known = list(dict.fromkeys(names))
        frame = frame[_chosen(wanted, known, table.file)]
        places: Rows = dict(zip(zip(dates, names, strict=True), rows, strict=True))
    else:
        _check_single(dates.duplicated(), table, dates)
        known = [name for name in table.names if name != dated]
        numbers = {name: table.numbers(name) for name in _chosen(wanted, known, table.file)}
        frame = pd.DataFrame(numbers, index=pd.DatetimeIndex(dates, name="date")).sort_index()
        places = dict(zip(dates, rows, strict=True))
    if len(frame) < 2:
        raise FileError(
            f"has {len(frame)} date{'' if len(frame) == 1 else 's'}; a return needs two",
            file=table.file,
        )
    frame.columns.name = None
    return frame, places


def _chosen(wanted: list[str] | None, known: list[str], file: str) -> list[str]:
    """Return the instruments that are asked for; raises ParameterError for one without prices."""
    for name in known:
        words("prices", "the name of an instrument", name)
    for instrument in wanted or ():
        if instrument not in known:
            raise ParameterError(
                f"no prices of {instrument!r}", owner=file, unknown=instrument, known=known
            )
    return known if wanted is None else wanted


def _check_single(twice: Any, table: Table, dates: Any, names: Any = None) -> None:
    """Raise FileError for the first date, or date of an instrument, that is there already."""
    twice = np.asarray(twice)
    if not twice.any():
        return
    place = int(twice.argmax())
    day = f"{dates[place]:%Y-%m-%d}"
    raise FileError(
        f"the date {day} is there already"
        if names is None
        else f"{names[place]} has a second price on {day}",
        file=table.file,
        row=int(table.rows[place]),
    )


def _row(rows: Rows, date: Any, instrument: Any) -> int | None:
    """Return the row of a price in the file; a long file has none for a price that is not there."""
    return rows.get((date, instrument), rows.get(date))


def _slips(values: Floats) -> NDArray[np.bool_]:
    """Return where a price is far from both its neighbours, which are near each other."""
    found = np.zeros(values.shape, dtype=bool)
    with np.errstate(invalid="ignore", divide="ignore"):
        before, after = (
            np.abs(np.log(values[1:-1] / values[:-2])),
            np.abs(np.log(values[1:-1] / values[2:])),
        )
        near = np.abs(np.log(values[2:] / values[:-2])) < np.log(SLIP) / 3
        found[1:-1] = near & (np.minimum(before, after) > np.log(SLIP))
    return found


def _problems(frame: pd.DataFrame, rows: Rows, name: str) -> pd.DataFrame:
    """Return what is wrong with single prices: late listings, gaps, slips, and prices that are not
    above 0.
    """
    values = frame.to_numpy()
    known = ~np.isnan(values)
    first = np.argmax(known, axis=0)
    with np.errstate(invalid="ignore"):
        lowest = np.where(known, values, np.inf).min(axis=0)
        highest = np.where(known, values, -np.inf).max(axis=0)
        doubtful = np.isinf(values) | ~(values > 0) & (np.arange(len(values))[:, None] >= first)
    for place in np.flatnonzero(
        (highest == np.inf) | (lowest == -np.inf) | (highest <= 0) | (lowest == highest)
    ).tolist():
        _check_instrument(frame.iloc[:, place], rows, name)
    found = []
    for place in np.flatnonzero(doubtful.any(axis=0) | (first > 0)).tolist():
        instrument, begin = frame.columns[place], frame.index[first[place]]
        if first[place] > 0:
            found.append(
                (
                    _row(rows, begin, instrument),
                    begin,
                    instrument,
                    f"listed late: no price on the {first[place]} dates before",
                )
            )
        for row in np.flatnonzero(doubtful[:, place]).tolist():
            value, date = values[row, place], frame.index[row]
            what = "no price" if np.isnan(value) else f"the price {value:g} is not above 0"
            found.append((_row(rows, date, instrument), date, instrument, what))
    for row, place in np.argwhere(_slips(values)).tolist():
        date, instrument = frame.index[row], frame.columns[place]
        before, value, after = (f"{figure:g}" for figure in values[row - 1 : row + 2, place])
        what = (
            f"the price {value} stands between {before} and {after}; the decimal point may "
            "have slipped"
        )
        found.append((_row(rows, date, instrument), date, instrument, what))
    return pd.DataFrame(found, columns=["row", "date", "instrument", "problem"])


def _check_instrument(values: pd.Series, rows: Rows, name: str) -> None:
    """Raise FileError for prices of an instrument from which nothing can be estimated."""
    if np.isinf(values).any():
        date = values.index[int(np.argmax(np.isinf(values.to_numpy())))]
        raise FileError(
            f"the price of {values.name!r} is not a finite number",
            file=str(name),
            row=_row(rows, date, values.name),
        )
    if not (values > 0).any():
        raise FileError(f"{values.name!r} has no price above 0", file=str(name))
    if values.count() > 1:
        raise FileError(
            f"all prices of {values.name!r} are equal, {values.dropna().iloc[0]:g}; it has no "
            "returns to fit to",
            file=str(name),
        )


def _settled(
    values: pd.DataFrame,
    missing: str,
    problems: pd.DataFrame,
    name: str,
    notes: tuple[str, ...],
    per_year: float | None,
) -> Prices:
    lacking = values.isna().any(axis=1)
    if missing == "error" and lacking.any():
        first = problems.head(MOST_NAMED).to_dict("records")
        named = "; ".join(
            f"row {p['row']}, {p['date']:%Y-%m-%d}, {p['instrument']}: {p['problem']}"
            for p in first
        )
        more = f"; and {len(problems) - MOST_NAMED} more" if len(problems) > MOST_NAMED else ""
        raise FileError(f"{named}{more}; say missing='drop' or 'carry'", file=str(name))
    frame = values.ffill().dropna() if missing == "carry" else values.dropna()
    if len(frame) < 2:
        raise FileError(
            f"{len(frame)} dates have a price of every instrument; two are needed", file=str(name)
        )
    if not lacking.any():
        description = "no price missing"
    elif missing == "drop":
        description = f"{int(lacking.sum())} dates left out, on which some price is missing"
    else:
        carried = int(values.loc[frame.index].isna().sum().sum())
        description = (
            f"{carried} missing prices carried on, {len(values) - len(frame)} dates "
            "before the last listing left out"
        )
    description += _long_gaps(pd.DatetimeIndex(frame.index))
    return Prices(
        frame,
        missing,
        "; ".join([description, *notes]),
        problems.reset_index(drop=True),
        values,
        name,
        notes,
        per_year,
    )


def _long_gaps(dates: pd.DatetimeIndex) -> str:
    """Return the gaps between dates that are longer than usual, in words."""
    spacing = spacing_of(dates)
    gaps = np.diff(dates.to_numpy()) / np.timedelta64(1, "D") > spacing.longest_gap
    if not gaps.any():
        return ""
    begin = dates[int(np.argmax(gaps))]
    usual = "week" if spacing.unit == "day" else spacing.unit
    if gaps.sum() == 1:
        return (
            f"; a stretch of more than a {usual} without prices counts as one return "
            f"(from {begin:%Y-%m-%d})"
        )
    return (
        f"; {int(gaps.sum())} stretches of more than a {usual} without prices count as one return "
        f"each (from {begin:%Y-%m-%d})"
    )


def checked_date(owner: str, name: str, value: Any) -> pd.Timestamp:
    """Return a date; raises ParameterError for anything else."""
    try:
        date = pd.Timestamp(value)
        if pd.isna(date):
            raise ValueError
    except (ValueError, TypeError):
        raise ParameterError(
            f"{name} must be a date such as 2027-12-31, not {value!r:.40}", owner=owner
        ) from None
    return date.tz_localize(None).normalize()
