"""Texts from users as people may safely see them: no terminal obeys them."""

from __future__ import annotations

import unicodedata

# categories of characters that do not print: controls, those that turn text around, surrogates,
# private and unassigned ones, separators of lines and paragraphs
UNSEEN = ("Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp")


def visible(text: str) -> str:
    """Return a text with characters that do not print written as escapes; line breaks and tabs
    stay.

    >>> print(visible("red \\x1b[31m"))
    red \\x1b[31m
    """
    if text.isprintable():
        return text
    return "".join(repr(c)[1:-1] if is_unseen(c) else c for c in text)


def is_unseen(character: str) -> bool:
    """Return whether a character does not print and is neither a line break nor a tab."""
    return character not in "\n\t" and unicodedata.category(character) in UNSEEN
