"""What is ours of the events of a trial: layers of each, their sum, the largest, and covers of the
sum. To add one: a function here, and its entry among the functions of formulas.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from kindynos.arrays import Floats, without_residue
from kindynos.events.events import Events


def total(events: Events) -> Floats:
    """Return the sum of the events of each cell."""
    return events.reduced(np.add)


def largest(events: Events) -> Floats:
    """Return the largest event of each cell, 0 without any."""
    return events.reduced(np.maximum)


def above(events: Events, bound: Any = 0.0) -> Floats:
    """Return how many events of each cell are larger than a bound."""
    return total(events.with_sizes((events.sizes > events.each(bound)).astype(np.float64)))


def layer(events: Events, begin: Any, width: Any = np.inf) -> Events:
    """Return of each event what lies above ``begin``, at most ``width`` of it.

    >>> layer(Events(np.array([3.0]), np.array([0.5, 2.0, 9.0])), 1.0, 4.0).sizes
    array([0., 1., 4.])
    """
    over = np.maximum(events.sizes - events.each(begin), 0.0)
    return events.with_sizes(np.minimum(over, events.each(width)))


def capped(events: Events, limit: Any) -> Events:
    """Return the events, each at most a limit."""
    return events.with_sizes(np.minimum(events.sizes, events.each(limit)))


def during(events: Events, begin: Any, end: Any) -> Events:
    """Return the events that happen from ``begin`` to before ``end``, shares of the year or the
    period of a trial.
    """
    moments = events.moments
    return events.only((moments >= events.each(begin)) & (moments < events.each(end)))


def reinstated(ceded: Events, width: Any, times: Any, premium: Any = 0.0) -> Floats:
    """Return what a layer pays in each cell where its width is restored ``times`` times, less the
    premium of restoring it: ``premium`` for the whole width, in proportion to what is restored.

    ``min(S, (times + 1) width) - premium min(S, times width) / width``, with S the sum of what the
    layer takes of each event.
    """
    losses = total(ceded)
    width = np.asarray(width, dtype=np.float64)
    restored = np.minimum(losses, times * width) / width
    return np.asarray(np.minimum(losses, (times + 1) * width) - premium * restored)


def stop_loss(loss: Any, begin: Any, width: Any = np.inf) -> Floats:
    """Return what a cover of the whole loss of each cell pays: what lies above ``begin``, at most
    ``width`` of it. Events are added up first.
    """
    losses = total(loss) if isinstance(loss, Events) else loss
    over = without_residue(np.asarray(losses - begin), np.abs(losses))
    return np.asarray(np.minimum(np.maximum(over, 0.0), width))
