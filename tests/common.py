"""What several tests share."""

import unittest
from contextlib import contextmanager

import kindynos as kd


class Case(unittest.TestCase):
    """A test case with a check on error messages."""

    @contextmanager
    def fails(self, *fragments: str, kind: type[Exception] = kd.KindynosError):
        """Expect an error whose message holds all the fragments."""
        with self.assertRaises(kind) as caught:
            yield
        for fragment in fragments:
            self.assertIn(fragment, str(caught.exception))


def investment(**changes) -> kd.Model:
    """A small investment whose net value is normal: a price, and five yearly flows with a normal driver."""
    model = kd.Model("Small investment", periods=5, start=2030)
    model.given(hurdle=0.1, price=300.0)
    model.driver("flow", kd.Normal(90, 10), unit="EUR")
    model.line("cash_flow", "flow + 0 * period")
    model.outcome("net_value", "npv(hurdle, cash_flow, -price)", unit="EUR", target=0)
    return model.replace(**changes) if changes else model
