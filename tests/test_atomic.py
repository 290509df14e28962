"""Tests of writing files: names that data have, files that were read, and no moment without a
file.
"""

import threading
from pathlib import Path

import pandas as pd

import kindynos as kd
from kindynos.atomic import file_name, replacing
from tests.common import Case, Folder, run


class Names(Case):
    def test_names_that_data_have(self):
        for text in ("/etc/passwd", "../../up", "a\\b", "EUR/USD", "c:d", ".hidden", "x\0y", ""):
            name = file_name(text, end=".png")
            with self.subTest(text=text):
                self.assertEqual(name, Path(name).name)
                self.assertFalse(set(name) & set('/\\:*?"<>|\0'))
                self.assertFalse(name.startswith("."))
        self.assertLessEqual(len(file_name("é" * 500, end=".csv").encode()), 130)
        self.assertEqual(file_name("A/b", ["a_B.csv"], ".csv"), "A_b-2.csv")


class Nothing(Folder):
    def test_columns_choose_no_path(self):
        columns = {f"{self.folder}/evil": [1.0, 2.5, 4.0], "EUR/USD": [2.0, 3.1, 4.2]}
        pd.DataFrame(columns).to_csv(self.folder / "c.csv", index=False)
        answer = run("read", self.folder / "c.csv", "--out", self.folder / "out")
        self.assertEqual(answer.returncode, 0, answer.stderr)
        self.assertEqual({path.name for path in self.folder.iterdir()}, {"c.csv", "out"})
        self.assertIn("EUR_USD.png", {path.name for path in (self.folder / "out").iterdir()})

    def test_no_writer_replaces_what_was_read(self):
        model = self.folder / "model.xlsx"
        model.write_bytes(kd.demo_file("night_ferry.xlsx").read_bytes())
        before = model.read_bytes()
        few = ("--trials", "200", "--seed", "1")
        for arguments in (
            ("run", model, *few, "--excel", model),
            ("check", model, "--write", model),
        ):
            answer = run(*arguments)
            with self.subTest(arguments[0]):
                self.assertEqual(answer.returncode, 2, answer.stdout)
                self.assertIn("one of the files that were read", answer.stderr)
                self.assertEqual(model.read_bytes(), before)

    def test_a_device_is_no_file(self):
        with self.fails("not a regular file"), replacing(Path("/dev/null")):
            pass

    def test_a_file_is_there_at_every_moment(self):
        target = self.folder / "figures.csv"
        target.write_text("old")
        missing, ended = [], threading.Event()

        def look():
            while not ended.is_set():
                if not target.exists():
                    missing.append(1)

        thread = threading.Thread(target=look)
        thread.start()
        for number in range(300):
            with replacing(target) as temporary:
                temporary.write_text(str(number))
        ended.set()
        thread.join()
        self.assertEqual((missing, target.read_text()), ([], "299"))

    def test_a_misspelt_first_record_is_no_row_of_units(self):
        dated = "date,x\n2024-01-01,1O0\n2024-01-02,3\n2024-01-03,4\n"
        for text, cell in (("x\n12o\n3\n4\n", "12o"), (dated, "1O0")):
            path = self.folder / "t.csv"
            path.write_text(text)
            answer = run("fit", path, "--column", "x")
            with self.subTest(cell):
                self.assertEqual(answer.returncode, 2)
                self.assertIn(f"'{cell}', which is not a number", answer.stderr)

    def test_very_many_digits_are_read_at_once(self):
        path = self.folder / "t.csv"
        path.write_text(f"x\n{'1' * 32_000}x\n" + "2\n3\n" * 8)
        answer = run("fit", path, "--column", "x")
        self.assertEqual(answer.returncode, 2)
        self.assertIn("which is not a number", answer.stderr)
