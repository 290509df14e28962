"""Tests of statistic text."""

import contextlib

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.results.statistic_text import parse_statistic
from tests.common import Case, investment

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Words(Case):
    @quick
    @given(st.text(alphabet="abcdefghijklmnopqrstuvwxyz_ 0123456789.-", max_size=30))
    def test_statistics_asked_for_in_words(self, text):
        try:
            wanted = parse_statistic(text)
        except kd.ParameterError:
            return
        result = investment().simulate(250, seed=1)["net_value"]
        with contextlib.suppress(kd.KindynosError):
            self.assertIsInstance(float(wanted.read(result)), float)
