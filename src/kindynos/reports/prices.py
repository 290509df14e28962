"""What is wrong or doubtful about prices, as every report on them says it: what must be checked
first, and how gaps were filled last.
"""

from __future__ import annotations

from rich.console import RenderableType
from rich.text import Text

from kindynos.markets.prices import DOUBTFUL, Prices, at_row
from kindynos.reports.tables import DOUBT

MOST_DOUBTS = 20
MOST_PROBLEMS = 8


def price_doubts(prices: Prices | None) -> list[RenderableType]:
    """Return what is suspicious about prices, and where some end before others."""
    if prices is None:
        return []
    doubts, stale = prices.doubts, prices.stale
    lines = [f"{stale[0].upper()}{stale[1:]}."] if stale else []
    if doubts:
        lines += ["Prices to check:", *(f"  {doubt}." for doubt in doubts[:MOST_DOUBTS])]
    if len(doubts) > MOST_DOUBTS:
        lines.append(f"  and {len(doubts) - MOST_DOUBTS} more.")
    if any("held out" in doubt for doubt in doubts):
        lines.append("Prices that are held out count as missing; --keep-suspicious keeps them.")
    if any("split of" in doubt for doubt in doubts):
        lines.append("A split is not adjusted unless --split NAME=RATIO@DATE states it.")
    return [Text("\n".join(lines), style=f"bold {DOUBT}"), ""] if lines else []


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
    return [Text("\n".join(lines), style="dim")] if lines else []
