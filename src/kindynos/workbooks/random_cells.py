"""Cells that draw by themselves: each call of RAND is a uniform driver, which is always exact; a
cell that is an inverse distribution function of one call, or a plain stretch of it, becomes a
driver of that distribution, since the meaning is the same and it reads better.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from kindynos.workbooks.addresses import Cell
from kindynos.workbooks.formulas import Binary, Constant, FormulaNode, FunctionCall
from kindynos.workbooks.graph import DRAWING, Graph

UNIFORM = "uniform"
# the distribution whose inverse a function is, which argument is the level, and what the others
# are
INVERSES: dict[str, tuple[str, int, tuple[str, ...]]] = {
    "NORM.INV": ("normal", 0, ("mean", "sd")),
    "NORMINV": ("normal", 0, ("mean", "sd")),
    "NORM.S.INV": ("normal", 0, ()),
    "NORMSINV": ("normal", 0, ()),
    "LOGNORM.INV": ("lognormal", 0, ("mu", "sigma")),
    "LOGINV": ("lognormal", 0, ("mu", "sigma")),
    "BETA.INV": ("beta", 0, ("a", "b", "low", "high")),
    "BETAINV": ("beta", 0, ("a", "b", "low", "high")),
    "GAMMA.INV": ("gamma", 0, ("shape", "scale")),
    "GAMMAINV": ("gamma", 0, ("shape", "scale")),
    "BINOM.INV": ("binomial", 2, ("trials", "probability")),
    "CRITBINOM": ("binomial", 2, ("trials", "probability")),
}


@dataclass(frozen=True)
class RandomCell:
    """A cell that draws: how often its formula calls RAND, and the distribution that it is, with
    the nodes of its parameters, where it is one.
    """

    cell: Cell
    places: tuple[int, ...]
    distribution: str | None = None
    call: int | None = None  # the place of the inverse function
    parameters: Mapping[str, tuple[int | None, FormulaNode]] | None = (
        None  # by argument of that call
    )


def random_cells(graph: Graph) -> dict[int, RandomCell]:
    """Return the cells that draw by their number."""
    drawn = graph.drawing
    by_name = {}
    for number, formula in graph.formulas.items():
        key = id(formula.tree)
        if key not in drawn:
            places = (call.place for call in _draws_in(formula.tree))
            drawn[key] = tuple(dict.fromkeys(places))  # LET repeats a call
        if drawn[key] and number not in graph.held:
            several = formula.area is not None and not formula.area.single
            by_name[number] = (
                RandomCell(formula.cell, drawn[key])
                if several
                else _recognised(formula.cell, formula.tree, drawn[key])
            )
    return by_name


def _draws_in(tree: FormulaNode) -> Iterator[FunctionCall]:
    for node in tree.walk():
        if isinstance(node, FunctionCall) and node.name in DRAWING:
            yield node


def _is_draw(node: FormulaNode) -> bool:
    return isinstance(node, FunctionCall) and node.name == "RAND" and not node.arguments


def _recognised(cell: Cell, tree: FormulaNode, places: tuple[int, ...]) -> RandomCell:
    plain = RandomCell(cell, places)
    if len(places) > 1:
        return plain
    if _is_draw(tree):
        ends: dict[str, tuple[int | None, FormulaNode]] = {
            "low": (None, Constant(0.0)),
            "high": (None, Constant(1.0)),
        }
        return RandomCell(cell, places, UNIFORM, None, ends)
    if isinstance(tree, FunctionCall) and tree.name == "RANDBETWEEN" and len(tree.arguments) == 2:
        low, high = tree.arguments
        return RandomCell(
            cell, places, "integer uniform", tree.place, {"low": (0, low), "high": (1, high)}
        )
    if isinstance(tree, FunctionCall) and tree.name in INVERSES:
        return _inverse(plain, tree)
    stretched = _stretched(tree)
    if stretched is not None:
        return RandomCell(cell, places, UNIFORM, None, stretched)
    return plain


def _inverse(plain: RandomCell, tree: FunctionCall) -> RandomCell:
    label, level, names = INVERSES[tree.name]
    others = [i for i in range(len(tree.arguments)) if i != level]
    if level >= len(tree.arguments) or not _is_draw(tree.arguments[level]):
        return plain
    if len(others) > len(names):
        return plain
    parameters: dict[str, tuple[int | None, FormulaNode]] = {
        name: (i, tree.arguments[i]) for name, i in zip(names, others, strict=False)
    }
    if label == "normal" and not names:
        parameters = {"mean": (None, Constant(0.0)), "sd": (None, Constant(1.0))}
    return RandomCell(plain.cell, plain.places, label, tree.place, parameters)


def _stretched(tree: FormulaNode) -> dict[str, tuple[int | None, FormulaNode]] | None:
    """Return the ends of low + (high - low) * RAND(), in either order; None for anything else."""
    if not (isinstance(tree, Binary) and tree.operator == "+"):
        return None
    for low, product in ((tree.left, tree.right), (tree.right, tree.left)):
        if not (isinstance(product, Binary) and product.operator == "*"):
            continue
        for draw, width in ((product.left, product.right), (product.right, product.left)):
            if not _is_draw(draw):
                continue
            spread = isinstance(width, Binary) and width.operator == "-"
            if spread and isinstance(width, Binary) and width.right == low:
                return {"low": (None, low), "high": (None, width.left)}
    return None


def is_whole(value: float) -> bool:
    """Return whether a number is a whole one."""
    return math.isfinite(value) and value == math.floor(value)
