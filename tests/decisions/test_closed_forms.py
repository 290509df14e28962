"""Errors of the worth of knowing, in closed form."""

import numpy as np

import kindynos as kd
from tests.common import Case

SD_OF_THE_BETTER = np.sqrt(0.5 - 1 / (2 * np.pi))  # of max(z, 0) with z standard normal


class Knowing(Case):
    def test_the_worth_of_a_quantity_and_its_error(self):
        # Go for a standard normal payoff, or stay for 0: knowing it first is worth E max(z, 0).
        decision = kd.Decision("x", {"go": "z", "stay": 0.0}, given={"z": kd.Normal(0, 1)})
        n = 40_000
        table = decision.perfect_information(trials=n, seed=1)
        worth, error = 1 / np.sqrt(2 * np.pi), 1.959964 * SD_OF_THE_BETTER / np.sqrt(n)
        for name in ("z", "everything"):
            self.assertAlmostEqual(table.loc[name, "worth"], worth, delta=0.02)
            self.assertAlmostEqual(table.loc[name, "error"], error, delta=0.03 * error)

    def test_a_test_that_is_bought(self):
        # Two states, two signals: Bayes' chances by hand.
        event = kd.Event("e", {"good": (0.4, 100.0), "bad": (0.6, -50.0)})
        decision = kd.Decision("x", {"go": event, "stay": 0.0})
        signals = {"yes": {"good": 0.8, "bad": 0.3}, "no": {"good": 0.2, "bad": 0.7}}
        found = decision.sample_information_value("e", signals)
        yes = 0.4 * 0.8 + 0.6 * 0.3
        value = max(0.4 * 0.8 * 100 - 0.6 * 0.3 * 50, 0) + max(0.4 * 0.2 * 100 - 0.6 * 0.7 * 50, 0)
        self.assertAlmostEqual(found.attrs["worth"], value - max(0.4 * 100 - 0.6 * 50, 0))
        self.assertAlmostEqual(found.loc["yes"].iloc[0], yes)
