"""An outcome under a policy, beside the best plan that is fixed today."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from kindynos.formatting import spoken
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    NEW,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.studies.policy import POLICY, Policy

SHOWN = (0.002, 0.998)  # quantiles between which the curves are drawn


@picture
def policy(solved: Policy, ax: Axes = NEW) -> None:
    """Draw which share of the trials ends at or below each value, under the policy and under the
    best plan fixed today.
    """
    pairs = [(POLICY, DARK, "-"), (solved.best, ACCENT, "--")]
    ends = np.concatenate([np.quantile(solved.under[name], SHOWN) for name, _, _ in pairs])
    factor, label = scale_of(ends, solved.unit)
    for name, colour, stroke in pairs:
        values = np.sort(solved.under[name])
        shares = np.arange(1, len(values) + 1) / len(values)
        text = name if name == POLICY else f"fixed today: {name}"
        ax.step(values, shares, where="post", color=colour, ls=stroke, lw=2, label=text)
    room = 0.05 * float(np.ptp(ends)) or 1.0
    ax.set_xlim(float(ends.min()) - room, float(ends.max()) + room)
    ax.set_ylim(0, 1)
    ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
    if solved.target is not None:
        ax.axvline(solved.target, color=INK, lw=1)
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(quantity_label(solved.outcome, solved.unit, label))
    ax.set_ylabel("share of trials that end at or below the value")
    ax.set_title(f"What choosing later makes of {spoken(solved.outcome)}")
    ax.legend(loc="lower right")
