"""Tests of the one reader of tables: every layout of the same table reads alike, or is refused."""

import gzip
import os
import tempfile
import tracemalloc
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
import pandas as pd
from hypothesis import given, settings
from hypothesis import strategies as st

import kindynos as kd
from kindynos.tables import files, reader
from kindynos.tables.dates import dates_in
from kindynos.tables.layout import TableFormat
from kindynos.tables.reader import read_table
from tests.common import Folder

FRAME = pd.DataFrame({"price": [6669.5, -1.25, 0.0, 12.0], "amount": [66.0, 2.0, 3.5, 1e6]})


class Tables(Folder):
    def file(self, text, name="table.csv", encoding="utf-8"):
        path = self.folder / name
        path.write_bytes(text.encode(encoding) if isinstance(text, str) else text)
        return path

    def columns(self, path, **form):
        table = read_table(path, TableFormat(**form))
        return {name: table.numbers(name).tolist() for name in table.names}

    def assertReads(self, text, expected, **form):  # noqa: N802
        np.testing.assert_equal(self.columns(self.file(text), **form), expected)


class Layouts(Tables):
    def test_the_same_table_in_many_layouts(self):
        plain = {name: FRAME[name].tolist() for name in FRAME}
        german = FRAME.to_csv(index=False, sep=";", decimal=",")
        for text in (
            FRAME.to_csv(index=False),
            FRAME.to_csv(index=False, sep="\t"),
            FRAME.to_csv(index=False, sep="|"),
            german,
            german.replace("6669,5", "6.669,5"),
            german.replace("\n", "\r\n"),
            german.replace("\n", "\r"),
            FRAME.to_csv(index=False, quoting=1),
            "Report of May\n\n" + FRAME.to_csv(index=False),
            "\ufeff" + FRAME.to_csv(index=False),
            FRAME.to_csv(index=False) + ",\n,\n\n",
            FRAME.to_csv(index=False).replace("-1.25", "(1.25)"),
            FRAME.to_csv(index=False).replace("-1.25", "\u22121.25"),
        ):
            with self.subTest(text):
                self.assertReads(text, plain)
        for ending, write in ((".parquet", FRAME.to_parquet), (".xlsx", FRAME.to_excel)):
            path = self.folder / f"table{ending}"
            write(path, index=False)
            self.assertEqual(self.columns(path), plain)
        path = self.file(german.encode("utf-16"))
        self.assertEqual(self.columns(path), plain)

    def test_semicolons_and_commas_inside_cells_are_a_decimal_comma(self):
        self.assertReads(
            "Preis;Menge\n6,669;66\n7,001;5\n", {"Preis": [6.669, 7.001], "Menge": [66, 5]}
        )
        self.assertReads("x\n1,5\n2,25\n", {"x": [1.5, 2.25]})
        with self.fails("may be 1.234 or 1234", "decimal="):
            self.columns(self.file("a\tb\n1.234\t5\n"))
        self.assertReads("a\tb\n1.234\t5\n", {"a": [1.234], "b": [5]}, decimal=".")
        self.assertReads("a\tb\n1.234\t5\n", {"a": [1234], "b": [5]}, decimal=",")
        with self.fails("decimal points and decimal commas", "'1.5'", "'2,75'"):
            self.columns(self.file("a;b\n1.5;2,75\n"))

    def test_a_row_of_units_is_used_as_units(self):
        for text in (
            "price,amount\nEUR,pieces\n5,6\n7,8\n",
            "price,amount\n[EUR],(pieces)\n5,6\n7,8\n",
        ):
            trials = kd.read_trials(self.file(text))
            self.assertEqual((trials["price"].unit, trials["amount"].unit), ("EUR", "pieces"))
            self.assertEqual(trials["price"].values.tolist(), [5, 7])
            self.assertIn("row 2 read as units", trials.notes)
        dated = self.file("month,x\n,EUR\n2027-01,5\n2027-02,6\n2027-03,7\n")
        self.assertEqual(read_table(dated).units, {"x": "EUR"})
        with self.fails("row 2", "'x'"):  # another number stands in that row: it is a record
            self.columns(self.file("a,b\n1,x\n2,3\n"))

    def test_line_breaks_inside_cells(self):
        for name in ('"net\nvalue"', '"net\r\nvalue"', '"a ""b""\nc"'):
            table = read_table(self.file(f"{name},other\n1,2\n3,4\n"))
            self.assertEqual(table.numbers("other").tolist(), [2, 4])
            self.assertEqual(table.rows.tolist(), [2, 3])
        table = read_table(self.file('"A title\nof two lines"\nx,y\n1,2\n3,4\n'))
        self.assertEqual((table.names, table.numbers("x").tolist()), (["x", "y"], [1, 3]))
        table = read_table(self.file('x,said\n1,"a\nb"\n2,"c"\n'))
        self.assertEqual(
            (table.texts("said"), table.numbers("x").tolist()), (["a\nb", "c"], [1, 2])
        )
        with self.fails("row 3", "has 3 values"):
            read_table(self.file('x,said\n1,"a\nb"\n2,c,d\n'))

    def test_a_table_without_names_is_refused_or_said(self):
        with self.fails("row 1", "no header", "header=0"):
            self.columns(self.file("5\n6\n7\n"))
        self.assertReads("5\n6\n7\n", {"column 1": [5, 6, 7]}, header=0)
        self.assertReads("2027,2028\n5,6\n7,8\n", {"2027": [5, 7], "2028": [6, 8]}, header=1)
        self.assertReads("made,today\na,b\n1,2\n", {"a": [1], "b": [2]}, header=2)
        with self.fails("say which column", kind=kd.FileError):
            kd.read_values(self.file("a,b\n1,2\n"))
        for text, words in (
            ("a,a\n1,2\n", "two columns are named 'a'"),
            ("a,,c\n1,2,3\n", "column 2 has no name"),
            ("a,b\n1,2,3\n", "has 3 values, and there are 2 columns"),
            ("a,b\n" + "10,20\n" * 90_000 + "1,2,3\n", "row 90002"),
            ("", "is empty"),
            ("\n \n", "is empty"),
            ('a,b\n1,"2\n', "cannot be read as a table"),
        ):
            with self.subTest(text), self.fails("table.csv", words, kind=kd.FileError):
                read_table(self.file(text))
        with self.fails("two columns are named 'a'"):
            read_table(pd.DataFrame([[1, 2]], columns=["a", "a"]))

    def test_missing_values_are_missing_everywhere(self):
        text = "x,y\n1,n/a\n-,2\n#DIV/0!,3\n4,unknown\n"
        self.assertReads(
            text, {"x": [1, np.nan, np.nan, 4], "y": [np.nan, 2, 3, np.nan]}, missing=("unknown",)
        )
        trials = kd.read_trials(self.file(text), missing=["unknown"])
        self.assertEqual(int(np.isnan(trials["x"].values).sum()), 2)
        self.assertIn("#DIV/0!", " ".join(trials.notes))
        book = self.folder / "t.xlsx"
        pd.DataFrame({"x": [1, "n/a", "#DIV/0!", 4]}).to_excel(book, index=False)
        np.testing.assert_equal(self.columns(book), {"x": [1, np.nan, np.nan, 4]})
        # an empty line of a single column is a missing value, not one record less
        np.testing.assert_equal(self.columns(self.file("x\n1\n\n3\n")), {"x": [1, np.nan, 3]})

    def test_percentages_and_currencies_are_not_mixed(self):
        self.assertReads("x\n5%\n7.5%\n", {"x": [0.05, 0.075]})
        self.assertReads("x\n€ 5\n€ 6\n", {"x": [5, 6]})
        with self.fails("row 3", "percentages and plain numbers"):
            self.columns(self.file("x\n5%\n7\n"))
        with self.fails("row 3", "mixes currencies"):
            self.columns(self.file("x\n€ 5\n$ 6\n"))

    def test_encodings(self):
        text = "größe\n1\n2\n"
        table = read_table(self.file(text, encoding="cp1252"))
        self.assertEqual(table.names, ["größe"])
        self.assertIn("Windows-1252", table.notes[0])
        self.assertReads(text.encode("latin-1"), {"größe": [1, 2]}, encoding="latin-1")
        with self.fails("no encoding 'utf-9'"):
            read_table(self.file(text), TableFormat(encoding="utf-9"))
        with self.fails("cannot be read as utf-8"):
            read_table(self.file(text, encoding="cp1252"), TableFormat(encoding="utf-8"))

    def test_sheets_by_name(self):
        book = self.folder / "t.xlsx"
        with pd.ExcelWriter(book) as writer:
            FRAME.to_excel(writer, sheet_name="one", index=False)
            (2 * FRAME).to_excel(writer, sheet_name="two", index=False, startrow=3)
        self.assertEqual(self.columns(book, sheet="two")["price"], (2 * FRAME["price"]).tolist())
        self.assertIn("sheet 'one' of 2", read_table(book).notes)
        with self.fails("no sheet 'tow'", "did you mean 'two'"):
            read_table(book, TableFormat(sheet="tow"))
        with self.fails("not a workbook"):
            read_table(self.file("a\n1\n"), TableFormat(sheet="one"))

    def test_dates_as_files_write_them(self):
        days = ["2027-03-31", "2027-06-30"]
        for texts, expected in (
            (days, days),
            (["2027-03-31 17:30", "2027-06-30 09:00"], days),
            (["2027-03-31T17:30:00Z", "2027-06-30T09:00:00+02:00"], days),
            (["31.03.2027", "30.6.2027"], days),
            (["2027-03", "2027-06"], ["2027-03-01", "2027-06-01"]),
            (["2027-Q1", "2027-Q2"], ["2027-01-01", "2027-04-01"]),
            (["Q1 2027", "Q2 2027"], ["2027-01-01", "2027-04-01"]),
            (["2027", "2028"], ["2027-01-01", "2028-01-01"]),
        ):
            with self.subTest(texts):
                table = read_table(self.file(f"date,x\n{texts[0]},1\n{texts[1]},2\n"))
                self.assertEqual(table.dates("date").strftime("%Y-%m-%d").tolist(), expected)
        for text, words in (
            ("2027-06-31", "no day"),
            ("2027-6", "is not a date"),
            ("", "is not a date"),
        ):
            with self.fails("row 3", words):
                read_table(self.file(f"date,x\n2027-03-31,1\n{text},2\n")).dates("date")
        for words in (3, {"x": 1}, [3]):
            with self.fails("missing", "a word, or a list of them"):
                kd.read_values(self.file("fares\n3\n"), missing=words)
        undated = kd.read_series(self.file("fares\n3\n4\n"))
        self.assertEqual((undated.name, list(undated.index)), ("fares", [1, 2]))
        quarters = kd.read_series(self.file("quarter,x\n2027-Q1,1\n2027-Q2,2\n2027-Q3,4\n"))
        self.assertEqual(quarters.index[2], pd.Timestamp("2027-07-01"))

    def test_months_weeks_and_dates_with_strokes(self):
        for texts, first, last in (
            (["Jan 2020", "Feb 2020"], "2020-01-01", "2020-02-01"),
            (["December-2027", "January-2028"], "2027-12-01", "2028-01-01"),
            (["03/2020", "04/2020"], "2020-03-01", "2020-04-01"),
            (["2020-W53", "2021-W01"], "2020-12-28", "2021-01-04"),  # by ISO 8601
            (["1/30/2020", "2/3/2020"], "2020-01-30", "2020-02-03"),
            (["30/1/2020", "3/2/2020"], "2020-01-30", "2020-02-03"),
        ):
            found = dates_in(texts, [2, 3], "date", "a.csv")
            self.assertEqual([f"{date:%Y-%m-%d}" for date in found], [first, last])
        with self.fails("do not show whether the day or the month comes first"):
            dates_in(["1/2/2020", "3/4/2020"], [2, 3], "date", "a.csv")
        for text in ("Foo 2020", "2021-W60", "13/2020"):
            with self.fails("there is no day", text, "row 3"):
                dates_in([text, text], [3, 4], "date", "a.csv")

    def test_names_that_look_like_numbers_stay_as_written(self):
        table = read_table(self.file("instrument,shares\n007,5\nNA,6\n"))
        self.assertEqual(table.texts("instrument"), ["007", "NA"])

    @settings(max_examples=30, deadline=None)
    @given(
        values=st.lists(st.floats(-1e9, 1e9), min_size=2, max_size=20),
        separator=st.sampled_from(",;\t|"),
        decimal=st.sampled_from(".,"),
        title=st.booleans(),
    )
    def test_every_number_comes_back_to_the_bit(self, values, separator, decimal, title):
        frame = pd.DataFrame({"x": values, "y": range(len(values)), "n": ["a"] * len(values)})
        text = frame.to_csv(index=False, sep=separator, decimal=decimal)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "t.csv")
            path.write_text(("A title\n" if title else "") + text)
            table = read_table(path, TableFormat(decimal=decimal))
        np.testing.assert_array_equal(table.numbers("x"), values)
        self.assertEqual(table.texts("n"), ["a"] * len(values))


class Limits(Tables):
    def test_what_never_ends_is_refused_before_it_is_read(self):
        pipe = self.folder / "pipe.csv"
        os.mkfifo(pipe)
        for path in (pipe, Path("/dev/zero")):
            with self.fails("device or a pipe", kind=kd.FileError):
                kd.read_trials(path)
        with self.fails("it is a folder", kind=kd.FileError):
            kd.read_prices(self.folder)
        with self.fails("cannot be read", kind=kd.FileError):
            kd.read_trials("a\0b.csv")

    def test_sizes_are_limited(self):
        with self.fails("200,001 columns", "16,384"):
            read_table(self.file("," * 200_000))
        with self.assertRaises(kd.FileError) as caught:
            read_table(self.file("x" * 3_000_000 + ",a\n1,2,3\n"))
        self.assertLess(len(str(caught.exception)), 400)
        path = self.file(FRAME.to_csv(index=False))
        with mock.patch.object(files, "MOST_CELLS", 7), self.fails("at most 7 cells"):
            read_table(path)
        parquet = self.folder / "t.parquet"
        pd.DataFrame({"x": np.zeros(100_000)}).to_parquet(parquet)
        with mock.patch.object(files, "MOST_CELLS", 1000), self.fails("100,000 rows"):
            read_table(parquet)
        book = self.folder / "t.xlsx"
        FRAME.to_excel(book, index=False)
        with mock.patch.object(reader, "MOST_CELLS", 50), self.fails("more than 5 cells"):
            read_table(book)
        with self.fails("save it as .xlsx"):
            read_table(self.file("x", "t.xls"))

    def test_what_packed_files_hold_is_counted_and_not_believed(self):
        packed = self.folder / "t.csv.zip"
        for kind, text, words in (
            (zipfile.ZIP_DEFLATED, "x\n" + "1\n" * 30_000_000, ("unpacks to more than 33 MB",)),
            (zipfile.ZIP_LZMA, "x\n1\n2\n", ("packed in a way that is not read",)),
        ):
            with zipfile.ZipFile(packed, "w", kind) as file:
                file.writestr("t.csv", text)
            with self.subTest(kind=kind), self.fails(*words):
                read_table(packed)
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as file:
            file.writestr("t.csv", "x\n" + "1\n" * 1000)
        self.assertEqual(len(read_table(packed)), 1000)
        data = bytearray(packed.read_bytes())
        for begin, place in ((data.find(b"PK\3\4"), 22), (data.rfind(b"PK\1\2"), 24)):
            data[begin + place : begin + place + 4] = (7).to_bytes(4, "little")
        packed.write_bytes(data)
        with self.fails("cannot be read as a table"):
            read_table(packed)
        unpacked = self.folder / "t.csv.gz"
        unpacked.write_bytes(gzip.compress(b"x\n" + b"1\n" * 20_000_000))
        with self.fails("unpacks to more than"):
            read_table(unpacked)

    def test_texts_of_parquet_stay_as_small_as_they_are(self):
        path = self.folder / "t.parquet"
        pd.DataFrame({"x": ["y" * 4000] * 100_000, "z": 1.0}).to_parquet(path)
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        table = read_table(path)
        self.assertEqual(table.numbers("z").sum(), 100_000)
        with self.fails("row 2", "not a number"):
            table.numbers("x")
        self.assertLess(tracemalloc.get_traced_memory()[1], 50e6)
        pd.DataFrame({"x": [[1.0, 2.0]]}).to_parquet(path)
        with self.fails("column 'x' holds list<"):
            read_table(path)

    def test_indexes_are_not_implied(self):
        indexed = FRAME.set_axis(["a", "b", "c", "d"])
        path = self.folder / "t.csv"
        indexed.to_csv(path)
        table = read_table(path)
        self.assertEqual(table.names, ["price", "amount"])
        self.assertIn("the first column left out: it has no name", table.notes)
        parquet = self.folder / "t.parquet"
        indexed.to_parquet(parquet)
        self.assertEqual(read_table(parquet).names, ["price", "amount"])
