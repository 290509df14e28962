"""Tests of units: rates a year in shorter periods, sums that mix units, and periods by number."""

import numpy as np

import kindynos as kd
from kindynos.model.file import model_from_text
from kindynos.model.review import review
from tests.common import Case


class Rates(Case):
    def model(self, formula, every="month", unit="a year"):
        model = kd.Model("m", periods=36, every=every)
        model.given(flow=1000.0)
        model.driver("hurdle", kd.Uniform(0.0799, 0.0801), unit=unit)
        model.line("flows", "flow + 0 * period")
        model.outcome("value", formula)
        return model

    def findings(self, model):
        return [f"{found.name}: {found.text}" for found in review(model.compiled())]

    def test_a_rate_a_year_in_a_monthly_model_is_pointed_out(self):
        for unit in ("a year", "% a year", "per year", "EUR/year", "p.a.", "annual rate"):
            found = self.findings(self.model("npv(hurdle, flows)", unit=unit))
            self.assertTrue(any("per_period(hurdle)" in text for text in found), unit)
        for model in (
            self.model("npv(per_period(hurdle), flows)"),
            self.model("npv(hurdle, flows)", every="year"),
            self.model("npv(hurdle, flows)", unit="a month"),
        ):
            self.assertFalse(any("per_period" in text for text in self.findings(model)))

    def test_per_period(self):
        twelfth = 1.08 ** (1 / 12) - 1
        self.assertAlmostEqual(kd.finance.per_period(0.08), twelfth)
        self.assertAlmostEqual(kd.finance.per_period(0.08, 4, "simple"), 0.02)
        self.assertEqual(kd.finance.per_period(0.08, 1), 0.08)
        np.testing.assert_allclose(kd.finance.per_period([0.0, -1.0, 0.08]), [0, -1, twelfth])
        for arguments, words in (
            ((0.08, 0), "at least 1"), ((-2, 12), "at least -1"), ((0.1, 12, "odd"), "how must be"),
        ):  # fmt: skip
            with self.fails(words):
                kd.finance.per_period(*arguments)
        level = 1000 * (1 - (1 + twelfth) ** -36) / twelfth
        self.assertAlmostEqual(
            self.model("npv(per_period(hurdle), flows)").base_case().loc["value", "value"],
            level,
            places=4,
        )
        simple = 1000 * (1 - (1 + 0.08 / 12) ** -36) / (0.08 / 12)
        found = self.model('npv(per_period(hurdle, "simple"), flows)').base_case()
        self.assertAlmostEqual(found.loc["value", "value"], simple, places=4)
        quarters = self.model("npv(per_period(hurdle), flows)", every="quarter").base_case()
        rate = 1.08**0.25 - 1
        self.assertAlmostEqual(
            quarters.loc["value", "value"], 1000 * (1 - (1 + rate) ** -36) / rate, places=4
        )

    def test_it_works_where_lines_feed_each_other(self):
        model = kd.Model("m", periods=24, every="month")
        model.given(rate=0.12)
        model.line("debt", "previous(debt, 100) * (1 + per_period(rate + 0 * previous(debt, 100)))")
        model.outcome("end", "at(debt, last)")
        self.assertAlmostEqual(model.base_case().loc["end", "value"], 100 * 1.12**2)

    def test_the_last_period_and_the_periods_of_a_year_have_names(self):
        model = kd.Model("m", periods=7, every="quarter")
        model.outcome("y", "at(period * 10, last) + periods_a_year")
        self.assertEqual(model.base_case().loc["y", "value"], 74)
        self.assertEqual(model.replace(periods=5).base_case().loc["y", "value"], 54)
        own = kd.Model("m", periods=7)
        own.given(last=3.0)
        own.outcome("y", "at(period * 10, last)")
        self.assertEqual(own.base_case().loc["y", "value"], 30)

    def test_a_period_that_is_not_there_is_pointed_out(self):
        model = kd.Model("m", periods=12)
        model.outcome("y", "at(period * 10, 12)")
        self.assertFalse(any("asks for period" in text for text in self.findings(model)))
        found = self.findings(model.replace(periods=10))
        self.assertTrue(any("asks for period 12 of 10" in text for text in found))

    def test_units_that_contradict(self):
        model = kd.Model("m", periods=12, every="month")
        model.given(rate=0.01)
        for name, unit in (
            ("fare", "EUR"),
            ("bill", "NOK"),
            ("berths", None),
            ("more", "eur a month"),
        ):
            model.driver(name, kd.Uniform(1, 2), unit=unit)
        model.line("flow", "fare * 12 + 0 * period", unit="EUR")
        model.outcome("mixed", "fare + bill")
        model.outcome("alike", "fare + more + berths")
        model.outcome("back", "payback(flow, -5)", unit="years")
        model.outcome("right", "payback(flow, -5)", unit="months")
        model.outcome("rate_of_return", "irr(flow, -5)", unit="EUR")
        model.outcome("value", "npv(rate, flow)", unit="%")
        found = {text.split(":")[0] for text in self.findings(model)}
        texts = " ".join(self.findings(model))
        self.assertIn("adds fare and bill: EUR and NOK", texts)
        self.assertIn("payback counts periods of a month, and its unit is years", texts)
        self.assertIn("irr is a rate, and its unit is EUR", texts)
        self.assertIn("npv is an amount, and its unit is %", texts)
        self.assertLessEqual({"mixed", "back", "rate_of_return", "value"}, found)
        self.assertFalse({"alike", "right"} & found)


class Converted(Case):
    """A given rate a year that lines use as the rate of one period."""

    def model(self, hurdle=0.08, every="month", **options):
        model = kd.Model("m", periods=36, every=every)
        model.given("hurdle", hurdle, **{"unit": "a year", "convert": True, **options})
        model.driver("flow", kd.Uniform(999.9, 1000.1))
        model.line("flows", "flow + 0 * period")
        model.outcome("value", "npv(hurdle, flows)")
        return model

    def level(self, rate, every=12):
        rate = (1 + rate) ** (1 / every) - 1
        return 1000 * (1 - (1 + rate) ** -36) / rate

    def test_it_is_used_as_the_rate_of_a_period_and_shown_as_stated(self):
        found = self.model().base_case()["value"]
        self.assertAlmostEqual(found["value"], self.level(0.08), places=6)
        self.assertEqual(found["hurdle"], 0.08)
        quarters = self.model(every="quarter").base_case().loc["value", "value"]
        self.assertAlmostEqual(quarters, self.level(0.08, 4), places=6)
        row = self.model([0.08] * 36).base_case().loc["value"].iloc[0]
        self.assertAlmostEqual(row, self.level(0.08), places=6)
        self.assertAlmostEqual(self.model().inputs(0)["hurdle"], 1.08 ** (1 / 12) - 1)
        self.assertFalse([f for f in review(self.model().compiled()) if "hurdle" in f.name])

    def test_every_study_changes_the_rate_a_year(self):
        model = self.model()
        raised = model.replace(hurdle=0.1)
        self.assertAlmostEqual(raised.base_case().loc["value", "value"], self.level(0.1), places=6)
        drawn = model.replace(hurdle=kd.Uniform(0.0799999, 0.0800001)).simulate(400, 1)
        self.assertAlmostEqual(float(drawn["value"].mean) / self.level(0.08), 1, places=5)
        self.assertAlmostEqual(float(drawn["hurdle"].mean), 0.08, places=5)
        swept = model.sweep(hurdle=[0.08, 0.1], statistic="base").table()["value"]
        np.testing.assert_allclose(swept, [self.level(0.08), self.level(0.1)])
        goal = model.solve(
            "hurdle", "value", mean=self.level(0.09), within=(0.05, 0.2), trials=400, seed=1
        )
        self.assertAlmostEqual(float(goal.value), 0.09, places=4)
        best = model.optimize({"hurdle": [0.08, 0.1, 0.12]}, minimize="mean value", trials=400)
        self.assertEqual(best.decisions["hurdle"], 0.12)
        self.assertAlmostEqual(float(best.run["value"].mean) / self.level(0.12), 1, places=4)

    def test_files_and_saved_runs_keep_it(self):
        text = self.model().to_toml()
        self.assertIn("convert = true", text)
        again = model_from_text(text)
        self.assertEqual(again.quantities["hurdle"], self.model().quantities["hurdle"])

    def test_what_cannot_be_converted_is_refused(self):
        for hurdle, options, words in (
            (0.08, {"unit": "a month"}, "whose unit says so"),
            (0.08, {"unit": None}, "whose unit says so"),
            (0.08, {"convert": "yes"}, "True or False"),
            (-1.5, {}, "at least -1"),
            ([(1, 0.1), (2, 0.2)], {}, "not a rate"),
        ):
            with self.fails(words):
                self.model(hurdle, **options)
        with self.fails("at least -1"):
            self.model().replace(hurdle=-2)
