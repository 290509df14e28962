"""Every method of value at risk and expected shortfall. To add one: a subclass of ``Method``, and
its place in METHODS.
"""

from __future__ import annotations

from typing import Any

from kindynos.errors import ParameterError
from kindynos.formatting import p_value
from kindynos.inference.autocorrelation import variance_ratio
from kindynos.markets.exposure import Exposure, RiskFigure
from kindynos.markets.from_history import Filtered, Historical, Tail, Weighted
from kindynos.markets.from_moments import CornishFisher, NormalMethod, Student
from kindynos.markets.method import DOUBTFUL, Method
from kindynos.markets.simulation import Simulated
from kindynos.registry import Registry, check_options, declared_options

THIN = 30.0  # degrees of freedom, from which a tail is nearly that of a normal distribution
MOST_ADDED = 0.05  # of the value, up to which adding returns up is near compounding them
FEWEST = 100  # losses, from which on their correlation is tested

METHODS: Registry[type[Method]] = Registry(
    "risk method",
    {
        method.label: method
        for method in (
            Historical,
            Weighted,
            Filtered,
            Tail,
            NormalMethod,
            Student,
            CornishFisher,
            Simulated,
        )
    },
)


def method_of(name: str, options: dict[str, Any], *, all_methods: bool = False) -> Method:
    """Return a method with its options; raises ParameterError for an unknown option.

    With ``all_methods`` the options may be for another method: those are left out.
    """
    kind = METHODS.find(name)
    if not all_methods:
        check_options(f"method {name!r}", kind, options)
        return kind(**options)
    everyone = {option for other in METHODS.values() for option in declared_options(other)}
    for option in options:
        if option not in everyone:
            raise ParameterError(
                f"no option {option!r} of any method", unknown=option, known=everyone
            )
    return kind(
        **{option: value for option, value in options.items() if option in declared_options(kind)}
    )


def measured(
    method: Method, exposure: Exposure, measure: str, level: float, horizon: int, value: float
) -> RiskFigure:
    """Return value at risk or expected shortfall of an exposure by a method, with its interval, and
    in words.

    Raises ParameterError for a horizon over which a method that scales the loss of one period would
    let holdings that are all bought lose more than they are worth.
    """
    taken, looked_at, left = method.over(exposure, horizon)
    figure = taken.interval(looked_at, measure, level, left)
    _check_possible(method, exposure, float(figure), horizon, value)
    unit = exposure.spacing.stretch(horizon)
    often = f"{1 / (1 - level):.3g}"
    what = {
        "value_at_risk": f"a loss exceeded on about 1 {unit} in {often}",
        "expected_shortfall": f"the mean of the losses on the worst {unit} in {often}",
    }[measure]
    first, last = exposure.dates[0], exposure.dates[-1]
    how = method.description(exposure, horizon)
    description = (
        f"{what}; {how}, {len(exposure.returns)} returns, {first:%Y-%m-%d} to {last:%Y-%m-%d}"
    )
    return RiskFigure.of(
        figure,
        fraction=float(figure) / value if value else float("nan"),
        sampling_error=taken.sampling_error(looked_at, measure, level, left),
        doubt="; ".join(
            filter(None, [method.doubt(exposure), _horizon_doubt(method, exposure, level, horizon)])
        ),
        method=method.label,
        level=level,
        window=exposure.window,
        returns=len(exposure.returns),
        first=first,
        last=last,
        horizon=horizon,
        unit=exposure.spacing.unit,
        description=f"{description}; {exposure.description}"
        if exposure.description
        else description,
    )


def figure_alone(
    method: Method, exposure: Exposure, measure: str, level: float, horizon: int
) -> float:
    """Return the figure that ``measured`` gives, without its interval, which takes far longer."""
    taken, looked_at, left = method.over(exposure, horizon)
    return taken.figure(looked_at, measure, level, left)


def _check_possible(
    method: Method, exposure: Exposure, figure: float, horizon: int, value: float
) -> None:
    """Raise ParameterError for a loss that is larger than what is held and was bought."""
    if exposure.only_bought and figure > value > 0:
        raise ParameterError(
            f"over {exposure.spacing.span(horizon)} it would give a loss of {figure:,.0f}, "
            "and the "
            "holdings are "
            f"worth {value:,.0f}; take a shorter horizon, or simulated, which compounds",
            owner=method.label,
        )


def _horizon_doubt(method: Method, exposure: Exposure, level: float, horizon: int) -> str:
    """Return in words why losses of several periods do not follow from those of one as the method
    has it; "" where nothing was found.
    """
    doubts = [_of_fitted_moments(method, exposure, level, horizon)] if horizon > 1 else []
    doubts.append(_of_correlated_periods(method, exposure, level, horizon))
    return "; ".join(filter(None, doubts))


def _of_fitted_moments(method: Method, exposure: Exposure, level: float, horizon: int) -> str:
    """Return in words that a method that scales what it fitted to one period keeps the tail of one,
    or adds up returns that compound.
    """
    if not isinstance(method, NormalMethod | Student | CornishFisher):
        return ""
    span, value = exposure.spacing.span(horizon), abs(float(exposure.values.sum()))
    if isinstance(method, Student) and method.df(exposure.losses) < THIN:
        return f"over {span} the fat tail of one {exposure.spacing.unit} thins out, and is kept"
    _, looked_at, left = method.over(exposure, horizon)
    figure = method.figure(looked_at, "value_at_risk", level, left)
    if exposure.book.in_proportion and abs(figure) > MOST_ADDED * value:
        return f"over {span} returns compound, and are added up"
    return ""


def _of_correlated_periods(method: Method, exposure: Exposure, level: float, horizon: int) -> str:
    """Return in words that periods are correlated, with the historical figure of overlapping
    stretches.
    """
    losses = exposure.losses
    looked_at, _ = method.stretched(exposure, horizon)
    if horizon == 1 or looked_at.overlap > 1 or len(losses) < max(FEWEST, 4 * horizon):
        return ""
    ratio, p = variance_ratio(losses, horizon)
    if p >= DOUBTFUL:
        return ""
    span = exposure.spacing.span(horizon)
    whole = Historical(overlapping=True)
    stretched, left = whole.stretched(exposure, horizon)
    figure = whole.figure(stretched, "value_at_risk", level, left)
    return (
        f"{exposure.spacing.unit}s that follow each other are correlated: losses over {span} have "
        f"{ratio:.2g} times the variance that independent ones would have ({p_value(p)}); all "
        f"stretches of {span}, which overlap, give a value at risk of {figure:,.0f} at "
        f"{100 * level:g} %"
    )
