"""Events of a trial: their draws, their layers, and covers against closed forms and a recursion."""

import math
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest.mock import patch

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.events.events import Events, _mixed, scores_of_events
from kindynos.events.layers import (
    above,
    capped,
    during,
    largest,
    layer,
    reinstated,
    stop_loss,
    total,
)

TRIALS = 20_000


def recursion(rate, masses, points):
    """The masses of a Poisson number of losses on a grid: Panjer, ASTIN Bulletin 12 (1981), 22."""
    weighed = rate * np.arange(len(masses)) * masses
    sums = np.zeros(points)
    sums[0] = math.exp(-rate * (1 - masses[0]))
    for s in range(1, points):
        most = min(s, len(masses) - 1)
        sums[s] = weighed[1 : most + 1] @ sums[s - most : s][::-1] / s
    return sums


def drawn(count, size, formulas, trials=TRIALS, seed=3, **options):
    """The values of formulas over claims called ``hull``."""
    model = kd.Model("hulls", periods=options.pop("periods", None))
    model.claims("hull", count, size, each=options.pop("each", None))
    for name, formula in formulas.items():
        model.outcome(name, formula)
    run = model.simulate(trials, seed, **options)
    return {name: run[name].values for name in formulas}


class TestClosedForms(unittest.TestCase):
    def assertNear(self, values, exact, message=""):  # noqa: N802  # as unittest names them
        error = values.std() / math.sqrt(len(values))
        self.assertLess(abs(values.mean() - exact), 3.5 * error + 1e-12, message)

    def test_layers_counts_and_the_largest(self):
        begin, width = 1.5, 4.0
        grid = np.linspace(0, width, 20_001)  # moments of the layer are integrals of the survival
        for size in (kd.Exponential(2.0), kd.Pareto(2.5, 1.0)):
            beyond = np.array([size.chance(above=begin + x) for x in grid.tolist()])
            first, second = np.trapezoid(beyond, grid), np.trapezoid(2 * grid * beyond, grid)
            survives = size.chance(above=6.0)
            for rate in (0.3, 12.0):
                found = drawn(
                    kd.Poisson(rate),
                    size,
                    {
                        "ceded": f"total(layer(hull, {begin}, {width}))",
                        "over": f"above(hull, {begin})",
                        "most": "largest(hull)",
                    },
                    sampling="random",
                )
                ceded = found["ceded"]
                self.assertNear(ceded, rate * first, (size, rate))
                self.assertNear((ceded - rate * first) ** 2, rate * second, (size, rate))
                self.assertNear(found["over"] == 0, math.exp(-rate * beyond[0]), (size, rate))
                self.assertNear(found["most"] <= 6, math.exp(-rate * survives), (size, rate))

    def test_covers_of_the_sum(self):
        rate, size = 3.0, kd.Geometric(0.02)
        whole = np.array([size.chance(at=x) for x in range(3000)])
        ceded, least = np.zeros(101), np.append(whole[:80], whole[80:].sum())
        np.add.at(ceded, np.clip(np.arange(3000) - 30, 0, 100), whole)  # the layer from 30 to 130
        sums, paid = recursion(rate, whole, 4000), recursion(rate, ceded, 1500)
        s, p = np.arange(4000.0), np.arange(1500.0)
        exact = {
            "stop_loss(hull, 200, 300)": sums @ np.clip(s - 200, 0, 300),
            "stop_loss(total(hull), 600)": sums @ np.maximum(s - 600, 0),
            "reinstated(layer(hull, 30, 100), 100, 1)": paid @ np.minimum(p, 200),
            "reinstated(layer(hull, 30, 100), 100, 1, 9)": paid
            @ (np.minimum(p, 200) - 0.09 * np.minimum(p, 100)),
            "total(capped(hull, 80)) > 100": 1 - recursion(rate, least, 101).sum(),
        }
        formulas = {f"f{i}": formula for i, formula in enumerate(exact)}
        found = drawn(kd.Poisson(rate), size, formulas, seed=5)
        for name, formula in formulas.items():
            self.assertNear(found[name], exact[formula], formula)

    def test_a_common_driver_of_size(self):
        model = kd.Model("storm year")
        model.driver("weather", kd.Gamma(4, 0.25))
        model.claims("hull", kd.Poisson(5), kd.Exponential(1.0))
        model.claims("pier", kd.Poisson(2), kd.Exponential(mean="weather"))
        model.outcome("both", "total(hull * weather) + total(pier / 1)", better="low")
        run = model.simulate(TRIALS, seed=1)
        # of mean m(7 W): mean 7, variance E[W^2 (5 x 2 + 2 x 2)] + var(7 W), where E[W^2] = 1.25
        self.assertNear(run["both"].values, 7.0)
        self.assertNear((run["both"].values - 7) ** 2, 14 * 1.25 + 49 * 0.25)


class TestDraws(unittest.TestCase):
    def test_scores_are_uniform_and_independent(self):
        counts = np.full(4000, 25)
        scores = scores_of_events(np.random.default_rng(1).random(4000), counts).reshape(4000, 25)
        self.assertGreater(stats.kstest(scores.ravel(), "uniform").pvalue, 0.01)
        for k in (1, 2, 24):
            r = np.corrcoef(scores[:, 0], scores[:, k])[0, 1]
            self.assertLess(abs(r), 0.05)
        near = 0.5 + np.arange(4000) * 2.0**-52  # neighbouring keys
        close = scores_of_events(near, np.ones(4000, dtype=np.int64))
        self.assertGreater(stats.kstest(close, "uniform").pvalue, 0.01)
        self.assertLess(abs(np.corrcoef(close[1:], close[:-1])[0, 1]), 0.05)

    def test_the_output_of_the_generator_is_that_of_its_source(self):
        # published: the first outputs of SplitMix64 from the state 1234567
        state, outputs = 1234567, []
        for _ in range(2):
            state = (state + 0x9E3779B97F4A7C15) % 2**64
            word = state
            for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
                word = (word ^ (word >> shift)) * factor % 2**64
            outputs.append(word ^ (word >> 31))
        self.assertEqual(outputs, [6457827717110365317, 3203168211198807973])
        with patch("kindynos.events.events._mixed", wraps=_mixed) as mixed:
            key = np.array([1234567], dtype=np.uint64).view(np.float64)
            mixed.side_effect = lambda words: words if len(words) == 1 else _mixed(words)
            scores = scores_of_events(key, np.array([2]))
        np.testing.assert_array_equal(scores, [((x >> 12) + 0.5) * 2.0**-52 for x in outputs])

    def test_a_changed_count_moves_no_other_event(self):
        def sizes(model, trial):
            program = model.compiled()
            from kindynos.sampling.plans import PLANS

            values = program.draw(PLANS["latin"], 7, {0: 500})
            events = program.lines["hull"].events.drawn({**program.constants, **values})
            return np.split(events.sizes, np.cumsum(events.whole)[:-1])[trial]

        def model(rate, other=False):
            made = kd.Model("hulls")
            if other:
                made.claims("cars", kd.Poisson(3), kd.Exponential(1))
            made.claims("hull", kd.Poisson(rate), kd.Exponential(1))
            made.outcome("loss", "total(hull)")
            return made

        for trial in (0, 17, 499):
            few, more = sizes(model(2.0), trial), sizes(model(4.0, other=True), trial)
            self.assertLessEqual(len(few), len(more))
            np.testing.assert_array_equal(few, more[: len(few)])

    def test_slices_and_workers_change_nothing(self):
        model = kd.Model("many")
        model.claims("hull", kd.Poisson(800), kd.Exponential(1))
        model.outcome("loss", "total(hull)")
        self.assertAlmostEqual(model.compiled().events_a_trial, 800, delta=1)
        one = model.simulate(2000, seed=1, workers=1)["loss"]
        two = model.simulate(2000, seed=1, workers=2)["loss"]
        np.testing.assert_array_equal(one.values, two.values)
        self.assertAlmostEqual(one.sd, math.sqrt(1600), delta=2)

    def test_periods(self):
        found = drawn(
            kd.Poisson(2),
            kd.Exponential(1),
            {
                "by_period": "total(hull)",
                "all": "total(total(hull))",
                "most": "highest(largest(hull))",
            },
            periods=3,
            each="period",
        )
        self.assertEqual(found["by_period"].shape, (3, TRIALS))
        np.testing.assert_allclose(found["by_period"].sum(axis=0), found["all"])
        self.assertAlmostEqual(found["all"].mean(), 6, delta=0.1)
        self.assertLess(abs(np.corrcoef(found["by_period"][:2])[0, 1]), 0.03)
        self.assertTrue((found["most"] <= found["all"] + 1e-9).all())

    def test_antithetic_sobol_and_summaries(self):
        for sampling in ("antithetic", "sobol", "random"):
            found = drawn(kd.Poisson(3), kd.Exponential(2), {"a": "total(hull)"}, sampling=sampling)
            self.assertAlmostEqual(found["a"].mean(), 6, delta=0.15, msg=sampling)
        model = kd.Model("m")
        model.claims("hull", kd.Poisson(3), kd.Exponential(2))
        model.outcome("a", "total(hull)")
        summary, full = (model.simulate(100_000, 1, store=s)["a"] for s in ("summary", "all"))
        self.assertAlmostEqual(summary.mean, full.mean, 9)


class TestEvents(unittest.TestCase):
    def setUp(self):
        self.events = Events(np.array([2.0, 0.0, 1.0, np.nan]), np.array([3.0, 4.0, 8.0]))

    def test_reductions_of_cells_without_events_or_of_unknown_number(self):
        np.testing.assert_array_equal(total(self.events), [7, 0, 8, np.nan])
        np.testing.assert_array_equal(largest(self.events), [4, 0, 8, np.nan])
        np.testing.assert_array_equal(above(self.events, 3.0), [1, 0, 1, np.nan])
        np.testing.assert_array_equal(above(self.events), [2, 0, 1, np.nan])

    def test_bounds_of_each_trial(self):
        begin = np.array([1.0, 0.0, 5.0, 0.0])
        np.testing.assert_array_equal(layer(self.events, begin, 2.5).sizes, [2, 2.5, 2.5])
        np.testing.assert_array_equal(capped(self.events, 3.5).sizes, [3, 3.5, 3.5])
        np.testing.assert_array_equal(stop_loss(self.events, 6, 1.5), [1, 0, 1.5, np.nan])
        np.testing.assert_array_equal(reinstated(self.events, 5.0, 0, 1.0), [5.0, 0, 5.0, np.nan])
        np.testing.assert_allclose(reinstated(self.events, 5.0, 1, 1.0)[:3], [6, 0, 7])

    def test_moments_of_the_base_case_and_the_ends_of_a_stretch(self):
        base = Events(np.array([4.0]), np.array([1.0, 2.0, 3.0, 4.0]), np.array([0.0]))
        np.testing.assert_allclose(base.moments, [0.125, 0.375, 0.625, 0.875])
        self.assertEqual(total(during(base, 0.125, 0.625))[0], 3.0)  # from the first, to before
        with self.assertRaisesRegex(kd.ModelError, "not known"):
            during(self.events, 0, 1)

    def test_a_residue_of_rounding_is_no_loss(self):
        self.assertEqual(float(stop_loss(np.array([0.1 + 0.2]), 0.3)[0]), 0.0)

    def test_moments_in_the_year(self):
        found = drawn(
            kd.Poisson(6),
            kd.Exponential(1),
            {
                "spring": "total(during(hull, 0.25, 0.5))",
                "within": "above(during(during(hull, 0, 0.5), 0.25, 0.5))",
                "count": "above(during(hull, 0.25, 0.5))",
                "rest": "total(during(hull, 0, 0.25)) + total(during(hull, 0.5, 1))",
                "all": "total(hull)",
            },
        )
        np.testing.assert_allclose(found["spring"] + found["rest"], found["all"])
        np.testing.assert_array_equal(found["within"], found["count"])
        self.assertAlmostEqual(found["count"].mean(), 1.5, delta=0.04)
        self.assertAlmostEqual(found["count"].var(), 1.5, delta=0.08)  # thinned, still Poisson
        # sizes do not hang on when an event happens
        self.assertAlmostEqual(found["spring"].mean(), 1.5, delta=0.06)


class TestLoans(unittest.TestCase):
    def book(self, count=50, chance=0.03):
        groups = ["retail", "small firms"] * (count // 2)
        columns = {"Exposure": 100.0, "PD": f"{100 * chance:g}%", "Recovery": 0.4, "group": groups}
        return pd.DataFrame(columns, range(count))

    def test_the_number_of_defaults_by_quadrature(self):
        model = kd.Model("lender")
        model.given(rho=0.2)
        names = model.loans(self.book(), "book", correlation="rho")
        self.assertEqual(names, ["book", "book_retail", "book_small_firms"])
        model.outcome("number", "above(book)")
        model.outcome("parts", "total(book_retail) + total(book_small_firms)")
        model.outcome("loss", "total(book)")
        levels, weights = np.polynomial.hermite_e.hermegauss(160)
        weights /= weights.sum()
        for rho in (0.0, 0.2, 0.5):
            run = model.replace(rho=rho).simulate(TRIALS, seed=1)
            given = stats.norm.cdf(
                (stats.norm.ppf(0.03) - math.sqrt(rho) * levels) / math.sqrt(1 - rho)
            )
            for count in (0, 1, 3, 8):
                exact = weights @ stats.binom.cdf(count, 50, given)
                found = run["number"].chance(below=count + 0.5)
                self.assertAlmostEqual(found, exact, delta=4 * math.sqrt(exact / TRIALS), msg=rho)
            np.testing.assert_allclose(run["parts"].values, run["loss"].values)
            np.testing.assert_allclose(run["loss"].values, 60 * run["number"].values)

    def test_the_base_case_is_what_is_expected_at_the_base_of_the_factor(self):
        model = kd.Model("lender")
        model.loans(self.book(), "book", correlation=0.2)
        model.outcome("loss", "total(book)")
        given = stats.norm.cdf(stats.norm.ppf(0.03) / math.sqrt(0.8))
        self.assertAlmostEqual(model.base_case()["value"]["loss"], 50 * 60 * given)

    def test_low_values_of_the_factor_are_bad_times(self):
        model = kd.Model("lender")
        model.loans(self.book(), "book", correlation=0.3)
        model.outcome("loss", "total(book)")
        run = model.simulate(2000, seed=1)
        bad = run["book_factor"].values < -1
        self.assertGreater(run["loss"].values[bad].mean(), 3 * run["loss"].values[~bad].mean())

    def test_a_loan_keeps_its_draws_beside_others(self):
        values = []
        for count in (20, 40):
            model = kd.Model("lender")
            model.loans(self.book(count, 0.2), "book", correlation=0.2)
            model.outcome("number", "above(book)")
            values.append(model.simulate(500, seed=1)["number"].values)
        self.assertTrue((values[0] <= values[1]).all())

    def test_files(self):
        with TemporaryDirectory() as folder:
            file, table = Path(folder, "lender.toml"), Path(folder, "loans.csv")
            text = '[model]\nname = "m"\n[loans]\ntable = "loans.csv"\n'
            file.write_text(text + '[outcomes]\nloss = "total(loans)"\n')
            self.book().to_csv(table, index=False)
            model = kd.load_model(file)
            self.assertIn("0.15 is taken", model.quantities["loans_factor"].source)
            again = Path(folder, "again.toml")
            again.write_text(model.to_toml())
            np.testing.assert_array_equal(
                *(m.simulate(300, seed=2)["loss"].values for m in (model, kd.load_model(again)))
            )
            for lines, words in (
                ("amount,chance\n100,1.2", "chance must be from 0 to 1, or in per cent, not 1.2"),
                (
                    "amount,chance\n100,",
                    "chance must be from 0 to 1, or in per cent, not no number",
                ),
                ("amount,risk\n100,0.2", "needs the columns amount and chance"),
                ("amount,chance,recovery\n100,0.2,-1", "recovery must be from 0 to 1"),
            ):
                table.write_text(lines + "\n")
                with self.assertRaises(kd.FileError) as caught:
                    kd.load_model(file)
                self.assertIn(words, str(caught.exception))
        for correlation in (1.0, -0.1):
            with self.assertRaises(kd.KindynosError):
                model = kd.Model("m")
                model.loans(self.book(), "book", correlation=correlation)
                model.outcome("loss", "total(book)")
                model.simulate(100, seed=1)


class TestModel(unittest.TestCase):
    def model(self):
        model = kd.Model("hulls", periods=2)
        model.given(shape=2.5)
        model.claims("hull", kd.Poisson(3), kd.Pareto("shape", 1.0), unit="m EUR", source="records")
        model.outcome("loss", "total(hull)", unit="m EUR", better="low", target=8)
        return model

    def test_base_case_has_base_counts_of_base_sizes(self):
        base = self.model().base_case()["value"]
        self.assertAlmostEqual(base["loss"], 3 * 2.5 / 1.5)
        self.assertEqual(base["hull_count"], 3)

    def test_written_and_read_again(self):
        model = self.model()
        with TemporaryDirectory() as folder:
            file = Path(folder, "hulls.toml")
            file.write_text(model.to_toml())
            again = kd.load_model(file)
        np.testing.assert_array_equal(
            *(m.simulate(500, seed=2)["loss"].values for m in (model, again))
        )

    def test_a_number_shared_by_two_claims_is_written_once(self):
        model = kd.Model("m")
        model.claims("hull", kd.Poisson(3), kd.Exponential(1))
        model.driver("pier_count", kd.Poisson(2))
        model.claims("pier", "hull_count", kd.Exponential(1))
        model.outcome("gap", "above(hull) - above(pier) + pier_count")
        with TemporaryDirectory() as folder:
            file = Path(folder, "hulls.toml")
            file.write_text(model.to_toml())
            run = kd.load_model(file).simulate(200, seed=2)
        np.testing.assert_array_equal(run["gap"].values, run["pier_count"].values)

    def test_what_a_file_states_in_words(self):
        with TemporaryDirectory() as folder:
            file = Path(folder, "hulls.toml")
            head = '[model]\nname = "m"\n[outcomes]\nloss = "total(hull)"\n[claims.hull]\n'
            file.write_text(head + 'count = "poisson 12"\nsize = "pareto 2.5 1 m EUR"\n')
            model = kd.load_model(file)
            self.assertEqual(model.quantities["hull"].unit, "m EUR")
            self.assertEqual(model.quantities["hull_count"].distribution, kd.Poisson(12.0))
            for wrong, words in (
                ('count = "poisson 12"\nsize = "normal"', "normal"),
                ('count = "normal 12 2"\nsize = "pareto 2 1"', "whole numbers such as Poisson"),
                ('count = "storms"\nsize = "pareto 2 1"', "storms"),
                ('count = "poisson 1 2 3"\nsize = "pareto 2 1"', "3 numbers are stated"),
                ('count = "poisson 12"\nsize = "pareto 2 1"\nlayer = 2', "unknown key 'layer'"),
                ('count = "poisson 12"', "the key 'size' is missing"),
            ):
                file.write_text(head + wrong)
                with self.assertRaises(kd.FileError) as caught:
                    kd.load_model(file)
                self.assertIn(words, str(caught.exception))
                self.assertIn("hull", str(caught.exception))

    def test_the_number_may_be_another_quantity(self):
        model = kd.Model("m")
        model.driver("storms", kd.Discrete([2, 5], [0.5, 0.5]))
        model.line("ships", "storms * 2")
        model.claims("hull", "ships", kd.Exponential(1))
        model.outcome("n", "above(hull)")
        run = model.simulate(200, seed=1)
        np.testing.assert_array_equal(run["n"].values, 2 * run["storms"].values)

    def test_sizes_are_replaced_as_those_of_drivers(self):
        model = kd.Model("m")
        model.claims("hull", kd.Poisson(3), kd.Exponential(2.0))
        model.outcome("loss", "total(hull)", better="low", target=8)
        mean = {
            key: float(model.replace(**changes).simulate(4000, seed=1)["loss"].mean)
            for key, changes in {
                "as stated": {},
                "parameter": {"hull.mean": 4.0},
                "whole": {"hull": kd.Exponential(4.0)},
                "number": {"hull_count.mean": 6.0},
            }.items()
        }
        self.assertAlmostEqual(mean["parameter"], 2 * mean["as stated"])
        self.assertAlmostEqual(mean["whole"], 2 * mean["as stated"])
        self.assertAlmostEqual(mean["number"], 12, delta=0.4)
        moved = model.robustness("loss", trials=2000, seed=1)
        self.assertIn("hull_count x 1.5", moved.table.index.unique(0))
        wide = moved.moved("percentile 95")["difference"]
        self.assertGreater(wide["ranges x 1.5"], wide["hull_count x 1.5"] * 1.2)

    def test_what_cannot_be_said_of_events(self):
        for formula, words in (
            ("hull + 1", "total(x) adds them up"),
            ("hull * hull", "must not be events"),
            ("1 / hull", "must not be events"),
            ("exp(hull)", "must not be events; total(x) adds them up"),
            ("largest(2)", "must be events, such as claims"),
            ("npv(0.1, hull)", "must not be events"),
            ("hull", "several amounts in a trial"),
            ("previous(hull, 0)", "not a row"),
            ("lookup(hull, hull)", "events"),
            ("total(layer(hull, period))", "events without periods and a row"),
            ("total(hull * period)", "events without periods and a row"),
        ):
            model = self.model()
            with self.assertRaises(kd.KindynosError, msg=formula) as caught:
                model.outcome("other", formula)
                model.compiled()
            self.assertIn(words, str(caught.exception), formula)
        model = self.model()

        @model.line
        def doubled(hull):
            return 2 * hull

        with self.assertRaisesRegex(kd.ModelError, r"'doubled'.*total\(hull\)"):
            model.compiled()

    def test_wrong_counts_and_sizes(self):
        for count, size, words in (
            (kd.Normal(3, 1), kd.Exponential(1), "whole numbers"),
            (3, kd.Exponential(1), "whole numbers"),
            (kd.Poisson(3), 5.0, "size must be a distribution"),
        ):
            model = kd.Model("m")
            with self.assertRaisesRegex(kd.KindynosError, words):
                model.claims("hull", count, size)
            self.assertEqual(len(model.quantities), 0)
        for count, words in (("0 - 1", "at least 0, not -1"), ("1e9", "more than can be held")):
            model = kd.Model("m")
            model.driver("load", kd.Normal(0, 1))
            model.line("n", f"{count} + 0 * load")
            model.claims("hull", "n", kd.Exponential(1))
            model.outcome("loss", "total(hull)")
            with self.assertRaisesRegex(kd.KindynosError, words):
                model.simulate(100, seed=1)
        model = kd.Model("m", periods=2)
        model.given(plan=[1, 2])
        model.claims("hull", "plan", kd.Exponential(1))
        with self.assertRaisesRegex(kd.ModelError, "each='period'"):
            model.compiled()

    def test_return_periods(self):
        run = self.model().simulate(TRIALS, seed=1)
        frame = run["loss"].return_periods()
        self.assertEqual(frame.index.tolist(), [2, 5, 10, 20, 50, 100, 200])
        self.assertEqual(frame["value"][20], float(run["loss"].percentile(95)))
        self.assertTrue((frame["low"] <= frame["value"]).all())
        self.assertTrue((frame["high"] >= frame["value"]).all())
        with self.assertRaisesRegex(kd.ParameterError, "above 1"):
            run["loss"].return_periods([1])
        gain = kd.Model("gain")
        gain.driver("x", kd.Normal(0, 1))
        gain.outcome("profit", "x + 0")
        profit = gain.simulate(4000, seed=1)["profit"]
        self.assertEqual(profit.return_periods([20])["value"][20], float(profit.percentile(5)))


if __name__ == "__main__":
    unittest.main()
