"""Decisions: the tree with its best path, and the risk profiles of the alternatives."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from kindynos.decisions.tree import Choice, Event, EventTest, Pay, Tree, children
from kindynos.formatting import per_cent, short
from kindynos.plots.style import (
    ACCENT,
    DARK,
    INK,
    NEW,
    bare,
    page,
    quantity_label,
    scale_of,
    scaled_ticks,
)
from kindynos.validate import one_of

if TYPE_CHECKING:
    from kindynos.decisions.solve import Solution

KINDS = ("tree", "profiles")
STROKES = ("-", "--", "-.", ":", (0, (5, 1, 1, 1, 1, 1)), (0, (1, 2)))
COLOURS = (DARK, ACCENT, "#7a4a9e", INK, "#6fa3cf", "#8a8a8a")
Path = tuple[str, ...]


@page
def decision(solution: Solution, what: str = "tree", figure: Figure = NEW) -> None:
    """Draw the tree of a solved decision with the best path marked, or the risk profiles of its
    alternatives.

    Raises ParameterError for another ``what``.
    """
    one_of("what", what, KINDS)
    draw = _tree if what == "tree" else _profiles
    draw(solution, figure)


def _node(
    ax: Axes,
    part: Any,
    place: tuple[float, float],
    path: Path,
    is_best: bool,
    factor: float,
    size: float,
) -> None:
    """Draw a part of the tree at its place, with its worth and its name."""
    x, y = place
    marker = {"choice": "s", "event": "o", "test": "D", "payoff": "|"}[part.kind]
    colour = ACCENT if is_best else DARK
    ax.plot(
        x,
        y,
        marker,
        ms=size * (0.9 if part.kind != "payoff" else 1.1),
        color=colour,
        mec=colour,
        mfc="white",
        mew=1.6,
        zorder=3,
    )
    value = short(float(part.value) / factor)
    ax.text(
        x + 0.03,
        y,
        f" {value}",
        ha="left",
        va="center",
        fontsize=size,
        color=INK,
        fontweight="bold" if is_best else None,
        bbox={"fc": "white", "ec": "none", "pad": 0.4, "alpha": 0.85},
        zorder=2.5,
    )
    if part.kind != "payoff" and path:
        ax.text(
            x,
            y - 0.32,
            part.name,
            ha="center",
            va="bottom",
            fontsize=0.85 * size,
            color=INK,
            style="italic",
        )


def _tree(solution: Solution, figure: Figure) -> None:
    ax = figure.subplots()
    places: dict[Path, tuple[float, float]] = {}
    ends = _place(solution.decision.root, (), 0, [0], places)
    deepest = max(x for x, _ in places.values())
    factor, label = scale_of([float(piece.value) for piece in solution.rolling.parts])
    size = float(np.clip(230 / max(ends, 1), 6.5, 12))
    best = _best_paths(solution)
    for path, (x, y) in places.items():
        if path:
            _branch(ax, solution, path, places[path[:-1]], (x, y), path in best, size)
        _node(ax, solution.parts[path], (x, y), path, path in best, factor, size)
    ax.set_xlim(-0.25, deepest + 0.45)
    ax.set_ylim(ends - 0.4, -0.9)
    ax.axis("off")
    unit = f"{label}{solution.decision.unit}" if solution.decision.unit else ""
    unit = unit or (f"in {label.strip()}s" if label else "")
    rule = solution.words.split(";")[0]
    tests = ", diamonds tests" if solution.decision.tests else ""
    ax.set_title(
        f"{solution.decision.name}: {solution.best} is best {rule}. Squares are choices, circles "
        f"are events{tests}"
        f"{f'; {unit}' if unit else ''}"
    )


def _place(
    node: Tree, path: Path, depth: int, row: list[int], places: dict[Path, tuple[float, float]]
) -> int:
    """Give every part its place, ends below each other and others beside the middle of theirs;
    return how many ends there are.
    """
    while isinstance(node, Pay):
        node = node.then
    inner = children(node)
    if not inner:
        places[path] = (float(depth), float(row[0]))
        row[0] += 1
        return row[0]
    for name, child in inner:
        _place(child, (*path, name), depth + 1, row, places)
    rows = [places[(*path, name)][1] for name, _ in inner]
    places[path] = (float(depth), (rows[0] + rows[-1]) / 2)
    return row[0]


def _branch(
    ax: Axes,
    solution: Solution,
    path: Path,
    start: tuple[float, float],
    end: tuple[float, float],
    best: bool,
    size: float,
) -> None:
    """Draw a branch with its name, and behind an event with its chance."""
    parent = solution.parts[path[:-1]]
    label = path[-1]
    if parent.kind in ("event", "test") and parent.chance > 0:
        label += f" {per_cent(solution.parts[path].chance / parent.chance, 0)}"
    bend = start[0] + 0.3
    ax.plot(
        [start[0], bend, end[0]],
        [start[1], end[1], end[1]],
        color=ACCENT if best else "#8a8a8a",
        lw=2.6 if best else 1.1,
        zorder=1,
    )
    ax.text(
        bend + 0.04,
        end[1] - 0.06,
        label,
        ha="left",
        va="bottom",
        fontsize=0.9 * size,
        color=INK,
        zorder=2,
    )


def _best_paths(solution: Solution) -> set[Path]:
    """Return the parts that the best policy can come to."""
    best_paths: set[Path] = set()

    def visit(node: Tree, path: Path) -> None:
        best_paths.add(path)
        while isinstance(node, Pay):
            node = node.then
        if isinstance(node, Choice):
            best = solution.policy[path]
            visit(node.alternatives[best], (*path, best))
        elif isinstance(node, Event | EventTest):
            for name, child in children(node):
                visit(child, (*path, name))

    visit(solution.decision.root, ())
    return best_paths


def _profiles(solution: Solution, figure: Figure) -> None:
    left, right = figure.subplot_mosaic("A;B", sharex=True).values()
    names = list(solution.decision.alternatives)
    by_name = {name: solution.distribution(name) for name in names}
    every = np.concatenate([values for values, _ in by_name.values()])
    factor, label = scale_of(every)
    edges = np.linspace(
        every.min(), every.max() if every.max() > every.min() else every.min() + 1, 41
    )
    for position, name in enumerate(names):
        values, chances = by_name[name]
        style: Any = {
            "color": COLOURS[position % len(COLOURS)],
            "ls": STROKES[position % len(STROKES)],
            "lw": 2.0,
            "label": name,
        }
        heights = np.histogram(values, edges, weights=chances)[0]
        left.stairs(heights, edges, color=style["color"], ls=style["ls"], lw=2.0, label=name)
        room = 0.03 * float(np.ptp(every))
        x = np.concatenate([[every.min() - room], np.repeat(values, 2), [every.max() + room]])
        below = np.cumsum(chances)
        y = np.concatenate([[0, 0], np.repeat(below, 2)[:-1], [1.0]])
        right.plot(x, y, **style)
        right.plot(x, 1 - y, color=style["color"], ls=style["ls"], lw=0.9)
    for ax in (left, right):
        scaled_ticks(ax.xaxis, factor)
        ax.yaxis.set_major_formatter(lambda share, _: f"{100 * share:.0f} %")
        bare(ax)
    left.set_title(
        f"{solution.decision.name}: what each alternative may bring, under the best later choices"
    )
    left.set_ylabel("chance of each bar")
    left.legend()
    right.set_title("Chance of at most this (thick) and of more (thin)")
    right.set_xlabel(quantity_label("payoff", solution.decision.unit, label))
    right.set_ylabel("chance")
