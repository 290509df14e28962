"""Tests of scenarios."""

import tempfile
from pathlib import Path

import kindynos as kd
from tests.common import Case, investment


class Stating(Case):
    def test_scenarios_in_a_file(self):
        model = investment()
        model.scenario("dear yard", price=320.0, flow=kd.Normal(85, 10))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(model.to_toml(), encoding="utf-8")
            loaded = kd.load_model(path)
            path.write_text(model.to_toml() + "\n[scenarios.n_failed]\nfre = 3", encoding="utf-8")
            with self.fails("scenarios.n_failed", "fre", kind=kd.FileError):
                kd.load_model(path)
        self.assertEqual(loaded.scenarios, model.scenarios)
        compared = loaded.compare(trials=500, seed=1)
        self.assertEqual(compared.scenarios, ["as stated", "dear yard"])

    def test_mistakes(self):
        model = investment()
        model.scenario("a", price=320.0)
        model.scenario("a", price=320.0)
        for call, words in (
            (lambda: model.scenario("a", price=1.0), ("there already",)),
            (lambda: model.scenario("b", prise=1.0), ("'b'", "'prise'", "did you mean 'price'")),
            (lambda: model.scenario("b", net_value=1.0), ("is a line",)),
            (lambda: investment().compare(), ("no scenarios",)),
            (
                lambda: model.compare({"x": {}, "y": {"hurdel": 0.1}}),
                ("'y'", "did you mean 'hurdle'"),
            ),
            (lambda: model.compare({"x": {}}, 100), ("at least two",)),
            (lambda: model.compare({"x": {}, "y": 3}), ("'y'", "replacements")),
            (lambda: kd.compare({"x": model.simulate(100), "y": 3}), ("'y'", "ReportedMean")),
            (lambda: kd.ReportedMean(1.0, sd=0.0, n=9), ("sd", "above 0")),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
