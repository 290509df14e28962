"""The way from an old figure to a new one."""

from __future__ import annotations

from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import ACCENT, DARK, INK, MIDDLE, NEW, picture, scale_of, scaled_ticks
from kindynos.studies.bridge import Bridge

MOST = 14  # changes with a bar of their own


@picture
def bridge(bridged: Bridge, ax: Axes = NEW) -> None:
    """Draw the way from the old figure to the new one: a bar for each change, beginning where the
    one before ended, with its error and its range from made first to made last.
    """
    names, shown = bridged.ranked[:MOST], bridged.shown
    rest = bridged.ranked[MOST:]
    steps = [(name, float(shown[name]), shown[name].error) for name in names]
    if rest:
        others = sum(float(shown[name]) for name in rest)
        steps.append((f"{len(rest)} others", others, 0.0))

    ends = [float(bridged.before), float(bridged.after)]
    factor, label = (0.01, "") if bridged.kind == "share" else scale_of(ends, bridged.unit)
    ax.barh(0, float(bridged.before), color=MIDDLE, height=0.6)
    place = float(bridged.before)
    for row, (name, part, error) in enumerate(steps, start=1):
        colour, hatch = (DARK, "") if part >= 0 else (ACCENT, "//")
        ax.barh(
            row, part, left=place, xerr=error if error == error else None, color=colour,
            hatch=hatch, edgecolor="white", height=0.6, error_kw={"ecolor": INK, "capsize": 3},
        )  # fmt: skip
        if name in bridged.first:
            low, high = sorted((bridged.first[name], bridged.last[name]))
            ax.plot([place + low, place + high], [row + 0.38] * 2, color=INK, linewidth=1)
        ax.plot([place + part] * 2, [row - 0.3, row + 1.3], color=INK, linewidth=0.6)
        place += part
    ax.barh(len(steps) + 1, float(bridged.after), color=MIDDLE, height=0.6)

    labels = ["before", *(spoken(name) for name, _, _ in steps), "after"]
    ax.set_yticks(range(len(labels)), labels)
    ax.invert_yaxis()
    ax.axvline(0, color=INK, linewidth=0.6)
    low, high = ax.get_xlim()
    ax.set_xlim(low - (0.03 * (high - low) if low < 0 else 0), high + 0.03 * (high - low))
    scaled_ticks(ax.xaxis, factor)
    inside = "%" if bridged.kind == "share" else f"{label}{bridged.unit or ''}".strip()
    ax.set_xlabel(f"{bridged.statistic} of {spoken(bridged.outcome)} ({inside or '1'})")
    ax.set_title("Change by change, with 95 % errors; thin lines: from made first to made last")
