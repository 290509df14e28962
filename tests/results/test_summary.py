"""Runs of which summaries are kept, against the same runs with all trials in memory."""

import math
import warnings
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.engine import checkpoint
from kindynos.engine.accumulate import Accumulator, Wanted, gather
from kindynos.engine.blocks import Blocks
from kindynos.reports.summaries import summarized
from kindynos.results import summary_run
from tests.common import Case, Folder, run

TRIALS = 200_000


def model(better="high") -> kd.Model:
    made = kd.Model("Summary")
    made.driver("x", kd.Normal(1, 2))
    made.driver("calls", kd.Poisson(1.2))
    made.outcome("skewed", "exp(x / 2) * 3 - 4", target=0, better=better)
    made.outcome("root", "sqrt(x + 1)")
    made.outcome("calls_paid", "max(calls - 1, 0)", target=1)
    return made


def ends(figure):
    return float(figure), figure.low, figure.high


class AgainstMemory(Case):
    def test_values_that_many_trials_share_on_either_side(self):
        made = kd.Model("Crews")
        made.driver("crews", kd.Poisson(3))
        made.driver("late", kd.Bernoulli(0.3))
        made.outcome("gain", "10 * crews - 25 * late")
        made.outcome("cost", "10 * crews + 25 * late", better="low")
        short, full = (
            made.simulate(TRIALS, seed=4, **store) for store in ({"store": "summary"}, {})
        )
        for name in ("gain", "cost"):
            for level in (0.9, 0.95, 0.99):
                one, other = (r[name].expected_shortfall(level) for r in (short, full))
                np.testing.assert_allclose(ends(one), ends(other), rtol=1e-10)

    def test_percentiles_chances_and_risk_are_the_same_bits(self):
        for plan, sides in (("latin", ("high", "low")), ("random", ("low",)), ("sobol", ("high",))):
            for better in sides:
                made = model(better)
                short = made.simulate(TRIALS, seed=3, sampling=plan, store="summary")
                full = made.simulate(TRIALS, seed=3, sampling=plan)
                self.assertEqual(short.size, full.size)
                for name in short.outcomes:
                    one, other = short[name], full[name]
                    for q in (1, 5, 25, 50, 90, 99):
                        self.assertEqual(
                            ends(one.percentile(q)), ends(other.percentile(q)), (name, q)
                        )
                    self.assertEqual(one.n_failed, other.n_failed)
                    for word in ("lowest", "highest"):
                        self.assertEqual(float(getattr(one, word)), float(getattr(other, word)))
                one, other = short["skewed"], full["skewed"]
                for level in (0.95, 0.99):
                    self.assertEqual(
                        ends(one.value_at_risk(level, 2.0)), ends(other.value_at_risk(level, 2.0))
                    )
                    np.testing.assert_allclose(
                        ends(one.expected_shortfall(level, 2.0)),
                        ends(other.expected_shortfall(level, 2.0)),
                        rtol=1e-11,
                    )
                for name, cut in (("skewed", 0.0), ("calls_paid", 1.0)):
                    for side in ("below", "above", "at"):
                        one, other = (r[name].chance(**{side: cut}) for r in (short, full))
                        self.assertEqual(ends(one), ends(other))
                self.assertTrue(short.trial(150_001).equals(full.trial(150_001)))

    def test_moments(self):
        for plan in ("latin", "random"):
            short = model().simulate(TRIALS, seed=4, sampling=plan, store="summary")
            full = model().simulate(TRIALS, seed=4, sampling=plan)
            for name in ("root", "calls_paid"):
                for word in ("mean", "sd", "skewness"):
                    one, other = (getattr(r[name], word) for r in (short, full))
                    np.testing.assert_allclose(ends(one), ends(other), rtol=1e-10)

    def test_correlations_with_drivers_over_all_trials(self):
        """Against NumPy's of the trials in memory; errors like those of their ranks by blocks."""
        made = kd.Model("Sum")
        made.driver("a", kd.Normal(0, 3))
        made.driver("b", kd.LogNormal(4, 1))
        made.outcome("y", "sqrt(a + 5) - 2 * b")  # without a value in some trials
        for plan in ("latin", "random"):
            short = made.simulate(TRIALS, seed=4, sampling=plan, store="summary")
            full = made.simulate(TRIALS, seed=4, sampling=plan)
            table = short.linear_correlations("y")
            self.assertEqual(list(table.index), ["b", "a"])
            known = ~np.isnan(full["y"].values)
            self.assertLess(known.sum(), TRIALS)
            for name, row in table.iterrows():
                wanted = np.corrcoef(full[name].values[known], full["y"].values[known])[0, 1]
                self.assertAlmostEqual(row["correlation"], wanted, places=10)
                self.assertTrue(row["low"] < wanted < row["high"])
            # of independent normal trials the error is about 1.96 (1 - r^2) / root n
            r = table.loc["a", "correlation"]
            textbook = 1.96 * (1 - r**2) / math.sqrt(TRIALS)
            if plan == "random":
                self.assertTrue(0.5 * textbook < table.loc["a", "error"] < 2 * textbook)

    def test_a_perfect_correlation_and_none(self):
        made = kd.Model("edges")
        made.driver("x", kd.Normal(1, 1))
        made.outcome("cost", "-x", better="low")
        made.outcome("constant", "2 + 0 * x")
        short = made.simulate(TRIALS, seed=1, store="summary")
        row = short.linear_correlations("cost").loc["x"]
        self.assertEqual(round(row["correlation"], 12), -1)
        self.assertTrue(row["low"] <= row["correlation"] <= row["high"])
        self.assertTrue(np.isnan(short.linear_correlations("constant").loc["x", "correlation"]))
        with self.fails("no summary of 'x'"):
            short.linear_correlations("x")

    def test_infinite_values_rank_at_their_end(self):
        made = kd.Model("Paid back", periods=3, start="2028-01", every="month")
        made.driver("x", kd.Normal(1, 1))
        made.line("flow", "every_period(x)")
        made.outcome("back", "payback(flow, -2)", better="low", target=2)
        made.outcome("minus", "-payback(flow, -2)")
        with warnings.catch_warnings(action="error"):
            short = made.simulate(TRIALS, seed=1, store="summary")
            full = made.simulate(TRIALS, seed=1)
            for name in ("back", "minus"):
                for q in (1, 25, 50, 75, 99):
                    known = ends(full[name].percentile(q))
                    self.assertEqual(ends(short[name].percentile(q)), known)
                self.assertEqual(float(short[name].mean), float(full[name].mean))
                self.assertTrue(math.isnan(short[name].sd))
        self.assertEqual(ends(short["back"].chance(above=2)), ends(full["back"].chance(above=2)))
        self.assertIn("median", " ".join(summarized(short).answer))

    def test_what_was_not_asked_for_takes_one_more_pass(self):
        short = model().simulate(TRIALS, seed=3, store="summary")
        full = model().simulate(TRIALS, seed=3)
        for read, words in (
            (lambda r: r["skewed"].percentile(33), "percentile 33"),
            (lambda r: r["skewed"].chance(above=0.5, below=7.0), "the chance at 0.5"),
            (lambda r: r["skewed"].value_at_risk(0.8), "percentile 20"),
        ):
            with self.assertWarnsRegex(kd.DataWarning, f"{words}.*once more"):
                found = read(short)
            self.assertEqual(ends(found), ends(read(full)))

    def test_a_missed_bracket_is_repaired(self):
        with mock.patch.object(summary_run, "RANKS", 0.0), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            short = model().simulate(TRIALS, seed=3, store="summary")
            found = [ends(short["skewed"].percentile(q)) for q in (5, 50)]
        full = model().simulate(TRIALS, seed=3)["skewed"]
        self.assertEqual(found, [ends(full.percentile(q)) for q in (5, 50)])

    def test_any_workers_give_the_same(self):
        known = model().simulate(TRIALS, seed=3, store="summary", workers=1).table()
        with ProcessPoolExecutor(2) as pool:
            for options in ({"workers": 2}, {"executor": pool}):
                found = model().simulate(TRIALS, seed=3, store="summary", **options)
                self.assertTrue(found.table().equals(known))

    def test_bad_input(self):
        with self.fails("100,000", "store='summary'"):
            model().simulate(5_000, seed=1, store="summary")
        with self.fails("store", "summary"):
            model().simulate(5_000, seed=1, store="sumary")
        with self.fails("resume=", "store='summary'"):
            model().simulate(5_000, seed=1, resume="x")
        short = model().simulate(TRIALS, seed=3, store="summary")
        with self.fails("are not held", kind=kd.RunError):
            _ = short["skewed"].values
        with self.fails("no summary of 'skewd'", "skewed", kind=kd.RunError):
            _ = short["skewd"]
        with self.fails("trials 0 to 199,999", kind=kd.RunError):
            short.trial(TRIALS)


class Resumed(Folder):
    def test_a_stopped_run_goes_on(self):
        path = self.folder / "run.npz"
        known = model().simulate(TRIALS, seed=3, store="summary").table()
        with (
            mock.patch.object(summary_run, "simulate", wraps=summary_run.simulate),
            self.fails("stopped after", "goes on from here", kind=kd.RunError),
        ):
            model().simulate(
                TRIALS, 3, store="summary", resume=path, workers=1,
                progress=lambda done, total: done < 90_000,
            )  # fmt: skip
        calls = []
        found = model().simulate(
            TRIALS, 3, store="summary", resume=path, progress=lambda done, _: calls.append(done)
        )
        self.assertGreaterEqual(min(calls), 90_000)  # nothing finished is done again
        self.assertTrue(found.table().equals(known))
        self.assertEqual([one.name for one in self.folder.iterdir()], ["run.npz"])

    def test_a_checkpoint_is_written_on_the_way(self):
        path = self.folder / "run.npz"
        with mock.patch.object(checkpoint, "EVERY", 0.0), self.assertRaises(KeyboardInterrupt):
            model().simulate(
                TRIALS, 3, store="summary", resume=path, workers=1, progress=self.interrupt
            )
        self.assertTrue(path.exists())
        found = model().simulate(TRIALS, 3, store="summary", resume=path)
        self.assertTrue(found.table().equals(model().simulate(TRIALS, 3, store="summary").table()))

    @staticmethod
    def interrupt(done, total):
        if done > 60_000:
            raise KeyboardInterrupt

    def test_one_of_another_run_or_damaged_is_refused(self):
        path = self.folder / "run.npz"
        model().simulate(TRIALS, 3, store="summary", resume=path)
        other = model()
        other.replace()
        for options, made, words in (
            ({"seed": 4}, model(), "its seed is 3"),
            ({"seed": 3, "sampling": "random"}, model(), "its plan is 'latin'"),
            ({"seed": 3}, model().replace(x=kd.Normal(1, 3)), "its program is"),
        ):
            with self.fails("another run", words, kind=kd.FileError):
                made.simulate(TRIALS, store="summary", resume=path, **options)
        with np.load(path) as stored:
            np.savez_compressed(path, **stored)  # which could unpack to anything
        with self.fails("is damaged", kind=kd.FileError):
            model().simulate(TRIALS, 3, store="summary", resume=path)
        path.write_bytes(b"PK" + path.read_bytes()[20:400])
        with self.fails("is damaged", kind=kd.FileError):
            model().simulate(TRIALS, 3, store="summary", resume=path)

    def test_the_command(self):
        file = self.folder / "m.toml"
        file.write_text(model().to_toml())
        words = ("run", str(file), "--trials", "2e5", "--seed", "3", "--store", "summary")
        answer = run(*words, "--resume", str(self.folder / "c.npz"))
        self.assertEqual(answer.returncode, 0, answer.stderr)
        self.assertIn("no trials are held", answer.stdout)
        refused = run("run", str(file), "--resume", "x.npz")
        self.assertEqual((refused.returncode, "--store summary" in refused.stderr), (2, True))


class Sums(Case):
    def test_gathered_by_block(self):
        generator = np.random.default_rng(5)
        values = np.round(generator.normal(3, 2, 900), 1)
        values[::37] = np.nan
        bounds = [0, 200, 201, 640, 900]
        wanted = Wanted(2.5, np.array([[1.0, 2.0], [-math.inf, -1.0], [4.2, 4.2]]), np.array([3.0]))
        found = gather(values, bounds, wanted)
        for block, (begin, end) in enumerate(pairwise(bounds)):
            part = values[begin:end]
            part = part[~np.isnan(part)]
            self.assertEqual(found.valid[block], len(part))
            for power in (1, 2, 3, 4):
                self.assertAlmostEqual(
                    found.powers[block, power - 1], ((part - 2.5) ** power).sum(), places=7
                )
            for place, (low, high) in enumerate(wanted.brackets):
                self.assertEqual(found.below[block, place], (part < low).sum())
                below = part[part < low] - 2.5
                self.assertAlmostEqual(found.sums_below[block, place], below.sum(), places=9)
                inside = part[(part >= low) & (part <= high)]
                self.assertEqual(found.distinct[block, place], len(np.unique(inside)))
            self.assertEqual(found.cut_below[block, 0], (part < 3.0).sum())
            self.assertEqual(found.cut_at[block, 0], (part == 3.0).sum())
        known = values[~np.isnan(values)]
        inside = [known[(known >= low) & (known <= high)] for low, high in wanted.brackets]
        self.assertEqual(int(found.counts.sum()), sum(map(len, inside)))
        for place, (low, _) in enumerate(wanted.brackets):
            gaps = known[known < low] - 2.5
            np.testing.assert_allclose(
                found.tail_powers[place], [(gaps**2).sum(), (gaps**3).sum()], atol=1e-8
            )
        ordered = np.sort(known)
        np.testing.assert_array_equal(found.farthest, [*ordered[:10], *ordered[-10:]])

    def test_in_any_order_and_through_a_state(self):
        values = np.random.default_rng(6).normal(size=4_000)
        blocks = Blocks(4_000, 20, 3)
        wanted = Wanted(0.0, np.array([[-1.0, -0.9], [0.5, 0.5]]), np.array([0.0]))
        parts = {}
        for batch in range(blocks.batches):
            part = blocks.part(batch)
            sizes = [blocks.size(block) for block in blocks.in_batch(batch)]
            bounds = np.concatenate([[0], np.cumsum(sizes)]).tolist()
            parts[batch] = gather(values[part], bounds, wanted)
        one, other = Accumulator(blocks, wanted), Accumulator(blocks, wanted)
        for batch in parts:
            one.add(batch, parts[batch])
        for batch in reversed(parts):
            other.add(batch, parts[batch])
        third = Accumulator(blocks, wanted)
        third.restore(other.state())
        halves = Accumulator(blocks, wanted), Accumulator(blocks, wanted)
        for batch in parts:
            halves[batch % 2].add(batch, parts[batch])
        halves[1].merge(halves[0])
        for found in (other.merged(), third.merged(), halves[1].merged()):
            for name, array in vars(one.merged()).items():
                np.testing.assert_array_equal(getattr(found, name), array, name)
