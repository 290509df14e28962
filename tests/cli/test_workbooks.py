"""Commands on workbooks."""

import json
import zipfile
from pathlib import Path

import kindynos as kd
from kindynos.model.file import load_model
from kindynos.workbooks.recalculation import program
from tests.common import Folder, run
from tests.workbooks.common import write


class Workbooks(Folder):
    def setUp(self):
        super().setUp()
        for name in ("night_ferry.xlsx", "purser.xlsx"):
            (self.folder / name).write_bytes(kd.demo_file(name).read_bytes())
        self.ferry, self.purser = self.folder / "night_ferry.xlsx", self.folder / "purser.xlsx"
        self.few = ("--trials", "500", "--seed", "1")

    def ran(self, *words, status=0):
        answer = run(*map(str, words))
        self.assertEqual(answer.returncode, status, answer.stderr)
        return answer.stdout if status == 0 else answer.stderr

    def test_check_says_whether_it_agrees_and_writes_the_model_file(self):
        plan = self.folder / "plan.toml"
        shown = self.ran("check", self.ferry, "--write", plan)
        self.assertTrue(
            shown.startswith("186 of 186 formulas agree with the values stored in the file.\n")
        )
        agreed = "were recalculated by a spreadsheet program: all 6 values agree"
        self.assertIn(agreed if program() else "Only the base case was compared", shown)
        self.assertIn(f"Written: {plan}", shown)
        self.assertEqual(load_model(plan).compiled().outcomes, ["net_value", "rate_of_return"])
        one, other = (
            json.loads(self.ran("run", file, *self.few, "--json")) for file in (self.ferry, plan)
        )
        origins = [made.pop("origin") for made in (one, other)]
        self.assertEqual(one, other)
        files = [{Path(name).name for name in origin["files"]} for origin in origins]
        self.assertEqual(files, [{"night_ferry.xlsx"}, {"night_ferry.xlsx", "plan.toml"}])
        told = one["outcomes"]["net_value"]
        other = json.loads(self.ran("run", kd.demo_file("night_ferry.toml"), *self.few, "--json"))[
            "outcomes"
        ]["net_value"]
        self.assertAlmostEqual(
            told["base case"]["value"] / other["base case"]["value"], 1, delta=1e-9
        )
        words = self.ran("check", self.ferry, "--write", "/tmp/elsewhere.toml", status=2)
        self.assertIn("must lie beside the workbook", words)

    def test_a_workbook_without_an_outcome_is_told_in_every_medium(self):
        out, page = self.folder / "out", self.folder / "page.html"
        told = self.ran("check", self.purser, "--out", out, "--report", page, "--quiet")
        self.assertEqual(told, "")
        self.assertIn("Evening!E9", (out / "proposals.csv").read_text())
        self.assertIn("mean_of_the_copies", page.read_text())
        facts = json.loads(self.ran("check", self.purser, "--json"))
        self.assertEqual(facts["proposals"][0]["cell"], "Evening!E9")
        self.assertEqual(len(facts["cells that draw"]), 800)

    def test_every_difference_and_what_unknown_functions_stop(self):
        import openpyxl

        cells = {f"A{row}": f"={row}*2" for row in range(1, 31)}
        book = write(self.folder, {**cells, "C1": "=NOSUCH(1)", "C2": "=C1+1", "C3": "=C2*2"})
        with zipfile.ZipFile(book) as packed:
            parts = {name: packed.read(name) for name in packed.namelist()}
        sheet = parts["xl/worksheets/sheet1.xml"].replace(b"</f><v />", b"</f><v>7</v>")
        parts["xl/worksheets/sheet1.xml"] = sheet.replace(b"</f><v></v>", b"</f><v>7</v>")
        with zipfile.ZipFile(book, "w") as packed:
            for name, data in parts.items():
                packed.writestr(name, data)
        self.assertEqual(openpyxl.load_workbook(book, data_only=True)["Data"]["A1"].value, 7)
        shown = self.ran("check", book, "--out", self.folder / "all")
        self.assertIn("Cells that differ: the first 20 of 33", shown)
        self.assertIn("used in Data!C1, which 2 further formulas need", shown)
        written = (self.folder / "all" / "differing-cells.csv").read_text()
        self.assertEqual(written.count("Data!A"), 30)

    def test_cells_named_on_the_command_line(self):
        shown = self.ran("check", self.purser)
        self.assertIn("none of its formulas can be compared", shown.lower())
        self.assertIn("800 cells draw: Evening!B13", shown)
        self.assertIn("Name the cell of the answer with --outcome", shown)
        words = ("--outcome", "G13", "--driver", "B9=uniform 90 130")
        shown = self.ran("run", self.purser, *words, *self.few)
        self.assertIn("meals_on_board", shown)
        self.assertIn("weather_factor_draw", shown)

    def test_every_command_of_models(self):
        within, most = ("--within", "30:80"), ("--evaluations", "20")
        for words in (
            ("sweep", self.ferry, "--vary", "fare=50,58", "--outcome", "net_value"),
            ("solve", self.ferry, "fare", "--outcome", "net_value", "--mean", "0", *within),
            ("drivers", self.ferry, "--outcome", "net_value"),
            ("trial", self.ferry, "--number", "7"),
            ("optimize", self.ferry, "--vary", "fare=40:60", "--maximize", "mean net_value", *most),
        ):
            with self.subTest(words[0]):
                self.assertRegex(self.ran(*words, *self.few), "net[_ ]value")

    def test_bad_input(self):
        for words, told in (
            (("run", self.purser), "which cell is the outcome? Say --outcome CELL"),
            (("run", self.purser, "--outcome", "Evenin!G13"), "did you mean 'Evening'"),
            (("run", self.purser, "--outcome", "A3"), "holds the text 'Guests on average'"),
            (
                ("run", self.purser, "--outcome", "G13", "--driver", "B3"),
                "say 'NAME = CELL: DISTRIBUTION",
            ),
            (("run", kd.demo_file("berths.toml"), "--outcome", "G13"), "goes with a workbook"),
            (("check", kd.demo_file("berths.toml"), "--write", "x.toml"), "goes with a workbook"),
            (("run", self.folder / "none.xlsx", "--outcome", "A1"), "none.xlsx"),
        ):
            with self.subTest(told):
                self.assertIn(told, self.ran(*words, status=2))

    def test_a_model_file_with_cells(self):
        file = self.folder / "model.toml"
        head = '[model]\nname = "Ferry"\nworkbook = "night_ferry.xlsx"\n'
        file.write_text(
            head + '[given.fare]\ncell = "Inputs!B4"\nunit = "EUR"\n'
            '[drivers.vessel]\ncell = "Inputs!B15"\ndistribution = "pert"\nlow = 17.5e6\n'
            'mode = 19e6\nhigh = 26e6\n[lines.twice]\nformula = "2 * net_value"\n'
            '[outcomes.net_value]\ncell = "Summary!B3"\ntarget = 0\n'
            '[scenarios."fare 58"]\nfare = 58\n'
        )
        model = load_model(file)
        base = model.base_case()["value"]
        self.assertEqual(base["twice"], 2 * base["net_value"])
        self.assertIn("fare 58", self.ran("compare", file, *self.few))
        for text, told in (
            ('[outcomes]\nx = { cell = "Summary!Z9" }', "lies beyond"),
            ('[outcomes.x]\ncell = "Summary!B3"\nformula = "1"', "formula or cell, and not both"),
            ('[outcomes.x]\nunit = "EUR"', "the key 'formula' is missing"),
            ('[given.x]\nunit = "EUR"', "the key 'value' is missing"),
            ('[drivers.x]\ncell = "Inputs!A4"\ndistribution = "normal"\nmean = 1\nsd = 1\n'
             '[outcomes.y]\ncell = "Summary!B3"', "holds the text 'Fare'"),
        ):  # fmt: skip
            with self.subTest(told):
                file.write_text(head + text)
                self.assertIn(told, self.ran("run", file, status=2))
        file.write_text('[model]\nname = "x"\n[outcomes.y]\ncell = "Summary!B3"')
        self.assertIn("cell needs workbook = in [model]", self.ran("run", file, status=2))
        file.write_text('[model]\nname = "x"\nworkbook = "../b.xlsx"\n[outcomes.y]\ncell = "S!B3"')
        self.assertIn("must be the name of a file beside", self.ran("run", file, status=2))

    def test_what_differs_is_said_first(self):
        from tests.workbooks.test_models import PLAN, _with_stored

        path = write(self.folder, PLAN, "plan.xlsx")
        path.write_bytes(_with_stored(path.read_bytes(), {"B6": 42_000, "B12": 1.0, "B11": 41_900}))
        words = ("run", path, "--outcome", "B12", "--driver", "B5=normal 1000 100", *self.few)
        self.assertIn("is 125670 here and 1 in the file", self.ran(*words, status=2))
        shown = self.ran(*words, "--accept-differences")
        self.assertIn("2 of 3 formulas agree", shown.splitlines()[0])
        plain = run(*map(str, words), "--accept-differences", "--json")
        self.assertIn("2 of 3 formulas agree", plain.stderr)
        json.loads(plain.stdout)

    def test_a_saved_run(self):
        file, saved = self.folder / "plan.toml", self.folder / "run.parquet"
        self.ran("check", self.ferry, "--write", file)
        self.ran("run", file, *self.few, "--save", saved)
        model = load_model(file)
        again = kd.open_run(saved, model=model)
        run_now = model.simulate(500, seed=1)
        self.assertEqual(float(again["net_value"].mean), float(run_now["net_value"].mean))
        self.assertEqual(again.trial(3)["value"]["vessel"], run_now.trial(3)["value"]["vessel"])
