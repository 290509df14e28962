"""Methods that let past losses speak: as they are, weighted by age, rescaled to today's volatility,
or with a fitted tail.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from kindynos.arrays import Floats
from kindynos.fitting.tail import FEWEST, drawn_tail, fit_tails
from kindynos.formatting import p_value
from kindynos.inference.block_bootstrap import block_positions
from kindynos.inference.estimates import Estimate
from kindynos.inference.intervals import Z, ends_of_draws, order_places, t_point
from kindynos.inference.rows import loss_tail
from kindynos.markets import method
from kindynos.markets.exposure import Exposure
from kindynos.markets.horizons import DrawnFrom, drawn_stretches, drawn_sums
from kindynos.markets.method import DOUBTFUL, MEASURES, Method
from kindynos.markets.resampling import bounds, true_ratios
from kindynos.markets.volatility import DECAY, clustering, garch_volatility, weighted_volatility
from kindynos.processes.clustering import clustering_test, fit_garch
from kindynos.sampling.streams import stream
from kindynos.validate import checked, instance, one_of, proper_fraction

AGE_DECAY = 0.98  # of the weight of a return a day older (Boudoukh, Richardson and Whitelaw 1998)
NEAREST = 5  # days on each side of a quantile, at least, whose losses explain it
# from here on a window of 1,000 returns no longer bounds a tail from above, a shorter one earlier;
# 7 in 100 windows of independent returns reach it
CLUSTERED = 1.4
DRAWN = 20_000  # stretches of several periods
AGAIN, OF_EACH = 60, 4_000  # histories drawn again, and stretches of each


class FromHistory(Method):
    """A method that draws what may happen over several periods from the history."""

    def over(self, exposure: Exposure, horizon: int) -> tuple[Method, Exposure, int]:
        if horizon == 1:
            return self, exposure, 1
        source = self.drawn_from(exposure, horizon)
        drawn = drawn_stretches(source, source.places(DRAWN))
        return Stretches(of=self, source=exposure, horizon=horizon), drawn, 1

    def drawn_from(self, exposure: Exposure, horizon: int) -> DrawnFrom:
        """Return what stretches are drawn from: the moves, how likely each is, and how the
        periods of a stretch differ.
        """
        losses = exposure.losses
        clustered = len(losses) >= 40 and clustering_test(losses) < DOUBTFUL
        blocks = len(losses) ** (1 / 3) if clustered else 1.0
        _, weights = self.behind(losses)
        return DrawnFrom(exposure, weights, np.ones(horizon), blocks)

    def interval_over(
        self, value: float, exposure: Exposure, measure: str, level: float, horizon: int
    ) -> Estimate:
        """Return a figure over a horizon with its interval: how far apart the figures of histories
        drawn again are.
        """
        source, position = self.drawn_from(exposure, horizon), MEASURES.index(measure)
        generator = stream(0, "histories of stretches", horizon)
        apart = max(clustering(exposure.losses), source.blocks)
        figures, places = [], source.places(OF_EACH)
        for positions in block_positions(generator, AGAIN, len(exposure.returns), apart):
            again = replace(source, exposure=exposure.with_returns(exposure.returns[positions]))
            losses = drawn_stretches(again, places).losses
            figures.append(float(loss_tail(losses[None], level)[position][0]))
        reach = t_point(AGAIN - 1) * float(np.std(figures, ddof=1))
        return Estimate(value, value - reach, value + reach)


class Ranked(FromHistory):
    """A method whose value at risk is a quantile of past losses."""

    def shares(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Floats:
        """Return what each holding adds: to a quantile by the days with losses near it, since one
        day alone says little.

        To the mean beyond a quantile it is exact. Source: Epperlein and Smillie, Risk 19 (2006),
        70-74.
        """
        if measure == "expected_shortfall":
            return super().shares(exposure, measure, level, horizon)
        losses, weights = self.behind(exposure.losses)
        factor = np.where(
            exposure.losses != 0, losses / np.where(exposure.losses != 0, exposure.losses, 1), 1.0
        )
        order = np.argsort(losses)
        places = np.cumsum(weights[order]) - weights[order] / 2
        reach = max((1 - level) / 2, NEAREST / len(losses))
        near = np.zeros(len(losses))
        near[order] = np.maximum(1 - np.abs(places - level) / reach, 0) * weights[order]
        if not near.any():  # the weight of the worst day alone spans the level
            near[order[np.abs(places - level).argmin()]] = 1.0
        means = near @ (exposure.own_losses * factor[:, None])
        return np.asarray(means / means.sum() * self.figure(exposure, measure, level, horizon))


@dataclass(frozen=True, kw_only=True, eq=False)
class Stretches(Ranked):
    """Losses over stretches drawn from the history of an exposure by another method."""

    of: FromHistory
    source: Exposure
    horizon: int

    label = "stretches"
    use = "stretches drawn from the history"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        return loss_tail(rows, level)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        value = self.figure(exposure, measure, level, horizon)
        return self.of.interval_over(value, self.source, measure, level, self.horizon)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return self.of.description(self.source, self.horizon)


@dataclass(frozen=True, kw_only=True)
class Historical(Ranked):
    """Losses of today's holdings under each past return, equally weighted.

    With ``overlapping=True`` a figure over several days is taken from all stretches of that many
    days in the window, which overlap, instead of from days drawn one by one.
    """

    overlapping: bool = False

    label = "historical"
    use = "the past returns as they are, all alike"

    @checked
    def __post_init__(self) -> None:
        instance("overlapping", self.overlapping, bool, "True or False")

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        return loss_tail(drawn_sums(rows, horizon), level)

    def stretched(self, exposure: Exposure, horizon: int) -> tuple[Exposure, int]:
        if not self.overlapping or horizon == 1:
            return exposure, horizon
        return replace(exposure.over(horizon), overlap=horizon), 1

    def over(self, exposure: Exposure, horizon: int) -> tuple[Method, Exposure, int]:
        if self.overlapping:
            return self, *self.stretched(exposure, horizon)
        return super().over(exposure, horizon)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        """Return a figure with its interval: order statistics for the value at risk, a fitted tail
        for the mean beyond it.
        """
        losses = exposure.losses
        value = float(self.tail(losses[None], level)[MEASURES.index(measure)][0])
        apart = max(clustering(losses), float(exposure.overlap))
        low, high = _order_bounds(losses, level, apart)
        if measure == "expected_shortfall":
            # where less than one loss is expected beyond the level, what bounds the value at risk
            # from below bounds the mean beyond it
            if len(losses) >= 2 * FEWEST and len(losses) * (1 - level) >= 1:
                ends = ends_of_draws(drawn_tail(losses, level, apart)[1])
                low, high = ends[0], ends[1] if math.isfinite(high) else math.inf
            else:
                high = math.inf
        return Estimate(value, low, high, note=_note(apart > _most_apart(len(losses)), high))

    def description(self, exposure: Exposure, horizon: int) -> str:
        if self.overlapping and horizon > 1:
            return f"historical, overlapping stretches of {exposure.spacing.span(horizon)}"
        return f"historical{_over(exposure, horizon)}"


def _order_bounds(losses: Floats, level: float, apart: float) -> tuple[float, float]:
    """Return bounds of a quantile by order statistics, as if only one in ``apart`` losses told
    something new.
    """
    inner, outer = order_places(max(round(len(losses) / apart), 2), 1 - level)
    ordered = np.sort(losses)[::-1]
    low = float(ordered[min(math.ceil(inner * apart), len(losses)) - 1])
    open_above = outer == 0 or apart > _most_apart(len(losses))
    return low, math.inf if open_above else float(ordered[max(math.floor(outer * apart), 1) - 1])


def _most_apart(count: int) -> float:
    """Return how strong clusters may be for a window of so few returns to bound a tail."""
    return 1 + (CLUSTERED - 1) * min(math.sqrt(count / 1000), 1.0)


def _over(exposure: Exposure, horizon: int) -> str:
    """Return the words for how a figure of several periods comes about."""
    return "" if horizon == 1 else f", {exposure.spacing.span(horizon)} drawn from them together"


def _note(clustered: bool, high: float) -> str:
    if math.isfinite(high):
        return ""
    if clustered:
        return "large losses come in clusters, so that this window cannot bound it from above"
    return "too few losses lie beyond it to bound it from above"


@dataclass(frozen=True, kw_only=True)
class Tail(FromHistory):
    """The worst tenth of past losses (at least 20), smoothed by a generalized Pareto distribution.

    It reaches levels at which only one or two losses are left. See ``kindynos.fitting.tail``.
    """

    label = "tail"
    use = "a generalized Pareto distribution fitted to the worst tenth of past losses"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        if horizon > 1:
            return loss_tail(drawn_sums(rows, horizon), level)
        return fit_tails(rows).figures(level)

    def shares(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Floats:
        """Return what each holding adds, in proportion to its losses on the days beyond the
        threshold.
        """
        losses = exposure.losses
        beyond = losses > fit_tails(losses[None]).threshold[0]
        means = exposure.own_losses[beyond].mean(axis=0)
        return np.asarray(means / means.sum() * self.figure(exposure, measure, level, horizon))

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, position = exposure.losses, MEASURES.index(measure)
        value = float(self.tail(losses[None], level)[position][0])
        apart = clustering(losses)
        low, high = ends_of_draws(drawn_tail(losses, level, apart)[position])
        high = math.inf if apart > _most_apart(len(losses)) else high
        return Estimate(value, low, high, note=_note(apart > _most_apart(len(losses)), high))

    def description(self, exposure: Exposure, horizon: int) -> str:
        shape = float(fit_tails(exposure.losses[None]).shape[0])
        return f"generalized Pareto tail, shape {shape:.2f}{_over(exposure, horizon)}"


@dataclass(frozen=True, kw_only=True)
class Weighted(Ranked):
    """Past losses with weights that fade with age.

    Source: Boudoukh, Richardson and Whitelaw, Risk 11 (1998), 64-67.
    """

    decay: float = AGE_DECAY

    label = "weighted"
    use = "the past returns, the recent ones counting more"

    @checked
    def __post_init__(self) -> None:
        proper_fraction("decay", self.decay)

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        weights = self.decay ** np.arange(len(losses) - 1, -1, -1.0)
        return losses, weights / weights.sum()

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        _, weights = self.behind(rows[0])
        if horizon > 1:
            return loss_tail(drawn_sums(rows, horizon, weights), level)
        return loss_tail(rows, level, weights)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        """Return a figure with its interval, open above where less weight than that of three losses
        lies beyond it.
        """
        losses, position = exposure.losses, MEASURES.index(measure)
        value = float(self.tail(losses[None], level)[position][0])
        low, high = bounds(value, true_ratios(self, losses, level, clustered=True)[position])
        _, weights = self.behind(losses)
        if (1 - level) / float((weights**2).sum()) < 3:
            high = math.inf
        return Estimate(value, low, high, note=_note(False, high))

    def interval_over(
        self, value: float, exposure: Exposure, measure: str, level: float, horizon: int
    ) -> Estimate:
        return _of_one_period(self, value, exposure, measure, level, horizon)

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"age-weighted by {self.decay:g} a {exposure.spacing.unit}{_over(exposure, horizon)}"


@dataclass(frozen=True, kw_only=True)
class Filtered(Ranked):
    """Past losses rescaled from the volatility of their day to today's.

    ``volatility`` is "weighted", which fades by ``decay`` a day and has no term structure, or
    "garch", fitted to the losses: over several days it returns to its long-run level.

    Source: Hull and White, Journal of Risk 1 (1998), 5-19.
    """

    decay: float = DECAY
    volatility: str = "weighted"

    label = "filtered"
    use = "the past returns, rescaled to today's volatility"

    @checked
    def __post_init__(self) -> None:
        proper_fraction("decay", self.decay)
        one_of("volatility", self.volatility, ("weighted", "garch"))

    def _scales(self, rows: Floats) -> Floats:
        """Return today's volatility over that of each day, row by row."""
        if self.volatility == "weighted":
            path = weighted_volatility(rows, self.decay)
        else:
            path = np.stack([fit_garch(row).volatility for row in rows])
        return np.asarray(path[:, -1:] / path[:, :-1])

    def behind(self, losses: Floats) -> tuple[Floats, Floats]:
        return losses * self._scales(losses[None])[0], np.full(len(losses), 1 / len(losses))

    def drawn_from(self, exposure: Exposure, horizon: int) -> DrawnFrom:
        source, losses = super().drawn_from(exposure, horizon), exposure.losses
        scales = self._scales(losses[None])[0][:, None]
        with np.errstate(divide="ignore"):
            logs = scales * np.log1p(np.where(exposure.differences, 0.0, exposure.returns))
        absolute = scales * exposure.returns
        moves = np.where(exposure.differences, absolute, np.expm1(logs))
        path = fit_garch(losses).forecast(horizon) if self.volatility == "garch" else source.path
        return replace(
            source, exposure=exposure.with_returns(moves), path=path / path[0], blocks=1.0
        )

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        rescaled = rows * self._scales(rows)
        if horizon > 1 and self.volatility == "garch":
            paths = np.stack([fit_garch(row).forecast(horizon) for row in rows])
            return loss_tail(drawn_sums(rescaled, horizon, paths=paths / paths[:, :1]), level)
        return loss_tail(drawn_sums(rescaled, horizon), level)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, position = exposure.losses, MEASURES.index(measure)
        value = float(self.tail(losses[None], level)[position][0])
        low, high = bounds(value, true_ratios(self, losses, level, clustered=True)[position])
        return Estimate(value, low, high)

    def interval_over(
        self, value: float, exposure: Exposure, measure: str, level: float, horizon: int
    ) -> Estimate:
        return _of_one_period(self, value, exposure, measure, level, horizon)

    def held(self, losses: Floats) -> method.Tail:
        if self.volatility == "weighted":
            return self.tail
        model = fit_garch(losses)

        def tail(rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
            path = garch_volatility(rows, model.reaction, model.persistence)
            return loss_tail(rows * (path[:, -1:] / path[:, :-1]), level)

        return tail

    def refitted(self, losses: Floats) -> method.Tail:
        """Return ``tail`` with the parameters of GARCH drawn, one set for each row, as fits to such
        rows would find them.
        """
        if self.volatility == "weighted":
            return self.tail
        model = fit_garch(losses)

        def tail(rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
            # in the other order than that of the parameters behind the rows
            reactions, persistences = (np.resize(d, len(rows))[::-1] for d in model.drawn)
            path = np.stack(
                [
                    garch_volatility(row[None], float(reaction), float(persistence))[0]
                    for row, reaction, persistence in zip(
                        rows, reactions, persistences, strict=True
                    )
                ]
            )
            return loss_tail(rows * (path[:, -1:] / path[:, :-1]), level)

        return tail

    def doubt(self, exposure: Exposure) -> str:
        losses = exposure.losses
        left = losses * self._scales(losses[None])[0]
        p = clustering_test(left) if len(left) >= 2 * FEWEST else 1.0
        return (
            ""
            if p >= DOUBTFUL
            else f"large moves still come in clusters after the rescaling ({p_value(p)})"
        )

    def description(self, exposure: Exposure, horizon: int) -> str:
        if self.volatility == "weighted":
            return f"rescaled to today's volatility{_over(exposure, horizon)}"
        model = fit_garch(exposure.losses)
        over = (
            ""
            if horizon == 1
            else f", with its forecast for each of {exposure.spacing.span(horizon)}"
        )
        return (
            "rescaled to today's volatility by GARCH(1,1) with persistence "
            f"{model.persistence:.3f}{over}"
        )


def _of_one_period(
    method: FromHistory, value: float, exposure: Exposure, measure: str, level: float, horizon: int
) -> Estimate:
    """Return a figure over a horizon with the interval of one period's in proportion, and the error
    of the mean, which grows with the number of periods; both of logarithms where all is held, or
    all is sold short, since these compound.
    """
    one = method.interval(exposure, measure, level, 1)
    losses, held = exposure.losses, exposure.values
    worth = float(held.sum())
    plain = exposure.book.in_proportion and not exposure.differences.any()
    if plain and abs(worth) == float(np.abs(held).sum()) and value / worth < 1:
        moves, figure = -np.log1p(-losses / worth), -math.log1p(-value / worth)
    else:
        worth, moves, figure = math.nan, losses, value
    _, weights = method.behind(losses)
    share = float((weights**2).sum())  # that of one move, were all alike
    of_mean = Z * float(moves.std(ddof=1)) * math.sqrt((horizon**2 - horizon) * share)
    spread = figure - horizon * float(weights @ moves)
    below, above = (
        math.hypot(abs(end / float(one) - 1) * spread, of_mean) for end in (one.low, one.high)
    )
    if worth < 0:  # what is sold short loses as the price rises
        below, above = above, below
    ends = (figure - below, figure + above)
    if not math.isnan(worth):
        ends = (-worth * math.expm1(-ends[0]), -worth * math.expm1(-ends[1]))
    low, high = sorted(ends)
    return Estimate(value, low, high if math.isfinite(one.high) else math.inf, note=one.note)
