"""Methods that fit one distribution to past losses: normal, Student's t, and the normal one
corrected.
"""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass

import numpy as np

from kindynos.arrays import Floats
from kindynos.distributions.special import ndtri
from kindynos.fitting.normality import jarque_bera
from kindynos.fitting.student import (
    StudentFits,
    drawn_student,
    fit_students,
    student_given,
    student_tail,
)
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.inference.intervals import Z, ends_of_draws
from kindynos.markets import method
from kindynos.markets.exposure import Exposure
from kindynos.markets.method import DOUBTFUL, MEASURES, Method, around, root, scaled
from kindynos.markets.resampling import bounds, true_ratios
from kindynos.memory import remembered

FARTHEST = 4.0  # normal score up to which an expansion must rise: 3 in 100,000 lie beyond
LEAST_DF = 5.0  # of Student's t, with which a kurtosis exists, as the correction assumes
NODES, WEIGHTS = np.polynomial.legendre.leggauss(32)  # for the mean of quantiles beyond a level
SCORES = np.linspace(-8.5, 8.5, 1701)  # at which an expansion outside its domain is put in order
MASSES = np.exp(-(SCORES**2) / 2) / np.exp(-(SCORES**2) / 2).sum()


@dataclass(frozen=True, kw_only=True)
class MomentMethod(Method):
    """A distribution with the mean and the sd of the losses; ``mean=False`` leaves the mean out."""

    mean: bool = True

    @abstractmethod
    def reach(self, rows: Floats, level: float) -> tuple[Floats, Floats]:
        """Return how many sd above the mean the quantile lies, and the mean beyond it, for each
        row.
        """

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        return self._at(rows, horizon, self.reach(rows, level))

    def _at(
        self, rows: Floats, horizon: int, reach: tuple[Floats, Floats]
    ) -> tuple[Floats, Floats]:
        centre = rows.mean(axis=1) * horizon if self.mean else np.zeros(len(rows))
        spread = rows.std(axis=1, ddof=1) * root(horizon)
        return centre + reach[0] * spread, centre + reach[1] * spread

    def _centred(self) -> str:
        return "with the mean" if self.mean else "with no mean"


@dataclass(frozen=True, kw_only=True)
class NormalMethod(MomentMethod):
    """The normal distribution with the mean and the covariance of the window."""

    label = "normal"
    use = "normal returns with the window's mean and covariance"

    def reach(self, rows: Floats, level: float) -> tuple[Floats, Floats]:
        z = float(ndtri(level))
        beyond = math.exp(-z * z / 2) / math.sqrt(2 * math.pi) / (1 - level)
        return np.full(len(rows), z), np.full(len(rows), beyond)

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, position = exposure.losses, MEASURES.index(measure)
        value, reach = (
            self.figure(exposure, measure, level, horizon),
            float(self.reach(losses[None], level)[position][0]),
        )
        # the mean of several days is that of one, times their number
        of_mean = horizon if self.mean else 0.0
        error = (
            Z
            * float(losses.std(ddof=1))
            * root(horizon)
            * math.sqrt((of_mean + reach**2 / 2) / len(losses))
        )
        return symmetrical(value, error)

    def doubt(self, exposure: Exposure) -> str:
        losses = exposure.losses
        gaps = (losses - losses.mean()) / losses.std()
        skew, excess = float((gaps**3).mean()), float((gaps**4).mean()) - 3
        p = jarque_bera(skew, excess + 3, len(losses)).p
        if p >= DOUBTFUL:
            return super().doubt(exposure)
        return (
            f"the returns are not normal (skewness {-skew:.1f}, excess kurtosis {excess:.1f}): "
            "figures and intervals are off"
        )

    def description(self, exposure: Exposure, horizon: int) -> str:
        return f"normal, {self._centred()} and covariance of the window{scaled(exposure, horizon)}"


@dataclass(frozen=True, kw_only=True)
class Student(Method):
    """Student's t, whose location, scale and degrees of freedom make the holdings' losses
    likeliest; ``mean=False`` leaves the location out.
    """

    mean: bool = True

    label = "student"
    use = "fat-tailed returns: Student's t fitted to the losses by maximum likelihood"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        fits = _fit(rows.ravel()) if len(rows) == 1 else fit_students(rows)
        return self._at(fits, level, horizon)

    def _at(self, fits: StudentFits, level: float, horizon: int) -> tuple[Floats, Floats]:
        centre = fits.location * horizon if self.mean else 0.0
        scale = fits.scale * root(horizon)
        t, beyond = student_tail(fits.df, level)
        return centre + t * scale, centre + beyond * scale

    def df(self, losses: Floats) -> float:
        """Return the degrees of freedom that are fitted."""
        return float(_fit(losses.ravel()).df[0])

    def held(self, losses: Floats) -> method.Tail:
        df = self.df(losses)

        def tail(rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
            return self._at(student_given(rows, np.full(len(rows), df)), level, horizon)

        return tail

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        """Return a figure with the interval that draws of location, scale and degrees of freedom
        give.
        """
        value = self.figure(exposure, measure, level, horizon)
        low, _, high = likely_student(exposure.losses, measure, level, horizon, self.mean)
        return around(value, low, high)

    def description(self, exposure: Exposure, horizon: int) -> str:
        df = self.df(exposure.losses)
        centred = "" if self.mean else " and no location"
        return (
            f"Student's t with {df:.3g} degrees of freedom{centred}, by maximum likelihood"
            f"{scaled(exposure, horizon)}"
        )


@remembered
def _fit(losses: Floats) -> StudentFits:
    return fit_students(losses[None])


def likely_student(
    losses: Floats, measure: str, level: float, horizon: int, mean: bool = True
) -> tuple[float, float, float]:
    """Return the ends of the 95 % interval of a figure of Student's t, and between them the figure
    of the likeliest fit.
    """
    drawn = drawn_student(losses)
    fit, position, factor = drawn.fit, MEASURES.index(measure), root(horizon)
    draws = (drawn.location * horizon if mean else 0.0) + student_tail(drawn.df, level)[
        position
    ] * drawn.scale * factor
    reach = float(student_tail(np.array(fit.df), level)[position])
    low, high = ends_of_draws(draws)
    return low, (fit.location * horizon if mean else 0.0) + reach * fit.scale * factor, high


@dataclass(frozen=True, kw_only=True)
class CornishFisher(Method):
    """The normal quantile corrected for the skewness and kurtosis of the holdings' losses.

    Where the corrected quantile would fall with the level, its values are put in ascending order
    first.

    Source: Cornish and Fisher, Revue de l'Institut International de Statistique 5 (1938), 307-320;
    Chernozhukov, Fernández-Val and Galichon, Economic Theory 42 (2010), 271-293, for the order.
    """

    label = "cornish fisher"
    use = "the normal quantile, corrected for skewness and kurtosis"

    def tail(self, rows: Floats, level: float, horizon: int = 1) -> tuple[Floats, Floats]:
        centre, spread = rows.mean(axis=1), rows.std(axis=1, ddof=1) * root(horizon)
        skew, excess = _shape(rows)
        levels = level + (1 - level) * (NODES[:, None] + 1) / 2
        q, beyond = (
            expansion(np.array(level), skew, excess),
            (WEIGHTS / 2) @ expansion(levels, skew, excess),
        )
        for row in np.flatnonzero(~in_domain(skew, excess)):
            q[row], *inside = rearranged(np.append(level, levels), skew[row], excess[row])
            beyond[row] = WEIGHTS / 2 @ inside
        return centre * horizon + spread * q, centre * horizon + spread * beyond

    def interval(self, exposure: Exposure, measure: str, level: float, horizon: int) -> Estimate:
        losses, position = exposure.losses, MEASURES.index(measure)
        value = float(self.tail(losses[None], level)[position][0])
        low, high = bounds(
            value, true_ratios(self, losses, level, clustered=False, least_df=LEAST_DF)[position]
        )
        return around(
            value,
            low,
            high,
            self.figure(exposure, measure, level, horizon) / value if value else root(horizon),
        )

    def doubt(self, exposure: Exposure) -> str:
        skew, excess = _shape(exposure.losses[None])
        if in_domain(skew, excess)[0]:
            return super().doubt(exposure)
        return (
            f"a skewness of {-skew[0]:.1f} and an excess kurtosis of {excess[0]:.1f} lie outside "
            "the domain of the correction, "
            "which was put in ascending order"
        )

    def description(self, exposure: Exposure, horizon: int) -> str:
        return (
            f"Cornish and Fisher's correction for skewness and kurtosis{scaled(exposure, horizon)}"
        )


def _shape(rows: Floats) -> tuple[Floats, Floats]:
    spread = np.maximum(rows.std(axis=1, keepdims=True), 1e-300)
    gaps = (rows - rows.mean(axis=1, keepdims=True)) / spread
    squares = gaps * gaps  # powers take several times as long
    return (squares * gaps).mean(axis=1), (squares * squares).mean(axis=1) - 3


def expansion(level: Floats, skew: Floats, excess: Floats) -> Floats:
    """Return Cornish and Fisher's quantile of a distribution with mean 0 and sd 1."""
    return expansion_at(ndtri(level), skew, excess)


def expansion_at(z: Floats, skew: Floats, excess: Floats) -> Floats:
    """Return the same at normal scores."""
    squared = z * z
    first, second, third = (
        (squared - 1) * skew / 6,
        z * (squared - 3) * excess / 24,
        z * (2 * squared - 5) * skew**2 / 36,
    )
    return np.asarray(z + first + second - third)


def rearranged(levels: Floats, skew: float, excess: float) -> Floats:
    """Return the quantiles at levels of the expansion whose values are put in ascending order."""
    values = expansion_at(SCORES, np.array(skew), np.array(excess))
    order = np.argsort(values)
    masses = MASSES[order]
    return np.interp(levels, np.cumsum(masses) - masses / 2, values[order])


def in_domain(skew: Floats, excess: Floats) -> np.ndarray:
    """Return where the expansion rises wherever there is mass: its derivative, a z² + b z + c, is
    above 0 at all normal scores from -4 to 4.

    Source: Maillard, "A user's guide to the Cornish Fisher expansion" (2012), who asks for a rise
    everywhere, which half of the normal samples do not have.
    """
    a, b, c = excess / 8 - skew**2 / 6, skew / 3, 1 - excess / 8 + 5 * skew**2 / 36
    turn = np.clip(-b / np.where(a > 0, 2 * a, np.inf), -FARTHEST, FARTHEST)
    z = np.stack([np.full_like(turn, -FARTHEST), turn, np.full_like(turn, FARTHEST)])
    return np.asarray((a * z**2 + b * z + c).min(axis=0) > 0)
