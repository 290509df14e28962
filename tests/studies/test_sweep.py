"""Tests of sweep."""

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from importlib.resources import files

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case, investment, proof

FERRY_FILE = files("kindynos.demo").joinpath("night_ferry.toml")


@dataclass(frozen=True)
class Inputs:
    vessels: int = 1
    fare: float = 40.0


def profit(inputs: Inputs) -> float:
    return inputs.vessels * (inputs.fare - 30)


class OfModels(Case):
    def test_base_cases_are_those_of_single_models(self):
        model = kd.load_model(FERRY_FILE)
        swept = model.sweep(hurdle=[0.05, 0.08], fare=[50, 58, 60], statistic="base")
        grid = swept.grid("net_value")
        for hurdle in grid.index:
            for fare in grid.columns:
                single = (
                    model.replace(hurdle=hurdle, fare=fare).base_case().loc["net_value", "value"]
                )
                self.assertAlmostEqual(grid.loc[hurdle, fare], single, 4)
        self.assertEqual(swept.best("net_value")[["hurdle", "fare"]].tolist(), [0.05, 60])
        self.assertEqual(swept.best("net_value", more_is_better=False)["fare"], 50)
        with self.fails("more_is_better must be True, False or None"):
            swept.best("net_value", [])
        with self.fails("errors must be True or False"):
            swept.grid("net_value", errors=[])

    def test_drivers_and_parameters_of_their_laws(self):
        model = kd.load_model(FERRY_FILE)
        swept = model.sweep(
            {"vessel.mode": [18e6, 21e6], "energy": [0.1, 0.2]},
            outcome="net_value",
            statistic="base",
        )
        for row in swept.table().to_dict("records"):
            distribution = kd.Pert(17.5e6, row["vessel.mode"], 26e6)
            single = (
                model.replace(vessel=distribution, energy=[row["energy"]] * 15)
                .base_case()
                .loc["net_value", "value"]
            )
            self.assertAlmostEqual(row["net_value"], single, 4)

    def test_function_lines_are_swept_too(self):
        model = kd.Model("m", periods=3)
        model.given(price=2.0, amount=5.0)

        @model.line
        def sales(price, amount):
            return price * amount * np.ones((3, 1))

        model.outcome("y", "total(sales)")
        np.testing.assert_array_equal(model.sweep(price=[1, 2, 3]).values["y"], [15, 30, 45])

    @proof
    def test_a_simulated_statistic_has_its_error_on_the_same_draws(self):
        model = investment()
        swept = model.sweep(price=[300, 310, 340], statistic="chance above 0", trials=2000, seed=4)
        run = model.replace(price=310).simulate(2000, seed=4)
        chance = run["net_value"].chance(above=0)
        self.assertEqual(swept.values["net_value"][1], chance)
        self.assertAlmostEqual(swept.errors["net_value"][1], chance.error)
        means = model.sweep(
            price=[300, 310], statistic=lambda result: result.mean, trials=500, seed=4
        ).values["net_value"]
        self.assertAlmostEqual(means[0] - means[1], 10, 9)
        with ProcessPoolExecutor(1) as pool:
            again = model.sweep(
                price=[300, 310, 340],
                statistic="chance above 0",
                trials=2000,
                seed=4,
                executor=pool,
            )
        pd.testing.assert_frame_equal(again.table(), swept.table())

    def test_points_on_draws_made_once_are_those_of_runs_of_their_own(self):
        model = investment()
        for plan in ("latin", "random", "sobol"):
            for statistic in ("percentile 5", "chance below 0", "mean"):
                found = model.sweep(
                    price=[280.0, 310.0], hurdle=[0.05, 0.1], statistic=statistic,
                    trials=1_200, seed=4, sampling=plan,
                )  # fmt: skip
                for place, point in enumerate(found.points.to_dict("records")):
                    own = model.replace(**point).simulate(1_200, 4, sampling=plan)["net_value"]
                    name = statistic.split()[0]
                    figure = {
                        "percentile": lambda own=own: own.percentile(5),
                        "chance": lambda own=own: own.chance(below=0),
                        "mean": lambda own=own: own.mean,
                    }[name]()
                    self.assertEqual(found.values["net_value"][place], float(figure))
                    self.assertEqual(found.errors["net_value"][place], figure.error)

    def test_simulated_points_can_be_stopped(self):
        seen = []
        with self.fails("stopped after 2 of 4 points"):
            investment().sweep(
                price=[280.0, 290.0, 300.0, 310.0], statistic="mean", trials=400, seed=1,
                progress=lambda done, total: seen.append((done, total)) or done < 2,
            )  # fmt: skip
        self.assertEqual(seen, [(1, 4), (2, 4)])

    def test_what_cannot_be_swept(self):
        model = investment()
        model.given("row", [1, 2, 3, 4, 5])
        for over, options, words in (
            ({"net_value": [1]}, {}, ("is a line",)),
            ({"prise": [1]}, {}, ("did you mean 'price'",)),
            ({"row": [1]}, {}, ("is a row",)),
            ({"flow.sdd": [1]}, {}, ("'sdd'", "did you mean 'sd'")),
            ({"price.low": [1]}, {}, ("given figure",)),
            ({"price": "3"}, {}, ("list of values",)),
            ({"price": []}, {}, ("no values",)),
            ({"price": [np.nan]}, {}, ("a value of price", "finite")),
            ({}, {}, ("nothing to vary",)),
            ({"price": range(2000), "hurdle": range(2000)}, {}, ("4,000,000 points",)),
            ({"price": [1]}, {"outcome": "net_valu"}, ("did you mean 'net_value'",)),
            ({"price": [1]}, {"outcome": "cash_flow"}, ("is a row",)),
            ({"price": [1]}, {"statistic": "meen"}, ("did you mean 'mean'",)),
            ({"price": [1]}, {"statistic": "percentile"}, ("percentile 5",)),
            ({"price": [1]}, {"statistic": "chance over 3"}, ("chance above 0",)),
            ({"flow.sd": [-1]}, {"statistic": "mean"}, ("at flow.sd=-1", "above 0")),
        ):
            with self.subTest(over=over, options=options), self.fails(*words):
                model.sweep(over, **options)


class OfFunctions(Case):
    def test_plain_functions_and_dataclasses(self):
        swept = kd.sweep(
            lambda vessels, fare=2.0: {"sales": vessels * fare, "fare": fare}, vessels=[1, 2, 3]
        )
        self.assertEqual(swept.outputs, ["sales", "fare"])
        np.testing.assert_array_equal(swept.values["sales"], [2, 4, 6])
        grid = kd.sweep(profit, base=Inputs(vessels=3), fare=[40, 50], workers=2).values["profit"]
        np.testing.assert_array_equal(grid, [30, 60])
        answer = []
        kd.sweep(
            profit,
            base=Inputs(),
            points={"vessels": [1, 2], "fare": [50, 60]},
            progress=lambda *n: answer.append(n),
        )
        self.assertEqual(answer, [(1, 2), (2, 2)])

    def test_mistakes(self):
        for call, words in (
            (lambda: kd.sweep(profit, base=Inputs(), fair=[1]), ("'fair'", "did you mean 'fare'")),
            (lambda: kd.sweep(profit, base=3, fare=[1]), ("dataclass",)),
            (lambda: kd.sweep(lambda a, b: a, a=[1]), ("needs b",)),
            (lambda: kd.sweep(lambda a: 1 / a, a=[1, 0]), ("a=0", "ZeroDivisionError")),
            (lambda: kd.sweep(lambda a: "x", a=[1]), ("one number",)),
            (lambda: kd.sweep(lambda a: a, a=[1], points={"a": [2]}), ("not both",)),
            (lambda: kd.sweep(lambda a: a, a=[1]).grid(), ("two inputs",)),
            (lambda: kd.sweep(lambda a: a, a=[1]).plot("b"), ("'b'",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


class Messages(Case):
    def test_sweeps_and_functions(self):
        grid = kd.sweep(lambda a, b: a * b, a=[1, 2], b=[3, 4])
        self.assertIn("4 points", repr(grid))
        with self.fails("'c' was not varied"):
            grid.grid(down="c")
        with self.fails("stopped after 1 of 2"):
            kd.sweep(lambda a: a, a=[1, 2], progress=lambda done, total: False)
        with self.fails("no point has a value"):
            kd.sweep(lambda a: np.nan, a=[1, 2]).best()
        with self.fails("no points"):
            kd.sweep(lambda a: a, points={"a": []})
        model = kd.Model.from_function(lambda a: "x", {"a": kd.Normal(0, 1)}, "y")
        with self.fails("could not convert", "with a="):
            model.compiled()
