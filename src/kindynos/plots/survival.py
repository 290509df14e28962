"""How many trials are still without something, period by period."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import DARK, LIGHT, NEW, picture
from kindynos.results.run import Run


@picture
def survival(run: Run, name: str, ax: Axes = NEW) -> None:
    """Draw the share of trials in which the first period ``name`` has not come yet, after each
    period, with its 95 % error.
    """
    frame = run.survival(name)
    places = np.arange(len(frame))
    ax.fill_between(
        places,
        frame["low"],
        frame["high"],
        color=LIGHT,
        step="post",
        label="95 % interval of the share",
    )
    ax.step(places, frame["share"], color=DARK, lw=2, where="post", label="share of trials")
    spacing = max(1, -(-len(places) // 12))
    ax.set_xticks(places[::spacing], [str(label) for label in frame.index[::spacing]])
    ax.set_xlim(0, max(len(places) - 1, 1))
    ax.set_ylim(0, 1.02)
    ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
    ax.set_ylabel("share of trials")
    ax.set_xlabel("after period")
    words = spoken(name)
    ax.set_title(f"Trials in which {words} has not come yet: {run.size:,} trials")
    ax.legend(loc="lower left")
