"""The objective around the best decisions of a model."""

from __future__ import annotations

from typing import Any

import pandas as pd
from matplotlib.axes import Axes

from kindynos.formatting import number, per_cent, spoken
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    bare,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.studies.optimum import Optimum

MOST_PANELS = 6


@picture
def optimum(optimized: Optimum, ax: Axes = NEW) -> None:
    """Draw the objective against each decision at all points tried, or over two decisions as a map
    of points.

    Points that break a constraint are crosses, and the title says which constraint binds.
    """
    names = list(optimized.decisions)
    frame = optimized.evaluations.dropna(subset=[optimized.what])
    ranged = [name for name in names if frame[name].nunique() > 2]
    if len(names) == 2 and len(ranged) == 2:
        _over_two(ax, optimized, frame, names)
    elif len(names) == 1:
        _over_one(ax, optimized, frame, names[0])
    else:
        _each(ax, optimized, frame, names[:MOST_PANELS])
        return
    ax.set_title(_title(optimized), pad=14)


def _title(optimum: Optimum) -> str:
    aim = "Highest" if optimum.maximize else "Least"
    best = ", ".join(
        f"{spoken(name)} {number(float(f'{float(v):.5g}'))}"
        for name, v in optimum.decisions.items()
    )
    binding = [spoken(constraint.label) for constraint, _, _, binds in optimum.limits if binds]
    limit = f"\nbinding: {'; '.join(binding)}" if binding else ""
    return (
        f"{aim} {spoken(optimum.what)}, at {best}; {len(optimum.evaluations)} points tried{limit}"
    )


def _scale(optimum: Optimum, frame: pd.DataFrame) -> tuple[float, str]:
    """Return by what the objective is divided, and its label."""
    what = spoken(optimum.what)
    if optimum.unit is None and optimum.what.startswith("chance"):
        return 0.01, f"{what}, per cent"
    factor, label = scale_of(frame[optimum.what].to_numpy(), optimum.unit)
    return factor, quantity_label(what, optimum.unit, label)


def _over_one(ax: Axes, optimum: Optimum, frame: pd.DataFrame, name: str) -> None:
    factor, label = _scale(optimum, frame)
    ordered = frame.sort_values(name)
    ax.plot(ordered[name], ordered[optimum.what] / factor, color=MIDDLE, lw=1.4)
    for allowed, marker, colour, text in (
        (True, "o", DARK, "tried"),
        (False, "x", INK, "breaks a constraint"),
    ):
        piece = ordered[ordered["allowed"] == allowed]
        if len(piece):
            ax.plot(
                piece[name],
                piece[optimum.what] / factor,
                marker,
                color=colour,
                ms=6,
                ls="none",
                label=text,
            )
    value = optimum.decisions[name]
    ax.errorbar(
        [float(value)],
        [float(optimum.objective) / factor],
        [optimum.objective.error / factor],
        [value.error] if value.error > 0 else None,
        fmt="*",
        color=ACCENT,
        mec=INK,
        ms=16,
        capsize=4,
        zorder=5,
        label="the best, on fresh draws, with 95 % errors",
    )
    side, term = scale_of(ordered[name].to_numpy(), (optimum.units or {}).get(name))
    scaled_ticks(ax.xaxis, side)
    ax.set_xlabel(quantity_label(name.replace(".", " "), (optimum.units or {}).get(name), term))
    ax.set_ylabel(label)
    ax.legend()


def _over_two(ax: Axes, optimum: Optimum, frame: pd.DataFrame, names: list[str]) -> None:
    factor, label = _scale(optimum, frame)
    x, y = (frame[name].to_numpy() for name in names)
    values = frame[optimum.what].to_numpy() / factor
    spread = frame.drop_duplicates(names)
    filled = (
        ax.tricontourf(x, y, values, levels=12, cmap=_shades(), alpha=0.9)
        if len(spread) > 6
        else None
    )
    if filled is not None:
        ax.figure.colorbar(filled, ax=ax, label=label, pad=0.02)
    allowed = frame["allowed"].to_numpy()
    ax.plot(x[allowed], y[allowed], "o", color=DARK, mec="white", ms=6, ls="none", label="tried")
    if not allowed.all():
        ax.plot(
            x[~allowed], y[~allowed], "x", color=INK, ms=6, ls="none", label="breaks a constraint"
        )
    best = [optimum.decisions[name] for name in names]
    errors = [[e.error] if e.error > 0 else None for e in best]
    ax.errorbar(
        [float(best[0])],
        [float(best[1])],
        errors[1],
        errors[0],
        fmt="*",
        color=ACCENT,
        mec=INK,
        ms=18,
        capsize=4,
        zorder=6,
        label=f"the best: {_worth(optimum)} on fresh draws",
    )
    for axis, name, values_of in ((ax.xaxis, names[0], x), (ax.yaxis, names[1], y)):
        side, term = scale_of(values_of, (optimum.units or {}).get(name))
        scaled_ticks(axis, side)
        axis.set_label_text(
            quantity_label(name.replace(".", " "), (optimum.units or {}).get(name), term)
        )
    ax.use_sticky_edges = False
    ax.margins(0.03)
    ax.legend(loc="upper left", bbox_to_anchor=(0, -0.1), ncols=3)


def _worth(optimum: Optimum) -> str:
    if optimum.what.startswith("chance"):
        return per_cent(float(optimum.objective))
    return f"{number(float(f'{float(optimum.objective):.4g}'))} {optimum.unit or ''}".strip()


def _each(ax: Axes, optimum: Optimum, frame: pd.DataFrame, names: list[str]) -> None:
    """Draw the objective against each decision, side by side in the place of the axes given."""
    figure: Any = ax.figure
    spec = ax.get_subplotspec()
    assert spec is not None
    ax.set_axis_off()
    figure.suptitle(_title(optimum), x=0.01, ha="left")
    across = min(len(names), 3)
    inner = spec.subgridspec(-(-len(names) // across), across)
    for position, name in enumerate(names):
        subplot = figure.add_subplot(inner[position // across, position % across])
        _panel(subplot, optimum, frame, name)


def _panel(ax: Axes, optimum: Optimum, frame: pd.DataFrame, name: str) -> None:
    factor, label = _scale(optimum, frame)
    for allowed, marker, colour in ((True, "o", MIDDLE), (False, "x", INK)):
        piece = frame[frame["allowed"] == allowed]
        ax.plot(
            piece[name],
            piece[optimum.what] / factor,
            marker,
            color=colour,
            mec=DARK if allowed else INK,
            ms=5,
            ls="none",
        )
    ax.plot(
        [float(optimum.decisions[name])],
        [float(optimum.objective) / factor],
        "*",
        color=ACCENT,
        mec=INK,
        ms=15,
        zorder=5,
    )
    if frame[name].nunique() <= 8:
        ax.set_xticks(sorted(frame[name].unique()))
    side, term = scale_of(frame[name].to_numpy(), (optimum.units or {}).get(name))
    scaled_ticks(ax.xaxis, side)
    ax.set_xlabel(quantity_label(name.replace(".", " "), (optimum.units or {}).get(name), term))
    ax.set_ylabel(label)
    bare(ax)


def _shades() -> Any:
    from matplotlib.colors import LinearSegmentedColormap

    return LinearSegmentedColormap.from_list("pale", ["#f7f4ef", LIGHT, MIDDLE])
