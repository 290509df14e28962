"""Test of the sentences that reports and reviews make, over cases of every kind: as they were read
last in ``sentences.txt``.
"""

import unittest

from tests.pages import same
from tests.reports.sentences import WRITTEN, sentences


class Sentences(unittest.TestCase):
    def test_each_is_as_it_was_read(self):
        before = WRITTEN.read_text(encoding="utf-8").splitlines()
        now = sentences().splitlines()
        for old, new in zip(before, now, strict=False):
            if not same(old, new):
                self.fail(f"{old}\n{new}\n(python -m tests.reports.sentences writes them anew)")
        self.assertEqual(len(before), len(now))

    def test_none_has_words_that_nobody_would_write(self):
        for line in WRITTEN.read_text(encoding="utf-8").splitlines():
            for words in (
                " nan",
                " inf ",
                "infinite EUR",
                "?.",
                " 1 drivers",
                "lie between 0 and 0",
            ):
                self.assertNotIn(words, line)
