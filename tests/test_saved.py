"""Single trials, runs that are saved and opened again, and models made of a function."""

import json
import math
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
import pyarrow.parquet as parquet

import kindynos as kd
from tests.common import Case, investment


class Folder(Case):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Trials(Case):
    def test_worst_and_nearest(self):
        run = investment().simulate(1000, seed=1)
        values = run["net_value"].values
        sheets = run.worst("net_value", 3)
        numbers = list(sheets.index.get_level_values("trial").unique())
        self.assertEqual(numbers, list(np.argsort(values)[:3]))
        self.assertEqual(sheets.loc[(numbers[0], "net_value"), "value"], values.min())
        self.assertEqual(run.worst("net_value", side="high").loc[(values.argmax(), "net_value"), "value"], values.max())
        sheet = run.nearest("net_value", 5)
        self.assertEqual(sheet.attrs["trial"], np.abs(values - run["net_value"].percentile(5)).argmin())
        pd.testing.assert_frame_equal(sheet, run.trial(sheet.attrs["trial"]))

    def test_what_cannot_be_read(self):
        run = investment().simulate(100, seed=1)
        for call, words in (
            (lambda: run.worst("cash_flow"), ("is a row",)),
            (lambda: run.worst("net_value", 101), ("100 trials only",)),
            (lambda: run.worst("net_value", side="left"), ("side",)),
            (lambda: run.nearest("net_value", 105), ("from 0 to 100",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()


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

    def test_damaged_and_other_files(self):
        path = self.folder / "r.parquet"
        investment().simulate(300, seed=1).save(path)
        table = parquet.read_table(path)
        about = json.loads(table.schema.metadata[b"kindynos"])

        def written(**changes):
            metadata = {b"kindynos": json.dumps({**about, **changes}).encode()}
            parquet.write_table(table.replace_schema_metadata(metadata), path)

        for change, words in (
            (lambda: written(format=99), ("format 99", "reads 1")),
            (lambda: written(checksum="0"), ("damaged", "checksum")),
            (lambda: written(kept={"lost": None}), ("damaged", "'lost'")),
            (lambda: written(model="[model]"), ("model cannot be read",)),
            (lambda: parquet.write_table(table.replace_schema_metadata({}), path), ("no saved run",)),
            (lambda: path.write_bytes(path.read_bytes()[:200]), ("damaged, or no saved run",)),
            (path.unlink, ("no such file",)),
        ):
            change()
            with self.subTest(words=words), self.fails("r.parquet", *words, kind=kd.FileError):
                kd.open_run(path)
        with self.fails("cannot be written", kind=kd.FileError):
            investment().simulate(50).save(self.folder / "nowhere" / "r.parquet")
        with mock.patch.dict("sys.modules", {"pyarrow": None}), self.fails("kindynos[parquet]", kind=kd.FileError):
            kd.open_run(path)


class Plant:
    """A calculation with state of its own."""

    def __init__(self, factor):
        self.factor = factor

    def __call__(self, a, b=1.0):
        if a < 0:
            raise ValueError("a must not be negative")
        return {"sum": self.factor * (a + b), "ratio": a / b if b else math.nan}


class OfFunctions(Case):
    @property
    def laws(self):
        return {"a": kd.Uniform(1, 2), "b": kd.Uniform(3, 4)}

    def test_arrays_and_single_numbers_agree(self):
        def arrays(a, b):
            return 3 * (a + b), a / b

        single = kd.Model.from_function(Plant(3), self.laws, ["sum", "ratio"])
        whole = kd.Model.from_function(arrays, self.laws, {"sum": {"unit": "EUR", "target": 15}, "ratio": {}})
        one, two = (model.simulate(2000, seed=1) for model in (single, whole))
        for name in ("sum", "ratio"):
            np.testing.assert_allclose(one[name].values, two[name].values, rtol=1e-14)
        self.assertEqual((two["sum"].unit, two["sum"].target), ("EUR", 15))
        np.testing.assert_allclose(one["sum"].values, 3 * (one["a"].values + one["b"].values))

    def test_periods_and_givens(self):
        drivers = {"x": {"distribution": kd.Normal(5, 1), "each": "period", "unit": "EUR"}}
        model = kd.Model.from_function(
            lambda x, k, rate=0.1: k * kd.npv(rate, x), drivers, "value", given={"k": 2.0}, periods=4, name="m"
        )
        run = model.simulate(500, seed=2)
        np.testing.assert_allclose(run["value"].values, 2 * kd.npv(0.1, run["x"].values))

    def test_each_is_called_once_for_all_outcomes(self):
        calls = []

        def counted(a, b):
            calls.append(1)
            return a + b, a - b

        model = kd.Model.from_function(counted, self.laws, ["p", "m"])
        model.simulate(20, seed=1, workers=1)
        before = len(calls)
        program = model.compiled()
        probes = len(calls) - before
        model.simulate(20, seed=1, workers=1)
        run_calls = len(calls) - before - 2 * probes
        self.assertEqual(run_calls, model.simulate(20, seed=1).blocks.batches)
        self.assertEqual(program.outcomes, ["p", "m"])

    def test_long_work_by_single_numbers_goes_to_processes(self):
        from kindynos.results import simulate as module

        model = kd.Model.from_function(Plant(2), self.laws, ["sum"])
        alone = model.simulate(500, seed=1, workers=1)
        with (
            mock.patch.object(module, "PATIENCE", 0.0),
            mock.patch.object(module, "ProcessPoolExecutor", wraps=module.ProcessPoolExecutor) as pool,
        ):
            spread = model.simulate(500, seed=1, workers=2)
        self.assertEqual(pool.call_count, 1)
        np.testing.assert_array_equal(spread["sum"].values, alone["sum"].values)

    def test_a_failing_trial_is_told_and_can_be_run_alone(self):
        def arrays(a):
            if (np.asarray(a) < 0).any():
                raise ValueError("below 0")
            return 2 * a

        laws = {"a": kd.Normal(3.2, 1)}
        for function in (Plant(1), arrays):
            model = kd.Model.from_function(function, laws, "sum" if function is not arrays else "y")
            with self.assertRaises(kd.RunError) as caught:
                model.simulate(4000, seed=5)
            said = str(caught.exception)
            number = int(said.split()[1])
            inputs = model.inputs(number, trials=4000, seed=5)
            self.assertLess(inputs["a"], 0)
            self.assertIn(f"model.inputs({number}, trials=4000, seed=5, sampling='latin')", said)
            with self.assertRaises(ValueError):
                function(**inputs)

    def test_mistakes(self):
        laws = self.laws
        for call, words in (
            (lambda: kd.Model.from_function(Plant(1), {"c": kd.Normal(0, 1)}, "sum"), ("no argument 'c'",)),
            (lambda: kd.Model.from_function(lambda a, b, c: a, laws, "y"), ("'c' needs a driver",)),
            (lambda: kd.Model.from_function(3, laws, "y"), ("can be called",)),
            (lambda: kd.Model.from_function(Plant(1), laws, []), ("at least one outcome",)),
            (lambda: kd.Model.from_function(Plant(1), laws, {"sum": {"colour": 3}}), ("unit and target",)),
            (lambda: kd.Model.from_function(Plant(1), laws, "som").compiled(), ("'som'", "did you mean 'sum'")),
            (lambda: kd.Model.from_function(lambda a, b: (a, b), laws, ["x", "y", "z"]).compiled(), ("3 values",)),
            (lambda: investment().inputs(10, trials=10), ("from 0 to 9",)),
        ):
            with self.subTest(words=words), self.fails(*words):
                call()
