"""Entries of the search for the words that people type, from the table of words: each at the guide
that its row names first, so that the guide stands before the reference.
"""

import re
from functools import cache
from pathlib import Path
from posixpath import normpath

TABLE = Path(__file__).parent.parent / "start" / "words.md"
ROW = re.compile(r"^\| \*\*(.+?)\*\* \|.*?\]\(([^)#]+)\.md", re.M)


@cache
def entries() -> dict[str, list[str]]:
    """Return the words of each page that the table leads to."""
    found: dict[str, list[str]] = {}
    for words, page in ROW.findall(TABLE.read_text(encoding="utf-8")):
        found.setdefault(normpath(f"start/{page}"), []).extend(words.split(", "))
    return found


def read(app, page, source):
    """Put the entries of a page, which nobody sees, below its title."""
    words = entries().get(page)
    if words:
        app.env.note_dependency(str(TABLE))  # read again where the table was changed
        title, rest = source[0].split("\n", 1)
        source[0] = (
            f"{title}\n\n```{{index}} {', '.join(f'! {word}' for word in words)}\n```\n{rest}"
        )
