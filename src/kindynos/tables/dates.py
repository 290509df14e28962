"""Dates as files write them: days, days with times, months, quarters and years."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from kindynos.errors import FileError

if TYPE_CHECKING:
    import pandas as pd


class Style(NamedTuple):
    """A way of writing dates: its pattern, whose groups are named, and an example."""

    pattern: re.Pattern[str]
    example: str


def _style(pattern: str, example: str) -> Style:
    return Style(re.compile(pattern), example)


TIME = r"(?:[T ]\d{1,2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:Z|[+-]\d{2}:?\d{2})?)?"
STYLES = (
    _style(rf"(?P<year>\d{{4}})-(?P<month>\d{{2}})-(?P<day>\d{{2}}){TIME}", "2027-12-31"),
    _style(rf"(?P<day>\d{{1,2}})\.(?P<month>\d{{1,2}})\.(?P<year>\d{{4}}){TIME}", "31.12.2027"),
    _style(rf"(?P<month>\d{{1,2}})/(?P<day>\d{{1,2}})/(?P<year>\d{{4}}){TIME}", "12/31/2027"),
    _style(r"(?P<year>\d{4})-(?P<month>\d{2})", "2027-12"),
    _style(r"(?P<month>\d{1,2})/(?P<year>\d{4})", "12/2027"),
    _style(r"(?P<name>[A-Za-z]{3,9})\.?[- ](?P<year>\d{4})", "Dec 2027"),
    _style(r"(?P<year>\d{4})-?[Ww](?P<week>\d{2})", "2027-W52"),
    _style(r"(?P<year>\d{4})[- ]?[Qq](?P<quarter>[1-4])", "2027-Q4"),
    _style(r"[Qq](?P<quarter>[1-4])[- ]?(?P<year>\d{4})", "Q4 2027"),
    _style(r"(?P<year>\d{4})", "2027"),
)
SLASHED = STYLES[2]
MONTHS = ("january", "february", "march", "april", "may", "june", "july", "august", "september",
          "october", "november", "december")  # fmt: skip
NAMES = ("date", "day", "week", "month", "quarter", "year", "time")  # of columns that hold dates


def style_of(text: str) -> Style | None:
    """Return the way in which a text is written as a date, None where it is none."""
    return next((style for style in STYLES if style.pattern.fullmatch(text.strip())), None)


def looks_like_dates(texts: Sequence[str]) -> bool:
    """Return whether a column's first text is a date; a year alone is taken for a number."""
    first = next((text for text in texts if text.strip()), "")
    style = style_of(first)
    return style is not None and style is not STYLES[-1]


def dates_in(texts: Sequence[str], rows: Sequence[int], label: str, file: str) -> pd.DatetimeIndex:
    """Return texts as dates, all written in one way, the first day of a week, month, quarter or
    year. Of 12/31/2027 the day is the part that is above 12 somewhere.

    Raises FileError with the row of a text that is not a date, or names a day there is not, and
    where nothing shows whether the day or the month comes first.
    """
    import pandas as pd

    plain = pd.Series(list(texts), dtype=object).str.strip()
    if bool((plain.str.len() == len("2027-12-31")).all()):
        days = pd.to_datetime(plain, format="%Y-%m-%d", errors="coerce")
        if not days.isna().any():
            return pd.DatetimeIndex(days)
    style = (style_of(texts[0]) if len(texts) else None) or STYLES[0]
    fields = plain.str.extract("^" + style.pattern.pattern + "$")
    bad = fields["year"].isna().to_numpy()
    if bad.any():
        position = int(bad.argmax())
        raise FileError(
            f"{texts[position]!r:.40} in column {label!r} is not a date; dates must all be written "
            f"like {style.example}",
            file=file,
            row=int(rows[position]),
        )
    if style is SLASHED:
        fields = _in_order(fields, label, file)
    days = _days(fields)
    if days.isna().any():
        position = int(days.isna().to_numpy().argmax())
        raise FileError(
            f"there is no day {texts[position]!r:.40}", file=file, row=int(rows[position])
        )
    return pd.DatetimeIndex(days)


def _in_order(parts: pd.DataFrame, label: str, file: str) -> pd.DataFrame:
    """Return the parts of dates written with strokes, with the day in the part that is above 12
    somewhere; raises FileError where neither is, or both are.
    """
    first, second = parts["month"].astype(int), parts["day"].astype(int)
    day_first, month_first = bool((first > 12).any()), bool((second > 12).any())
    if day_first == month_first:
        raise FileError(
            f"the dates in column {label!r} do not show whether the day or the month comes first; "
            "write them like 2027-12-31",
            file=file,
        )
    if day_first:
        return parts.assign(month=parts["day"], day=parts["month"])
    return parts


def _days(parts: pd.DataFrame) -> pd.Series:
    """Return the days of dates in parts, NaT for those that there are not."""
    import pandas as pd

    numbers = pd.DataFrame({"year": parts["year"].astype(int), "month": 1, "day": 1})
    if "name" in parts:
        names = parts["name"].str.lower()
        short = {month[:3]: number for number, month in enumerate(MONTHS, start=1)}
        by_name = short | {month: number for number, month in enumerate(MONTHS, start=1)}
        numbers["month"] = names.map(by_name | {"sept": 9}).fillna(0).astype(int)
    if "quarter" in parts:
        numbers["month"] = 3 * parts["quarter"].astype(int) - 2
    for field in ("month", "day"):
        if field in parts:
            numbers[field] = parts[field].astype(int)
    days = pd.to_datetime(numbers, errors="coerce")
    if "week" in parts:  # the Monday of the week, by ISO 8601
        weeks = parts["year"] + "-" + parts["week"] + "-1"
        days = pd.to_datetime(weeks, format="%G-%V-%u", errors="coerce")
    return days
