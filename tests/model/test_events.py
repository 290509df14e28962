"""Events with a date, against products of their chances."""

import kindynos as kd
from kindynos.model.file import model_from_text
from tests.common import Case

FILE = """
[model]
name = "Pier"
periods = 4
start = 2027

[given]
rate = 0.5
spend = 100

[events.permit]
when = [2027, 2030]
chance = 0.8

[events.grant]
when = [2028, 2029]
chance = "rate"
brings = "rate * spend"
needs = "permit"
unit = "EUR"

[events.storm]
when = 3
chance = 0.1
brings = "exponential 50 EUR"

[outcomes]
funds = "total(grant)"
late = "at(grant, 3)"
damage = "at(storm, 3)"
elsewhere = "total(storm) - at(storm, 3)"
"""


class Events(Case):
    def test_what_they_bring_and_need(self):
        model = model_from_text(FILE)
        run = model.simulate(40_000, seed=1)
        # the permit comes in 2027, and so in time, in 0.8 / 2 of the trials
        for name, chance, amount in (("funds", 0.2, 50), ("late", 0.1, 50), ("damage", 0.1, None)):
            with self.subTest(name=name):
                share = run[name].chance(above=0)
                self.assertAlmostEqual(float(share), chance, delta=1.5 * share.error)
                if amount:
                    self.assertEqual(set(run[name].values.tolist()), {0.0, amount})
        mean = run["damage"].mean
        self.assertAlmostEqual(float(mean), 0.1 * 50, delta=1.5 * mean.error)
        self.assertFalse(run["elsewhere"].values.any())
        self.assertEqual(run["damage"].unit, None)
        again = model_from_text(model.to_toml())
        self.assertEqual(
            again.simulate(500, seed=2)["funds"].values.tolist(),
            model.simulate(500, seed=2)["funds"].values.tolist(),
        )

    def test_what_follows_when_all_is_certain(self):
        model = kd.Model("m", periods=3)
        model.event("first", 2)
        model.event("second", 1, brings=5, needs="first")
        model.event("third", 3, brings=kd.Normal(7, 1).clip(7, 7.5), needs=["first"])
        model.outcome("second_total", "total(second)")
        model.outcome("third_total", "total(third)")
        run = model.simulate(200, seed=1)
        self.assertFalse(run["second_total"].values.any())  # before what it needs
        self.assertEqual(run["third_total"].values.min(), 7)
        self.assertEqual(run["third_total"].values.max(), 7.5)

    def test_no_driver_of_an_event_is_said_to_change_nothing(self):
        model = model_from_text(FILE.replace('chance = "rate"', "chance = 0.5"))
        findings = set(model.check()["name"])
        self.assertFalse({"storm_brings", "grant_comes", "permit_comes"} & findings)

    def test_mistakes(self):
        model = kd.Model("m", periods=3, start=2027)
        for arguments, words in (
            (("a", 4), ("event 'a'", "when must be a period, from 1 to 3 or its label, not 4")),
            (("a", []), ("when must be a period",)),
            (("a", 1, 1.5), ("probability",)),
            (("total of", 1), ("total of",)),
        ):
            with self.subTest(arguments=arguments), self.fails(*words):
                model.event(*arguments)
        with self.fails("needs 'b', which is no event"):
            model.event("a", 1, needs="b")
        with self.fails("the model needs periods="):
            kd.Model("m").event("a", 1)
        with self.fails("[events.grant]", "needs 'permitt'"):
            model_from_text(FILE.replace('needs = "permit"', 'needs = "permitt"'))
        with self.fails("[events.storm]", "no distribution 'pret'; did you mean 'pert'?"):
            model_from_text(FILE.replace('brings = "exponential 50 EUR"', 'brings = "pret 1 2 3"'))
