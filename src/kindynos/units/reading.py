"""Reading units as people write them: "EUR a cup", "EUR/kWh", "% p.a.", "thousand tonnes". What
cannot be read for certain is no unit, and fits everything.
"""

from __future__ import annotations

import re

from kindynos.units.algebra import LARGEST_SIZE, PURE_UNIT, Unit
from kindynos.units.words import (
    CENTS,
    CODES,
    CURRENCIES,
    DAYS,
    EACH,
    MEGATONNE,
    PHYSICAL,
    POWERS,
    PURE,
    REWRITTEN,
    SAME,
    SCALES,
    SMALL_WORDS,
    WEAK,
    singular,
)

LARGEST_TEXT = 80
GLUED = re.compile(r"([kmt]|mm|mio|bn)?\s?(EUR|USD|GBP|CHF|€|\$|£)\s?(k|m|mm|mn|bn|mio|000)?", re.I)
TIMES = re.compile(r"\s*[·*×]\s*|-(?=[a-z])")
NOUN = re.compile(r"[^\W\d_]+2?( [^\W\d_]+2?)*")


class UnreadableError(Exception):
    """A unit that may mean several things."""


def read_unit(text: str | None, money: str | None = None) -> Unit | None:
    """Return the unit that a text states, None where it states none that is certain; ``money`` is
    the currency that cents are of.

    >>> read_unit("thousand EUR a year").bases, read_unit("thousand EUR a year").sizes
    ({'$EUR': Fraction(1, 1), '@year': Fraction(-1, 1)}, frozenset({1000.0}))
    >>> read_unit("EUR price") is None
    True
    """
    if text is None or not text.strip() or len(text) > LARGEST_TEXT or re.search(r"/\s*\(", text):
        return None
    if text.strip().startswith("of "):
        return PURE_UNIT
    plain = _rewritten(text)
    top, *below = EACH.split(plain)
    try:
        unit = _product(top, money)
        for part in below:
            unit = unit.times(_product(part, money, below=True), -1)
    except UnreadableError:
        return None
    if not all(1 / LARGEST_SIZE < size < LARGEST_SIZE for size in unit.sizes):
        return None  # "0 t"
    currencies = [base for base in unit.bases if base.startswith("$")]
    # EUR per USD says which way it is; the market's EUR/USD is written for both
    both_ways = len(currencies) == len(unit.bases) == 2 and "/" in text
    return unit.of_exchange() if both_ways else unit


def _rewritten(text: str) -> str:
    """Return a text with one way of writing for what has several."""
    text = re.sub(r"\(.*?\)", " ", text.split(",")[0]).strip()
    text = MEGATONNE.sub("megatonne", text)
    for pattern, instead in REWRITTEN:
        text = pattern.sub(instead, text)
    text = " ".join(text.split())
    if re.match(r"(a|an|per|each|/)\s*\w", text) and text not in ("a", "an", "per", "each"):
        text = f"1 {text}"
    if re.match(r"1?\s*(%|percent|share|fraction|per ?cent) of ", text):
        text = re.sub(r"of .*?(?=$| (?:a|per|each) |/)", "", text)
    return text


def _product(text: str, money: str | None, below: bool = False) -> Unit:
    unit = PURE_UNIT
    parts = TIMES.split(text)
    if below:  # EUR per t and km
        parts = [factor for part in parts for factor in part.split(" and ")]
    for part in parts:
        unit = unit.times(_noun(part.strip(), money, below))
    return unit


def _noun(text: str, money: str | None, below: bool) -> Unit:
    """Return the unit of one thing, such as "thousand EUR", "room nights" or "t CO2"."""
    text = text.replace("'", "")
    glued = GLUED.fullmatch(text)
    words = [word for word in glued.groups() if word] if glued else text.split()
    words = [word for word in words if word.lower() not in SMALL_WORDS]
    currency = next((code for word in words if (code := _currency(word))), None)
    size, rest = _without_scales(words, currency)
    if currency and rest:
        raise UnreadableError  # "EUR price": it may be for each of something
    if currency:
        return Unit.of(f"${currency}", size)
    return _thing(rest, size, money, below)


def _currency(word: str) -> str | None:
    low = word.lower()
    currency = CURRENCIES.get(low) or CURRENCIES.get(singular(low))
    return currency or (
        word.upper()
        if word.upper() in CODES and (word.isupper() or low in ("eur", "usd", "gbp", "chf"))
        else None
    )


def _without_scales(words: list[str], currency: str | None) -> tuple[float, list[str]]:
    """Return the size that scales such as thousand make, and the other words in lower case."""
    size, rest = 1.0, []
    for position, word in enumerate(words):
        low = singular(word.lower())
        first = low in ("m", "k") and position == 0 and len(words) > 1
        if currency and _currency(word) == currency:
            continue
        if low in SCALES and (low not in WEAK or currency or first):
            size *= SCALES[low]
        elif low in CENTS and currency:
            size *= 0.01
        else:
            rest.append(low)
    return size, rest


def _thing(words: list[str], size: float, money: str | None, below: bool) -> Unit:
    """Return the unit of what is no money."""
    words, size = _without_numbers(words, size)
    noun = " ".join(words)
    if re.match(r"(of|share|fraction|load) ", noun) or "factor" in words:
        return PURE_UNIT
    if noun in CENTS and money:
        return Unit.of(f"${money}", 0.01)
    if noun in PURE:
        return Unit.of_size(size)
    if below and noun == "a":
        noun = "year"
    if noun in DAYS:
        return Unit.of(f"@{noun}", size)
    if noun in POWERS:
        return Unit.of("&kwh", size * POWERS[noun]).times(Unit.of("@h"), -1)
    if words[0] in PHYSICAL:  # whatever of: "t CO2", "kg feed"
        return Unit.of(f"&{words[0]}", size)
    if not NOUN.fullmatch(noun):
        raise UnreadableError
    head = SAME.get(words[-1], words[-1])
    if head in DAYS and len(words) > 1:  # "person days"
        things = " ".join(SAME.get(word, word) for word in words[:-1])
        return Unit.of(things, size).times(Unit.of(f"@{head}"))
    return Unit.of(head, size)


def _without_numbers(words: list[str], size: float) -> tuple[list[str], float]:
    """Return words without the numbers before them: "100km", "1000 pages", "MMbbl"."""
    if words and words[0] not in PHYSICAL:
        glued = re.fullmatch(r"(\d+)([a-z]+)", words[0])
        if glued:
            size, words = size * float(glued[1]), [glued[2], *words[1:]]
        millions = re.fullmatch(r"mm(bbl|boe|scf|cf|btu)", words[0])
        if millions:
            size, words = size * 1e6, [millions[1], *words[1:]]
    if len(words) > 1 and words[0].isdigit():
        size, words = size * float(words[0]), words[1:]
    return words, size
