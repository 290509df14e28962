"""Tests of where results say that they come from, and of what was edited since."""

import hashlib
import json
import os
import shutil
import tempfile
from pathlib import Path
from unittest import mock

import openpyxl

import kindynos as kd
from kindynos.reports.origin import now
from tests.common import DEMO, Folder, run

SIGNED = ("--author", "M. Brun", "--note", "for the board </script>")
FEW = ("--trials", "200", "--seed", "1")


class Made(Folder):
    def setUp(self):
        super().setUp()
        for name in ("terminal.toml", "terminal_items.csv", "terminal_risks.csv"):
            shutil.copy(DEMO / name, self.folder)
        self.model, self.out = self.folder / "terminal.toml", self.folder / "out"
        self.page, self.book = self.folder / "page.html", self.folder / "book.xlsx"
        media = ("--out", self.out, "--report", self.page, "--excel", self.book)
        made = run("run", self.model, *FEW, *SIGNED, "--json", *media)
        self.assertEqual(made.returncode, 0, made.stderr)
        self.data = json.loads(made.stdout)["origin"]

    def test_every_medium_says_the_same(self):
        self.assertEqual((self.data["author"], self.data["note"]), SIGNED[1::2])
        self.assertEqual(
            self.data["files"],
            {
                str(path): hashlib.sha256(path.read_bytes()).hexdigest()
                for path in (
                    self.model,
                    self.folder / "terminal_items.csv",
                    self.folder / "terminal_risks.csv",
                )
            },
        )
        for name in ("summary.json", "run.json"):
            self.assertEqual(json.loads((self.out / name).read_text())["origin"], self.data)
        rows = dict(openpyxl.load_workbook(self.book)["origin"].values)
        self.assertEqual(rows[f"SHA-256 of {self.model}"], self.data["files"][str(self.model)])
        self.assertEqual(rows["note"], self.data["note"])
        text = self.page.read_text(encoding="utf-8")
        self.assertIn(self.data["files"][str(self.model)], text)
        self.assertNotIn("for the board </script>", text)

    def test_results_are_as_they_were_until_something_is_edited(self):
        for result in (self.out, self.out / "summary.json", self.page):
            said = run("check", result)
            self.assertEqual(said.returncode, 0, said.stderr)
            self.assertIn("as it was read", said.stdout)
            self.assertIn("M. Brun", said.stdout)
        items = self.folder / "terminal_items.csv"
        items.write_text(items.read_text().replace("2", "3", 1), encoding="utf-8")
        for result in (self.out, self.out / "summary.json", self.page):
            said = run("check", result)
            self.assertEqual(said.returncode, 1)
            self.assertIn("terminal_items.csv was edited since", said.stderr)
            self.assertNotIn("terminal.toml was", said.stderr)

    def test_files_that_are_not_there_are_named_and_no_fault(self):
        for name in ("terminal.toml", "terminal_risks.csv"):
            (self.folder / name).unlink()
        said = run("check", self.out)
        self.assertEqual(said.returncode, 0, said.stderr)
        self.assertIn("terminal.toml, ", said.stdout.split("Not here to be compared: ")[1])
        self.assertNotIn("as it was read", said.stdout)

    def test_what_a_terminal_would_obey_is_shown_and_not_sent(self):
        summary = self.out / "summary.json"
        data = json.loads(summary.read_text())
        data["origin"] |= {"author": "\x1b[2J", "files": {"\x1b[31m.toml": "0"}}
        summary.write_text(json.dumps(data), encoding="utf-8")
        said = run("check", summary)
        self.assertNotIn("\x1b", said.stdout + said.stderr)
        self.assertIn("Made ", said.stdout)

    def test_a_strangers_results_read_nothing_outside_the_folders_given(self):
        elsewhere = tempfile.TemporaryDirectory()
        self.addCleanup(elsewhere.cleanup)
        secret = Path(elsewhere.name, "secret.txt")
        secret.write_text("secret")
        link = self.out / "link.txt"
        link.symlink_to(secret)
        summary = self.out / "summary.json"
        data = json.loads(summary.read_text())
        names = (str(secret), os.path.relpath(secret, self.out), "link.txt")
        data["origin"] |= {"files": dict.fromkeys(names, "0" * 64)}
        summary.write_text(json.dumps(data), encoding="utf-8")
        said = run("check", summary)
        print_of = hashlib.sha256(b"secret").hexdigest()[:8]
        self.assertNotIn(print_of, said.stdout + said.stderr)
        self.assertIn("Not here to be compared", said.stdout)

    def test_a_time_that_cannot_be_is_that_of_now(self):
        for epoch in ("99999999999999", "-1e9", "soon"):
            with mock.patch.dict(os.environ, {"SOURCE_DATE_EPOCH": epoch}):
                self.assertGreater(now().year, 2025)
        with mock.patch.dict(os.environ, {"SOURCE_DATE_EPOCH": "0"}):
            self.assertEqual(now().year, 1970)

    def test_other_files_are_refused(self):
        forged = ({"files": {"a": 3}}, {"files": {}, "author": 3}, {"files": ["a"]}, 3, None)
        texts = ("", "{}", "[1]", "3", '{"files": "x"}', "[" * 100_000)
        for text in (*texts, *(json.dumps({"origin": origin}) for origin in forged)):
            for ending in (".json", ".html"):
                other = self.folder / f"other{ending}"
                other.write_text(text, encoding="utf-8")
                said = run("check", other)
                self.assertEqual(said.returncode, 2, text)
                self.assertIn("is not a result of kindynos", said.stderr)
        manifest = self.out / "run.json"
        about = json.loads(manifest.read_text())
        for origin in forged:
            manifest.write_text(json.dumps({**about, "origin": origin}), encoding="utf-8")
            said = run("check", self.out)
            self.assertEqual((said.returncode, said.stdout), (2, ""))
            self.assertIn("is not a manifest of kindynos", said.stderr)


class Fingerprints(Folder):
    def fingerprint(self, model):
        path = self.folder / "page.html"
        model.simulate(200, 1).report(path, author="M. Brun")
        return (
            path.read_text(encoding="utf-8").split("fingerprint as it ran <code>")[1].split("<")[0]
        )

    def test_a_model_in_python_has_one_that_changes_with_its_functions(self):
        def made(factor, name="profit"):
            return kd.Model.from_function(
                lambda cups: cups * factor, {"cups": kd.Normal(100, 9)}, outcomes={name: {}}
            )

        first = self.fingerprint(made(2))
        self.assertEqual(self.fingerprint(made(2)), first)
        self.assertNotEqual(self.fingerprint(made(3)), first)

    def test_changes_by_options_count_as_the_model_and_not_as_the_file(self):
        origins = []
        for options in ((), ("--set", "fare=60")):
            said = run("run", DEMO / "night_ferry.toml", *FEW, *options, "--json")
            origins.append(json.loads(said.stdout)["origin"])
        self.assertEqual(origins[0]["files"], origins[1]["files"])
        self.assertNotEqual(origins[0]["model"], origins[1]["model"])

    def test_prices_keep_that_of_the_file_when_it_was_read(self):
        path = Path(shutil.copy(DEMO / "treasury_prices.csv", self.folder))
        before = hashlib.sha256(path.read_bytes()).hexdigest()
        prices = kd.read_prices(path)
        path.write_text("edited", encoding="utf-8")
        self.assertEqual(prices.record()["checksum"], before)
