"""Tests of pictures of fits, series, results made elsewhere and decisions: what they show is what
was found.
"""

import numpy as np
import pandas as pd
from matplotlib.figure import Figure

import kindynos as kd
from tests.common import Case

BILLS = kd.read_values(kd.demo_file("repair_bills.csv"))


def labels(ax):
    return [text.get_text() for text in ax.get_legend().get_texts()]


class Fits(Case):
    def setUp(self):
        self.ranking = kd.fit_distributions(BILLS, ["gamma", "lognormal", "normal"], samples=19)

    def test_densities_are_those_of_the_best(self):
        ax = self.ranking.plot(best=2)
        self.assertIn("40 values", ax.get_title(loc="left"))
        self.assertTrue(
            any(label.startswith("lognormal: mean 12,500") for label in labels(ax)), labels(ax)
        )
        self.assertFalse(any(label.startswith("normal:") for label in labels(ax)))
        curve = next(line for line in ax.lines if str(line.get_label()).startswith("gamma"))
        np.testing.assert_allclose(curve.get_ydata(), self.ranking["gamma"].pdf(curve.get_xdata()))

    def test_quantiles_lie_inside_their_band(self):
        truth = kd.Normal(10, 2)
        outside = []
        for row in truth.sample((60, 50), seed=4):
            ax = kd.fit_distributions(row, ["normal"], samples=19).plot(
                "quantiles", ax=Figure().subplots()
            )
            points = next(line for line in ax.lines if line.get_label() == "values, in order")
            band = ax.collections[0].get_paths()[0].vertices
            x, y = points.get_xdata(), points.get_ydata()
            lower = np.interp(x[25], *band[1:51].T)
            upper = np.interp(x[25], *band[52:102][::-1].T)
            low, high = sorted((lower, upper))
            outside.append(not low <= y[25] <= high)
        self.assertLess(np.mean(outside), 0.15)
        named = self.ranking.plot("quantiles", name="normal")
        self.assertIn("normal: mean", named.get_title(loc="left"))

    def test_counts_are_bars_beside_masses(self):
        counts = kd.Poisson(4).sample(200, seed=1)
        ax = kd.fit_distributions(counts, ["poisson"], samples=19).plot()
        line = next(line for line in ax.lines if str(line.get_label()).startswith("poisson"))
        self.assertAlmostEqual(line.get_ydata()[0], kd.Poisson(counts.mean()).pmf(counts.min()))
        self.assertAlmostEqual(sum(bar.get_height() for bar in ax.patches), 1)

    def test_normality_tells_the_size_of_the_departure(self):
        found = kd.normality(BILLS)
        ax = found.plot(name="bill", unit="EUR")
        self.assertIn(f"skewness {found.skewness:.2f}", ax.get_title(loc="left"))
        self.assertIn("thousand EUR", ax.get_xlabel())


class Series(Case):
    def setUp(self):
        rng = np.random.default_rng(2)
        index = pd.date_range("2020-01-01", periods=60, freq="MS")
        self.series = pd.Series(100 + np.cumsum(rng.standard_normal(60)), index, name="cost_index")
        self.ranking = kd.fit_series(self.series, ["arima (0,1,0)", "arima (1,0,0)"], rolling=False)

    def test_the_fan_is_that_of_the_process_named(self):
        ax = self.ranking.plot("arima (0,1,0)", periods=5, seed=3, paths=2)
        median = next(line for line in ax.lines if line.get_label() == "median")
        made = self.ranking["arima (0,1,0)"].paths(5, 4000, 3, uncertain=True)[1:]
        np.testing.assert_allclose(median.get_ydata(), np.median(made, axis=1))
        self.assertEqual(sum(str(line.get_label()).startswith("path ") for line in ax.lines), 2)
        self.assertIn("the next 5 months by arima (0,1,0)", ax.get_title(loc="left"))
        self.assertEqual((ax.get_ylabel(), ax.get_xlabel()), ("cost index", "month"))

    def test_diagnostics_draw_what_they_found(self):
        found = kd.diagnose(self.series.to_numpy(), lags=12)
        figure = found.plot()
        bars = [patch.get_height() for patch in figure.axes[1].patches if patch.get_width() < 1]
        np.testing.assert_allclose(bars, found.autocorrelations)
        self.assertIn("KPSS", figure.axes[3].get_title(loc="left"))


class Together(Case):
    def test_quadrants_add_up(self):
        rng = np.random.default_rng(1)
        x = rng.standard_normal(2000)
        table = pd.DataFrame(
            {"growth": x, "max_drawdown": 0.8 * x + 0.6 * rng.standard_normal(2000)}
        )
        figure = kd.read_trials(table).scatter("growth", "max_drawdown", cuts=(0, 0))
        shares = [float(text.get_text().rstrip(" %")) for text in figure.axes[0].texts]
        self.assertAlmostEqual(sum(shares), 100, places=6)
        # Of a bivariate normal with correlation 0.8 a quarter plus arcsin(0.8) / 2 pi is above
        # both.
        self.assertAlmostEqual(shares[-1], 100 * (0.25 + np.arcsin(0.8) / (2 * np.pi)), delta=2.5)
        self.assertIn(
            "Max drawdown against growth, 2,000 trials", figure.axes[1].get_title(loc="left")
        )


class Decisions(Case):
    def test_the_tree_names_every_branch_and_marks_the_best(self):
        solution = kd.load_decision(kd.demo_file("lease_or_buy.toml")).solve(trials=2000)
        ax = solution.plot().axes[0]
        texts = [text.get_text() for text in ax.texts]
        for name in ("buy", "lease", "wait", "granted 65 %", "refused 35 %", "day trips", "go on"):
            self.assertIn(name, texts)
        bold = [text.get_text().strip() for text in ax.texts if text.get_fontweight() == "bold"]
        # the choice, buying, the permit granted, refused, and then selling
        self.assertEqual(len(bold), 5)
        self.assertIn("buy is best", ax.get_title(loc="left"))

    def test_forty_parts_do_not_lie_on_each_other(self):
        inner = {
            f"size {i}": kd.Event(f"demand {i}", {"low": (0.3, 1.0 * i), "high": ("rest", 2.0 * i)})
            for i in range(12)
        }
        ax = (
            kd.Decision("fleet", {"now": kd.Choice("how large", inner), "never": 0.0})
            .solve()
            .plot()
            .axes[0]
        )
        ends = sorted(line.get_ydata()[0] for line in ax.lines if line.get_marker() == "|")
        self.assertEqual(len(ends), 25)
        self.assertTrue((np.diff(ends) >= 1).all())

    def test_profiles_reach_one(self):
        right = (
            kd.load_decision(kd.demo_file("lease_or_buy.toml"))
            .solve(trials=500)
            .plot("profiles")
            .axes[1]
        )
        thick = [line for line in right.lines if line.get_linewidth() > 1.5]
        self.assertEqual({line.get_label() for line in thick}, {"buy", "lease", "wait"})
        for line in thick:
            self.assertTrue(
                (np.diff(line.get_ydata()) >= -1e-12).all()
                and abs(line.get_ydata()[-1] - 1) < 1e-12
            )
