"""The live parts of pages, in a real browser: percentiles, curves, scenarios, maps, frontiers,
trees and single trials say what the library says.
"""

import unittest

import numpy as np
from matplotlib.path import Path as Polygon

import kindynos as kd
from kindynos.formatting import brief, number, step_of
from kindynos.reports.page.densities import DENSITY_BINS, densities, density_of
from tests.common import Folder, investment
from tests.reports.browser import BrowserCase
from tests.reports.test_pages import written


class Outcomes(BrowserCase):
    def percentile(self, text):
        return self.ask(
            """const box = document.querySelector(".live");
            const input = box.querySelector(".reader input");
            input.value = arguments[0];
            input.dispatchEvent(new Event("input"));
            return [box.querySelector(".which-percentile").textContent,
                    box.querySelector(".percentile").textContent,
                    input.getAttribute("aria-invalid")];""",
            text,
        )

    def test_percentiles_are_those_of_the_library(self):
        found = investment().simulate(2_000, seed=3)
        self.open(found)
        for q in (0.5, 5, 37.5, 50, 99.5):
            figure = found["net_value"].quantile(q / 100)
            step = step_of((figure.high - figure.low) / 2)
            said = brief(float(figure))
            if step is not None:
                ends = f"{number(figure.low, step)} to {number(figure.high, step)}"
                said = f"{number(float(figure), step)} (95 % interval {ends})"
            self.assertEqual(self.percentile(str(q)), [f"P{q:g}", said, "false"])
        for wrong in ("0", "100", "a", ""):
            self.assertEqual(self.percentile(wrong)[2], "true")

    def test_the_curves_go_through_the_percentiles(self):
        found = investment().simulate(2_000, seed=3)
        self.open(found)
        seen = """const box = document.querySelector(".live");
            const view = box.querySelector(".view select");
            view.value = arguments[0];
            view.dispatchEvent(new Event("change"));
            const shown = (part) => getComputedStyle(part).visibility === "visible";
            return [shown(box.querySelector(".histogram")),
                [...box.querySelectorAll(".curve")].filter(shown)
                  .map((c) => c.getAttribute("points"))];"""
        self.assertEqual(self.ask(seen, "histogram"), [True, []])
        axis = self.ask(
            "return JSON.parse(document.querySelector('.live script').textContent).axis"
        )
        for view, sign in (("less", 1), ("more", -1)):
            bars, curves = self.ask(seen, view)
            self.assertEqual((bars, len(curves)), (False, 1))
            points = np.array([pair.split(",") for pair in curves[0].split()], dtype=float)
            values = axis[0] + (axis[1] - axis[0]) * points[:, 0] / 100
            shares = 1 - points[:, 1] / 100
            for value, share in zip(values[10::40], shares[10::40], strict=True):
                below = float(np.mean(found["net_value"].values <= value))
                self.assertAlmostEqual(share, below if sign == 1 else 1 - below, delta=0.01)

    def test_many_outcomes_have_an_index_and_the_first_are_drawn(self):
        model = kd.Model("Many")
        model.driver("x", kd.Normal(0, 1))
        for place in range(24):
            model.outcome(f"y{place}", f"x + {place}")
        self.open(model.simulate(400, seed=1))
        counts = self.ask(
            """return [document.querySelectorAll("#further .lines th a").length,
            document.querySelectorAll("#further details.rest").length,
            document.querySelectorAll(".live").length];"""
        )
        self.assertEqual(counts, [23, 1, 20])
        found = self.ask(
            """const input = document.querySelector(".find"), shown = (name) =>
              [...document.querySelectorAll(name)].filter((part) => !part.hidden).length;
            input.value = arguments[0];
            input.dispatchEvent(new Event("input"));
            return [shown("#further .lines tbody tr"), shown("#further details.outcome"),
              document.querySelector(".found").textContent,
              document.querySelector("details.rest").open];""",
            "Y2",
        )
        self.assertEqual(found, [5, 5, "5 of 23 outcomes", True])  # y2, and y20 to y23

    def test_shares_below_0_have_bars_to_the_left(self):
        model = kd.Model("Offsetting")
        for name in "abc":
            model.driver(name, kd.Normal(0, 1))
        model.correlate("a", "b", -0.9, kind="linear")
        model.outcome("y", "a + 0.5 * b + c")
        found = model.simulate(4_000, seed=1)
        self.open(found)
        rows = self.ask(
            """return [...document.querySelectorAll(".driven tbody tr")].map((tr) => {
              const bar = tr.querySelector("rect");
              const end = (name) => parseFloat(bar.getAttribute(name));
              return [tr.querySelector("th").textContent, tr.querySelector("td.right").textContent,
                end("x"), end("x") + end("width")];
            });"""
        )
        # of a variance of 1.35: c has 1, a with b -0.45
        shares = {"C": 1 / 1.35, "A": 0.55 / 1.35, "B": (0.25 - 0.45) / 1.35}
        self.assertEqual([name for name, *_ in rows], list(shares))
        zero = rows[0][2]
        room = (rows[0][3] - zero) / shares["C"]
        for name, text, begin, end in rows:
            told = float(text.split(" %")[0].replace("−", "-"))
            self.assertAlmostEqual(told, 100 * shares[name], delta=3)
            length = end - zero if shares[name] > 0 else begin - zero
            self.assertAlmostEqual(length / room, shares[name], delta=0.03)
        self.assertAlmostEqual(rows[2][3], zero, delta=0.2)

    def test_trials_read_from_elsewhere_are_live_too(self):
        self.open(kd.read_trials(kd.demo_file("fuel_hedging.csv")))
        self.assertGreater(self.ask("return document.querySelectorAll('.live').length"), 1)

    def test_a_single_trial_has_its_figures(self):
        found = investment().simulate(1_000, seed=3, keep=["cash_flow"])
        self.open(found)
        rows = self.ask(
            """const box = document.querySelector(".live-fan"), slider = box.querySelector("input");
            slider.value = 0;
            slider.dispatchEvent(new Event("input"));
            return [...box.querySelectorAll(".sheet tr")].map((tr) =>
              [tr.querySelector("th").textContent, tr.querySelector("td").textContent]);"""
        )
        worst = int(found["net_value"].values.argmin())
        sheet = found.trial(worst)["value"]
        self.assertTrue(rows)
        for name, text in rows:
            unit = found[name].unit
            self.assertEqual(text, f"{brief(float(sheet[name]))}{f' {unit}' if unit else ''}")


class OtherResults(BrowserCase):
    def test_scenarios_have_their_cut_offs_in_common(self):
        model = investment()
        compared = model.compare({"a": {}, "b": {"price": 320.0}}, trials=1_000, seed=3)
        self.open(compared)
        begun = "return [...document.querySelectorAll('.live .field input')].map((x) => x.value)"
        self.assertEqual(len({value for value in self.ask(begun) if value}), 1)
        shares = self.ask(
            """const boxes = [...document.querySelectorAll(".live")];
            const input = boxes[1].querySelector(".field input");
            input.value = "25";
            input.dispatchEvent(new Event("input"));
            return boxes.map((box) => box.querySelector(".low strong").textContent);"""
        )
        known = [written(run["net_value"].chance(below=25.0)) for run in compared.runs.values()]
        self.assertEqual(shares, known)

    def test_a_grid_is_a_map(self):
        swept = investment().sweep(price=[280.0, 300.0, 330.0], hurdle=[0.05, 0.1])
        self.open(swept)
        cells = self.ask(
            """return [...document.querySelectorAll(".cell")].map((one) =>
            [one.querySelector("title").textContent, Number(one.getAttribute("fill-opacity"))]);"""
        )
        table = swept.table().sort_values("net_value")
        self.assertEqual(len(cells), 6)
        words = [word for word, _ in sorted(cells, key=lambda cell: cell[1])]
        for word, row in zip(words, table.to_dict("records"), strict=True):
            self.assertEqual(
                word, f"price {row['price']:g}, hurdle {row['hurdle']:g}: {brief(row['net_value'])}"
            )

    def test_weights_follow_the_pointer_along_a_frontier(self):
        from selenium.webdriver.common.action_chains import ActionChains
        from selenium.webdriver.common.by import By

        covariance = [[0.01, 0.0, 0.0], [0.0, 0.04, 0.0], [0.0, 0.0, 0.02]]
        moments = kd.Moments([0.04, 0.08, 0.06], covariance, names=["bond", "share", "x"])
        found = kd.allocate(moments)
        self.open(found)
        weights = """return [document.querySelector(".live-curve .which").textContent,
            ...[...document.querySelectorAll(".weights td.right")]
              .map((c) => parseFloat(c.textContent))];"""
        least = self.ask(weights)
        # of independent holdings the least variance has weights as 1 / variance
        inverse = np.array([100, 25, 50]) / 175
        np.testing.assert_allclose(least[1:], 100 * inverse, atol=0.06)
        self.assertIn("mean 5.143 %", least[0])
        svg = self.browser.find_element(By.CSS_SELECTOR, ".live-curve svg.main-curve")
        width = svg.size["width"]
        ActionChains(self.browser).move_to_element_with_offset(svg, width // 2 - 10, 0).perform()
        self.assertEqual(self.ask(weights)[1:], [0, 100, 0])
        marked = self.ask("return document.querySelectorAll('.live-curve .best').length")
        self.assertEqual(marked, 1)

    def test_a_tree_folds_and_marks_the_best_policy(self):
        solution = kd.load_decision(kd.demo_file("lease_or_buy.toml")).solve(trials=2_000)
        self.open(solution)
        parts = self.ask(
            """return [...document.querySelectorAll(".tree summary, .tree .end")].map((one) =>
            [one.firstChild.textContent.trim(), !!one.closest("details, .end").matches(".chosen"),
             one.parentElement.open]);"""
        )
        self.assertEqual(len(parts), len(solution.parts))
        chosen = {name for name, marked, _ in parts if marked}
        self.assertIn(solution.best, chosen)
        others = set(solution.decision.alternatives) - {solution.best}
        self.assertFalse(chosen & others)
        folded = {name: is_open for name, _, is_open in parts if is_open is not None}
        self.assertEqual([folded[name] for name in sorted(others)], [False] * len(others))

    def test_paths_and_cohorts_have_fans(self):
        cohort = kd.Cohort(
            ["sailing", "docked"],
            {"sailing": 8},
            {"sailing": {"docked": 0.2}, "docked": {"sailing": 0.5}},
            remainder_state="same",
        )
        counts = cohort.simulate(12, 300, seed=1)
        self.open(counts)
        fans = "return document.querySelectorAll('.live-fan').length"
        self.assertEqual(self.ask(fans), 2)
        path = self.folder / "paths.html"
        kd.GeometricBrownianMotion(100.0, 0.05, 0.2).report(path, 36, 400, seed=1, dt=1 / 12)
        self.browser.get(path.as_uri())
        self.assertEqual(self.ask(fans), 1)
        last = """const closer = document.querySelector(".live-fan details.closer");
            closer.open = true;
            closer.dispatchEvent(new Event("toggle"));
            return document.querySelector(".live-fan .which").textContent;"""
        made = kd.GeometricBrownianMotion(100.0, 0.05, 0.2).paths(36, 400, 1, 1 / 12)
        self.assertIn(brief(float(made[-1].min())), self.ask(last))


class Densities(Folder):
    def test_the_area_in_each_part_is_the_chance(self):
        for law in (kd.Normal(3, 2), kd.LogNormal(5, 3), kd.Poisson(4), kd.Beta(2, 5)):
            shown = density_of(law)
            points = np.array([pair.split(",") for pair in shown.points.split()], dtype=float)
            heights = (60 - points[1:-1:2, 1]) / 56
            low, high = (float(x) for x in law.quantile([0.002, 0.998]))
            edges = np.linspace(low, high, DENSITY_BINS + 1)
            chances = np.diff([float(law.chance(below=x)) for x in edges])
            np.testing.assert_allclose(heights, chances / chances.max(), atol=0.002)
            self.assertTrue(Polygon(points).vertices[0, 1] == points[-1, 1] == 60)

    def test_of_a_run_they_show_the_draws(self):
        found = investment().simulate(4_000, seed=1)
        names = [one.name for one in densities(found)]
        self.assertEqual(names, list(found.drivers))


if __name__ == "__main__":
    unittest.main()
