"""Dates and calendars. A date is a number of days; see ``serials``."""

from __future__ import annotations

import calendar
import datetime
import math
from collections.abc import Iterable

from kindynos.workbooks.cell_errors import NUM, VALUE, ResultError
from kindynos.workbooks.functions.registry import function, numbers_in, required, whole
from kindynos.workbooks.serials import checked_text, date_of, serial_of, whole_date
from kindynos.workbooks.values import Grid, Value

FARTHEST = 100_000  # working days


@function("DATE", "nnn", dated=True)
def _date(year: float, month: float, day: float) -> Value:
    """Return the serial number of a day; months and days may run over, and years below 1900 count
    from 1900.
    """
    number = whole(year)
    required(number >= 0)
    return serial_of(number + 1900 if number < 1900 else number, whole(month), whole(day))


@function("DATEVALUE", "t", dated=True)
def _datevalue(text: str) -> Value:
    """Return the serial number of the date that a text states."""
    return math.floor(checked_text(text))


@function("TIMEVALUE", "t")
def _timevalue(text: str) -> Value:
    """Return the share of a day of the time that a text states."""
    return checked_text(text) % 1


@function("TIME", "nnn")
def _time(hour: float, minute: float, second: float) -> Value:
    """Return a time as the share of a day that is gone."""
    seconds = whole(hour) * 3600 + whole(minute) * 60 + whole(second)
    required(seconds >= 0)
    return (seconds % 86400) / 86400


@function("YEAR", "d")
def _year(serial: float) -> Value:
    """Return the year of a date."""
    return date_of(serial).year


@function("MONTH", "d")
def _month(serial: float) -> Value:
    """Return the month of a date."""
    return date_of(serial).month


@function("DAY", "d")
def _day(serial: float) -> Value:
    """Return the day of the month of a date."""
    return date_of(serial).day


def _seconds(serial: float) -> float:
    """Return the seconds of a time since midnight; a hair below a whole one counts as it."""
    required(serial >= 0)
    seconds = (serial - math.floor(serial)) * 86400
    close = float(round(seconds))
    return (close if abs(seconds - close) < 1e-5 else seconds) % 86400


@function("HOUR", "d")
def _hour(serial: float) -> Value:
    """Return the hour of a time."""
    return _seconds(serial) // 3600


@function("MINUTE", "d")
def _minute(serial: float) -> Value:
    """Return the minute of a time."""
    return _seconds(serial) % 3600 // 60


@function("SECOND", "d")
def _second(serial: float) -> Value:
    """Return the second of a time, to the nearest."""
    return round(_seconds(serial) % 60) % 60


@function("WEEKDAY", "d[n]")
def _weekday(serial: float, kind: float = 1.0) -> Value:
    """Return the day of the week: kind 1 from Sunday = 1, 2 from Monday = 1, 3 from Monday = 0, 11
    to 17 from Monday to Sunday = 1.
    """
    day = date_of(serial).weekday()
    number = whole(kind)
    if number == 3:
        return day
    first = 6 if number == 1 else 0 if number == 2 else number - 11
    required(number in (1, 2) or 11 <= number <= 17)
    return (day - first) % 7 + 1


@function("WEEKNUM", "d[n]")
def _weeknum(serial: float, kind: float = 1.0) -> Value:
    """Return the week of the year: week 1 holds January 1; kind 21 is that of ISO 8601."""
    date, number = date_of(serial), whole(kind)
    if number == 21:
        return date.isocalendar().week
    required(number in (1, 2) or 11 <= number <= 17)
    first = 6 if number == 1 else 0 if number == 2 else number - 11
    start = datetime.date(date.year, 1, 1)
    return ((date - start).days + (start.weekday() - first) % 7) // 7 + 1


@function("ISOWEEKNUM", "d")
def _isoweeknum(serial: float) -> Value:
    """Return the week of the year of ISO 8601."""
    return date_of(serial).isocalendar().week


def _moved(serial: float, months: float) -> datetime.date:
    """Return a date some months later, at most the month's last day."""
    date = date_of(serial)
    number = date.year * 12 + date.month - 1 + whole(months)
    year, month = divmod(number, 12)
    required(1899 <= year <= 9999)
    return datetime.date(year, month + 1, min(date.day, calendar.monthrange(year, month + 1)[1]))


@function("EDATE", "dn", dated=True)
def _edate(serial: float, months: float) -> Value:
    """Return the date some months later."""
    date = _moved(serial, months)
    return serial_of(date.year, date.month, date.day)


@function("EOMONTH", "dn", dated=True)
def _eomonth(serial: float, months: float) -> Value:
    """Return the last day of the month some months later."""
    date = _moved(serial, months)
    return serial_of(date.year, date.month, calendar.monthrange(date.year, date.month)[1])


@function("DAYS", "dd")
def _days(end: float, begin: float) -> Value:
    """Return the days between two dates."""
    return whole_date(end) - whole_date(begin)


def days_360(begin: datetime.date, end: datetime.date, european: bool) -> int:
    """Return the days between two dates in years of 12 months of 30 days."""
    first, last = begin.day, end.day
    if european:
        first, last = min(first, 30), min(last, 30)
    else:
        if begin.month == 2 and first == calendar.monthrange(begin.year, 2)[1]:
            first = 30
        if first == 31:
            first = 30
        if last == 31 and first >= 30:
            last = 30
    return (end.year - begin.year) * 360 + (end.month - begin.month) * 30 + last - first


@function("DAYS360", "dd[b]")
def _days360(begin: float, end: float, european: bool = False) -> Value:
    """Return the days between two dates in years of 360 days."""
    return days_360(date_of(begin), date_of(end), european)


def year_share(begin: datetime.date, end: datetime.date, basis: int) -> float:
    """Return the years between two dates: by 30/360 (0), actual days (1), actual/360 (2),
    actual/365 (3) or the European 30/360 (4).
    """
    required(0 <= basis <= 4)
    if begin > end:
        begin, end = end, begin
    days = (end - begin).days
    if basis in (0, 4):
        if basis == 0 and begin.month == end.month == 2:
            lasts = [d.day == calendar.monthrange(d.year, 2)[1] for d in (begin, end)]
            if all(lasts):
                return float(end.year - begin.year)
        return days_360(begin, end, basis == 4) / 360
    if basis in (2, 3):
        return days / (360 if basis == 2 else 365)
    return days / _average_year(begin, end)


def _average_year(begin: datetime.date, end: datetime.date) -> float:
    """Return the days of a year, on average over the years that two dates touch."""
    one_year = (end.year == begin.year) or (
        end.year == begin.year + 1 and (end.month, end.day) <= (begin.month, begin.day)
    )
    if one_year:
        if end.year == begin.year:
            return 366 if calendar.isleap(begin.year) else 365
        leap = [
            datetime.date(year, 2, 29) for year in (begin.year, end.year) if calendar.isleap(year)
        ]
        return 366 if any(begin <= day <= end for day in leap) else 365
    years = range(begin.year, end.year + 1)
    return sum(366 if calendar.isleap(year) else 365 for year in years) / len(years)


@function("YEARFRAC", "dd[n]")
def _yearfrac(begin: float, end: float, basis: float = 0.0) -> Value:
    """Return the years between two dates by a convention."""
    return year_share(date_of(begin), date_of(end), whole(basis))


@function("DATEDIF", "ddt")
def _datedif(begin: float, end: float, unit: str) -> Value:
    """Return whole years (Y), months (M) or days (D) between two dates; YM, YD and MD leave the
    years, or the months, out.
    """
    first, last = date_of(begin), date_of(end)
    required(first <= last)
    months = (last.year - first.year) * 12 + last.month - first.month - (last.day < first.day)
    upper = unit.upper()
    if upper == "Y":
        return months // 12
    if upper == "M":
        return months
    if upper == "D":
        return (last - first).days
    if upper == "YM":
        return months % 12
    if upper == "MD":
        since = _moved(begin, months)
        return (last - since).days
    if upper == "YD":
        return (last - _moved(begin, months // 12 * 12)).days
    raise ResultError(NUM)


def _free_days(weekend: Value) -> list[bool]:
    """Return which days from Monday on are free, from the number or the text of a weekend."""
    if isinstance(weekend, str):
        required(len(weekend) == 7 and set(weekend) <= {"0", "1"} and "0" in weekend, VALUE)
        return [letter == "1" for letter in weekend]
    number = whole(1.0 if weekend is None else float(weekend))
    if 1 <= number <= 7:
        first = (number + 4) % 7
        return [day in (first, (first + 1) % 7) for day in range(7)]
    required(11 <= number <= 17)
    return [day == (number - 12) % 7 for day in range(7)]


def _holidays(grids: Iterable[Grid]) -> set[int]:
    return {int(serial) for grid in grids for serial in numbers_in([grid])}


def _monday_based(serial: int) -> int:
    return date_of(float(serial)).weekday()


def _network(begin: float, end: float, free: list[bool], holidays: set[int]) -> int:
    first, last = whole_date(begin), whole_date(end)
    sign = 1 if first <= last else -1
    low, high = min(first, last), max(first, last)
    weeks, rest = divmod(high - low + 1, 7)
    day = _monday_based(low)
    count = weeks * (7 - sum(free)) + sum(not free[(day + i) % 7] for i in range(rest))
    count -= sum(low <= h <= high and not free[_monday_based(h)] for h in holidays)
    return sign * count


@function("NETWORKDAYS", "dd[r]")
def _networkdays(begin: float, end: float, *holidays: Grid) -> Value:
    """Return the working days from one date to another, both included."""
    return _network(begin, end, _free_days(None), _holidays(holidays))


@function("NETWORKDAYS.INTL", "dd[vr]")
def _networkdays_intl(begin: float, end: float, weekend: Value = None, *holidays: Grid) -> Value:
    """Return the working days from one date to another, with a stated weekend."""
    return _network(begin, end, _free_days(weekend), _holidays(holidays))


def _workday(begin: float, days: float, free: list[bool], holidays: set[int]) -> int:
    position, left = whole_date(begin), whole(days)
    required(abs(left) <= FARTHEST)
    step = 1 if left > 0 else -1
    while left:
        position += step
        required(position >= 0)
        if not free[_monday_based(position)] and position not in holidays:
            left -= step
    return position


@function("WORKDAY", "dn[r]", dated=True)
def _workday_plain(begin: float, days: float, *holidays: Grid) -> Value:
    """Return the date some working days later."""
    return _workday(begin, days, _free_days(None), _holidays(holidays))


@function("WORKDAY.INTL", "dn[vr]", dated=True)
def _workday_intl(begin: float, days: float, weekend: Value = None, *holidays: Grid) -> Value:
    """Return the date some working days later, with a stated weekend."""
    return _workday(begin, days, _free_days(weekend), _holidays(holidays))
