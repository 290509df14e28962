"""What is resumed or opened is checked, not believed: other models, altered parts, manifests and
checkpoints are refused in words or mended.
"""

import functools
import json
import warnings
from unittest import mock

import numpy as np
import openpyxl

import kindynos as kd
from kindynos.model import parts
from kindynos.results import summary_run
from kindynos.sealing import seal_of_arrays
from tests.common import Folder

TRIALS = 100_000
RATE = 1.0


class Scaled:
    def __init__(self, by):
        self.by = by

    def __call__(self, x):
        return x * self.by


def helper(x):
    return x * RATE


def model(closure=1.0, state=1.0, bound=1.0, default=1.0, data=None):
    """A model whose outcome is a driver times what a function reaches in five ways."""
    scaled, part = Scaled(state), functools.partial(lambda factor, x: factor * x, bound)
    table = np.ones(3) if data is None else data

    def inner(x, factor=default):
        return x * factor

    made = kd.Model("Reaching")
    made.driver("a", kd.Normal(0, 1))

    @made.line
    def b(a):
        return helper(part(scaled(inner(a * closure)))) * table[0]

    made.outcome("total", "b")
    return made


def sealed(path, about):
    """Return the arrays of a checkpoint as those of another run, sealed again."""
    with np.load(path) as stored:
        arrays = {name: stored[name] for name in stored.files if name not in ("seal", "about")}
    arrays["about"] = np.array(json.dumps(about))
    return {**arrays, "seal": np.array(seal_of_arrays(arrays))}


class Resuming(Folder):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(parts, "ROWS", 25_000))

    def stop(self, made, store, path):
        with self.fails("stopped after", kind=kd.RunError):
            made.simulate(
                TRIALS, 3, store=store, resume=path, workers=1,
                progress=lambda done, _: done < 60_000,
            )  # fmt: skip

    def test_another_model_of_the_same_name_is_refused(self):
        changes = {
            "closure": {"closure": 2.0},
            "state": {"state": 2.0},
            "partial": {"bound": 2.0},
            "default": {"default": 2.0},
            "array": {"data": np.full(3, 2.0)},
        }
        for store in ("parts", "summary"):
            path = self.folder / f"run {store}"
            self.stop(model(), store, path)
            for what, change in changes.items():
                with self.subTest(what, store=store), self.fails("another run", kind=kd.FileError):
                    model(**change).simulate(TRIALS, 3, store=store, resume=path)
            with (
                mock.patch(f"{__name__}.RATE", 2.0),
                self.subTest("global", store=store),
                self.fails("another run", kind=kd.FileError),
            ):
                model().simulate(TRIALS, 3, store=store, resume=path)
            found = model().simulate(TRIALS, 3, store=store, resume=path)["total"]
            full = model().simulate(TRIALS, 3)["total"]
            self.assertEqual(float(found.percentile(5)), float(full.percentile(5)))

    def test_an_edited_workbook_is_another_model(self):
        book = openpyxl.Workbook()
        sheet = book.active
        sheet["B1"], sheet["B2"], sheet["B3"] = 5, 7, "=B1*B2+B4"
        sheet["B4"] = 3
        for cell, value in (("B4", 3), ("B4", 4), ("B3", "=B1*B2-B4")):
            sheet["B4"], sheet["B3"] = 3, "=B1*B2+B4"
            sheet[cell] = value
            path = self.folder / "book.xlsx"
            book.save(path)
            made = kd.read_workbook(path).model(
                drivers={"price": ("B1", kd.Normal(5, 1))}, outcomes={"total": "B3"}
            )
            options = {"store": "parts", "resume": self.folder / "trials"}
            if (cell, value) == ("B4", 3):
                made.simulate(TRIALS, 3, **options)
            else:
                with self.fails("another run", kind=kd.FileError):
                    made.simulate(TRIALS, 3, **options)

    def test_what_no_digest_shows_is_found_by_working_a_block_anew(self):
        with mock.patch.object(parts, "identity", return_value="the same"):
            path = self.folder / "run"
            self.stop(model(), "parts", path)
            with self.fails("other trials of 'total'", "was changed", kind=kd.FileError):
                model(closure=2.0).simulate(TRIALS, 3, store="parts", resume=path)
        # the brackets of a summary come from its pilot, which shows most of it already
        with mock.patch.object(summary_run, "identity", return_value="the same"):
            path = self.folder / "run.npz"
            self.stop(model(), "summary", path)
            with mock.patch.object(summary_run.SummaryRun, "_about", return_value={}):
                changed = model(closure=1.0000001)
                np.savez(path, **sealed(path, {"format": 2}))
                with self.fails("other trials of 'total'", kind=kd.FileError):
                    changed.simulate(TRIALS, 3, store="summary", resume=path)

    def test_altered_parts_and_manifests(self):
        folder = self.folder / "trials"
        run = functools.partial(model().simulate, TRIALS, 3, store="parts", resume=folder)
        right = run()["total"].values.copy()
        model(closure=3.0).simulate(TRIALS, 3, store="parts", resume=self.folder / "other")
        files = sorted(file.name for file in folder.glob("part-*"))
        kept = {file.name: file.read_bytes() for file in folder.iterdir()}
        foreign = (self.folder / "other" / files[1]).read_bytes()
        rng = np.random.default_rng(5)

        def flipped(data):
            place = int(rng.integers(len(data)))
            return (
                data[:place]
                + bytes([data[place] ^ (1 << int(rng.integers(8)))])
                + data[place + 1 :]
            )

        cases = [{files[1]: foreign}, {files[1]: kept[files[2]], files[2]: kept[files[1]]},
                 {files[0]: kept[files[0]][:-7]}, {files[2]: b""}]  # fmt: skip
        cases += [{name: flipped(kept[name])} for name in files for _ in range(5)]
        for case in cases:
            for name, data in (kept | case).items():
                (folder / name).write_bytes(data)
            if case == {name: kept[name] for name in case}:
                continue
            with self.fails("part-", kind=kd.FileError):
                kd.open_parts(folder)
            with warnings.catch_warnings(record=True) as told:
                warnings.simplefilter("always")
                mended = run()["total"].values
            self.assertTrue(any("worked out again" in str(item.message) for item in told))
            np.testing.assert_array_equal(mended, right)
            kept["_manifest.json"] = (folder / "_manifest.json").read_bytes()
            kept |= {name: (folder / name).read_bytes() for name in files}

        manifest = json.loads(kept["_manifest.json"])
        twice = {**manifest, "parts": [*manifest["parts"], manifest["parts"][0]]}
        outside = json.loads(json.dumps(manifest))
        outside["parts"][0]["file"] = "../other/part-00000.parquet"
        texts = [json.dumps(twice), json.dumps(outside), "[" * 5_000, "{}"]
        texts += [flipped(kept["_manifest.json"]).decode("latin-1") for _ in range(20)]
        for text in texts:
            (folder / "_manifest.json").write_text(text, encoding="latin-1")
            for call in (run, lambda: kd.open_parts(folder)):
                with self.assertRaises(kd.FileError):
                    call()

    def test_altered_checkpoints(self):
        path, rng = self.folder / "run.npz", np.random.default_rng(6)
        self.stop(model(), "summary", path)
        with np.load(path) as stored:
            arrays = {name: stored[name] for name in stored.files}
        go_on = functools.partial(model().simulate, TRIALS, 3, store="summary", resume=path)
        names = [name for name in arrays if arrays[name].size]
        for turn in range(40):
            altered = dict(arrays)
            name, other = (str(item) for item in rng.choice(names, 2, replace=False))
            kind = turn % 4
            if kind == 0 and altered[name].dtype.kind in "if":
                altered[name] = altered[name] + 1
            elif kind == 1:
                altered[name] = altered[other]
            elif kind == 2:
                del altered[name]
            else:
                altered[name] = altered[name][..., None]
            np.savez(path, **altered)
            if all(np.array_equal(altered.get(key), arrays[key]) for key in arrays):
                continue
            with self.subTest(name, kind=kind), self.assertRaises(kd.FileError):
                go_on()
        np.savez(path, **arrays)
        full = model().simulate(TRIALS, 3)["total"]
        self.assertEqual(float(go_on()["total"].percentile(5)), float(full.percentile(5)))

    def test_what_is_handed_out_cannot_spoil_the_next_run(self):
        run = model().simulate(300, 1)
        run.facts()["versions"].clear()
        self.assertTrue(model().simulate(300, 1).facts()["versions"])
