"""Tests of comparison."""

import numpy as np
from matplotlib.figure import Figure
from rich.console import Console
from scipy import stats

import kindynos as kd
from kindynos.reports import studies
from kindynos.reports.runs import run_report
from tests.common import Case, investment, proof, repeats


class OnTheSameDraws(Case):
    @classmethod
    def setUpClass(cls):
        cls.model = investment()
        scenarios = {
            "as planned": {},
            "dearer": {"price": 320.0},
            "wilder": {"flow": kd.Normal(90, 25)},
        }
        cls.compared = cls.model.compare(scenarios, trials=4000, seed=3)

    def test_table_has_each_runs_own_figures(self):
        table = self.compared.table()
        run = self.model.replace(price=320.0).simulate(4000, seed=3)
        self.assertEqual(
            table.loc[("net_value", "P5"), ("dearer", "value")], run["net_value"].percentile(5)
        )
        self.assertEqual(
            table.loc[("net_value", "mean"), ("dearer", "error")], run["net_value"].mean.error
        )

    def test_paired_differences(self):
        frame = self.compared.differences().loc["net_value"]
        shift = frame.loc["dearer"]
        for statistic in (
            "mean",
            "P5",
            "P50",
            "P95",
        ):  # a price only shifts the distribution: exactly, without an error
            self.assertAlmostEqual(shift.loc[statistic, "difference"], -20, 8)
            self.assertLess(shift.loc[statistic, "error"], 1e-9)
        self.assertEqual(shift.loc["higher in the same trial", "difference"], 0)
        wild = frame.loc["wilder"]
        self.assertLess(
            wild.loc["mean", "error"], 0.7 * self.compared.result("wilder", "net_value").mean.error
        )
        factor = sum(1.1**-t for t in range(1, 6))
        wanted = (25 - 10) * factor * stats.norm.ppf(0.05)
        self.assertLess(abs(wild.loc["P5", "difference"] - wanted), 1.5 * wild.loc["P5", "error"])
        self.assertAlmostEqual(wild.loc["higher in the same trial", "difference"], 0.5, delta=0.02)
        self.assertTrue(frame["paired"].all())

    @proof
    def test_errors_of_differences_cover_the_truth(self):
        factor = sum(1.1**-t for t in range(1, 6))
        true = {"mean": 2 * factor, "P5": 2 * factor + 5 * factor * stats.norm.ppf(0.05)}
        hits = dict.fromkeys(true, 0)
        changes = {"a": {}, "b": {"flow": kd.Normal(92, 15)}}
        for seed in range(60):
            frame = (
                self.model.compare(changes, 1000, seed, sampling="random")
                .differences()
                .loc[("net_value", "b")]
            )
            for name, value in true.items():
                hits[name] += frame.loc[name, "low"] <= value <= frame.loc[name, "high"]
        for name, count in hits.items():
            self.assertTrue(52 <= count <= 60, (name, count))

    @proof
    def test_the_best_of_equals_is_claimed_as_seldom_as_its_interval_says(self):
        for count, most in ((2, 0.085), (5, 0.03)):
            names = [f"case {place}" for place in range(count)]
            model = kd.Model("Equals")
            model.given(**{f"weight{place}": 0.0 for place in range(count)})
            for place in range(count):
                model.driver(f"own{place}", kd.Normal(0, 1))
            model.outcome("y", " + ".join(f"weight{p} * own{p}" for p in range(count)))
            cases = {name: {f"weight{p}": 1.0} for p, name in enumerate(names)}
            ahead = [
                model.compare(cases, trials=400, seed=seed, sampling="random").best("y").ahead
                for seed in range(repeats(600))
            ]
            claimed = np.mean([figure.low > 0 for figure in ahead])
            halved = np.mean([float(figure) > figure.error / 2 for figure in ahead])
            self.assertLess(claimed, most, count)
            if count == 2:  # 5 % of the intervals leave 0 out, and 33 % of those half as wide
                self.assertGreater(claimed, 0.02)
                self.assertAlmostEqual(halved, 0.33, delta=0.08)

    @proof
    def test_rare_chances_and_counts_on_the_same_draws(self):
        model = kd.Model("rare")
        model.given(line=2.6)
        model.driver("z", kd.Normal(0, 1))
        model.driver("n", kd.Poisson(3))
        model.given(more=0)
        model.outcome("late", "z - line", target=0)
        model.outcome("count", "n + more * (z > 1)")
        truth = stats.norm.sf(2.4) - stats.norm.sf(2.6)
        held = 0
        for seed in range(60):
            frame = model.compare(
                {"a": {}, "b": {"line": 2.4, "more": 1}}, 500, seed, sampling="random"
            ).differences()
            rare, count = (
                frame.loc[("late", "b", "chance above 0")],
                frame.loc[("count", "b", "P50")],
            )
            held += rare["low"] <= truth <= rare["high"]
            self.assertGreater(rare["high"], rare["low"])
            self.assertTrue(count["low"] <= 0 <= count["high"] or count["difference"] != 0)
        self.assertGreaterEqual(held, 54)
        every = (
            model.compare({"a": {}, "b": {"line": 1.0}}, 500, 1)
            .differences()
            .loc[("late", "b", "higher in the same trial")]
        )
        self.assertEqual((every["difference"], every["high"]), (1, 1))
        self.assertAlmostEqual(every["low"], 500 / (500 + 1.96**2), 4)

    def test_dominance(self):
        frame = self.compared.dominance("net_value")
        self.assertTrue(frame.loc[("as planned", "dearer"), ["first order", "second order"]].all())
        self.assertFalse(frame.loc[("dearer", "as planned"), ["first order", "second order"]].any())
        # the same mean and less risk: second order alone
        calm = frame.loc[("as planned", "wilder")]
        self.assertEqual((calm["first order"], calm["by chance"]), (False, False))
        self.assertTrue(calm["second order"] or calm["by chance, second"])
        self.assertGreater(frame.loc[("wilder", "as planned"), "against, second"], 5)

    def test_pictures(self):
        for kind, axis in (("cumulative", "at or below"), ("survival", "above")):
            ax = self.compared.plot("net_value", kind, ax=Figure().subplots())
            self.assertEqual(
                [text.get_text() for text in ax.get_legend().get_texts()], self.compared.scenarios
            )
            self.assertIn(axis, ax.get_ylabel())
            y = ax.lines[0].get_ydata()
            self.assertTrue(
                (np.diff(y) >= 0).all() if kind == "cumulative" else (np.diff(y) <= 0).all()
            )
        ax = self.compared.plot("net_value", "boxes", ax=Figure().subplots())
        self.assertEqual(
            [label.get_text() for label in ax.get_yticklabels()], self.compared.scenarios
        )
        with self.fails("kind", "'pie'"):
            self.compared.plot("net_value", "pie")

    def test_survival_of_a_first_period(self):
        model = kd.Model("m", periods=8, start=2030)
        model.driver("x", kd.Uniform(0, 1), each="period")
        model.outcome("hit", "first_period(x > 0.9)")
        ax = kd.plots.survival(model.simulate(2000, seed=1), "hit", ax=Figure().subplots())
        self.assertIn("2,000 trials", ax.get_title(loc="left"))
        self.assertAlmostEqual(ax.lines[0].get_ydata()[-1], 0.9**8, delta=0.04)


class Unpaired(Case):
    def test_other_seeds_are_independent_samples(self):
        one, two = (
            investment().simulate(3000, seed=1),
            investment(price=310.0).simulate(3000, seed=2),
        )
        frame = kd.compare({"a": one, "b": two}).differences().loc[("net_value", "b")]
        self.assertFalse(frame["paired"].any())
        error = np.hypot(one["net_value"].mean.error, two["net_value"].mean.error)
        self.assertAlmostEqual(frame.loc["mean", "error"], error)
        a, b = one["net_value"].values, two["net_value"].values
        wanted = stats.mannwhitneyu(b, a).statistic / (len(a) * len(b))
        self.assertAlmostEqual(frame.loc["higher in any two trials", "difference"], wanted)

    def test_a_mean_from_elsewhere(self):
        run = investment().simulate(3000, seed=1)
        compared = kd.compare({"ours": run, "theirs": kd.ReportedMean(50.0, sd=30.0, n=400)})
        row = compared.differences().loc[("net_value", "theirs", "mean")]
        self.assertAlmostEqual(row["difference"], 50 - run["net_value"].mean)
        self.assertAlmostEqual(
            row["error"], np.hypot(run["net_value"].mean.error, 1.959964 * 30 / 20), 4
        )
        self.assertEqual(compared.table().loc[("net_value", "sd"), ("theirs", "value")], 30)
        with self.fails("only the mean"):
            compared.result("theirs", "net_value")


class Errors(Case):
    def test_unpaired_differences(self):
        truth, hits = 5 * sum(1.1**-t for t in range(1, 6)), 0
        for seed in range(60):
            one = investment().simulate(600, seed=seed, sampling="random")
            two = investment(flow=kd.Normal(95, 10)).simulate(
                600, seed=1000 + seed, sampling="random"
            )
            row = kd.compare({"a": one, "b": two}).differences().loc[("net_value", "b", "mean")]
            hits += row["low"] <= truth <= row["high"]
        self.assertTrue(52 <= hits <= 60, hits)


class Messages(Case):
    def test_comparisons(self):
        model = investment()
        row = investment()
        row.outcome("row", "cash_flow * 2")
        row.outcome("second", "flow * 2")
        compared = row.compare({"a": {}, "b": {"price": 310.0}}, trials=300, seed=1)
        other = kd.Model("other")
        other.driver("x", kd.Normal(0, 1))
        other.outcome("z", "x")
        one = model.simulate(300, seed=1)
        for call, words in (
            (lambda: compared.result("c", "net_value"), ("no scenario 'c'",)),
            (lambda: compared.result("a", "net_valu"), ("did you mean 'net_value'",)),
            (
                lambda: kd.compare(dict.fromkeys("ab", row.simulate(300)), outcome="row").table(),
                ("is a row",),
            ),
            (lambda: kd.compare({"a": one, "b": other.simulate(300)}), ("no outcome in common",)),
            (
                lambda: kd.compare({"a": kd.ReportedMean(1, 1, 9), "b": kd.ReportedMean(1, 1, 9)}),
                ("must be a run",),
            ),
            (
                lambda: kd.compare({"a": row.simulate(300), "b": kd.ReportedMean(1, 1, 9)}),
                ("say outcome=",),
            ),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
        self.assertEqual(compared.outcomes, ["net_value", "second"])  # rows are left out
        self.assertEqual(len(compared.differences()), 11)
        self.assertIn("net_value", repr(compared))


class Rows(Case):
    def compared(self, **options):
        model = kd.Model("shop", periods=3, start=2030)
        model.given(fare=10.0)
        model.driver("sold", kd.Normal(50, 5), each="period")
        model.line("sales", "fare * sold")
        model.outcome("cumulated", "running_total(sales)", unit="EUR")
        model.outcome("total_sales", "total(sales)")
        return model.compare({"now": {}, "dear": {"fare": 12.0}}, trials=2000, seed=1, **options)

    def test_differences_by_period_are_paired(self):
        compared = self.compared()
        self.assertEqual((compared.rows, compared.outcomes), (["cumulated"], ["total_sales"]))
        means = compared.row_differences("cumulated").xs("mean", level="statistic")
        for place, year in enumerate(("2030", "2031", "2032")):
            row = means.loc[("dear", year)]
            self.assertTrue(row["paired"])
            self.assertAlmostEqual(row["difference"], 100 * (place + 1), delta=0.2)
            self.assertLess(row["error"], 1.0)
        with self.fails("'total_sales' is not a row", "cumulated"):
            compared.row_differences("total_sales")
        with self.fails("is a row"):
            kd.compare(compared.runs, outcome="cumulated").table()
        figure = kd.plots.fans(compared, "cumulated", Figure())
        self.assertEqual([ax.get_title(loc="left") for ax in figure.axes], ["now", "dear"])

    def test_rows_alone_and_reports(self):
        only = kd.compare(self.compared().runs, outcome="cumulated")
        text = "\n".join(
            table.title for s in studies.comparison(only).sections for table in s.tables
        )
        self.assertIn("cumulated by period, EUR: means", text)
        self.assertIn("rows", studies.comparison(only).data())


class Conditions(Case):
    def model(self):
        model = kd.Model("loan")
        model.given(limit=1.0)
        model.driver("debt", kd.Normal(0, 1))
        model.driver("gain", kd.Normal(0, 1))
        model.outcome("net", "gain - debt")
        model.outcome("breach", "debt > limit")
        return model

    def test_chances_of_several_quantities(self):
        run = self.model().simulate(20_000, seed=1)
        tail = float(stats.norm.sf(1))
        self.assertAlmostEqual(float(run.chance("breach")), tail, delta=0.001)
        both = run.chance("debt >= 1 and gain <= 0")
        self.assertAlmostEqual(float(both), tail / 2, delta=0.004)
        self.assertLess(abs(float(both) - tail / 2), 2 * both.error)
        self.assertEqual(float(run.chance("not breach")), 1 - float(run.chance("breach")))
        for condition, words in (
            ("debt + gain", ("is not a condition",)),
            ("dept > 1", ("did you mean 'debt'",)),
            ("debt >", ("cannot be read",)),
        ):
            with self.subTest(condition=condition), self.fails(*words):
                run.chance(condition)

    def test_their_differences(self):
        compared = self.model().compare(
            {"now": {}, "strict": {"limit": 0.5}}, trials=20_000, seed=1
        )
        found = compared.chances(["breach and gain < 0"]).loc[("breach and gain < 0", "strict")]
        truth = (stats.norm.sf(0.5) - stats.norm.sf(1)) / 2
        self.assertAlmostEqual(found["difference"], truth, delta=0.004)
        # paired, on a latin plan: 1.96 times the spread of the difference over 30 seeds
        name = ("breach and gain < 0", "strict")
        errors = [
            self.model()
            .compare({"now": {}, "strict": {"limit": 0.5}}, trials=20_000, seed=seed)
            .chances([name[0]])
            .loc[name, "error of difference"]
            for seed in range(5)
        ]
        self.assertAlmostEqual(float(np.mean(errors)), 0.0027, delta=0.0006)
        self.assertEqual(len(compared.chances("breach")), 2)
        for call, words in (
            (lambda: compared.chances(None), "must be a text"),
            (lambda: compared.rows_of(np.array([1.0, 2.0])), "outcome must be a text"),
            (lambda: compared.row_differences(["breach"]), "outcome must be a text"),
        ):
            with self.subTest(words=words), self.fails(words):
                call()

    def test_an_outcome_that_is_true_or_false_is_told_as_a_chance(self):
        model = self.model()
        text = console_text(run_report(model.simulate(2000, seed=1)))
        self.assertIn("breach, true or false", text)
        self.assertRegex(text, r"true +15\.\d+ %")
        compared = model.compare({"now": {}, "strict": {"limit": 0.5}}, trials=2000, seed=1)
        self.assertRegex(console_text(studies.comparison(compared)), r"\+15\.\d ± 0\.\d points")


def console_text(report) -> str:
    console = Console(width=120)
    with console.capture() as capture:
        console.print(report)
    return capture.get()


class AnyTwoTrials(Case):
    def test_the_error_is_delongs(self):
        runs = {}
        for seed, (name, mean, trials) in enumerate((("a", 0.0, 400), ("b", 0.7, 900))):
            model = kd.Model(name)
            model.driver("z", kd.Normal(mean, 1))
            model.outcome("y", "z + 0")
            runs[name] = model.simulate(trials, seed=seed, sampling="random")
        table = kd.compare(runs).differences().loc[("y", "b", "higher in any two trials")]
        a, b = runs["a"]["y"].values, runs["b"]["y"].values
        wins = (b[:, None] > a[None, :]).astype(float)
        variance = wins.mean(axis=1).var(ddof=1) / len(b) + wins.mean(axis=0).var(ddof=1) / len(a)
        self.assertAlmostEqual(table["difference"], wins.mean())
        self.assertAlmostEqual(table["error"], 1.959964 * variance**0.5, places=6)
