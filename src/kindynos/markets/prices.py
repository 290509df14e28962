"""Reading prices strictly: what cannot be a price is refused or reported, with its row, and never guessed."""

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
from kindynos.markets.price_files import read_table
from kindynos.validate import instance, one_of

POLICIES = ("drop", "carry", "error")
ISO = re.compile(r"\d{4}-\d{2}-\d{2}")
LONG = {"date", "instrument", "price"}
MOST_NAMED = 5
EMPTY = ("", "nan", "none", "na", "n/a", "<na>")


@dataclass(frozen=True, eq=False)
class Prices:
    """Prices by date (rows) and instrument (columns), complete and above 0.

    ``problems`` lists what was found on reading: row, date, instrument and what is wrong; ``missing`` is the policy that filled
    or dropped the gaps, and ``said`` tells what it did. ``raw`` has the prices before that.
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

    def __repr__(self) -> str:
        span = f"{self.dates[0]:%Y-%m-%d} to {self.dates[-1]:%Y-%m-%d}"
        return f"<prices of {', '.join(self.instruments)}: {len(self.frame):,} dates, {span}; {self.description}>"

    def subset(self, instruments: Iterable[str]) -> Prices:
        """Return the prices of some instruments, with the same policy; raises ParameterError for an unknown one."""
        names = list(instruments)
        for name in names:
            if name not in self.raw.columns:
                raise ParameterError(
                    f"no instrument {name!r}", owner=self.source, unknown=name, known=map(str, self.raw.columns)
                )
        return _settled(self.raw[names], self.missing, self.problems[self.problems["instrument"].isin(names)], self.source)


def read_prices(source: str | Path | pd.DataFrame, missing: str = "drop") -> Prices:
    """Return the prices of a file (CSV, Parquet, or Excel with ``kindynos[excel]``) or a DataFrame.

    Wide: a ``date`` and a column an instrument; long: ``date, instrument, price``. Dates are written 2027-12-31, in any order,
    each once. Gaps, late listings, and prices that are not above 0 are listed in ``problems``; ``missing="drop"`` leaves out
    dates on which any instrument has no price, "carry" goes on with the last one (dates before the last listing are left out),
    "error" refuses. Raises FileError with file and row for text in a price, decimal commas, dates that cannot be read or stand
    twice, and files with too little.
    """
    one_of("read_prices", "missing", missing, POLICIES)
    table, name = _table(source)
    frame = _wide(table, name)
    problems = _problems(frame, table, name)
    values = frame.where(frame > 0)
    return _settled(values, missing, problems, name)


def _table(source: str | Path | pd.DataFrame) -> tuple[pd.DataFrame, str]:
    """Return a table of text or numbers whose index is the row in the file, and the name to say."""
    if isinstance(source, pd.DataFrame):
        table = source.reset_index() if "date" not in [str(c).lower() for c in source.columns] else source.copy()
        name = "prices"
    else:
        path, name = Path(source), str(source)
        table = read_table(path)
    if table.shape[1] < 2:
        raise FileError(
            f"needs a column of dates and at least one of prices; it has {table.shape[1]} column(s)", file=str(name)
        )
    table.columns = [str(column).strip() for column in table.columns]
    first = table.columns[0]
    if "date" not in table.columns and (first.lower() in ("date", "index") or isinstance(source, pd.DataFrame)):
        table = table.rename(columns={first: "date"})
    if "date" not in table.columns:
        raise FileError(
            f"no column 'date'; it has {', '.join(map(repr, table.columns[:6]))}",
            file=str(name),
            unknown="date",
            known=table.columns,
        )
    table.index = pd.RangeIndex(2, len(table) + 2)  # the row as an editor shows it, the header being row 1
    return table, name


def _wide(table: pd.DataFrame, name: str) -> pd.DataFrame:
    dates = _dates(table["date"], name)
    if {column.lower() for column in table.columns} == LONG:
        table = table.rename(columns={column: column.lower() for column in table.columns})
        keys = pd.DataFrame({"date": dates.to_numpy(), "instrument": table["instrument"].astype(str).str.strip().to_numpy()})
        twice = keys.duplicated()
        if twice.any():
            place = int(np.argmax(twice.to_numpy()))
            which = str(keys["instrument"].iloc[place])
            raise FileError(f"{name}, row {place + 2}: {which} has a second price on {dates.iloc[place]:%Y-%m-%d}")
        keys["price"] = _numbers(table[["price"]], name).to_numpy()
        frame = keys.pivot_table(index="date", columns="instrument", values="price", dropna=False, sort=True)
        frame = frame.reindex(columns=list(dict.fromkeys(keys["instrument"])))
    else:
        twice = dates.duplicated()
        if twice.any():
            place = int(np.argmax(twice.to_numpy()))
            raise FileError(f"{name}, row {place + 2}: the date {dates.iloc[place]:%Y-%m-%d} is there already")
        frame = _numbers(table.drop(columns="date"), name).set_index(pd.DatetimeIndex(dates, name="date")).sort_index()
    if len(frame) < 2:
        raise FileError(f"has {len(frame)} date{'' if len(frame) == 1 else 's'}; a return needs two", file=str(name))
    frame.columns.name = None
    return frame


def _dates(column: pd.Series, name: str) -> pd.Series:
    if pd.api.types.is_datetime64_any_dtype(column):
        return pd.Series(pd.to_datetime(column).dt.normalize().to_numpy(), index=column.index)
    texts = column.map(lambda value: value.isoformat()[:10] if hasattr(value, "isoformat") else str(value).strip())
    for row, text in texts.items():
        if not ISO.fullmatch(text):
            raise FileError(f"{name}, row {row}: {text!r} is no date; dates must all be written like 2027-12-31")
    try:
        return pd.to_datetime(texts, format="%Y-%m-%d")
    except ValueError:
        for row, text in texts.items():
            if pd.isna(pd.to_datetime(text, format="%Y-%m-%d", errors="coerce")):
                raise FileError(f"{name}, row {row}: there is no day {text!r}") from None
        raise


def _numbers(table: pd.DataFrame, name: str) -> pd.DataFrame:
    """Return columns of texts or numbers as numbers, NaN where there is none; raises FileError for what is neither."""
    if all(pd.api.types.is_numeric_dtype(kind) for kind in table.dtypes):
        return table.astype(np.float64)
    cells = table.to_numpy(dtype=object)
    numbers = _converted(cells.ravel()).reshape(cells.shape)
    for column, row in np.argwhere(np.isnan(numbers).T).tolist():
        text = str(cells[row, column]).strip()
        if text.lower() not in EMPTY:
            comma = "; a decimal comma must be a point" if re.fullmatch(r"-?\d+,\d+", text) else ""
            raise FileError(
                f"{name}, row {table.index[row]}: {text!r} in column {str(table.columns[column])!r} is no price{comma}"
            )
    return pd.DataFrame(numbers, index=table.index, columns=table.columns)


def _converted(cells: NDArray[np.object_]) -> Floats:
    """Return cells as numbers, NaN for those that are none."""
    texts = cells.tolist()
    try:
        if not any("_" in text for text in texts):  # which Python takes for a separator of digits
            return np.array([float(text or "nan") for text in texts])  # a third of the time that pandas takes
    except (TypeError, ValueError):
        pass
    return np.asarray(pd.to_numeric(pd.Series(texts, dtype=object), errors="coerce"), dtype=np.float64)


def _problems(frame: pd.DataFrame, table: pd.DataFrame, name: str) -> pd.DataFrame:
    """Return what is wrong with single prices: late listings, gaps, and prices that are not above 0."""
    dates = _dates(table["date"], name)
    rows = dict(zip(dates, dates.index, strict=True))
    values = frame.to_numpy()
    known = ~np.isnan(values)
    first = np.argmax(known, axis=0)
    with np.errstate(invalid="ignore"):
        lowest = np.where(known, values, np.inf).min(axis=0)
        highest = np.where(known, values, -np.inf).max(axis=0)
        doubtful = np.isinf(values) | ~(values > 0) & (np.arange(len(values))[:, None] >= first)
    for place in np.flatnonzero((highest == np.inf) | (lowest == -np.inf) | (highest <= 0) | (lowest == highest)).tolist():
        _check_instrument(frame.iloc[:, place], rows, name)
    found = []
    for place in np.flatnonzero(doubtful.any(axis=0) | (first > 0)).tolist():
        instrument, begin = frame.columns[place], frame.index[first[place]]
        if first[place] > 0:
            found.append((rows.get(begin), begin, instrument, f"listed late: no price on the {first[place]} dates before"))
        for row in np.flatnonzero(doubtful[:, place]).tolist():
            value, date = values[row, place], frame.index[row]
            what = "no price" if np.isnan(value) else f"the price {value:g} is not above 0"
            found.append((rows.get(date), date, instrument, what))
    return pd.DataFrame(found, columns=["row", "date", "instrument", "problem"])


def _check_instrument(values: pd.Series, rows: dict[Any, Any], name: str) -> None:
    """Raise FileError for prices of an instrument from which nothing can be learned."""
    if np.isinf(values).any():
        date = values.index[int(np.argmax(np.isinf(values.to_numpy())))]
        raise FileError(f"the price of {values.name!r} is not a finite number", file=str(name), row=rows.get(date))
    if not (values > 0).any():
        raise FileError(f"{values.name!r} has no price above 0", file=str(name))
    if values.count() > 1:
        raise FileError(
            f"all prices of {values.name!r} are equal, {values.dropna().iloc[0]:g}; it has no returns to learn from",
            file=str(name),
        )


def _settled(values: pd.DataFrame, missing: str, problems: pd.DataFrame, name: str) -> Prices:
    lacking = values.isna().any(axis=1)
    if missing == "error" and lacking.any():
        first = problems.head(MOST_NAMED).to_dict("records")
        named = "; ".join(f"row {p['row']}, {p['date']:%Y-%m-%d}, {p['instrument']}: {p['problem']}" for p in first)
        more = f"; and {len(problems) - MOST_NAMED} more" if len(problems) > MOST_NAMED else ""
        raise FileError(f"{named}{more}; say missing='drop' or 'carry'", file=str(name))
    frame = values.ffill().dropna() if missing == "carry" else values.dropna()
    if len(frame) < 2:
        raise FileError(f"{len(frame)} dates have a price of every instrument; two are needed", file=str(name))
    if not lacking.any():
        description = "no price missing"
    elif missing == "drop":
        description = f"{int(lacking.sum())} dates left out, on which some price is missing"
    else:
        carried = int(values.loc[frame.index].isna().sum().sum())
        description = f"{carried} missing prices carried on, {len(values) - len(frame)} dates before the last listing left out"
    return Prices(frame, missing, description, problems.reset_index(drop=True), values, name)


def select(
    facts: pd.DataFrame,
    *,
    as_of: Any,
    where: dict[str, Any] | None = None,
    largest: int | None = None,
    by: str | None = None,
    smallest: bool = False,
) -> list[str]:
    """Return the instruments of a table of dated facts that meet conditions, by what was known on a date.

    ``facts`` has columns ``date`` (when it was known), ``instrument`` and any others; of each instrument the last row not
    after ``as_of`` counts. ``where`` maps columns to a pair such as ``(">", 1e6)``, or to a value or a list it must be in;
    ``largest`` keeps so many with the largest ``by`` (``smallest=True``: the smallest). Raises ParameterError for columns there
    are not.
    """
    instance("select", "facts", facts, pd.DataFrame, "a DataFrame")
    for column in ("date", "instrument"):
        if column not in facts.columns:
            raise ParameterError(
                f"facts need a column {column!r}; they have {', '.join(map(str, facts.columns))}", owner="select"
            )
    known = facts[pd.to_datetime(facts["date"]) <= pd.Timestamp(as_of)]
    latest = known.sort_values("date", kind="stable").groupby("instrument", sort=False).tail(1)
    for column, condition in (where or {}).items():
        if column not in facts.columns:
            raise ParameterError(
                f"there is no column {column!r}", owner="select", unknown=column, known=map(str, facts.columns)
            )
        latest = latest[_meets(latest[column], column, condition)]
    if largest is not None:
        if by is None or by not in facts.columns:
            raise ParameterError(
                "largest= needs by=, one of the columns", owner="select", unknown=str(by), known=map(str, facts.columns)
            )
        latest = latest.sort_values(by, ascending=smallest, kind="stable").head(largest)
    return [str(name) for name in latest["instrument"]]


def _meets(values: pd.Series, column: str, condition: Any) -> pd.Series:
    if isinstance(condition, tuple) and len(condition) == 2 and condition[0] in (">", ">=", "<", "<=", "!="):
        sign, figure = condition
        tests = {">": values.gt, ">=": values.ge, "<": values.lt, "<=": values.le, "!=": values.ne}
        return tests[sign](figure)
    if isinstance(condition, tuple):
        raise ParameterError(
            f"the condition on {column!r} must be like ('>', 100), a value, or a list; not {condition!r}", owner="select"
        )
    return values.isin(condition) if isinstance(condition, list | set) else values.eq(condition)
