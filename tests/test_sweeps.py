"""Sweeps and goals against single evaluations and closed forms."""

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from importlib.resources import files

import matplotlib as mpl
import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import stats

import kindynos as kd
from tests.common import Case, investment

mpl.use("Agg")
FERRY = files("kindynos.demo").joinpath("night_ferry.toml")
FACTOR = sum(1.1**-t for t in range(1, 6))


@dataclass(frozen=True)
class Inputs:
    vessels: int = 1
    fare: float = 40.0


def profit(inputs: Inputs) -> float:
    return inputs.vessels * (inputs.fare - 30)


class OfModels(Case):
    def test_base_cases_are_those_of_single_models(self):
        model = kd.load_model(FERRY)
        swept = model.sweep(hurdle=[0.05, 0.08], fare=[50, 58, 60])
        grid = swept.grid("net_value")
        for hurdle in grid.index:
            for fare in grid.columns:
                single = model.replace(hurdle=hurdle, fare=fare).base_case().loc["net_value", "value"]
                self.assertAlmostEqual(grid.loc[hurdle, fare], single, 4)
        self.assertEqual(swept.best("net_value")[["hurdle", "fare"]].tolist(), [0.05, 60])
        self.assertEqual(swept.best("net_value", more_is_better=False)["fare"], 50)

    def test_drivers_and_parameters_of_their_laws(self):
        model = kd.load_model(FERRY)
        swept = model.sweep({"vessel.mode": [18e6, 21e6], "energy": [0.1, 0.2]}, outcome="net_value")
        for row in swept.table().to_dict("records"):
            law = kd.Pert(17.5e6, row["vessel.mode"], 26e6)
            single = model.replace(vessel=law, energy=[row["energy"]] * 15).base_case().loc["net_value", "value"]
            self.assertAlmostEqual(row["net_value"], single, 4)

    def test_function_lines_are_swept_too(self):
        model = kd.Model("m", periods=3)
        model.given(price=2.0, amount=5.0)

        @model.line
        def sales(price, amount):
            return price * amount * np.ones((3, 1))

        model.outcome("y", "total(sales)")
        np.testing.assert_array_equal(model.sweep(price=[1, 2, 3]).values["y"], [15, 30, 45])

    def test_a_simulated_statistic_has_its_error_on_the_same_draws(self):
        model = investment()
        swept = model.sweep(price=[300, 310, 340], statistic="chance above 0", trials=2000, seed=4)
        run = model.replace(price=310).simulate(2000, seed=4)
        chance = run["net_value"].chance(above=0)
        self.assertEqual(swept.values["net_value"][1], chance)
        self.assertAlmostEqual(swept.errors["net_value"][1], chance.error)
        means = model.sweep(price=[300, 310], statistic=lambda result: result.mean, trials=500, seed=4).values["net_value"]
        self.assertAlmostEqual(means[0] - means[1], 10, 9)
        with ProcessPoolExecutor(1) as pool:
            again = model.sweep(price=[300, 310, 340], statistic="chance above 0", trials=2000, seed=4, executor=pool)
        pd.testing.assert_frame_equal(again.table(), swept.table())

    def test_what_cannot_be_swept(self):
        model = investment()
        model.given("row", [1, 2, 3, 4, 5])
        for over, options, words in (
            ({"net_value": [1]}, {}, ("is a line",)),
            ({"prise": [1]}, {}, ("did you mean 'price'",)),
            ({"row": [1]}, {}, ("is a row",)),
            ({"flow.sdd": [1]}, {}, ("'sdd'", "did you mean 'sd'")),
            ({"price.low": [1]}, {}, ("given figure",)),
            ({"price": 3}, {}, ("list of values",)),
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
        swept = kd.sweep(lambda vessels, fare=2.0: {"sales": vessels * fare, "fare": fare}, vessels=[1, 2, 3])
        self.assertEqual(swept.outputs, ["sales", "fare"])
        np.testing.assert_array_equal(swept.values["sales"], [2, 4, 6])
        grid = kd.sweep(profit, base=Inputs(vessels=3), fare=[40, 50], workers=2).values["profit"]
        np.testing.assert_array_equal(grid, [30, 60])
        told = []
        kd.sweep(profit, base=Inputs(), points={"vessels": [1, 2], "fare": [50, 60]}, progress=lambda *n: told.append(n))
        self.assertEqual(told, [(1, 2), (2, 2)])

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


class Pictures(Case):
    def draw(self, swept, **options):
        figure = Figure(layout="constrained")
        swept.plot(ax=figure.subplots(), **options)
        return figure

    def test_line_map_pairs_and_bins(self):
        line = self.draw(investment().sweep(price=[300, 310], statistic="mean", trials=300, seed=1))
        self.assertIn("300 trials, seed 1", line.axes[0].get_title(loc="left"))
        two = kd.sweep(lambda a, b: a - b, a=[1, 2], b=[3, 4, 5])
        heat = self.draw(two, labels={"a": "vessels"}, units={"b": "EUR"}, digits=1, more_is_better=False)
        ax = heat.axes[0]
        self.assertEqual((ax.get_ylabel(), ax.get_xlabel()), ("vessels", "b (EUR)"))
        self.assertEqual([text.get_text() for text in ax.texts], ["-2.0", "-3.0", "-4.0", "-1.0", "-2.0", "-3.0"])
        self.assertEqual(ax.patches[0].get_xy(), (1.5, -0.5))  # the lowest cell has the frame
        pairs = self.draw(kd.sweep(lambda a, b, c: a * b * c, a=[1, 2], b=[3, 4], c=[5, 6]))
        self.assertEqual(sum(bool(ax.images) for ax in pairs.axes), 3)
        scattered = np.random.default_rng(1).random((400, 2))
        cloud = kd.sweep(lambda a, b: a + b, points={"a": scattered[:, 0], "b": scattered[:, 1]})
        self.assertIn("in bins", self.draw(cloud).axes[0].get_xlabel())


class Goals(Case):
    def test_chance_mean_and_percentile_against_closed_forms(self):
        model = investment()
        options = {"within": (200.0, 500.0), "trials": 20_000, "seed": 2}
        chance = model.solve("price", "net_value", chance=0.8, above=0, **options)
        wanted = FACTOR * (90 + 10 * stats.norm.ppf(0.2))
        self.assertLess(abs(chance.value - wanted), 1.5 * chance.value.error)
        self.assertLessEqual(len(chance.evaluations), 25)
        mean = model.solve("price", "net_value", mean=10.0, **options)
        self.assertLess(abs(mean.value - (90 * FACTOR - 10)), 1e-4 * 300 + 1.5 * mean.value.error)
        low = model.solve("flow.mean", "net_value", percentile=5, equals=0, within=(60, 120), trials=20_000, seed=2)
        wanted = 300 / FACTOR - 10 * stats.norm.ppf(0.05)
        self.assertLess(abs(low.value - wanted), 1e-4 * 60 + 1.5 * low.value.error)

    def test_its_tolerance_and_count(self):
        model = kd.Model("m")
        model.given(x=1.0)
        model.driver("z", kd.Uniform(-0.5, 0.5))
        model.outcome("y", "exp(9 * x) + z")
        for goal in (2.0, 50.0, 5000.0):
            found = model.solve("x", "y", mean=goal, within=(0.0, 1.0), trials=1000, seed=1)
            self.assertAlmostEqual(float(found.value), np.log(goal) / 9, delta=2e-4)
            self.assertLessEqual(len(found.evaluations), 25)

    def test_a_goal_out_of_reach_says_what_is_reached(self):
        with self.fails("no price from 200 to 250", "chance above 0", "0.1", kind=kd.GoalError):
            investment().solve("price", "net_value", chance=0.1, above=0, within=(200, 250), trials=500, seed=1)

    def test_picture(self):
        found = investment().solve("price", "net_value", chance=0.5, above=0, within=(200, 500), trials=500, seed=1)
        ax = found.plot(ax=Figure().subplots())
        self.assertIn("50.0 %", ax.get_title(loc="left"))
        self.assertIn("reached at", " ".join(text.get_text() for text in ax.get_legend().get_texts()))

    def test_mistakes(self):
        model = investment()
        for options, words in (
            ({}, ("chance=0.8",)),
            ({"mean": 1.0, "chance": 0.5}, ("say one of",)),
            ({"chance": 0.5}, ("above= or below=",)),
            ({"chance": 80, "above": 0}, ("chance", "from 0 to 1")),
            ({"percentile": 5}, ("equals=",)),
            ({"mean": 1.0, "within": (3, 2)}, ("low and a high",)),
            ({"mean": 1.0, "name": "net_value"}, ("is a line",)),
            ({"mean": 1.0, "outcome": "net_valve"}, ("did you mean 'net_value'",)),
            ({"mean": 1.0, "outcome": "cash_flow"}, ("is a row",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                model.solve(**{"name": "price", "outcome": "net_value", "within": (1, 2), **options})
