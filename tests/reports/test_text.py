"""Tests of text."""

import io
import json
import re

import numpy as np
from matplotlib.figure import Figure
from rich.console import Console

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.distributions.registry import example
from kindynos.formatting import in_one_cell, with_error
from kindynos.inference.estimates import Estimate, symmetrical
from kindynos.model.review import review
from kindynos.reports import catalogues, model_tables, studies
from kindynos.reports.lumps import never
from kindynos.reports.runs import run_report
from kindynos.reports.summary import as_json, summary
from tests.common import Case, investment


def printed(thing) -> str:
    out = io.StringIO()
    Console(file=out, width=160).print(thing)
    return out.getvalue()


def failing() -> kd.Run:
    model = kd.Model("Partly failing", periods=2, start="2028-Q4", every="quarter")
    model.driver("x", kd.Uniform(-1, 3))
    model.driver("noise", kd.Normal(0, 1), each="period")
    model.outcome("root", "sqrt(x)", target=1)
    model.outcome("level", "x + noise", unit="m")
    model.outcome("never", "1 / 0 + 0 * x")
    return model.simulate(4000, seed=2)


class Terminal(Case):
    def test_failed_trials_are_said(self):
        shown = printed(run_report(failing()))
        for part in (
            "without a value",
            "1,000",
            "chance of no value",
            "25.0 %",
            "first in 'root'",
            "95 % error is how far",
            "never",
        ):
            self.assertIn(part, shown)
        chances = [
            float(found) for found in re.findall(r"^ chance [^│\n]*?(\d+\.\d) %", shown, re.M)
        ]
        self.assertAlmostEqual(sum(chances), 100, places=6)

    def test_what_moves_together_is_said(self):
        model = kd.Model("together")
        for name in "abc":
            model.driver(name, kd.Normal(0, 1))
        for one, other, figure in (("a", "b", 0.9), ("b", "c", 0.9), ("a", "c", -0.5)):
            model.correlate(one, other, figure, repair=True)
        model.outcome("y", "a + b + c")
        aim = kd.Precision("y", "mean", within=0.5)
        run = model.simulate(4000, seed=1, sampling="sobol", until=aim)
        shown = printed(run_report(run))
        for part in (
            "a with b: rank correlation",
            "asked 0.9",
            "gaussian copula",
            "Repaired",
            "a with c: -0.500 became",
            "met.",
        ):
            self.assertIn(part, shown)
        self.assertNotIn("Assumed independent", shown)
        data = json.loads(as_json(summary(run)))
        self.assertEqual([row["requested"] for row in data["correlations"]], [0.9, 0.9, -0.5])
        self.assertEqual(len(data["repaired"]), 3)
        stopped = investment().simulate(100_000, seed=1, progress=lambda done, total: False)
        self.assertIn("Partial: stopped after", printed(run_report(stopped)))
        rounded = investment().simulate(1000, seed=1, sampling="sobol")
        self.assertIn("Rounded up from the 1,000 trials", printed(run_report(rounded)))

    def test_every_law_is_shown_in_words(self):
        for distribution in CATALOGUE.values():
            shown = printed(catalogues.distribution_figures(example(distribution), mark=5.0))
            with self.subTest(distribution=distribution.label):
                self.assertIn("P50", shown)
                chances = [float(part) for part in re.findall(r"(\d+\.\d\d) %", shown)]
                self.assertAlmostEqual(sum(chances), 100, places=6)
                self.assertIn(
                    f'distribution = "{distribution.label}"',
                    printed(catalogues.about_distribution(distribution)),
                )
        self.assertIn(
            "does not exist", printed(catalogues.distribution_figures(kd.Cauchy(0, 1), None))
        )
        self.assertIn("generalized pareto", printed(catalogues.catalogue()))

    def test_rows_by_period(self):
        shown = printed(run_report(failing()))
        self.assertRegex(shown, r"2028 Q4 +1\.0+ +0\.99\d* +± 0\.00")
        self.assertIn("2029 Q1", shown)
        self.assertIn("noise in different periods", shown)

    def test_too_few_trials_are_said(self):
        shown = printed(run_report(investment().simulate(50, seed=1)))
        self.assertIn("50 trials are too few", shown)
        self.assertNotIn("±", shown)

    def test_sheets_of_any_width(self):
        for periods in (None, 3, 40):
            model = kd.Model("m", periods=periods)
            model.given(a=12345.678, steps={0: 1, 2: 5})
            model.line("y", "a + lookup(1, steps)" + (" + period" if periods else ""))
            program = model.compiled()
            shown = printed(model_tables.sheet_table("Sheet", model.base_case(), {"a": "EUR"}))
            self.assertIn("EUR", shown)
            self.assertEqual("..." in shown, periods == 40)
            self.assertIn("2 pairs", printed(model_tables.givens_table(program)))

    def test_markup_in_names_is_shown_as_it_is(self):
        model = kd.Model("[bold]m[/bold]")
        model.given("a", 1.0, unit="[red]", source="[/]")
        self.assertIn("[red]", printed(model_tables.givens_table(model.compiled())))
        model.outcome("y", "a")
        self.assertIn("[bold]m[/bold]", printed(run_report(model.simulate(10, seed=1))))

    def test_what_a_process_ends_at_is_exact_where_it_has_a_closed_form(self):
        oil = kd.GeometricBrownianMotion(0.8, 0.05, 0.3)
        model = kd.Model("m", periods=8, every="quarter", start="2028-Q1")
        model.driver("oil", oil, dt=0.25)
        model.outcome("cost", "last(oil)")
        row = " ".join(printed(model_tables.drivers_table(model.compiled())).split())
        self.assertIn("after 8 quarters", row)
        for figure in (oil.expected(2.0), *(oil.distribution_at(2.0).percentile([5, 95]))):
            self.assertIn(f"{float(figure):.5g}", row)

    def test_findings(self):
        self.assertIn("Nothing looks wrong", printed(model_tables.findings([])))
        quiet = kd.Model("m")
        quiet.driver("x", kd.Normal(10, 1), source="records")
        quiet.outcome("y", "x * 2")
        self.assertEqual(review(quiet.compiled()), [])


class Lumps(Case):
    def test_shares_below_and_exactly_at_a_figure(self):
        model = kd.Model("Lumps", periods=8, start="2030")
        model.driver("hit", kd.Bernoulli(0.3))
        model.driver("size", kd.Uniform(1, 2))
        model.outcome("loss", "hit * size")
        model.driver("sold", kd.Bernoulli(0.1), each="period")
        model.outcome("year_sold", "first_period(sold > 0)")
        shown = printed(run_report(model.simulate(1000, seed=1)))
        self.assertIn("none of the trials lie below it, 70 % exactly at it", shown)
        self.assertRegex(shown, r"chance of exactly 0 +70.0 %")
        never = 0.9**8
        found = float(re.search(r"chance of never +([0-9.]+) %", shown)[1])
        self.assertLess(abs(found / 100 - never), 0.04)
        years = np.arange(1, 9)
        weights = 0.9 ** (years - 1)
        mean = float(re.search(r"mean where it happens +([0-9.]+)", shown)[1])
        self.assertLess(abs(mean - weights @ years / weights.sum()), 0.35)
        self.assertRegex(shown, r"P5 +1 \(2030\)")
        self.assertNotIn("mean   never", shown)

    def test_comparisons_say_how_often_never_and_the_mean_of_the_rest(self):
        model = kd.Model("Sold", periods=8)
        model.driver("sold", kd.Bernoulli(0.1), each="period")
        model.outcome("year", "first_period(sold > 0)")
        model.scenario("dearer", sold=kd.Bernoulli(0.05))
        compared = model.compare(trials=1000, seed=1)
        shown = printed(studies.comparison(compared))
        self.assertNotIn("infinite", shown.partition("Difference")[0].replace("base case", ""))
        found = [
            float(share)
            for share in re.search(
                r"chance of never +([0-9.]+) % ± [0-9.]+ % +([0-9.]+) %", shown
            ).groups()
        ]
        np.testing.assert_allclose(np.array(found) / 100, [0.9**8, 0.95**8], atol=0.05)
        self.assertIn("mean where it happens", shown)

    def test_noise_of_the_arithmetic_is_no_error(self):
        self.assertEqual(with_error(Estimate(0.3, 0.3 - 1e-17, 0.3 + 1e-16)), ("0.3", "± 0"))
        self.assertEqual(in_one_cell(symmetrical(1e6, 1e-9)), "1,000,000 ± 0")

    def test_the_mean_where_it_happens_has_a_true_error(self):
        model = kd.Model("Sold", periods=8)
        model.driver("sold", kd.Bernoulli(0.1), each="period")
        model.outcome("year", "first_period(sold > 0)")
        weights = 0.9 ** np.arange(8)
        true = weights @ np.arange(1, 9) / weights.sum()
        found = [never(model.simulate(600, seed=seed, workers=1)["year"])[1] for seed in range(100)]
        self.assertCalibrated(
            [float(mean) - true for mean in found], [mean.error for mean in found]
        )


class PerCentAndCounts(Case):
    def model(self):
        model = kd.Model("units", periods=2)
        model.driver("rate", kd.Normal(0.08, 0.02), unit="%")
        model.driver("guests", kd.Binomial(2300, 0.92))
        model.outcome("margin", "rate - 0.01", unit="%", target=0.05)
        model.outcome("sold", "guests")
        model.outcome("row", "every_period(rate)", unit="%")
        return model

    def test_fractions_in_per_cent_are_shown_times_100(self):
        run = self.model().simulate(4000, seed=1)
        shown = printed(run_report(run))
        self.assertRegex(shown, r"margin, %, target 5\n")
        self.assertRegex(shown, r"mean +7\.00\d* ")
        self.assertIn("chance below 5 % ", shown)
        self.assertAlmostEqual(float(run["margin"].mean), 0.07, places=3)  # and not in the data
        swept = printed(studies.sweep(self.model().sweep(rate=[0.05, 0.1])))
        self.assertRegex(swept, r"rate, % +margin, %")
        self.assertRegex(swept, r" 5 +4 ")
        ax = kd.plots.distribution(run["margin"], ax=Figure().subplots())
        self.assertIn("(%)", ax.get_xlabel())
        self.assertEqual(ax.xaxis.get_major_formatter()(0.08, None), "8")

    def test_percentiles_of_counts_are_whole(self):
        shown = printed(run_report(self.model().simulate(4000, seed=1)))
        sold = shown[shown.index("\nsold") :]
        self.assertRegex(sold, r"P50 +2,116 ")
        self.assertNotRegex(sold[: sold.index("highest")], r"P\d+ +[\d,]+\.\d")
        self.assertEqual(repr(kd.Estimate(-5e6, -5e6, -5e6)), "-5,000,000 ± 0")
