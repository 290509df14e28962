"""Tests of allocations and optima as a terminal shows them."""

import json

import kindynos as kd
from kindynos.reports import allocation, optimum
from kindynos.reports.console import console
from tests.common import HELD, Case, investment


def text(group, width=140):
    shown = console(width)
    with shown.capture() as captured:
        shown.print(group)
    return " ".join(captured.get().split())


class Allocations(Case):
    def test_all_its_tables(self):
        best = kd.allocate(HELD, limits={"sd": 0.02}, bounds=(0.05, 0.8), cost=0.001)
        curve = kd.frontier(HELD, bounds=(0.05, 0.8), cost=0.001)
        compared = best.compare(trials=500, seed=1)
        sure, walked = best.resampled(20), best.walk_forward(window=200)
        shown = text(allocation.allocated(best, curve, compared, sure, walked))
        for words in (
            "Weights: the highest mean with sd at most 0.02",
            "trade in money",
            "Figures each day",
            "best, a year",
            "What holds the weights back: the mean a year",
            "The frontier of mean and sd, each day: its corners",
            "Before and after over 1 day, on the same 500 draws",
            "How sure are these weights? 20 resampled histories",
            "Out of sample:",
            "Starts from",
            "draw days one by one",
        ):
            self.assertIn(words, shown)
        data = json.loads(allocation.allocated(best, curve, compared, sure, walked).json())
        self.assertAlmostEqual(sum(data["weights"].values()), 1)
        self.assertEqual(len(data["resampled"]), 3)
        self.assertIn("out of sample", data["verdict"])

    def test_moments_alone(self):
        moments = kd.Moments([0.04, 0.08], [[0.01, 0.0], [0.0, 0.04]], names=["bond", "share"])
        best = kd.allocate(moments, minimize="parity")
        shown = text(allocation.allocated(best, kd.frontier(moments)))
        self.assertIn("Weights: equal contributions to risk", shown)
        self.assertNotIn("Before and after", shown)
        with self.fails("a portfolio needs prices"):
            allocation.holdings_table(best)

    def test_holdings_to_go_on_with(self):
        best = kd.allocate(HELD, minimize="sd")
        table = allocation.holdings_table(best).set_index("instrument")["shares"]
        again = kd.Portfolio(HELD.prices, shares=table.to_dict())
        self.assertAlmostEqual(again.value, HELD.value, places=2)
        self.assertAlmostEqual(
            float((again.weights - best.weights[again.weights.index]).abs().max()), 0, places=6
        )


class Optima(Case):
    def test_decisions_and_constraints(self):
        found = investment().optimize(
            {"price": (200, 400)},
            maximize="mean net_value",
            subject_to="chance below 0 of net_value <= 0.9",
            trials=300,
            seed=1,
            evaluations=12,
        )
        shown = text(optimum.optimum(found))
        for words in (
            "Highest mean of net value, EUR",
            "price 200",
            "Constraints",
            "does not bind",
            "the end of its range, 200",
        ):
            self.assertIn(words, shown)
        data = json.loads(optimum.optimum(found).json())
        self.assertEqual((data["decisions"]["price"]["value"], data["maximize"]), (200.0, True))
        self.assertEqual(len(data["evaluations"]), len(found.evaluations))
        self.assertIn("highest mean of net_value at price = 200", repr(found))

    def test_a_chance_is_shown_as_per_cent(self):
        found = investment().optimize(
            {"price": (330, 350)},
            minimize="chance below 0 of net_value",
            trials=300,
            seed=1,
            evaluations=12,
        )
        self.assertIsNone(found.unit)
        self.assertRegex(text(optimum.optimum(found)), r"chance below 0 of net value \d+\.?\d* %")
