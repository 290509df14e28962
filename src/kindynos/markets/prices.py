"""Reading prices strictly: what cannot be a price is refused or reported, with its row, and never
guessed.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import DataWarning, FileError, ParameterError, concerning
from kindynos.handed_out import HandsOutCopies
from kindynos.markets.adjustments import (
    adjusted,
    checked_date,
    total_return_columns,
    with_total_returns,
)
from kindynos.markets.changes import CHANGES, Mask, moves_of, of_one_period
from kindynos.markets.exchange import column_of, multiplier
from kindynos.markets.price_checks import count_below, doubts, near_zero
from kindynos.markets.proxies import proxied
from kindynos.markets.unsmoothing import unsmoothed
from kindynos.sources import sources_read
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from kindynos.tables.spacing import SPACINGS, DateSpacing, spacing_of
from kindynos.tables.table import Table
from kindynos.validate import (
    checked,
    checked_init,
    instance,
    invalid_argument,
    known_name,
    mapping,
    names_in,
    one_of,
    positive,
    words,
)

POLICIES = ("drop", "available", "carry", "error")
DROPPING = ("drop", "available")  # dates on which a price is missing after the first of each
# the names of the columns of a long file; the first are ours
ADJUSTED = ("adj close", "adjusted close", "adjusted price", "adj price")
LONG = {"instrument": ("instrument", "symbol", "ticker"), "price": ("price", "close")}
BELOW = "not above 0"
DOUBTFUL = (
    BELOW,
    "suspicious",
    "change",
    "flat",
)  # kinds of problems that are said beside the answer
MOST_NAMED = 5
MOST_LEFT_OUT = 0.2  # of the moves: those over several periods; where there are more, they count
FEWEST_MOVES = 8
LATE = 0.05  # share of the dates that a late listing may cost unsaid


KINDS = ("prices", "returns")
FEWEST = 20  # values, from which returns and levels differ
LEAST_BELOW = 0.15  # of returns that are below 0, and above it
SATURDAY = 5
MOST_A_PERIOD = 0.3  # nine in ten returns are smaller, unless they are in per cent


ChosenNames = Callable[[list[str]], Iterable[str]]
Requested = list[str] | ChosenNames | None
Rows = dict[Any, int]  # the row of each date, or of each date and instrument


@dataclass(frozen=True, eq=False)
class ReadPrices:
    """Prices as they were read ``(dates, instruments)``, with their rows in the file and notes on
    how it was read: those that move as total returns do, and as they were ``listed``.
    """

    frame: pd.DataFrame
    listed: pd.DataFrame
    rows: Rows
    file: str
    notes: tuple[str, ...] = ()
    checksum: str | None = None  # of the file when it was read
    choices: tuple[str, ...] = ()  # made in reading that change figures: to be said after them

    def lowered(self, rules: PriceRules) -> pd.DataFrame:
        """Return, by date and instrument, what the payments after a price have lowered it to, as a
        share of it.
        """
        after = adjusted(self.frame, rules.splits, rules.dividends)
        before = adjusted(self.listed, rules.splits, {})
        share = np.divide(after, before, out=np.full(after.shape, np.nan), where=before > 0)
        return pd.DataFrame(share, self.frame.index, self.frame.columns)


@dataclass(frozen=True, eq=False)
class PriceRules:
    """How prices are to be treated; see ``read_prices``."""

    missing: str = "drop"
    per_year: float | None = None
    changes: Mapping[str, str] = field(default_factory=dict)
    splits: Mapping[str, Any] = field(default_factory=dict)
    dividends: Mapping[str, Any] = field(default_factory=dict)
    keep_suspicious: bool = False


@checked_init
@dataclass(frozen=True, eq=False)
class Prices(HandsOutCopies):
    """Prices by date (rows) and instrument (columns), complete, and above 0 but for rates.

    ``problems`` lists what was found on reading: row, date, instrument, what is wrong, and its
    kind; ``description`` says what was done about missing prices. ``raw`` has the prices before
    that, and ``changes`` the instruments that change by differences ("absolute"), such as yields.
    ``spacing`` is how far the dates lie apart, from which units, horizons and yearly figures
    follow.

    >>> from kindynos import demo_file, read_prices
    >>> prices = read_prices(demo_file("treasury_prices.csv")).subset(["shipyard", "wind_farm"])
    >>> prices.instruments
    ['shipyard', 'wind_farm']
    """

    frame: pd.DataFrame
    description: str
    problems: pd.DataFrame
    raw: pd.DataFrame = field(repr=False)
    changes: dict[str, str] = field(default_factory=dict)
    read: ReadPrices = field(
        default_factory=lambda: ReadPrices(pd.DataFrame(), pd.DataFrame(), {}, "prices")
    )
    rules: PriceRules = PriceRules()

    @property
    def source(self) -> str:
        """The name of the file."""
        return self.read.file

    @property
    def notes(self) -> tuple[str, ...]:
        """How the file was read."""
        return self.read.notes

    @checked
    def with_choices(self, choices: tuple[str, ...]) -> Prices:
        """Return the prices with further choices of reading to be said, a tuple of sentences."""
        if not isinstance(choices, tuple) or not all(isinstance(one, str) for one in choices):
            raise invalid_argument("choices", "a tuple of texts", choices)
        return replace(self, read=replace(self.read, choices=self.read.choices + choices))

    @property
    def missing(self) -> str:
        """The policy that filled or dropped the gaps."""
        return self.rules.missing

    @property
    def absolute(self) -> Mask:
        """Which instruments change by differences ``(instruments,)``."""
        return np.array([self.changes.get(name) == "absolute" for name in self.instruments])

    @property
    def moves(self) -> Floats:
        """The moves from date to date ``(moves, instruments)``: simple returns, or differences of
        the instruments that change by them.
        """
        return moves_of(self.frame.to_numpy(), self.absolute)

    @property
    def late(self) -> str:
        """How many dates an instrument that was listed late costs all others, in words; "" where
        it is a small part of them.
        """
        before = np.argmax(self.raw.notna().to_numpy(), axis=0)  # dates before the first price
        lost = int(before.max())
        name = self.raw.columns[int(before.argmax())]
        if lost < LATE * len(self.raw):
            return self._dropped
        return (
            f"{lost:,} of {len(self.raw):,} dates are left out, since {name} has no price before "
            f"{pd.DatetimeIndex(self.raw.index)[lost]:%Y-%m-%d}"
        )

    @property
    def _dropped(self) -> str:
        """How many dates are left out for want of some price, in words; "" for a small part."""
        dropped = len(self.raw) - len(self.frame)
        if self.missing not in DROPPING or dropped < LATE * len(self.raw):
            return ""
        counts = self.raw.notna().sum()
        name = str(counts.index[int(counts.argmin())])
        unit = {"irregular": "irregular", "working day": "daily", "day": "daily"}
        apart = unit.get(self.spacing.name, f"{self.spacing.name}ly")
        return (
            f"{len(self.frame) - 1:,} {apart} returns; {dropped:,} of {len(self.raw):,} dates are "
            f"left out, since {name} has {int(counts.min()):,} prices"
        )

    @cached_property
    def spans(self) -> NDArray[np.int64]:
        """How many periods each move spans, by instrument ``(moves, instruments)``.

        Of daily prices, days on which an instrument that has nearly all others lacks a price are
        holidays, and its own prices are counted; of others all dates on its days of the week, and
        the weekdays without a row where more than one in twenty has none.
        """
        kept = self.dates
        if self.spacing.unit == "day":
            return np.stack([self._days_between(name) for name in self.instruments], axis=1)
        code = self.spacing.name
        if code not in SPACINGS:  # irregular
            return np.ones((len(kept) - 1, len(self.instruments)), dtype=np.int64)
        periods = self.spacing.periods(kept, code).asi8
        spans = np.maximum(np.diff(periods), 1)
        return np.repeat(spans[:, None], len(self.instruments), axis=1)

    @cached_property
    def moves_of_one_period(self) -> tuple[Floats, pd.DatetimeIndex, str]:
        """The moves over one period, their dates, and in words what was done about those over
        several: few are left out, more are made as large as they would be over one.
        """
        moves, spans, dates = self.moves, self.spans, self.dates[1:]
        longer = (spans > 1).any(axis=1)
        count = int(longer.sum())
        if not count:
            return moves, dates, ""
        words = f"{count} of {len(moves):,} returns are over more than one {self.spacing.unit}"
        if count <= MOST_LEFT_OUT * len(moves) and len(moves) - count >= FEWEST_MOVES:
            one = np.flatnonzero(~longer)
            return moves[one], dates[one], f"{words} and left out"
        scaled = of_one_period(moves, spans)
        return scaled, dates, f"{words}: each is divided by the root of their number"

    def _days_between(self, name: str) -> NDArray[np.int64]:
        """Return how many days of trading lie between the dates that are kept ``(moves,)``."""
        dates = pd.DatetimeIndex(self.raw.index)
        places = dates.get_indexer(self.dates)
        has = self.raw[name].notna().to_numpy()
        own = np.bincount(dates[has].day_of_week, minlength=7) > 0
        usual = own[dates.day_of_week]
        usual = has if has.sum() >= (1 - LATE) * usual.sum() else usual
        spans = np.diff(usual.cumsum()[places])
        if self.spacing.name == "working day" and self.missing in DROPPING:
            days = dates.to_numpy().astype("datetime64[D]")
            weekdays = int(np.busday_count(days[0], days[-1], weekmask=own)) + 1
            if usual.sum() < (1 - LATE) * weekdays:
                kept = days[places]
                spans = np.busday_count(kept[:-1], kept[1:], weekmask=own)
        return np.asarray(np.maximum(spans, 1), dtype=np.int64)

    @property
    def doubts(self) -> list[str]:
        """What is suspicious about single prices, or proposed for an instrument, a line each."""
        return self.doubts_of(*DOUBTFUL)

    @checked
    def doubts_of(self, *kinds: str) -> list[str]:
        """Return the doubts of some kinds, a line each."""
        doubtful = self.problems[self.problems["kind"].isin(kinds)]
        return [
            f"{p['instrument']}, {p['date']:%Y-%m-%d}{at_row(p['row'])}: {p['problem']}"
            for p in doubtful.to_dict("records")
        ]

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
        # that of the instrument with the fewest; of all together dates may be left out
        own = [spacing_of(_dates_of(self.raw[name])) for name in self.instruments]
        widest = min(own, key=lambda spacing: spacing.per_year)
        stated = self.rules.per_year
        return widest if stated is None else replace(widest, per_year=stated)

    def record(self) -> dict[str, Any]:
        """Return the file of prices with its checksum (SHA-256), the rules by which it was read,
        and what is suspicious, with what was held out.
        """
        return {
            "prices": self.source,
            "checksum": self.read.checksum,
            "missing": self.missing,
            "every": self.spacing.name,
            "changes": dict(self.changes),
            "splits": {name: dict(dates) for name, dates in self.rules.splits.items()},
            "dividends": {name: dict(dates) for name, dates in self.rules.dividends.items()},
            "keep suspicious": self.rules.keep_suspicious,
            "suspicious": self.doubts,
        }

    @checked
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
        one_of("every", period, tuple(SPACINGS))
        longer = SPACINGS[period]
        dropped = len(self.raw) - len(self.frame) > LATE * len(self.raw)
        if longer.unit == self.spacing.unit and not (dropped and self.missing in DROPPING):
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
        # each instrument's last price of the period, which need not be of the same day
        whole = self.raw.loc[: self.dates[-1]]
        own_periods = self.spacing.periods(pd.DatetimeIndex(whole.index), period)
        frame = whole.ffill() if self.missing == "carry" else whole
        frame = frame.groupby(own_periods).last().dropna()
        periods = pd.PeriodIndex(frame.index)
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
        rules = replace(self.rules, per_year=None)
        return replace(self, frame=frame, raw=frame, description=description, rules=rules)

    @property
    def stale(self) -> str:
        """Which instruments' prices end before those of the others, so that "today" lies back; ""
        where none do.
        """
        last = self.raw.index[-1]
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

    @checked
    def in_currency(self, rates: Mapping[str, str]) -> Prices:
        """Return the prices, some of them multiplied by the column with the exchange rate of
        their currency, or divided by it where it is written with 1/ before it; what is wrong with
        the rate is wrong with them. Raises ParameterError for
        columns there are not.
        """
        raw, problems = self.raw, [self.problems]
        columns = mapping("rates", rates, "columns of exchange rates by instrument")
        for name, stated in columns.items():
            if not isinstance(stated, str):
                raise invalid_argument(f"the rate of {name}", "the name of a column", stated)
            rate = column_of(stated)
            self._check_known(name)
            self._check_known(rate)
            raw = raw.assign(**{name: self.raw[name] * multiplier(stated, self.raw[rate])})
            of_rate = self.problems[self.problems["instrument"] == rate]
            words = f"exchange rate {rate}: " + of_rate["problem"]
            problems.append(of_rate.assign(instrument=name, problem=words))
        return _settled(raw, pd.concat(problems), self.changes, self.read, self.rules)

    @checked
    def with_changes(self, changes: Mapping[str, str]) -> Prices:
        """Return the prices with other statements on which instruments change by differences.

        Raises ParameterError for unknown ones.
        """
        stated = mapping("changes", changes, "kinds by instrument")
        for name in stated:
            self._check_known(name)
        rules = replace(self.rules, changes={**self.rules.changes, **stated})
        as_known = self.read.frame.loc[: self.raw.index[-1], self.instruments]
        own = replace(self.read, frame=as_known)
        return _settled(*_inspected(own, rules), self.read, rules)

    @checked
    def with_proxies(self, proxies: Mapping[str, str]) -> Prices:
        """Return the prices with those of instruments that were listed late continued backwards by
        the moves of others: ``{"wind_farm": "shipyard"}``.

        They follow the proxy by regression, with what it leaves drawn from the dates that both
        have; see ``kindynos.markets.proxies``. What was done is among the ``choices`` that reports
        say. Raises ParameterError for unknown instruments and too few dates that both have.
        """
        for name, proxy in mapping("proxies", proxies, "instruments by instrument").items():
            self._check_known(name)
            self._check_known(proxy)
            if name == proxy:
                raise ParameterError(f"{name} cannot be its own proxy")
        return self._continued_backwards({name: [proxy] for name, proxy in proxies.items()})

    def _with_all_available(self) -> Prices:
        """Return the prices with those of instruments that were listed late continued backwards by
        the moves of those that were there before them.
        """
        first = dict(zip(self.instruments, np.argmax(self.raw.notna(), axis=0), strict=True))
        names = sorted(first, key=lambda name: first[name])  # stable: the earliest first
        before = {name: [n for n in names if first[n] < first[name]] for name in names}
        return self._continued_backwards(
            {name: others for name, others in before.items() if others}
        )

    def _continued_backwards(self, proxies: Mapping[str, Sequence[str]]) -> Prices:
        """Return the prices with those before the first one of instruments as the moves of others
        suggest, which may themselves have been continued.
        """
        raw, said = self.raw.copy(), []
        for name, others in proxies.items():
            kinds = [self.changes.get(one) == "absolute" for one in (name, *others)]
            there = raw.loc[raw[list(others)].notna().all(axis=1), [name, *others]]
            own, columns = there[name].to_numpy(), there[list(others)].to_numpy()
            filled = proxied(str(name), own, columns, kinds[0], kinds[1:])
            if not filled.filled:
                continue
            raw.loc[there.index, name] = filled.prices
            first = pd.DatetimeIndex(there.index)[int(np.argmax(np.isfinite(own)))]
            slope = f"{others[0]} times {filled.slopes[0]:.2f} (± {filled.errors[0]:.2f})"
            said.append(
                f"{name} before {first:%Y-%m-%d}: the moves of "
                f"{slope if len(others) == 1 else f'{len(others)} others by regression'} on "
                f"{filled.filled:,} dates, with what is left "
                f"({100 * (1 - filled.explained):.0f} % of the variance) drawn from the dates after"
            )
        late = self.problems["kind"].eq("late") & self.problems["instrument"].isin(list(proxies))
        read = replace(self.read, frame=raw, choices=(*self.read.choices, *said))
        return _settled(raw, self.problems[~late], self.changes, read, self.rules)

    @checked
    def without_smoothing(self, *names: str) -> Prices:
        """Return the prices with those of instruments whose values are smoothed, such as appraisals
        or funds that are valued late, as they would be without: each return is a share of its own
        and the rest of the one before it, by the autocorrelation; see
        ``kindynos.markets.unsmoothing``. What was done is among the ``choices`` that reports say.
        Raises ParameterError for unknown instruments, and for returns that are not smoothed.
        """
        raw, said = self.raw.copy(), []
        for name in names:
            self._check_known(name)
            smoothing = unsmoothed(str(name), self.raw[name].to_numpy(dtype=np.float64))
            raw[name] = smoothing.prices
            said.append(
                f"{name} without smoothing: returns less {smoothing.autocorrelation:.2f} "
                f"(± {smoothing.error:.2f}) times the one before, whose sd is "
                f"{smoothing.times:.2f} times as large"
            )
        read = replace(self.read, frame=raw, choices=(*self.read.choices, *said))
        return _settled(raw, self.problems, self.changes, read, self.rules)

    def _check_known(self, name: Any) -> None:
        if not isinstance(name, str) or name not in self.raw.columns:
            raise ParameterError(
                f"no instrument {name!r:.60}",
                owner=self.source,
                unknown=name,
                known=map(str, self.raw.columns),
            )

    @checked
    def until(self, date: Any) -> Prices:
        """Return the prices up to a date, not lowered by payments after it; they are of today's
        shares, as numbers held then should be, where a split came later. Raises ParameterError for
        a date before the second one.
        """
        last = checked_date("date", date)
        raw = self.raw.loc[:last]
        if len(raw) < 2:
            raise ParameterError(
                f"{last:%Y-%m-%d} lies before the prices, which begin on {self.dates[0]:%Y-%m-%d}"
            )
        problems = self.problems[pd.to_datetime(self.problems["date"]) <= last]
        lowered = self.read.lowered(self.rules).reindex(self.raw.index, columns=raw.columns)
        lowered = lowered.ffill().fillna(1.0)
        raw = raw / (lowered.loc[:last].iloc[-1] / lowered.iloc[-1])
        return _settled(raw, problems, self.changes, self.read, self.rules)

    @checked
    def subset(self, instruments: Iterable[str]) -> Prices:
        """Return the prices of some instruments, with the same policy; raises ParameterError for an
        unknown one.
        """
        names = names_in("instruments", instruments)
        for name in names:
            self._check_known(name)
        return _settled(
            self.raw[names],
            self.problems[self.problems["instrument"].isin(names)],
            {name: change for name, change in self.changes.items() if name in names},
            self.read,
            self.rules,
        )


@checked
def read_prices(
    source: str | Path | pd.DataFrame,
    missing: str = "drop",
    instruments: Iterable[str] | ChosenNames | None = None,
    *,
    kind: str = "prices",
    per_year: float | None = None,
    changes: Mapping[str, str] | None = None,
    splits: Mapping[str, Any] | None = None,
    dividends: Mapping[str, Any] | None = None,
    keep_suspicious: bool = False,
    dates: str | None = None,
    sheet: str | None = None,
    header: int | None = None,
    encoding: str | None = None,
    decimal: str | None = None,
) -> Prices:
    """Return the prices of a file (CSV, Parquet, or Excel with ``kindynos[excel]``) or a DataFrame.

    Wide: a ``date``, or the column named by ``dates``, and a column an instrument; long: ``date,
    instrument, price`` (or ``symbol`` and ``close``); other columns are left out. Dates are written
    2027-12-31, in any order, each once. Only the ``instruments`` named are read, or chosen by a
    function of all names; default: all. ``missing="drop"`` leaves out dates on which any instrument
    has no price; "available" too, but continues what was listed late backwards by the moves of the
    others (see ``Prices.with_proxies``), so that they keep their record; "carry" goes on with the
    last one (dates before the last listing are left out); "error" refuses.

    ``problems`` lists gaps, late listings, prices that are not above 0, and, by each instrument's
    own scale, suspicious ones: a price far from both its neighbours or at an end, a jump as by a
    split or from pence to pounds, and a price repeated for days (see
    ``kindynos.markets.price_checks``). Single suspicious prices count as missing, with a
    DataWarning, unless ``keep_suspicious``; ``splits`` such as ``{"ferry": {"2027-03-04": "2:1"}}``
    adjust the prices before, and so do ``dividends`` such as ``{"ferry": {"2027-05-12": 1.2}}``, by
    date without them; with a column of total returns beside that of the price ("ferry" and "ferry
    total return") its moves are taken, and the last price. ``changes={"y10": "absolute"}`` says of
    a yield, a spread or a rate that it changes by differences, and may be 0 or below; it is found
    where several values are.

    With ``kind`` "returns" the columns are simple returns, and prices are made from them that begin
    at 100, a period before; they are in per cent where one in ten is farther from 0 than 0.3, which
    is said. A column of returns that is read as prices is refused.

    How far the dates lie apart is found: days of a week of five or seven, weeks, months, quarters,
    years, or irregular; ``per_year`` states the dates in a year of a market that has its own.
    Raises FileError with file and row for text in a price, decimal commas, dates that cannot be
    read or appear twice, and files with too little.

    >>> from kindynos import demo_file, read_prices
    >>> prices = read_prices(demo_file("treasury_prices.csv"))
    >>> len(prices.instruments), prices.spacing.unit
    (6, 'day')
    """
    one_of("missing", missing, POLICIES)
    if per_year is not None:
        positive("per_year", per_year)
    one_of("kind", kind, KINDS)
    form = TableFormat.checked(sheet, header, encoding, decimal)
    with sources_read() as files:
        table = _raw_prices(source, form)
        table = table if dates is None else _dated_by(table, dates)
    requested: Requested = None
    if callable(instruments):
        requested = instruments
    elif instruments is not None:
        requested = list(dict.fromkeys(instruments))
    listed, rows, groups, totals = _wide(table, requested)
    frame = with_total_returns(listed, totals, kind == "returns")
    choices = _price_column(table)
    choices += [f"Moves of {name} are those of {column!r}" for name, column in totals.items()]
    if kind == "prices":
        _check_prices(frame, set(changes or {}), table.file)
    else:
        scale = 0.01 if _in_per_cent(frame.to_numpy()) else 1.0
        choices += ["The returns are read as per cent"] if scale < 1 else []
        frame = _compounded(frame * scale, table.file)
    checksum = files[0].checksum if files else None
    listed = listed[frame.columns] if kind == "prices" else frame
    read = ReadPrices(frame, listed, rows, table.file, table.notes, checksum, tuple(choices))
    if kind == "returns" and (splits or dividends):
        raise ParameterError("splits and dividends adjust prices; state returns that hold them")
    rules = PriceRules(
        missing,
        per_year,
        keep_suspicious=keep_suspicious,
        changes=_of_instruments("changes", changes, "kinds", groups),
        splits=_of_instruments("splits", splits, "splits", groups),
        dividends=_of_instruments("dividends", dividends, "dividends", groups),
    )
    prices = _settled(*_inspected(read, rules), read, rules)
    if missing == "available":
        prices = prices._with_all_available()
    if prices.doubts:
        more = f"; and {len(prices.doubts) - MOST_NAMED} more" * (len(prices.doubts) > MOST_NAMED)
        text = f"{table.file}: {'; '.join(prices.doubts[:MOST_NAMED])}{more}"
        warnings.warn(text, DataWarning, stacklevel=2)
    return prices


def _of_instruments(name: str, stated: Any, what: str, known: Iterable[str]) -> Mapping[str, Any]:
    """Return what is stated by instrument; raises ParameterError for an unknown one."""
    by_instrument = mapping(name, stated or {}, f"{what} by instrument")
    for instrument in by_instrument:
        with concerning(name):
            known_name("instrument", instrument, known)
    return by_instrument


def _dates_of(column: pd.Series) -> pd.DatetimeIndex:
    return pd.DatetimeIndex(column.dropna().index)


def _check_prices(frame: pd.DataFrame, stated: set[str], file: str) -> None:
    """Raise FileError for a column that has returns: as many below 0 as a mean near it has, and no
    value that follows from the one before, as levels do.
    """
    for name in map(str, frame.columns):
        values = frame[name].dropna().to_numpy()
        if name in stated or len(values) < FEWEST or not np.isfinite(values).all():
            continue
        sd, below = float(values.std()), float((values < 0).mean())
        if sd == 0 or not LEAST_BELOW < below < 1 - LEAST_BELOW:
            continue
        if float(np.diff(values).std()) > sd:  # of a level changes are smaller than what it spans
            how = "returns in per cent" if _in_per_cent(values) else "returns"
            raise FileError(
                f"{name!r} looks like {how}, not prices: {below:.0%} of its values are below 0 and "
                "none follows from the one before; say kind='returns', or of a rate, which changes "
                "by differences, changes=",
                file=file,
            )


def _in_per_cent(returns: Floats) -> bool:
    """Return whether returns are so far from 0 that they are in per cent."""
    return bool(np.nanquantile(np.abs(returns), 0.9) > MOST_A_PERIOD)


def _compounded(returns: pd.DataFrame, file: str) -> pd.DataFrame:
    """Return prices of simple returns, which begin at 100 a period before them; without a return
    there is no price.
    """
    if (returns <= -1).any(axis=None):
        name = str(returns.columns[int((returns <= -1).any(axis=0).to_numpy().argmax())])
        raise FileError(f"{name!r} has returns of -100 % or less", file=file)
    if len(returns) < 2:
        raise FileError("returns of at least 2 dates are needed", file=file)
    dates = pd.DatetimeIndex(returns.index)
    start = dates[0] - pd.Timedelta(np.median(np.diff(dates.to_numpy())))
    if dates.day_of_week.max() < SATURDAY:
        start = pd.offsets.BDay().rollback(start)
    first = pd.DataFrame(100.0, pd.DatetimeIndex([start], name="date"), returns.columns)
    prices = 100 * (1 + returns.fillna(0.0)).cumprod()
    return pd.concat([first, prices.where(returns.notna())])


def prices_of(prices: Prices | pd.DataFrame) -> Prices:
    """Return prices, read from a DataFrame where one is given; raises ParameterError for anything
    else.
    """
    if isinstance(prices, pd.DataFrame):
        return read_prices(prices)
    return instance(
        "prices", prices, Prices, "prices, as read_prices returns them, or a DataFrame of them"
    )


def _raw_prices(source: str | Path | pd.DataFrame, form: TableFormat) -> Table:
    """Return the table of prices; one column is named "date"."""
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


def _dated_by(table: Table, name: str) -> Table:
    """Return a table whose column of that name is the one of dates."""
    own = table.named(name)
    columns = {
        "date" if column == own else column: cells
        for column, cells in table.columns.items()
        if column == own or column.lower() != "date"
    }
    written = table.written
    reread = None if written is None else lambda asked: written(own if asked == "date" else asked)
    return replace(table, columns=columns, written=reread)


def _date_column(table: Table) -> str:
    """Return the column named "date"; raises FileError, with the column that holds dates, where
    there is none.
    """
    for name in table.names:
        if name.lower() == "date":
            return name
    dated = table.date_column()
    advice = f"; say dates={dated!r} for the column that has them" if dated else ""
    raise FileError(
        f"no column 'date'; it has {', '.join(map(repr, table.names[:6]))}{advice}", file=table.file
    )


def _wide(
    table: Table, requested: Requested
) -> tuple[pd.DataFrame, Rows, list[str], dict[str, str]]:
    """Return prices by date and instrument, where each is in the file, all instruments, and the
    columns of total returns of those that are chosen.
    """
    dated = _date_column(table)
    dates, rows = table.dates(dated), table.rows.tolist()
    by_name = {name.lower(): name for name in table.names}
    columns_by_name = {
        what: next((by_name[label] for label in words if label in by_name), None)
        for what, words in LONG.items()
    }
    instrument, price = columns_by_name["instrument"], columns_by_name["price"]
    if instrument is not None and price is not None and not table.holds_numbers(instrument):
        names = np.array(table.texts(instrument), dtype=object)
        keys = pd.DataFrame({"date": dates, "instrument": names})
        _check_single(keys.duplicated(), table, dates, names)
        keys["price"] = table.numbers(price)
        frame = keys.pivot_table(
            index="date", columns="instrument", values="price", dropna=False, sort=True
        )
        values = list(dict.fromkeys(names))
        columns, totals = _with_totals(requested, values, table.file)
        frame = frame[columns]
        places: Rows = dict(zip(zip(dates, names, strict=True), rows, strict=True))
    else:
        _check_single(dates.duplicated(), table, dates)
        values = [name for name in table.names if name != dated]
        columns, totals = _with_totals(requested, values, table.file)
        numbers = {name: table.numbers(name) for name in columns}
        frame = pd.DataFrame(numbers, index=pd.DatetimeIndex(dates, name="date")).sort_index()
        places = dict(zip(dates, rows, strict=True))
    if len(frame) < 2:
        raise FileError(
            f"has {len(frame)} date{'' if len(frame) == 1 else 's'}; a return needs two",
            file=table.file,
        )
    frame.columns.name = None
    return frame, places, values, totals


def _with_totals(
    requested: Requested, columns: list[str], file: str
) -> tuple[list[str], dict[str, str]]:
    """Return the columns that are read, with those of total returns of the instruments that are
    chosen, by instrument.
    """
    chosen, totals = _chosen(requested, columns, file), total_return_columns(columns)
    own = {name: column for name, column in totals.items() if name in chosen}
    return list(dict.fromkeys([*chosen, *own.values()])), own


def _price_column(table: Table) -> list[str]:
    """Return which of several columns of prices is read, as a sentence, where there are several."""
    by_name = {re.sub(r"[\s_]+", " ", name.lower()): name for name in table.names}
    there = [by_name[name] for name in (*LONG["price"], *ADJUSTED) if name in by_name]
    if len(there) < 2 or not any(name in by_name for name in LONG["instrument"]):
        return []
    others = " and ".join(repr(name) for name in there[1:])
    return [f"Prices are those of the column {there[0]!r}, not {others}"]


def _chosen(requested: Requested, columns: list[str], file: str) -> list[str]:
    """Return the instruments that are asked for; raises ParameterError for one without prices."""
    for name in columns:
        words("the name of an instrument", name)
    if callable(requested):
        requested = list(dict.fromkeys(requested(columns)))
    for instrument in requested or ():
        if instrument not in columns:
            raise ParameterError(
                f"no prices of {instrument!r}", owner=file, unknown=instrument, known=columns
            )
    return columns if requested is None else requested


def _check_single(twice: Any, table: Table, dates: Any, names: Any = None) -> None:
    """Raise FileError for the first date, or date of an instrument, that is there already."""
    twice = np.asarray(twice)
    if not twice.any():
        return
    position = int(twice.argmax())
    day = f"{dates[position]:%Y-%m-%d}"
    raise FileError(
        f"the date {day} is there already"
        if names is None
        else f"{names[position]} has a second price on {day}",
        file=table.file,
        row=int(table.rows[position]),
    )


def _row(rows: Rows, date: Any, instrument: Any) -> int | None:
    """Return the row of a price in the file; a long file has none for a price that is not there."""
    return rows.get((date, instrument), rows.get(date))


def _inspected(
    read: ReadPrices, rules: PriceRules
) -> tuple[pd.DataFrame, pd.DataFrame, dict[str, str]]:
    """Return the prices that can be used, what is wrong or doubtful, and which instruments change
    by differences.
    """
    frame, dates = read.frame, read.frame.index
    values = adjusted(frame, rules.splits, rules.dividends)
    changes = _changes(read, rules)
    rows: list[tuple[Any, ...]] = []
    for position, name in enumerate(map(str, frame.columns)):
        absolute = changes.get(name) == "absolute"
        _check_instrument(values[:, position], name, absolute, read)
        usable, problems = _problems(values[:, position], name, absolute, rules)
        values[~usable, position] = np.nan
        rows += [
            (_row(read.rows, dates[row], name), dates[row], name, problem, kind)
            for row, kind, problem in problems
        ]
    problems_table = pd.DataFrame(rows, columns=["row", "date", "instrument", "problem", "kind"])
    return pd.DataFrame(values, dates, frame.columns), problems_table, changes


def _problems(
    values: Floats, name: str, absolute: bool, rules: PriceRules
) -> tuple[Mask, list[tuple[int, str, str]]]:
    """Return which prices of an instrument ``(dates,)`` can be used, and the problems of others:
    place, kind, and words.
    """
    finite = np.isfinite(values)
    first = int(np.argmax(finite))
    problems: list[tuple[int, str, str]] = []
    if first > 0:
        problems.append((first, "late", f"listed late: no price on the {first} dates before"))
    problems += [
        (row, "missing", "no price") for row in (np.flatnonzero(~finite[first:]) + first).tolist()
    ]
    below_zero, near = count_below(values[finite]), near_zero(values[finite])
    if absolute and name not in rules.changes:
        words = f"{below_zero} values are 0 or below: its changes are taken as differences"
        problems.append((first, "change", words))
    if not absolute:
        if below_zero or near:
            rate = near or f"{below_zero} values are 0 or below"
            advice = f"changes={{{name!r}: 'absolute'}} takes its differences"
            problems.append((first, "change", f"{rate}; {advice}"))
        with np.errstate(invalid="ignore"):
            below = finite & ~(values > 0)
        begins = _last_below(values, finite)
        if begins is not None:
            price = f"{values[begins]:g}"
            words = f"the price {price} is not above 0, at the end: it is used as given"
            problems.append((begins, BELOW, words))
            below[begins:] = False
        for row in np.flatnonzero(below).tolist():
            problems.append((row, BELOW, f"the price {values[row]:g} is not above 0; held out"))
        finite &= ~below
    with np.errstate(invalid="ignore"):
        rows = np.flatnonzero(finite if absolute else finite & (values > 0))
    if len(rows) > 1 and np.ptp(values[rows]) == 0:
        words = f"the same price, {values[rows[0]]:g}, on all dates: it has no risk of its own"
        problems.append((first, "flat", words))
    for doubt in doubts(values[rows], absolute):
        row = int(rows[doubt.place])
        held_out = doubt.held_out and not rules.keep_suspicious
        problems.append((row, "suspicious", f"{doubt.words}{'; held out' if held_out else ''}"))
        finite[row] &= not held_out
    return finite, problems


def _last_below(values: Floats, finite: Mask) -> int | None:
    """Return where the prices of 0 or below begin with which an instrument ends, since they say
    what has become of it; None where the last price is above 0.
    """
    rows = np.flatnonzero(finite)
    ended = values[rows] <= 0
    count = len(rows) if ended.all() else int(np.argmin(ended[::-1]))
    return int(rows[-count]) if count else None


def _changes(read: ReadPrices, rules: PriceRules) -> dict[str, str]:
    """Return the instruments whose changes are differences: stated, or found where values of 0 and
    below follow from their neighbours.
    """
    columns = list(map(str, read.frame.columns))
    for name, change in rules.changes.items():
        one_of(name, change, CHANGES)
    changes = {}
    for name in columns:
        column = read.frame[name].to_numpy()
        stated = rules.changes.get(name)
        rate = stated is None and count_below(column[np.isfinite(column)]) > 0
        if stated == "absolute" or rate:
            changes[name] = "absolute"
    return changes


def _check_instrument(values: Floats, name: str, absolute: bool, read: ReadPrices) -> None:
    """Raise FileError for prices of an instrument from which nothing can be estimated."""
    if np.isinf(values).any():
        date = read.frame.index[int(np.argmax(np.isinf(values)))]
        raise FileError(
            f"the price of {name!r} is not a finite number",
            file=read.file,
            row=_row(read.rows, date, name),
        )
    if not absolute and not (values > 0).any():
        raise FileError(
            f"{name!r} has no price above 0; changes={{{name!r}: 'absolute'}} takes "
            "the differences of a rate",
            file=read.file,
        )


def _settled(
    values: pd.DataFrame,
    problems: pd.DataFrame,
    changes: dict[str, str],
    read: ReadPrices,
    rules: PriceRules,
) -> Prices:
    """Return prices that are complete by the rule for missing ones."""
    lacking = values.isna().any(axis=1)
    missing = rules.missing
    if missing == "error" and lacking.any():
        first = problems.head(MOST_NAMED).to_dict("records")
        named = "; ".join(
            f"row {p['row']}, {p['date']:%Y-%m-%d}, {p['instrument']}: {p['problem']}"
            for p in first
        )
        more = f"; and {len(problems) - MOST_NAMED} more" if len(problems) > MOST_NAMED else ""
        raise FileError(f"{named}{more}; say missing='drop' or 'carry'", file=read.file)
    frame = values.ffill().dropna() if missing == "carry" else values.dropna()
    if len(frame) < 2:
        raise FileError(
            f"{len(frame)} dates have a price of every instrument; two are needed", file=read.file
        )
    if not lacking.any():
        description = "no price missing"
    elif missing in DROPPING:
        count = int(lacking.sum())
        plural = "" if count == 1 else "s"
        description = f"{count} date{plural} left out, on which some price is missing"
    else:
        carried = int(values.loc[frame.index].isna().sum().sum())
        description = (
            f"{carried} missing prices carried on, {len(values) - len(frame)} dates "
            "before the last listing left out"
        )
    description += _long_gaps(pd.DatetimeIndex(frame.index))
    return Prices(
        frame,
        "; ".join([description, *read.notes]),
        problems.reset_index(drop=True),
        values,
        changes,
        read,
        rules,
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


def at_row(row: Any) -> str:
    """Return the row of a problem in words, "" where it has none."""
    return "" if pd.isna(row) else f" (row {row:.0f})"
