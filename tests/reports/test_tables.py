"""Tables fit the width there is: no number is broken, nothing ends in blanks, large amounts are
scaled.
"""

import io
import re
import unittest

from rich.console import Console

import kindynos as kd
from kindynos.cells import Cell, Printed
from kindynos.reports.console import console
from kindynos.reports.runs import run_report
from kindynos.reports.tables import Words, table_of


def printed(table, width):
    screen = console()
    screen.width = width
    with screen.capture() as shown:
        screen.print(table)
    return shown.get()


def cell(value, error, decimals=0):
    return Cell.of(Printed(value, decimals), " ", Printed(error, decimals, before="± "))


def amounts(**options):
    table = table_of("Losses", "method", *(f"figure {i}" for i in range(6)), **options)
    for name, size in (("one", 17_937_000), ("two", 5_560_000)):
        table.add_row(name, *(cell(size * (i + 1), 20_000 * (i + 1)) for i in range(6)))
    return table


class Colours(unittest.TestCase):
    def test_the_side_that_hurts_is_red_on_a_terminal_alone(self):
        for better, word in (("high", "below"), ("low", "above")):
            model = kd.Model("m")
            model.driver("x", kd.Normal(0, 1))
            model.outcome("y", "x", target=0, better=better)
            report = run_report(model.simulate(400, seed=1))
            for terminal in (True, False):
                stream = io.StringIO()
                console = Console(file=stream, force_terminal=terminal, width=140, no_color=False)
                console.print(report)
                rows = [row for row in stream.getvalue().splitlines() if "chance " in row]
                red = [row for row in rows if "\x1b[31m" in row]
                self.assertEqual(len(red), int(terminal))
                self.assertTrue(all(f"chance {word}" in row for row in red))


class Widths(unittest.TestCase):
    def test_wide_enough_it_is_one_table(self):
        shown = printed(amounts(), 200)
        self.assertEqual(shown.count("method"), 1)
        self.assertIn("107,622,000 ± 120,000", shown)

    def test_too_narrow_it_is_cut_into_tables_below_each_other(self):
        for width in (40, 60, 80, 100):
            shown = printed(amounts(), width)
            self.assertGreater(shown.count("method"), 1)
            self.assertLessEqual(max(map(len, shown.splitlines())), width)
            for figure in range(6):
                self.assertIn(f"{17_937_000 * (figure + 1):,} ± {20_000 * (figure + 1):,}", shown)

    def test_amounts_in_millions_keep_their_digits(self):
        shown = printed(amounts(scalable=True), 120)
        self.assertIn("Losses, in millions", shown)
        self.assertIn("17.937 ± 0.020", shown)
        self.assertEqual(shown.count("method"), 1)

    def test_a_column_says_its_own_scale_where_they_differ(self):
        table = table_of("Mixed", "name", "money", "rate", scalable=True)
        table.add_row("a", cell(19_310_000, 640_000), cell(0.12, 0.01, 2))
        shown = printed(table, 30)
        self.assertRegex(shown, r"(?s)money,.*millions")
        self.assertIn("19.31 ± 0.64", shown)
        self.assertIn("0.12 ± 0.01", shown)

    def test_columns_that_belong_together_stay_together(self):
        shown = printed(amounts(together=3), 110)
        for part in shown.split("method")[1:]:
            self.assertEqual(len(re.findall("figure", part)) % 3, 0)

    def test_words_wrap_and_blanks_at_the_ends_are_dropped(self):
        table = table_of(
            "A title that is a good deal longer than the table", "what", "n", Words("why")
        )
        table.add_row(
            "a", "1", "a long remark which says what the figure means and what it does not"
        )
        table.add_row("b", "2", "")
        shown = printed(table, 60)
        self.assertEqual(shown.splitlines()[0], "A title that is a good deal longer than the table")
        self.assertFalse([line for line in shown.splitlines() if line != line.rstrip()])
        self.assertIn("which says", shown)
