"""Tests of files."""

import contextlib
import json
import os
import signal
import subprocess
import sys
import time
import unittest
import warnings
from unittest import mock

import pandas as pd

import kindynos as kd
from kindynos.atomic import replacing, staged
from kindynos.reports.manifest import differences, read_manifest
from tests.common import DEMO, Folder, proof, run, unrendered, wait_for_work


class NothingHalfWritten(Folder):
    def test_a_failing_command_leaves_no_folder(self):
        out = self.folder / "out"
        prices, holdings = str(DEMO / "treasury_prices.csv"), str(DEMO / "treasury_holdings.csv")
        ferry = str(DEMO / "night_ferry.toml")
        for words in (
            ("risk", prices, "--holdings", holdings, "--windows", "99999"),
            ("backtest", prices, "--holdings", holdings, "--method", "simulated"),
            ("paths", prices, "--column", "nothing"),
            ("sweep", ferry, "--vary", "nothing=3"),
            (
                "solve",
                ferry,
                "fare",
                "--outcome",
                "net_value",
                "--mean",
                "1e12",
                "--within",
                "40:50",
                "--trials",
                "300",
            ),
            ("drivers", ferry, "--method", "nothing", "--trials", "300"),
            ("trial", ferry, "--number", "500", "--trials", "300"),
            ("compare", str(DEMO / "berths.toml")),
        ):
            answer = run(*words, "--out", str(out))
            with self.subTest(words=words):
                self.assertIn(answer.returncode, (1, 2))
                self.assertEqual(answer.stderr.count("\n"), 1)
                self.assertFalse(out.exists())

    @proof
    def test_every_command_writes_files_of_every_kind_of_model(self):
        kinds = {  # one model of each kind: rows and scenarios, periods that never come, a fleet
            "night_ferry": (("run",), ("drivers",), ("trial", "--number", "3"), ("compare",)),
            "hydrofoil": (("run",),),
            "vessels": (("run",), ("drivers",), ("trial", "--number", "3")),
        }
        for file, commands in ((DEMO / f"{stem}.toml", found) for stem, found in kinds.items()):
            for command in commands:
                out = self.folder / f"{file.stem}-{command[0]}"
                with (
                    self.subTest(file=file.name, command=command),
                    warnings.catch_warnings(action="error"),
                ):
                    answer = run(
                        command[0],
                        str(file),
                        *command[1:],
                        "--trials",
                        "60",
                        "--seed",
                        "1",
                        "--out",
                        str(out),
                    )
                    self.assertEqual((answer.returncode, answer.stderr), (0, ""))
                    self.assertTrue(all(path.stat().st_size for path in out.iterdir()))

    def test_what_others_put_into_the_folder_stays(self):
        out = self.folder / "made" / "out"
        with contextlib.suppress(ValueError), staged(out) as stage:
            (stage / "ours.csv").write_text("1")
            (out / "theirs.csv").write_text("2")
            raise ValueError
        self.assertEqual([path.name for path in out.iterdir()], ["theirs.csv"])
        other = self.folder / "other" / "deep"
        with contextlib.suppress(ValueError), staged(other):
            raise ValueError
        self.assertFalse(other.parent.exists())

    @unittest.skipUnless(os.path.exists("/dev/full"), "no full device here")
    def test_files_of_others_are_replaced_when_that_is_said_only(self):
        out = self.folder / "out"
        out.mkdir()
        words = ("run", DEMO / "berths.toml", "--trials", "200", "--quiet", "--out", out)
        self.enterContext(unrendered())
        for name in ("figures.csv", "run.json"):
            (out / name).write_text("mine")
            refused = run(*words)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(f"{name} would be replaced", refused.stderr)
            self.assertEqual([path.name for path in out.iterdir()], [name])
            self.assertEqual((out / name).read_text(), "mine")
            self.assertEqual(run(*words, "--force").returncode, 0)
            self.assertEqual(run(*words).returncode, 0)  # they are ours now
            for path in out.iterdir():
                path.unlink()

    def test_files_are_complete_when_the_output_cannot_be_written(self):
        command = [sys.executable, "-m", "kindynos", "check", str(DEMO / "berths.toml"), "--out"]
        with open("/dev/full", "w") as full:
            answer = subprocess.run(
                [*command, str(self.folder / "a")],
                stdout=full,
                stderr=subprocess.PIPE,
                text=True,
                check=False,
            )
        self.assertEqual((answer.returncode, answer.stderr.count("\n")), (1, 1))
        self.assertIn("the output cannot be written: No space left", answer.stderr)
        with subprocess.Popen(
            [*command, str(self.folder / "b")], stdout=subprocess.PIPE, stderr=subprocess.PIPE
        ) as process:
            process.stdout.close()  # the reader goes at once
            self.assertEqual((process.stderr.read(), process.wait()), (b"", 0))
        for name in ("a", "b"):
            self.assertLessEqual(
                {"summary.json", "base-case.csv"}, {p.name for p in (self.folder / name).iterdir()}
            )

    @unittest.skipIf(sys.platform == "win32", "no such signal there")
    def test_a_termination_leaves_nothing(self):
        out = self.folder / "out"
        command = [
            sys.executable,
            "-m",
            "kindynos",
            "run",
            str(DEMO / "night_ferry.toml"),
            "--trials",
            "30000000",
        ]
        with subprocess.Popen(
            [*command, "--out", str(out)], stderr=subprocess.PIPE, stdout=subprocess.PIPE
        ) as process:
            wait_for_work(process)
            process.send_signal(signal.SIGTERM)
            _, message = process.communicate(timeout=60)
        self.assertEqual((process.returncode, message), (143, b""))
        self.assertFalse(out.exists())

    def test_what_a_killed_process_left_is_cleared_when_it_is_old(self):
        names = [f".kindynos-{digit * 32}" for digit in "abc"]
        for name, hours in zip(names, (0, 23, 25), strict=True):
            (self.folder / name / "deep").mkdir(parents=True)
            then = time.time() - 3600 * hours
            os.utime(self.folder / name, (then, then))
        target = self.folder / "r.parquet"
        run("run", str(DEMO / "berths.toml"), "--trials", "50", "--save", str(target))
        self.assertEqual({path.name for path in self.folder.iterdir()}, {*names[:2], "r.parquet"})

    def test_places_that_cannot_be_written_are_told_before_the_run(self):
        plain = self.folder / "plain"
        plain.touch()
        for place, words in (
            ("", "not a name for a file"),
            (self.folder, "not a name"),
            (plain / "r", "cannot be written"),
        ):
            answer = run("run", str(DEMO / "berths.toml"), "--trials", "1e9", "--save", str(place))
            with self.subTest(place=place):
                self.assertEqual(
                    (answer.returncode, answer.stdout, answer.stderr.count("\n")), (2, "", 1)
                )
                self.assertIn(words, answer.stderr)
        answer = run("run", str(DEMO / "berths.toml"), "--trials", "1e13")
        self.assertRegex(
            answer.stderr,
            "3 figures kept of each of 10,000,000,000,000 trials take .* GB, and .* GB of memory",
        )

    def test_the_demo_leaves_files_that_were_changed(self):
        file = self.folder / "night_ferry.toml"
        file.write_text("mine")
        answer = run("demo", "--to", str(self.folder))
        self.assertEqual((answer.returncode, file.read_text()), (2, "mine"))
        self.assertIn("night_ferry.toml in", answer.stderr)
        self.assertIn("say --overwrite", answer.stderr)

    def test_outputs_replace_older_ones_whole(self):
        out = self.folder / "out"
        ferry = str(DEMO / "night_ferry.toml")
        for fares in ("50,54", "50,54,58"):
            answer = run("sweep", ferry, "--vary", f"fare={fares}", "--out", str(out))
            self.assertEqual(answer.returncode, 0)
        self.assertEqual(len(pd.read_csv(out / "sweep.csv")), 3)
        self.assertFalse([path for path in out.iterdir() if path.name.startswith(".")])


class WholeFolders(Folder):
    def results(self, *more, seed=1):
        return run(
            "run", str(DEMO / "berths.toml"), "--trials", "300", "--seed", str(seed),
            "--out", str(self.folder / "out"), *more,
        )  # fmt: skip

    def contents(self):
        return {
            path.name: path.read_bytes()
            for path in (self.folder / "out").iterdir()
            if path.is_file()
        }

    def test_a_target_that_cannot_be_replaced_leaves_the_folder_as_it_was(self):
        self.results()
        target = self.folder / "out" / "trials.csv"
        for spoil, words in (
            (lambda: target.chmod(0o444), ("trials.csv", "read-only")),
            (lambda: (target.unlink(), target.mkdir()), ("trials.csv", "not a name for a file")),
        ):
            spoil()
            before = self.contents()
            answer = self.results(seed=2)
            self.assertEqual((answer.returncode, answer.stderr.count("\n")), (2, 1))
            for word in words:
                self.assertIn(word, answer.stderr)
            self.assertEqual(self.contents(), before)

    def test_an_error_in_the_midst_of_the_moves_puts_everything_back(self):
        (self.folder / "b.txt").write_text("old")
        real, calls = os.replace, []

        def fails_at_the_second(source, target):
            calls.append(target)
            if len(calls) == 2:  # a.txt, and now b.txt
                raise OSError(28, "No space left on device")
            real(source, target)

        with (
            self.fails("b.txt", "No space left", kind=kd.FileError),
            mock.patch("os.replace", fails_at_the_second),
            staged(self.folder) as stage,
        ):
            for name in ("a.txt", "b.txt"):
                (stage / name).write_text("new")
        self.assertEqual([path.name for path in self.folder.iterdir()], ["b.txt"])
        self.assertEqual((self.folder / "b.txt").read_text(), "old")

    @unittest.skipIf(sys.platform == "win32", "no such signal there")
    def test_an_interrupt_waits_until_all_files_are_there(self):
        real = os.replace
        # a process in the background ignores the signal otherwise
        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        self.addCleanup(signal.signal, signal.SIGINT, before)

        def interrupted(source, target):
            os.kill(os.getpid(), signal.SIGINT)
            real(source, target)

        with (
            self.assertRaises(KeyboardInterrupt),
            mock.patch("os.replace", interrupted),
            staged(self.folder / "made") as stage,
        ):
            for name in ("a.txt", "b.txt", "c.txt"):
                (stage / name).write_text("new")
        names = sorted(path.name for path in (self.folder / "made").iterdir())
        self.assertEqual(names, ["a.txt", "b.txt", "c.txt"])

    def test_saving_keeps_links_and_modes_and_makes_folders(self):
        real = self.folder / "deep" / "er" / "real.txt"
        with replacing(real) as part:
            part.write_text("one")
        real.chmod(0o640)
        link = self.folder / "link.txt"
        link.symlink_to(real)
        with replacing(link) as part:
            part.write_text("two")
        self.assertTrue(link.is_symlink())
        self.assertEqual((real.read_text(), real.stat().st_mode & 0o777), ("two", 0o640))
        real.chmod(0o440)
        with self.fails("read-only", kind=kd.FileError), replacing(link) as part:
            part.write_text("three")
        self.assertEqual(real.read_text(), "two")
        with contextlib.suppress(ValueError), replacing(self.folder / "new" / "x") as part:
            raise ValueError
        self.assertFalse((self.folder / "new").exists())
        saved = self.folder / "a" / "b" / "run.parquet"
        run("run", str(DEMO / "berths.toml"), "--trials", "50", "--save", str(saved))
        self.assertTrue(saved.is_file())

    def test_the_manifest_shows_a_mixed_folder(self):
        self.results(seed=5)
        out = self.folder / "out"
        made = json.loads((out / "run.json").read_text())
        self.assertEqual((made["command"], made["seed"]), ("run", 5))
        self.assertEqual(made["kindynos"], kd.__version__)
        self.assertEqual(set(made["files"]), {p.name for p in out.iterdir()} - {"run.json"})
        answer = run("check", str(out))
        self.assertEqual(answer.returncode, 0)
        self.assertIn("kindynos run, seed 5", answer.stdout)
        berths = str(DEMO / "berths.toml")
        run("drivers", berths, "--trials", "300", "--seed", "6", "--out", str(out))
        self.assertEqual([entry["command"] for entry in read_manifest(out)], ["drivers", "run"])
        self.assertEqual(differences(out), [])

        (out / "trials.csv").write_text("spoilt")
        (out / "new.csv").write_text("x")
        (out / "profit.png").unlink()
        answer = run("check", str(out))
        self.assertEqual(answer.returncode, 1)
        for words in (
            "trials.csv was changed", "new.csv is not of these runs", "profit.png is missing"
        ):  # fmt: skip
            self.assertIn(words, answer.stderr)
        for spoilt in ("[]", "{", '{"files": {"../x": "y"}}', '{"files": [1]}'):
            (out / "run.json").write_text(spoilt)
            self.assertIn("not a manifest", run("check", str(out)).stderr)
        self.assertIn("holds no run.json", run("check", str(self.folder)).stderr)
