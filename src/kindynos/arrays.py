"""The one float array type of the package, and what a masked value is in it: not a number."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def unmasked(value: Any) -> Any:
    """Return a value with NaN in place of what is masked; anything else as it is."""
    if not np.ma.isMaskedArray(value):
        return value
    return np.ma.filled(np.ma.asarray(value, dtype=np.float64), np.nan)
