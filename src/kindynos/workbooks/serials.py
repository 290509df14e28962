"""Dates as numbers of days, in the two systems that workbooks know."""

from __future__ import annotations

import datetime
import re

from kindynos.workbooks.cell_errors import NUM, VALUE, ResultError

FIRST_1900 = datetime.date(1899, 12, 30)  # day 0 from March 1900 on
SYSTEM_GAP = 1462  # days between the two
LAST = 2_958_465  # 9999-12-31
TEXTS = (
    re.compile(r"(?P<year>\d{4})-(?P<month>\d{1,2})-(?P<day>\d{1,2})"),
    re.compile(r"(?P<year>\d{4})/(?P<month>\d{1,2})/(?P<day>\d{1,2})"),
)
# month, day and year, as the programs of files in English read them
SLASHED = re.compile(r"(\d{1,2})/(\d{1,2})/(\d{4})")
TIME = re.compile(
    r"(?P<hour>\d{1,2})(?::(?P<minute>\d{2})(?::(?P<second>\d{2}(?:\.\d*)?))?)?"
    r"(?:\s*(?P<half>[aApP])[mM])?"
)


def date_of(serial: float) -> datetime.date:
    """Return the day of a serial number of the system of 1900; raises ResultError for none."""
    if not 0 <= serial < LAST + 1:
        raise ResultError(NUM)
    return FIRST_1900 + datetime.timedelta(days=int(serial))


def serial_of(year: int, month: int, day: int) -> float:
    """Return the serial number of a day; month and day may run over; raises
    ResultError.
    """
    year, month = year + (month - 1) // 12, (month - 1) % 12 + 1
    if not 1899 <= year <= 9999:
        raise ResultError(NUM)
    days = (datetime.date(year, month, 1) - FIRST_1900).days + day - 1
    if not 0 <= days <= LAST:
        raise ResultError(NUM)
    return float(days)


def serial_in_text(text: str) -> float | None:
    """Return the serial number of a date or a time that a text states, None where it states
    none.
    """
    day, _, clock = text.partition(" ")
    stated = _date_in_text(day)
    if stated is None:
        return _time_in_text(text)
    try:
        date = datetime.date(*stated)
    except ValueError:
        return None
    time = _time_in_text(clock) if clock else 0.0
    return None if time is None else (date - FIRST_1900).days + time


def _date_in_text(text: str) -> tuple[int, int, int] | None:
    """Return the year, month and day that a text states, which may not be a date."""
    for style in TEXTS:
        match = style.fullmatch(text)
        if match:
            return int(match["year"]), int(match["month"]), int(match["day"])
    match = SLASHED.fullmatch(text)
    if match is None:
        return None
    month, day, year = (int(digits) for digits in match.groups())
    return year, month, day


def _time_in_text(text: str) -> float | None:
    match = TIME.fullmatch(text.strip())
    if match is None or (match["minute"] is None and match["half"] is None):
        return None
    hour, minute, half = int(match["hour"]), int(match["minute"] or 0), match["half"]
    if minute > 59 or (half and not 1 <= hour <= 12):
        return None
    if half:
        hour = hour % 12 + (12 if half in "pP" else 0)
    return (hour * 3600 + minute * 60 + float(match["second"] or 0)) / 86400


def whole_date(serial: float) -> int:
    """Return the whole days of a serial number; raises ResultError for one that is not a date."""
    if not 0 <= serial < LAST + 1:
        raise ResultError(NUM)
    return int(serial)


def checked_text(text: str) -> float:
    """Return the serial number that a text states; raises ResultError where it states none."""
    serial = serial_in_text(text)
    if serial is None:
        raise ResultError(VALUE)
    return serial
