"""Trials of ten workbooks against the values that a spreadsheet program works out for them."""

import csv
import math
import tempfile
import unittest
import warnings

from tests.workbooks.books import BOOKS, STORED, run_of


class Books(unittest.TestCase):
    def test_each_outcome_of_each_trial_is_that_of_the_recalculated_workbook(self):
        with STORED.open(newline="") as file:
            stored = {
                (r["book"], int(r["trial"]), r["outcome"]): r["value"] for r in csv.DictReader(file)
            }
        self.assertGreater(len(stored), 300)
        compared = 0
        for build in BOOKS:
            with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
                warnings.simplefilter("ignore")
                run = run_of(build, folder)
            for (book, trial, name), value in stored.items():
                if book != build.__name__:
                    continue
                compared += 1
                with self.subTest(book=book, trial=trial, outcome=name):
                    ours = float(run[name].values[trial])
                    try:
                        theirs = float(value)
                    except ValueError:  # a text or an error
                        self.assertTrue(math.isnan(ours), value)
                        continue
                    self.assertTrue(
                        math.isclose(ours, theirs, rel_tol=1e-12, abs_tol=1e-9), (ours, theirs)
                    )
        self.assertEqual(compared, len(stored))


if __name__ == "__main__":
    unittest.main()
