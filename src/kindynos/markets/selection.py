"""Choosing instruments by what was known of them on a date."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pandas as pd

from kindynos.errors import FileError, ParameterError
from kindynos.markets.adjustments import checked_date
from kindynos.tables.reader import read_table
from kindynos.validate import checked, instance


@checked
def select(
    facts: pd.DataFrame,
    *,
    as_of: Any,
    where: dict[str, Any] | None = None,
    largest: int | None = None,
    by: str | None = None,
    smallest: bool = False,
) -> list[str]:
    """Return the instruments of a table of dated facts that meet conditions, by what was known on a
    date.

    ``facts`` has columns ``date`` (when it was known), ``instrument`` and any others; of each
    instrument the last row not after ``as_of`` counts. ``where`` maps columns to a pair such as
    ``(">", 1e6)``, or to a value or a list it must be in; ``largest`` is how many to keep with the
    largest ``by`` (``smallest=True``: the smallest). Raises ParameterError for columns there are
    not.
    """
    instance("facts", facts, pd.DataFrame, "a DataFrame")
    for column in ("date", "instrument"):
        if column not in facts.columns:
            raise ParameterError(
                f"facts need a column {column!r}; they have {', '.join(map(str, facts.columns))}"
            )
    dates = replace(read_table(facts[["date"]]), file="facts").dates("date")
    facts = facts.assign(date=dates.to_numpy())
    fact = facts[facts["date"] <= checked_date("as_of", as_of)]
    latest = fact.sort_values("date", kind="stable").groupby("instrument", sort=False).tail(1)
    for column, condition in (where or {}).items():
        if column not in facts.columns:
            raise ParameterError(
                f"there is no column {column!r}", unknown=column, known=map(str, facts.columns)
            )
        latest = latest[_meets(latest[column], column, condition)]
    if largest is not None:
        if by is None or by not in facts.columns:
            raise ParameterError(
                "largest= needs by=, one of the columns",
                unknown=str(by),
                known=map(str, facts.columns),
            )
        latest = (
            latest.assign(**{by: _figures(latest[by], by)})
            .sort_values(by, ascending=smallest, kind="stable")
            .head(largest)
        )
    return [str(name) for name in latest["instrument"]]


def _figures(values: pd.Series, column: str) -> pd.Series:
    """Return a column of facts as numbers; raises ParameterError for other text."""
    try:
        return pd.Series(read_table(values.to_frame(column)).numbers(column), index=values.index)
    except FileError as error:
        raise ParameterError(error.problem) from None


def _meets(values: pd.Series, column: str, condition: Any) -> pd.Series:
    if (
        isinstance(condition, tuple)
        and len(condition) == 2
        and condition[0] in (">", ">=", "<", "<=", "!=")
    ):
        sign, figure = condition
        if isinstance(figure, int | float):
            values = _figures(values, column)
        tests = {">": values.gt, ">=": values.ge, "<": values.lt, "<=": values.le, "!=": values.ne}
        return tests[sign](figure)
    if isinstance(condition, tuple):
        raise ParameterError(
            f"the condition on {column!r} must be like ('>', 100), a value, or a list; not "
            f"{condition!r}"
        )
    return values.isin(condition) if isinstance(condition, list | set) else values.eq(condition)
