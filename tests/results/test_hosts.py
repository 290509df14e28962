"""What a program that hosts models needs: JSON and back, a log, and whether trials are the same."""

import io
import json
import logging
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import redirect_stderr

import numpy as np

import kindynos as kd
from tests.common import Case, investment
from tests.common import run as command


class Json(Case):
    def test_json_is_that_of_the_command(self):
        run = kd.load_model(kd.demo_file("night_ferry.toml")).simulate(2000, seed=4)
        file = str(kd.demo_file("night_ferry.toml"))
        printed = command("run", file, "--trials", "2000", "--seed", "4", "--json").stdout
        ours, theirs = json.loads(run.to_json()), json.loads(printed)
        for one in (ours, theirs):
            one.pop("origin", None)
        self.assertEqual(ours, theirs)

    def test_a_run_and_back(self):
        for name in ("night_ferry.toml", "vessel_claims.toml", "vessels.toml"):
            run = kd.load_model(kd.demo_file(name)).simulate(600, seed=4, sampling="random")
            again = kd.Run.from_json(run.to_json())
            for outcome in run.outcomes:
                np.testing.assert_array_equal(again[outcome].values, run[outcome].values)

    def test_what_is_not_the_json_of_a_run(self):
        text = investment().simulate(600, seed=1).to_json()
        for wrong in (
            "",
            "{",
            "[]",
            "null",
            '{"trials": 3}',
            text.replace('"seed": 1', '"seed": "x"'),
        ):
            with self.fails("JSON", kind=kd.FileError):
                kd.Run.from_json(wrong)
        with self.fails("its trials are others now", kind=kd.RunError):
            kd.Run.from_json(text.replace("Normal", "normal").replace("sd = 10", "sd = 11"))
        model = investment()

        @model.outcome
        def twice(flow):
            return 2 * flow

        with self.fails("has functions", "seed=1", kind=kd.RunError):
            kd.Run.from_json(model.simulate(600, seed=1).to_json())

    def test_every_result_has_json(self):
        model = investment()
        model.scenario("dear", price=330.0)
        for result in (
            model.simulate(600, seed=1),
            model.compare(trials=600, seed=1),
            model.sweep({"price": [280, 300]}, trials=600, seed=1),
            model.robustness("net_value", trials=600, seed=1),
        ):
            data = json.loads(result.to_json())
            self.assertTrue(data["schema"].startswith("kindynos."), result)

    def test_a_figure_keeps_its_interval(self):
        figure = investment().simulate(600, seed=1)["net_value"].mean
        data = json.loads(json.dumps(figure.to_dict()))
        self.assertEqual(data["value"], float(figure))
        self.assertEqual((data["low"], data["high"]), (figure.low, figure.high))
        self.assertIsNone(kd.Estimate(1.0).to_dict()["low"])


class Same(Case):
    def test_a_run_is_the_same_today(self):
        run = investment().simulate(9000, seed=1, workers=1)
        frame = run.verify()
        self.assertTrue(frame.attrs["same"] and frame["same"].all())

    def test_one_changed_value_shows(self):
        run = investment().simulate(9000, seed=1)
        for place in (0, -1):
            values = {name: array.copy() for name, array in run._values.items()}
            values["net_value"][place] += 1e-3
            other = kd.Run(run.program, run.drawing, values, run.provenance)
            frame = other.verify()
            self.assertFalse(frame.attrs["same"])
            self.assertFalse(frame.loc["net_value", "same"])
            self.assertTrue(frame.loc["flow", "same"])


class Log(Case):
    def test_start_end_and_warnings(self):
        model = kd.Model("Roots")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("root", "sqrt(x)")
        with self.assertLogs("kindynos", logging.INFO) as heard:
            run = model.simulate(600, seed=7)
        text = "\n".join(heard.output)
        self.assertIn("start: Roots, 600 trials, seed 7", text)
        self.assertRegex(text, r"end: Roots, 600 trials, seed 7, fingerprint [0-9a-f]{32}")
        self.assertIn(f"root: {run['root'].n_failed} of 600 trials have no value", text)

    def test_it_is_silent_for_others(self):
        model = kd.Model("Roots")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("root", "sqrt(x)")
        with redirect_stderr(io.StringIO()) as heard:
            model.simulate(300, seed=7)
        self.assertEqual(heard.getvalue(), "")


class Pools(Case):
    def test_many_small_models_in_threads(self):
        def mean(price):
            return float(investment(price=price).simulate(400, seed=1, workers=1)["net_value"].mean)

        prices = np.linspace(250, 350, 12).tolist()
        with ThreadPoolExecutor(4) as pool:
            self.assertEqual(list(pool.map(mean, prices)), [mean(price) for price in prices])


if __name__ == "__main__":
    unittest.main()
