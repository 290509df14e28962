"""Applying a track record to a new opinion."""

from __future__ import annotations

import math

from scipy.special import ndtri, stdtrit

from kindynos.distributions.base import Distribution
from kindynos.distributions.recalibrated import Recalibrated
from kindynos.errors import ParameterError
from kindynos.fitting.track_record import FEWEST, TrackRecord
from kindynos.validate import checked, instance

OUTER_LEVEL = 0.9  # of the range P10 to P90, the measure of a track record


@checked
def recalibrated(opinion: Distribution, record: TrackRecord) -> Recalibrated:
    """Return an opinion as a track record corrects it; see ``Distribution.recalibrated``."""
    instance("record", record, TrackRecord, "a record, as kd.track_record makes it")
    if not record.enough:
        raise ParameterError(
            f"{len(record.cases)} cases are too few to tell a bias and a widening; {FEWEST} are "
            "needed"
        )
    return Recalibrated(
        opinion, float(record.bias), float(record.widening) * _predictive(len(record.cases))
    )


def _predictive(cases: int) -> float:
    """Return how much wider the range of the next case is, since bias and widening come from few.

    The next score has Student's t, with the sd sqrt(1 + 1/n) times that of the scores; its 10th
    and 90th percentiles are those of the normal distribution times this factor.
    """
    student, normal = stdtrit(cases - 1, OUTER_LEVEL), ndtri(OUTER_LEVEL)
    return math.sqrt(1 + 1 / cases) * float(student / normal)
