"""Trials written in parts: the same as in memory, resumed, sealed, and read by others."""

import json
from unittest import mock

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.model import parts
from tests.common import Folder, investment

TRIALS = 120_000


class Parts(Folder):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(parts, "ROWS", 30_000))

    def write(self, seed=3, **options):
        return investment().simulate(
            TRIALS, seed, store="parts", resume=self.folder / "trials", **options
        )

    def test_they_are_those_of_a_run_in_memory(self):
        for plan in ("latin", "random"):
            folder = self.folder / plan
            investment().simulate(TRIALS, 3, sampling=plan, store="parts", resume=folder)
            found = kd.open_parts(folder)
            full = investment().simulate(TRIALS, 3, sampling=plan)
            self.assertEqual(list(found), ["flow", "net_value"])
            self.assertGreater(len(found.files), 3)
            for name in found:
                np.testing.assert_array_equal(found[name].values, full[name].values)
            one, other = found["net_value"], full["net_value"]
            for read in (lambda r: r.percentile(5), lambda r: r.mean, lambda r: r.chance(below=0)):
                mine, known = read(one), read(other)
                self.assertEqual(
                    (float(mine), mine.low, mine.high), (float(known), known.low, known.high)
                )
            self.assertEqual((one.unit, one.target), (other.unit, other.target))
            found.check()

    def test_other_programs_read_them(self):
        self.write()
        frame = pd.read_parquet(self.folder / "trials", columns=["net_value"], engine="pyarrow")
        self.assertEqual(len(frame), TRIALS)

    def test_a_stopped_run_goes_on_with_whole_parts(self):
        with self.fails("stopped after", "the same again goes on", kind=kd.RunError):
            self.write(workers=1, progress=lambda done, total: done < 70_000)
        with self.fails("has not ended", kind=kd.FileError):
            kd.open_parts(self.folder / "trials")
        kept = {file.name: file.stat().st_mtime_ns for file in self.folder.glob("*/part-*")}
        self.assertTrue(kept)
        found = self.write()
        for name, then in kept.items():
            self.assertEqual((self.folder / "trials" / name).stat().st_mtime_ns, then)
        full = investment().simulate(TRIALS, 3)
        np.testing.assert_array_equal(found["net_value"].values, full["net_value"].values)

    def test_what_does_not_belong_is_refused(self):
        found = self.write()
        with self.fails("another run", "seed", kind=kd.FileError):
            self.write(seed=4)
        with self.fails("no quantity 'net_valu'", "net_value", kind=kd.RunError):
            _ = found["net_valu"]
        with self.fails("no trials in parts", kind=kd.FileError):
            kd.open_parts(self.folder)
        with self.fails("needs resume=", kind=kd.ParameterError):
            investment().simulate(TRIALS, store="parts")
        found.files[1].write_bytes(found.files[0].read_bytes())
        with self.fails("was changed", "part-00001", kind=kd.FileError):
            found.check()
        found.files[1].unlink()
        with self.fails("is missing", kind=kd.FileError):
            found.check()
        manifest = self.folder / "trials" / "_manifest.json"
        manifest.write_text(json.dumps({"format": 99}))
        with self.fails("no manifest of trials", kind=kd.FileError):
            kd.open_parts(self.folder / "trials")
