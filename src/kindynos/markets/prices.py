"""Reading prices strictly: what cannot be a price is refused or reported, with its row, and never
guessed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import FileError, ParameterError
from kindynos.table_files import read_table
from kindynos.validate import instance, one_of

POLICIES = ("drop", "carry", "error")
ISO = re.compile(r"\d{4}-\d{2}-\d{2}")
LONG = {"date", "instrument", "price"}
# times its neighbours: a price that far off, which are near each other, looks like a slip of the
# decimal point
SLIP = 8.0
LONG_GAP = pd.Timedelta(days=7)  # between dates that follow each other
MOST_NAMED = 5
EMPTY = ("", "nan", "none", "na", "n/a", "<na>")


Rows = dict[Any, int]  # the row of each date, or of each date and instrument


@dataclass(frozen=True, eq=False)
class Prices:
    """Prices by date (rows) and instrument (columns), complete and above 0.

    ``problems`` lists what was found on reading: row, date, instrument and what is wrong;
    ``missing`` is the policy that filled or dropped the gaps, and ``said`` shows what it did.
    ``raw`` has the prices before that.
    """

    frame: pd.DataFrame
    missing: str
    description: str
    problems: pd.DataFrame
    raw: pd.DataFrame = field(repr=False)
    source: str = "prices"

    @property
    def instruments(self) -> list[str]:
        """The names of the instruments."""
        return [str(name) for name in self.frame.columns]

    @property
    def dates(self) -> pd.DatetimeIndex:
        """The dates."""
        return pd.DatetimeIndex(self.frame.index)

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

    def with_raw(self, raw: pd.DataFrame) -> Prices:
        """Return other raw prices of the same dates, with the same policy and problems."""
        return _settled(raw, self.missing, self.problems, self.source)

    def subset(self, instruments: Iterable[str]) -> Prices:
        """Return the prices of some instruments, with the same policy; raises ParameterError for an
        unknown one.
        """
        names = list(instruments)
        for name in names:
            if name not in self.raw.columns:
                raise ParameterError(
                    f"no instrument {name!r}",
                    owner=self.source,
                    unknown=name,
                    known=map(str, self.raw.columns),
                )
        return _settled(
            self.raw[names],
            self.missing,
            self.problems[self.problems["instrument"].isin(names)],
            self.source,
        )


def read_prices(
    source: str | Path | pd.DataFrame,
    missing: str = "drop",
    instruments: Iterable[str] | None = None,
) -> Prices:
    """Return the prices of a file (CSV, Parquet, or Excel with ``kindynos[excel]``) or a DataFrame.

    Wide: a ``date`` and a column an instrument; long: ``date, instrument, price``, of which other
    columns are left out. Dates are written 2027-12-31, in any order, each once. Only the
    ``instruments`` named are read; default: all. Gaps, late listings, prices that are not
    above 0, and those that are eight times their neighbours or an eighth of them, are listed in
    ``problems``; ``missing="drop"`` leaves out dates on which any instrument has no price, "carry"
    goes on with the last one (dates before the last listing are left out), "error" refuses. Raises
    FileError with file and row for text in a price, decimal commas, dates that cannot be read or
    stand twice, and files with too little.
    """
    one_of("read_prices", "missing", missing, POLICIES)
    table, name = _raw_prices(source)
    frame, rows = _wide(table, name)
    if instruments is not None:
        wanted = list(dict.fromkeys(instruments))
        for instrument in wanted:
            if instrument not in frame.columns:
                raise ParameterError(
                    f"no prices of {instrument!r}",
                    owner=name,
                    unknown=instrument,
                    known=map(str, frame.columns),
                )
        frame = frame[wanted]
    problems = _problems(frame, rows, name)
    values = frame.where(frame > 0)
    return _settled(values, missing, problems, name)


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


def _raw_prices(source: str | Path | pd.DataFrame) -> tuple[pd.DataFrame, str]:
    """Return a table of text or numbers whose index is the row in the file, and the name to say."""
    if isinstance(source, pd.DataFrame):
        table, name = source, "prices"
    else:
        path, name = Path(source), str(source)
        table = read_table(path)
    indexed = (
        isinstance(source, pd.DataFrame)
        or isinstance(table.index, pd.DatetimeIndex)
        or table.index.name == "date"
    )
    table = (
        table.reset_index()
        if indexed and "date" not in [str(c).lower() for c in table.columns]
        else table.copy()
    )
    if table.shape[1] < 2:
        raise FileError(
            f"needs a column of dates and at least one of prices; it has {table.shape[1]} "
            "column(s)",
            file=str(name),
        )
    table.columns = [str(column).strip() for column in table.columns]
    first = table.columns[0]
    if "date" not in table.columns and (first.lower() in ("date", "index") or indexed):
        table = table.rename(columns={first: "date"})
    if "date" not in table.columns:
        dated = next(
            (column for column in table.columns if ISO.fullmatch(str(table[column].iloc[0])[:10])),
            None,
        )
        advice = (
            f"; name the column {dated!r}, which has dates, 'date'" if dated and len(table) else ""
        )
        raise FileError(
            f"no column 'date'; it has {', '.join(map(repr, table.columns[:6]))}{advice}",
            file=str(name),
        )
    # the row as an editor shows it, the header being row 1
    table.index = pd.RangeIndex(2, len(table) + 2)
    return table, name


def _wide(table: pd.DataFrame, name: str) -> tuple[pd.DataFrame, Rows]:
    """Return prices by date and instrument, and where each stands in the file."""
    dates = dates_of(table["date"], name)
    if {column.lower() for column in table.columns} >= LONG:
        table = table.rename(columns={column: column.lower() for column in table.columns})
        keys = pd.DataFrame(
            {
                "date": dates.to_numpy(),
                "instrument": table["instrument"].astype(str).str.strip().to_numpy(),
            }
        )
        twice = keys.duplicated()
        if twice.any():
            place = int(np.argmax(twice.to_numpy()))
            which = str(keys["instrument"].iloc[place])
            raise FileError(
                f"{name}, row {place + 2}: {which} has a second price on "
                f"{dates.iloc[place]:%Y-%m-%d}"
            )
        keys["price"] = _numbers(table[["price"]], name).to_numpy()
        frame = keys.pivot_table(
            index="date", columns="instrument", values="price", dropna=False, sort=True
        )
        frame = frame.reindex(columns=list(dict.fromkeys(keys["instrument"])))
        rows: Rows = dict(
            zip(zip(keys["date"], keys["instrument"], strict=True), table.index, strict=True)
        )
    else:
        twice = dates.duplicated()
        if twice.any():
            place = int(np.argmax(twice.to_numpy()))
            raise FileError(
                f"{name}, row {place + 2}: the date {dates.iloc[place]:%Y-%m-%d} is there already"
            )
        frame = (
            _numbers(table.drop(columns="date"), name)
            .set_index(pd.DatetimeIndex(dates, name="date"))
            .sort_index()
        )
        rows = dict(zip(dates, dates.index, strict=True))
    if len(frame) < 2:
        raise FileError(
            f"has {len(frame)} date{'' if len(frame) == 1 else 's'}; a return needs two",
            file=str(name),
        )
    frame.columns.name = None
    return frame, rows


def dates_of(column: pd.Series, name: str) -> pd.Series:
    """Return a column of dates; raises FileError, with the row, for what is none."""
    if pd.api.types.is_datetime64_any_dtype(column):
        return pd.Series(pd.to_datetime(column).dt.normalize().to_numpy(), index=column.index)
    texts = column.map(
        lambda value: value.isoformat()[:10] if hasattr(value, "isoformat") else str(value).strip()
    )
    for row, text in texts.items():
        if not ISO.fullmatch(text):
            raise FileError(
                f"{name}, row {row}: {text!r} is not a date; dates must all be written like "
                "2027-12-31"
            )
    try:
        return pd.to_datetime(texts, format="%Y-%m-%d")
    except ValueError:
        for row, text in texts.items():
            if pd.isna(pd.to_datetime(text, format="%Y-%m-%d", errors="coerce")):
                raise FileError(f"{name}, row {row}: there is no day {text!r}") from None
        raise


def _numbers(table: pd.DataFrame, name: str) -> pd.DataFrame:
    """Return columns of texts or numbers as numbers, NaN where there is none; raises FileError for
    what is neither.
    """
    if all(pd.api.types.is_numeric_dtype(kind) for kind in table.dtypes):
        return table.astype(np.float64)
    cells = table.to_numpy(dtype=object)
    numbers = _converted(cells.ravel()).reshape(cells.shape)
    for column, row in np.argwhere(np.isnan(numbers).T).tolist():
        text = str(cells[row, column]).strip()
        if text.lower() not in EMPTY:
            comma = "; a decimal comma must be a point" if re.fullmatch(r"-?\d+,\d+", text) else ""
            raise FileError(
                f"{name}, row {table.index[row]}: {text!r} in column "
                f"{str(table.columns[column])!r} is no price{comma}"
            )
    return pd.DataFrame(numbers, index=table.index, columns=table.columns)


def _converted(cells: NDArray[np.object_]) -> Floats:
    """Return cells as numbers, NaN for those that are none."""
    texts = cells.tolist()
    try:
        if not any("_" in text for text in texts):  # which Python takes for a separator of digits
            # a third of the time that pandas takes
            return np.array([float(text or "nan") for text in texts])
    except (TypeError, ValueError):
        pass
    return np.asarray(
        pd.to_numeric(pd.Series(texts, dtype=object), errors="coerce"), dtype=np.float64
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


def _settled(values: pd.DataFrame, missing: str, problems: pd.DataFrame, name: str) -> Prices:
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
    gaps = np.diff(frame.index.to_numpy()) > LONG_GAP
    if gaps.any():
        begin = frame.index[int(np.argmax(gaps))]
        stretches = (
            "a stretch of more than a week without prices counts"
            if gaps.sum() == 1
            else (f"{int(gaps.sum())} stretches of more than a week without prices count")
        )
        description += (
            f"; {stretches} as one return{'' if gaps.sum() == 1 else ' each'} "
            f"(from {begin:%Y-%m-%d})"
        )
    return Prices(frame, missing, description, problems.reset_index(drop=True), values, name)


def checked_date(owner: str, name: str, value: Any) -> pd.Timestamp:
    """Return a date; raises ParameterError for what is none."""
    try:
        date = pd.Timestamp(value)
        if pd.isna(date):
            raise ValueError
    except (ValueError, TypeError):
        raise ParameterError(
            f"{name} must be a date such as 2027-12-31, not {value!r:.40}", owner=owner
        ) from None
    return date.tz_localize(None).normalize()
