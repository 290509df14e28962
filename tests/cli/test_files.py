"""Tests of files."""

import contextlib
import os
import signal
import subprocess
import sys
import unittest
import warnings
from platform import node
from zlib import crc32

import pandas as pd

from kindynos.atomic import staged
from tests.common import DEMO, Folder, run, wait_for_work


class NothingHalfWritten(Folder):
    def test_a_failing_command_leaves_no_folder(self):
        out = self.folder / "out"
        prices, holdings = str(DEMO / "treasury_prices.csv"), str(DEMO / "treasury_holdings.csv")
        ferry = str(DEMO / "night_ferry.toml")
        for words in (
            ("risk", prices, "--holdings", holdings, "--windows", "99999"),
            ("backtest", prices, "--holdings", holdings, "--method", "simulated"),
            ("paths", prices, "--instrument", "nothing"),
            ("sweep", ferry, "--over", "nothing=3"),
            (
                "solve",
                ferry,
                "fare",
                "--outcome",
                "net_value",
                "--mean",
                "1e12",
                "--within",
                "40",
                "50",
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
    def test_files_are_complete_when_the_output_cannot_be_written(self):
        command = [
            sys.executable,
            "-m",
            "kindynos",
            "run",
            str(DEMO / "berths.toml"),
            "--trials",
            "300",
            "--out",
        ]
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
                {"summary.json", "trials.csv", "profit.png"},
                {p.name for p in (self.folder / name).iterdir()},
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

    def test_what_a_killed_process_left_is_cleared(self):
        machine = f"{crc32(node().encode()):08x}"
        with subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"]) as other:
            kept, gone = (
                self.folder / f".kindynos-{machine}-{number}-{'0' * 32}"
                for number in (other.pid, 2**22 + 1)
            )
            foreign = self.folder / f".kindynos-{'f' * 8}-{2**22 + 1}-{'0' * 32}"
            for folder in (kept, gone, foreign):
                (folder / "deep").mkdir(parents=True)
            run(
                "run",
                str(DEMO / "berths.toml"),
                "--trials",
                "50",
                "--save",
                str(self.folder / "r.parquet"),
            )
            self.assertEqual(
                {path.name for path in self.folder.iterdir()},
                {kept.name, foreign.name, "r.parquet"},
            )
            other.kill()

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
            "3 figures kept of each of 10,000,000,000,000 trials take .* GB, and this machine has",
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
            answer = run("sweep", ferry, "--over", f"fare={fares}", "--out", str(out))
            self.assertEqual(answer.returncode, 0)
        self.assertEqual(len(pd.read_csv(out / "sweep.csv")), 3)
        self.assertFalse([path for path in out.iterdir() if path.name.startswith(".")])
