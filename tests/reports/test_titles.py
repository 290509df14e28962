"""Tests of what people call quantities: on pages, in sentences and in files."""

from openpyxl import load_workbook

import kindynos as kd
from tests.common import Folder, run

STATED = """
[model]
name = "Gas plant"

[given]
price = { value = 30.0, unit = "EUR/MWh", title = "Price of power" }

[drivers.hours]
title = "Hours at full load"
distribution = "pert"
low = 2_000
mode = 4_000
high = 5_000

[outcomes.net_value]
title = "NPV of the gas plant"
formula = "price * hours - 100_000"
unit = "EUR"
target = 0
"""


class Titles(Folder):
    def test_sentences_pages_and_files_have_them_and_data_keep_the_name(self):
        file = self.folder / "plant.toml"
        file.write_text(STATED)
        page, saved = self.folder / "plant.html", self.folder / "plant.parquet"
        options = ("--trials", 500, "--seed", 1)
        shown = run("run", file, *options, "--report", page, "--save", saved, "--brief").stdout
        self.assertIn("NPV of the gas plant is", shown)
        again = run("run", saved, "--brief").stdout
        self.assertEqual(again.split("\n")[0], shown.split("\n")[0])
        text = page.read_text(encoding="utf-8")
        for title in ("NPV of the gas plant, EUR", "Hours at full load", "Price of power (price)"):
            self.assertIn(title, text)
        self.assertIn('"net_value"', run("run", file, *options, "--json").stdout)
        departed = run("robustness", file, *options, "--trials", 200).stdout
        self.assertIn("Hours at full load x 1.5", departed)
        self.assertNotIn("NPV", run("run", kd.demo_file("night_ferry.toml"), "--brief").stdout)

    def test_in_python_they_are_stated_and_kept(self):
        file = self.folder / "plant.toml"
        file.write_text(STATED)
        model = kd.load_model(file)
        model.title("price", "Power")
        again = self.folder / "again.toml"
        again.write_text(model.to_toml())
        copy = kd.load_model(again)
        self.assertEqual(copy.statement.titles, model.statement.titles)
        self.assertEqual(copy.statement.titles["price"], "Power")
        run = model.simulate(200, seed=1)
        run.to_excel(self.folder / "plant.xlsx")
        live = load_workbook(self.folder / "plant.xlsx")["live net_value"]
        self.assertEqual(live["A1"].value, "NPV of the gas plant, EUR: change the yellow cell")
        html = run._repr_html_()
        self.assertIn("NPV of the gas plant", html)
        plain = kd.load_model(file).replace(price=31.0)
        self.assertEqual(plain.statement.titles["net_value"], "NPV of the gas plant")
        for name, title, words in (
            ("prise", "Power", ("no quantity 'prise'", "did you mean 'price'")),
            ("price", " ", ("must have 1 to 60 characters",)),
            ("price", 3, ("title must be a text",)),
            ("price", "=A1", ("not begin as a formula of a spreadsheet",)),
            ("price", "one\ntwo", ("must be printable",)),
        ):
            with self.subTest(title=title), self.fails(*words):
                model.title(name, title)
