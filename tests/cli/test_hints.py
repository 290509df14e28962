"""What people type for what there is: each gets the hint that helps."""

from tests.common import DEMO, FERRY, Folder, run

FEW = ("--trials", "200", "--seed", "1")


class Hints(Folder):
    def test_commands_by_other_names(self):
        for words, hint in (
            (("tornado", FERRY), "drivers --method swing"),
            (("goal-seek", FERRY), "'solve'"),
            (("VaR",), "'risk'"),
            (("runn", FERRY), "'run'"),
            ((DEMO / "night_ferry.toml",), "kindynos run"),
            (("drivers", FERRY, "--method", "tornado", *FEW), "the name here is 'swing'"),
        ):
            with self.subTest(words[0]):
                answer = run(*words)
                self.assertEqual(answer.returncode, 2)
                self.assertIn(hint, answer.stderr)

    def test_percentiles_that_look_like_levels(self):
        answer = run("run", FERRY, "--percentiles", "0.05,0.5", *FEW, "--quiet")
        self.assertIn("did you mean 5, 50?", answer.stderr)
        self.assertEqual(run("run", FERRY, "--percentiles", "0.5,5", *FEW, "--quiet").stderr, "")

    def test_a_table_of_correlations_with_one_bracket(self):
        file = self.folder / "model.toml"
        file.write_text('[model]\nname = "x"\n[correlations]\nbetween = ["a", "b"]\nvalue = 0.3\n')
        self.assertIn("[[correlations]]", run("check", file).stderr)

    def test_slips_in_model_files(self):
        model = '[model]\nname = "x"\n[outcomes]\ny = "1"\n'
        for text, hint in (
            (model + "[given]\ng = { value = 33,000 }\n", "numbers are written without commas"),
            (model + "[given]\ng = 1,5\n", "a decimal comma must be a point"),
            (model.replace('"x"', '"x'), "a text ends with a quote, which is missing"),
            (model + '[drivers.a]\ndistribution = "pret"\n', "did you mean 'pert'?"),
        ):
            file = self.folder / "model.toml"
            file.write_text(text)
            with self.subTest(hint):
                answer = run("run", file)
                self.assertEqual(answer.returncode, 2)
                self.assertIn(hint, answer.stderr)
        self.assertIn("did you mean 'model.toml'?", run("run", self.folder / "modle.toml").stderr)
        (self.folder / "bills.csv").write_text("bill\n3\n4\n")
        answer = run("run", self.folder / "bills.csv")
        self.assertIn("is a table, and no model; kindynos read bills.csv", answer.stderr)
        (self.folder / "costs.csv").write_text("cost\n€ 3\n4 EUR\n5\u00a0€\n")
        answer = run("read", self.folder / "costs.csv", "--brief")
        self.assertEqual(answer.returncode, 0, answer.stderr)
        self.assertIn("100 % of the others lie between 4 and 5", answer.stdout)

    def test_help_names_what_can_be_minimised(self):
        self.assertNotIn("{names}", run("allocate", "--help").stdout)
