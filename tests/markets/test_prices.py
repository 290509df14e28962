"""Tests of prices."""

import bz2
import gzip
import io
import lzma
import tempfile
import warnings
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.markets.price_checks import doubts
from kindynos.tables import files
from tests.common import DEMO, Case, Folder, made

quick = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])


cells = st.one_of(
    st.floats(0.01, 1e6).map(lambda value: f"{value:.4f}"),
    st.sampled_from(
        ["", "nan", "n/a", "-3", "0", "1,5", "abc", "1e3", " 7.5 ", "inf", "-inf", "١٢"]
    ),
)


dates = st.one_of(
    st.dates(pd.Timestamp("2020-01-01").date(), pd.Timestamp("2029-12-31").date()).map(str),
    st.sampled_from(["", "2026-02-30", "03/04/2026", "2026-1-5", "today", "20260105"]),
)


def zipped(text):
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("p.csv", text)
    return packed.getvalue()


class Reading(Case):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name, "p.csv")

    def test_wide_long_and_other_kinds_of_file_are_the_same(self):
        frame = made(40)
        long = frame.melt("date", var_name="instrument", value_name="price").sample(
            frac=1, random_state=1
        )
        wide = kd.read_prices(frame)
        for suffix in (".csv", ".parquet", ".xlsx"):
            for table in (frame, long):
                path = self.path.with_suffix(suffix)
                {".csv": table.to_csv, ".parquet": table.to_parquet, ".xlsx": table.to_excel}[
                    suffix
                ](path, index=False)
                read = kd.read_prices(path)
                np.testing.assert_allclose(read.frame[["alpha", "beta", "gamma"]], wide.frame)
        indexed = frame.set_index(pd.to_datetime(frame["date"])).drop(columns="date")
        pd.testing.assert_frame_equal(
            kd.read_prices(indexed).frame, wide.frame, check_names=False, check_freq=False
        )

    def test_gaps_late_listings_and_wrong_prices_are_reported_with_their_rows(self):
        prices = kd.read_prices(DEMO / "treasury_prices.csv")
        found = prices.problems.set_index("instrument")
        self.assertEqual(found.loc["shipyard", "row"], 403)
        self.assertIn("130 dates before", found.loc["wind_farm", "problem"])
        lines = (DEMO / "treasury_prices.csv").read_text().splitlines()
        self.assertEqual(lines[402].split(",")[3], "")
        self.assertIn("132 dates left out", prices.description)
        carried = kd.read_prices(DEMO / "treasury_prices.csv", missing="carry")
        self.assertEqual(len(carried.frame), len(prices.frame) + 2)
        self.assertEqual(
            carried.frame["shipyard"].loc["2025-07-16"], carried.frame["shipyard"].loc["2025-07-15"]
        )
        self.assertIn("2 missing prices carried", carried.description)
        with self.fails("row 403", "shipyard", "missing='drop'", kind=kd.FileError):
            kd.read_prices(DEMO / "treasury_prices.csv", missing="error")
        frame = made(20)
        frame.loc[3, "beta"] = -1.0
        self.assertIn("-1 is not above 0", kd.read_prices(frame).problems["problem"][0])

    def test_files_that_are_wrong(self):
        good = made(12).round(3).to_csv(index=False)
        for old, new, words in (
            ("2026-01-02,", "2026-01-01,", ("row 3", "2026-01-01", "already")),
            ("2026-01-02,", "02/01/2026,", ("row 3", "'02/01/2026'", "2027-12-31")),
            ("2026-01-02,", "2026-02-30,", ("row 3", "no day '2026-02-30'")),
            ("date,", "day,", ("no column 'date'", "'day'")),
        ):
            self.path.write_text(good.replace(old, new))
            with self.subTest(new=new), self.fails("p.csv", *words, kind=kd.FileError):
                kd.read_prices(self.path)
        for text, words in (
            ("date,a\n2026-01-01,1.5\n2026-01-02,abc\n", ("row 3", "'abc'", "column 'a'")),
            ('date,a\n2026-01-01,1.5\n2026-01-02,"1,6"\n', ("decimal points and decimal commas",)),
            ("date,a\n2026-01-01,1.5\n", ("1 date;",)),
            ("date,a\n2026-01-01,-5\n2026-01-02,-6\n", ("no price above 0",)),
            ("date\n2026-01-01\n", ("1 column",)),
            (
                "date,instrument,price\n2026-01-01,a,5\n2026-01-01,a,6\n",
                ("row 3", "a has a second price"),
            ),
            ("", ("is empty",)),
            ("date,a,a\n2026-01-01,5,6\n2026-01-02,6,7\n", ("row 1", "two columns are named 'a'")),
            ("date,,b\n2026-01-01,5,6\n2026-01-02,6,7\n", ("row 1", "column 2 has no name")),
            ("date,a\n2026-01-01,5\n2026-01-02,1e400\n", ("row 3", "'a' is no")),
        ):
            self.path.write_text(text)
            with self.subTest(text=text), self.fails("p.csv", *words, kind=kd.FileError):
                kd.read_prices(self.path)
        with self.fails("cannot be read", kind=kd.FileError):
            kd.read_prices(self.path.with_name("nothing.csv"))
        with self.fails("missing", "'guess'"):
            kd.read_prices(made(12), missing="guess")

    def test_packed_files(self):
        text = made().to_csv(index=False).encode()
        self.path.write_bytes(text)
        plain = kd.read_prices(self.path).frame
        packs = {".gz": gzip.compress, ".bz2": bz2.compress, ".xz": lzma.compress, ".zip": zipped}
        for ending, pack in packs.items():
            with self.subTest(ending=ending):
                path = self.path.with_suffix(ending)
                path.write_bytes(pack(text))
                pd.testing.assert_frame_equal(kd.read_prices(path).frame, plain)
                with (
                    mock.patch.object(files, "MOST_BYTES", len(text) - 1),
                    self.fails("MB, the most that is read", kind=kd.FileError),
                ):
                    kd.read_prices(path)
                path.write_bytes(path.read_bytes()[:40])
                with self.fails(path.name, "cannot be read", kind=kd.FileError):
                    kd.read_prices(path)

    def test_selecting_without_hindsight(self):
        facts = pd.read_csv(
            io.StringIO(
                "date,instrument,size,kind\n2026-01-01,a,5,x\n2026-01-01,b,9,x\n2026-01-01,c,7,y\n2026-06-01,a,20,x\n"
            )
        )
        self.assertEqual(
            kd.markets.select(facts, as_of="2026-03-01", where={"kind": "x"}, largest=1, by="size"),
            ["b"],
        )
        self.assertEqual(
            kd.markets.select(facts, as_of="2026-07-01", largest=2, by="size"), ["a", "b"]
        )
        self.assertEqual(
            kd.markets.select(
                facts, as_of="2026-07-01", where={"size": (">", 8), "kind": ["x", "y"]}
            ),
            ["b", "a"],
        )
        for options, words in (
            ({"where": {"sise": 3}}, ("did you mean 'size'",)),
            ({"largest": 2}, ("needs by=",)),
            ({"where": {"size": ("~", 3)}}, ("size",)),
        ):
            with self.subTest(options=options), self.fails(*words):
                kd.markets.select(facts, as_of="2026-07-01", **options)


class AnyFile(Case):
    @quick
    @given(
        st.lists(st.tuples(dates, cells, cells), min_size=0, max_size=12),
        st.sampled_from(["drop", "carry", "error"]),
    )
    def test_prices_are_read_or_refused(self, lines, missing):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "p.csv")
            path.write_text(
                "date,a,b\n" + "".join(f'{day},"{one}","{two}"\n' for day, one, two in lines),
                encoding="utf-8",
            )
            try:
                with warnings.catch_warnings():
                    warnings.simplefilter("ignore", kd.DataWarning)
                    prices = kd.read_prices(path, missing)
            except kd.KindynosError as error:
                self.assertIn("p.csv", str(error))
                return
        self.assertGreaterEqual(len(prices.frame), 2)
        of_prices = prices.frame.loc[:, ~prices.absolute]
        self.assertTrue((of_prices > 0).all().all())
        self.assertTrue(prices.dates.is_monotonic_increasing)
        self.assertTrue(prices.dates.is_unique)


class Frames(Folder):
    def test_prices_from_frames_are_left_as_they_are(self):
        frame = made(30)
        before = frame.copy()
        kd.read_prices(frame)
        pd.testing.assert_frame_equal(frame, before)


class Doubtful(Case):
    def test_rows_of_long_files(self):
        days = [f"2027-03-{day:02d}" for day in range(1, 11)]
        rows = [
            f"{day},{name},{10 + place + (name == 'B')}"
            for place, day in enumerate(days)
            for name in "AB"
        ]
        rows[7] = f"{days[3]},B,"
        found = kd.read_prices(self.file("date,instrument,price\n" + "\n".join(rows))).problems
        self.assertEqual(found[["row", "instrument"]].to_numpy().tolist(), [[9, "B"]])

    def file(self, text):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "p.csv")
        path.write_text(text)
        return path

    def test_other_columns_of_a_long_file_are_left_out(self):
        frame = made(20)
        long = frame.melt("date", var_name="instrument", value_name="price").assign(currency="EUR")
        np.testing.assert_allclose(kd.read_prices(long).frame, kd.read_prices(frame).frame)

    def test_a_slip_of_the_decimal_point_is_held_out_until_it_is_confirmed(self):
        frame = made(40)
        frame.loc[20, "beta"] *= 10
        with self.assertWarnsRegex(kd.DataWarning, r"beta, 2026-01-29 \(row 22\): .* held out"):
            found = kd.read_prices(frame)
        self.assertEqual(found.problems[["row", "instrument"]].to_numpy().tolist(), [[22, "beta"]])
        self.assertIn("decimal point", found.problems["problem"].iloc[0])
        self.assertEqual(len(found.frame), 39)
        with self.assertWarns(kd.DataWarning):
            kept = kd.read_prices(frame, keep_suspicious=True)
        self.assertEqual(kept.frame["beta"].iloc[20], frame["beta"].iloc[20])
        self.assertNotIn("held out", kept.doubts[0])
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            self.assertEqual(len(kd.read_prices(made(40)).problems), 0)
        with self.fails("keep_suspicious", "True or False"):
            kd.read_prices(frame, keep_suspicious="yes")

    def test_a_move_that_is_half_undone_is_no_slip(self):
        frame = made(120)
        frame.loc[60, "beta"] *= 1.5
        frame.loc[61:, "beta"] *= 1.22  # a crash the other way, half of which comes back
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", kd.DataWarning)
            read = kd.read_prices(frame)
        self.assertEqual(read.frame["beta"].iloc[60], frame["beta"].iloc[60])
        self.assertNotIn("held out", " ".join(read.doubts))

    def test_what_ends_at_0_or_below_is_used_as_given_and_moves_no_date(self):
        for last in ([0.0], [0.0, 0.0], [-3.0], [-3.0, -4.0], [0.0, -1.0]):
            frame = made(300)
            frame.loc[300 - len(last) :, "beta"] = last
            with self.assertWarnsRegex(kd.DataWarning, "beta, .*not above 0, at the end"):
                prices = kd.read_prices(frame)
            self.assertEqual(len(prices.frame), 300)
            held = kd.Portfolio(prices, shares={"alpha": 10, "beta": 20})
            worth = 10 * frame["alpha"].iloc[-1] + 20 * last[-1]
            self.assertAlmostEqual(held.value, worth)
            moves = prices.moves[:, 1]
            before = frame["beta"].iloc[-len(last) - 1]
            self.assertAlmostEqual(moves[-len(last)], last[0] / before - 1)
            self.assertTrue(np.isfinite(moves).all())
            for method in ("historical", "filtered", "student", "simulated"):
                self.assertGreater(held.value_at_risk(0.95, method), 0)
            with self.fails("the price of beta is", "no money buys it"):
                kd.Portfolio(prices, weights={"alpha": 0.5, "beta": 0.5})
        frame.loc[298:, "beta"] = 0.0
        prices = kd.read_prices(frame)
        with self.fails("beta falls to 0 or below", "take simple returns"):
            kd.markets.returns(prices, kind="log")
        held = kd.Portfolio(prices, shares={"alpha": 10, "beta": 20})
        for uncertain in (False, True):  # what has fallen to 0 stays there
            paths = held.paths(5, 50, 1, uncertain=uncertain)
            alone = kd.Portfolio(prices, shares={"alpha": 10}).paths(5, 50, 1)
            self.assertTrue(np.isfinite(paths).all())
            self.assertAlmostEqual(paths[0, 0], alone[0, 0])
        frame = made(300)
        frame.loc[200, "beta"] = 0.0  # in the middle it is an error
        with self.assertWarnsRegex(kd.DataWarning, "held out"):
            self.assertEqual(len(kd.read_prices(frame).frame), 299)

    def test_dates_in_another_column(self):
        frame = made(60).rename(columns={"date": "day"}).assign(Date="n/a")
        plain = kd.read_prices(made(60))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "prices.csv")
            frame.drop(columns="Date").to_csv(path, index=False)
            read = kd.read_prices(path, dates="day")
            pd.testing.assert_frame_equal(
                read.frame, kd.read_prices(made(60)).frame, check_freq=False
            )
            with self.fails("dates='day'"):
                kd.read_prices(path)
            with self.fails("did you mean 'day'"):
                kd.read_prices(path, dates="dy")
            path.write_text(path.read_text().replace("2026", "20x6", 1))
            with self.fails("row 2"):
                kd.read_prices(path, dates="day")
        self.assertEqual(plain.instruments, kd.read_prices(frame, dates="day").instruments)

    def test_no_money_goes_into_the_level_of_a_yield(self):
        moves = np.random.default_rng(2).normal(0, 5e-4, 300)
        frame = made(300).assign(y10=0.03 + np.cumsum(moves))
        prices = kd.read_prices(frame, changes={"y10": "absolute"})
        for call in (
            lambda: kd.Portfolio(prices, weights={"alpha": 0.5, "y10": 0.5}),
            lambda: kd.Portfolio(prices, amounts={"y10": 100.0}),
            lambda: kd.allocate(prices, minimize="sd"),
        ):
            with self.fails(
                "y10 changes by differences, as a yield does", "a Position that is a bond"
            ):
                call()
        self.assertGreater(
            kd.Portfolio(prices, shares={"y10": -1e6}, short=True).value_at_risk(0.95), 0
        )

    def test_splits_that_are_stated_adjust_the_prices_before(self):
        frame, plain = made(60), made(60)
        frame.loc[:29, "beta"] *= 1.5
        frame.loc[:9, "beta"] *= 4
        dates = frame["date"].astype(str)
        splits = {"beta": {dates[30]: "3:2", dates[10]: 4}}
        read = kd.read_prices(frame, splits=splits)
        np.testing.assert_allclose(read.frame["beta"], plain["beta"])
        self.assertEqual(read.doubts, [])
        with self.assertWarnsRegex(kd.DataWarning, "split of 4:1"):
            kd.read_prices(frame, splits={"beta": {dates[30]: "3:2"}})
        for wrong, words in (
            ({"betta": {dates[30]: 2}}, ("did you mean 'beta'",)),
            ({"beta": {"soon": 2}}, ("date", "'soon'")),
            ({"beta": {dates[30]: "2:0"}}, ("'2:0'", "such as '2:1'")),
            ({"beta": 2}, ("splits by date",)),
        ):
            with self.subTest(wrong=wrong), self.fails(*words):
                kd.read_prices(frame, splits=wrong)

    def test_moves_of_fat_tailed_and_clustered_prices_are_not_held_out(self):
        generator, held_out, named = np.random.default_rng(1), 0, 0
        for _ in range(100):
            shocks = generator.standard_t(4, 1000) / np.sqrt(2)
            variance, moves = 1.0, []
            for shock in shocks:
                moves.append(0.015 * np.sqrt(variance) * shock)
                variance = 0.02 + variance * (0.9 + 0.08 * min(shock**2, 20))
            found = doubts(100 * np.exp(np.cumsum(moves)), absolute=False)
            held_out += any(doubt.held_out for doubt in found)
            named += bool(found)
        self.assertLessEqual(held_out, 1)
        self.assertLessEqual(named, 8)

    def test_clean_prices_raise_no_doubts(self):
        generator = np.random.default_rng(4)
        dates = pd.bdate_range("2010-01-01", periods=2500)

        def grown(moves):
            return 100 * np.exp(np.cumsum(moves))

        rate = 2 + np.cumsum(0.25 * generator.choice([-1, 0, 1], 50))
        traded = np.maximum.accumulate(
            np.where(generator.random(2500) < 1 / 12, np.arange(2500), 0)
        )
        frame = pd.DataFrame(
            {
                "deposit": (1e5 * np.exp(np.cumsum(np.tile([1, 1, 1, 1, 3], 500) * 8e-5))).round(2),
                "accruing": 100 * np.exp(1e-4 * np.arange(2500)),
                "bond": (100 * np.exp(-0.03 * (10 - np.arange(2500) / 250))).round(3),
                "policy": np.repeat(rate - rate.min() + 0.5, 50),
                "thin": grown(0.01 * generator.normal(size=2500)).round(2)[traded],
                "grew": grown(0.002 + 0.03 * generator.normal(size=2500)) / 100,
            },
            index=dates,
        )
        with warnings.catch_warnings(action="error"):
            kd.read_prices(frame.rename_axis("date").reset_index())
        drawn = 0.01 * generator.standard_t(3, size=(30, 2500)) / 3**0.5
        wild = pd.DataFrame({f"p{k}": grown(row).round(2) for k, row in enumerate(drawn)}, dates)
        with warnings.catch_warnings(action="ignore"):
            told = kd.read_prices(wild.rename_axis("date").reset_index()).problems
        self.assertLessEqual(told["instrument"].nunique(), 3)

    def test_seeded_errors_are_named_and_a_last_price_is_used_as_given(self):
        generator = np.random.default_rng(6)
        dates = pd.bdate_range("2010-01-01", periods=1000)
        for name, words in (
            ("slip", "decimal point"),
            ("half", "split of 2:1"),
            ("pence", "pence and pounds"),
            ("last", "used as given"),
            ("crash", "used as given"),
            ("zero", "not above 0; held out"),
        ):
            for _ in range(5):
                moves = 0.01 * generator.standard_t(5, size=1000)
                prices = (100 * np.exp(np.cumsum(moves))).round(3)
                place = int(generator.integers(50, 950))
                if name == "slip":
                    prices[place] *= 10
                elif name == "half":
                    prices[place:] = (prices[place:] / 2).round(3)
                elif name == "pence":
                    prices[place:] *= 100
                elif name == "last":
                    prices[-1] *= 10
                elif name == "crash":
                    prices[-1] = (0.7 * prices[-2]).round(3)
                else:
                    prices[place] = 0
                frame = pd.DataFrame({"date": dates, "a": prices})
                with warnings.catch_warnings(action="ignore"):
                    read = kd.read_prices(frame)
                with self.subTest(name):
                    self.assertIn(words, " ".join(read.doubts))
                    if words == "used as given":
                        self.assertEqual(read.frame["a"].iloc[-1], prices[-1])

    def test_a_parquet_file_with_dates_as_index(self):
        frame = made(20)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name, "p.parquet")
        frame.set_index(pd.DatetimeIndex(frame["date"], name="date")).drop(
            columns="date"
        ).to_parquet(path)
        np.testing.assert_allclose(kd.read_prices(path).frame, kd.read_prices(frame).frame)

    def test_long_files_by_other_names(self):
        frame = made(20)
        long = frame.melt("date", var_name="symbol", value_name="close").assign(volume=7)
        np.testing.assert_allclose(kd.read_prices(long).frame, kd.read_prices(frame).frame)
        wide = frame.rename(columns={"alpha": "symbol", "beta": "close"})  # names of instruments
        self.assertEqual(kd.read_prices(wide).instruments, ["symbol", "close", "gamma"])

    def test_a_flat_column_is_cash(self):
        frame = made(300).assign(cash=1.0)
        with self.assertWarnsRegex(kd.DataWarning, "cash.*no risk of its own"):
            prices = kd.read_prices(frame)
        held = kd.Portfolio(prices, amounts={"alpha": 1000.0, "cash": 500.0})
        alone = kd.Portfolio(prices, amounts={"alpha": 1000.0})
        self.assertAlmostEqual(held.value, 1500)
        table, own = held.risk_table([0.99]), alone.risk_table([0.99])
        self.assertEqual(len(table), len(own))
        for method, row in table.iterrows():
            if method[0] != "simulated":
                self.assertAlmostEqual(row["value at risk"], own.loc[method, "value at risk"])
        self.assertEqual(held.contributions().loc["cash", "component"], 0)
        for process in ("bootstrap returns", "geometric brownian motion"):
            spread = held.paths(3, 50, 1, process=process) - alone.paths(3, 50, 1, process=process)
            np.testing.assert_allclose(spread, 500)
        self.assertEqual(held.simulate(trials=300, seed=1)["return_cash"].values.std() < 1e-9, True)

    def test_gaps_and_early_ends_are_told(self):
        frame = made(60)
        prices = kd.read_prices(frame.drop(index=range(20, 30)))
        self.assertIn(
            "a stretch of more than a week without prices counts as one return (from ",
            prices.description,
        )
        self.assertEqual(kd.read_prices(frame).stale, "")
        frame.loc[50:, "gamma"] = np.nan
        stale = kd.read_prices(frame).stale
        self.assertRegex(stale, r"today is .*: no later price of gamma; others run to ")

    def test_only_what_is_held_is_looked_at(self):
        frame = made(30)
        frame.loc[5, "gamma"] = np.nan
        with self.fails("gamma"):
            kd.read_prices(frame, "error")
        self.assertEqual(
            kd.read_prices(frame, "error", ["alpha", "beta"]).instruments, ["alpha", "beta"]
        )
        with self.fails("did you mean 'alpha'"):
            kd.read_prices(frame, instruments=["alhpa"])

    def test_periods_that_are_not_over_are_left_out(self):
        months = kd.markets.returns(kd.read_prices(made(60)), every="month")
        last = pd.Timestamp(made(60)["date"].iloc[-1])
        self.assertLess(months.frame.index[-1], last)
        self.assertIn("not over, left out", months.description)

    def test_selecting_by_text(self):
        facts = pd.DataFrame(
            {
                "date": ["2027-09-30", "2027-10-31", "2027-10-31"],
                "instrument": ["a", "b", "c"],
                "size": ["9", "100", "20"],
            }
        )
        self.assertEqual(kd.markets.select(facts, as_of="2027-12-31", largest=1, by="size"), ["b"])
        self.assertEqual(
            kd.markets.select(facts, as_of="2027-12-31", where={"size": (">", 15)}), ["b", "c"]
        )
        with self.fails("not a number"):
            kd.markets.select(
                facts.assign(size="big"), as_of="2027-12-31", where={"size": (">", 15)}
            )
        with self.fails("9/30", "2027-12-31"):
            kd.markets.select(facts.assign(date=["9/30", "10/31", "10/31"]), as_of="2027-12-31")

    def test_headers_and_separators(self):
        for text, words in (
            ("Datum,A\n2027-01-01,1\n2027-01-02,2\n", ("say dates='Datum'", "'date'")),
            ("Tag,A\nMonday,1\n", ("no column 'date'",)),
        ):
            with self.subTest(text=text), self.fails(*words):
                kd.read_prices(self.file(text))
