"""Declaring models: base values, targets, and functions of dataclasses."""

from dataclasses import dataclass

import numpy as np

import kindynos as kd
from kindynos.model.file import model_from_text
from tests.common import Case, investment


@dataclass(frozen=True)
class Deal:
    price: float = 100.0
    fee: float = 3.0
    label: str = "deal"


@dataclass(frozen=True)
class Answer:
    gain: float
    cost: float


def settle(deal: Deal) -> Answer:
    return Answer(deal.price - deal.fee, deal.fee)


class BaseValues(Case):
    def test_the_likeliest_value_as_the_base(self):
        model = kd.Model("Opinion")
        model.driver("cost", kd.Triangular(4, 5, 30), base="mode", source="one opinion")
        model.outcome("spent", "cost + 1")
        self.assertEqual(model.base_case().loc["spent", "value"], 6)
        self.assertTrue(model.check().empty)
        plain = kd.Model("Opinion")
        plain.driver("cost", kd.Triangular(4, 5, 30), source="one opinion")
        plain.outcome("spent", "cost + 1")
        self.assertEqual(plain.base_case().loc["spent", "value"], 14)
        self.assertIn("base = 'mode' for its likeliest value 5", plain.check()["finding"].iloc[0])
        with self.fails("driver 'x'", "stated mode"):
            plain.driver("x", kd.Normal(0, 1), base="mode")

    def test_an_unknown_argument_has_its_nearest_spelling(self):
        with self.fails("did you mean 'periods'", kind=kd.ParameterError):
            kd.Model("x", period=3)


class Targets(Case):
    def test_a_target_that_is_a_given_figure_changes_with_it(self):
        model = investment()
        model.given(aim=20.0)
        model.outcome("again", "net_value + 0", target="aim")
        run = model.simulate(2000, seed=1)
        self.assertEqual(run["again"].target, 20)
        self.assertIn("chance above 20", run.table().loc["again"].index)
        self.assertEqual(model.replace(aim=25.0).simulate(100, seed=1)["again"].target, 25)
        self.assertEqual(model_from_text(model.to_toml()).quantities["again"].target, "aim")
        model.outcome("wrong", "net_value", target="flow")
        with self.fails("outcome 'wrong'", "the target 'flow' is not a given figure"):
            model.simulate(10)


class Dataclasses(Case):
    def test_a_function_of_a_dataclass_that_returns_one(self):
        drivers = {"price": kd.Normal(120, 10)}
        model = kd.Model.from_function(
            settle, drivers, ["gain", "cost"], given={"fee": 5.0}, base=Deal()
        )
        run = model.simulate(500, seed=1)
        np.testing.assert_allclose(run["gain"].values, run["price"].values - 5)
        np.testing.assert_allclose(run["cost"].values, 5)
        with self.fails("the dataclass has no field 'prize'", "did you mean 'price'"):
            kd.Model.from_function(settle, {"prize": kd.Normal(120, 10)}, "gain", base=Deal())
        with self.fails("base must be an instance of a dataclass"):
            kd.Model.from_function(settle, drivers, "gain", base=Deal)
