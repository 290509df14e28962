"""Tests of pictures."""

import numpy as np
from matplotlib.figure import Figure

import kindynos as kd
from tests.common import Case, investment


def texts(ax) -> str:
    parts = [text.get_text() for axes in ax.figure.axes for text in axes.texts]
    legend = [text.get_text() for text in ax.get_legend().get_texts()] if ax.get_legend() else []
    return " | ".join([ax.get_title(loc="left"), ax.get_xlabel(), ax.get_ylabel(), *parts, *legend])


class Pictures(Case):
    @classmethod
    def setUpClass(cls):
        cls.run_ = investment().simulate(4000, seed=1)

    def axes(self):
        return Figure().subplots()

    def test_distribution(self):
        value = self.run_["net_value"]
        ax = self.axes()
        self.assertIs(kd.plots.distribution(value, ax=ax), ax)
        shown = texts(ax)
        below = 100 * value.chance(below=0)
        for text in (
            "net value",
            "4,000 trials",
            "EUR",
            "P5",
            "P95",
            "target 0",
            f"{below:.1f} % below",
            "base case",
        ):
            self.assertIn(text, shown)
        heights = sum(bar.get_height() for bar in ax.patches)
        self.assertAlmostEqual(heights, 1, delta=0.01)
        edges = np.array([bar.get_x() for bar in ax.patches])
        self.assertLess(np.abs(edges).min(), 1e-9)  # no bar lies on both sides of the target
        self.assertEqual(len(kd.plots.distribution(value, ax=self.axes(), bins=12).patches), 14)
        marked = kd.plots.distribution(
            value, ax=self.axes(), below_colour="black", number_format="{:.3f}"
        )
        self.assertEqual(marked.patches[0].get_facecolor()[:3], (0, 0, 0))
        self.assertIn(
            f"P50\n{float(value.percentile(50)):.3f}", [text.get_text() for text in marked.texts]
        )

    def test_ranking_of_drivers(self):
        model = kd.Model("m")
        model.driver("up", kd.Normal(0, 1))
        model.driver("down", kd.Normal(0, 2))
        model.outcome("y", "up - down")
        ax = kd.plots.sensitivity(model.simulate(4000, seed=1), "y", ax=self.axes())
        self.assertEqual([label.get_text() for label in ax.get_yticklabels()], ["down", "up"])
        self.assertLess(ax.patches[0].get_width(), -0.8)
        self.assertAlmostEqual(
            sum(float(text.get_text().split()[0]) for text in ax.texts), 100, delta=3
        )

    def test_fan(self):
        model = kd.Model("m", periods=6, start=2030)
        model.driver("x", kd.Normal(5, 1), each="period")
        model.outcome("y", "running_total(x)", unit="EUR")
        run = model.simulate(2000, seed=1)
        ax = kd.plots.fan(run["y"], ax=self.axes())
        self.assertEqual(ax.get_xticklabels()[0].get_text(), "2030")
        self.assertIn("90 % of trials", texts(ax))
        self.assertIn("y (EUR)", texts(ax))
        median = next(line for line in ax.lines if line.get_label() == "median")
        np.testing.assert_allclose(median.get_ydata(), np.asarray(run["y"].median))

    def test_laws(self):
        for distribution in (
            kd.Pert(17.5e6, 19e6, 26e6),
            kd.Poisson(4),
            kd.Cauchy(0, 1),
            kd.Beta(0.5, 0.5),
            kd.Bernoulli(0.3),
        ):
            ax = self.axes()
            self.assertIs(distribution.plot(ax=ax, mark=distribution.percentile(70)), ax)
            self.assertIn("P95", texts(ax))
            self.assertIn("below", texts(ax))
        self.assertIn("mean 19.917, sd", texts(kd.Pert(17.5e6, 19e6, 26e6).plot(ax=self.axes())))
        self.assertNotIn("mean", texts(kd.Cauchy(0, 1).plot(ax=self.axes())))

    def test_convergence(self):
        ax = kd.plots.convergence(self.run_, "net_value", "percentile", 5, ax=self.axes())
        self.assertIn("percentile 5 of net value", texts(ax))
        self.assertAlmostEqual(ax.lines[0].get_ydata()[-1], self.run_["net_value"].percentile(5))

    def test_axes_in_per_cent_show_fractions_times_100(self):
        model = kd.Model("m")
        model.driver("growth", kd.Normal(0.05, 0.01), unit="% a year")
        model.outcome("rate", "growth + 0.02", unit="% a year")
        run = model.simulate(500, seed=1)
        swept = model.sweep(growth=[0.04, 0.06], statistic="base")
        for draw, axis in (
            (lambda ax: kd.plots.convergence(run, "rate", ax=ax), "yaxis"),
            (lambda ax: kd.plots.convergence(run, "rate", "chance", below=0.07, ax=ax), "yaxis"),
            (lambda ax: kd.plots.sensitivity(run, "rate", "swing", ax=ax), "xaxis"),
            (lambda ax: swept.plot(ax=ax), "xaxis"),
        ):
            shown = getattr(draw(self.axes()), axis).get_major_formatter()
            self.assertEqual(shown(0.05), "5")
        self.assertNotIn(
            "%", kd.plots.convergence(run, "rate", "skewness", ax=self.axes()).get_ylabel()
        )
        model.given("more", 0.02, unit="%")
        model.outcome("total", "growth + more")
        ax = model.sweep(growth=[0.04, 0.06], more=[0.01, 0.03], statistic="base").plot(
            "total", ax=self.axes()
        )
        labels = [text.get_text() for text in (*ax.get_yticklabels(), *ax.get_xticklabels())]
        self.assertEqual(labels, ["4", "6", "1", "3"])

    def test_an_axes_is_made_when_none_is_given(self):
        ax = kd.plots.distribution(self.run_["flow"])
        self.assertIn("flow", texts(ax))

    def test_constant_and_wrong_shapes(self):
        model = kd.Model("m", periods=2)
        model.outcome("y", "3")
        model.line("row", "period")
        run = model.simulate(300, seed=1)
        self.assertEqual(len(kd.plots.distribution(run["y"], ax=self.axes()).patches), 1)
        with self.fails("draw it with fan()"):
            kd.plots.distribution(run["row"])
        with self.fails("draw it with distribution()"):
            kd.plots.fan(run["y"])


class Arguments(Case):
    def test_a_picture_of_something_else_says_what_it_is_of(self):
        hostile = (
            None,
            5,
            "x",
            [],
            {},
            np.array([]),
            object(),
            -1,
            float("nan"),
            b"x",
            True,
            [1, 2],
        )
        for name in kd.plots.__all__:
            draw = getattr(kd.plots, name)
            for value in hostile:
                with self.subTest(picture=name, value=value):
                    try:
                        draw(value)
                    except kd.KindynosError as error:
                        self.assertIn(name, str(error))
        with self.fails("bridge: bridged must be a Bridge, not None"):
            kd.plots.bridge(None)
        with self.fails("ax must be an Axes"):
            kd.plots.density(kd.Normal(0, 1), ax=5)
