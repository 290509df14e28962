"""Where outcomes fell in the forecasts that were made of them."""

from __future__ import annotations

from matplotlib.axes import Axes

from kindynos.fitting.track_record import TrackRecord, outcomes_by_part
from kindynos.plots.style import DARK, INK, LIGHT, MIDDLE, NEW, picture


@picture
def track_record(record: TrackRecord, ax: Axes = NEW) -> None:
    """Draw how many outcomes fell into each part of their forecast's range, which would be alike
    of right forecasts, with the 95 % band of chance.
    """
    edges, heights, (low, high) = outcomes_by_part(record)
    count, bars = len(record.cases), len(heights)
    ax.axhspan(low, high, color=LIGHT, label="95 % band of right forecasts")
    outside = (heights < low) | (heights > high)
    colours = [DARK if out else MIDDLE for out in outside]
    ax.bar(edges[:-1], heights, 1 / bars, align="edge", color=colours, ec="white")
    ax.axhline(count / bars, color=INK, lw=1.2, ls="--", label="what each would hold")
    ax.set_xlim(0, 1)
    ax.set_ylim(0, max(float(heights.max()), high) * 1.25)
    ax.set_xticks(edges, [f"P{100 * edge:.0f}" for edge in edges])
    ax.set_xlabel("where the outcome fell in its forecast")
    ax.set_ylabel("outcomes")
    share, nominal = 100 * record.inside, 100 * record.nominal
    ax.set_title(
        f"{count:,} forecasts: {share:.0f} % of the outcomes inside the stated ranges, "
        f"{nominal:.0f} % should be; dark bars lie outside the band"
    )
    ax.legend(loc="upper center", ncols=2)
