"""Pages in a real browser: their figures are those of the library."""

import base64
import json
import re
import unittest

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.reports.answers import amount
from kindynos.reports.page.live import MOST_VALUES, live
from kindynos.reports.runs import run_report
from tests.common import Folder, investment, run
from tests.reports.browser import BrowserCase

NASTY = '<script>alert("x")</script>'


def written(chance) -> str:
    """Return a chance as a page shows it, by a rule of its own."""
    decimals = 1
    if chance.error > 5e-7:
        decimals = next((d for d in (1, 2) if chance.error >= 0.5 * 10.0 ** (-2 - d)), 3)
    error = "" if chance.error != chance.error else f" ± {100 * chance.error:.{decimals}f} %"
    return f"{100 * float(chance):.{decimals}f} %{error}"


class InABrowser(BrowserCase):
    def shares(self, box: int = 0) -> dict[str, str]:
        script = """
            const box = document.querySelectorAll(".live")[arguments[0]], found = {};
            ["low", "mid", "high", "at"].forEach((name) => {
              const one = box.querySelector(".shares ." + name);
              found[name] = one.hidden ? "" : one.querySelector("strong").textContent;
            });
            return found;"""
        return self.browser.execute_script(script, box)

    def type(self, *cuts: float | str, box: int = 0) -> list[str]:
        """Start again from one cut-off, type one or two of them, and return what is said of
        each.
        """
        script = """
            const box = document.querySelectorAll(".live")[arguments[0]];
            const inputs = box.querySelectorAll(".field input");
            const more = box.querySelector("button.more"), said = [];
            if (!box.querySelectorAll(".field")[1].hidden) more.click();
            arguments[1].forEach((x, k) => {
              if (k) more.click();
              inputs[k].value = x;
              inputs[k].dispatchEvent(new Event("input"));
              said.push(box.querySelectorAll(".field .read")[k].textContent);
            });
            return said;"""
        words = [x if isinstance(x, str) else repr(x) for x in cuts]
        return list(self.browser.execute_script(script, box, words))

    def test_typed_cut_offs_give_the_chances_of_the_library(self):
        for plan in ("random", "latin", "sobol", "antithetic"):
            found = investment().simulate(2_000, seed=3, sampling=plan)
            self.open(found)
            result = found["net_value"]
            generator = np.random.default_rng(1)
            for _ in range(8):
                low, high = np.sort(generator.normal(40, 25, 2)).round(3).tolist()
                self.type(low, high)
                shown = self.shares()
                self.assertEqual(shown["low"], written(result.chance(below=low)), (plan, low))
                self.assertEqual(shown["high"], written(result.chance(above=high)), (plan, high))
                between = written(result.chance(above=low, below=high))
                self.assertEqual(shown["mid"], between, (plan, low, high))

    def test_weighted_trials_have_their_weights(self):
        generator = np.random.default_rng(1)
        x = generator.normal(40, 25, 2_000)
        for order in (False, True):
            trials = kd.read_trials(pd.DataFrame({"x": x}), weights=np.exp(x / 50), order=order)
            self.open(trials)
            for low, high in ((10.0, 60.5), (45.0, 90.0), (-1e3, 1e3)):
                self.type(low, high)
                shown = self.shares()
                self.assertEqual(shown["low"], written(trials["x"].chance(below=low)))
                between = trials["x"].chance(above=low, below=high)
                self.assertEqual(shown["mid"], written(between))

    def test_trials_that_rank_as_the_worst_are_below_every_cut_off(self):
        model = kd.Model("Ranked")
        model.driver("x", kd.Normal(1, 1))
        model.outcome("root", "sqrt(x)", target=1, missing="worst")
        run = model.simulate(2_000, seed=1)
        self.open(run)
        self.type(0.5)
        self.assertEqual(self.shares()["low"], written(run["root"].chance(below=0.5)))

    def test_keys_and_dragging(self):
        from selenium.webdriver.common.action_chains import ActionChains
        from selenium.webdriver.common.by import By
        from selenium.webdriver.common.keys import Keys

        found = investment().simulate(2_000, seed=3)
        self.open(found)
        handle = self.browser.find_element(By.CSS_SELECTOR, "svg.cut g")
        self.browser.execute_script("arguments[0].focus()", handle)
        ActionChains(self.browser).send_keys(Keys.ARROW_LEFT * 5).perform()
        cut = float(handle.get_attribute("aria-valuenow"))
        self.assertLess(cut, 0)
        self.assertEqual(self.shares()["low"], written(found["net_value"].chance(below=cut)))
        svg = self.browser.find_element(By.CSS_SELECTOR, "svg.main")
        chain = ActionChains(self.browser).move_to_element_with_offset(svg, 120, 0)
        chain.click_and_hold().move_by_offset(40, 0).release().perform()
        cut = float(handle.get_attribute("aria-valuenow"))
        self.assertGreater(cut, 0)
        self.assertEqual(self.shares()["low"], written(found["net_value"].chance(below=cut)))

    def test_figures_are_read_as_people_write_them(self):
        model = kd.Model("Large")
        model.driver("x", kd.Normal(6e6, 3e6))
        model.outcome("worth", "x", unit="EUR", target=0)
        found = model.simulate(2_000, seed=3)
        self.open(found)
        below = written(found["worth"].chance(below=6e6))
        for typed in ("6,000,000", "6.000.000", "6 000 000", "6m", "6 million", "6e6", "6 mn EUR"):
            (said,) = self.type(typed)
            self.assertEqual(said, "read as 6,000,000 EUR", typed)
            self.assertEqual(self.shares()["low"], below, typed)
        for typed in ("6 furlongs", "6,00,000", "", "--6"):
            (said,) = self.type(typed)
            self.assertIn("cannot be read", said, typed)
        self.type(0.0, 5e6)
        *_, said = self.type(6e6, 5e6)
        self.assertEqual(said, "is below the lower cut-off")

    def test_of_many_trials_counts_on_steps_are_sent(self):
        found = investment().simulate(MOST_VALUES + 10_000, seed=3)
        self.open(found)
        *_, said = self.type(0.0, 60.0123)
        result = found["net_value"]
        # the target is a step
        self.assertEqual(self.shares()["low"], written(result.chance(below=0.0)))
        self.assertIn("the nearest figure counted is", said)
        nearest = float(said.split(" is ")[1].split()[0])
        self.assertEqual(self.shares()["high"], written(result.chance(above=nearest)))
        self.assertAlmostEqual(nearest, 60, delta=0.5)

    def test_trials_without_a_value_and_lumps(self):
        model = kd.Model("Lumps")
        model.driver("x", kd.Discrete([-1.0, 0.0, 1.0, 4.0], [0.1, 0.2, 0.3, 0.4]))
        model.outcome("root", "sqrt(x)", target=1)
        found = model.simulate(2_000, seed=1)
        self.open(found)
        shown = self.shares()
        result = found["root"]
        self.assertEqual(shown["at"], written(result.chance(at=1)))
        self.assertEqual(shown["low"], written(result.chance(below=1)))
        self.assertEqual(shown["mid"], "")

    def test_cut_offs_on_values_that_many_trials_have_are_exact(self):
        model = kd.Model("Tenths")
        model.driver("x", kd.Discrete(range(1, 10)))
        model.driver("rate", kd.Uniform(-0.001, 0.001))
        model.outcome("tenths", "x / 10", target=0.3)
        model.outcome("large", "1e9 + x")  # which half the room does not tell apart
        model.outcome("rate_of_return", "rate + 0.03", unit="% a year")
        found = model.simulate(3_000, seed=1)
        self.open(found)
        for cut in (0.3, 0.1, 0.7, 0.30001):
            self.type(cut)
            shown = self.shares()
            self.assertEqual(shown["low"], written(found["tenths"].chance(below=cut)), cut)
            self.assertEqual(shown["high"], written(found["tenths"].chance(above=cut)), cut)
        sent = {
            name: json.loads(live(found[name], name, []).json)
            for name in ("tenths", "large", "rate_of_return")
        }
        self.assertEqual(sent["tenths"]["exact"], [x / 10 for x in range(1, 10)])
        self.assertNotIn("exact", sent["large"])
        for name, data in sent.items():
            full, step = found[name].values, 10 ** np.floor(np.log10(np.ptp(data["axis"]))) * 1e-5
            values = np.frombuffer(base64.b64decode(data["values"]), "<f4")
            if "exact" not in data:
                values = np.frombuffer(base64.b64decode(data["values"]), "<f8")
            exact = {np.float32(x): x for x in data.get("exact", ())}
            values = np.array([exact.get(x, float(x)) for x in values])
            cuts = np.round(np.quantile(full, np.linspace(0, 1, 500)) / step) * step
            for cut in cuts:
                self.assertEqual((values < cut).sum(), (full < cut).sum(), (name, cut))
                self.assertEqual((values <= cut).sum(), (full <= cut).sum(), (name, cut))

    def test_a_page_of_twenty_thousand_trials_is_small(self):
        made = kd.load_model(kd.demo_file("night_ferry.toml")).simulate(20_000, seed=1)
        made.report(self.folder / "page.html")
        self.assertLess((self.folder / "page.html").stat().st_size, 450_000)

    def test_drivers_of_the_first_of_very_many_trials_are_looked_at(self):
        found = investment().simulate(MOST_VALUES + 10_000, seed=3)
        self.open(found)
        self.ask("document.querySelector('details.closer').open = true")
        self.type(0.0)
        said = self.ask("return document.querySelector('.chosen').textContent")
        hit = int((found["net_value"].values[:4_000] < 0).sum())
        self.assertEqual(said, f"{hit:,} of 4,000 trials looked at")
        model = kd.Model("Tenths")  # half the room would move 0.1 above the cut-off
        model.driver("x", kd.Discrete([1, 2, 3]))
        model.outcome("tenths", "x / 10", target=0.1)
        found = model.simulate(MOST_VALUES + 10_000, seed=3)
        self.open(found)
        self.ask("document.querySelector('details.closer').open = true")
        script = """const where = document.querySelector(".where");
            where.value = "above";
            where.dispatchEvent(new Event("change", {bubbles: true}));"""
        self.ask(script)
        self.type(0.1)
        said = self.ask("return document.querySelector('.chosen').textContent")
        hit = int((found["tenths"].values[:4_000] > 0.1).sum())
        self.assertEqual(said, f"{hit:,} of 4,000 trials looked at")

    def test_single_trials_go_from_the_worst_to_the_best(self):
        found = investment().simulate(2_000, seed=3, keep=["cash_flow"])
        self.open(found)
        script = """
            const box = document.querySelector(".live-fan"), slider = box.querySelector("input");
            slider.value = arguments[0];
            slider.dispatchEvent(new Event("input"));
            return [box.querySelector(".which").textContent, slider.max,
                    box.querySelector(".path").getAttribute("points").split(" ").length];"""
        values = found["net_value"].values
        for place, trial in ((0, values.argmin()), (200, values.argmax())):
            words, most, points = self.browser.execute_script(script, place)
            self.assertTrue(words.startswith(f"trial {trial:,}: net_value"), words)
            self.assertEqual((most, points), ("200", 5))

    def test_names_of_users_are_texts_and_nothing_is_fetched(self):
        model = kd.Model(f"Ferry {NASTY}")
        model.driver("x", kd.Normal(0, 1), unit=NASTY, source=NASTY)
        model.outcome("y", "x + 1", unit=f"EUR{NASTY}")
        self.open(model.simulate(500, seed=1))
        self.assertIn(NASTY, self.browser.title)
        scripts = self.browser.execute_script("return document.scripts.length")
        self.assertEqual(scripts, 4)  # ours, and three of data
        requests = [
            entry["message"]
            for entry in self.browser.get_log("performance")
            if "Network.requestWillBeSent" in entry["message"]
        ]
        self.assertFalse([one for one in requests if '"url":"http' in one])


class Pages(Folder):
    def test_every_kind_of_result_has_a_page_and_a_workbook(self):
        model = kd.load_model(kd.demo_file("night_ferry.toml"))
        results = {
            "run": model.simulate(500, seed=1),
            "comparison": model.compare(trials=500, seed=1),
            "sweep": model.sweep(fare=[50, 58]),
            "goal": model.solve(
                "fare", outcome="net_value", mean=0, within=(30, 80), trials=500, seed=1
            ),
            "ranking": kd.fit_distributions(np.random.default_rng(1).gamma(3, 2, 40), ["gamma"]),
            "trials": kd.read_trials(kd.demo_file("fuel_hedging.csv")),
        }
        for name, result in results.items():
            with self.subTest(name):
                page, book = self.folder / name / "page.html", self.folder / name / "book.xlsx"
                result.report(page)
                html = page.read_text()
                self.assertIn("default-src 'none'", html)
                self.assertNotIn("http://", html.replace("http://www.w3.org", ""))
                result.to_excel(book)
                self.assertIn("answer", kd.read_workbook(book).sheets)

    def test_a_board_sees_outcomes_side_by_side_and_assumptions_before_the_annex(self):
        model = kd.Model("Two plants")
        model.driver("price", kd.Pert(17.5e6, 19e6, 26e6), unit="EUR")
        model.driver("tide", kd.LogNormal(3.0, 1.0), unit="m")
        model.outcome("gain", "price - 18e6", unit="EUR", target=0)
        model.outcome("cost", "2 * price", unit="EUR", better="low")
        trials = model.simulate(2000, seed=1)
        page = self.folder / "board.html"
        trials.report(page)
        text = page.read_text(encoding="utf-8")
        rows = re.findall(r"<tr>(.*?)</tr>", text.partition("Outcomes side by side")[2])
        cells = [re.findall(r"<t[hd][^>]*>(.*?)</t[hd]>", row) for row in rows[:3]]
        self.assertEqual(cells[0][2:4], ["bad case, 1 in 20", "mean of the worst tenth"])
        for name, row, sign in (("gain", cells[1], 1), ("cost", cells[2], -1)):
            values = np.sort(sign * trials[name].values)
            for k, value in ((2, np.quantile(values, 0.05)), (3, values[:200].mean())):
                plain = row[k].replace("−", "-").replace(",", "")
                shown = float(plain.removesuffix(" m")) * (1e6 if plain.endswith(" m") else 1)
                self.assertAlmostEqual(shown, sign * value, delta=0.006 * abs(value))
        self.assertIn(f"{100 * trials['gain'].chance(below=0):.1f} % below 0", cells[1][4])
        self.assertIn("most likely 19 m, between 17.5 m and 26 m", text)
        self.assertRegex(text, r"in nine of ten cases, half below 2.8\d? \(lognormal\)")
        order = [text.index(mark) for mark in ('id="assumptions"', 'id="made"', 'class="annex"')]
        self.assertEqual(order, sorted(order))

    def test_notebooks_show_the_answer_and_tables(self):
        model = kd.Model("Ferry")
        model.driver("x", kd.Normal(0, 1), unit=NASTY)
        model.outcome("y", "x + 1", unit=f"EUR{NASTY}")
        shown = model.simulate(500, seed=1)._repr_html_()
        self.assertTrue(shown.startswith("<p><b>Y is "), shown[:40])
        self.assertIn('<td style="text-align:left">mean</td>', shown)
        self.assertNotIn("<script", shown)
        self.assertIn("What drives y", shown)
        self.assertEqual(shown.count("<svg"), 2)  # the histogram and the bar of x
        investing = investment().simulate(2_000, seed=1)
        shown = investing._repr_html_()
        heights = re.findall(r'height="([\d.]+)" fill-opacity="([\d.]+)"', shown)
        dark, light = (
            sum(float(height) for height, opacity in heights if opacity == one)
            for one in ("0.8", "0.4")
        )
        below = float(investing["net_value"].chance(below=0))
        self.assertAlmostEqual(dark / (dark + light), below, delta=0.03)
        self.assertIn("more tables", kd.read_trials(kd.demo_file("fuel_hedging.csv"))._repr_html_())

    def test_the_answer_of_a_run(self):
        found = investment().simulate(20_000, seed=1)
        result = found["net_value"]
        shown = run_text(found)
        self.assertIn("Net value is", shown)
        mean = float(re.search(r"is (-?[\d.]+) EUR on average", shown)[1])
        self.assertAlmostEqual(mean, float(result.mean), delta=0.06)
        chance = float(re.search(r"chance of ([\d.]+) % \(± ([\d.]+)\) it is below 0", shown)[1])
        self.assertAlmostEqual(chance / 100, float(result.chance(below=0)), delta=0.0006)
        self.assertIn("Most of the spread of the net value comes from flow (100 %).", shown)

    def test_amounts_have_no_more_digits_than_their_error_leaves(self):
        for value, low, high, unit, shown in (
            (6_794_213, 6_760_000, 6_828_000, "EUR", "6.79 million EUR"),
            (6_794_213, 6_000_000, 7_500_000, "EUR", "6.79 million EUR"),
            (1_234_567, 0, 2_500_000, "EUR", "1.2 million EUR"),
            (0.1273, 0.1272, 0.1274, "% a year", "12.7 % a year"),
            (0.5, 0.1, 0.9, None, "0.50"),
        ):
            with self.subTest(shown):
                self.assertEqual(amount(kd.Estimate(value, low, high), unit), shown)
        self.assertEqual(amount(kd.Estimate(0.08), "a year"), "0.08 a year")

    def test_commands(self):
        page, book = self.folder / "new" / "ferry.html", self.folder / "ferry.xlsx"
        words = ("run", str(kd.demo_file("night_ferry.toml")), "--trials", "500", "--seed", "1")
        shown = run(*words, "--brief", "--report", str(page), "--excel", str(book))
        self.assertEqual(shown.returncode, 0, shown.stderr)
        self.assertNotIn("standard deviation", shown.stdout)
        self.assertIn("Net value is", shown.stdout)
        self.assertTrue(page.is_file() and book.is_file())
        self.assertLess(page.stat().st_size, 600_000)
        for bad, told in (
            (("report", words[1]), "run FILE --report PAGE.html"),
            ((*words, "--report", "page.txt"), "a page must be named .html"),
            ((*words, "--excel", "book.csv"), "a workbook must be named .xlsx"),
        ):
            with self.subTest(told):
                self.assertIn(told, run(*bad).stderr)


def run_text(found: kd.Run) -> str:
    """Return what a run's report says, on one line."""
    return " ".join(" ".join(run_report(found).answer).split())


if __name__ == "__main__":
    unittest.main()
