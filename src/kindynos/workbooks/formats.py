"""Numbers written by a format of cells, such as ``#,##0.0 %`` or ``yyyy-mm-dd``."""

from __future__ import annotations

import datetime
import re
from fractions import Fraction

from kindynos.workbooks.cell_errors import VALUE, ResultError
from kindynos.workbooks.serials import date_of
from kindynos.workbooks.values import general

PART = re.compile(r'"([^"]*)"|\\(.)|_.|\*.|\[[^\]]*\]|([0#?.,%]+(?:[eE][+-]0+)?)|(.)', re.S)
DATE = re.compile(r'"[^"]*"|\[[^\]]*\]|(am/pm|a/p|y+|m+|d+|h+|s+(?:\.0+)?)', re.I)


def formatted(number: float, form: str) -> str:
    """Return a number written by a format; raises ResultError for one that is not known.

    >>> formatted(1234.5, "#,##0.00"), formatted(0.125, "0.0%"), formatted(46023, "yyyy-mm-dd")
    ('1,234.50', '12.5%', '2026-01-01')
    """
    if form.strip().lower() in ("general", "@", "standard"):
        return general(number)
    if not form:
        return ""
    if any(match[1] for match in DATE.finditer(form)):
        return _date(number, form)
    parts = form.split(";")
    if number < 0 and len(parts) > 1:
        return _number(-number, parts[1])
    if number == 0 and len(parts) > 2:
        return _number(number, parts[2])
    return _number(number, parts[0])


def _number(number: float, form: str) -> str:
    codes = "".join(match[3] or "" for match in PART.finditer(form))
    if not codes:
        return "".join((match[1] or match[2] or match[4] or "") for match in PART.finditer(form))
    slashed = FRACTION.search(form)
    if slashed is not None:
        return _as_fraction(number, form, slashed)
    if "/" in form:
        raise ResultError(VALUE)
    number *= 100.0 ** codes.count("%")
    digits = re.sub(r"[^0#?.,]", "", codes.split("E")[0].split("e")[0])
    before, _, after = digits.rstrip(",").partition(".")
    number /= 1000.0 ** (len(digits) - len(digits.rstrip(",")))  # each comma at the end scales
    while before.endswith(","):
        before, number = before[:-1], number / 1000
    least = before.replace(",", "").count("0")
    most, fixed = len(after.replace(",", "")), after.count("0")
    if re.search("e[+-]", codes, re.I):
        power = re.search(r"e([+-])(0+)", codes, re.I)
        assert power is not None
        mantissa, _, exponent = f"{abs(number):.{most}e}".partition("e")
        sign = "-" if int(exponent) < 0 else "+" if power[1] == "+" else ""
        text = f"{mantissa}E{sign}{abs(int(exponent)):0{len(power[2])}d}"
    else:
        text = _rounded_text(abs(number), most)
        whole, _, fraction = text.partition(".")
        while len(fraction) > fixed and fraction.endswith("0"):
            fraction = fraction[:-1]
        whole = whole.rjust(least, "0") if int(whole or 0) or least else ""
        if "," in before:
            whole = re.sub(r"(?<=\d)(?=(\d{3})+$)", ",", whole)
        text = f"{whole}.{fraction}" if "." in digits else whole
    minus = "-" if number < 0 and float(text.replace(",", "") or 0) != 0 else ""
    written, placed = "", False
    for match in PART.finditer(form):
        if match[3]:
            percents = "%" * match[3].count("%")
            written += (text if not placed and re.search("[0#?]", match[3]) else "") + percents
            placed = placed or bool(re.search("[0#?]", match[3]))
        else:
            written += match[1] or match[2] or match[4] or ""
    return minus + written


FRACTION = re.compile(r"(?P<whole>[#0?]+)?(?P<gap>\s+)?(?P<above>[#0?]+)/(?P<below>[#0?]+|\d+)")


def _as_fraction(number: float, form: str, match: re.Match[str]) -> str:
    """Return a number as a fraction whose denominator has as many digits as the format, or is the
    stated one; a whole number leaves the fraction blank.
    """
    above, below = match["above"], match["below"]
    mixed = match["whole"] is not None
    size = Fraction(abs(number))
    whole = int(size) if mixed else 0
    rest = size - whole
    if below.isdigit() and int(below):
        bottom = int(below)
        top = int(rest * bottom + Fraction(1, 2))
    else:
        nearest = rest.limit_denominator(10 ** len(below) - 1)
        top, bottom = nearest.numerator, nearest.denominator
    if mixed and top == bottom:
        whole, top = whole + 1, 0
    gap = match["gap"] or ""
    shown = str(whole) if whole or "0" in (match["whole"] or "") or (mixed and not top) else ""
    if mixed and not top:
        text = shown + gap + " " * (len(above) + 1 + len(below))
    else:
        text = f"{shown}{gap}{_padded(str(top), above)}/{_padded(str(bottom), below, left=False)}"
    minus = "-" if number < 0 and (whole or top) else ""
    return minus + form[: match.start()] + text + form[match.end() :]


def _padded(digits: str, code: str, left: bool = True) -> str:
    """Return digits with a blank for each further question mark of a format."""
    width = len(code) if "?" in code else 0
    return digits.rjust(width) if left else digits.ljust(width)


def _rounded_text(number: float, digits: int) -> str:
    from decimal import ROUND_HALF_UP, Decimal

    exact = Decimal(f"{number:.15g}")
    return f"{exact.quantize(Decimal(1).scaleb(-digits), rounding=ROUND_HALF_UP):f}"


_MONTHS = "January,February,March,April,May,June,July,August,September,October,November,December"
MONTHS = _MONTHS.split(",")
DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]
CODES = re.compile(r'("[^"]*"|\[[^\]]*\]|\\.|am/pm|a/p|y+|m+|d+|h+|s+)', re.I)


def _date(number: float, form: str) -> str:
    seconds = round((number - int(number)) * 86400)
    date = date_of(int(number) + seconds // 86400)
    clock = (datetime.datetime.min + datetime.timedelta(seconds=seconds % 86400)).time()
    half = re.search("am/pm|a/p", form, re.I) is not None
    codes = [code for code in CODES.split(form.split(";")[0]) if code]
    before, written = "", ""
    for position, code in enumerate(codes):
        kind = code[0].lower()
        later = next((c[0].lower() for c in codes[position + 1 :] if c[0].lower() in "ymdhs"), "")
        if code.startswith('"'):
            written += code[1:-1]
        elif code.startswith("\\"):
            written += code[1:]
        elif kind in "hs" or code.lower() in ("am/pm", "a/p"):
            written += _clock_part(clock, code.lower(), half)
        elif kind == "m" and (before == "h" or later == "s"):
            written += f"{clock.minute:0{min(len(code), 2)}d}"
        elif kind in "ymd":
            written += _date_part(date, code.lower())
        elif kind != "[":
            written += code
        before = kind if kind in "ymdhs" else before
    return written


def _clock_part(clock: datetime.time, code: str, half: bool) -> str:
    if code in ("am/pm", "a/p"):
        label = "AM" if clock.hour < 12 else "PM"
        return label if code == "am/pm" else label[0]
    hour = (clock.hour - 1) % 12 + 1 if half else clock.hour
    return f"{clock.second if code[0] == 's' else hour:0{min(len(code), 2)}d}"


def _date_part(date: datetime.date, code: str) -> str:
    if code[0] == "y":
        return f"{date.year}" if len(code) > 2 else f"{date.year % 100:02d}"
    if code[0] == "m":
        return _named(MONTHS, date.month - 1, code, date.month)
    return _named(DAYS, date.weekday(), code, date.day)


def _named(names: list[str], position: int, code: str, number: int) -> str:
    if len(code) >= 5:
        return names[position][0]
    if len(code) == 4:
        return names[position]
    if len(code) == 3:
        return names[position][:3]
    return f"{number:0{len(code)}d}"
