"""Stating a model: declarations, order, the probe, the base case, replacements, and model files."""

import tempfile
import tomllib
from pathlib import Path

import numpy as np

import kindynos as kd
from tests.common import Case, investment


class Declaring(Case):
    def test_decorators_give_the_function_back(self):
        model = kd.Model("m")
        model.given(a=2.0)

        @model.line
        def b(a):
            return a + 1

        @model.outcome(unit="EUR", target=3)
        def c(b):
            return b * 2

        self.assertEqual((b(1), c(5)), (2, 10))
        self.assertEqual(model.base_case().loc["c", "value"], 6)
        self.assertEqual(model.simulate(10, seed=1)["c"].target, 3)

    def test_a_forgotten_formula_is_an_error(self):
        model = kd.Model("m")
        for declare in (model.line, model.outcome):
            with self.fails("'sales' has no formula"):
                declare("sales")

    def test_names(self):
        model = investment()
        for name in ("2nd", "a b", "class", "", "__x", "ﬁ", 3, None):
            with self.subTest(name=name), self.fails("cannot be a name" if name is not None else "nothing given"):
                model.given(name, 1.0)
        with self.fails("stands for the number of the period"):
            model.given(period=1)
        with self.fails("already a driver", "replace()"):
            model.given(flow=3)
        with self.fails("already a given figure"):
            model.given(hurdle=0.2)
        with self.fails("already a line"):
            model.line("cash_flow", "flow * 2")
        model.given(hurdle=0.1)  # equal, so no reuse
        model.line("cash_flow", "flow + 0 * period")

    def test_a_cell_run_twice_replaces_the_function(self):
        model = kd.Model("m")
        for factor in (2, 3):

            @model.outcome
            def y():
                return 5 * factor  # noqa: B023

        self.assertEqual(model.base_case().loc["y", "value"], 15)

    def test_missing_names_are_named(self):
        model = kd.Model("m")
        model.given(hurdle=0.1)
        model.line("x", "1 + hurdel")
        with self.fails("line 'x' needs 'hurdel'", "column 5", "did you mean 'hurdle'?", kind=kd.ModelError):
            model.base_case()
        model = kd.Model("m")
        model.given(hurdle=0.1)

        @model.line
        def y(hurdel):
            return hurdel

        with self.fails("line 'y' needs 'hurdel'", "did you mean 'hurdle'?"):
            model.simulate(10)

    def test_circles_are_shown(self):
        model = kd.Model("m")

        @model.line
        def a(c):
            return c

        model.line("b", "a + 1")
        model.line("c", "b + 1")
        with self.fails("circle", "a", "b", "c", "->"):
            model.base_case()

    def test_a_function_cannot_be_in_a_group(self):
        model = kd.Model("m", periods=3)
        model.line("balance", "previous(balance, 1) + interest")

        @model.line
        def interest(balance):
            return balance * 0.1

        with self.fails("circle"):
            model.base_case()

    def test_signatures(self):
        model = kd.Model("m")
        for function, fragment in (
            (lambda *a: 1, "name every quantity"),
            (lambda **a: 1, "name every quantity"),
            (lambda a, /: 1, "positional-only"),
            (lambda a=1: 1, "has a default"),
            (3, "Python function or a formula"),
        ):
            with self.subTest(fragment=fragment), self.fails(fragment):
                model.line(function)

    def test_wrong_arguments(self):
        model = kd.Model("m", periods=2)
        for act, fragments in (
            (lambda: kd.Model(""), ("name",)),
            (lambda: kd.Model("m", periods=0), ("periods", "at least 1", "0")),
            (lambda: kd.Model("m", periods=2.5), ("periods", "2.5")),
            (lambda: kd.Model("m", start="2028"), ("needs periods",)),
            (lambda: kd.Model("m", periods=3, start="28"), ("start", "'2028'", "'28'")),
            (lambda: kd.Model("m", periods=3, start="2028", every="quarter"), ("2028-Q1",)),
            (lambda: kd.Model("m", periods=3, every="week"), ("every", "'month'", "'week'")),
            (lambda: model.given(a=[1, 2, 3]), ("one number a period, 2, not 3",)),
            (lambda: kd.Model("m").given(a=[1, 2]), ("needs a model with periods",)),
            (lambda: model.given(a="7"), ("a number", "'7'")),
            (lambda: model.given(a=float("nan")), ("finite",)),
            (lambda: model.given("a"), ("no value",)),
            (lambda: model.given(unit="EUR", a=1), ("belong to one figure",)),
            (lambda: model.given(a=[[0, 1], [0, 2]]), ("keys of a table must increase",)),
            (lambda: model.given(a=[[0, 1, 2]]), ("pair of key and value",)),
            (lambda: model.driver("a", 3), ("needs a distribution", "3")),
            (lambda: model.driver("a", kd.Normal(0, 1), each="year"), ("each", "'period'", "'year'")),
            (lambda: kd.Model("m").driver("a", kd.Normal(0, 1), each="period"), ("needs a model with periods",)),
            (lambda: model.driver("a", kd.Normal(0, 1), base="x"), ("base", "'x'")),
            (lambda: model.line("y", "1 +"), ("line 'y'", "cannot be read")),
            (lambda: model.outcome("y", "1", target="high"), ("target", "'high'")),
            (lambda: model.line("y", "1", each_trial=True), ("each_trial is for functions",)),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                act()

    def test_labels(self):
        self.assertEqual(list(kd.Model("m", periods=2, start=2030).timeline.labels), ["2030", "2031"])
        quarters = kd.Model("m", periods=3, start="2028-Q4", every="quarter").timeline.labels
        self.assertEqual(quarters, ["2028 Q4", "2029 Q1", "2029 Q2"])
        self.assertEqual(kd.Model("m", periods=2, start="2028-12", every="month").timeline.labels, ["2028-12", "2029-01"])
        self.assertEqual(kd.Model("m", periods=2).timeline.labels, ["1", "2"])


class BaseCase(Case):
    def test_sheet(self):
        sheet = investment().base_case()
        self.assertEqual(list(sheet.columns), ["value", "2030", "2031", "2032", "2033", "2034"])
        self.assertEqual(list(sheet.index), ["hurdle", "price", "flow", "cash_flow", "net_value"])
        self.assertAlmostEqual(sheet.loc["net_value", "value"], float(kd.npv(0.1, [90.0] * 5, -300)))
        self.assertTrue(np.isnan(sheet.loc["cash_flow", "value"]))

    def test_lines_stand_in_the_order_they_are_worked_out(self):
        model = kd.Model("m")
        model.outcome("c", "b + 1")
        model.line("b", "a + 1")
        model.line("a", "1")
        sheet = model.base_case()
        self.assertEqual((list(sheet.index), sheet.loc["c", "value"]), (["a", "b", "c"], 3))

    def test_base_values(self):
        model = kd.Model("m", periods=2)
        model.driver("a", kd.Triangular(0, 0, 3), base=0.5)
        model.driver("b", kd.Uniform(0, 1), each="period")
        self.assertEqual(model.base_case().loc["a", "value"], 0.5)
        np.testing.assert_array_equal(model.base_case().loc["b", ["1", "2"]].to_numpy(dtype=float), [0.5, 0.5])

    def test_replace_makes_another_model(self):
        model = investment()
        other = model.replace(price=250, flow=80)
        self.assertEqual(model.base_case().loc["price", "value"], 300)
        self.assertAlmostEqual(other.base_case().loc["net_value", "value"], float(kd.npv(0.1, [80.0] * 5, -250)))
        uncertain = model.replace(price=kd.Uniform(200, 300))
        self.assertEqual(uncertain.simulate(100, seed=1)["price"].values.shape, (100,))
        with self.fails("no 'prize'", "did you mean 'price'?"):
            model.replace(prize=3)
        with self.fails("'cash_flow' is a line"):
            model.replace(cash_flow=3)

    def test_the_period_reaches_functions(self):
        model = kd.Model("m", periods=3)

        @model.line
        def twice(period):
            return 2 * period

        np.testing.assert_array_equal(model.base_case().loc["twice"].to_numpy()[1:].astype(float), [2, 4, 6])


class Probe(Case):
    """Function lines that would mix trials are caught before a run."""

    def run_line(self, function, periods=4, **options):
        model = kd.Model("probe", periods=periods)
        model.driver("x", kd.Normal(5, 1), each="period")
        model.driver("s", kd.Normal(5, 1))
        function.__name__ = "y"
        model.line(**options)(function) if options else model.line(function)
        return model.simulate(300, seed=1)["y"].values

    def test_catches(self):
        for function in (
            lambda x: x.sum(),
            lambda x: np.mean(x),
            lambda x: x / x.mean(),
            lambda x: np.sort(x),
            lambda x: np.random.normal(size=x.shape),
            lambda s: s.sum(),
            lambda s: np.sort(s),
            lambda s: s / s.max(),
            lambda s: s[::-1],
            lambda s: np.cumsum(s),
            lambda x: np.cumsum(x, axis=1),
            lambda s: np.random.default_rng().normal() * s,
        ):
            with self.subTest(), self.fails("line 'y'", kind=kd.ModelError):
                self.run_line(function)
        with self.fails("axis=0", "mixes trials"):
            self.run_line(lambda x: x.sum())
        with self.fails("other values when it is called again"):
            self.run_line(lambda x: np.random.normal(size=x.shape))

    def test_lets_pass(self):
        for function in (
            lambda x: x.sum(axis=0),
            lambda x: np.where(x > 5, x, 0),
            lambda x: np.cumsum(x, axis=0),
            lambda x: np.sort(x, axis=0),
            lambda x, s: x * s,
            lambda x: kd.npv(0.1, x, -5),
            lambda s: np.sin(s) ** 2,
            lambda: 3.0,
            lambda x: x > 5,
        ):
            with self.subTest():
                self.run_line(function)

    def test_lines_for_single_numbers(self):
        def y(x, s):
            return s if x[0] > 5 else -s

        with self.fails("np.where", "each_trial=True"):
            self.run_line(y)
        values = self.run_line(y, each_trial=True)
        self.assertEqual(values.shape, (300,))
        self.assertTrue((values > 0).any() and (values < 0).any())

    def test_tables_reach_functions_whole(self):
        for each_trial in (False, True):
            model = kd.Model("m", periods=2)
            model.given(steps={0: 1, 5: 2}, row=[1.0, 2.0])
            model.driver("x", kd.Uniform(0, 1))
            seen = []

            def y(x, steps, row, seen=seen):
                return x * steps[1, 1] + row[0]

            def z(x, steps, row):
                seen.append((np.shape(x), steps.shape, row.shape))  # noqa: B023
                return x * steps[1, 1] + row[-1]

            with self.fails("'seen' has a default"):
                model.line(y)
            model.line(each_trial=each_trial)(z)
            run = model.simulate(50, seed=1)
            np.testing.assert_allclose(run["z"].values, 2 * run["x"].values + 2)
            self.assertEqual(seen[-1][1:], ((2, 2), (2,) if each_trial else (2, 1)))

    def test_lines_may_not_change_their_inputs(self):
        def y(x):
            x += 1
            return x

        with self.fails("work on a copy"):
            self.run_line(y)

    def test_wrong_shapes_and_failures_name_the_line(self):
        with self.fails("line 'y'", "shape (3,)"):
            self.run_line(lambda x: np.ones(3))
        with self.fails("line 'y'", "flat array"):
            self.run_line(lambda x: np.ones(4))
        with self.fails("line 'y' failed", "ZeroDivisionError"):
            self.run_line(lambda s: 1 / 0)
        with self.fails("must return numbers", "'text'"):
            self.run_line(lambda s: "text")
        with self.fails("line 'y'", "npv"):
            self.run_line(lambda x: kd.npv(-3, x))


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
            loaded.simulate(1000, seed=3)["result"].values, model.simulate(1000, seed=3)["result"].values
        )

    def test_round_trip(self):
        model = self.load(GOOD)
        again = self.load(model.to_toml())
        self.assertEqual(dict(again.quantities), dict(model.quantities))
        self.assertEqual(again.timeline, model.timeline)
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
            ("periods = 3", "period = 3", ("[model]", "unknown key 'period'", "did you mean 'periods'?")),
            ("start = 2030", 'every = "week"', ("[model]", "every", "'year'", "'week'")),
            ("[given]\n", "[givens]\n", ("unknown table [givens]", "did you mean 'given'?")),
            ("fare = 42", "fare = nan", ("[given] fare", "finite", "nan")),
            ("fare = 42", "fare = inf", ("[given] fare", "finite")),
            ("fare = 42", 'fare = "42"', ("[given] fare", "a number", "'42'")),
            ("fare = 42", "fare = true", ("[given] fare", "a number", "True")),
            ("fare = 42", "fare = 1979-05-27", ("[given] fare", "a number")),
            ("fare = 42", "load = 42", ("[drivers.load]", "already a given figure")),
            ('unit = "seats"', "units = 3", ("[given.seats]", "unknown key 'units'", "did you mean 'unit'?")),
            (
                'distribution = "beta"',
                'distribution = "bta"',
                ("[drivers.load]", "no distribution 'bta'", "did you mean 'beta'?"),
            ),
            ('distribution = "beta"', "", ("[drivers.load]", "'distribution' is missing")),
            ("a = 14", "alpha = 14", ("[drivers.load]", "no parameter 'alpha'")),
            ("a = 14", "", ("[drivers.load]", "lacks the parameter 'a'")),
            ("sd = 10", "sd = -10", ("[drivers.fuel]", "Normal: sd", "above 0", "-10")),
            ('each = "period"', 'each = "month"', ("[drivers.fuel]", "each", "'period'", "'month'")),
            ('last_fund = "last(fund)"', 'last_fund = "last(found)"', ("last_fund", "'found'", "did you mean 'fund'?")),
            ('last_fund = "last(fund)"', "last_fund = 3", ("last_fund", "formula must be a text", "3")),
            ("target = 1000", 'target = "x"', ("[outcomes] result", "target", "'x'")),
            ("target = 1000", "targt = 1000", ("[outcomes.result]", "'targt'", "did you mean 'target'?")),
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
        attack = f"__import__('pathlib').Path('{mark}').touch()"
        with self.fails("last_fund"):
            self.load(GOOD.replace('"last(fund)"', f'"{attack}"'))
        self.assertFalse(mark.exists())
