"""Errors as values of cells, and the exception that stands for one inside a function."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class CellError:
    """An error as a value, such as #DIV/0!, with the number that ERROR.TYPE gives it."""

    code: str
    number: int

    def __repr__(self) -> str:
        return self.code


NULL, DIV0, VALUE = CellError("#NULL!", 1), CellError("#DIV/0!", 2), CellError("#VALUE!", 3)
REF, NAME, NUM, NA = (
    CellError("#REF!", 4),
    CellError("#NAME?", 5),
    CellError("#NUM!", 6),
    CellError("#N/A", 7),
)
ERRORS = {error.code: error for error in (NULL, DIV0, VALUE, REF, NAME, NUM, NA)}
BY_NUMBER = {error.number: error for error in ERRORS.values()}
OTHER_ERRORS = ("#GETTING_DATA", "#SPILL!", "#CALC!", "#FIELD!", "#BLOCKED!", "#UNKNOWN!")


class ResultError(Exception):
    """Raised within a function whose value is an error."""

    def __init__(self, error: CellError) -> None:
        super().__init__(error.code)
        self.error = error
