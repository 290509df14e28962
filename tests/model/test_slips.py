"""Slips that formulas show: each is found, and right models are silent."""

import kindynos as kd
from kindynos.model.file import model_from_text
from tests.common import Case
from tests.units.models import read


def model(**lines):
    """Return a model of fifteen years with these lines, the last of which is its outcome."""
    made = kd.Model("Ferry", periods=15, start="2028")
    made.given(price=10.0, paid=100.0, year_end=2035)
    made.driver("sales", kd.Normal(50, 5))
    made.given(fx=1.1)
    *others, outcome = lines
    for name in others:
        made.line(name, lines[name])
    made.outcome(outcome, lines[outcome], unit="EUR", target=0)
    return made


def said(made):
    table = made.check()
    return [f"{n}: {t}" for n, t in zip(table["name"], table["finding"], strict=True)]


class Found(Case):
    def check(self, words, made, right):
        self.assertTrue(any(words in text for text in said(made)), said(made))
        self.assertFalse(any(words in text for text in said(right)), said(right))

    def test_an_initial_flow_with_the_sign_of_all_others(self):
        flows = "every_period(price * sales)"
        self.check(
            "the initial flow of npv is above 0",
            model(flows=flows, value="npv(0.05, flows, paid)"),
            model(flows=flows, value="npv(0.05, flows, -paid)"),
        )
        costs = model(flows=flows, value="npv(0.05, flows, paid)")
        costs.outcome("cost", "npv(0.05, flows, paid)", unit="EUR", better="low")
        self.assertFalse(any(text.startswith("cost: the initial") for text in said(costs)))

    def test_a_comparison_that_never_holds(self):
        for wrong, right in (
            ("period == 20", "period == 15"),
            ("period > 15", "period >= 15"),
            ("year == 2050", "year == 2042"),
            ("year > year_end + 10", "year > year_end"),
        ):
            with self.subTest(wrong):
                sale = "price * 3 if {} else 0".format
                self.check(
                    "holds in none of the 15 periods",
                    model(sale=sale(wrong), value="total(sale) + sales"),
                    model(sale=sale(right), value="total(sale) + sales"),
                )

    def test_a_line_counted_twice(self):
        crew = {"crew": "paid * 0.2", "costs": "crew + paid"}
        self.check(
            "value: counts crew twice: as a term and within costs",
            model(**crew, value="sales - costs - crew"),
            model(**crew, value="sales - costs"),
        )
        undone = model(**crew, value="sales - costs + crew")  # taken out again
        self.assertFalse(any("twice" in text for text in said(undone)))

    def test_a_balance_added_up(self):
        debt = {"repaid": "every_period(price)", "debt": "previous(debt, paid) - repaid"}
        self.check(
            "total adds up debt, a balance",
            model(**debt, value="total(debt) + sales"),
            model(**debt, value="last(debt) + sales"),
        )
        owed = {"repaid": "every_period(price)", "owed": "paid - running_total(repaid)"}
        self.check(
            "npv adds up owed, a balance",
            model(**owed, value="npv(0.05, repaid - owed) + sales"),
            model(**owed, value="npv(0.05, repaid - change(owed)) + sales"),
        )
        grown = model(wage="previous(wage, price) * 1.02", value="total(wage) + sales")
        self.assertFalse(any("balance" in text for text in said(grown)))

    def test_shares_a_rate_both_ways_and_steps(self):
        shared = {"value": "total(season * paid) + sales"}
        for season, wrong in (([0.2, 0.3, 0.49], True), ([0.2, 0.3, 0.5], False)):
            made = kd.Model("Seasons", periods=3)
            made.given(season_share=season, paid=4.0)
            made.driver("sales", kd.Normal(5, 1))
            made.outcome("value", shared["value"].replace("season", "season_share"))
            self.assertEqual(any("do they make up a whole" in t for t in said(made)), wrong)
        for second, wrong in (("euro / quoted", True), ("euro * quoted", False)):
            made = kd.Model("Two ways")
            made.given(dollar=3.0, euro=4.0)
            made.driver("quoted", kd.Normal(1.1, 0.1), unit="EUR/USD")
            made.line("one", "dollar * quoted")
            made.outcome("value", f"one + {second}")
            self.assertEqual(any("which is right?" in t for t in said(made)), wrong)
        for dt, wrong in ((1 / 12, False), (1, False), (0.25, True)):
            made = kd.Model("Monthly", periods=24, every="month", start="2028-01")
            process = kd.GeometricBrownianMotion(start=10, drift=0.05, volatility=0.2)
            made.driver("price", process, dt=dt)
            made.outcome("value", "last(price)")
            self.assertEqual(any("and a month is" in t for t in said(made)), wrong)


class Silent(Case):
    def test_right_models(self):
        found = []
        for text in read("trades").values():
            before = model_from_text(text).check()["finding"].tolist()
            words = ("above 0 in the base", "holds in none", "twice", "adds up", "make up a whole")
            found += [text for text in before if any(word in text for word in words)]
        self.assertEqual(found, [])
