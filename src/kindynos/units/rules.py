"""What the functions of formulas make of the units of their arguments."""

from __future__ import annotations

from dataclasses import dataclass

# the name of an argument, or: pure, unknown, root, together, per share, per quantity


@dataclass(frozen=True)
class UnitRule:
    """The unit of a function: that of the argument that ``gives`` names, or what it says; the
    arguments in ``together`` must have one unit, and that is the answer of "together".
    """

    gives: str
    together: tuple[str, ...] = ()


_FLOWS = ("flows", "initial")
_OF = UnitRule
# a rate among the arguments is one of a period in all of them
RULES: dict[str, UnitRule] = {
    **dict.fromkeys(("sum_of", "min", "max"), _OF("together", ("values",))),
    **dict.fromkeys(("abs", "floor", "ceil", "round", "every_period"), _OF("x")),
    **dict.fromkeys(("exp", "log", "sin", "cos", "any_period", "first_period"), _OF("pure")),
    "sqrt": _OF("root"),
    "clip": _OF("together", ("x", "low", "high")),
    **dict.fromkeys(("lookup", "interpolate"), _OF("table")),
    **dict.fromkeys(("lowest", "highest", "total", "average", "median"), _OF("row")),
    **dict.fromkeys(("first", "last", "at"), _OF("row")),
    **dict.fromkeys(("running_total", "min_so_far", "max_so_far"), _OF("row")),
    "largest": _OF("events"),
    "above": _OF("pure", ("events", "bound")),
    "layer": _OF("together", ("events", "begin", "width")),
    "during": _OF("events"),
    "capped": _OF("together", ("events", "limit")),
    "reinstated": _OF("together", ("events", "width", "premium")),
    "stop_loss": _OF("together", ("loss", "begin", "width")),
    "change": _OF("pure", ("row", "before")),
    "following": _OF("together", ("row", "after")),
    "per_period": _OF("pure"),
    # a rate or a share of a year, or of what the model's periods are: both may be stated
    **dict.fromkeys(("per_year", "capital_recovery"), _OF("unknown")),
    "grow": _OF("start"),
    "roll_forward": _OF("together", ("opening", "flow", "floor")),
    **dict.fromkeys(("npv", "npv_dated", "equivalent_annual"), _OF("together", _FLOWS)),
    **dict.fromkeys(("irr", "payback", "discounted_payback"), _OF("pure", _FLOWS)),
    "irr_dated": _OF("unknown", _FLOWS),  # of a year
    **dict.fromkeys(("mirr", "profitability_index"), _OF("pure", _FLOWS)),
    "terminal_value": _OF("flow"),
    **dict.fromkeys(("present_value", "future_value"), _OF("unknown")),
    **dict.fromkeys(("payment", "interest_part", "principal_part"), _OF("unknown")),  # of a period
    **dict.fromkeys(("straight_line", "declining_balance"), _OF("together", ("cost", "salvage"))),
    "sum_of_digits": _OF("together", ("cost", "salvage")),
    "levelized_cost": _OF("per quantity", ("capital", "yearly_cost")),
    "value_per_share": _OF("per share", ("flows", "debt")),
}  # fmt: skip
