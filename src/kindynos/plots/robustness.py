"""What departures from the assumptions make of a figure."""

from __future__ import annotations

from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import ACCENT, DARK, INK, NEW, picture, scale_of, scaled_ticks
from kindynos.studies.robustness import Robustness


@picture
def robustness(departed: Robustness, figure: str | None = None, ax: Axes = NEW) -> None:
    """Draw a bar from the stated figure to what each departure makes of it, the largest first,
    with the error of the difference.
    """
    name = next(iter(departed.stated)) if figure is None else figure
    rows, stated = departed.moved(name), float(departed.stated[name])
    chance = name.startswith("chance")
    factor, label = (0.01, "") if chance else scale_of([stated, *rows["value"]], departed.unit)
    worse = 1 if chance or departed.better == "low" else -1
    for place, row in enumerate(rows.to_dict("records")):
        gap = row["difference"]
        colour, hatch = (ACCENT, "//") if gap * worse > 0 else (DARK, "")
        error = max((row["high"] - row["low"]) / 2, 0.0)
        ax.barh(
            place, gap, left=stated, xerr=error, color=colour, hatch=hatch, edgecolor="white",
            height=0.6, error_kw={"ecolor": INK, "capsize": 3},
        )  # fmt: skip
    ax.axvline(stated, color=INK, linewidth=1)
    ax.set_yticks(range(len(rows)), [spoken(str(key)) for key in rows.index])
    ax.invert_yaxis()
    scaled_ticks(ax.xaxis, factor)
    inside = "%" if chance else f"{label}{departed.unit or ''}".strip()
    outcome, words = spoken(departed.outcome), name.replace("percentile ", "P")
    what = f"chance of {outcome} {words.partition(' ')[2]}" if chance else f"{words} of {outcome}"
    ax.set_xlabel(f"{spoken(what)} ({inside or '1'})")
    ax.set_title(f"What the assumptions behind {outcome} are worth, from as stated; hatched: worse")
