"""The terms of a sum: what a formula adds and subtracts."""

from __future__ import annotations

import ast
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Term:
    """One term, with its sign, 1 or -1."""

    sign: int
    text: str

    @property
    def label(self) -> str:
        """The term as a table shows it."""
        return (
            self.text
            if self.sign > 0
            else f"-({self.text})"
            if " " in self.text
            else f"-{self.text}"
        )


def terms_of(formula: str, formula_of: Callable[[str], str | None] | None = None) -> list[Term]:
    """Return what a formula adds and subtracts, in its order; one that is not a sum is one term.

    ``formula_of`` returns the formula of a name, None for one without: names of lines that are sums
    themselves are then cut into their terms too.

    >>> [term.label for term in terms_of("sales - (crew + 0.1 * fuel)")]
    ['sales', '-crew', '-(0.1 * fuel)']
    """
    return _cut(_tree(formula), 1, formula_of)


def _tree(formula: str) -> ast.expr:
    return ast.parse(" ".join(formula.split()), mode="eval").body


def _cut(node: ast.expr, sign: int, formula_of: Callable[[str], str | None] | None) -> list[Term]:
    match node:
        case ast.BinOp(left=left, op=ast.Add(), right=right):
            return _cut(left, sign, formula_of) + _cut(right, sign, formula_of)
        case ast.BinOp(left=left, op=ast.Sub(), right=right):
            return _cut(left, sign, formula_of) + _cut(right, -sign, formula_of)
        case ast.Call(func=ast.Name(id="sum_of"), args=[ast.Constant(value=str(table))]):
            return _cut(ast.Name(table), sign, formula_of)
        case ast.Call(func=ast.Name(id="sum_of"), args=values):
            return [term for value in values for term in _cut(value, sign, formula_of)]
        case ast.UnaryOp(op=ast.USub(), operand=operand):
            return _cut(operand, -sign, formula_of)
        case ast.UnaryOp(op=ast.UAdd(), operand=operand):
            return _cut(operand, sign, formula_of)
        case ast.Name(id=name) if formula_of is not None and (inner := formula_of(name)):
            cut = _cut(_tree(inner), sign, formula_of)
            return cut if len(cut) > 1 else [Term(sign, name)]
    return [Term(sign, ast.unparse(node))]
