"""Efficient decisions, against means and sds of sums of independent normals."""

from itertools import product

import numpy as np

import kindynos as kd
from kindynos.studies.frontier import efficient_of
from tests.common import Case, run

PROJECTS = {"a": (2.8, 4.0), "b": (2.0, 1.0), "c": (1.0, 3.0), "d": (4.5, 9.0), "e": (-1.0, 1.0)}


def pipeline():
    model = kd.Model("Pipeline")
    for name, (mean, sd) in PROJECTS.items():
        model.given(f"do_{name}", 0)
        model.driver(name, kd.Normal(mean, sd))
    terms = " + ".join(f"do_{name} * {name}" for name in PROJECTS)
    model.outcome("value", terms, unit="EUR", target=0)
    model.outcome("cost", f"-({terms})", unit="EUR", better="low")
    return model


def exact():
    """The efficient sets, by all means and sds."""
    sets = list(product((0.0, 1.0), repeat=len(PROJECTS)))
    moments = np.array(list(PROJECTS.values()))
    values = np.array(
        [(row @ moments[:, 0], -np.sqrt(row @ moments[:, 1] ** 2)) for row in np.array(sets)]
    )
    better = [
        any((other >= one).all() and (other > one).any() for other in values) for one in values
    ]
    return {one for one, beaten in zip(sets, better, strict=True) if not beaten}


class Frontier(Case):
    def test_of_all_sets_the_efficient_ones_are_found(self):
        decisions = {f"do_{name}": [0, 1] for name in PROJECTS}
        found = pipeline().frontier(
            decisions, "mean value", against="sd value", trials=10_000, seed=1
        )
        self.assertTrue(found.tried_all)
        self.assertEqual(found.more, (True, False))
        rows = {tuple(row) for row in found.table[list(decisions)].to_numpy()}
        self.assertEqual(rows, exact())
        self.assertEqual(len(found.table) + len(found.dominated), 32)
        row = found.table.iloc[-1]
        means, sds = np.array(list(PROJECTS.values()))[:4].T
        self.assertAlmostEqual(row["mean of value"], means.sum(), delta=0.1)
        self.assertAlmostEqual(row["sd of value"], np.sqrt(sds @ sds), delta=0.2)
        lost = found.dominated.set_index(list(decisions)).loc[(1, 0, 0, 0, 0), "dominated by"]
        self.assertIn("do_b 1", lost)

    def test_the_worse_side_is_known_of_costs_chances_and_losses(self):
        decisions = {"do_a": [0, 1], "do_b": [0, 1]}
        for what, against, more in (
            ("mean cost", "percentile 95 of cost", (False, False)),
            ("percentile 5 of value", "chance below 0 of value", (True, False)),
            ("chance above 0 of value", "expected_shortfall 0.95 of value", (True, False)),
            ("chance above 0 of cost", "sd cost", (False, False)),
        ):
            with self.subTest(what=what):
                found = pipeline().frontier(decisions, what, against, trials=400, seed=1)
                self.assertEqual(found.more, more)

    def test_a_range_is_searched_along_the_frontier(self):
        """A share in a market: the mean grows with it as the sd does, so that all are efficient."""
        model = kd.Model("Share")
        model.given(share=0.5)
        model.driver("market", kd.Normal(0.06, 0.2))
        model.outcome("value", "0.02 + min(share, 1) * (market - 0.02)")
        found = model.frontier(
            {"share": (0, 1.5)}, "mean value", "sd value", evaluations=60, trials=1000, seed=1
        )
        table = found.table
        self.assertGreater(len(table), 6)
        share = np.minimum(table["share"], 1)
        np.testing.assert_allclose(table["sd of value"], 0.2 * share, rtol=0.05)
        np.testing.assert_allclose(table["mean of value"], 0.02 + 0.04 * share, atol=1e-3)
        self.assertLess(np.diff(share).max(), 0.25)
        self.assertLessEqual((table["share"] > 1).sum(), 1)

    def test_values_in_order(self):
        generator = np.random.default_rng(1)
        values = generator.normal(size=(200, 2)).round(1)
        places = efficient_of(values)
        for place, one in enumerate(values):
            beaten = ((values >= one).all(axis=1) & (values > one).any(axis=1)).any()
            if place in places:
                self.assertFalse(beaten)
            elif not beaten:  # the same as one that is there
                self.assertTrue((values[places] == one).all(axis=1).any())

    def test_mistakes_get_one_message(self):
        with self.fails("say a statistic and an outcome"):
            pipeline().frontier({"do_a": [0, 1]}, "mean value", "value")
        with self.fails("set against itself"):
            pipeline().frontier({"do_a": [0, 1]}, "mean value", "mean of value")
        wrong = run(
            "optimize", kd.demo_file("best_fare.toml"), "--vary", "fare=40,50", "--maximize",
            "mean net_value", "--frontier", "sd net_value", "--subject-to", "sd net_value <= 1",
        )  # fmt: skip
        self.assertEqual(wrong.returncode, 2)
        self.assertIn("--frontier goes with one of", wrong.stderr)
