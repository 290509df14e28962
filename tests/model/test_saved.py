"""Tests of saved."""

import contextlib
import json
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
import pyarrow.parquet as parquet
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.model.file import model_from_text
from kindynos.sealing import seal_of_facts
from tests.common import Case, Folder, investment

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


class Saved(Folder):
    def test_formulas_come_back_whole(self):
        model = investment(price=kd.Uniform(280, 320))
        model.correlate("flow", "price", 0.3)
        for options in ({"sampling": "latin"}, {"sampling": "sobol", "trials": 500}):
            run = model.simulate(**{"trials": 3000, "seed": 4, "keep": ["cash_flow"], **options})
            run.save(self.folder / "r.parquet")
            again = kd.open_run(self.folder / "r.parquet")
            pd.testing.assert_frame_equal(again.table(), run.table())
            pd.testing.assert_frame_equal(again.trial(7), run.trial(7))
            np.testing.assert_array_equal(again["cash_flow"].values, run["cash_flow"].values)
            self.assertEqual(again.facts(), run.facts())
            frame = kd.compare({"a": run, "b": again}).differences()
            self.assertTrue(frame["paired"].all())
        self.assertEqual([path.name for path in self.folder.iterdir()], ["r.parquet"])

    def test_functions_are_needed_again_for_sheets_only(self):
        model = kd.Model("m")
        model.driver("x", kd.Normal(5, 1))

        @model.outcome(unit="EUR", target=20)
        def y(x):
            return x**2

        run = model.simulate(1000, seed=1)
        run.save(self.folder / "r.parquet")
        again = kd.open_run(self.folder / "r.parquet")
        pd.testing.assert_frame_equal(again.table(), run.table())
        pd.testing.assert_frame_equal(again.sensitivity("y"), run.sensitivity("y"))
        with self.fails("without the functions", "model="):
            again.trial(3)
        whole = kd.open_run(self.folder / "r.parquet", model)
        pd.testing.assert_frame_equal(whole.trial(3), run.trial(3))
        other = kd.Model("m")
        other.driver("x", kd.Normal(5, 1))
        other.outcome("y", "x ** 3")
        with self.fails("not that of the run", kind=kd.FileError):
            kd.open_run(self.folder / "r.parquet", other)

    def test_what_was_stated_comes_back_to_the_bit(self):
        model = kd.Model("Wide \U0001f6a2")
        for i, weights in enumerate(np.random.default_rng(3).dirichlet(np.ones(3), 40)):
            model.driver(
                f"d{i}", kd.Mixture([kd.Normal(0, 1), kd.Normal(5, 1), kd.Normal(9, 2)], weights)
            )
        model.outcome("y", "d0 + d1", unit="\U0001d4b3")
        run = model.simulate(60, seed=1, keep=["d0"])
        run.save(self.folder / "m.parquet")
        again = kd.open_run(self.folder / "m.parquet")
        self.assertEqual((again.name, again["y"].unit), (run.name, run["y"].unit))
        np.testing.assert_array_equal(again.batch(0)["d7"], run.batch(0)["d7"])
        self.assertEqual(model.to_toml(), model_from_text(model.to_toml()).to_toml())

    def test_aims_are_saved(self):
        aims = [
            kd.Precision("net_value", "chance", below=0, within=0.05),
            kd.Precision("net_value", "mean", within=1e-9),
        ]
        run = investment().simulate(2000, seed=1, until=aims, max_trials=4000)
        run.save(self.folder / "a.parquet")
        again = kd.open_run(self.folder / "a.parquet")
        self.assertEqual(repr(again.aims), repr(run.aims))
        self.assertEqual([met for _, met in again.aims], [True, False])

    def test_a_changed_description_is_seen(self):
        path = self.folder / "r.parquet"
        investment().simulate(300, seed=1).save(path)
        table = parquet.read_table(path)
        text = table.schema.metadata[b"kindynos"].replace(b'"seed": 1', b'"seed": 2')
        parquet.write_table(table.replace_schema_metadata({b"kindynos": text}), path)
        with self.fails("damaged", "checksum", kind=kd.FileError):
            kd.open_run(path)

    def test_damaged_and_other_files(self):
        path = self.folder / "r.parquet"
        investment().simulate(300, seed=1).save(path)
        table = parquet.read_table(path)
        about = json.loads(table.schema.metadata[b"kindynos"])

        def written(**changes):
            forged = {**about, **changes}
            forged["seal"] = seal_of_facts(forged)
            metadata = {b"kindynos": json.dumps(forged).encode()}
            parquet.write_table(table.replace_schema_metadata(metadata), path)

        for change, words in (
            (lambda: written(format=99), ("format 99", "reads 3")),
            (lambda: written(checksum="0"), ("damaged", "checksum")),
            (lambda: written(kept={"lost": None}), ("damaged", "'lost'")),
            (lambda: written(model="[model]"), ("model cannot be read",)),
            (
                lambda: parquet.write_table(table.replace_schema_metadata({}), path),
                ("no saved run",),
            ),
            (lambda: path.write_bytes(path.read_bytes()[:200]), ("damaged, or no saved run",)),
            (path.unlink, ("cannot be read: No such file",)),
        ):
            change()
            with self.subTest(words=words), self.fails("r.parquet", *words, kind=kd.FileError):
                kd.open_run(path)
        whole = path.with_name("whole.parquet")
        investment().simulate(50).save(whole)
        (path.parent / "plain").touch()
        with self.fails("cannot be written", kind=kd.FileError):
            investment().simulate(50).save(path.parent / "plain" / "r.parquet")
        with (
            mock.patch.dict("sys.modules", {"pyarrow": None}),
            self.fails("kindynos[parquet]", kind=kd.FileError),
        ):
            kd.open_run(whole)

    def test_foreign_descriptions(self):
        path = self.folder / "r.parquet"
        investment().simulate(300, seed=1).save(path)
        table = parquet.read_table(path)
        text = table.schema.metadata[b"kindynos"].decode()
        rng = np.random.default_rng(1)
        foreign = (None, 5, -1, "text", [], {}, [None], 1e400, True, [[1]])
        for trial in range(250):
            about = json.loads(text)
            place = about
            while True:  # walk to any part of the description and put something else in its place
                key = (
                    list(place)[rng.integers(len(place))]
                    if isinstance(place, dict)
                    else int(rng.integers(len(place)))
                )
                if not isinstance(place[key], dict | list) or not place[key] or rng.random() < 0.3:
                    break
                place = place[key]
            place[key] = foreign[rng.integers(len(foreign))]
            if key != "seal":
                about["seal"] = seal_of_facts(about)
            metadata = {
                b"kindynos": json.dumps(about).encode()
                if trial % 5
                else text[: rng.integers(len(text))].encode()
            }
            parquet.write_table(table.replace_schema_metadata(metadata), path)
            with (
                self.subTest(key=key, value=repr(place[key])[:40]),
                contextlib.suppress(kd.KindynosError),
            ):
                run = kd.open_run(path)
                run.table(), run.facts(), run.trial(0), float(run["net_value"].mean)


class OtherRuns(Folder):
    def test_partial_grown_and_noted_runs_are_saved_whole(self):
        model = investment()
        model.outcome("rate", "irr(cash_flow - 95, 10)")
        path = self.folder / "r.parquet"
        stopped = model.simulate(
            40_000, seed=1, progress=lambda done, total: done < 9_000, workers=1
        )
        grown = model.simulate(
            2000, seed=1, until=kd.Precision("net_value", "mean", within=0.2), max_trials=60_000
        )
        for saved in (stopped, grown):
            saved.save(path)
            again = kd.open_run(path)
            self.assertEqual((again.size, again.partial), (saved.size, saved.partial))
            self.assertEqual(again.warnings_of("rate"), saved.warnings_of("rate"))
            np.testing.assert_array_equal(again["net_value"].values, saved["net_value"].values)
            pd.testing.assert_frame_equal(again.trial(saved.size - 1), saved.trial(saved.size - 1))

    def test_runs_of_processes_are_saved(self):
        model = kd.Model("oil", periods=6)
        model.driver("price", kd.MeanReverting(1.0, 1.2, 0.5, 0.1), unit="EUR")
        model.outcome("end", "last(price)")
        made = model.simulate(500, seed=1, keep=["price"])
        made.save(self.folder / "r.parquet")
        again = kd.open_run(self.folder / "r.parquet")
        np.testing.assert_array_equal(again["price"].values, made["price"].values)
        pd.testing.assert_frame_equal(again.trial(3), made.trial(3))


class Damaged(Case):
    @quick
    @given(st.binary(max_size=300))
    def test_bytes_are_no_run_and_no_prices(self, data):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "x.parquet")
            path.write_bytes(data)
            with self.assertRaises(kd.FileError):
                kd.open_run(path)
            with self.assertRaises(kd.FileError):
                kd.read_prices(path)

    @quick
    @given(st.integers(0, 4000))
    def test_a_cut_run_is_refused(self, length):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "r.parquet")
            investment().simulate(50, seed=1).save(path)
            data = path.read_bytes()
            path.write_bytes(data[: min(length, len(data) - 1)])
            with self.assertRaises(kd.FileError):
                kd.open_run(path)
