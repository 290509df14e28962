"""Tests of what a cell means."""

import math

from kindynos.tables.cells import is_missing, number_in
from tests.common import Case


class Cells(Case):
    def test_numbers_as_people_write_them(self):
        for text, decimal, expected in (
            ("1234.5", ".", 1234.5),
            ("-1,234,567.5", ".", -1234567.5),
            ("1.234.567,5", ",", 1234567.5),
            ("1 234,5", ",", 1234.5),
            ("1\u202f234", ".", 1234),
            ("1\u00a0234,5", ",", 1234.5),
            ("3'000.25", ".", 3000.25),
            ("(12.5)", ".", -12.5),
            ("\u221212.5", ".", -12.5),
            ("- 12.5", ".", -12.5),
            ("€ 1,200", ".", 1200),
            ("1.200,50 €", ",", 1200.5),
            ("-£3", ".", -3),
            ("£-3", ".", -3),
            ("EUR 5", ".", 5),
            ("($2,000)", ".", -2000),
            ("1.5e3", ".", 1500),
            ("1,5e3", ",", 1500),
            ("inf", ".", math.inf),
            (".5", ".", 0.5),
            ("5.", ".", 5),
        ):
            with self.subTest(text):
                self.assertEqual(number_in(text, decimal).value, expected)
        self.assertEqual(number_in("12.5%"), (0.125, True, ""))
        self.assertEqual(number_in("NOK 12"), (12, False, "NOK"))

    def test_what_is_not_a_number(self):
        for text in (
            "1_000", "1,5", "12,34", "1,234,5", "1 234,567.8 9", "x", "", "-", "--3", "(-3)", "3-",
            "1.2.3", "0x10", "EUR", "%", "5 % EUR", "1,23,456", "2027-12-31", "1e", "e5",
        ):  # fmt: skip
            with self.subTest(text):
                self.assertIsNone(number_in(text))
        self.assertIsNone(number_in("1.5", ","))

    def test_words_for_a_missing_value(self):
        for text in ("", "n/a", "NA", "#N/A", "#DIV/0!", "-", "\u2013", "NaN", "null"):
            self.assertTrue(is_missing(text), text)
        self.assertFalse(is_missing("unknown"))
        self.assertTrue(is_missing("unknown", frozenset({"unknown"})))
        self.assertFalse(is_missing("0"))
