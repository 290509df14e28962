"""Reading a formula: Python's own grammar, cut down to a whitelist. Nothing that is read is ever
executed.
"""

from __future__ import annotations

import ast
import keyword
import unicodedata
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kindynos.arrays import Floats
from kindynos.errors import FormulaError
from kindynos.formula import advice
from kindynos.formula.function import WRITTEN, Function, Parameter
from kindynos.formula.functions import FUNCTIONS
from kindynos.formula.tree import (
    Call,
    Expression,
    Name,
    Number,
    Operation,
    Option,
    Previous,
    TableSum,
    with_sums,
)

LONGEST = 40_000  # characters of one formula
MOST_PARTS = 1_000
DEEPEST = 60
LONGEST_SUM = 40  # terms that are added one by one; more in one go, in the same order
MOST_BACK = 10_000  # periods that ``previous`` may look back, and whole-number options


def is_name(text: object) -> bool:
    """Return whether a text can name a quantity: an identifier that is not a word of the
    language.
    """
    return (
        isinstance(text, str)
        and text.isidentifier()
        and not keyword.iskeyword(text)
        and not text.startswith("__")
        and unicodedata.normalize("NFKC", text) == text
    )


def parse(text: str) -> Expression:
    """Return the tree of a formula; raises FormulaError with the column of what is wrong."""
    if not isinstance(text, str) or not text.strip():
        raise FormulaError(f"a formula must be a text that is not empty, not {text!r:.40}")
    if len(text) > LONGEST:
        raise FormulaError(
            f"a formula may have {LONGEST:,} characters, and this one has {len(text):,}"
        )
    line = " ".join(text.split("\n")).replace("\t", " ").replace("\r", " ")
    if "#" in line:
        raise FormulaError(f"a formula has no comments: '#' at column {line.index('#') + 1}")
    offset = len(line) - len(line.lstrip())
    try:
        # what Python doubts, such as 5iny, is refused or means what it says
        with warnings.catch_warnings(action="ignore"):
            tree = ast.parse(line.strip(), mode="eval").body
    except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
        column = getattr(error, "offset", None)
        where = f" at column {column + offset}" if column else ""
        raise FormulaError(
            f"cannot be read as a formula{where}: {_reason(error)}{advice.of_text(line)}"
        ) from None
    return with_sums(_FormulaReader(line.strip(), offset).read(tree))


def _reason(error: BaseException) -> str:
    if isinstance(error, MemoryError | RecursionError):
        return "it is nested too deeply"
    return str(getattr(error, "msg", error)).split(". Perhaps")[0]


def _truth(value: NDArray[np.bool_], *tested: Floats) -> Floats:
    """Return 1.0 for true and 0.0 for false, NaN where a tested value is NaN."""
    truth = np.asarray(value, dtype=np.float64)
    for operand in tested:
        if np.isnan(np.sum(operand)):
            truth = np.where(np.isnan(operand), np.nan, truth)
    return truth


@dataclass(frozen=True)
class Comparisons:
    """Comparisons in a row: a < b <= c, by their signs."""

    signs: tuple[str, ...]

    def __call__(self, *values: Floats) -> Floats:
        comparisons = [
            COMPARED[sign](one, other)
            for sign, (one, other) in zip(self.signs, pairwise(values), strict=True)
        ]
        return _truth(np.logical_and.reduce(np.broadcast_arrays(*comparisons)), *values)


def _all(*values: Floats) -> Floats:
    return _truth(
        np.logical_and.reduce(np.broadcast_arrays(*[value != 0 for value in values])), *values
    )


def _any(*values: Floats) -> Floats:
    return _truth(
        np.logical_or.reduce(np.broadcast_arrays(*[value != 0 for value in values])), *values
    )


def _not(value: Floats) -> Floats:
    return _truth(np.asarray(value == 0), value)


def _choose(yes: Floats, test: Floats, no: Floats) -> Floats:
    chosen = np.where(test != 0, yes, no)
    return np.where(np.isnan(test), np.nan, chosen) if np.isnan(np.sum(test)) else chosen


_BINARY: dict[type[ast.operator], tuple[str, Callable[..., Any]]] = {
    ast.Add: ("+", np.add),
    ast.Sub: ("-", np.subtract),
    ast.Mult: ("*", np.multiply),
    ast.Div: ("/", np.divide),
    ast.FloorDiv: ("//", np.floor_divide),
    ast.Mod: ("%", np.mod),
    ast.Pow: ("**", np.power),
}
_UNARY: dict[type[ast.unaryop], tuple[str, Callable[..., Any]]] = {
    ast.USub: ("-", np.negative),
    ast.UAdd: ("+", np.positive),
    ast.Not: ("not", _not),
}
_COMPARE: dict[type[ast.cmpop], str] = {
    ast.Lt: "<",
    ast.LtE: "<=",
    ast.Gt: ">",
    ast.GtE: ">=",
    ast.Eq: "==",
    ast.NotEq: "!=",
}
COMPARED: dict[str, Callable[[Floats, Floats], NDArray[np.bool_]]] = {
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
    "==": np.equal,
    "!=": np.not_equal,
}


def _terms(node: ast.expr) -> list[ast.expr]:
    """Return the terms of a sum, from the first on: those of a + b + c are three."""
    terms = []
    while isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        terms.append(node.right)
        node = node.left
    return [node, *reversed(terms)]


class _FormulaReader:
    """Turns Python's syntax tree into ours, part by part; whatever is not on the list is
    refused.
    """

    def __init__(self, text: str, offset: int) -> None:
        self.text = text
        self.offset = offset
        self.count = 0

    def place(self, node: ast.expr) -> int:
        """The column of a part, from 1; Python counts bytes."""
        return len(self.text.encode()[: node.col_offset].decode(errors="ignore")) + self.offset + 1

    def read(self, node: ast.expr, depth: int = 0) -> Expression:
        self.count += 1
        if depth > DEEPEST or self.count > MOST_PARTS:
            limit = f"{DEEPEST} levels" if depth > DEEPEST else f"{MOST_PARTS:,} parts"
            raise FormulaError(
                f"a formula may have {limit} at the most; split it into several lines"
            )
        match node:
            case ast.Constant(value=value):
                return self._number(node, value)
            case ast.Name(id=name):
                return Name(self.place(node), name)
            case ast.BinOp(op=op) if type(op) in _BINARY:
                return self._binary(node, depth)
            case ast.UnaryOp(op=op, operand=operand) if type(op) in _UNARY:
                return self._operation(node, _UNARY[type(op)], [operand], depth)
            case ast.BoolOp(op=op, values=values):
                meaning = ("and", _all) if isinstance(op, ast.And) else ("or", _any)
                return self._operation(node, meaning, values, depth)
            case ast.IfExp(test=test, body=body, orelse=orelse):
                return self._operation(node, ("if", _choose), [body, test, orelse], depth)
            case ast.Compare(left=left, ops=ops, comparators=rest) if all(
                type(op) in _COMPARE for op in ops
            ):
                signs = tuple(_COMPARE[type(op)] for op in ops)
                return self._operation(node, (signs[0], Comparisons(signs)), [left, *rest], depth)
            case ast.Call():
                return self._call(node, depth)
        label = _word(node)
        verb = "do" if label.endswith("brackets") else "does"
        hint = advice.of_part(node, self.text)
        raise FormulaError(
            f"{label} at column {self.place(node)} {verb} not belong in a formula{hint}"
        )

    def _binary(self, node: ast.BinOp, depth: int) -> Expression:
        terms = _terms(node)
        if len(terms) <= LONGEST_SUM:
            return self._operation(node, _BINARY[type(node.op)], [node.left, node.right], depth)
        added = tuple(self.read(term, depth + 1) for term in terms)
        return Call(self.place(node), FUNCTIONS["sum_of"], added)

    def _number(self, node: ast.expr, value: object) -> Number:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise FormulaError(f"{value!r:.40} at column {self.place(node)} is not a number")
        try:
            number = float(value)
        except OverflowError:
            number = np.inf
        if not np.isfinite(number):
            raise FormulaError(f"the number at column {self.place(node)} is too large")
        return Number(self.place(node), number)

    def _operation(
        self,
        node: ast.expr,
        meaning: tuple[str, Callable[..., Any]],
        operands: list[ast.expr],
        depth: int,
    ) -> Expression:
        symbol, compute = meaning
        return Operation(
            self.place(node),
            symbol,
            compute,
            tuple(self.read(operand, depth + 1) for operand in operands),
        )

    def _call(self, node: ast.Call, depth: int) -> Expression:
        if not isinstance(node.func, ast.Name):
            hint = advice.of_part(node.func, self.text)
            raise FormulaError(
                f"{_word(node.func)} at column {self.place(node)} cannot be called in a "
                f"formula{hint}"
            )
        name = node.func.id
        if name == "previous":
            return self._previous(node, depth)
        if name not in FUNCTIONS:
            position = self.place(node)
            hint = advice.of_call(name, FUNCTIONS)
            names = () if hint else (*FUNCTIONS, "previous")
            raise FormulaError(
                f"no function {name!r} (column {position}){hint}",
                place=position,
                unknown=name,
                known=names,
            )
        function = FUNCTIONS[name]
        if function.many:
            if name == "sum_of" and len(node.args) == 1:
                return self._sum_of_table(node)
            if len(node.args) < 2 or node.keywords:
                raise FormulaError(
                    f"{name} at column {self.place(node)} takes two or more values; over the "
                    "periods of one row "
                    f"use {'lowest' if name == 'min' else 'highest'}(row)"
                )
            return Call(
                self.place(node), function, tuple(self.read(arg, depth + 1) for arg in node.args)
            )
        given = self._bind(node, name, function.parameters)
        return self._function(node, function, given, depth)

    def _function(
        self, node: ast.Call, function: Function, given: dict[str, ast.expr], depth: int
    ) -> Expression:
        arguments: list[Expression | None] = []
        options: list[tuple[str, Option]] = []
        for parameter in function.parameters:
            argument = given.get(parameter.name)
            if parameter.wants in WRITTEN:
                if argument is not None:
                    options.append(
                        (parameter.name, self._option(argument, function.name, parameter))
                    )
            else:
                arguments.append(None if argument is None else self.read(argument, depth + 1))
        return Call(self.place(node), function, tuple(arguments), tuple(options))

    def _sum_of_table(self, node: ast.Call) -> Expression:
        """Return the line that adds up the drivers of a table."""
        value = node.args[0]
        if isinstance(value, ast.Constant) and is_name(value.value):
            return TableSum(self.place(node), str(value.value))
        raise FormulaError(
            f"sum_of at column {self.place(node)} takes the name of a table of drivers in quotes, "
            'such as sum_of("items"), or several values; total(row) adds up the periods of a row'
        )

    def _previous(self, node: ast.Call, depth: int) -> Expression:
        parameters = (
            Parameter("line"),
            Parameter("first"),
            Parameter("back", "whole", optional=True),
        )
        given = self._bind(node, "previous", parameters)
        line = given["line"]
        if not isinstance(line, ast.Name):
            raise FormulaError(
                f"line of previous at column {self.place(line)} must be the name of a line"
            )
        back = self._whole(given["back"], "previous", "back", 1) if "back" in given else 1
        return Previous(self.place(node), line.id, self.read(given["first"], depth + 1), back)

    def _bind(
        self, node: ast.Call, name: str, parameters: tuple[Parameter, ...]
    ) -> dict[str, ast.expr]:
        """Return the arguments by the names of the parameters they stand for."""
        usage = f"{name}({', '.join(p.name + ('=...' if p.optional else '') for p in parameters)})"
        where = f"{name} at column {self.place(node)}"
        if len(node.args) > len(parameters):
            raise FormulaError(f"{where} has {len(node.args)} arguments; it reads {usage}")
        given = {parameter.name: arg for parameter, arg in zip(parameters, node.args, strict=False)}
        for option in node.keywords:
            if (
                option.arg is None
                or option.arg in given
                or option.arg not in {p.name for p in parameters}
            ):
                raise FormulaError(
                    f"{where} cannot take {option.arg or '**'!r} here; it reads {usage}"
                )
            given[option.arg] = option.value
        for parameter in parameters:
            if parameter.name not in given and not parameter.optional:
                raise FormulaError(f"{where} lacks {parameter.name!r}; it reads {usage}")
        return given

    def _option(self, node: ast.expr, function: str, parameter: Parameter) -> Option:
        """Return what is written out: a whole number, a word or a flag."""
        if parameter.wants == "whole":
            return self._whole(
                node, function, parameter.name, 0 if parameter.name in ("digits", "lag") else 1
            )
        value = node.value if isinstance(node, ast.Constant) else None
        if parameter.wants == "flag" and isinstance(value, bool):
            return value
        if parameter.wants == "word" and isinstance(value, str) and value in parameter.words:
            return value
        if parameter.wants == "date":
            return self._date(node, function, parameter.name, value)
        rule = " or ".join(map(repr, parameter.words or (True, False)))
        raise FormulaError(
            f"{parameter.name} of {function} at column {self.place(node)} must be {rule}, "
            "written out"
        )

    def _date(self, node: ast.expr, function: str, name: str, value: object) -> str:
        try:
            return date.fromisoformat(str(value) if isinstance(value, str) else "").isoformat()
        except ValueError:
            raise FormulaError(
                f"{name} of {function} at column {self.place(node)} must be a date in quotes, such "
                "as '2028-03-31'"
            ) from None

    def _whole(self, node: ast.expr, function: str, name: str, least: int) -> int:
        value = node.value if isinstance(node, ast.Constant) else None
        if isinstance(value, bool) or not isinstance(value, int) or not least <= value <= MOST_BACK:
            rule = f"a whole number from {least} to {MOST_BACK:,}, written out"
            raise FormulaError(f"{name} of {function} at column {self.place(node)} must be {rule}")
        return value


def _word(node: ast.expr) -> str:
    words = {
        "Attribute": "a dot",
        "Subscript": "square brackets",
        "JoinedStr": "a text",
        "NamedExpr": "':='",
    }
    words |= {
        "Lambda": "'lambda'",
        "Await": "'await'",
        "Starred": "'*'",
        "List": "a list",
        "Tuple": "a comma",
    }
    words |= {
        "ListComp": "'for'",
        "GeneratorExp": "'for'",
        "SetComp": "'for'",
        "DictComp": "'for'",
        "Dict": "'{'",
    }
    words |= {"BinOp": "this operator"}
    return words.get(type(node).__name__, f"this ({type(node).__name__.lower()})")
