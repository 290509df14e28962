"""Values one per trial against values worked out alone, on random formulas; circles; and what does
not depend on a draw.
"""

import random
import tempfile
import unittest
from pathlib import Path

import numpy as np

import kindynos as kd
from kindynos.errors import FormulaError, ModelError
from kindynos.finance.notes import listening
from kindynos.workbooks.agreement import recalculated
from kindynos.workbooks.calculation import careful
from kindynos.workbooks.cell_errors import CellError
from kindynos.workbooks.compiling import single
from kindynos.workbooks.functions.catalogue import FUNCTIONS
from kindynos.workbooks.functions.registry import called
from kindynos.workbooks.values import Grid, picked
from tests.workbooks.common import calculation, drawn, write

TRIALS = 17
# functions whose arguments of any size would take long, and one of ours
LEFT_OUT = {"REPT", "WORKDAY", "WORKDAY.INTL", "FACT", "COMBIN", "COMBINA", "PERMUT", "SERIESSUM"}
LEFT_OUT |= {"BINOM.INV", "CRITBINOM", "HYPGEOM.DIST", "NEGBINOM.DIST", "BASE", "_BETWEEN"}
NAMES = [name for name in FUNCTIONS if name not in LEFT_OUT]
CELLS = ("A1", "A2", "A3", "A4", "B1", "B2", "B3", "C1", "C2")
SIGNS = ("+", "-", "*", "/", "^", "&", "=", "<", ">", ">=", "<=", "<>")


# the fee is a share of the loan, and the loan pays for the fee
LOAN = {"A1": 1000, "A2": 0.02, "A3": "=A1+A4", "A4": "=A2*A3"}


class Rates(unittest.TestCase):
    def test_rates_of_return_of_all_trials_are_those_of_each_alone(self):
        """Flows with one change of sign, with several, and with none; a text among them."""
        generator = np.random.default_rng(4)
        first = generator.normal(-100, 60, 200)
        third = generator.normal(60, 90, 200)
        flows = Grid([[first], [40.0], ["nothing"], [third], [30.0]])
        known = FUNCTIONS["IRR"]
        together = called(known, [flows], known.kinds_of(1))
        kinds = set()
        for trial in range(200):
            alone = called(known, [picked(flows, trial)], known.kinds_of(1))
            found = picked(together, trial)
            kinds.add(type(alone))
            if isinstance(alone, float):
                self.assertAlmostEqual(found, alone, delta=1e-9 * max(1, abs(alone)))
            else:
                self.assertEqual(found, alone)
        self.assertEqual(kinds, {float, CellError})

    def test_flows_that_never_change_their_sign_once(self):
        known = FUNCTIONS["IRR"]
        flows = Grid([[np.array([1.0, 2.0, 50.0])], [3.0], [np.array([4.0, 0.0, 9.0])]])
        together = called(known, [flows], known.kinds_of(1))
        self.assertEqual([picked(together, trial).code for trial in range(3)], ["#NUM!"] * 3)


class Generator:
    """Makes formulas of all operators, forms and functions."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)

    def atom(self) -> str:
        return self.random.choice([*CELLS, "A1", "A2", "A3", "1", "2.5", "0", "-3", '"x"', '"4"'])

    def formula(self, depth: int) -> str:
        if depth <= 0:
            return self.atom()
        inner = [self.formula(depth - 1) for _ in range(4)]
        kind = self.random.random()
        if kind < 0.35:
            return f"({inner[0]}{self.random.choice(SIGNS)}{inner[1]})"
        if kind < 0.40:
            return f"-{inner[0]}"
        if kind < 0.55:
            return f"IF({inner[0]},{inner[1]},{inner[2]})"
        if kind < 0.60:
            return f"IFERROR({inner[0]},{inner[1]})"
        if kind < 0.65:
            return f"CHOOSE({inner[0]},{inner[1]},{inner[2]})"
        if kind < 0.70:
            return f"SWITCH({inner[0]},{self.atom()},{inner[1]},{inner[2]})"
        return self.call(depth)

    def call(self, depth: int) -> str:
        known = FUNCTIONS[self.random.choice(NAMES)]
        count = known.needed
        if known.repeated:
            count += known.repeated * self.random.randint(0, 2)
        else:
            count += self.random.randint(0, len(known.kinds) - known.needed)
        areas = ("A1:A4", "A1:C2", "B1:B3")
        parts = [
            self.random.choice(areas)
            if kind in "ra" or (kind == "x" and self.random.random() < 0.6)
            else self.formula(depth - 1)
            for kind in known.kinds_of(count)
        ]
        return f"{known.name}({','.join(parts)})"


class TrialsTogetherAndAlone(unittest.TestCase):
    def compare(self, formulas: list[str], values: dict[str, np.ndarray]) -> None:
        cells = {"B1": 3, "B2": "pear", "C1": True, "C2": "=A1*2", "A1": 1, "A2": 1, "A3": 1}
        cells |= {"A4": 2, **{f"J{row}": text for row, text in enumerate(formulas, start=1)}}
        inputs = {"a": "Data!A1", "b": "Data!A2", "c": "Data!A3"}
        outputs = {f"j{row}": f"Data!J{row}" for row in range(1, len(formulas) + 1)}
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(write(Path(folder), cells), inputs, outputs)
        for name, text in zip(outputs, formulas, strict=True):
            try:
                together = self.value(whole, name, values)
            except FormulaError:  # an array where none can be, say
                continue
            for trial in range(TRIALS):
                alone = self.value(
                    whole, name, {key: np.array(one[trial]) for key, one in values.items()}
                )
                self.assert_same(picked(together, trial), alone, f"{text}, trial {trial}")

    def value(self, whole, name, values):
        plan = whole._plan((name,))
        slots = whole._run(plan, values)
        with careful():
            return single(plan.outputs[name][0](slots))

    def assert_same(self, one, other, message):
        if isinstance(one, float) and isinstance(other, float):
            self.assertTrue(np.isclose(one, other, rtol=1e-9, atol=1e-12), (message, one, other))
        elif isinstance(one, str) and isinstance(other, str) and one != other:
            # the last of 15 digits may differ, since sums over trials add up in another order
            self.assertEqual(len(one), len(other), message)
        else:
            self.assertEqual((type(one), one), (type(other), other), message)

    def test_random_formulas(self):
        generator = Generator(20_261)
        formulas = ["=" + generator.formula(1 + place % 3) for place in range(900)]
        self.compare(formulas, drawn(5, TRIALS))

    def test_errors_of_some_trials(self):
        formulas = ["=1/A2", "=IFERROR(1/A2,A1)", "=IF(ISERROR(1/A2),-1,1/A2)", "=SQRT(A1)"]
        formulas += ["=SUM(A1,1/A2)", "=IF(A1>0,1/A2,LN(A1))", "=MAX(SQRT(A1),0)", "=(A1^A2)+1"]
        formulas += ['=SUMIF(A1:A3,">"&A2)', "=COUNTIF(A1:A3,A1)", "=VLOOKUP(A2,A1:B3,2,FALSE)"]
        formulas += ["=MATCH(A2,{-3;0;2;5},1)", "=INDEX({1;2;3},A2)", "=LOOKUP(A3,{0,0.5},{1,2})"]
        self.compare(formulas, drawn(6, TRIALS))


class Lookups(unittest.TestCase):
    def test_numbers_among_sorted_ones_are_found_as_searchsorted_finds_them(self):
        cells = {"A1": 1, **{f"B{row}": 10 * row for row in range(1, 9)}}
        cells |= {"C1": "=MATCH(A1,B1:B8,1)", "C2": "=MATCH(A1,B1:B8,0)"}
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(
                write(Path(folder), cells), {"a": "Data!A1"}, {"up": "Data!C1", "same": "Data!C2"}
            )
        wanted = np.array([5.0, 10.0, 10.5, 79.9, 80.0, 500.0])
        found = whole.evaluate(["up", "same"], {"a": wanted}, 6)
        np.testing.assert_array_equal(found["up"], [np.nan, 1, 1, 7, 8, 8])
        np.testing.assert_array_equal(found["same"], [np.nan, 1, np.nan, np.nan, 8, np.nan])


class Circles(unittest.TestCase):
    def test_a_circle_is_named_unless_iteration_is_on(self):
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(write(Path(folder), LOAN), {"need": "Data!A1"}, {"loan": "Data!A3"})
            with self.assertRaisesRegex(ModelError, "Data!A3 -> Data!A4 -> Data!A3|Data!A4 -> D"):
                whole.evaluate(["loan"], {"need": np.array([1.0])}, 1)

    def test_a_circle_settles_trial_by_trial(self):
        import openpyxl

        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), LOAN)
            book = openpyxl.load_workbook(path)
            book.calculation.iterate = True
            book.save(path)
            inputs = {"need": "Data!A1", "rate": "Data!A2"}
            whole = calculation(path, inputs, {"loan": "Data!A3"})
            need, rate = np.array([1000.0, 500.0, 100.0]), np.array([0.02, 0.5, 1.5])
            with listening() as heard:
                found = whole.evaluate(["loan"], {"need": need, "rate": rate}, 3)["loan"]
            settled = {"need": need[:2], "rate": rate[:2]}
            alone = whole.evaluate(["loan"], settled, 2)["loan"]
        np.testing.assert_allclose(alone, need[:2] / (1 - rate[:2]), rtol=1e-9)
        np.testing.assert_allclose(found[:2], need[:2] / (1 - rate[:2]), rtol=1e-8)
        self.assertTrue(np.isnan(found[2]))  # it grows without end
        self.assertEqual(heard["", "cells in a circle did not settle"], 1)

    def test_a_circle_that_adds_up_an_area_settles_where_nothing_is_drawn(self):
        import openpyxl

        cells = {"A1": 8.0, "A2": 1.0, "A3": "=B1/4", "B1": "=SUM(A1:A3)", "C1": "=SUM(A1:B3)"}
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            book = openpyxl.load_workbook(path)
            book.calculation.iterate = True
            book.save(path)
            graph = kd.read_workbook(path).graph
            values, failed = recalculated(graph, graph.formulas)
        self.assertEqual(failed, {})
        settled = {graph.cells[number].short: value for number, value in values.items()}
        for cell, value in {"A3": 3.0, "B1": 12.0, "C1": 24.0}.items():  # b = 9 + b / 4
            self.assertAlmostEqual(settled[cell], value, places=6)


class References(unittest.TestCase):
    def test_what_moves_a_reference_is_needed_with_all_it_may_reach(self):
        cells = {
            "A1": 1,
            "A2": 2,
            "A3": 3,
            "B1": "=OFFSET(A1,A2-1,0)",
            "B2": "=SUM(A1:INDEX(A1:A3,A1))",
        }
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            fixed = calculation(path, {"x": "Data!A2"}, {"sum": "Data!B2"})
            values = fixed.evaluate(["sum"], {"x": np.array([1.0, 5.0])}, 2)
            self.assertEqual(float(values["sum"]), 1.0)
            moved = calculation(path, {"x": "Data!A2", "y": "Data!A3"}, {"moved": "Data!B1"})
            self.assertEqual(moved.needs("moved"), ("x", "y"))
            found = moved.evaluate(
                ["moved"], {"x": np.array([1.0, 2.0, 3.0]), "y": np.full(3, 8.0)}, 3
            )
            np.testing.assert_array_equal(found["moved"], [1.0, 2.0, 8.0])
            other = calculation(path, {"x": "Data!A3"}, {"moved": "Data!B1"})
            self.assertEqual(other.needs("moved"), ())

    def test_needs_are_exact(self):
        cells = {"A1": 1, "A2": 2, "A3": 3, "B1": "=A1*2", "B2": "=SUM(A2:A3)", "B3": "=B1+1"}
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(
                write(Path(folder), cells),
                {"one": "Data!A1", "two": "Data!A2", "three": "Data!A3"},
                {"first": "Data!B3", "second": "Data!B2"},
            )
        self.assertEqual(whole.needs("first"), ("one",))
        self.assertEqual(whole.needs("second"), ("two", "three"))

    def test_long_chains(self):
        cells = {"A1": 1, **{f"A{row}": f"=A{row - 1}+1" for row in range(2, 4001)}}
        with tempfile.TemporaryDirectory() as folder:
            path = write(Path(folder), cells)
            whole = calculation(path, {"x": "Data!A1"}, {"end": "Data!A4000"})
            found = whole.evaluate(["end"], {"x": np.array([1.0, 2.5])}, 2)["end"]
            np.testing.assert_array_equal(found, [4000.0, 4001.5])
            tree = kd.read_workbook(path).precedents("Data!A3")
        self.assertEqual(tree, {"Data!A2": {"Data!A1": {}}})

    def test_errors_are_told_with_their_number(self):
        cells = {"A1": 1, "B1": "=1/A1"}
        with tempfile.TemporaryDirectory() as folder:
            whole = calculation(write(Path(folder), cells), {"x": "Data!A1"}, {"y": "Data!B1"})
        with listening() as heard:
            found = whole.evaluate(["y"], {"x": np.array([0.0, 2.0, 0.0])}, 3)["y"]
        np.testing.assert_array_equal(found, [np.nan, 0.5, np.nan])
        self.assertEqual(dict(heard), {("y", "#DIV/0!"): 2})
        self.assertIsInstance(CellError("#DIV/0!", 2), CellError)

    def test_texts_are_told_as_texts(self):
        cells = {"A1": 1, "B1": '=IF(A1<0,"never",IF(A1=0,1/A1,IF(A1>5,"7",A1)))', "B2": '="x"&A1'}
        with tempfile.TemporaryDirectory() as folder:
            outputs = {"y": "Data!B1", "z": "Data!B2"}
            whole = calculation(write(Path(folder), cells), {"x": "Data!A1"}, outputs)
        with listening() as heard:
            found = whole.evaluate(["y", "z"], {"x": np.array([-2.0, 0.0, 3.0, 6.0, -1.0])}, 5)
        np.testing.assert_array_equal(found["y"], [np.nan, np.nan, 3.0, 7.0, np.nan])
        self.assertEqual(heard["y", "the text 'never'"], 2)
        self.assertEqual(heard["y", "#DIV/0!"], 1)
        self.assertNotIn(("y", "#VALUE!"), heard)
        self.assertEqual(heard["z", "the text 'x3'"], 1)


if __name__ == "__main__":
    unittest.main()
