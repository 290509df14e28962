"""Functions of formulas on the events of a trial, such as claims."""

from __future__ import annotations

from kindynos.events import layers
from kindynos.formula.function import Function, Parameter

_EVENTS = Parameter("events", "events")
_WIDTH = Parameter("width", optional=True)

CLAIMS = (
    Function("largest", (_EVENTS,), "cell", layers.largest, "largest event of a trial; 0 without"),
    Function(
        "above",
        (_EVENTS, Parameter("bound", optional=True)),
        "cell",
        layers.above,
        "number of events above a bound (default: 0)",
    ),
    Function(
        "layer",
        (_EVENTS, Parameter("begin"), _WIDTH),
        "events",
        layers.layer,
        "of each event what lies above begin, at most width of it",
    ),
    Function(
        "capped",
        (_EVENTS, Parameter("limit")),
        "events",
        layers.capped,
        "events, each at most limit",
    ),
    Function(
        "during",
        (_EVENTS, Parameter("begin"), Parameter("end")),
        "events",
        layers.during,
        "events from begin to before end, shares of the year (or period) in which they happen",
    ),
    Function(
        "reinstated",
        (_EVENTS, Parameter("width"), Parameter("times"), Parameter("premium", optional=True)),
        "cell",
        layers.reinstated,
        "sum of a layer's events, where its width is restored N times, less the premium of "
        "restoring it (for the whole width)",
    ),
    Function(
        "stop_loss",
        (Parameter("loss", events=True), Parameter("begin"), _WIDTH),
        "same",
        layers.stop_loss,
        "of the whole loss of a trial, or of a period, what lies above begin, at most width of it",
    ),
)
