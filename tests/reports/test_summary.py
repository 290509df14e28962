"""Tests of summary."""

import json

import kindynos as kd
from kindynos.reports.summary import as_json, summary
from tests.common import Case


def failing() -> kd.Run:
    model = kd.Model("Partly failing", periods=2, start="2028-Q4", every="quarter")
    model.driver("x", kd.Uniform(-1, 3))
    model.driver("noise", kd.Normal(0, 1), each="period")
    model.outcome("root", "sqrt(x)", target=1)
    model.outcome("level", "x + noise", unit="m")
    model.outcome("never", "1 / 0 + 0 * x")
    return model.simulate(4000, seed=2)


class Machines(Case):
    def test_summary_is_json_without_gaps(self):
        data = json.loads(as_json(summary(failing())))
        self.assertEqual(data["outcomes"]["root"]["trials without a value"]["value"], 1000)
        self.assertEqual(data["outcomes"]["never"]["mean"]["value"], "infinity")
        self.assertIsNone(data["outcomes"]["root"]["lowest"]["error"])
        self.assertIn("level 2029 Q1", data["outcomes"])
        self.assertEqual(data["units"]["level"], "m")
        self.assertEqual(data["failed trials"], {"root": 1000})
