"""How a parameter is searched for: on a scale without ends, on which 1 is a large change."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import expit, logit

Map = Callable[[Any, Any, Any], Any]


@dataclass(frozen=True)
class Scale:
    """The way from theta to a parameter and back, given the centre and the spread of the data, and
    its slope.
    """

    to: Map
    back: Map
    slope: Map  # of the parameter in theta, from the parameter
    least: float = -40.0  # theta
    most: float = 40.0


def _exp(theta: Floats) -> Floats:
    return np.asarray(np.exp(theta))


LOCATION = Scale(
    lambda t, c, s: c + s * t, lambda v, c, s: (v - c) / s, lambda v, c, s: s, -1e6, 1e6
)
SPREAD = Scale(lambda t, c, s: s * _exp(t), lambda v, c, s: np.log(v / s), lambda v, c, s: v)
ABOVE_ZERO = Scale(lambda t, c, s: _exp(t), lambda v, c, s: np.log(v), lambda v, c, s: v)
REAL = Scale(lambda t, c, s: t, lambda v, c, s: v, lambda v, c, s: 1.0, -1e4, 1e4)
# even about 0 where it is small, and a logarithm where it is large, on either side
SIGNED = Scale(
    lambda t, c, s: np.sinh(t),
    lambda v, c, s: np.arcsinh(v),
    lambda v, c, s: np.sqrt(1 + np.square(v)),
)
SHARE = Scale(lambda t, c, s: expit(t), lambda v, c, s: logit(v), lambda v, c, s: v * (1 - v))


def above_by(least: float) -> Scale:
    """Return the scale of a parameter above a limit."""
    return Scale(
        lambda t, c, s: least + _exp(t),
        lambda v, c, s: np.log(v - least),
        lambda v, c, s: v - least,
    )
