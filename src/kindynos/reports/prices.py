"""What is wrong or doubtful about prices, as every report on them says it: what must be checked
after the answer, and how gaps were filled last.
"""

from __future__ import annotations

from rich.console import RenderableType
from rich.text import Text

from kindynos.markets.prices import DOUBTFUL, Prices, at_row
from kindynos.reports.tables import DOUBT

MOST_DOUBTS = 3
MOST_PROBLEMS = 8


def price_doubts(prices: Prices | None) -> list[RenderableType]:
    """Return what is suspicious about prices, a line each kind, and where some end before others:
    it stands after the answer, in the same section.
    """
    if prices is None:
        return []
    stale = prices.stale
    lines = [f"{stale[0].upper()}{stale[1:]}."] if stale else []
    lines += [f"{prices.late}."] if prices.late else []
    _, _, note = prices.moves_of_one_period
    lines += [f"{note}."] if note and not note.endswith("left out") else []
    lines += [f"{choice}." for choice in prices.read.choices]
    for kind in DOUBTFUL:
        doubts = prices.doubts_of(kind)
        more = len(doubts) - MOST_DOUBTS
        rest = f" And {more} more." if more > 0 else ""
        if doubts:
            lines.append(f"Prices to check: {'. '.join(doubts[:MOST_DOUBTS])}.{rest}")
    if any("held out" in doubt for doubt in prices.doubts):
        lines.append("Prices that are held out count as missing; --keep-suspicious keeps them.")
    if any("split of" in doubt for doubt in prices.doubts):
        lines.append("A split is not adjusted unless --split NAME=RATIO@DATE states it.")
    return [Text("\n".join(lines), style=f"bold {DOUBT}")] if lines else []


def price_problems(prices: Prices | None) -> list[RenderableType]:
    """Return the gaps and wrong prices, a line each."""
    if prices is None:
        return []
    plain = prices.problems[~prices.problems["kind"].isin(DOUBTFUL)]
    lines = [
        f"{p['instrument']}, {p['date']:%Y-%m-%d}{at_row(p['row'])}: {p['problem']}."
        for p in plain.head(MOST_PROBLEMS).to_dict("records")
    ]
    if len(plain) > MOST_PROBLEMS:
        lines.append(f"and {len(plain) - MOST_PROBLEMS} more")
    _, _, note = prices.moves_of_one_period
    lines += [f"{note}."] if note.endswith("left out") else []
    return [Text("\n".join(lines), style="dim")] if lines else []
