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
    _style(r"(?P<year>\d{4})-(?P<month>\d{2})", "2027-12"),
    _style(r"(?P<year>\d{4})[- ]?[Qq](?P<quarter>[1-4])", "2027-Q4"),
    _style(r"[Qq](?P<quarter>[1-4])[- ]?(?P<year>\d{4})", "Q4 2027"),
    _style(r"(?P<year>\d{4})", "2027"),
)
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
    """Return texts as dates, all written in one way, the first day of a month, quarter or year.

    Raises FileError with the row of a text that is not a date, or names a day there is not.
    """
    import pandas as pd

    plain = pd.Series(list(texts), dtype=object).str.strip()
    if bool((plain.str.len() == len("2027-12-31")).all()):
        days = pd.to_datetime(plain, format="%Y-%m-%d", errors="coerce")
        if not days.isna().any():
            return pd.DatetimeIndex(days)
    style = (style_of(texts[0]) if len(texts) else None) or STYLES[0]
    answer = plain.str.extract("^" + style.pattern.pattern + "$")
    bad = answer["year"].isna().to_numpy()
    if bad.any():
        position = int(bad.argmax())
        raise FileError(
            f"{texts[position]!r:.40} in column {label!r} is not a date; dates must all be written "
            f"like {style.example}",
            file=file,
            row=int(rows[position]),
        )
    parts = pd.DataFrame({"year": answer["year"].astype(int), "month": 1, "day": 1})
    if "quarter" in answer:
        parts["month"] = 3 * answer["quarter"].astype(int) - 2
    for piece in ("month", "day"):
        if piece in answer:
            parts[piece] = answer[piece].astype(int)
    days = pd.to_datetime(parts, errors="coerce")
    if days.isna().any():
        position = int(days.isna().to_numpy().argmax())
        raise FileError(
            f"there is no day {texts[position]!r:.40}", file=file, row=int(rows[position])
        )
    return pd.DatetimeIndex(days)
