"""Tests of sweep."""

import numpy as np
from matplotlib.figure import Figure

import kindynos as kd
from tests.common import Case, investment


class Pictures(Case):
    def draw(self, swept, **options):
        figure = Figure(layout="constrained")
        swept.plot(ax=figure.subplots(), **options)
        return figure

    def test_line_map_pairs_and_bins(self):
        line = self.draw(investment().sweep(price=[300, 310], statistic="mean", trials=300, seed=1))
        self.assertIn("300 trials, seed 1", line.axes[0].get_title(loc="left"))
        two = kd.sweep(lambda a, b: a - b, a=[1, 2], b=[3, 4, 5])
        heat = self.draw(
            two, labels={"a": "vessels"}, units={"b": "EUR"}, digits=1, more_is_better=False
        )
        ax = heat.axes[0]
        self.assertEqual((ax.get_ylabel(), ax.get_xlabel()), ("vessels", "b (EUR)"))
        self.assertEqual(
            [text.get_text() for text in ax.texts], ["-2.0", "-3.0", "-4.0", "-1.0", "-2.0", "-3.0"]
        )
        self.assertEqual(ax.patches[0].get_xy(), (1.5, -0.5))  # the lowest cell has the frame
        marked = self.draw(
            two, break_even=-2.5, number_format="{:+.0f} k", below_colour="black"
        ).axes[0]
        self.assertEqual([text.get_text() for text in marked.texts][:2], ["-2 k", "-3 k"])
        self.assertEqual(sum(marked.images[0].get_clim()) / 2, -2.5)
        np.testing.assert_allclose(marked.images[0].cmap(0.0)[:3], 0)
        for wrong in (
            {"number_format": "{a}"},
            {"below_colour": "no colour"},
            {"bins": 1},
            {"break_even": "low"},
        ):
            with self.subTest(wrong), self.fails(kind=kd.ParameterError):
                self.draw(two, **wrong)
        pairs = self.draw(kd.sweep(lambda a, b, c: a * b * c, a=[1, 2], b=[3, 4], c=[5, 6]))
        self.assertEqual(sum(bool(ax.images) for ax in pairs.axes), 3)
        scattered = np.random.default_rng(1).random((400, 2))
        cloud = kd.sweep(lambda a, b: a + b, points={"a": scattered[:, 0], "b": scattered[:, 1]})
        self.assertIn("in bins", self.draw(cloud).axes[0].get_xlabel())
        self.assertEqual(self.draw(cloud, bins=5).axes[0].images[0].get_array().shape, (5, 5))

    def test_a_styled_table_marks_the_best(self):
        two = kd.sweep(lambda a, b: a - b, a=[1, 2], b=[3, 4])
        page = two.styled(number_format="{:.1f}").to_html()
        self.assertIn("-1.0", page)
        self.assertEqual(page.count("font-weight: bold"), 1)
        with self.fails("needs two inputs"):
            kd.sweep(lambda a: a, a=[1, 2]).styled()
