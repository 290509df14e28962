"""Tests of sweep values."""

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kindynos.cli.types import named, values
from tests.common import Case

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Values(Case):
    @quick
    @given(st.text(alphabet="abc=:,.-e0123456789 ", max_size=20))
    def test_values_to_sweep_are_read_or_refused(self, text):
        try:
            _, stated = named(values)(text)
        except ValueError:
            return
        self.assertTrue(stated)

    @quick
    @given(st.floats(-1e3, 1e3), st.floats(1e-3, 10), st.integers(0, 200))
    def test_ranges_end_where_they_say(self, low, step, count):
        high = low + count * step
        stated = values(f"{low!r}:{high!r}:{step!r}")
        self.assertIn(len(stated), (count, count + 1))
        self.assertLessEqual(stated[-1], high + 1e-6 * max(abs(high), 1))
