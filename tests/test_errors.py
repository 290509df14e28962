"""Tests of errors."""

import pickle
import warnings

import numpy as np

import kindynos as kd
from tests.common import Case, investment


class Fields(Case):
    def test_nearest_spellings(self):
        for word, known, hint in (
            ("hurdel", ["hurdle", "tax"], "; did you mean 'hurdle'?"),
            ("HURDLE", ["hurdle"], "; did you mean 'hurdle'?"),
            ("zzz", ["a", "b"], "; known: a, b"),
            ("zzz", [], ""),
            ("zzz", [f"name{i}" for i in range(20)], ""),
        ):
            self.assertEqual(str(kd.KindynosError("no", unknown=word, known=known)), "no" + hint)

    def test_an_error_carries_its_data(self):
        with self.assertRaises(kd.ParameterError) as caught:
            kd.Normal(10, -2)
        error = caught.exception
        self.assertEqual(
            (error.owner, error.name, error.value, error.rule), ("Normal", "sd", -2.0, "above 0")
        )
        with self.assertRaises(kd.ModelError) as caught:
            investment().replace(hurdel=0.1)
        self.assertEqual(
            (caught.exception.owner, caught.exception.suggestion), ("replace", "hurdle")
        )
        with self.assertRaises(kd.FormulaError) as caught:
            investment().line("y", "lookpu(hurdle)")
        self.assertEqual((caught.exception.place, caught.exception.suggestion), (1, "lookup"))

    def test_context_is_added_without_changing_the_class(self):
        error = (
            kd.ParameterError("too large", name="x", value=3)
            .inside("driver 'x'")
            .with_context(file="m.toml", table="[drivers.x]")
        )
        self.assertIsInstance(error, kd.ParameterError)
        self.assertEqual(str(error), "m.toml: [drivers.x]: driver 'x': too large")
        again = pickle.loads(pickle.dumps(error))
        self.assertEqual((str(again), again.value, type(again)), (str(error), 3, kd.ParameterError))

    def test_long_values_are_cut_in_messages(self):
        with self.fails("a number", "..."):
            kd.Normal("x " * 250, 1)
        with self.assertRaises(kd.ParameterError) as caught:
            kd.Normal(list(range(500)), 1)
        self.assertLess(len(str(caught.exception)), 160)

    def test_numbers_of_other_kinds_are_taken(self):
        distribution = kd.Normal(np.float32(1.5), np.array(2))
        self.assertEqual((distribution.mean, distribution.sd), (1.5, 2.0))
        self.assertEqual(kd.Binomial(np.int64(4), 0.5).mean, 2)
        with self.fails("finite"):
            kd.Normal(10**400, 1)


class Calls(Case):
    def test_calls_that_do_not_fit_are_told(self):
        result = investment().simulate(300, seed=1)["net_value"]
        for call, words in (
            (lambda: kd.Normal(mu=3), ("Normal", "takes no 'mu'")),
            (lambda: kd.Normal(1.0), ("Normal", "lacks 'sd'")),
            (lambda: kd.Normal(1, 2, 3), ("Normal", "takes mean, sd, and has 3 arguments")),
            (lambda: result.chance(0), ("chance", "above=, below=, at=")),
            (lambda: result.chance(abov=0), ("did you mean 'above'?",)),
            (lambda: kd.Normal(0, 1).chance(beloww=0), ("did you mean 'below'?",)),
            (lambda: result.statistic("percentile"), ("percentile", "lacks 'q'")),
            (lambda: kd.plots.distribution(result, binz=3), ("did you mean 'bins'?",)),
        ):
            with self.subTest(words=words), self.fails(*words, kind=kd.ParameterError):
                call()
        with self.assertWarnsRegex(kd.DataWarning, "percentiles run from 0 to 100.*quantile"):
            result.percentile(0.05)
        with warnings.catch_warnings(action="error"):
            for q in (0.0, 1.0, 1, 100.0):
                result.percentile(q)
