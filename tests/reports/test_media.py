"""A figure is worked out once and reads the same in every medium: Python, terminal, JSON, CSV,
workbook and page, for a rate, a cost, a constant, a lump, and trials without a value.
"""

import json
import math
import re
import tempfile
import unittest
from pathlib import Path

import numpy as np
import openpyxl
import pandas as pd

import kindynos as kd
from kindynos.model.file import load_model
from kindynos.reports.runs import run_report
from kindynos.results.figures import TableSpec
from tests.common import run

MODEL = """
[model]
name = "Media"
[drivers.a]
distribution = "normal"
mean = 0.08
sd = 0.02
unit = "% a year"
[drivers.b]
distribution = "uniform"
low = -1.0
high = 2.0
[outcomes.rate]
formula = "a + 0.01 * b"
unit = "% a year"
target = "9%"
[outcomes.cost]
formula = "1e6 * (3 + b)"
unit = "EUR"
target = 4e6
better = "low"
[outcomes.same]
formula = "7 + 0 * a"
unit = "EUR"
target = 7
[outcomes.lump]
formula = "max(b, 0)"
target = 0
[outcomes.gap]
formula = "log(b)"
target = -1
"""
ASKED = {
    "statistics": ["skewness", "percentile_of 0.1", "conditional_mean above 5%"],
    "chances": ["rate < 7.5%", "cost > 3.5e6", "rate < 8% and b > 0"],
}
OPTIONS = [word for text in ASKED["statistics"] for word in ("--statistic", text)]
OPTIONS += [word for text in ASKED["chances"] for word in ("--chance", text)]
SHARES = ("chance", "survival")
SHOWN = {"sd": "standard deviation", "lowest": "lowest trial", "highest": "highest trial"}


def number(text: str) -> float:
    """Return the first number of a text; per cent as a fraction."""
    found = re.search(r"-?[\d,]+(\.\d+)?(e-?\d+)?", text)
    value = float(found[0].replace(",", "")) if found else math.nan
    return value / 100 if text.strip().endswith("%") else value


class Media(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        file = cls.folder / "media.toml"
        file.write_text(MODEL)
        cls.run_ = load_model(file).simulate(2_000, seed=3)
        cls.table = cls.run_.table(**ASKED)
        cls.out, cls.page, cls.book = (cls.folder / f"made{end}" for end in ("", ".html", ".xlsx"))
        arguments = ("run", file, "--trials", "2000", "--seed", "3", *OPTIONS)
        files = ("--out", cls.out, "--report", cls.page, "--excel", cls.book)
        cls.text = run(*arguments, *files, columns=160).stdout
        cls.data = json.loads(run(*arguments, "--json").stdout)

    def test_python_against_numpy(self):
        for name in ("rate", "cost", "gap"):
            values = self.run_[name].values
            known = values[~np.isnan(values)]
            figures = self.table.loc[name]["value"]
            self.assertAlmostEqual(figures["mean"] / known.mean(), 1, places=12)
            self.assertAlmostEqual(figures["P5"] / np.percentile(known, 5), 1, places=9)
        rate = self.run_["rate"].values
        self.assertEqual(
            self.table.loc[("rate", "chance below 0.09"), "value"], np.mean(rate < 0.09)
        )
        self.assertEqual(
            self.table.loc[("rate", "chance below 0.075"), "value"], np.mean(rate < 0.075)
        )
        both = np.mean((rate < 0.08) & (self.run_["b"].values > 0))
        self.assertEqual(self.table.loc[("chance that", "rate < 0.08 and b > 0"), "value"], both)

    def test_json_csv_and_the_workbook_have_the_values_of_python(self):
        frame = pd.read_csv(self.out / "figures.csv", index_col=[0, 1])
        sheet = openpyxl.load_workbook(self.book)["figures"]
        rows = {(row[0], row[1]): row[2] for row in sheet.iter_rows(min_row=2, values_only=True)}
        for (outcome, statistic), row in self.table.iterrows():
            where = (outcome, statistic)
            values = [frame.loc[where, "value"], rows[where]]
            if outcome in self.data["outcomes"]:
                values.append(self.data["outcomes"][outcome][statistic]["value"])
            else:
                values.append(self.data["chances"][statistic]["value"])
            for value in values:
                same = value is None or value == "" or math.isnan(value)
                if math.isnan(row["value"]):
                    self.assertTrue(same, where)
                else:
                    self.assertAlmostEqual(value, row["value"], delta=1e-9 * abs(value), msg=where)

    def test_the_terminal_the_page_and_the_answer_sheet_show_them_rounded(self):
        sheet = openpyxl.load_workbook(self.book)["answer"]
        page = re.sub(r"<[^>]+>", " ", self.page.read_text(encoding="utf-8"))
        page = re.sub(r"\s+", " ", page.replace("&#39;", "'"))
        report = run_report(self.run_, TableSpec.of(None, outcomes=self.run_.outcomes, **ASKED))
        cells = [
            [cell for cell in row if cell is not None] for row in sheet.iter_rows(values_only=True)
        ]
        for section in report.sections:
            for table in section.tables:
                if table.about not in self.run_.outcomes or "What moves" in table.title:
                    continue
                times = 100 if (self.run_[table.about].unit or "").startswith("%") else 1
                for words, shown, error in zip(
                    *(column.cells for column in table.columns[:3]), strict=True
                ):
                    line = f"{words} {shown} {error}".strip()
                    self.assertIn(re.sub(r" +", " ", line), re.sub(r" +", " ", self.text))
                    self.assertIn(line.replace("  ", " "), page)
                    value = self.value_of(table.about, words, times)
                    if value is None or math.isnan(value):
                        continue
                    printed = number(shown)
                    plain = shown.endswith("%") or "percentile" in words or words == "skewness"
                    scale = 1 if plain else times
                    decimals = len(shown.removesuffix(" %").partition(".")[2])
                    close = max(0.0051 * abs(value * scale), 0.51 * 10.0**-decimals)
                    self.assertAlmostEqual(printed, value * scale, delta=close, msg=(line, value))
                    numbers = [
                        row[1]
                        for row in cells
                        if row[:1] == [words] and len(row) > 1 and isinstance(row[1], int | float)
                    ]
                    self.assertTrue(
                        any(abs(x - printed) <= 1e-9 * max(abs(printed), 1) for x in numbers), line
                    )

    def value_of(self, outcome: str, words: str, times: int) -> float | None:
        """Return what Python says of a line of a table; None for a line that it has not."""
        names = {shown: name for name, shown in SHOWN.items()}
        plain = names.get(words, words).replace("base case's percentile", "base case percentile")
        if plain.endswith("%"):
            head, _, figure = plain.removesuffix(" %").rpartition(" ")
            plain = f"{head} {float(figure) / 100:g}"
        head, _, figure = plain.rpartition(" ")
        if "," in figure:
            plain = f"{head} {float(figure.replace(',', '')):g}"
        figures = {name.replace("_", " "): value for name, value in self.figures(outcome).items()}
        return figures.get(plain)

    def figures(self, outcome: str) -> dict[str, float]:
        """Return the values of an outcome by the names of their statistics, thresholds short."""
        found = {}
        for name, value in self.table.loc[outcome]["value"].items():
            head, _, figure = str(name).rpartition(" ")
            try:
                found[f"{head} {float(figure):g}"] = float(value)
            except ValueError:
                found[str(name)] = float(value)
        return found

    def test_runs_summaries_and_trials_read_answer_alike(self):
        model = kd.Model("Surfaces")
        model.driver("a", kd.Normal(0.08, 0.02), unit="%")
        model.outcome("rate", "1.5 * a", unit="%", target=0.09)
        summary = model.simulate(100_000, seed=1, store="summary")
        held = model.simulate(100_000, seed=1)
        read = kd.read_trials(held.to_frame(), units={"rate": "%"}, targets={"rate": 0.09})
        asked = {"percentiles": [5, 50], "statistics": ["skewness"], "chances": ["rate < 10%"]}
        tables = [each.table(**asked).loc["rate"] for each in (summary, held, read)]
        self.assertEqual(list(tables[0].index), list(tables[1].index))
        np.testing.assert_allclose(tables[0]["value"], tables[1]["value"], rtol=1e-9)
        np.testing.assert_allclose(tables[0]["low"], tables[1]["low"], rtol=1e-6)
        shared = [name for name in tables[2].index if name in tables[1].index]
        self.assertGreater(len(shared), 6)
        np.testing.assert_allclose(
            tables[2].loc[shared, "value"], tables[1].loc[shared, "value"], rtol=1e-9
        )
        for each in (summary, held, read):
            self.assertEqual(each.chance("rate < 10%"), each["rate"].chance(below=0.1))
            self.assertEqual(each.percentile("rate", 5), each["rate"].percentile(5))
            self.assertEqual(each.percentile("rate", [5, 95]).shape, (2,))
        self.assertEqual(held.joint("a", "rate").correlation, 1.0)
        self.assertEqual(read.joint("a", "rate").correlation, 1.0)
        for call in (summary.joint, lambda *_: summary.plot("rate")):
            with self.assertRaisesRegex(kd.KindynosError, "run.pilot"):
                call("a", "rate")
        compared = kd.compare({"one": held, "two": held})
        self.assertEqual(compared.chance("rate < 10%")["two"], held.chance("rate < 10%"))
        with self.assertRaisesRegex(kd.KindynosError, "name the scenario"):
            compared.sensitivity("rate")


if __name__ == "__main__":
    unittest.main()
