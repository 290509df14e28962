"""What to write instead of what spreadsheets and other languages write: advice for formulas that
cannot be read.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Collection

_SYMBOLS = (  # in the order they are looked for, outside of texts
    (r"\bif\s*\(", "write a if condition else b, as in 'fare if seats > 100 else 0'"),
    (r"&&", "write 'and' for &&"),
    (r"\|\|", "write 'or' for ||"),
    (r"<>", "write != for <>"),
    (r"=<|=>", "write <= and >= for comparisons"),
    (r"!(?!=)", "write 'not' for !"),
    (r"(?<![<>=!])=(?!=)", "write == to compare; a line is named in its table, not in its formula"),
    (r";", "write commas between arguments"),
    (r"[%]\s*($|[-+*/),<>=])", "write 0.05 for 5 %"),
    (r"\d,\d{3}\b", "write numbers without commas, such as 1000 or 1e3"),
)
_FUNCTIONS = {
    "sum": "total(row) adds up over the periods",
    "mean": "average(row) is the mean over the periods; that over the trials is read from the run",
    "avg": "average(row) is the mean over the periods",
    "percentile": "percentiles are over the trials, and read from the run: "
    "run['name'].percentile(5)",
    "quantile": "quantiles are over the trials, and read from the run: run['name'].quantile(0.05)",
    "stdev": "an sd is over the trials, and read from the run: run['name'].sd",
    "ln": "log(x) is the natural logarithm",
    "log10": "write log(x) / log(10)",
    "power": "write x ** y",
    "pow": "write x ** y",
    "int": "floor(x) is the next whole number down",
    "pv": "present_value(rate, life, payment) is that of a level payment; npv(rate, flows) that "
    "of a row",
    "fv": "write future_value(rate, life, payment)",
    "pmt": "write payment(rate, life, amount)",
    **dict.fromkeys(("if", "iff", "iif"), "write a if condition else b"),
    "ifs": "write a if one else b if another else c",
    "iferror": "what cannot be calculated is counted as a trial without a value, and missing= on "
    "the outcome says how it ranks; for a division write a / b if b != 0 else 0",
    "choose": "write a if number == 1 else b if number == 2 else c, or lookup(number, table)",
    "switch": "write a if x == 1 else b if x == 2 else c",
    "mod": "write x % y",
    "index": "at(row, period) is the value of one period; lookup(x, table) looks into a table",
    "match": "lookup(x, table) looks into a table",
    "hlookup": "write lookup(x, table)",
    "xlookup": "write lookup(x, table)",
    "sign": "write 1 if x > 0 else -1 if x < 0 else 0",
    "sumproduct": "write total(a * b)",
    "countif": "write total(row > 3), which counts the periods",
    "roundup": "ceil(x) is the next whole number up",
    "rounddown": "floor(x) is the next whole number down",
    "now": "period is the number of the period; with a start, year, quarter, month "
    "and week are known",
    "cumsum": "running_total(row) adds up the periods so far",
    "offset": "previous(line, first, back) is a line that many periods earlier",
    "vlookup": "write lookup(x, table)",
    "rand": "draw what is random by a driver",
}
_METHODS = {
    "sum": "total",
    "mean": "average",
    "min": "lowest",
    "max": "highest",
    "cumsum": "running_total",
}


def of_text(text: str) -> str:
    """Return advice on a formula that is not an expression, empty where there is none."""
    bare = re.sub(r"'[^']*'|\"[^\"]*\"", lambda answer: " " * len(answer[0]), text)
    return next(
        (f"; {advice}" for pattern, advice in _SYMBOLS if re.search(pattern, bare, re.IGNORECASE)),
        "",
    )


def of_call(name: str, names: Collection[str]) -> str:
    """Return advice on a function that is not known, empty where the nearest spelling says
    enough.
    """
    lower = name.lower()
    if lower in _FUNCTIONS:
        return f"; {_FUNCTIONS[lower]}"
    return f"; names are written small: {lower}" if lower in names else ""


def of_part(node: ast.expr, text: str) -> str:
    """Return advice on a part of an expression that formulas do not have."""
    match node:
        case ast.BinOp(op=ast.BitXor()):
            return "; write ** for powers"
        case ast.BinOp(op=ast.BitAnd()) | ast.BinOp(op=ast.BitOr()):
            return "; write 'and' and 'or' between conditions"
        case ast.Subscript():
            return (
                "; at(row, 5) is the value of period 5, and previous(line, first) that of the "
                "period before"
            )
        case ast.Attribute(attr=attr):
            return f"; write {_METHODS[attr]}(row)" if attr in _METHODS else ""
        case ast.Compare(ops=[*_, ast.In() | ast.NotIn()]):
            return "; write x == 1 or x == 2 for x in (1, 2)"
        case ast.Tuple():
            return of_text(text)
    return ""
