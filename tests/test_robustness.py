"""Whatever a person types or a file holds, the answer is a result or one clear error of ours."""

import contextlib
import tempfile
import tomllib
from pathlib import Path

import numpy as np
import pandas as pd
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.cli.sweep import read_values
from kindynos.model.formula.functions import FUNCTIONS
from kindynos.reports.figures import number
from kindynos.reports.studies import figure
from kindynos.results.asked import asked
from tests.common import Case, investment
from tests.test_cli import Folder, run
from tests.test_markets import DEMO, made

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
cells = st.one_of(
    st.floats(0.01, 1e6).map(lambda value: f"{value:.4f}"),
    st.sampled_from(["", "nan", "n/a", "-3", "0", "1,5", "abc", "1e3", " 7.5 ", "inf", "-inf", "١٢"]),
)
dates = st.one_of(
    st.dates(pd.Timestamp("2020-01-01").date(), pd.Timestamp("2029-12-31").date()).map(str),
    st.sampled_from(["", "2026-02-30", "03/04/2026", "2026-1-5", "today", "20260105"]),
)


class Files(Case):
    @quick
    @given(st.lists(st.tuples(dates, cells, cells), min_size=0, max_size=12), st.sampled_from(["drop", "carry", "error"]))
    def test_prices_are_read_or_refused(self, lines, missing):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "p.csv")
            path.write_text("date,a,b\n" + "".join(f'{day},"{one}","{two}"\n' for day, one, two in lines), encoding="utf-8")
            try:
                prices = kd.read_prices(path, missing)
            except kd.KindynosError as error:
                self.assertIn("p.csv", str(error))
                return
        self.assertGreaterEqual(len(prices.frame), 2)
        self.assertTrue((prices.frame > 0).all().all())
        self.assertTrue(prices.dates.is_monotonic_increasing)
        self.assertTrue(prices.dates.is_unique)

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


class Words(Case):
    @quick
    @given(st.text(alphabet="abc=:,.-e0123456789 ", max_size=20))
    def test_values_to_sweep_are_read_or_refused(self, text):
        try:
            _, values = read_values(text)
        except kd.KindynosError as error:
            self.assertIn("LOW:HIGH:STEP", str(error))
            return
        self.assertTrue(values)

    @quick
    @given(st.floats(-1e3, 1e3), st.floats(1e-3, 10), st.integers(0, 200))
    def test_ranges_end_where_they_say(self, low, step, count):
        high = low + count * step
        _, values = read_values(f"x={low!r}:{high!r}:{step!r}")
        self.assertIn(len(values), (count, count + 1))
        self.assertLessEqual(values[-1], high + 1e-6 * max(abs(high), 1))

    @quick
    @given(st.text(alphabet="abcdefghijklmnopqrstuvwxyz_ 0123456789.-", max_size=30))
    def test_statistics_asked_for_in_words(self, text):
        try:
            wanted = asked(text)
        except kd.ParameterError:
            return
        result = investment().simulate(250, seed=1)["net_value"]
        with contextlib.suppress(kd.KindynosError):
            self.assertIsInstance(float(wanted.read(result)), float)

    @quick
    @given(
        st.sampled_from(sorted(FUNCTIONS)),
        st.lists(st.sampled_from(["flow", "cash_flow", "price", "0.1", "3", "-2", "period"]), max_size=5),
    )
    def test_any_call_in_a_formula_is_a_number_or_an_error_of_ours(self, name, arguments):
        model = investment()
        try:
            model.outcome("extra", f"{name}({', '.join(arguments)})")
            run_ = model.simulate(50, seed=1)
        except kd.KindynosError as error:
            self.assertIn("extra", str(error))
            return
        self.assertEqual(run_["extra"].values.shape[-1], 50)

    @quick
    @given(st.floats(allow_nan=True, allow_infinity=True), st.floats(0, 1e9))
    def test_figures_can_always_be_written(self, value, error):
        self.assertTrue(number(value))
        self.assertTrue(figure(value, error))
        self.assertNotIn("e+", figure(value, error) if abs(value) < 1e15 and error < 1e15 else "")


class ModelsInFiles(Case):
    @quick
    @given(
        st.sampled_from(["pert", "normal", "beta", "geometric brownian motion", "random walk", "nothing"]),
        st.dictionaries(
            st.sampled_from(["low", "mode", "high", "mean", "sd", "start", "drift", "volatility", "dt", "each"]),
            st.floats(-5, 5),
            max_size=4,
        ),
        st.booleans(),
    )
    def test_drivers_are_read_or_refused_with_their_place(self, name, parameters, as_process):
        word = "process" if as_process else "distribution"
        lines = "\n".join(f"{key} = {value!r}" for key, value in parameters.items())
        text = f'[model]\nname = "m"\nperiods = 3\n[drivers.x]\n{word} = "{name}"\n{lines}\n[outcomes]\ny = "x * 2"\n'
        tomllib.loads(text)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "m.toml")
            path.write_text(text)
            try:
                model = kd.load_model(path)
            except kd.FileError as error:
                self.assertIn("m.toml", str(error))
                return
            path.write_text(model.to_toml())
            again = kd.load_model(path)
        one, two = (m.simulate(60, seed=1)["y"].values for m in (model, again))
        np.testing.assert_array_equal(one, two)

    def test_scenarios_that_are_wrong_name_themselves(self):
        base = investment().to_toml()
        for entry, words in (
            ("[scenarios.a]\nprice = 'dear'", ("scenarios.a", "price")),
            ("[scenarios.a]\nflow = { distribution = 'normel', mean = 1, sd = 1 }", ("scenarios.a", "did you mean 'normal'")),
            ("[scenarios.a]\nnet_value = 3", ("scenarios.a", "is a line")),
            ("[scenarios]\na = 3", ("scenarios",)),
            ("[scenario.a]\nprice = 3", ("scenarios",)),
        ):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder, "m.toml")
                path.write_text(f"{base}\n{entry}\n")
                with self.subTest(entry=entry), self.fails("m.toml", *words, kind=kd.FileError):
                    kd.load_model(path)


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
            ("solve", ferry, "fare", "--outcome", "net_value", "--mean", "1e12", "--within", "40", "50", "--trials", "300"),
            ("drivers", ferry, "--method", "nothing", "--trials", "300"),
            ("trial", ferry, "--number", "500", "--trials", "300"),
            ("compare", str(DEMO / "berths.toml")),
        ):
            answer = run(*words, "--out", str(out))
            with self.subTest(words=words):
                self.assertIn(answer.returncode, (1, 2))
                self.assertEqual(answer.stderr.count("\n"), 1)
                self.assertFalse(out.exists())

    def test_outputs_replace_older_ones_whole(self):
        out = self.folder / "out"
        ferry = str(DEMO / "night_ferry.toml")
        for fares in ("50,54", "50,54,58"):
            answer = run("sweep", ferry, "--over", f"fare={fares}", "--out", str(out))
            self.assertEqual(answer.returncode, 0)
        self.assertEqual(len(pd.read_csv(out / "sweep.csv")), 3)
        self.assertFalse([path for path in out.iterdir() if path.name.startswith(".")])

    def test_prices_from_frames_are_left_as_they_are(self):
        frame = made(30)
        before = frame.copy()
        kd.read_prices(frame)
        pd.testing.assert_frame_equal(frame, before)
