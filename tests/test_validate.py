"""Every public call that does not fit says in plain words what was called and what is wrong."""

import inspect
import unittest
from functools import partial

import pandas as pd

import kindynos as kd
from tests.common import Case

# for the package itself
INNER = {
    "Model.of", "Portfolio.exposure", "Portfolio.supported_method", "Arima.refit",
    "ExponentialSmoothing.refit",
}  # fmt: skip
# which users do not make, or which are those of every class of errors
OTHERS = (
    kd.Estimate, kd.Estimates, kd.Result, kd.RowResult, kd.Run, kd.ProgressBar, kd.Precision,
    BaseException
)  # fmt: skip


def closed(function, own=0):
    """Return whether a function takes arguments, besides its ``own``, and of its names only."""
    kinds = [p.kind for p in inspect.signature(function).parameters.values()]
    return len(kinds) > own and inspect.Parameter.VAR_KEYWORD not in kinds


def public_calls():
    """Yield every public function, class and method that takes arguments, with its name."""
    for module in (kd, kd.finance):
        for name in dir(module):
            found = getattr(module, name)
            if name.startswith("_"):
                continue
            if inspect.isfunction(found) and closed(found):
                yield name, found
            elif inspect.isclass(found) and not inspect.isabstract(found):
                if issubclass(found, OTHERS):
                    continue
                if closed(found):
                    yield name, found
                for key, method in vars(found).items():
                    if inspect.isfunction(method) and not key.startswith("_") and closed(method, 1):
                        yield f"{name}.{key}", partial(method, object.__new__(found))


class Calls(Case):
    """Mistakes in calls."""

    def test_an_argument_that_there_is_not_is_named_by_every_public_call(self):
        count = 0
        for name, function in public_calls():
            if name in INNER:
                continue
            with self.subTest(name=name), self.fails("nonsense"):
                function(nonsense=1)
            count += 1
        self.assertGreater(count, 150)

    def test_who_was_called_stands_first(self):
        model, rows = kd.Model("m"), kd.Model("rows", periods=3)
        decision = {"go": 1.0, "stay": kd.Event("e", {"a": (0.5, 1.0), "b": ("rest", 0.0)})}
        for owner, call in (
            ("Normal: sd", lambda: kd.Normal(1, sd=-1)),
            ("Normal.fit: needs", lambda: kd.Normal.fit([1.0, 2.0])),
            ("LogNormal.from_log: ", lambda: kd.LogNormal.from_log(0, -1)),
            ("quantile: ", lambda: kd.Normal(0, 1).quantile("half")),
            (
                "GeometricBrownianMotion: ",
                lambda: kd.GeometricBrownianMotion(volatility=-1, drift=0.1, start=100),
            ),
            ("GeometricBrownianMotion.fit: ", lambda: kd.GeometricBrownianMotion.fit([1.0])),
            ("paths: periods", lambda: kd.RandomWalk(0, 1, 1).paths(0, 10)),
            ("npv: ", lambda: kd.npv("ten", [1.0])),
            ("mirr: ", lambda: kd.mirr(["x"], 0.1, 0.1)),
            ("driver 'x': ", lambda: model.driver("x", 5)),
            ("driver 'x': dt", lambda: model.driver("x", kd.Normal(0, 1), dt=-1)),
            ("driver 'x': dt", lambda: rows.driver("x", kd.RandomWalk(0, 1, 1), dt=-1)),
            ("driver 'x': a process", lambda: model.driver("x", kd.RandomWalk(0, 1, 1))),
            ("given 'g': ", lambda: model.given("g", "text")),
            ("correlate: ", lambda: model.correlate("x", "x", 0.5)),
            ("simulate: trials", lambda: model.simulate(0)),
            ("decision 'd': ", lambda: kd.Decision("d", decision, better="best")),
            ("choice 'c', go: ", lambda: kd.Choice("c", {"go": [1]})),
            ("event 'e': ", lambda: kd.Event("e", {"a": (0.5, 1.0)})),
            ("Cohort: ", lambda: kd.Cohort(["a"], {}, {})),
            ("Portfolio: ", lambda: kd.Portfolio(1, 2)),
        ):
            with self.subTest(owner=owner), self.assertRaises(kd.KindynosError) as caught:
                call()
            self.assertTrue(str(caught.exception).startswith(owner), str(caught.exception))

    def test_a_mistake_of_our_own_is_not_taken_for_one_of_the_caller(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(0, 1))
        model.outcome("y", "2 * x")
        with self.assertRaises(TypeError):
            model.simulate(10, progress=lambda done, total: done + "of" + total)


if __name__ == "__main__":
    unittest.main()


class Hostile(Case):
    """Arguments that fail while they are looked at."""

    def test_each_is_refused_in_words(self):
        class Mute:
            def __repr__(self):
                raise ValueError("no words")

        frame = pd.DataFrame([[1.0, 2.0], [1.1, 2.1], [1.2, 2.0]], columns=["a", "a"])
        for call, words in (
            (lambda: kd.Normal(Mute(), 1), "not a Mute"),
            (lambda: kd.npv(Mute(), [1, 2]), "not a Mute"),
            (lambda: kd.npv(0.1, range(10**12)), "at most 100,000,000 numbers"),
            (lambda: kd.Empirical(range(10**12)), "at most 100,000,000 numbers"),
            (lambda: kd.BootstrapReturns.fit(frame), "two columns are named 'a'"),
        ):
            with self.fails(words):
                call()
