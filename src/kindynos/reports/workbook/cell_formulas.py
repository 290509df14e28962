"""Formulas of the language as formulas of cells: a line of a model becomes a row of a sheet, whose
formulas an auditor can trace and change.

A part that cells cannot say where it stands (a row inside another formula, a balance, flows with
the initial one before them) gets a row of its own below the lines, a helper row.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.errors import KindynosError
from kindynos.formula.parse import Comparisons
from kindynos.formula.tree import (
    PERIOD,
    PERIOD_ENDS,
    PERIODS_A_YEAR,
    Call,
    Expression,
    Name,
    Number,
    Operation,
    Previous,
    Scope,
)

NUMBER_COLUMN = 3  # of single numbers, and of time 0 in helper rows; periods follow
FIRST_PERIOD = NUMBER_COLUMN + 1
PERIOD_ROW = 1  # of the numbers of the periods
EPOCH = 25_569  # the day number of 1970-01-01 in a sheet

# of each trial, or period by period
ELEMENTWISE = {
    "abs": "ABS({})",
    "exp": "EXP({})",
    "log": "LN({})",
    "sqrt": "SQRT({})",
    "sin": "SIN({})",
    "cos": "COS({})",
    "floor": "INT({})",
    "ceil": "-INT(-({}))",
    "clip": "MIN(MAX({},{}),{})",
    "every_period": "{}",
}
FOLDED = {"sum_of": "SUM", "min": "MIN", "max": "MAX"}
OVER_PERIODS = {
    "lowest": "MIN({})",
    "highest": "MAX({})",
    "total": "SUM({})",
    "average": "AVERAGE({})",
    "median": "MEDIAN({})",
    "any_period": "IF(SUMPRODUCT(--({}<>0))>0,1,0)",
}
# of each period; the last place is its number
WRITTEN_OFF = {
    "straight_line": "IF({3}<={2},SLN({0},{1},{2}),0)",
    "sum_of_digits": "IF({3}<={2},SYD({0},{1},{2},{3}),0)",
    "interest_part": "IF({3}<={1},-IPMT({0},{3},{1},{2}),0)",
    "principal_part": "IF({3}<={1},-PPMT({0},{3},{1},{2}),0)",
}
LEVEL = {  # of level payments; the last place is 1 for those at the start
    "present_value": "-PV({},{},{},0,{})",
    "future_value": "-FV({},{},{},0,{})",
    "payment": "-PMT({},{},{},0,{})",
    "capital_recovery": "-PMT({},{},1,0,{})",
}
INFIX = {"+": "+", "-": "-", "*": "*", "/": "/", "**": "^"}
COMPARED = {"==": "=", "!=": "<>"}  # the other signs are the same
# each period from the one before, or by its number
RECURSIVE = (
    "grow", "roll_forward", "running_total", "change", "min_so_far", "max_so_far",
    "declining_balance", *WRITTEN_OFF,
)  # fmt: skip


class NoCellFormulaError(Exception):
    """Cells have no formula for it."""


@dataclass(frozen=True)
class CellRow:
    """A row of the sheet: what it is, and by column its formula (None for a plain number) and its
    value.
    """

    name: str
    unit: str
    how: str
    cells: Mapping[int, tuple[str | None, float]]


def column_name(column: int) -> str:
    """Return the letters of a column, from 0.

    >>> column_name(0), column_name(27)
    ('A', 'AB')
    """
    name = ""
    column += 1
    while column:
        column, letter = divmod(column - 1, 26)
        name = chr(65 + letter) + name
    return name


def address(row: int, column: int) -> str:
    """Return the fixed address of a cell, both from 0."""
    return f"${column_name(column)}${row + 1}"


def area(row: int, first: int, last: int) -> str:
    """Return the fixed address of a part of a row."""
    return f"{address(row, first)}:{address(row, last)}"


class Translator:
    """Writes formulas by cells: ``rows`` are those of the quantities by name and ``tables``
    the areas of keys and of values of tables.

    Helper rows begin at ``next_row`` and are gathered in ``helpers``. ``values`` are those of the
    base case, ``(periods, 1)`` or single.
    """

    def __init__(
        self,
        rows: Mapping[str, int],
        tables: Mapping[str, tuple[str, str]],
        values: Mapping[str, Floats],
        periods: int,
        next_row: int,
    ) -> None:
        self.rows, self.tables = dict(rows), tables
        self.values, self.periods = values, periods
        self.next_row = next_row
        self.helpers: dict[int, CellRow] = {}
        self._known: dict[Any, int] = {}
        self._line = ""  # the line that is being said

    # what a line is

    def line(self, name: str, tree: Expression, row: int, is_row: bool) -> list[str]:
        """Return the formulas of a line: one, or one for each period. Raises NoCellFormulaError."""
        self._line = name
        for used in tree.names():
            if used not in self.values:  # claims: several in a trial
                raise NoCellFormulaError(f"the events {used}")
        if not is_row:
            return [self.text(tree, None)]
        return self._by_period(tree, row)

    def _by_period(self, tree: Expression, row: int) -> list[str]:
        if isinstance(tree, Call) and tree.function.name in WRITTEN_OFF:
            return self._written_off(tree)
        if isinstance(tree, Call) and tree.function.name in RECURSIVE:
            recursion: Callable[..., list[str]] = getattr(self, f"_{tree.function.name}")
            return recursion(tree, row)
        return [self.text(tree, period) for period in range(self.periods)]

    def evaluated(self, tree: Expression) -> Floats:
        """Return what a part is in the base case, one number for each period, or one."""
        with np.errstate(all="ignore"):
            values = np.asarray(tree.evaluate(Scope(self.values, self.periods)), dtype=np.float64)
        return values.reshape(-1)

    # parts

    def text(self, node: Expression, period: int | None) -> str:
        """Return the formula of a part in a period, from 0, or of a single number."""
        match node:
            case Number(value=value):
                return repr(value) if value >= 0 else f"({value!r})"
            case Name(name=name):
                return self._named(name, period)
            case Operation():
                return self._operation(node, period)
            case Previous(name=name, first=first, back=back):
                if period is None:
                    raise NoCellFormulaError("an earlier period of a single number")
                if period < back:
                    return self.text(first, period)
                return self._named(name, period - back)
            case Call():
                return self._call(node, period)
        raise NoCellFormulaError(type(node).__name__)

    def _named(self, name: str, period: int | None) -> str:
        value = self.values[name]
        if name == PERIOD:
            return self._cell(PERIOD_ROW, period)
        if name not in self.rows:  # what a timeline makes known, such as the year
            return repr(float(value.reshape(-1)[0 if value.ndim < 2 else period or 0]))
        if value.ndim < 2:
            return address(self.rows[name], NUMBER_COLUMN)
        return self._cell(self.rows[name], period)

    def _cell(self, row: int, period: int | None) -> str:
        if period is None:
            raise NoCellFormulaError("a row where a single number belongs")
        return f"{column_name(FIRST_PERIOD + period)}{row + 1}"

    def _operation(self, node: Operation, period: int | None) -> str:
        texts = [self.text(operand, period) for operand in node.operands]
        symbol = node.symbol
        if symbol in ("+", "-") and len(texts) == 1:
            return f"({symbol}{texts[0]})"
        if symbol in INFIX:
            return f"({INFIX[symbol].join(texts)})"
        if symbol == "//":
            return f"INT({texts[0]}/{texts[1]})"
        if symbol == "%":
            return f"MOD({texts[0]},{texts[1]})"
        if symbol in ("and", "or"):
            conditions = ",".join(f"{text}<>0" for text in texts)
            return f"IF({symbol.upper()}({conditions}),1,0)"
        if symbol == "not":
            return f"IF({texts[0]}=0,1,0)"
        if symbol == "if":
            yes, test, no = texts
            return f"IF({test}<>0,{yes},{no})"
        if isinstance(node.compute, Comparisons):
            signs = zip(node.compute.signs, pairwise(texts), strict=True)
            pairs = [f"{one}{COMPARED.get(sign, sign)}{other}" for sign, (one, other) in signs]
            return f"IF(AND({','.join(pairs)}),1,0)"
        raise NoCellFormulaError(f"the operator {symbol}")

    def _call(self, node: Call, period: int | None) -> str:
        name = node.function.name
        given = [argument for argument in node.arguments if argument is not None]
        if name in ELEMENTWISE:
            return ELEMENTWISE[name].format(*(self.text(argument, period) for argument in given))
        if name in FOLDED:
            return f"{FOLDED[name]}({','.join(self.text(argument, period) for argument in given)})"
        if name in OVER_PERIODS:
            return OVER_PERIODS[name].format(self._area(given[0]))
        if name in LEVEL:
            early = int(dict(node.options).get("timing") == "start")
            return LEVEL[name].format(*(self.text(argument, None) for argument in given), early)
        if name in RECURSIVE:
            return self._cell(self._helper_of(node), period)
        own: Callable[..., str] | None = getattr(self, f"_{name}", None)
        if own is None:
            raise NoCellFormulaError(f"the function {name}")
        return own(node, period)

    def _stop_loss(self, node: Call, period: int | None) -> str:
        loss, begin, *width = (
            self.text(argument, period) for argument in node.arguments if argument is not None
        )
        over = f"MAX({loss}-{begin},0)"
        return f"MIN({over},{width[0]})" if width else over

    # helper rows

    def _area(self, node: Expression) -> str:
        """Return the cells of a row over the periods: its own, or those of a helper row."""
        if isinstance(node, Name) and node.name in self.rows:
            row = self.rows[node.name]
        else:
            row = self._helper_of(node)
        return area(row, FIRST_PERIOD, FIRST_PERIOD + self.periods - 1)

    def _helper_of(self, node: Expression) -> int:
        """Return the row of a helper that holds a part by period."""
        key = _key(node)
        if key not in self._known:
            row = self._known[key] = self._reserve()
            values = np.broadcast_to(self.evaluated(node), (self.periods,))
            self._write(row, "part", self._by_period(node, row), values.tolist())
        return self._known[key]

    def _reserve(self) -> int:
        self.next_row += 1
        return self.next_row - 1

    def _write(
        self, row: int, name: str, texts: Sequence[str | None], values: Sequence[float]
    ) -> None:
        """Write a helper row, whose last cell is that of the last period."""
        start = FIRST_PERIOD + self.periods - len(texts)
        cells = zip(texts, values, strict=True)
        self.helpers[row] = CellRow(
            f"  {name}", "", f"for {self._line}", dict(enumerate(cells, start))
        )

    def _add(self, name: str, texts: Sequence[str | None], values: Sequence[float]) -> int:
        row = self._reserve()
        self._write(row, name, texts, values)
        return row

    def _flows(self, node: Call, always: bool = False) -> tuple[int, int]:
        """Return the row and the first column of flows with the initial one before them; without
        an initial one where none is given, unless ``always``.
        """
        flows, initial = _needed(node, "flows"), _argument(node, "initial")
        texts: list[str | None] = [*self._texts_of(flows)]
        values = np.broadcast_to(self.evaluated(flows), (self.periods,)).tolist()
        if initial is not None or always:
            texts.insert(0, "0" if initial is None else self.text(initial, None))
            values.insert(0, 0.0 if initial is None else float(self.evaluated(initial)[0]))
        row = self._add("flows", texts, values)
        return row, FIRST_PERIOD + self.periods - len(texts)

    def _texts_of(self, node: Expression) -> list[str]:
        return [self.text(node, period) for period in range(self.periods)]

    @property
    def _last_column(self) -> int:
        return FIRST_PERIOD + self.periods - 1

    def _discounts(self, rate: Expression, timing: str = "end") -> int:
        """Return the row of what 1 in each period is worth at time 0, for a rate by period."""
        rates = np.broadcast_to(self.evaluated(rate), (self.periods,))
        whole = np.cumprod(1 / (1 + rates))
        texts: list[str] = []
        row = self._reserve()
        for period, text in enumerate(self._texts_of(rate)):
            before = "1" if period == 0 else self._cell(row, period - 1)
            texts.append(f"{before}/(1+{text})")
        self._write(row, "discount factor", texts, whole.tolist())
        if timing == "end":
            return row
        root = "SQRT({}/{})" if timing == "mid" else "1"
        before_all = [1.0, *whole[:-1].tolist()]
        texts = []
        for period in range(self.periods):
            before = "1" if period == 0 else self._cell(row, period - 1)
            texts.append(f"{before}*{root.format(self._cell(row, period), before)}")
        steps = whole / before_all
        values = np.array(before_all) * (np.sqrt(steps) if timing == "mid" else 1.0)
        return self._add(f"discount factor, {timing}", texts, values.tolist())

    # functions by name; those over the periods return one formula for each

    def _grow(self, node: Call, row: int) -> list[str]:
        rate, start = _needed(node, "rate"), _argument(node, "start")
        lag = int(dict(node.options).get("lag", 0))
        first = "1" if start is None else self.text(start, None)
        texts = [first] * min(lag, self.periods)
        for period in range(lag, self.periods):
            before = self._cell(row, period - 1) if period else first
            texts.append(f"{before}*(1+{self.text(rate, period - lag)})")
        return texts

    def _change(self, node: Call, row: int) -> list[str]:
        texts = self._texts_of(_needed(node, "row"))
        before = _argument(node, "before")
        first = texts[0] if before is None else self.text(before, None)
        return [f"({b})/({a})-1" for a, b in zip([first, *texts], texts, strict=False)]

    def _min_so_far(self, node: Call, row: int) -> list[str]:
        return self._so_far("MIN", node, row)

    def _max_so_far(self, node: Call, row: int) -> list[str]:
        return self._so_far("MAX", node, row)

    def _so_far(self, function: str, node: Call, row: int) -> list[str]:
        texts = self._texts_of(_needed(node, "row"))
        later = [f"{function}({self._cell(row, k)},{text})" for k, text in enumerate(texts[1:])]
        return [*texts[:1], *later]

    def _declining_balance(self, node: Call, row: int) -> list[str]:
        cost, salvage, life = (
            self.text(_needed(node, name), None) for name in ("cost", "salvage", "life")
        )
        stated = _argument(node, "factor")
        factor = "2" if stated is None else self.text(stated, None)
        return [
            f"IF({period}<={life},DDB({cost},{salvage},{life},{period},{factor}),0)"
            for period in range(1, self.periods + 1)
        ]

    def _written_off(self, node: Call) -> list[str]:
        names = [parameter.name for parameter in node.function.parameters]
        texts = [self.text(_needed(node, name), None) for name in names]
        pattern = WRITTEN_OFF[node.function.name]
        return [pattern.format(*texts, period) for period in range(1, self.periods + 1)]

    def _running_total(self, node: Call, row: int) -> list[str]:
        texts = self._texts_of(_needed(node, "row"))
        later = [f"{self._cell(row, k)}+{text}" for k, text in enumerate(texts[1:])]
        return [*texts[:1], *later]

    def _roll_forward(self, node: Call, row: int) -> list[str]:
        opening, rate, flow = (_needed(node, name) for name in ("opening", "rate", "flow"))
        floor = _argument(node, "floor")
        options = dict(node.options)
        early, unmet = options.get("timing") == "start", bool(options.get("shortfall"))
        if unmet:
            kept = tuple((k, v) for k, v in node.options if k != "shortfall")
            balance = self._helper_of(Call(node.place, node.function, node.arguments, kept))
        else:
            balance = row
        texts = []
        for period in range(self.periods):
            before = self._cell(balance, period - 1) if period else self.text(opening, None)
            r, f = self.text(rate, period), self.text(flow, period)
            free = f"({before}+{f})" if early else f"({before}*(1+{r})+{f})"
            if floor is None:
                cut = free
            else:
                least = self.text(floor, None)
                cut = f"MAX({free},MIN({least},{free}-{f}))"
                if unmet:
                    texts.append(f"MAX(0,MIN({least}-{free},-{f}))")
                    continue
            texts.append(f"{cut}*(1+{r})" if early else cut)
        return texts

    def _round(self, node: Call, period: int | None) -> str:
        """Halves go to the even number, as ours do; a sheet's own ROUND takes them up."""
        scale = 10 ** int(dict(node.options).get("digits", 0))
        x = f"({self.text(node.parts[0], period)}*{scale})"
        return f"IF({x}-INT({x})=0.5,INT({x})+MOD(INT({x}),2),INT({x}+0.5))/{scale}"

    def _lookup(self, node: Call, period: int | None) -> str:
        x, keys, values = self._table_of(node, period)
        return f"INDEX({values},MATCH({x},{keys},1))"

    def _interpolate(self, node: Call, period: int | None) -> str:
        x, keys, values = self._table_of(node, period)
        text = f"MIN(MATCH({x},{keys},1),ROWS({keys})-1)"
        low, high = f"INDEX({keys},{text})", f"INDEX({keys},{text}+1)"
        first, second = f"INDEX({values},{text})", f"INDEX({values},{text}+1)"
        between = f"{first}+({x}-{low})*({second}-{first})/({high}-{low})"
        return f"IF({x}>MAX({keys}),NA(),{between})"

    def _table_of(self, node: Call, period: int | None) -> tuple[str, str, str]:
        table = node.parts[1]
        if not isinstance(table, Name):
            raise NoCellFormulaError("a table that is not given")
        return self.text(node.parts[0], period), *self.tables[table.name]

    def _first(self, node: Call, period: int | None) -> str:
        return self.text(node.parts[0], 0)

    def _last(self, node: Call, period: int | None) -> str:
        return self.text(node.parts[0], self.periods - 1)

    def _following(self, node: Call, period: int | None) -> str:
        row, after = node.parts[:2]
        ahead = int(dict(node.options).get("ahead", 1))
        if period is None:
            raise NoCellFormulaError("a row where a single number belongs")
        later = period + ahead
        return self.text(row, later) if later < self.periods else self.text(after, None)

    def _at(self, node: Call, period: int | None) -> str:
        row, number = node.parts
        return f"INDEX({self._area(row)},-INT(-{self.text(number, None)}))"

    def _first_period(self, node: Call, period: int | None) -> str:
        texts = [f"IF({text}<>0,1,0)" for text in self._texts_of(node.parts[0])]
        holds = np.broadcast_to(self.evaluated(node.parts[0]), (self.periods,)) != 0
        row = self._add("holds", texts, holds.astype(np.float64).tolist())
        return f"MATCH(1,{area(row, FIRST_PERIOD, self._last_column)},0)"

    def _per_period(self, node: Call, period: int | None) -> str:
        rate = self.text(node.parts[0], period)
        count = self._named(PERIODS_A_YEAR, None)
        if dict(node.options).get("how") == "simple":
            return f"({rate}/{count})"
        return f"((1+{rate})^(1/{count})-1)"

    def _per_year(self, node: Call, period: int | None) -> str:
        rate = self.text(node.parts[0], period)
        count = self._named(PERIODS_A_YEAR, None)
        if dict(node.options).get("how") == "simple":
            return f"({rate}*{count})"
        return f"((1+{rate})^{count}-1)"

    def _npv(self, node: Call, period: int | None) -> str:
        initial = _argument(node, "initial")
        first = "" if initial is None else f"+{self.text(initial, None)}"
        return f"({self._worth(node)}{first})"

    def _worth(self, node: Call) -> str:
        """What the flows of a call are worth at time 0, without the initial one."""
        rate, flows = _needed(node, "rate"), _needed(node, "flows")
        timing = str(dict(node.options).get("timing", "end"))
        if self._over_periods(rate):
            factors = area(self._discounts(rate, timing), FIRST_PERIOD, self._last_column)
            return f"SUMPRODUCT({factors},{self._area(flows)})"
        text = self.text(rate, None)
        earlier = {"end": "", "mid": f"*(1+{text})^0.5", "start": f"*(1+{text})"}[timing]
        return f"NPV({text},{self._area(flows)}){earlier}"

    def _over_periods(self, node: Expression) -> bool:
        values = np.asarray(node.evaluate(Scope(self.values, self.periods)))
        return values.ndim == 2

    def _irr(self, node: Call, period: int | None) -> str:
        row, first = self._flows(node)
        return f"IRR({area(row, first, self._last_column)},{self._guess(node)})"

    def _guess(self, node: Call) -> str:
        figure = float(self.evaluated(node)[0])
        if not np.isfinite(figure):
            raise NoCellFormulaError("a rate of return that is not there, or not the only one")
        return repr(max(round(figure, 2), -0.99))

    def _irr_dated(self, node: Call, period: int | None) -> str:
        row, first = self._flows(node, always=True)
        dates = area(self._dates(node), first, self._last_column)
        return f"XIRR({area(row, first, self._last_column)},{dates},{self._guess(node)})"

    def _npv_dated(self, node: Call, period: int | None) -> str:
        rate = _needed(node, "rate")
        row, first = self._flows(node, always=True)
        dates = self._dates(node)
        years = f"(({area(dates, first, self._last_column)}-{address(dates, first)})/365)"
        text = self.text(rate, None)
        return f"SUMPRODUCT({area(row, first, self._last_column)}/(1+{text})^{years})"

    def _dates(self, node: Call) -> int:
        """Return the row of the dates of the initial flow and of the others."""
        from kindynos.formula.money import dates_of

        on = dict(node.options).get("on")
        days = dates_of(None if on is None else str(on), self.values[PERIOD_ENDS])
        numbers = [float(day.astype("datetime64[D]").astype(np.int64)) + EPOCH for day in days]
        return self._add("dates", [None] * len(numbers), numbers)

    def _mirr(self, node: Call, period: int | None) -> str:
        row, first = self._flows(node)
        finance, reinvest = (
            self.text(_needed(node, name), None) for name in ("finance", "reinvest")
        )
        return f"MIRR({area(row, first, self._last_column)},{finance},{reinvest})"

    def _payback(self, node: Call, period: int | None) -> str:
        return self._paid_back(*self._flows(node))

    def _discounted_payback(self, node: Call, period: int | None) -> str:
        rate = _needed(node, "rate")
        row, first = self._flows(node)
        columns = range(first, self._last_column + 1)
        if self._over_periods(rate):
            if first == FIRST_PERIOD:
                raise NoCellFormulaError("rates by period without an initial flow")
            factors = [f"*{self._cell(self._discounts(rate), k)}" for k in range(self.periods)]
            worth = np.cumprod(1 / (1 + self.evaluated(rate))).tolist()
            factors, worth = ["", *factors], [1.0, *worth]
        else:
            text, rate_value = self.text(rate, None), float(self.evaluated(rate)[0])
            factors = [f"/(1+{text})^{k}" for k in range(len(columns))]
            worth = [(1 + rate_value) ** -k for k in range(len(columns))]
        texts = [
            f"{address(row, column)}{factor}"
            for column, factor in zip(columns, factors, strict=True)
        ]
        flows = [self.helpers[row].cells[column][1] for column in columns]
        values = [flow * factor for flow, factor in zip(flows, worth, strict=True)]
        return self._paid_back(self._add("discounted flows", texts, values), first)

    def _paid_back(self, row: int, first: int) -> str:
        """After how many periods the running total of a helper row is first back at 0."""
        columns = range(first, self._last_column + 1)
        flows = np.array([self.helpers[row].cells[column][1] for column in columns])
        sums = np.cumsum(flows)
        total = self._reserve()
        owed = self._reserve()

        def at(where: int, column: int) -> str:
            return f"{column_name(column)}{where + 1}"

        texts = [at(row, first)]
        texts += [f"{at(total, column - 1)}+{at(row, column)}" for column in columns[1:]]
        self._write(total, "running total", texts, sums.tolist())
        below = np.maximum.accumulate(sums < 0).astype(np.float64)
        texts = [f"IF({at(total, first)}<0,1,0)"]
        texts += [
            f"IF(OR({at(owed, column - 1)}=1,{at(total, column)}<0),1,0)" for column in columns[1:]
        ]
        self._write(owed, "something is owed", texts, below.tolist())
        paid = self._add(
            "paid back",
            [f"IF(AND({at(total, c)}>=0,{at(owed, c)}=1),1,0)" for c in columns],
            ((sums >= 0) & (below == 1)).astype(np.float64).tolist(),
        )
        paid_cells, sum_, flow = (
            area(where, first, self._last_column) for where in (paid, total, row)
        )
        text = f"MATCH(1,{paid_cells},0)"
        reached = f"{text}-2-INDEX({sum_},{text}-1)/INDEX({flow},{text})"
        never = f"IF({at(owed, self._last_column)}=1,NA(),0)"
        return f"IF(SUM({paid_cells})=0,{never},{reached})"

    def _profitability_index(self, node: Call, period: int | None) -> str:
        initial = _needed(node, "initial")
        return f"({self._worth(node)}/(-{self.text(initial, None)}))"

    def _equivalent_annual(self, node: Call, period: int | None) -> str:
        rate = _needed(node, "rate")
        return f"-PMT({self.text(rate, None)},{self.periods},{self._npv(node, None)})"

    def _terminal_value(self, node: Call, period: int | None) -> str:
        rate, flow = (_needed(node, name) for name in ("rate", "flow"))
        growth = _argument(node, "growth")
        grown = "0" if growth is None else self.text(growth, None)
        return f"({self.text(flow, None)}*(1+{grown})/({self.text(rate, None)}-{grown}))"

    def _value_per_share(self, node: Call, period: int | None) -> str:
        rate, flows, growth, shares = (
            _needed(node, name) for name in ("rate", "flows", "growth", "shares")
        )
        debt = _argument(node, "debt")
        rate_text, grown = self.text(rate, None), self.text(growth, None)
        last = self.text(flows, self.periods - 1)
        after = f"{last}*(1+{grown})/({rate_text}-{grown})/(1+{rate_text})^{self.periods}"
        owed = "" if debt is None else f"-{self.text(debt, None)}"
        return f"(({self._worth(node)}+{after}{owed})/{self.text(shares, None)})"

    def _levelized_cost(self, node: Call, period: int | None) -> str:
        rate, life, capital, cost, quantity = (
            _needed(node, name)
            for name in ("rate", "life", "capital", "yearly_cost", "yearly_quantity")
        )
        spent, got = (self._over_life(flow, rate, life) for flow in (cost, quantity))
        return f"(({self.text(capital, None)}+{spent})/{got})"

    def _over_life(self, expression: Expression, rate: Expression, life: Expression) -> str:
        """What a level amount, or a row, is worth over a life."""
        rate_text, years = self.text(rate, None), self.text(life, None)
        if not self._over_periods(expression):
            return f"(-PV({rate_text},{years},1)*{self.text(expression, None)})"
        rate_value, span = float(self.evaluated(rate)[0]), float(self.evaluated(life)[0])
        texts, values, before = [], [], 0.0
        for period in range(self.periods):
            begin, end = f"MIN({years},{period})", f"MIN({years},{period + 1})"
            texts.append(f"PV({rate_text},{begin},1)-PV({rate_text},{end},1)")
            reach = min(span, period + 1)
            now = reach if rate_value == 0 else (1 - (1 + rate_value) ** -reach) / rate_value
            values.append(now - before)
            before = now
        row = self._add("worth of 1 within the life", texts, values)
        return f"SUMPRODUCT({area(row, FIRST_PERIOD, self._last_column)},{self._area(expression)})"


def _key(node: Expression) -> Any:
    """Return what two parts with the same meaning share, wherever they stand."""
    match node:
        case Number(value=value):
            return value
        case Name(name=name):
            return name
        case Operation(symbol=symbol):
            return symbol, *map(_key, node.operands)
        case Previous(name=name, back=back):
            return "previous", name, back, _key(node.first)
        case Call():
            given = (None if argument is None else _key(argument) for argument in node.arguments)
            return node.function.name, node.options, *given
    raise KindynosError(f"no key of {type(node).__name__}")


def _argument(node: Call, name: str) -> Expression | None:
    """Return an argument of a call by the name of its parameter, None where it is left out."""
    names = [parameter.name for parameter in node.function.inputs]
    return node.arguments[names.index(name)] if name in names else None


def _needed(node: Call, name: str) -> Expression:
    """Return an argument of a call that it always has."""
    needed = _argument(node, name)
    if needed is None:
        raise NoCellFormulaError(f"{node.function.name} without {name}")
    return needed
