"""Limits of figures of risk, and how far each is used."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from kindynos.errors import FileError, ParameterError
from kindynos.tables.reader import read_table

WHOLE = "whole"  # the scope of all holdings together
WARNING = 0.8  # share of a limit that is warned of, where none is stated
OF_WHOLE = ("value at risk", "expected shortfall", "value")
OF_PARTS = ("value", "share of the value", "adds to value at risk")


@dataclass(frozen=True)
class Limit:
    """The most that a figure of a scope may be: of the ``whole``, a holding, a group or a currency;
    from ``warning`` times it on it is warned of.
    """

    figure: str
    limit: float
    scope: str = WHOLE
    warning: float = WARNING


def read_limits(path: Path) -> list[Limit]:
    """Return the limits in a table with columns figure and limit, and perhaps scope and warning (a
    share of the limit, by default 0.8).

    Raises FileError, with the row, for a limit that is not above 0.
    """
    table = read_table(path)
    columns = {name.lower(): name for name in table.names}
    if not {"figure", "limit"} <= set(columns):
        raise FileError(
            f"needs columns figure and limit; it has {', '.join(table.names)}", file=table.file
        )
    count = len(table.rows)
    figures, numbers = table.texts(columns["figure"]), table.numbers(columns["limit"])
    scopes = table.texts(columns["scope"]) if "scope" in columns else [""] * count
    stated = np.full(count, np.nan)
    if "warning" in columns:
        stated = table.numbers(columns["warning"])
    limits = []
    for position in range(count):
        limit, warning = float(numbers[position]), float(stated[position])
        if not (math.isfinite(limit) and limit > 0):
            row = int(table.rows[position])
            raise FileError("a limit is a number above 0", file=table.file, row=row)
        limits.append(
            Limit(
                figures[position].lower(),
                limit,
                scopes[position] or WHOLE,
                WARNING if math.isnan(warning) else warning,
            )
        )
    return limits


def limits_used(limits: list[Limit], figures: Mapping[tuple[str, str], float]) -> pd.DataFrame:
    """Return how far each limit is used, the most first: columns figure, scope, is, limit, use and
    state ("breach", "warning" or "within").

    ``figures`` has what there is by figure and scope. Raises ParameterError for a figure that there
    is not.
    """
    rows = []
    for limit in limits:
        key = (limit.figure, limit.scope)
        if key not in figures:
            figures_of_scope = [figure for figure, scope in figures if scope == limit.scope]
            if figures_of_scope:
                raise ParameterError(
                    f"no figure {limit.figure!r} of {limit.scope} to limit",
                    unknown=limit.figure,
                    known=figures_of_scope,
                )
            raise ParameterError(
                f"no holding, group or currency {limit.scope!r} to limit",
                unknown=limit.scope,
                known=sorted({scope for _, scope in figures}),
            )
        # a holding sold short counts by its size, what lowers the risk not at all
        size = figures[key] if limit.figure.startswith("adds") else abs(figures[key])
        use = size / limit.limit
        state = "breach" if use > 1 else "warning" if use > limit.warning else "within"
        rows.append((limit.figure, limit.scope, figures[key], limit.limit, use, state))
    table = pd.DataFrame(rows, columns=["figure", "scope", "is", "limit", "use", "state"])
    return table.sort_values("use", ascending=False, ignore_index=True)


def figures_of(
    whole: Mapping[str, float], parts: pd.DataFrame, groups: Mapping[str, Mapping[str, str]]
) -> dict[tuple[str, str], float]:
    """Return what may be limited, by figure and scope: figures of the ``whole``, of each holding in
    the table of what it adds (columns value and component), and of its group and currency, by the
    kind of grouping and by holding.
    """
    figures = {(name, WHOLE): float(whole[name]) for name in OF_WHOLE if name in whole}
    total = float(whole["value"])
    for holding, row in parts.iterrows():
        name = str(holding)
        scopes = dict.fromkeys([name, *(of[name] for of in groups.values() if name in of)])
        own = (float(row["value"]), float(row["value"]) / total, float(row["component"]))
        for scope in scopes:
            for figure, amount in zip(OF_PARTS, own, strict=True):
                figures[figure, scope] = figures.get((figure, scope), 0.0) + amount
    return figures
