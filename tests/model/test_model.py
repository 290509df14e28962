"""Tests of model."""

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
            with (
                self.subTest(name=name),
                self.fails(
                    {None: "nothing given", 3: "must be a text"}.get(name, "cannot be a name")
                ),
            ):
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
        with self.fails(
            "line 'x' needs 'hurdel'", "column 5", "did you mean 'hurdle'?", kind=kd.ModelError
        ):
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
            (lambda: kd.Model("m", periods=3, every="day"), ("every", "'month'", "'day'")),
            (lambda: model.given(a=[1, 2, 3]), ("one number per period, 2, not 3",)),
            (lambda: kd.Model("m").given(a=[1, 2]), ("needs a model with periods",)),
            (lambda: model.given(a="7"), ("a number", "'7'")),
            (lambda: model.given(a=float("nan")), ("finite",)),
            (lambda: model.given("a"), ("no value",)),
            (lambda: model.given(unit="EUR", a=1), ("belong to one figure",)),
            (lambda: model.given(a=[[0, 1], [0, 2]]), ("keys of a table must increase",)),
            (lambda: model.given(a=[[0, 1, 2]]), ("pair of key and value",)),
            (lambda: model.driver("a", 3), ("needs a distribution", "3")),
            (
                lambda: model.driver("a", kd.Normal(0, 1), each="year"),
                ("each", "'period'", "'year'"),
            ),
            (
                lambda: kd.Model("m").driver("a", kd.Normal(0, 1), each="period"),
                ("needs a model with periods",),
            ),
            (lambda: model.driver("a", kd.Normal(0, 1), base="x"), ("base", "'x'")),
            (lambda: model.line("y", "1 +"), ("line 'y'", "cannot be read")),
            (lambda: model.outcome("y", "1", target="a high"), ("target", "'a high'")),
            (lambda: model.line("y", "1", each_trial=True), ("each_trial is for functions",)),
            (lambda: model.outcome("y", "1", each_trial="yes"), ("True or False",)),
        ):
            with self.subTest(fragments=fragments), self.fails(*fragments):
                act()

    def test_labels(self):
        self.assertEqual(
            list(kd.Model("m", periods=2, start=2030).statement.timeline.labels), ["2030", "2031"]
        )
        quarters = kd.Model(
            "m", periods=3, start="2028-Q4", every="quarter"
        ).statement.timeline.labels
        self.assertEqual(quarters, ["2028 Q4", "2029 Q1", "2029 Q2"])
        self.assertEqual(
            kd.Model("m", periods=2, start="2028-12", every="month").statement.timeline.labels,
            ["2028-12", "2029-01"],
        )
        self.assertEqual(kd.Model("m", periods=2).statement.timeline.labels, ["1", "2"])
