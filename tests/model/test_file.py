"""Tests of file."""

import tempfile
import tomllib
from pathlib import Path

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.model.file import model_from_text
from kindynos.model.review import review
from tests.common import Case, investment, run

GOOD = """
[model]
name = "Tickets"
periods = 3
start = 2030
[given]
fare = 42
growth = [0.0, 0.1, 0.2]
rebate = [[0, 0.0], [100, 0.1]]
[given.seats]
value = 300
unit = "seats"
source = "deck plan"
[drivers.load]
distribution = "beta"
a = 14
b = 9
source = "ten years"
[drivers.fuel]
distribution = "normal"
mean = 100
sd = 10
each = "period"
base = 101
[lines]
sales = "fare * seats * load * (1 + growth) * (1 - lookup(fare, rebate))"
fund = "previous(fund, 0) + sales"
[outcomes.result]
formula = "total(sales - fuel)"
unit = "EUR"
target = 1000
[outcomes]
last_fund = "last(fund)"
"""


quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Files(Case):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name, "tickets.toml")

    def load(self, text):
        self.path.write_text(text, encoding="utf-8")
        return kd.load_model(self.path)

    def test_reads_what_python_would_say(self):
        model = kd.Model("Tickets", periods=3, start=2030)
        model.given(fare=42, growth=[0.0, 0.1, 0.2], rebate={0: 0.0, 100: 0.1})
        model.given("seats", 300, unit="seats", source="deck plan")
        model.driver("load", kd.Beta(14, 9), source="ten years")
        model.driver("fuel", kd.Normal(100, 10), each="period", base=101)
        model.line("sales", "fare * seats * load * (1 + growth) * (1 - lookup(fare, rebate))")
        model.line("fund", "previous(fund, 0) + sales")
        model.outcome("result", "total(sales - fuel)", unit="EUR", target=1000)
        model.outcome("last_fund", "last(fund)")
        loaded = self.load(GOOD)
        self.assertEqual(dict(loaded.quantities), dict(model.quantities))
        np.testing.assert_array_equal(
            loaded.simulate(1000, seed=3)["result"].values,
            model.simulate(1000, seed=3)["result"].values,
        )

    def test_values_from_a_column_of_a_file(self):
        bills = self.path.parent / "bills.csv"
        bills.write_text("eur,day\n10,1\n20,2\n30,3\n25,4\n")
        text = """
[model]
name = "Columns"
periods = 4
[given.tonnes]
value = { file = "bills.csv", column = "day" }
[drivers.bill]
distribution = "empirical"
values = { file = "bills.csv", column = "eur" }
[drivers.fund]
process = "bootstrap returns"
returns = { file = "bills.csv", column = "day" }
[outcomes.total]
formula = "total(tonnes) * bill + last(fund)"
"""
        model = self.load(text)
        self.assertEqual(model.quantities["bill"].distribution, kd.Empirical([10, 20, 30, 25]))
        np.testing.assert_array_equal(model.quantities["tonnes"].array[:, 0], [1, 2, 3, 4])
        self.assertEqual(model.quantities["fund"].process.returns, (1, 2, 3, 4))
        for old, new, words in (
            ('column = "eur"', 'column = "euro"', ("bill", "did you mean 'eur'")),
            ('column = "eur"', 'colum = "eur"', ("bill", "did you mean 'column'")),
            ('"bills.csv", column = "eur"', '"../bills.csv", column = "eur"', ("beside",)),
        ):
            with self.subTest(new), self.fails(*words, kind=kd.FileError):
                self.load(text.replace(old, new, 1))
        bills.write_text("eur,day\n10,1\n,2\n30,3\n25,4\n")
        with self.fails("1 of 4 values are missing"):
            self.load(text)

    def test_round_trip(self):
        model = self.load(GOOD)
        again = self.load(model.to_toml())
        self.assertEqual(dict(again.quantities), dict(model.quantities))
        self.assertEqual(again.statement.timeline, model.statement.timeline)
        awkward = kd.Model('A "quoted" \\ name\n', periods=2)
        awkward.given("größe", 1.5, unit="m\t²", source="é")
        self.assertEqual(self.load(awkward.to_toml()).name, awkward.name)
        self.assertEqual(tomllib.loads(awkward.to_toml())["given"]["größe"]["unit"], "m\t²")

    def test_functions_have_no_file(self):
        model = kd.Model("m")
        model.outcome("y", "1")

        @model.line
        def z():
            return 1

        with self.fails("'z' is a Python function"):
            model.to_toml()

    def test_mistakes(self):
        for old, new, fragments in (
            ('name = "Tickets"', "", ("[model]", "'name' is missing")),
            ('name = "Tickets"', "name = 3", ("[model]", "name must be a text", "3")),
            ("periods = 3", 'periods = "3"', ("[model]", "periods", "'3'")),
            ("periods = 3", "periods = -3", ("[model]", "periods", "at least 1", "-3")),
            (
                "periods = 3",
                "period = 3",
                ("[model]", "unknown key 'period'", "did you mean 'periods'?"),
            ),
            ("start = 2030", 'every = "day"', ("[model]", "every", "'year'", "'day'")),
            ("[given]\n", "[givens]\n", ("unknown table [givens]", "did you mean 'given'?")),
            ("fare = 42", "fare = nan", ("[given] fare", "finite", "nan")),
            ("fare = 42", "fare = inf", ("[given] fare", "finite")),
            ("fare = 42", 'fare = "42"', ("[given] fare", "a number", "'42'")),
            ("fare = 42", "fare = true", ("[given] fare", "a number", "True")),
            ("fare = 42", "fare = 1979-05-27", ("[given] fare", "a number")),
            ("fare = 42", "load = 42", ("[drivers.load]", "already a given figure")),
            (
                'unit = "seats"',
                "units = 3",
                ("[given.seats]", "unknown key 'units'", "did you mean 'unit'?"),
            ),
            (
                'distribution = "beta"',
                'distribution = "bta"',
                ("[drivers.load]", "no distribution 'bta'", "did you mean 'beta'?"),
            ),
            ('distribution = "beta"', "", ("[drivers.load]", "'distribution' is missing")),
            ("a = 14", "alpha = 14", ("[drivers.load]", "no parameter 'alpha'")),
            ("a = 14", "", ("[drivers.load]", "lacks the parameter 'a'")),
            ("sd = 10", "sd = -10", ("[drivers.fuel]", "Normal: sd", "above 0", "-10")),
            (
                'each = "period"',
                'each = "month"',
                ("[drivers.fuel]", "each", "'period'", "'month'"),
            ),
            (
                'last_fund = "last(fund)"',
                'last_fund = "last(found)"',
                ("last_fund", "'found'", "did you mean 'fund'?"),
            ),
            (
                'last_fund = "last(fund)"',
                "last_fund = 3",
                ("last_fund", "formula must be a text", "3"),
            ),
            ("target = 1000", 'target = "x"', ("[outcomes] result", "target", "'x'")),
            (
                "target = 1000",
                "targt = 1000",
                ("[outcomes.result]", "'targt'", "did you mean 'target'?"),
            ),
            ("[model]", "[model", ("is not TOML",)),
            ("[lines]", "[lines]\n'a b' = \"1\"", ("'a b' cannot be a name",)),
        ):
            self.assertIn(old, GOOD)
            with self.subTest(new=new), self.fails(str(self.path), *fragments, kind=kd.FileError):
                self.load(GOOD.replace(old, new, 1))

    def test_files_that_are_none(self):
        for text, fragments in (
            ("", ("the table [model] is missing",)),
            ("model = 3", ("[model] must be a table",)),
            ('given = 3\n[model]\nname = "x"', ("[given] must be a table",)),
            ("x = " + "[" * 5000, ("is not TOML",)),
            ("#" * 1_000_001, ("1,000,000 bytes",)),
        ):
            with self.subTest(text=text[:20]), self.fails(*fragments, kind=kd.FileError):
                self.load(text)
        self.path.write_bytes(b"\xff\xfe\x00")
        with self.fails("not UTF-8"):
            kd.load_model(self.path)
        with self.fails("nowhere.toml", "cannot be read"):
            kd.load_model("nowhere.toml")
        with self.fails("cannot be read"):
            kd.load_model(self.path.parent)

    def test_reading_runs_no_code(self):
        mark = self.path.with_name("mark")
        attack = f"__import__('pathlib').Path('{mark}').hit_probability()"
        with self.fails("last_fund"):
            self.load(GOOD.replace('"last(fund)"', f'"{attack}"'))
        self.assertFalse(mark.exists())


class ModelsInFiles(Case):
    @quick
    @given(
        st.sampled_from(
            ["pert", "normal", "beta", "geometric brownian motion", "random walk", "nothing"]
        ),
        st.dictionaries(
            st.sampled_from(
                ["low", "mode", "high", "mean", "sd", "start", "drift", "volatility", "dt", "each"]
            ),
            st.floats(-5, 5),
            max_size=4,
        ),
        st.booleans(),
    )
    def test_drivers_are_read_or_refused_with_their_place(self, name, parameters, as_process):
        word = "process" if as_process else "distribution"
        lines = "\n".join(f"{key} = {value!r}" for key, value in parameters.items())
        text = (
            f'[model]\nname = "m"\nperiods = 3\n[drivers.x]\n{word} = '
            f'"{name}"\n{lines}\n[outcomes]\ny = "x * 2"\n'
        )
        tomllib.loads(text)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(text)
            try:
                model = kd.load_model(path)
            except kd.FileError as error:
                self.assertIn("m.toml", str(error))
                return
            path.write_text(model.to_toml())
            again = kd.load_model(path)
        one, two = (m.simulate(60, seed=1)["y"].values for m in (model, again))
        np.testing.assert_array_equal(one, two)

    def test_a_scenario_states_a_driver_as_the_driver_is_stated(self):
        text = (
            '[model]\nname = "m"\n[drivers.a]\ndistribution = "normal"\nmean = 1\nsd = 1\n'
            'unit = "EUR"\nsource = "guess"\n[outcomes]\ny = "a"\n[scenarios.high]\n'
            'a = { distribution = "normal", mean = 3, sd = 1, unit = "EUR", source = "guess" }\n'
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(text)
            compared = kd.load_model(path).compare(trials=2000, seed=1)
        self.assertAlmostEqual(float(compared.best("y").ahead), 2)

    def test_scenarios_that_are_wrong_name_themselves(self):
        base = investment().to_toml()
        for entry, words in (
            ("[scenarios.a]\nprice = 'dear'", ("scenarios.a", "price")),
            (
                "[scenarios.a]\nflow = { distribution = 'normel', mean = 1, sd = 1 }",
                ("scenarios.a", "did you mean 'normal'"),
            ),
            ("[scenarios.a]\nnet_value = 3", ("scenarios.a", "is a line")),
            ("[scenarios]\na = 3", ("scenarios",)),
            ("[scenario.a]\nprice = 3", ("scenarios",)),
        ):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder, "m.toml")
                path.write_text(f"{base}\n{entry}\n")
                with self.subTest(entry=entry), self.fails("m.toml", *words, kind=kd.FileError):
                    kd.load_model(path)


class Opinions(Case):
    """Distributions by percentiles, and processes, in files."""

    def drivers(self, text):
        return model_from_text(
            f'[model]\nname = "m"\nperiods = 4\nstart = "2028-01"\nevery = "month"\n{text}'
        )

    def test_percentiles_with_and_without_a_family(self):
        model = self.drivers(
            "[drivers.a]\npercentiles = { 10 = 4, 50 = 6, 90 = 9 }\nlow = 0\n"
            '[drivers.b]\ndistribution = "lognormal"\npercentiles = { 10 = 4.1, 90 = 9.3 }\n'
            '[drivers.c]\ndistribution = "mixture"\nweights = [3, 1]\n'
            "parts = [{ percentiles = { 10 = 4, 90 = 9 } }, "
            '{ distribution = "normal", percentiles = { 10 = 0, 90 = 2 } }]\n'
        )
        a, b, c = (model.quantities[name].distribution for name in "abc")
        np.testing.assert_allclose(a.percentile([10, 50, 90]), [4, 6, 9])
        self.assertEqual(a.support[0], 0)
        self.assertEqual(b, kd.from_percentiles("lognormal", {10: 4.1, 90: 9.3}))
        self.assertAlmostEqual(
            c.cdf(4.0), 0.75 * 0.1 + 0.25 * kd.from_percentiles("normal", {10: 0, 90: 2}).cdf(4.0)
        )
        again = model_from_text(model.to_toml())
        self.assertEqual(again.quantities["a"].distribution, a)
        for text, words in (
            ("[drivers.a]\npercentiles = { ten = 4, 90 = 9 }", "a number such as 10"),
            ("[drivers.a]\npercentiles = { 10 = 9, 90 = 4 }", "must increase"),
            ("[drivers.a]\npercentiles = { 10 = 4, 90 = 9 }\nmean = 3", "no 'mean'"),
            ("[drivers.a]\nmean = 3", "'distribution' is missing"),
            (
                '[drivers.a]\ndistribution = "pert"\npercentiles = { 10 = 1, 50 = 8, 90 = 9 }',
                "the nearest one misses them",
            ),
        ):
            with self.subTest(text=text), self.fails(words):
                self.drivers(text)

    def test_a_yearly_drift_in_a_monthly_model_is_pointed_out(self):
        text = (
            '[drivers.oil]\nprocess = "geometric brownian motion"\nstart = 80.0\ndrift = 0.05\n'
            'volatility = 0.3\n{dt}[outcomes]\ny = "last(oil)"\n'
        )
        told = [f.text for f in review(self.drivers(text.format(dt="")).compiled())]
        self.assertTrue(any("those of a month" in found and "0.0833333" in found for found in told))
        stated = review(self.drivers(text.format(dt="dt = 0.0833333\n")).compiled())
        self.assertFalse(any("those of a month" in found.text for found in stated))
        about = run("distributions", "mean reverting").stdout
        self.assertIn("per unit of time", about)
        self.assertIn('process = "mean reverting"', about)
