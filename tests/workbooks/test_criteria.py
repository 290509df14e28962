"""Criteria of conditional counts against those of another spreadsheet program, in the base case and
in trials.
"""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.workbooks.common import calculation, worked_out, write

# a ledger's codes and what else a column holds; J6, J9 and J19 hold nothing
COLUMN = {"J1": "4010", "J2": 4010, "J3": "4010.0", "J4": '=""', "J5": "abc", "J7": True}
COLUMN |= {"J8": "true", "J10": 47119, "J11": "1/1/2029", "J12": "ABC", "J13": "4*", "J14": 0}
COLUMN |= {"J15": "50%", "J16": 0.5, "J17": -3, "J18": "=1/0"}
# how many of J1:J19 the other program counts
COUNTED = {
    '""': 4, '"="': 3, '"<>"': 16, '"<"': 0, '">"': 8, '"<="': 1, '">="': 9,
    '"4010"': 2, '"=4010"': 2, '"<>4010"': 17, "4010": 1, '">=4010"': 2, '"abc"': 2,
    '"<>abc"': 17, '"a*"': 2, '"<>a*"': 17, '"1/1/2029"': 2, '">=1/1/2029"': 1, "TRUE": 1, "1": 0,
    '"TRUE"': 2, '"<>TRUE"': 17, '"4~*"': 1, '"50%"': 2, '">abc"': 1, '"<abc"': 6, '">=abc"': 3,
    '"<"&K1': 0, '""&K1': 4, '"="&K1': 3, '"#DIV/0!"': 1, '"<>#DIV/0!"': 18, "0": 1, '"<>0"': 18,
    "J1": 2, "J4": 4, "J11": 2, '"-3"': 1, '"(3)"': 1,
}  # fmt: skip


class Counts(unittest.TestCase):
    def test_what_a_criterion_counts(self):
        texts = [f"=COUNTIF(J1:J19,{criterion})" for criterion in COUNTED]
        for text, ours, count in zip(
            texts, worked_out(texts, COLUMN), COUNTED.values(), strict=True
        ):
            with self.subTest(text):
                self.assertEqual(ours, count)

    def test_whole_columns_count_what_they_do_not_hold(self):
        rows = 1_048_576
        expected = {
            '=COUNTIF(J:J,"")': rows - 15,
            '=COUNTIF(J:J,"<>")': 16,
            '=COUNTIF(J:J,"<>abc")': rows - 2,
            '=COUNTIFS(J:J,"<>abc",K:K,"")': rows - 2,
            "=COUNTBLANK(J:J)": rows - 15,
            '=SUMIFS(J:J,K:K,"",J:J,">1")': 4010.0 + 47119,
        }
        self.assertEqual(worked_out(list(expected), COLUMN), list(expected.values()))


class InTrials(unittest.TestCase):
    def test_each_trial_counts_as_the_sheet_with_its_values_would(self):
        """A code that is text, a cell that is at times empty text, and criteria that differ."""
        draws = np.array([0.2, 0.6, 0.9, 0.5])
        cells = {"A1": 0.2, "B1": "4010", "B2": '=IF(A1>0.5,"","4020")', "B3": "=IF(A1>0.7,4010,7)"}
        cells |= {"C1": 10, "C2": 20, "C3": "=100*A1", "D1": '=IF(A1>0.5,"4010","4020")'}
        formulas = {
            'COUNTIF(B1:B3,"")': draws > 0.5,
            'COUNTIF(B1:B3,"<>")': 3 + 0 * draws,
            'COUNTIF(B1:B3,"4010")': 1.0 + (draws > 0.7),
            "SUMIF(B1:B3,D1,C1:C3)": np.where(
                draws > 0.5, 10 + np.where(draws > 0.7, 100 * draws, 0), 20
            ),
            'SUMIFS(C1:C3,B1:B3,"<>4020",C1:C3,">15")': np.where(draws > 0.5, 20.0, 0)
            + 100 * draws,
            'IFERROR(AVERAGEIF(C1:C3,">"&90*A1),-1)': np.array([20 + 0.0, 60.0, 90.0, 50.0]),
            'MAXIFS(C1:C3,B1:B3,"4010")': np.where(draws > 0.7, 100 * draws, 10),
            'MINIFS(C1:C3,C1:C3,">"&A1*100)': 0 * draws,
        }
        cells |= {f"E{row}": "=" + text for row, text in enumerate(formulas, start=1)}
        outputs = {f"e{row}": f"Data!E{row}" for row in range(1, len(formulas) + 1)}
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            whole = calculation(path, {"a": "Data!A1"}, outputs)
            found = whole.evaluate(list(outputs), {"a": draws}, len(draws))
        for (text, expected), name in zip(formulas.items(), outputs, strict=True):
            with self.subTest(text):
                np.testing.assert_allclose(found[name] + 0 * draws, expected)


if __name__ == "__main__":
    unittest.main()
