"""Tests of review."""

from scipy import stats

import kindynos as kd
from kindynos.model.review import review
from tests.common import Case


def careful() -> kd.Model:
    model = kd.Model("careful", periods=3)
    model.given(hurdle=0.08, fare=50.0)
    model.driver("load", kd.Beta(14, 9), source="records")
    model.driver("price", kd.LogNormal(20, 4), source="two quotes")
    model.correlate("load", "price", 0.2)
    model.line("sales", "fare * load + 0 * period")
    model.outcome("value", "npv(hurdle, sales, -price)")
    return model


def found(model: kd.Model) -> dict[str, str]:
    return {finding.name: finding.text for finding in review(model.compiled())}


class Findings(Case):
    def test_a_careful_model_has_none(self):
        self.assertEqual(found(careful()), {})

    def test_a_rate_as_a_percentage(self):
        for name, value in (("hurdle", 8), ("hurdle", 1.0)):
            self.assertIn("rates are fractions", found(careful().replace(**{name: value}))[name])
        self.assertEqual(found(careful().replace(hurdle=0.99)), {})
        model = careful()
        model.given(my_number=7.0)
        model.outcome("other", "npv(my_number, sales)")
        self.assertIn("0.07 would be 7 %", found(model)["my_number"])
        model = careful()
        model.driver("growth_rate", kd.Normal(3, 1), source="x")
        model.outcome("other", "total(sales) * growth_rate")
        self.assertIn("3 means 300 %", found(model)["growth_rate"])

    def test_an_sd_out_of_proportion(self):
        self.assertIn("larger than the mean", found(self.wide())["odd"])
        self.assertIn("tiny beside the mean", found(self.wide(kd.Normal(1e6, 1)))["odd"])
        self.assertEqual(found(self.wide(kd.Normal(10, 9))), {})

    @staticmethod
    def wide(distribution=None) -> kd.Model:
        model = careful()
        model.driver("odd", distribution or kd.Normal(10, 30), source="x")
        model.outcome("other", "value + odd")
        return model

    def test_what_cannot_be_negative_or_beyond_one(self):
        for name, distribution, fragment in (
            ("yard_price", kd.Normal(10, 4), "can be negative"),
            ("life", kd.Normal(10, 4), "can be negative"),
            ("occupancy", kd.Normal(0.9, 0.1), "a share can exceed 1"),
            ("market_share", kd.Normal(0.1, 0.06), "can be negative"),
        ):
            model = careful()
            model.driver(name, distribution, source="x")
            model.outcome("other", f"value + {name}")
            with self.subTest(name=name):
                self.assertIn(fragment, found(model)[name])
        for name, distribution in (
            ("temperature", kd.Normal(10, 8)),
            ("fare_growth", kd.Normal(0.02, 0.01)),
            ("yard_price", kd.Uniform(5, 9)),
        ):
            model = careful()
            model.driver(name, distribution, source="x")
            model.outcome("other", f"value + {name}")
            with self.subTest(name=name):
                self.assertEqual(found(model), {})
        model = careful()
        model.driver("width", kd.Normal(10, 4), unit="EUR price", source="x")
        model.outcome("other", "value + width")
        self.assertIn("can be negative", found(model)["width"])

    def test_a_share_is_known_by_its_name_in_either_spelling(self):
        for name in ("utilisation", "utilization", "berth_utilisation", "load_share"):
            model = kd.Model("x")
            model.driver(name, kd.Normal(0.9, 0.2))
            model.outcome("y", name)
            self.assertIn("a share can exceed 1", found(model)[name], name)

    def test_what_nothing_uses(self):
        model = careful()
        model.given(spare=1.0)
        model.driver("idle", kd.Uniform(0, 1), source="x")
        model.given(aside=2.0)
        model.line("dead_end", "aside * 2")
        texts = found(model)
        self.assertIn("no line uses this given figure", texts["spare"])
        self.assertIn("no line uses this driver", texts["idle"])
        self.assertIn("reaches no outcome", texts["aside"])

    def test_a_base_that_cannot_occur(self):
        model = careful()
        model.driver("delay", kd.Uniform(0, 3), base=5, source="x")
        model.outcome("other", "value + delay")
        self.assertIn("runs from 0 to 3", found(model)["delay"])

    def test_silence_about_dependence_sources_and_outcomes(self):
        model = kd.Model("silent")
        model.driver("a", kd.Uniform(0, 1))
        model.driver("b", kd.Uniform(0, 1), source="  ")
        model.line("y", "a + b")
        texts = found(model)
        self.assertIn("both drivers are taken as independent", texts["dependence"])
        self.assertIn("a, b", texts["sources"])
        self.assertIn("no outcome", texts["outcomes"])


class Slips(Case):
    def test_correlations_of_drivers_with_drawn_parameters_say_what_they_mean(self):
        model = kd.Model("Fleet")
        model.driver("market", kd.Normal(5, 3))
        model.driver("ferry", kd.Normal("market", 1))
        model.driver("barge", kd.Normal("market", 2))
        model.outcome("sum", "ferry + barge")
        model.correlate("ferry", "barge", 0.5)
        said = dict(model.check().values.tolist())["ferry and barge"]
        self.assertIn("of what is left once market is given", said)
        run = model.simulate(20_000, seed=1)
        left = [run[name].values - run["market"].values for name in ("ferry", "barge")]
        self.assertAlmostEqual(stats.spearmanr(*left)[0], 0.5, delta=0.02)
        whole = stats.spearmanr(run["ferry"].values, run["barge"].values)[0]
        self.assertGreater(whole, 0.85)

    def test_expensive_slips(self):
        model = kd.Model("Slips", periods=5)
        model.driver("earned", kd.Normal(0.06, 0.15))
        model.driver("idle", kd.Normal(5, 1))
        model.driver("each_year", kd.Normal(0.06, 0.15), each="period")
        model.given(wide=3.0)
        model.line(
            "balance",
            "roll_forward(100, earned, 0 * period) + last(roll_forward(1, each_year, 0 * period))",
        )
        model.outcome("final", "last(balance) + 0 * idle + mirr(wide, 0.1, balance, -50)")
        found = model.check().groupby("name")["finding"].apply(" ".join)
        self.assertIn(
            "drawn once and then the same in every period; say each = 'period'", found["earned"]
        )
        self.assertIn(
            "no outcome changes between its P10 (3.718) and its P90 (6.282)", found["idle"]
        )
        self.assertIn("3 means 300 %", found["wide"])
        self.assertNotIn("each_year", found)
