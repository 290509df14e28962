"""Applying a track record to a new opinion."""

from __future__ import annotations

from kindynos.distributions.base import Distribution
from kindynos.distributions.recalibrated import Recalibrated
from kindynos.errors import ParameterError
from kindynos.fitting.track_record import FEWEST, TrackRecord
from kindynos.validate import checked, instance


@checked
def recalibrated(opinion: Distribution, record: TrackRecord) -> Recalibrated:
    """Return an opinion as a track record corrects it; see ``Distribution.recalibrated``."""
    instance("record", record, TrackRecord, "a record, as kd.track_record makes it")
    if not record.enough:
        raise ParameterError(
            f"{len(record.cases)} cases are too few to tell a bias and a widening; {FEWEST} are "
            "needed"
        )
    return Recalibrated(opinion, float(record.bias), float(record.widening))
