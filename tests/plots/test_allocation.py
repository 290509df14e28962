"""Tests of pictures of allocations and optima: what they show is what was found."""

import numpy as np
from matplotlib.figure import Figure

import kindynos as kd
from tests.common import HELD, PRICES, Case, investment


def axes():
    return Figure(figsize=(9, 6)).subplots()


def labels(ax):
    return [text.get_text() for text in ax.get_legend().get_texts()]


class Allocations(Case):
    def setUp(self):
        self.best = kd.allocate(HELD, minimize="sd", bounds=(0.05, 0.8))

    def test_frontier(self):
        curve = kd.frontier(HELD, bounds=(0.05, 0.8))
        ax = curve.plot(self.best, ax=axes())
        line = ax.lines[0]
        table = curve.table()
        self.assertAlmostEqual(line.get_xdata()[0], 100 * table["sd"].iloc[0])
        self.assertAlmostEqual(line.get_ydata()[-1], 100 * table["mean"].iloc[-1])
        singles = next(one for one in ax.lines if one.get_label() == "single holdings")
        np.testing.assert_allclose(
            singles.get_xdata(), 100 * kd.markets.returns(PRICES).frame.std()
        )
        self.assertIn("today's weights", labels(ax))
        self.assertIn("chosen: the least sd", labels(ax))
        self.assertEqual(
            {text.get_text() for text in ax.texts},
            {name.replace("_", " ") for name in PRICES.instruments},
        )
        areas = curve.plot_weights(ax=axes())
        top = np.concatenate([part.get_paths()[0].vertices[:, 1] for part in areas.collections])
        self.assertAlmostEqual(top.max(), 100)
        other = kd.frontier(HELD, "expected_shortfall", points=4).plot(ax=axes())
        self.assertIn("expected shortfall at 95 %", other.get_xlabel())

    def test_weights(self):
        ax = self.best.plot(ax=axes())
        widths = [round(bar.get_width(), 6) for bar in ax.patches]
        self.assertLessEqual({round(100 * w, 6) for w in self.best.weights}, set(widths))
        self.assertEqual(len(labels(ax)), 4)

    def test_before_and_after(self):
        compared = self.best.compare(trials=2_000, seed=1)
        ax = compared.plot(ax=axes())
        lines = [line.get_xdata()[0] for line in ax.lines[:2]]
        self.assertAlmostEqual(
            1_000 * lines[0], -compared.before["profit"].value_at_risk(0.95), places=6
        )
        self.assertIn("2,000 draws", ax.get_title(loc="left"))
        self.assertIn("per cent", compared.plot("max_drawdown", ax=axes()).get_xlabel())

    def test_sureness_and_walking(self):
        sure = self.best.resampled(30, seed=1)
        ax = sure.plot(ax=axes())
        star = next(line for line in ax.lines if "this history" in str(line.get_label()))
        np.testing.assert_allclose(star.get_xdata(), 100 * self.best.weights)
        walked = self.best.walk_forward(window=200)
        ax = walked.plot(ax=axes())
        np.testing.assert_allclose(ax.lines[1].get_ydata(), walked.values["buy and hold"])


class Optima(Case):
    def test_one_decision(self):
        found = investment().optimize(
            {"price": (200, 400)},
            maximize="mean net_value",
            subject_to="chance below 0 of net_value <= 0.9",
            trials=300,
            seed=1,
            evaluations=15,
        )
        ax = found.plot(ax=axes())
        self.assertIn("Highest mean of net value, at price 200", ax.get_title(loc="left"))
        self.assertEqual(len(ax.lines[0].get_xdata()), len(found.evaluations))
        self.assertIn("breaks a constraint", labels(ax))

    def test_two_and_three_decisions(self):
        model = investment()
        ranges = {"price": (200, 400), "hurdle": (0.05, 0.2)}
        ax = model.optimize(
            ranges, minimize="sd net_value", trials=200, seed=1, evaluations=30
        ).plot(ax=axes())
        self.assertEqual((ax.get_xlabel(), ax.get_ylabel()), ("price", "hurdle"))
        three = model.optimize(
            {**ranges, "flow.mean": [80, 90]},
            maximize="mean net_value",
            trials=200,
            seed=1,
            evaluations=30,
        )
        panels = three.plot(ax=axes()).figure.axes[1:]
        self.assertEqual([panel.get_xlabel() for panel in panels], ["price", "hurdle", "flow mean"])
