"""Fitted distributions with parameters that are drawn too."""

from __future__ import annotations

from kindynos.distributions.base import Distribution
from kindynos.distributions.mixture import MOST_PARTS
from kindynos.distributions.special import ndtri
from kindynos.distributions.uncertain import Uncertain
from kindynos.errors import ParameterError
from kindynos.fitting.fit import Fit
from kindynos.sampling.streams import stream
from kindynos.validate import check_integer

MOST_PARAMETERS = 6
TRIES = 3  # times as many draws as are wanted, for those that a distribution cannot have


def uncertain(fitted: Distribution, draws: int = 100) -> Distribution:
    """Return a fitted distribution with parameters drawn as its fit leaves them; see
    ``Distribution.uncertain``.
    """
    record = fitted.fitted
    if not isinstance(record, Fit):
        kind = type(fitted).__name__
        raise ParameterError(
            f"only a fitted distribution is uncertain, such as {kind}.fit(values)",
            owner=f"{kind}.uncertain",
        )
    check_integer("uncertain", "draws", draws, least=20, most=MOST_PARTS)
    even = stream(0, "uncertain", 0)
    scores = even.permuted(
        (even.random((MOST_PARAMETERS, TRIES * draws)) + range(TRIES * draws)) / (TRIES * draws),
        axis=1,
    )
    parts: list[Distribution] = []
    for parameters in record.drawn(ndtri(scores)):
        try:
            parts.append(_made(fitted, parameters))
        except ParameterError:
            continue
        if len(parts) == draws:
            break
    if len(parts) < draws // 2:
        raise ParameterError(
            "the values leave the parameters so open that they cannot be drawn; hold one of them, "
            "or fit from more values",
            owner=f"{type(fitted).__name__}.uncertain",
        )
    return Uncertain(parts)


def _made(fitted: Distribution, parameters: dict[str, float]) -> Distribution:
    kind = type(fitted)
    whole_ones = {name for name, value in vars(fitted).items() if isinstance(value, int)}
    return kind(
        **{name: int(value) if name in whole_ones else value for name, value in parameters.items()}
    )
