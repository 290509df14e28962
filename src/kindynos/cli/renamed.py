"""Options that had another name: they are taken for one version, with a word of advice.

To rename one: its line here, and the new name where it is declared.
"""

from __future__ import annotations

from collections.abc import Sequence

import click

RENAMED = {  # by command, the old name and the new one
    "sweep": {"--over": "--vary"},
    "decide": {"--switch": "--vary"},
    "allocate": {"--bounds": "--within", "--limit": "--subject-to"},
    "paths": {"--periods": "--ahead", "--instrument": "--column"},
    "drivers": {"--to": "--contributions-to", "--by": "--contributions-of"},
    "fit": {"--every": "--spacing", "--missing": "--missing-word"},
    "forecast": {"--every": "--spacing", "--missing": "--missing-word"},
    "read": {"--missing": "--missing-word"},
}
TWO_ENDS = {"solve": "--within"}  # options that took LOW HIGH, and take LOW:HIGH


def with_new_names(command: str, words: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the words after a command with the names that options have now, and advice on each
    that was changed.

    >>> with_new_names("sweep", ["--over", "fare=50,60"])
    (['--vary', 'fare=50,60'], ['--over is now --vary'])
    >>> with_new_names("solve", ["--within", "40", "80"])
    (['--within', '40:80'], ['write --within 40:80'])
    """
    names, ranged = RENAMED.get(command, {}), TWO_ENDS.get(command)
    kept: list[str] = []
    advice: list[str] = []
    waiting = list(words)
    while waiting:
        word = waiting.pop(0)
        if word == "--":
            return [*kept, word, *waiting], advice
        name, equals, value = word.partition("=")
        if name in names:
            advice.append(f"{name} is now {names[name]}")
            word = f"{names[name]}{equals}{value}"
        kept.append(word)
        if word == ranged and len(waiting) > 1 and all(map(_is_number, waiting[:2])):
            kept.append(f"{waiting.pop(0)}:{waiting.pop(0)}")
            advice.append(f"write {ranged} {kept[-1]}")
    return kept, list(dict.fromkeys(advice))


def advise(text: str) -> None:
    """Say how something is written now that was written in an old form."""
    click.echo(f"kindynos: {text}; the old form goes with the next version", err=True)


def _is_number(text: str) -> bool:
    try:
        float(text.removesuffix("%"))
    except ValueError:
        return False
    return True
