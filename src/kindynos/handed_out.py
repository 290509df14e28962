"""What objects hand out is a copy, or cannot be written to, so that nobody's table changes under
another's hands.
"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import numpy as np


class HandsOutCopies:
    """An object whose public tables, dictionaries and lists are handed out as copies, and whose
    arrays are read-only. A copy of a table shares its values until one of the two is changed.

    >>> class Result(HandsOutCopies):
    ...     def __init__(self):
    ...         self.shares = {"a": 1.0}
    >>> result = Result()
    >>> result.shares["b"] = 2.0
    >>> result.shares
    {'a': 1.0}
    """

    if not TYPE_CHECKING:  # for which every attribute would be Any

        def __getattribute__(self, name: str) -> Any:
            value = super().__getattribute__(name)
            return value if name.startswith("_") else handed_out(value)


def handed_out(value: Any) -> Any:
    """Return a value as it is handed out: a copy of what could be changed."""
    if type(value) in (dict, list):
        return value.copy()
    if isinstance(value, np.ndarray):
        if not value.flags.writeable:
            return value
        view = value.view()
        view.flags.writeable = False
        return view
    pandas = sys.modules.get("pandas")
    if pandas is not None and isinstance(value, pandas.DataFrame | pandas.Series):
        shared_until_changed = int(pandas.__version__.partition(".")[0]) >= 3
        return value.copy(deep=not shared_until_changed)
    return value
