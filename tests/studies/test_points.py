"""Tests of many points on the same draws: the array evaluation gives what single runs give, to the
bit.
"""

from concurrent.futures import ProcessPoolExecutor
from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.results.simulate import SimulationOptions
from kindynos.studies import points as module
from kindynos.studies.points import Points
from tests.common import FERRY, Case, investment


def rich():
    """A model with rows, correlated drivers, a process, and a distribution whose parameter is a
    given figure.
    """
    model = kd.Model("Rich", periods=4)
    model.given(price=3.0, spread=2.0, cap=50.0)
    model.driver("sold", kd.Poisson(40))
    model.driver("rate", kd.Normal(0.1, 0.02))
    model.correlate("sold", "rate", 0.5)
    model.driver("shock", kd.Normal(0.0, "spread"), each="period")
    model.driver("index", kd.GeometricBrownianMotion(start=1.0, drift=0.0, volatility=0.1))
    model.line("flow", "price * min(sold, cap) * index + shock")
    model.outcome("worth", "npv(rate, flow, -300)")
    model.outcome("least", "lowest(flow)")
    return model


class Counting(ProcessPoolExecutor):
    count = 0

    def submit(self, *arguments, **options):
        self.count += 1
        return super().submit(*arguments, **options)


class Evaluation(Case):
    def check(self, model, names, points, outcomes, sampling="latin", trials=300):
        found = list(
            Points(model._statement, names, outcomes, SimulationOptions(trials, 7, sampling)).at(
                points
            )
        )
        self.assertEqual(len(found), len(points))
        for point, results in zip(points, found, strict=True):
            run = model.replace(**dict(zip(names, point, strict=True))).simulate(
                trials, seed=7, sampling=sampling
            )
            for name in outcomes:
                np.testing.assert_array_equal(results[name].values, run[name].values, str(point))
                self.assertEqual(results[name].mean.error, run[name].mean.error)
                self.assertEqual(
                    (results[name].unit, results[name].target), (run[name].unit, run[name].target)
                )

    def test_given_figures(self):
        for sampling in ("latin", "random", "sobol", "antithetic"):
            with self.subTest(sampling=sampling):
                points = [(3.0, 50.0), (4.0, 50.0), (2.5, 30.0)]
                self.check(rich(), ("price", "cap"), points, ("worth", "least"), sampling)

    def test_trials_without_a_value_are_errors_where_they_are_to_be(self):
        """Also where all values are tried on draws that are made once."""
        model = kd.Model("roots")
        model.given(fare=3.0)
        model.driver("sold", kd.Normal(0, 1))
        model.outcome("worth", "fare * log(sold)")
        options = {"trials": 400, "seed": 3, "on_bad": "error"}
        with self.fails("is not a number in trial"):
            model.solve("fare", outcome="worth", mean=0, within=(1, 9), **options)
        with self.fails("is not a number in trial"):
            model.optimize({"fare": (1, 9)}, maximize="mean worth", evaluations=20, **options)

    def test_an_executor_works_out_the_same(self):
        """All batches of a search go to it, and not only the run at its end."""
        model = kd.Model("fare")
        model.given(fare=3.0)
        model.driver("sold", kd.Normal(40, 5))
        model.outcome("worth", "fare * (sold - 4 * fare)")
        options = {"maximize": "mean worth", "trials": 500, "evaluations": 24, "seed": 3}
        here = model.optimize({"fare": (1, 9)}, **options)
        with Counting(2) as executor:
            there = model.optimize({"fare": (1, 9)}, executor=executor, **options)
        self.assertEqual(here.decisions, there.decisions)
        self.assertEqual(float(here.objective), float(there.objective))
        self.assertGreater(executor.count, 15)

    def test_a_given_figure_that_is_a_parameter(self):
        self.check(rich(), ("spread", "price"), [(2.0, 3.0), (5.0, 3.0)], ("least",))

    def test_drivers_and_their_parameters_are_single_runs(self):
        self.check(rich(), ("rate.mean",), [(0.1,), (0.05,)], ("worth",))
        self.check(rich(), ("rate",), [(0.1,), (0.05,)], ("worth",))

    def test_the_night_ferry(self):
        model = kd.load_model(FERRY)
        self.check(
            model,
            ("fare", "crossings"),
            [(54.0, 680.0), (60.0, 600.0)],
            ("net_value", "rate_of_return"),
            trials=200,
        )

    def test_in_small_parts_and_drawn_again(self):
        model, points = rich(), [(float(price), 50.0) for price in range(1, 8)]
        with (
            mock.patch.object(module, "MOST_VALUES", 500),
            mock.patch.object(module, "TOGETHER", 100),
        ):
            self.check(model, ("price", "cap"), points, ("worth",))

    def test_function_lines_of_single_trials(self):
        model = kd.Model("Single")
        model.given(order=3.0)
        model.driver("demand", kd.Normal(5, 1))

        @model.line(each_trial=True)
        def sold(order, demand):
            return min(order, demand)

        model.outcome("profit", "2 * sold - order")
        self.check(model, ("order",), [(3.0,), (5.0,)], ("profit",), trials=250)

    def test_an_error_names_the_point(self):
        model = investment()
        with self.fails("optimize: at flow.sd=-1", "sd must be"):
            list(
                Points(
                    model._statement, ("flow.sd",), ("net_value",), SimulationOptions(200, 1)
                ).at([(-1.0,)])
            )
