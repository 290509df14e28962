"""What drives an outcome: one picture for each method of ``run.sensitivity``."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd
from matplotlib.axes import Axes

from kindynos.formatting import number, per_cent, shares, spoken
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    LIGHT,
    MIDDLE,
    NEW,
    picture,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.results.run import Run
from kindynos.results.sensitivity.contributions import BASE
from kindynos.results.sensitivity.methods import usual_method

MOST = 12  # drivers shown
STROKES = ("-", "--", "-.", ":", (0, (5, 1, 1, 1, 1, 1)))
COLOURS = (DARK, ACCENT, MIDDLE, INK, "#7a4a9e")


@picture
def sensitivity(
    run: Run, outcome: str, method: str | None = None, ax: Axes = NEW, **options: Any
) -> None:
    """Draw what drives an outcome by a method of ``run.sensitivity``; ``options`` are those of the
    method.

    At most twelve drivers are shown, the strongest on top.
    """
    method = usual_method(run, outcome) if method is None else method
    frame = run.sensitivity(outcome, method, **options)
    if method == "shapley":
        # as printed they add up to 100 %
        frame["description"] = shares(frame["share of variance"].tolist())
    unit = frame.attrs["unit"] = run[outcome].unit
    PICTURES[method](ax, frame.head(MOST), quantity_label(outcome, unit, "{}"))
    left = len(frame) - MOST
    more = f" ({left} weaker ones left out)" if left > 0 else ""
    pad = 30 if method == "tail" else 6  # its legend is above the picture
    ax.set_title(TITLES[method].format(spoken(outcome)) + more, pad=pad)


def _names(frame: pd.DataFrame) -> list[str]:
    return [spoken(str(name)) for name in frame.index]


def _bars(
    ax: Axes, frame: pd.DataFrame, column: str, description: Callable[[pd.Series], str], label: str
) -> None:
    """Draw one bar a driver with its error and a word beside it."""
    places, values = np.arange(len(frame)), frame[column].to_numpy()
    errors = np.nan_to_num(frame["error"].to_numpy())
    colours = [MIDDLE if value >= 0 else DARK for value in values]
    ax.barh(places, values, xerr=errors, color=colours, height=0.62, ecolor=INK, capsize=3)
    reach = float(np.max(np.abs(values) + errors)) or 1.0
    for position, value, error, (_, row) in zip(
        places, values, errors, frame.iterrows(), strict=True
    ):
        end = (abs(value) + error + 0.02 * reach) * (1 if value >= 0 else -1)
        ax.text(
            end,
            float(position),
            description(row),
            va="center",
            ha="left" if value >= 0 else "right",
        )
    ax.axvline(0, color=INK, lw=1)
    left = float(values.min()) - 0.3 * reach if values.min() < 0 else 0.0
    ax.set_xlim(left, max(float(values.max()), 0) + 0.3 * reach)
    ax.set_yticks(places, _names(frame))
    ax.invert_yaxis()
    ax.set_xlabel(label)


def _rank(ax: Axes, frame: pd.DataFrame, _: str) -> None:
    label = (
        "rank correlation (bar; whisker 95 %); per cent: share of variance that the driver "
        "explains alone"
    )
    _bars(
        ax,
        frame,
        "rank correlation",
        lambda row: f"{100 * max(row['first-order share'], 0.0):.1f} %",
        label,
    )


def _regression(ax: Axes, frame: pd.DataFrame, _: str) -> None:
    description = (
        f"standardized coefficient (bar; whisker 95 %); R² = {frame.attrs['r squared']:.2f}"
    )
    _bars(ax, frame, "coefficient", lambda row: f"{row['coefficient']:+.2f}", description)


def _shapley(ax: Axes, frame: pd.DataFrame, _: str) -> None:
    description = "Shapley share of variance (bar; whisker 95 %)"
    _bars(ax, frame, "share of variance", lambda row: str(row["description"]), description)
    ax.xaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")


def _contributions(ax: Axes, frame: pd.DataFrame, label: str) -> None:
    to = frame.attrs["to"]
    if to == "the variance":
        shares = frame[["share", "error of share"]].set_axis(["share", "error"], axis=1)
        text = "share of the variance (bar; whisker 95 %); all add up to 100 %"
        _bars(ax, shares, "share", lambda row: per_cent(float(row["share"])), text)
        ax.xaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
        return
    frame = frame.drop(index=BASE, errors="ignore")  # from which the contributions start
    factor, term = scale_of(frame["contribution"].to_numpy(), frame.attrs["unit"])
    text = f"contribution to {to} of {_scaled(label, term)} (bar; whisker 95 %); per cent: share"
    _bars(ax, frame, "contribution", lambda row: per_cent(float(row["share"])), text)
    scaled_ticks(ax.xaxis, factor)


def _sobol(ax: Axes, frame: pd.DataFrame, _: str) -> None:
    places = np.arange(len(frame))
    for shift, column, error, colour, label in (
        (-0.2, "first order", "error", DARK, "alone (first order)"),
        (0.2, "total", "error of total", LIGHT, "with its interplay (total)"),
    ):
        ax.barh(
            places + shift,
            frame[column],
            0.38,
            xerr=frame[error],
            color=colour,
            ec=DARK,
            ecolor=INK,
            capsize=3,
            label=label,
        )
    ax.set_yticks(places, _names(frame))
    ax.invert_yaxis()
    ax.set_xlim(left=min(0.0, float(frame["first order"].min())))
    ax.xaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
    ax.set_xlabel("share of variance (whisker 95 %)")
    ax.legend(loc="lower right")


def _swing(ax: Axes, frame: pd.DataFrame, label: str) -> None:
    low, high = frame.columns[2], frame.columns[3]
    base = frame.attrs["base"]
    ends = frame[[low, high]].to_numpy()
    factor, term = scale_of(ends, frame.attrs["unit"])
    places = np.arange(len(frame))
    for side, column, colour in ((0, low, DARK), (1, high, MIDDLE)):
        ax.barh(
            places,
            ends[:, side] - base,
            left=base,
            height=0.62,
            color=colour,
            label=f"driver at {column.split()[-1]}",
        )
    span = float(np.ptp(ends)) or 1.0
    for position, (_, row) in enumerate(frame.iterrows()):
        for driver_at, column in ((frame.columns[0], low), (frame.columns[1], high)):
            above = row[column] > base or (row[column] == base and column == high)
            text = number(float(f"{row[driver_at]:.3g}"))
            ax.text(
                row[column] + (0.01 if above else -0.01) * span,
                position,
                text,
                va="center",
                ha="left" if above else "right",
            )
    ax.axvline(base, color=INK, lw=1.2)
    ax.set_xlim(ends.min() - 0.16 * span, ends.max() + 0.16 * span)
    names = _names(frame)
    if "chance" in frame:  # of the rarer value of an event
        chances = frame["chance"].tolist()
        names = [
            name if chance != chance else f"{name}\n({per_cent(chance)} the rarer value)"
            for name, chance in zip(names, chances, strict=True)
        ]
    ax.set_yticks(places, names)
    ax.invert_yaxis()
    scaled_ticks(ax.xaxis, factor)
    ax.set_xlabel(
        _scaled(label, term) + "; beside each bar the driver's value, the line is the base case"
    )
    ax.legend(loc="lower right")


def _scaled(label: str, term: str) -> str:
    return label.replace("{}", term).replace(" ()", "")


def _conditional(ax: Axes, frame: pd.DataFrame, label: str) -> None:
    slices = [column for column in frame.columns if column != "range"]
    figures = frame[slices].to_numpy()
    factor, term = scale_of(figures, frame.attrs["unit"])
    shown = min(len(frame), len(STROKES))
    for position, name in enumerate(_names(frame)[:shown]):
        ax.plot(
            figures[position],
            color=COLOURS[position],
            ls=STROKES[position],
            marker="o",
            ms=4,
            lw=2,
            label=name,
        )
    for row in figures[shown:]:
        ax.plot(row, color="#bbbbbb", lw=1)
    if len(frame) > shown:
        ax.plot([], color="#bbbbbb", lw=1, label="others")
    ax.set_xticks(range(len(slices)), slices)
    ax.set_xlabel("slice of the driver's trials, from its lowest to its highest")
    scaled_ticks(ax.yaxis, factor)
    ax.set_ylabel(f"{frame.attrs['figure']} of {_scaled(label, term)}")
    ax.legend(ncols=3)


def _tail(ax: Axes, frame: pd.DataFrame, _: str) -> None:
    """Draw each driver's middle 80 % in all and in the worst trials, on one scale: sd of all trials
    about their mean.
    """
    centre = frame["mean, all"].to_numpy()
    spread = (frame["mean, worst"].to_numpy() - centre) / np.where(
        frame["shift"] != 0, frame["shift"], np.nan
    )
    scale = np.where(np.isfinite(spread) & (spread > 0), spread, 1.0)
    share = f"worst {100 * frame.attrs['worst']:g} %"
    for shift, which, colour, label in (
        (-0.17, "all", LIGHT, "all trials"),
        (0.17, "worst", DARK, share),
    ):
        ends = [
            (frame[f"{term}, {which}"].to_numpy() - centre) / scale
            for term in ("P10", "P90", "mean")
        ]
        places = np.arange(len(frame)) + shift
        ax.barh(
            places,
            ends[1] - ends[0],
            left=ends[0],
            height=0.3,
            color=colour,
            ec=DARK,
            label=f"{label}: P10 to P90",
        )
        ax.plot(
            ends[2],
            places,
            "o",
            color=ACCENT,
            mec="white",
            label="mean" if which == "worst" else "_",
        )
        for position, value, text in zip(places, ends[1], frame[f"mean, {which}"], strict=True):
            ax.text(value + 0.06, position, number(float(f"{text:.3g}")), va="center", fontsize=10)
    ax.axvline(0, color=INK, lw=1)
    ax.set_yticks(np.arange(len(frame)), _names(frame))
    ax.invert_yaxis()
    low, high = ax.dataLim.x0, ax.dataLim.x1
    ax.set_xlim(low - 0.05 * (high - low), high + 0.12 * (high - low))
    ax.set_xlabel(
        "distance from the driver's mean, in its sd; figures: means in the driver's own unit"
    )
    ax.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=3, borderaxespad=0.2)


PICTURES: dict[str, Callable[[Axes, pd.DataFrame, str], None]] = {
    "rank": _rank,
    "regression": _regression,
    "swing": _swing,
    "conditional": _conditional,
    "sobol": _sobol,
    "shapley": _shapley,
    "contributions": _contributions,
    "tail": _tail,
}
TITLES = {
    "rank": "What moves {}: dark lowers it, light raises it",
    "regression": "By how many sd {} moves when a driver moves by one: dark lowers it, light "
    "raises it",
    "swing": "How far each driver alone swings {}",
    "conditional": "How {} changes across slices of each driver, all else random",
    "sobol": "How much of the variance of {} each driver explains",
    "shapley": "How much of the variance of {} is each driver's share",
    "contributions": "What {} is made of: contributions that add up",
    "tail": "What the drivers looked like when {} went wrong",
}
