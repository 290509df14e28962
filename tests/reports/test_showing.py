"""Tests of show(): a result printed as its command prints it."""

import contextlib
import io
import os
from unittest import mock

import kindynos as kd
from tests.common import DEMO, Case, investment, run


class Showing(Case):
    def shown(self, result) -> str:
        out = io.StringIO()
        with contextlib.redirect_stdout(out), mock.patch.dict(os.environ, {"COLUMNS": "80"}):
            result.show()
        return out.getvalue()

    def test_a_decision_and_a_ranking_are_no_walls(self):
        decision = kd.load_decision(DEMO / "lease_or_buy.toml")
        solution = decision.solve()
        self.assertIn("'Night ferry': buy, worth 3,620,000", repr(solution))
        self.assertIn("What it would be worth to know", self.shown(solution))
        with mock.patch.dict(os.environ, {"COLUMNS": "80"}):
            printed = run("decide", str(DEMO / "lease_or_buy.toml")).stdout
        self.assertEqual(self.shown(solution), printed)
        ranking = kd.fit_distributions(
            kd.read_values(DEMO / "repair_bills.csv"), ["normal", "lognormal"], samples=19
        )
        self.assertEqual(repr(ranking), "<2 distributions for 40 values, best 'lognormal'>")
        self.assertIn("Anderson-Darling", self.shown(ranking))

    def test_runs_and_studies_fit_eighty_columns_with_their_errors(self):
        model = investment()
        made = model.simulate(1000, seed=1)
        studies = (
            made,
            model.compare({"now": {}, "dear": {"price": 310.0}}, trials=400, seed=1),
            model.sweep(price=[290.0, 300.0]),
            model.solve("price", "net_value", mean=0.0, within=(200, 500), trials=400, seed=1),
            model.optimize(
                {"price": [290.0, 300.0]}, maximize="mean net_value", trials=400, seed=1
            ),
        )
        for result in studies:
            text = self.shown(result)
            self.assertLessEqual(max(map(len, text.splitlines())), 80, result)
        self.assertIn("±", self.shown(made))
        with self.fails("has no report for 3"):
            from kindynos.reports.showing import report_of

            report_of(3)
