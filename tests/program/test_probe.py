"""Tests of probe."""

import numpy as np

import kindynos as kd
from tests.common import Case


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
        for function in (
            lambda s: s if (s > 5).any() else -s,
            lambda s: s if (s > 5).all() else -s,
            lambda s: s if s.mean() > 5 else -s,
            lambda x: x if (x > 5).any() else -x,
        ):
            with self.subTest(), self.fails("mixes trials"):
                self.run_line(function)

    def test_a_work_buffer_is_refused_and_answers_are_copied(self):
        buffer = {}

        def into_buffer(s):
            out = buffer.setdefault(s.shape, np.empty(s.shape))
            return np.multiply(s, 2, out=out)

        with self.fails("line 'y'", "same array in each call", ".copy()"):
            self.run_line(into_buffer)
        np.testing.assert_array_equal(
            self.run_line(lambda s: into_buffer(s).copy()), 2 * self.run_line(lambda s: s)
        )
        with self.fails("same array in each call"):
            model = kd.Model.from_function(
                into_buffer, {"s": kd.Normal(5, 1)}, "y", each_trial=False
            )
            model.simulate(300, seed=1)

    def test_masked_trials_have_no_value(self):
        model = kd.Model("masked")
        model.driver("s", kd.Normal(5, 1))

        @model.outcome
        def y(s):
            return np.ma.masked_greater(s, 5)

        run = model.simulate(1000, seed=1)
        self.assertEqual(run["y"].n_failed, int((run["s"].values > 5).sum()))
        for each_trial in (False, True):
            wrapped = kd.Model.from_function(
                lambda s: np.ma.masked_greater(s, 5),
                {"s": kd.Normal(5, 1)},
                "y",
                each_trial=each_trial,
            ).simulate(300, seed=1)
            failed = int((wrapped["s"].values > 5).sum())
            self.assertEqual(wrapped["y"].n_failed, failed)
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
