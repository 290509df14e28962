"""Dates as numbers of days, in the two systems that workbooks know."""

from __future__ import annotations

import datetime
import re

from kindynos.workbooks.cell_errors import NUM, VALUE, ResultError

FIRST_1900 = datetime.date(1899, 12, 30)  # day 0 from March 1900 on
FIRST_1904 = datetime.date(1904, 1, 1)
SYSTEM_GAP = 1462  # days between the two
LAST = 2_958_465  # 9999-12-31
TEXTS = (
    re.compile(r"(?P<year>\d{4})-(?P<month>\d{1,2})-(?P<day>\d{1,2})"),
    re.compile(r"(?P<year>\d{4})/(?P<month>\d{1,2})/(?P<day>\d{1,2})"),
)
TIME = re.compile(r"(?P<hour>\d{1,2}):(?P<minute>\d{2})(?::(?P<second>\d{2}(?:\.\d*)?))?")


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
    day, _, clock = text.partition(" ") if " " in text else (text, "", "")
    for style in TEXTS:
        match = style.fullmatch(day)
        if match:
            try:
                date = datetime.date(*(int(match[piece]) for piece in ("year", "month", "day")))
            except ValueError:
                return None
            time = 0.0 if not clock else _time_in_text(clock)
            return None if time is None else (date - FIRST_1900).days + time
    return _time_in_text(text)


def _time_in_text(text: str) -> float | None:
    match = TIME.fullmatch(text.strip())
    if match is None or int(match["minute"]) > 59:
        return None
    seconds = float(match["second"] or 0)
    return (int(match["hour"]) * 3600 + int(match["minute"]) * 60 + seconds) / 86400


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
