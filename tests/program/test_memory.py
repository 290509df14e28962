"""Memory stays bounded: what nothing reads any more is let go while a batch is worked out."""

import tracemalloc
from unittest import mock

import numpy as np

import kindynos as kd
from kindynos.memory import remembered, with_memory
from tests.common import Case

PERIODS, TRIALS = 20, 4_000
ROW = 8 * PERIODS * TRIALS  # bytes of one line


class Remembered(Case):
    def test_the_oldest_results_of_an_object_give_way(self):
        class Book:
            @with_memory
            def doubled(self, number):
                return twice(number)

        calls = []

        @remembered
        def twice(number):
            calls.append(number)
            return np.full(10_000, 2.0 * number)

        book = Book()
        with mock.patch("kindynos.memory.MOST", 400_000):  # room for four of them
            for number in (1, 2, 3, 4, 4, 5, 6, 6, 1):
                self.assertEqual(book.doubled(number)[0], 2.0 * number)
        self.assertEqual(calls, [1, 2, 3, 4, 5, 6, 1])
        self.assertLessEqual(vars(book)["_memory"].size, 400_000)


class Memory(Case):
    def peak(self, model):
        """Return the most that is held at a time during a run, in rows of one line."""
        model.simulate(400, 1)  # made ready
        tracemalloc.start()
        try:
            model.simulate(TRIALS, 1, workers=1)
            return tracemalloc.get_traced_memory()[1] / ROW
        finally:
            tracemalloc.stop()

    def test_a_chain_of_lines_takes_the_memory_of_a_few(self):
        model = kd.Model("Chain", periods=PERIODS)
        model.driver("a", kd.Normal(1, 0.1), each="period")
        model.line("l0", "a")
        for number in range(1, 400):
            model.line(f"l{number}", f"l{number - 1} * 0.99 + 0.01")
        model.outcome("end", "total(l399)")
        self.assertLess(self.peak(model), 40)

    def test_many_outcomes_take_their_own_memory(self):
        model = kd.Model("Many", periods=PERIODS)
        model.driver("a", kd.Normal(1, 0.1), each="period")
        for number in range(400):
            model.line(f"l{number}", f"a + {number}")
            model.outcome(f"o{number}", f"total(l{number})")
        # 400 outcomes of one number are 20 rows; what is held besides is not 400 lines
        self.assertLess(self.peak(model), 150)
