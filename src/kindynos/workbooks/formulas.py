"""Formulas of cells, parsed to a syntax tree whose references are relative to their cell.

A formula that was copied along a row or down a column has one tree: ``template`` turns a text into
what copies have in common, and trees are kept by it.
"""

from __future__ import annotations

import itertools
import re
import sys
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from kindynos.errors import FormulaError
from kindynos.workbooks.addresses import LAST_COLUMN, LAST_ROW, Area, column_of, sheet_and_rest
from kindynos.workbooks.cell_errors import ERRORS, OTHER_ERRORS, VALUE, CellError

MOST_NESTED = 80
# what is done with each cell by a LAMBDA is written out by ``kindynos.workbooks.lambdas``
OF_EACH: dict[str, Callable[..., FormulaNode]] = {}
MOST_PARTS = 20_000  # of a formula whose LET puts values in place of their names
MOST_IN_A_ROW = 1_000  # operations: a + b + ... is a tree as deep as it is long
FRAMES = 10_000  # of functions that call each other, for trees of that depth
LONGEST = 20_000  # characters of a formula


@dataclass(frozen=True, slots=True)
class FormulaNode:
    """Part of a formula."""

    def parts(self) -> Iterator[FormulaNode]:
        """Yield the parts of it."""
        names: tuple[str, ...] = self.__match_args__  # of its fields
        for value in (getattr(self, name) for name in names):
            if isinstance(value, FormulaNode):
                yield value
            elif isinstance(value, tuple):
                yield from (part for part in value if isinstance(part, FormulaNode))

    def walk(self) -> Iterator[FormulaNode]:
        """Yield it and all parts of parts, from the left."""
        waiting: list[FormulaNode] = [self]
        while waiting:
            node = waiting.pop()
            yield node
            waiting.extend(reversed(list(node.parts())))


@dataclass(frozen=True, slots=True)
class Constant(FormulaNode):
    """A number, a text, a logical or an error; None for an argument that is left out."""

    value: Any


@dataclass(frozen=True, slots=True)
class ArrayConstant(FormulaNode):
    """Constants in braces."""

    rows: tuple[tuple[Any, ...], ...]


@dataclass(frozen=True, slots=True)
class Corner:
    """A row and a column, each absolute or told from the cell of the formula; None stands for all
    rows or columns.
    """

    row: int | None
    column: int | None
    row_absolute: bool
    column_absolute: bool

    def at(self, row: int, column: int) -> tuple[int | None, int | None]:
        """Return the place from a cell."""
        return (
            self.row if self.row is None or self.row_absolute else self.row + row,
            self.column if self.column is None or self.column_absolute else self.column + column,
        )


@dataclass(frozen=True, slots=True)
class Reference(FormulaNode):
    """A cell or an area; ``sheet`` is None for the sheet of the formula."""

    sheet: str | None
    first: Corner
    last: Corner | None = None

    @property
    def size(self) -> tuple[int, int] | None:
        """How many rows and columns lie between its corners; None of whole rows and columns, and
        where copies of the formula differ in it.
        """
        begin, end = self.first, self.last or self.first
        if begin.row is None or begin.column is None or end.row is None or end.column is None:
            return None
        if (begin.row_absolute, begin.column_absolute) != (end.row_absolute, end.column_absolute):
            return None
        return abs(end.row - begin.row), abs(end.column - begin.column)

    def area(self, sheet: str, row: int, column: int) -> Area | None:
        """Return the area from a cell; None where it lies outside the sheet."""
        top, left = self.first.at(row, column)
        bottom, right = (top, left) if self.last is None else self.last.at(row, column)
        top, bottom = (1, LAST_ROW) if top is None or bottom is None else sorted((top, bottom))
        left, right = (1, LAST_COLUMN) if left is None or right is None else sorted((left, right))
        if top < 1 or left < 1 or bottom > LAST_ROW or right > LAST_COLUMN:
            return None
        return Area(sheet if self.sheet is None else self.sheet, top, left, bottom, right)


@dataclass(frozen=True, slots=True)
class SheetsReference(FormulaNode):
    """The same area of all sheets from one to another: several areas."""

    first: str
    last: str
    area: Reference


@dataclass(frozen=True, slots=True)
class NameRef(FormulaNode):
    """A defined name; ``sheet`` where it is that of a sheet."""

    name: str
    sheet: str | None = None


@dataclass(frozen=True, slots=True)
class TableReference(FormulaNode):
    """A reference into a table: its columns from one to another, and which of its rows."""

    table: str  # empty for the table that the cell is in
    first: str | None
    last: str | None
    rows: tuple[str, ...]  # among #all, #headers, #data, #totals, #this row


@dataclass(frozen=True, slots=True)
class External(FormulaNode):
    """A reference to another workbook."""

    text: str


@dataclass(frozen=True, slots=True)
class FunctionCall(FormulaNode):
    """A function of arguments; ``place`` tells calls of one formula apart."""

    name: str
    arguments: tuple[FormulaNode, ...]
    place: int = 0


@dataclass(frozen=True, slots=True)
class Unary(FormulaNode):
    """A sign before, or a percent sign after."""

    operator: str
    operand: FormulaNode


@dataclass(frozen=True, slots=True)
class Binary(FormulaNode):
    """Two operands; the operators ":", "," and " " make references."""

    operator: str
    left: FormulaNode
    right: FormulaNode


_SHEET = r"(?:'(?:[^']|'')+'|[^\W\d][\w.]*(?::[^\W\d][\w.]*)?|\[\d+\][^\W\d]?[\w.]*)!"
_CELL = r"\$?[A-Za-z]{1,3}\$?[1-9]\d{0,6}"
TOKEN = re.compile(
    rf"""
    (?P<text>"(?:[^"]|"")*")
    |(?P<error>\#(?:NULL!|DIV/0!|VALUE!|REF!|NAME\?|NUM!|N/A|GETTING_DATA|SPILL!|CALC!|FIELD!
        |BLOCKED!|UNKNOWN!))
    |(?P<sheet>{_SHEET})
    |(?P<external>'?\[\d+\])
    |(?P<rows>\$?[1-9]\d*:\$?[1-9]\d*(?![\w.]))
    |(?P<columns>\$?[A-Za-z]{{1,3}}:\$?[A-Za-z]{{1,3}}(?![\w.(]))
    |(?P<cell>{_CELL}(?![\w.(!\[]))
    |(?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)
    |(?P<call>[^\W\d][\w.]*\()
    |(?P<table>[^\W\d]?[\w.]*\[)
    |(?P<name>[^\W\d\\]?[\w.?\\]+)
    |(?P<operator><=|>=|<>|[-+*/^&=<>%(){{}},;:@~\#])
    |(?P<blank>\s+)
    """,
    re.X,
)
# what copies of a formula differ in: cells that are not inside texts, names and functions
COPIED = re.compile(
    r'"(?:[^"]|"")*"|\'(?:[^\']|\'\')+\'|\[[^\]]*\]'
    r"|(?<![\w.$\[])(\$?)([A-Za-z]{1,3})(\$?)([1-9]\d{0,6})(?![\w.(!\[])"
)


WHOLE = re.compile(r"\$?[A-Za-z]{1,3}:\$?[A-Za-z]|\d:\$?\d")  # perhaps whole columns or rows


def template(text: str, row: int, column: int) -> str:
    """Return what a formula has in common with its copies in other cells.

    >>> template("=B2*$C$1", 2, 3) == template("=B3*$C$1", 3, 3)
    True
    """

    def relative(match: re.Match[str]) -> str:
        if match[2] is None:
            return match[0]
        places = (
            f"C{match[2]}" if match[1] else f"c{column_of(match[2]) - column}",
            f"R{match[4]}" if match[3] else f"r{int(match[4]) - row}",
        )
        return "{" + places[0] + places[1] + "}"

    relative_text = COPIED.sub(relative, text)
    return f"{relative_text}@{row},{column}" if WHOLE.search(relative_text) else relative_text


def allow_deep_trees() -> None:
    """Let functions call each other as deeply as the longest formula needs; these are functions of
    Python, which take no room on the stack of the machine.
    """
    sys.setrecursionlimit(max(sys.getrecursionlimit(), FRAMES))


def parse(text: str, row: int, column: int) -> FormulaNode:
    """Return the tree of a formula, with or without its equals sign, in a cell; raises
    FormulaError.
    """
    if len(text) > LONGEST:
        raise FormulaError(f"the formula has {len(text):,} characters, and {LONGEST:,} are read")
    parser = _Parser(text.removeprefix("="), row, column)
    tree = parser.expression(0)
    if parser.kind != "end":
        raise parser.problem()
    return tree


LEVELS = {
    "=": 1, "<>": 1, "<": 1, "<=": 1, ">": 1, ">=": 1,
    "&": 2, "+": 3, "-": 3, "*": 4, "/": 4, "^": 5,
}  # fmt: skip
SIGN, PERCENT, UNION, INTERSECTION, RANGE = 6, 7, 8, 9, 10


class _Parser:
    """A parser by precedence: what binds closest is read first."""

    def __init__(self, text: str, row: int, column: int) -> None:
        self.source, self.row, self.column = text, row, column
        self.position = 0
        self.calls = 0
        self.depth = 0
        self.kind, self.text, self.blank = "", "", False
        self._next()

    def problem(self, what: str = "") -> FormulaError:
        """Return the error at the present place."""
        text = self.text or "the end"
        return FormulaError(
            f"{what or f'cannot be read at {text!r:.30}'}", place=self.position - len(self.text) + 1
        )

    def _next(self) -> None:
        self.blank = False
        while True:
            if self.position >= len(self.source):
                self.kind, self.text = "end", ""
                return
            match = TOKEN.match(self.source, self.position)
            if match is None:
                raise FormulaError(
                    f"cannot be read at {self.source[self.position :]!r:.30}",
                    place=self.position + 1,
                )
            self.position = match.end()
            self.kind, self.text = str(match.lastgroup), match[0]
            if self.kind != "blank":
                return
            self.blank = True

    def _take(self, operator: str) -> bool:
        if self.kind == "operator" and self.text == operator:
            self._next()
            return True
        return False

    def _expect(self, operator: str) -> None:
        if not self._take(operator):
            raise self.problem(f"{operator!r} is missing")

    def expression(self, level: int, *, union: bool = True) -> FormulaNode:
        """Return what binds closer than a level."""
        self.depth += 1
        if self.depth > MOST_NESTED:
            raise self.problem("is nested too deeply")
        left = self._operand()
        for count in itertools.count():
            if count > MOST_IN_A_ROW:
                raise self.problem(f"has more than {MOST_IN_A_ROW:,} operations in a row")
            if self.kind == "operator" and self.text == "%" and level < PERCENT:
                self._next()
                left = Unary("%", left)
                continue
            if self.kind == "operator" and self.text == ":" and level < RANGE:
                self._next()
                left = Binary(":", left, self.expression(RANGE, union=union))
                continue
            if self.blank and self._begins_reference() and level < INTERSECTION:
                left = Binary(" ", left, self.expression(INTERSECTION, union=union))
                continue
            if self.kind == "operator" and self.text == "#" and level < RANGE:
                self._next()
                left = FunctionCall("ANCHORARRAY", (left,))
                continue
            unites = self.text == "~" or (union and self.text == ",")  # some programs write ~
            if unites and self.kind == "operator" and level < UNION:
                self._next()
                left = Binary(",", left, self.expression(UNION, union=union))
                continue
            binding = LEVELS.get(self.text) if self.kind == "operator" else None
            if binding is None or binding <= level:
                break
            operator = self.text
            self._next()
            left = Binary(operator, left, self.expression(binding, union=union))
        self.depth -= 1
        return left

    def _begins_reference(self) -> bool:
        return self.kind in ("sheet", "cell", "rows", "columns", "name", "table")

    def _operand(self) -> FormulaNode:
        kind, text = self.kind, self.text
        if kind == "operator":
            return self._after_operator(text)
        if kind == "external":
            raise self.problem("refers to another workbook in a way that is not known")
        if kind in ("cell", "rows", "columns"):
            return self._reference(None)
        if kind == "call":
            return self._call()
        if kind == "table":
            return self._table()
        if kind == "end":
            raise self.problem()
        self._next()
        if kind == "sheet":
            return self._on_sheet(text[:-1])
        if kind == "name":
            upper = text.upper()
            if upper in ("TRUE", "FALSE"):
                return Constant(upper == "TRUE")
            return NameRef(text[6:] if upper.startswith("_XLPM.") else text)
        return Constant(_constant(kind, text))

    def _after_operator(self, operator: str) -> FormulaNode:
        if operator not in ("+", "-", "@", "(", "{"):
            raise self.problem()
        self._next()
        if operator == "(":
            inner = self.expression(0)
            self._expect(")")
            return inner
        if operator == "{":
            return self._array()
        return Unary(operator, self.expression(SIGN, union=False))

    def _on_sheet(self, text: str) -> FormulaNode:
        sheet, _ = sheet_and_rest(f"{text}!")
        if "[" in text:
            parts = self.text
            self._next()
            if self.kind == "operator" and self.text == ":":
                self._next()
                parts += f":{self.text}"
                self._next()
            return External(f"{text}!{parts}")
        if self.kind == "error":
            self._next()
            return Constant(ERRORS["#REF!"])
        if self.kind == "name":
            name = self.text
            self._next()
            return NameRef(name, sheet)
        if self.kind == "call":
            return self._call()
        if self.kind not in ("cell", "rows", "columns"):
            raise self.problem()
        if sheet is not None and ":" in sheet:  # which no sheet's name may hold
            first, last = sheet.split(":", 1)
            return SheetsReference(first, last, self._reference(None))
        return self._reference(sheet)

    def _reference(self, sheet: str | None) -> Reference:
        kind, text = self.kind, self.text
        self._next()
        if kind == "cell":
            first = self._corner(text)
            if self.kind == "operator" and self.text == ":" and not self.blank:
                position, state = self.position, (self.kind, self.text, self.blank)
                self._next()
                if self.kind == "cell":
                    last = self._corner(self.text)
                    self._next()
                    return Reference(sheet, first, last)
                self.position, (self.kind, self.text, self.blank) = position, state
            return Reference(sheet, first)
        begin, end = text.split(":")
        return Reference(sheet, self._corner(begin), self._corner(end))

    def _corner(self, text: str) -> Corner:
        match = re.fullmatch(r"(\$?)([A-Za-z]*)(\$?)(\d*)", text)
        assert match is not None
        absolute_column, letters, absolute_row, digits = match.groups()
        if not letters:  # of rows alone the sign is read first
            absolute_column, absolute_row = "", absolute_column or absolute_row
        row = int(digits) if digits else None
        column = column_of(letters) if letters else None
        return Corner(
            row if row is None or absolute_row else row - self.row,
            column if column is None or absolute_column else column - self.column,
            bool(absolute_row),
            bool(absolute_column),
        )

    def _call(self) -> FormulaNode:
        name = self.text[:-1].upper()
        for prefix in ("_XLFN.", "_XLWS.", "_XLL."):
            name = name.removeprefix(prefix)
        calls = self.calls
        self.calls += 1
        self._next()
        arguments: list[FormulaNode] = []
        if self._take(")"):
            return FunctionCall(name, (), calls)
        while True:
            if self.kind == "operator" and self.text in ",;)":
                arguments.append(Constant(None))
            else:
                arguments.append(self.expression(0, union=False))
            if self._take(")"):
                break
            if not (self._take(",") or self._take(";")):
                raise self.problem("a bracket is not closed" if self.kind == "end" else "")
        return self._called(name, arguments, calls)

    def _called(self, name: str, arguments: list[FormulaNode], calls: int) -> FormulaNode:
        """Return a function of arguments; of some, what they stand for."""
        if name in ("SUMIF", "AVERAGEIF") and len(arguments) == 3:
            arguments[2] = _as_large(arguments[2], arguments[0])
        if name == "LET":
            return self._let(arguments)
        last = arguments[-1]
        if isinstance(last, FunctionCall) and last.name == "LAMBDA":
            return self._of_each(name, arguments)
        if name == "SINGLE" and len(arguments) == 1:
            return Unary("@", arguments[0])
        if name == "CELL" and len(arguments) == 2:
            return self._of_cell(*arguments)
        return FunctionCall(name, tuple(arguments), calls)

    def _of_cell(self, asked: FormulaNode, cell: FormulaNode) -> FormulaNode:
        """Return what CELL says of a cell, by the functions that say it."""
        first = FunctionCall("INDEX", (cell, Constant(1.0), Constant(1.0)))
        place = tuple(FunctionCall(of, (cell,)) for of in ("ROW", "COLUMN"))
        known = {
            "row": place[0],
            "col": place[1],
            "address": FunctionCall("ADDRESS", place),
            "contents": first,
        }
        word = asked.value if isinstance(asked, Constant) else None
        if not isinstance(word, str) or word.lower() not in known:
            raise self.problem(f"CELL says {', '.join(known)}")
        return known[word.lower()]

    def _let(self, arguments: list[FormulaNode]) -> FormulaNode:
        """Return the last argument with the values of the names in their place; a call of RAND in
        such a value is one call, however often its name stands.
        """
        if len(arguments) < 3 or len(arguments) % 2 == 0:
            raise self.problem("LET takes names and values in turn, then what is worked out")
        values: dict[str, FormulaNode] = {}
        for name, value in zip(arguments[:-1:2], arguments[1:-1:2], strict=True):
            if not isinstance(name, NameRef) or name.sheet is not None:
                raise self.problem("LET takes names and values in turn, then what is worked out")
            values[name.name.upper()] = substituted(value, values)
        return self._small("LET", substituted(arguments[-1], values))

    def _of_each(self, name: str, arguments: list[FormulaNode]) -> FormulaNode:
        """Return what a function does with each cell of an area by a LAMBDA, written out."""
        if name not in OF_EACH:
            raise self.problem(f"{name} takes no LAMBDA")
        return self._small(name, OF_EACH[name](name, arguments, self.problem))

    def _small(self, name: str, tree: FormulaNode) -> FormulaNode:
        """Return a tree; raises the problem of one with too many parts."""
        for count, _ in enumerate(tree.walk()):
            if count > MOST_PARTS:
                raise self.problem(f"{name} makes more than {MOST_PARTS:,} parts")
        return tree

    def _array(self) -> FormulaNode:
        rows: list[list[Any]] = [[]]
        while True:
            sign = -1.0 if self._take("-") else 1.0
            self._take("+")
            if self.kind == "name" and self.text.upper() in ("TRUE", "FALSE"):
                value: Any = self.text.upper() == "TRUE"
            elif self.kind in ("number", "text", "error"):
                value = _constant(self.kind, self.text)
                value = sign * value if isinstance(value, float) else value
            else:
                raise self.problem()
            self._next()
            rows[-1].append(value)
            if self._take("}"):
                break
            if self._take(";"):
                rows.append([])
            else:
                self._expect(",")
        if len({len(row) for row in rows}) > 1:
            raise self.problem("the rows of an array differ in length")
        return ArrayConstant(tuple(map(tuple, rows)))

    def _table(self) -> FormulaNode:
        """Read a reference into a table whose name and first bracket were read."""
        table = self.text[:-1]
        depth, begin = 1, self.position
        while depth:
            if self.position >= len(self.source):
                raise self.problem("a bracket is not closed")
            letter = self.source[self.position]
            if letter == "'":
                self.position += 1
            depth += (letter == "[") - (letter == "]")
            self.position += 1
        inner = self.source[begin : self.position - 1].strip()
        self._next()
        return _table_reference(table, inner)


def _table_reference(table: str, inner: str) -> TableReference:
    rows: list[str] = []
    if inner.startswith("@"):
        rows.append("#this row")
        inner = inner[1:].strip()
    if "[" not in inner:
        if inner.startswith("#"):
            return TableReference(table, None, None, (inner.lower(),))
        return TableReference(table, _unescaped(inner) or None, None, tuple(rows))
    columns = []
    for name in re.findall(r"\[((?:[^\[\]']|'.)*)\]", inner):
        if name.startswith("#"):
            rows.append(name.lower())
        else:
            columns.append(_unescaped(name))
    last = columns[-1] if len(columns) > 1 else None
    return TableReference(table, columns[0] if columns else None, last, tuple(rows))


def _as_large(numbers: FormulaNode, tested: FormulaNode) -> FormulaNode:
    """Return the area of the numbers of a conditional sum: it begins at its first cell and is as
    large as the area that is tested, whatever else the formula says (OpenFormula, SUMIF). Areas
    whose size differs between copies of the formula stay as they are.
    """
    if not (isinstance(numbers, Reference) and isinstance(tested, Reference)):
        return numbers
    first, size = numbers.first, tested.size
    if size is None or first.row is None or first.column is None:
        return numbers
    down, across = size
    last = Corner(
        first.row + down, first.column + across, first.row_absolute, first.column_absolute
    )
    return Reference(numbers.sheet, first, last)


def substituted(node: FormulaNode, values: Mapping[str, FormulaNode]) -> FormulaNode:
    """Return a tree with other trees in place of names."""
    if isinstance(node, NameRef) and node.sheet is None:
        return values.get(node.name.upper(), node)
    if isinstance(node, Unary):
        return Unary(node.operator, substituted(node.operand, values))
    if isinstance(node, Binary):
        left, right = substituted(node.left, values), substituted(node.right, values)
        return Binary(node.operator, left, right)
    if isinstance(node, FunctionCall):
        arguments = tuple(substituted(argument, values) for argument in node.arguments)
        return FunctionCall(node.name, arguments, node.place)
    return node


def _unescaped(text: str) -> str:
    return re.sub(r"'(.)", r"\1", text)


def _constant(kind: str, text: str) -> float | str | CellError:
    if kind == "number":
        return float(text)
    if kind == "text":
        return text[1:-1].replace('""', '"')
    return VALUE if text in OTHER_ERRORS else ERRORS[text]
