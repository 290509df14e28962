"""Texts."""

from __future__ import annotations

import re

from kindynos.workbooks.cell_errors import NA, VALUE, ResultError
from kindynos.workbooks.formats import formatted
from kindynos.workbooks.functions.math import half_up, rounded
from kindynos.workbooks.functions.registry import bounded, function, required, whole
from kindynos.workbooks.values import Grid, Value, number_in_text, text_of

LONGEST = 32_767
MOST_DIGITS = 127  # after the point


@function("CONCATENATE", "+t")
def _concatenate(*texts: str) -> Value:
    """Return texts as one."""
    return "".join(texts)


@function("CONCAT", "+r")
def _concat(*grids: Grid) -> Value:
    """Return texts and those of areas as one."""
    return "".join(text_of(value) for grid in grids for value in grid.flat())


@function("TEXTJOIN", "tb+r")
def _textjoin(between: str, skip: bool, *grids: Grid) -> Value:
    """Return texts as one, with another between them; empty ones may be left out."""
    texts = [text_of(value) for grid in grids for value in grid.flat()]
    return between.join(text for text in texts if text or not skip)


@function("LEN", "t")
def _len(text: str) -> Value:
    """Return the number of characters."""
    return len(text)


@function("LEFT", "t[n]")
def _left(text: str, count: float = 1.0) -> Value:
    """Return the first characters."""
    required(count >= 0, VALUE)
    return text[: whole(count)]


@function("RIGHT", "t[n]")
def _right(text: str, count: float = 1.0) -> Value:
    """Return the last characters."""
    required(count >= 0, VALUE)
    return text[max(len(text) - whole(count), 0) :]


@function("MID", "tnn")
def _mid(text: str, begin: float, count: float) -> Value:
    """Return characters from a place, from 1, on."""
    required(begin >= 1 and count >= 0, VALUE)
    return text[whole(begin) - 1 : whole(begin) - 1 + whole(count)]


@function("UPPER", "t")
def _upper(text: str) -> Value:
    """Return a text in capitals."""
    return text.upper()


@function("LOWER", "t")
def _lower(text: str) -> Value:
    """Return a text without capitals."""
    return text.lower()


@function("PROPER", "t")
def _proper(text: str) -> Value:
    """Return a text with a capital at the beginning of each word."""
    return re.sub(r"[^\W\d_]+", lambda label: label[0].capitalize(), text)


@function("TRIM", "t")
def _trim(text: str) -> Value:
    """Return a text without blanks around it, and single ones within."""
    return " ".join(word for word in text.split(" ") if word)


@function("CLEAN", "t")
def _clean(text: str) -> Value:
    """Return a text without characters that are not printed."""
    return "".join(c for c in text if ord(c) >= 32)


@function("EXACT", "tt")
def _exact(first: str, second: str) -> Value:
    """Return whether two texts are the same, capitals included."""
    return first == second


@function("FIND", "tt[n]")
def _find(sought: str, text: str, begin: float = 1.0) -> Value:
    """Return where a text is in another, from 1."""
    required(1 <= begin <= len(text) + 1, VALUE)
    entry = text.find(sought, whole(begin) - 1)
    required(entry >= 0, VALUE)
    return entry + 1


def wildcard(pattern: str) -> re.Pattern[str]:
    """Return a pattern with ? and * as a regular expression that matches a whole text; ~ takes the
    next character as it is.

    What stands between two * is taken where it comes first, and never tried again further on, which
    would not find more: so no pattern takes longer than its length times that of the text.
    """
    first, *others = _pieces(pattern)
    text = first + "".join(f"(?>.*?{middle})" for middle in others[:-1])
    if others:
        text += f".*{others[-1]}" if others[-1] else ".*"
    return re.compile(text, re.I | re.S)


def _pieces(pattern: str) -> list[str]:
    """Return what stands between the * of a pattern, as regular expressions."""
    texts, position = [""], 0
    while position < len(pattern):
        letter = pattern[position]
        if letter == "~" and position + 1 < len(pattern) and pattern[position + 1] in "?*~":
            position += 1
            texts[-1] += re.escape(pattern[position])
        elif letter == "*":
            texts.append("")
        else:
            texts[-1] += "." if letter == "?" else re.escape(letter)
        position += 1
    return texts


@function("SEARCH", "tt[n]")
def _search(sought: str, text: str, begin: float = 1.0) -> Value:
    """Return where a text with wildcards is in another, whatever the capitals."""
    required(1 <= begin <= len(text) + 1, VALUE)
    first, *others = _pieces(sought)
    # where the first piece comes first, the others come first after it, or nowhere
    parts = [f"(?>.*?({first}))", *(f"(?>.*?{other})" for other in others)]
    match = re.compile("".join(parts), re.I | re.S).match(text, whole(begin) - 1)
    if match is None:
        raise ResultError(VALUE)
    return match.start(1) + 1


@function("SUBSTITUTE", "ttt[n]")
def _substitute(text: str, old: str, new: str, which: float | None = None) -> Value:
    """Return a text in which another stands for a part, each time or the n-th time."""
    if not old:
        return text
    if which is None:
        return text.replace(old, new)
    required(which >= 1, VALUE)
    parts = text.split(old)
    position = whole(which)
    if position >= len(parts):
        return text
    return old.join(parts[:position]) + new + old.join(parts[position:])


@function("REPLACE", "tnnt")
def _replace(text: str, begin: float, count: float, new: str) -> Value:
    """Return a text in which another stands for characters from a place on."""
    required(begin >= 1 and count >= 0, VALUE)
    first = whole(begin) - 1
    return text[:first] + new + text[first + whole(count) :]


@function("REPT", "tn")
def _rept(text: str, times: float) -> Value:
    """Return a text several times."""
    required(times >= 0 and len(text) * times <= LONGEST, VALUE)
    return text * whole(times)


@function("CHAR UNICHAR", "n")
def _char(code: float) -> Value:
    """Return the character of a number."""
    required(1 <= code < 0x110000, VALUE)
    return chr(whole(code))


@function("CODE UNICODE", "t")
def _code(text: str) -> Value:
    """Return the number of the first character."""
    required(bool(text), VALUE)
    return ord(text[0])


@function("VALUE", "v")
def _value(value: Value) -> Value:
    """Return the number that a text states."""
    if type(value) is float:
        return value
    number = number_in_text(text_of(value)) if type(value) is str else None
    if number is None:
        raise ResultError(VALUE)
    return number


@function("NUMBERVALUE", "t[tt]")
def _numbervalue(text: str, decimal: str = ".", group: str = ",") -> Value:
    """Return the number that a text with stated signs states."""
    plain = "".join(text.split()).replace(group[:1], "") if group else "".join(text.split())
    numbervalue = number_in_text(plain.replace(decimal[:1], ".")) if plain else 0.0
    if numbervalue is None:
        raise ResultError(VALUE)
    return numbervalue


@function("T", "v")
def _t(value: Value) -> Value:
    """Return a text as it is, and an empty one for anything else."""
    return value if type(value) is str else ""


@function("TEXT", "vt")
def _text(value: Value, form: str) -> Value:
    """Return a number written by a format, such as "0.0 %"."""
    if type(value) is str:
        number = number_in_text(value)
        if number is None:
            return value
        value = number
    return formatted(float(value or 0.0), form)


@function("FIXED", "n[nb]")
def _fixed(x: float, digits: float = 2.0, plain: bool = False) -> Value:
    """Return a number as a text with digits after the point, in groups of three."""
    count = whole(digits)
    bounded(count, MOST_DIGITS, VALUE)
    x = rounded(x, count, half_up)
    return f"{x:{'' if plain else ','}.{max(count, 0)}f}"


@function("DOLLAR", "n[n]")
def _dollar(x: float, digits: float = 2.0) -> Value:
    """Return a number as a text with a dollar sign."""
    count = whole(digits)
    bounded(count, MOST_DIGITS, VALUE)
    text = f"${abs(rounded(x, count, half_up)):,.{max(count, 0)}f}"
    return f"-{text}" if x < 0 else text


def _parted(text: str, mark: str, place: float, any_case: bool) -> int:
    """Return where the n-th mark begins in a text, from the end for numbers below 0; -1 where it is
    not there.
    """
    number = whole(place)
    required(number != 0 and bool(mark), VALUE)
    pattern = re.compile(re.escape(mark), re.IGNORECASE if any_case else 0)
    places = [match.start() for match in pattern.finditer(text)]
    if abs(number) > len(places):
        return -1
    return places[number - 1 if number > 0 else number]


def _unparted(side: str, to_end: bool, otherwise: Value) -> Value:
    """Return what a text without the mark gives: a side of it where its end counts as a mark, or a
    value instead.
    """
    if to_end:
        return side
    required(otherwise is not None, NA)
    return otherwise


@function("TEXTBEFORE", "tt[nbbe]")
def _textbefore(
    text: str,
    mark: str,
    place: float = 1.0,
    any_case: bool = False,
    to_end: bool = False,
    otherwise: Value = None,
) -> Value:
    """Return the text before its n-th mark."""
    parted = _parted(text, mark, place, any_case)
    return text[:parted] if parted >= 0 else _unparted(text, to_end, otherwise)


@function("TEXTAFTER", "tt[nbbe]")
def _textafter(
    text: str,
    mark: str,
    place: float = 1.0,
    any_case: bool = False,
    to_end: bool = False,
    otherwise: Value = None,
) -> Value:
    """Return the text after its n-th mark."""
    parted = _parted(text, mark, place, any_case)
    return text[parted + len(mark) :] if parted >= 0 else _unparted("", to_end, otherwise)


@function("TEXTSPLIT", "te[ebbe]")
def _textsplit(
    text: str,
    beside: Value,
    below: Value = None,
    skip: bool = False,
    any_case: bool = False,
    filler: Value = None,
) -> Value:
    """Return the parts of a text beside each other, and below each other at a second mark."""

    def parts(whole_text: str, mark: Value) -> list[str]:
        if mark is None or mark == "":
            return [whole_text]
        flags = re.IGNORECASE if any_case else 0
        texts = re.split(re.escape(text_of(mark)), whole_text, flags=flags)
        return [part for part in texts if part] if skip else texts

    required((beside is not None and beside != "") or below is not None, VALUE)
    rows: list[list[Value]] = [list(parts(line, beside)) for line in parts(text, below)]
    width = max(map(len, rows), default=0)
    required(width > 0, VALUE)
    missing = NA if filler is None else filler
    return Grid([[*row, *[missing] * (width - len(row))] for row in rows])


@function("HYPERLINK", "t[e]")
def _hyperlink(address: str, shown: Value = None) -> Value:
    """Return what a link shows."""
    return address if shown is None else shown
