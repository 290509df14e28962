"""What a cell of text means: a number as people write it, a missing value, or neither."""

from __future__ import annotations

import re
import unicodedata
from typing import NamedTuple

ERRORS = ("#N/A", "#DIV/0!", "#VALUE!", "#REF!", "#NUM!", "#NAME?", "#NULL!")  # of spreadsheets
MISSING = frozenset(
    word.lower()
    for word in (
        *ERRORS, "", "nan", "na", "n/a", "n.a.", "<na>", "null", "none", "nil", "missing",
        "-", "--", ".", "..", "\N{EN DASH}", "\N{EM DASH}", "\N{MINUS SIGN}",
    )
)  # fmt: skip
SPACES = re.compile(r"\s|['\u2019]")  # that part groups of digits; \s has thin spaces among them
# possessive, since a cell of very many digits and a letter would else be tried in all ways
PLAIN = re.compile(
    r"[+-]?(?:\d++(?:\.\d*+)?|\.\d++)(?:[eE][+-]?\d++)?|[+-]?inf(?:inity)?", re.IGNORECASE
)
LONGEST = 1_000  # characters of a cell that may be a number
PARTED = re.compile(r"\d[-/:]\d")
CODES = {"€": "EUR", "£": "GBP"}  # of signs that stand for one currency
CODE = re.compile(r"[A-Z]{3}")  # of a currency, such as EUR
SIGNS = {
    "\N{MINUS SIGN}": "-",
    "\N{EN DASH}": "-",
    "\N{HYPHEN}": "-",
    "\N{FULLWIDTH PLUS SIGN}": "+",
}


class NumberCell(NamedTuple):
    """A number that a cell holds, whether it was written as a percentage, and in what currency."""

    value: float
    percent: bool = False
    currency: str = ""


def is_missing(text: str, words: frozenset[str] = frozenset()) -> bool:
    """Return whether a text, without spaces around it, stands for a value that is missing."""
    return text.lower() in MISSING or text in words


def number_in(text: str, decimal: str = ".") -> NumberCell | None:
    """Return the number that a text states, None where it states none.

    Groups of three digits may be parted by spaces, apostrophes or the sign that is not the decimal
    one; parentheses mean below 0; a percent sign, a currency sign and a currency's code are read.

    >>> number_in("(1,234.50)"), number_in("12,5 %", ","), number_in("EUR 3'000")
    (NumberCell(value=-1234.5, percent=False, currency=''), NumberCell(value=0.125, percent=True, \
currency=''), NumberCell(value=3000.0, percent=False, currency='EUR'))
    >>> number_in("1_000"), number_in("1,5")
    (None, None)
    """
    if len(text) > LONGEST:
        return None
    text = text.strip()
    if decimal == "." and PLAIN.fullmatch(text):  # as most are
        return NumberCell(float(text))
    if PARTED.search(text):  # a date or a time; a file may hold very many
        return None
    below = text.startswith("(") and text.endswith(")")
    text = text[1:-1].strip() if below else text
    sign, text = _signed(text)

    percent = text.endswith("%")
    text = text.removesuffix("%").strip()
    currency, text = _currency(text)
    if currency and not sign:
        sign, text = _signed(text)

    digits = _plain_digits(text, decimal)
    if digits is None or (below and sign) or (percent and currency):
        return None
    value = float(sign + digits)
    return NumberCell(
        (-value if below else value) / (100 if percent else 1), percent=percent, currency=currency
    )


def _signed(text: str) -> tuple[str, str]:
    sign = SIGNS.get(text[:1], text[:1])
    return (sign, text[1:].strip()) if sign in ("+", "-") and sign else ("", text)


def _currency(text: str) -> tuple[str, str]:
    """Return the currency sign or code at either end of a text, "" for none, and the rest."""
    for mark in (text[:3], text[-3:], text[:1], text[-1:]):
        if CODE.fullmatch(mark) or (len(mark) == 1 and unicodedata.category(mark) == "Sc"):
            rest = text.removeprefix(mark) if text.startswith(mark) else text.removesuffix(mark)
            return mark, rest.strip()
    return "", text


def _plain_digits(text: str, decimal: str) -> str | None:
    """Return the digits of a number without groups and with a decimal point, None for no number."""
    other = "," if decimal == "." else "."
    mark = re.escape(decimal)
    grouped = rf"\d{{1,3}}(?:(?P<mark>[\s'\u2019{re.escape(other)}])\d{{3}})(?:(?P=mark)\d{{3}})*"
    if re.fullmatch(rf"{grouped}(?:{mark}\d*)?", text):
        text = SPACES.sub("", text).replace(other, "")
    elif other in text:
        return None
    text = text.replace(decimal, ".")
    return text if PLAIN.fullmatch(text) and text[:1] not in ("+", "-") else None
