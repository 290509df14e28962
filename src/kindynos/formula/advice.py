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
    "iff": "write a if condition else b",
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
    """Return advice on a formula that is no expression, empty where there is none."""
    bare = re.sub(r"'[^']*'|\"[^\"]*\"", lambda found: " " * len(found[0]), text)
    return next(
        (f"; {advice}" for pattern, advice in _SYMBOLS if re.search(pattern, bare, re.IGNORECASE)),
        "",
    )


def of_call(name: str, known: Collection[str]) -> str:
    """Return advice on a function that is not known, empty where the nearest spelling says
    enough.
    """
    lower = name.lower()
    if lower in _FUNCTIONS:
        return f"; {_FUNCTIONS[lower]}"
    return f"; names are written small: {lower}" if lower in known else ""


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
        case ast.Tuple():
            return of_text(text)
    return ""
