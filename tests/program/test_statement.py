"""Tests of statements: what takes the place of what, over how many periods, and the calendar."""

import datetime
import pickle

import numpy as np

import kindynos as kd
from tests.common import Case


def plan() -> kd.Model:
    model = kd.Model("Plan", periods=4, start="2028")
    model.given(fare=2.0, rate=0.1)
    model.driver("load", kd.Triangular(1, 2, 4), each="period")
    model.driver("price", kd.GeometricBrownianMotion(1.0, 0.05, 0.2))
    model.driver("vessel", kd.Pert(1, 2, 3))
    model.line("cash", "fare * load * price")
    model.outcome("value", "npv(rate, cash, -vessel)")
    return model


class Replacing(Case):
    def test_drivers_of_each_period_stay_rows(self):
        discount = 1.1 ** -np.arange(1.0, 5)
        for changes, cash in (
            ({"load": 3.0, "price": 1.0}, [6.0] * 4),
            ({"load": [1, 2, 3, 4], "price": 1.0}, [2.0, 4.0, 6.0, 8.0]),
            ({"load": 1, "price": [1, 1, 2, 2]}, [2.0, 2.0, 4.0, 4.0]),
        ):
            found = plan().replace(**changes).base_case().loc["value", "value"]
            self.assertAlmostEqual(found, float(discount @ cash) - 2)
            run = plan().compare({"as stated": {}, "fixed": changes}, trials=50, seed=1)
            self.assertTrue(np.isfinite(run.result("fixed", "value").values).all())
        swept = plan().sweep(load=[1.0, 3.0], price=[1.0], statistic="base")
        np.testing.assert_allclose(
            swept.values["value"], [2 * discount.sum() - 2, 6 * discount.sum() - 2]
        )
        with self.fails("a row needs one number per period, 4, not 2"):
            plan().replace(load=[1.0, 2.0])

    def test_parameters_of_a_distribution(self):
        changed = plan().replace(**{"vessel.mode": 2.5, "vessel.high": 5})
        self.assertEqual(changed.quantities["vessel"].distribution, kd.Pert(1, 2.5, 5))
        for changes, words in (
            ({"vessel.modes": 1}, ("no parameter 'modes'", "did you mean 'mode'?")),
            ({"fare.mode": 1}, ("'fare' is a given figure",)),
            ({"price.beginning": 1}, ("the process of 'price' has no parameter",)),
            ({"vessels.mode": 1}, ("no 'vessels'", "did you mean 'vessel'?")),
            ({"vessel.mode": 2, "vessel": 1.0}, ("whole and by its parameter",)),
        ):
            with self.subTest(changes=changes), self.fails(*words):
                plan().replace(**changes)

    def test_the_number_of_periods(self):
        longer = plan().replace(periods=6)
        self.assertEqual((longer.periods, longer.base_case().columns[-1]), (6, "2033"))
        swept = plan().sweep(periods=[2, 6], fare=[1.0, 2.0], statistic="base")
        np.testing.assert_allclose(
            swept.values["value"].iloc[3], longer.base_case().loc["value", "value"]
        )
        simulated = plan().sweep(periods=[2, 6], statistic="mean", trials=400, seed=1)
        self.assertLess(*simulated.values["value"])
        rows = kd.Model("Rows", periods=2)
        rows.given(sold=[1.0, 2.0])
        rows.outcome("all_sold", "total(sold)")
        with self.fails("'sold' has one figure for each of 2 periods; give it for 3 too"):
            rows.replace(periods=3)
        self.assertEqual(
            rows.replace(periods=3, sold=[1, 2, 3]).base_case().loc["all_sold", "value"], 6
        )

    def test_the_number_of_periods_that_reaches_a_goal(self):
        bases = [
            plan().replace(periods=count).base_case().loc["value", "value"]
            for count in range(2, 10)
        ]
        found = plan().solve(
            "periods", "value", within=(2, 9), mean=(bases[3] + bases[4]) / 2, trials=400, seed=1
        )
        self.assertEqual(float(found.value), 6)  # the first count at which the mean has passed it
        self.assertEqual(len(found.evaluations), 8)
        with self.fails("no periods from 2 to 9"):
            plan().solve("periods", "value", within=(2, 9), mean=1e12, trials=50)
        with self.fails("at most 25 are tried"):
            plan().solve("periods", "value", within=(2, 90), mean=1)


class Calendar(Case):
    def test_year_quarter_and_month_of_the_periods(self):
        model = kd.Model("Months", periods=16, start="2028-11", every="month")
        model.driver("d", kd.Normal(1, 0.1), each="period")
        model.line("code", "1000 * year + 100 * quarter + month")
        model.outcome("cash", "d * month")
        table = model.base_case()
        self.assertEqual(
            table.loc["code", ["2028-11", "2029-01", "2030-02"]].tolist(),
            [2028411, 2029101, 2030102],
        )
        self.assertNotIn("year", table.index)
        yearly = model.simulate(50, seed=1).row("cash").by_year()
        self.assertEqual(yearly.labels, ("2028", "2029", "2030"))
        np.testing.assert_allclose(yearly.base, [23, 78, 3])
        model.given(year=7.0)  # a quantity of that name comes first
        self.assertEqual(model.base_case().loc["code", "2028-11"], 7411)
        plain = kd.Model("No start", periods=2)
        plain.outcome("y", "month")
        with self.fails("which is not declared", "the model needs start="):
            plain.compiled()

    def test_weeks_of_the_year(self):
        model = kd.Model("Weeks", periods=60, start="2026-W50", every="week")
        model.given(rate=0.05)
        model.driver("d", kd.Normal(1, 0.1), each="period")
        model.line("code", "1e4 * year + 100 * month + week")
        model.outcome("value", "npv(per_period(rate), d * 1)", unit="EUR")
        table = model.base_case()
        # 2026 has a week 53, whose Thursday is the last day of the year
        self.assertEqual(
            table.loc["code", ["2026-W50", "2026-W53", "2027-W01", "2027-W52"]].tolist(),
            [20261250, 20261253, 20270101, 20271252],
        )
        growth = 1.05 ** (1 / 52)
        exact = sum(growth**-k for k in range(1, 61))
        self.assertAlmostEqual(table.loc["value", "value"], exact, 9)
        model.outcome("dated", "npv_dated(rate, every_period(1))", unit="EUR")
        monday = datetime.date.fromisocalendar(2026, 50, 1)
        ends = [monday + datetime.timedelta(weeks=k, days=6) for k in range(60)]
        flows = kd.npv_dated(0.05, [0.0, *[1.0] * 60], [monday, *ends])
        self.assertAlmostEqual(model.base_case().loc["dated", "value"], flows, 9)
        with self.fails("a week of 2027, which has 52"):
            kd.Model("Weeks", periods=2, start="2027-W53", every="week")
        with self.fails("a week such as '2028-W05'"):
            kd.Model("Weeks", periods=2, start="2027-05", every="week")


class Travelling(Case):
    def test_models_runs_and_comparisons_can_be_pickled(self):
        model = plan()
        model.line(
            "capped", "max(fare, load) if 0 < load <= 3 and not fare > 9 else clip(load, 0, 1)"
        )
        model.outcome("sold", "total(capped)")
        run = model.simulate(300, seed=1)
        again = pickle.loads(pickle.dumps(run))
        np.testing.assert_array_equal(again["capped"].values, run["capped"].values)
        compared = model.compare({"a": {}, "b": {"fare": 3.0}}, trials=300, seed=1)
        self.assertTrue(pickle.loads(pickle.dumps(compared)).table().equals(compared.table()))
        self.assertTrue(pickle.loads(pickle.dumps(model)).base_case().equals(model.base_case()))

    def test_single_numbers_and_sets_of_processes(self):
        self.assertEqual(len(plan().sweep(fare=1.5).values), 1)
        pair = kd.PathSet({"a": kd.RandomWalk(1.0, 0.0, 1.0)})
        for option in ({"each": "period"}, {"base": 3.0}, {"serial": 0.3}):
            with self.fails("goes with one distribution"):
                plan().driver("pair", pair, **option)


class Direction(Case):
    def test_less_is_better_of_a_cost(self):
        model = kd.Model("Cost")
        model.given(extra=0.0)
        model.driver("work", kd.Normal(10, 2))
        model.outcome("cost", "work + extra", better="low")
        run = model.simulate(2000, seed=1)
        self.assertEqual(
            float(run.worst("cost").loc[(slice(None), "cost"), "value"].iloc[0]),
            float(run["cost"].highest),
        )
        self.assertGreater(run.sensitivity("cost", "tail").loc["work", "shift"], 1)
        ahead = model.compare({"plain": {}, "dear": {"extra": 1.0}}, trials=500, seed=1).dominance(
            "cost"
        )["first order"]
        self.assertEqual((ahead["plain", "dear"], ahead["dear", "plain"]), (True, False))
        swept = model.sweep(extra=[3.0, 1.0, 2.0], statistic="base")
        self.assertEqual(swept.best()["extra"], 1.0)
        self.assertEqual(
            model.sweep(extra=[3.0, 1.0], statistic="chance below 11", trials=400, seed=1).best()[
                "extra"
            ],
            1.0,
        )
        self.assertIn('better = "low"', model.to_toml())
