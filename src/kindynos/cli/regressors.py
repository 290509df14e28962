"""What a series is explained by and what is known ahead: columns of its file, days of trading and
holidays.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kindynos.errors import DataWarning
from kindynos.tables.layout import TableFormat

if TYPE_CHECKING:
    import pandas as pd

CALENDAR_AHEAD = 60  # periods for which days of trading are worked out


@dataclass(frozen=True)
class Regressors:
    """What is known ahead: columns of the file, days of trading, holidays of another file."""

    columns: list[str]
    trading_days: bool = False
    holidays: Path | None = None

    @property
    def options(self) -> dict[str, Any]:
        """The options that state them, None for those that are not given."""
        return {
            "--exog": ",".join(self.columns) or None,
            "--trading-days": self.trading_days or None,
            "--holidays": self.holidays,
        }

    def of_series(
        self, data: Path, series: Mapping[str, Any], form: TableFormat, ahead: int | None
    ) -> tuple[pd.Series, pd.DataFrame | None, list[str]]:
        """Return a series of a file, all its regressors, and notes on how it was read."""
        from kindynos.fitting.records import series_and_regressors

        every = series["every"]
        values, valid, notes = series_and_regressors(
            data, series["column"], series["dates"], every, form, self.columns
        )
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always", DataWarning)
            exog = self.joined(values, valid, every, ahead)
        return values, exog, [*notes, *(str(warning.message) for warning in caught)]

    def joined(
        self, values: pd.Series, valid: pd.DataFrame | None, every: str | None, ahead: int | None
    ) -> pd.DataFrame | None:
        """Return all regressors of a series, those of its file ``known``; None without any."""
        from kindynos.fitting.calendar import calendar_regressors, holidays_in

        if not self.trading_days and self.holidays is None:
            return valid
        days = "working" if self.trading_days else "none"
        named = None if self.holidays is None else holidays_in(self.holidays)
        count = max(CALENDAR_AHEAD, ahead or 0) if valid is None else len(valid) - len(values)
        calendar = calendar_regressors(values, count, days, named, every=every)
        return calendar if valid is None else valid.join(calendar)


OPTIONS = (
    click.option(
        "--exog",
        metavar="COLUMN,...",
        help="Columns of the file that are regressors known ahead; rows after the last value of "
        "the series give them for the periods to forecast.",
    ),
    click.option(
        "--trading-days",
        is_flag=True,
        help="Working days less 5/2 weekend days of each period as a regressor.",
    ),
    click.option(
        "--holidays",
        type=click.Path(path_type=Path),
        help="A table with the columns holiday (a name) and date; the number of each in a period "
        "is a regressor.",
    ),
)


def regressor_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add --exog, --trading-days and --holidays to a command, which gets ``regressors``."""

    @wraps(command)
    def call(
        *arguments: Any, exog: str | None, trading_days: bool, holidays: Path | None, **options: Any
    ) -> Any:
        columns = [] if exog is None else names_in_text(exog)
        regressors = Regressors(columns, trading_days, holidays)
        return command(*arguments, regressors=regressors, **options)

    for option in reversed(OPTIONS):
        call = option(call)
    return call


def names_in_text(text: str) -> list[str]:
    """Return names parted by commas; those inside brackets and before a blank belong to a
    name.
    """
    import re

    return [name.strip() for name in re.split(r",(?![^(]*\))(?! )", text) if name.strip()]
