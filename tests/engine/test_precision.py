"""Tests of precision."""

import numpy as np

import kindynos as kd
from tests.common import Case, investment, proof


class Until(Case):
    def test_stops_when_precise_enough(self):
        for sampling in ("random", "latin", "sobol"):
            aim = kd.Precision("net_value", "percentile", 5, within=0.4)
            run = investment().simulate(2000, seed=4, sampling=sampling, until=aim)
            with self.subTest(sampling=sampling):
                self.assertLessEqual(run["net_value"].percentile(5).error, 0.4)
                self.assertGreaterEqual(run.facts()["blocks"], 40)
                self.assertEqual(list(run.facts()["aims"].values()), ["met"])
                before = run["net_value"].values
                self.assertEqual(run.trial(run.size - 1).loc["net_value", "value"], before[-1])

    def test_several_aims_and_relative(self):
        aims = [
            kd.Precision("net_value", "mean", within=0.02, relative=True),
            kd.Precision("net_value", "chance", below=0, within=0.01),
            kd.Precision("net_value", "expected_shortfall", 0.95, within=2),
        ]
        run = investment().simulate(1000, seed=4, sampling="random", until=aims)
        value = run["net_value"]
        self.assertLessEqual(value.mean.error, 0.02 * value.mean)
        self.assertLessEqual(value.chance(below=0).error, 0.01)
        self.assertLessEqual(value.expected_shortfall(0.95).error, 2)

    def test_at_most(self):
        aim = kd.Precision("net_value", "mean", within=1e-9)
        run = investment().simulate(1000, seed=4, sampling="random", until=aim, max_trials=20_000)
        self.assertLessEqual(run.size, 20_000)
        self.assertEqual(list(run.facts()["aims"].values()), ["not met"])

    @proof
    def test_covers_the_truth(self):
        truth = 90 * float(kd.npv(0.1, [1.0] * 5)) - 300
        aim = kd.Precision("net_value", "mean", within=1.0)
        hits = 0
        for seed in range(100):
            mean = (
                investment()
                .simulate(2000, seed=seed, sampling="random", until=aim)["net_value"]
                .mean
            )
            hits += mean.low <= truth <= mean.high
        self.assertGreaterEqual(hits, 87)

    def test_bad_input(self):
        for until, fragments in (
            (3, ("until must be kd.Precision", "3")),
            (
                kd.Precision("net_valu", "mean", within=1),
                ("'net_valu'", "did you mean 'net_value'?"),
            ),
            (kd.Precision("net_value", "men", within=1), ("'men'", "did you mean 'mean'?")),
        ):
            with self.subTest(until=until), self.fails(*fragments):
                investment().simulate(2000, until=until)
        with self.fails("within", "above 0"):
            kd.Precision("net_value", "mean", within=0)

    def test_convergence(self):
        run = investment().simulate(20_000, seed=1, sampling="random")
        frame = run.convergence("net_value", "percentile", 5)
        self.assertEqual(frame.index[-1], 20_000)
        self.assertEqual(frame["value"].iloc[-1], run["net_value"].percentile(5))
        known = frame["error"].dropna()
        self.assertGreater(len(known), 3)
        self.assertLess(known.iloc[-1], known.iloc[0])


class Growing(Case):
    def test_a_grown_run_is_the_run_of_its_blocks(self):
        """A run that grew by rounds holds the same draws as one that began with all its blocks."""
        model = investment()
        grown = model.simulate(
            2000, seed=9, sampling="random", until=kd.Precision("net_value", "mean", within=0.6)
        )
        self.assertGreater(grown.facts()["blocks"], 40)
        sizes = np.diff(grown.drawing.blocks.bounds)
        self.assertEqual(set(sizes), {sizes[0]})
        for number in (0, grown.size // 2, grown.size - 1):
            self.assertEqual(
                grown.trial(number).loc["net_value", "value"], grown["net_value"].values[number]
            )
        again = model.simulate(
            2000,
            seed=9,
            sampling="random",
            until=kd.Precision("net_value", "mean", within=0.6),
            workers=1,
        )
        np.testing.assert_array_equal(grown["net_value"].values, again["net_value"].values)

    def test_stopping_while_growing_keeps_what_is_there(self):
        aim = kd.Precision("net_value", "mean", within=0.01)
        run = investment().simulate(
            4000, seed=9, sampling="random", until=aim, progress=lambda done, total: total < 30_000
        )
        self.assertTrue(run.partial)
        self.assertEqual(list(run.facts()["aims"].values()), ["not met"])
        self.assertTrue(np.isfinite(run["net_value"].values).all())
        self.assertEqual(run.trial(run.size - 1).loc["flow", "value"], run["flow"].values[-1])
