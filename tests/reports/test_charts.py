"""The charts of pages: bars and lines lie where their figures are."""

import re

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from kindynos.inference.sample import Sample
from kindynos.reports.page.charts import Row, bars, shares, through_time
from kindynos.reports.page.curves import (
    Band,
    Line,
    Points,
    cumulative,
    curves,
    histogram,
    of_results,
    of_return_periods,
)
from kindynos.reports.page.figures import of_drivers
from kindynos.reports.page.of_fits import of_forecast, of_ranking
from kindynos.reports.page.of_searches import of_goal
from tests.common import DEMO, Folder, run

BAR = re.compile(
    r'<th scope="row">(.*?)</th><td class="bars"><svg aria-hidden="true">(.*?)</svg></td>'
    r'<td class="right">(.*?)</td>'
)
TREASURY = ("treasury_prices.csv", "--holdings", "treasury_holdings.csv")


def charts(page):
    """Return the charts of a page: each bar's name, its ends in per cent, and its figure."""
    found = {}
    for block in page.split('<table class="driven">')[1:]:
        title = re.findall(r"<h3>(.*?)</h3>", page.partition(block)[0])[-1]
        found[title] = []
        for name, drawing, text in BAR.findall(block.partition("</table>")[0]):
            ends = re.search(r'<rect x="([\d.]+)%" y="5" width="([\d.]+)%"', drawing)
            mark = re.search(r'class="at" x1="([\d.]+)%"', drawing)
            place = (float(ends[1]), float(ends[1]) + float(ends[2])) if ends else float(mark[1])
            found[title].append(
                (name, place, float(re.sub(r"[^\d.−+]", "", text).replace("−", "-")))
            )
    return found


class Drawn(Folder):
    def test_bars_lie_between_their_ends(self):
        chart = bars(
            "y",
            [
                Row("a", 2.0, 6.0, "-4", 5.0, 7.0),
                Row("b", 6.0, 3.0, "3"),
                Row("c", 7, 7, "7", kind="mark"),
            ],
            line=2.0,
        )
        self.assertEqual(
            [(bar.begin, bar.width, bar.low, bar.high, bar.kind) for bar in chart.bars],
            [
                (0.0, 80.0, 60.0, 100.0, ""),
                (20.0, 60.0, 20.0, 20.0, "less"),
                (100.0, 0.0, 100.0, 100.0, "mark"),
            ],
        )
        self.assertEqual((chart.line, chart.bars[0].text), (0.0, "−4"))
        self.assertEqual(bars("none", [Row("a", 0.0, 0.0, "0")]).bars[0].width, 0)
        many = shares("s", {str(i): 0.1 for i in range(10)})
        self.assertEqual((len(many.bars), many.rest), (8, "2 more"))

    def test_losses_through_time(self):
        dates = pd.date_range("2027-01-01", periods=5)
        losses, forecast = np.array([1.0, -4, 6, 0, 2]), np.full(5, 5.0)
        drawn = through_time("t", dates, losses, forecast, losses > forecast, "")
        low, high = -4 - 0.04 * 10, 6 + 0.04 * 10
        up = [1000 * (high - y) / (high - low) for y in (0.0, *losses, 5.0)]
        lines = re.findall(r"M([\d.]+),([\d.]+)V([\d.]+)", drawn.values)
        np.testing.assert_allclose([float(x) for x, _, _ in lines], [0, 250, 500, 750, 1000])
        np.testing.assert_allclose([float(y) for _, _, y in lines], up[1:6], atol=0.06)
        np.testing.assert_allclose([float(y) for _, y, _ in lines], up[0], atol=0.06)
        self.assertAlmostEqual(float(drawn.forecast.split()[0].split(",")[1]), up[6], delta=0.06)
        self.assertEqual([mark["words"] for mark in drawn.marked], ["2027-01-03: 6"])
        self.assertAlmostEqual(drawn.marked[0]["y"], up[3] / 10, delta=0.01)

    def test_a_bridge_begins_each_change_where_the_one_before_ended(self):
        page = self.folder / "bridge.html"
        old, new = (str(DEMO / name) for name in ("night_ferry_last_year.toml", "night_ferry.toml"))
        run("bridge", old, new, "--trials", "500", "--seed", "1", "--report", str(page))
        ((title, rows),) = charts(page.read_text(encoding="utf-8")).items()
        self.assertEqual(title, "The mean of net value (EUR)")
        (_, before, old_value), *changes, (_, after, new_value) = rows
        scale = (after - before) / (new_value - old_value)
        place = old_value
        for _, ends, change in changes:
            expected = sorted(before + scale * (x - old_value) for x in (place, place + change))
            np.testing.assert_allclose(ends, expected, atol=0.5)
            place += change
        self.assertAlmostEqual(place, new_value, delta=2e4)

    def test_pages_of_risk_draw_their_own_pictures(self):
        page = self.folder / "risk.html"
        limits = self.folder / "limits.csv"
        limits.write_text(
            "figure,scope,limit\nvalue at risk,whole,150000\nshare of the value,shipyard,0.1\n"
        )
        words = [str(DEMO / word) if word.endswith(".csv") else word for word in TREASURY]
        words += ["--stress", "shipyard=-0.2", "--limits", str(limits), "--report", str(page)]
        data = run("risk", *words, "--json")
        self.assertEqual(data.returncode, 3)
        found, text = charts(page.read_text(encoding="utf-8")), page.read_text(encoding="utf-8")
        self.assertNotIn("<img", text)
        by_method = {
            name: (ends, value)
            for name, ends, value in found["Lost or more on 1 day in 100, by method"]
        }
        self.assertIn("Filtered (chosen)", by_method)
        widths = np.array([(ends[1], value) for ends, value in by_method.values()])
        np.testing.assert_allclose(
            widths[:, 0] / widths[0, 0], widths[:, 1] / widths[0, 1], atol=0.01
        )
        ((_, shipyard, use), (_, whole, other)) = found["How far limits are used"]
        self.assertEqual((use, other), (116, 72))
        self.assertAlmostEqual(shipyard[1] / whole[1], 116 / 72, delta=0.02)
        self.assertEqual(text.count('class="hurts"/>'), 2)  # the limit broken and the loss
        losses = re.search(r"Losses beside what was forecast: (\d+) of (\d+) are", text)
        tested = kd.read_prices(str(DEMO / TREASURY[0]))
        self.assertEqual(int(losses[1]), text.count('class="beyond"'))
        self.assertLess(int(losses[2]), len(tested.frame))

    def test_robustness_begins_at_the_figure_as_stated(self):
        page = self.folder / "robustness.html"
        words = ("--outcome", "net_value", "--trials", "2000", "--seed", "1", "--report", str(page))
        run("robustness", str(DEMO / "night_ferry.toml"), *words)
        chance = charts(page.read_text(encoding="utf-8"))["Chance of net value below 0"]
        values = {value for _, _, value in chance}
        begin = {ends[0] for _, ends, value in chance if value > 20}
        self.assertEqual(len(begin), 1)
        self.assertGreater(max(values), 25)


def places(chart, position, of="lines"):
    """Return the corners of a line or of a band, in thousandths of the room."""
    pairs = getattr(chart, of)[position]["points"].split(" ")
    return [tuple(map(float, pair.split(","))) for pair in pairs]


class Curved(Folder):
    def test_lines_bands_and_points_share_their_axes(self):
        chart = curves(
            "y",
            [
                Band([0, 10], [1.0, 1.0], [3.0, 5.0], "error"),
                Line([0, 10], [2.0, 3.0], "mean"),
                Points([np.nan, 5.0], [1.0, 2.5], "best", ["nowhere", "here"], "best"),
            ],
            ("x", "y"),
            units=(None, "%"),
            labels=[str(k) for k in range(11)],
        )
        self.assertEqual(places(chart, 0), [(0.0, 731.5), (1000.0, 500.0)])
        band = [(0.0, 963.0), (1000.0, 963.0), (1000.0, 37.0), (0.0, 500.0)]
        self.assertEqual(places(chart, 0, "bands"), band)
        self.assertEqual([(p["x"], p["words"]) for p in chart.points], [(50.0, "here")])
        self.assertEqual([tick["text"] for tick in chart.ticks], ["0", "2", "4", "6", "8", "10"])
        self.assertIn("400", [level["text"] for level in chart.levels])
        self.assertEqual([key["name"] for key in chart.keys], ["error", "mean", "best"])

    def test_millions_are_m_of_money_alone(self):
        line = Line([0.0, 3e6], [0.0, 4e6])
        chart = curves("y", [line], ("x", "y"), units=("passengers", "EUR"))
        self.assertIn("3 million", [tick["text"] for tick in chart.ticks])
        self.assertIn("4 m", [level["text"] for level in chart.levels])

    def test_what_has_no_value_is_a_gap_and_what_has_no_end_is_not_drawn(self):
        values = [1.0, 2.0, np.nan, 4.0, 5.0, np.inf]
        chart = curves("y", [Line(np.arange(6.0), values)], ("x", "y"))
        self.assertEqual([len(places(chart, k)) for k in (0, 1)], [2, 2])
        self.assertEqual(len(chart.lines), 2)

    def test_curves_of_trials_count_weights_missing_values_and_never(self):
        rows = pd.DataFrame({"v": [1.0, 2.0, 3.0, np.nan], "w": [1.0, 1.0, 2.0, 4.0]})
        weighted = kd.read_trials(rows, weights="w")["v"]
        drawn = of_results("v", {"v": weighted})
        heights = sorted({1000 - y for _, y in places(drawn, 0)})
        top = 1.04 * 0.5  # room above a half of the weight
        np.testing.assert_allclose(
            np.array(heights) / 1000 * top, [0.0, 0.125, 0.25, 0.5], atol=2e-3
        )
        self.assertEqual([key["name"] for key in drawn.keys], ["v (50.0 % without a value)"])
        self.assertIn({"y": round(100 * (1 - 0.45 / top), 1), "text": "45"}, drawn.levels)
        never = kd.read_trials(pd.DataFrame({"v": [1.0, 2.0, np.inf, np.inf]}))["v"]
        self.assertEqual(len(places(of_results("v", {"v": never}), 0)), 3)
        still = Sample(np.zeros(9), np.array([0, 9])).cumulative(5)
        self.assertEqual([list(part) for part in still], [[0.0] * 6, [0.0] + [1.0] * 5])

    def test_shares_at_or_below_and_histograms(self):
        stated = cumulative("c", {"a": (np.array([1.0, 3.0]), np.array([0.75, 1.0]))}, None)
        (_, low), (_, high) = places(stated, 0)
        self.assertAlmostEqual((1000 - low) / (1000 - high), 0.75, places=3)
        many = {str(k): (np.arange(2.0), np.arange(2.0)) for k in range(11)}
        drawn = cumulative("c", many, "EUR")
        self.assertEqual(len({line["kind"] for line in drawn.lines}), 8)
        self.assertEqual(drawn.remark, "3 more are in the tables.")
        across, shares_of = histogram(np.array([0.0, 0.1, 0.9, 0.2]), np.array([0.0, 0.5, 1.0]))
        self.assertEqual(across.tolist(), [0.0, 0.0, 0.5, 0.5, 1.0, 1.0])
        self.assertEqual(shares_of.tolist(), [0.0, 0.75, 0.75, 0.25, 0.25, 0.0])

    def test_a_density_has_the_area_of_its_histogram(self):
        values = stats.gamma(3).rvs(400, random_state=1)
        drawn, _ = of_ranking(kd.fit_distributions(values, ["gamma"]), kd.Gamma(3, 1), "bill")
        bars, density = (np.array(places(drawn, k)) for k in (0, 1))
        areas = [np.trapezoid(1000 - line[:, 1], line[:, 0]) for line in (bars, density)]
        self.assertAlmostEqual(areas[1] / areas[0], 1.0, delta=0.03)

    def test_drivers_by_every_method(self):
        """Of a - 2 b with standard normals, b has 4/5 of the variance."""
        model = kd.Model("m")
        model.driver("a", kd.Normal(0, 1))
        model.driver("b", kd.Normal(0, 1))
        model.outcome("y", "a - 2 * b", unit="EUR")
        model.outcome("both", "a * b")  # of which neither has a share alone
        trials = model.simulate(8000, seed=1)
        tail = 2 / 5**0.5 * stats.norm.pdf(stats.norm.ppf(0.05)) / 0.05
        tenth = 2 * stats.norm.pdf(stats.norm.ppf(0.1)) / 0.1
        for method, wanted in (
            ("rank", [6 / np.pi * np.arcsin(-1 / 5**0.5)]),
            ("regression", [-2 / 5**0.5]),
            ("swing", [2 * stats.norm.ppf(0.9), -2 * stats.norm.ppf(0.9)]),
            ("conditional", [tenth, -tenth]),
            ("sobol", [80]),
            ("shapley", [80]),
            ("contributions", [80]),
            ("tail", [tail]),
        ):
            with self.subTest(method=method):
                chart = of_drivers(trials, "y", method, trials.sensitivity("y", method))
                first = chart.bars[0]
                self.assertEqual((first.name, first.kind), ("b", "less" if wanted[-1] < 0 else ""))
                text = re.sub("±.*", "", first.text.replace("−", "-").replace("%", ""))
                shown = [float(part) for part in text.split(" to ")]
                np.testing.assert_allclose(shown, wanted, rtol=0.03)

        chart = of_drivers(trials, "both", "sobol", trials.sensitivity("both", "sobol"))
        self.assertAlmostEqual(float(chart.bars[0].text.partition(" ")[0]), 100, delta=3)

    def test_what_is_reached_once_in_n_trials(self):
        values = kd.read_trials(pd.DataFrame({"loss": np.arange(1000.0)}))["loss"]
        chart = of_return_periods(values)
        reached = values.return_periods()["value"].to_numpy()
        heights = np.array(places(chart, 0))[:, 1]
        slopes = np.diff(heights) / np.diff(reached)
        np.testing.assert_allclose(slopes, slopes[0], rtol=0.02)
        self.assertEqual([tick["text"] for tick in chart.ticks], ["2", "10", "50", "200"])

    def test_the_inner_band_of_a_fan_lies_within_the_outer_one(self):
        series = kd.read_series(DEMO / "passengers.csv")
        name = "log arima (0,1,1)"
        options = {"candidates": [name], "rolling": False, "trials": 500, "seed": 1}
        chart = of_forecast(kd.forecast(series, 4, name, **options))
        outer, inner = (np.array(places(chart, k, "bands"))[:, 1].reshape(2, 4) for k in (0, 1))
        median = np.array(places(chart, 1))[:, 1]  # lower edges first; the page counts from above
        for above, below in ((inner[0], outer[0]), (median, inner[0])):
            self.assertTrue((above < below).all())
        for above, below in ((outer[1], inner[1]), (inner[1], median[::-1])):
            self.assertTrue((above < below).all())

    def test_the_value_that_reaches_a_goal_is_marked_on_its_line(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(0, 1))
        model.given("y", 1.0)
        model.outcome("z", "x + y")
        chart = of_goal(model.solve("y", "z", mean=3.0, within=(0, 10), trials=200, seed=1))
        best = next(point for point in chart.points if point["kind"] == "best")
        line = next(k for k, one in enumerate(chart.lines) if one["kind"] == "goal")
        self.assertAlmostEqual(best["y"], places(chart, line)[0][1] / 10, places=1)
        self.assertLess(best["y"], 90)

    def test_a_notebook_draws_the_same_curves(self):
        model = kd.load_model(DEMO / "night_ferry.toml")
        compared = model.compare({"as stated": {}, "dear": {"fare": 58}}, 300, 1)._repr_html_()
        self.assertEqual(compared.count("<polyline"), 4)  # two scenarios of two outcomes
        self.assertRegex(compared, 'stroke-dasharray="none"/></svg>as stated')
        self.assertRegex(compared, 'stroke-dasharray="9 4"/></svg>dear')
        swept = model.sweep(fare=[50, 60], trials=200, seed=1)._repr_html_()
        self.assertEqual(swept.count("<polygon"), 2)  # the bands of errors

    def test_no_page_shows_a_still_picture_and_all_say_their_seed(self):
        page = self.folder / "page.html"
        for words, titles in (
            (("fit", "repair_bills.csv", "--column", "bill"), ("that fit them best", "in order")),
            (("forecast", "passengers.csv"), ("Passengers: what was, and the next 12",)),
            (("paths", "heating_oil.csv", "--ahead", 5), ("The deepest fall",)),
            (("decide", "lease_or_buy.toml"), ("What each alternative may bring",)),
            (("compare", "night_ferry.toml", "--trials", 200), ("Net value: trials at or below",)),
            (
                ("sweep", "night_ferry.toml", "--vary", "fare=50,60", "--trials", 200),
                ("Net value (mean", "Rate of return (mean"),
            ),
            (
                (
                    "solve",
                    "night_ferry.toml",
                    "fare",
                    "--within",
                    "45:65",
                    "--trials",
                    300,
                    "--outcome",
                    "net_value",
                    "--mean",
                    "8e6",
                ),
                ("Which fare makes the mean of net value 8,000,000",),
            ),
            (
                (
                    "optimize",
                    "best_fare.toml",
                    "--vary",
                    "fare=45:60",
                    "--trials",
                    200,
                    "--maximize",
                    "mean net_value",
                ),
                ("Highest mean of net value over fare",),
            ),
            (("fit", "past_estimates.csv", "--track-record"), ("Where outcomes fell",)),
            (
                ("fit", "fuel_hedging.csv", "--jointly", "growth,max_drawdown"),
                ("stands among all",),
            ),
            (("run", "vessel_claims.toml", "--trials", 300), ("How bad, and how often: gross",)),
            (("drivers", "night_ferry.toml", "--trials", 200), ("What drives net value, by rank",)),
            (
                ("read", "fuel_hedging.csv", "--column", "growth", "--against", "max_drawdown"),
                ("Max drawdown against growth",),
            ),
            (
                ("allocate", TREASURY[0], "--holdings", DEMO / TREASURY[2]),
                ("Weight, best", "Before and after: profit", "How sure", "Weights along"),
            ),
        ):
            with self.subTest(command=words[0]):
                run(words[0], DEMO / words[1], *words[2:], "--report", page, "--quiet")
                text = page.read_text(encoding="utf-8")
                self.assertNotIn("<img", text)
                for title in titles:
                    self.assertIn(title, text)
                if words[0] not in (
                    "fit",
                    "decide",
                    "allocate",
                    "read",
                ):  # which have a seed by default
                    self.assertIn("--seed ", text)
