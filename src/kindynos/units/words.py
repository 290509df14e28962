"""The words that units are written with."""

from __future__ import annotations

import re

from kindynos.tables.periods import DAYS as PERIOD_DAYS

# currencies by their signs and names; of codes of three letters only those that are currencies
CURRENCIES = {
    "€": "EUR", "$": "USD", "£": "GBP", "¥": "JPY", "us$": "USD", "euro": "EUR", "dollar": "USD",
    "pound": "GBP", "yen": "JPY", "krona": "SEK",
}  # fmt: skip
CODES = frozenset({
    "EUR", "USD", "GBP", "JPY", "CHF", "SEK", "NOK", "DKK", "ISK", "PLN", "CZK", "HUF",
    "RON", "BGN", "TRY", "RUB", "UAH", "AUD", "NZD", "CAD", "MXN", "BRL", "ARS", "CLP",
    "PEN", "CNY", "HKD", "TWD", "KRW", "SGD", "MYR", "THB", "IDR", "PHP", "VND", "INR",
    "PKR", "LKR", "ZAR", "NGN", "KES", "GHS", "EGP", "MAD", "SAR", "AED", "QAR", "KWD",
    "ILS", "XAU",
})  # fmt: skip
CENTS = frozenset({"c", "ct", "cent", "p", "pence"})
SCALES = {
    "thousand": 1e3, "k": 1e3, "000": 1e3, "1000": 1e3, "million": 1e6, "mio": 1e6, "mn": 1e6,
    "mln": 1e6, "m": 1e6, "mm": 1e6, "billion": 1e9, "bn": 1e9, "hundred": 1e2, "t": 1e3,
}  # fmt: skip
WEAK = frozenset({"k", "m", "t", "000", "1000", "mm"})  # scales only beside a currency
DAYS = {
    **dict.fromkeys(("year", "yr", "y", "annum"), PERIOD_DAYS["year"]),
    **dict.fromkeys(("quarter", "qtr"), PERIOD_DAYS["quarter"]),
    **dict.fromkeys(("month", "mo", "mth"), PERIOD_DAYS["month"]),
    **dict.fromkeys(("week", "wk"), PERIOD_DAYS["week"]),
    **dict.fromkeys(("day", "d"), PERIOD_DAYS["day"]),
    **dict.fromkeys(("hour", "hr", "h"), 1 / 24),
    **dict.fromkeys(("minute", "min"), 1 / 1440),
}
# physical units: the one that they are counted in, and how many of it
PHYSICAL = {
    "kwh": ("kWh", 1.0), "mwh": ("kWh", 1e3), "gwh": ("kWh", 1e6), "twh": ("kWh", 1e9),
    "g": ("kg", 1e-3), "kg": ("kg", 1.0), "kt": ("kg", 1e6), "megatonne": ("kg", 1e9),
    **dict.fromkeys(("t", "tonne", "ton", "mt"), ("kg", 1e3)),
    "m": ("km", 1e-3), "metre": ("km", 1e-3), "km": ("km", 1.0),
    **dict.fromkeys(("l", "litre", "liter"), ("l", 1.0)), "hl": ("l", 100.0), "m3": ("l", 1e3),
    **dict.fromkeys(("m2", "sqm"), ("m2", 1.0)), "ha": ("m2", 1e4),
    **dict.fromkeys(("sf", "sqft"), ("sqft", 1.0)),
}  # fmt: skip
# power is energy in an hour
POWERS = {"kw": 1.0, "mw": 1e3, "gw": 1e6, "kwp": 1.0, "mwp": 1e3}
SAME = {"pax": "passenger", "people": "person", "persons": "person", "customers": "customer"}
PURE = frozenset({
    "", "x", "%", "percent", "pct", "share", "ratio", "index", "multiple", "number", "#", "no",
    "count", "unit", "factor", "fraction", "item", "pc", "piece", "pp", "none", "-", "1", "times",
})  # fmt: skip
SMALL_WORDS = frozenset({"of", "in", "the", "real", "nominal", "net", "gross"})
# what stands between the parts of a unit
EACH = re.compile(r"\s+(?:a|an|per|each|every)\s+|\s*/\s*")
# other ways of writing, and what they stand for
REWRITTEN = [
    (re.compile(pattern, re.I), instead)
    for pattern, instead in (
        (r"\bp\.?\s?a\.?(?=$|[\s,)])|\b(yearly|annually|annual|per annum)\b", " per year "),
        (r"\bmonthly\b|\bp\.?\s?m\.(?=$|\s)|\bpcm\b", " per month "),
        (r"\bquarterly\b", " per quarter "),
        (r"\bweekly\b", " per week "),
        (r"\bdaily\b", " per day "),
        (r"²|\^2|\*\*2", "2"),
        (r"³|\^3", "3"),
    )
]
MEGATONNE = re.compile(r"\bMt\b")  # which capitals tell from a metric ton


def singular(word: str) -> str:
    """Return a word without the ending of several things.

    >>> singular("companies"), singular("boxes"), singular("guests"), singular("glass")
    ('company', 'box', 'guest', 'glass')
    """
    if word.endswith("ies") and len(word) > 4:
        return word[:-3] + "y"
    if word.endswith(("sses", "shes", "ches", "xes")):
        return word[:-2]
    return word[:-1] if word.endswith("s") and not word.endswith("ss") and len(word) > 2 else word
