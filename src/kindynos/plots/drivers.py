"""Which drivers move an outcome."""

from __future__ import annotations

from matplotlib.axes import Axes

from kindynos.plots.style import DARK, INK, MIDDLE, axes, bare
from kindynos.reports.figures import shares
from kindynos.results.run import Run


def driver_ranking(run: Run, outcome: str, ax: Axes | None = None, most: int = 12) -> Axes:
    """Draw the rank correlation of each driver with an outcome, largest effect on top, with its share of variance."""
    frame = run.sensitivity(outcome)
    texts = shares(frame["share of variance"].tolist())[:most]
    frame = frame.head(most)
    ax = axes(ax)
    places = range(len(frame))
    values = frame["rank correlation"].to_numpy()
    colours = [MIDDLE if value >= 0 else DARK for value in values]
    ax.barh(places, values, xerr=frame["error"].to_numpy(), color=colours, height=0.62, ecolor=INK, capsize=3)
    for place, value, error, text in zip(places, values, frame["error"], texts, strict=True):
        reach = abs(value) + (error if error == error else 0.0) + 0.02
        ax.text(reach if value >= 0 else -reach, place, text, va="center", ha="left" if value >= 0 else "right")
    ax.axvline(0, color=INK, lw=1)
    ax.set_yticks(list(places), [str(name).replace("_", " ") for name in frame.index])
    ax.invert_yaxis()
    ax.set_xlim(min(values.min(), 0) - 0.2, max(values.max(), 0) + 0.2)
    ax.set_xlabel("rank correlation with the outcome (bar; whisker 95 %); per cent: share of variance")
    ax.set_title(f"What moves {outcome.replace('_', ' ')}: dark lowers it, light raises it", loc="left")
    bare(ax)
    return ax
