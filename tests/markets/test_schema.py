"""Tests of the JSON Schema of holdings, by a validator of the standard, beside what the reader
says.
"""

import json

import pandas as pd
from jsonschema import Draft202012Validator

from kindynos.errors import KindynosError
from kindynos.markets.holdings import read_holdings
from kindynos.markets.schema import json_schema
from tests.common import DEMO, Folder, run

CHECKED = Draft202012Validator(json_schema())


class Schema(Folder):
    def test_it_is_a_schema_and_the_command_prints_it(self):
        Draft202012Validator.check_schema(json_schema())
        self.assertEqual(json.loads(run("schema", "holdings").stdout), json_schema())
        refused = run("schema", "holding")
        self.assertEqual(refused.returncode, 2)
        self.assertIn("holdings", refused.stderr)

    def test_what_is_read_is_valid_and_what_is_refused_is_not(self):
        rows = pd.read_csv(DEMO / "treasury_holdings.csv").to_dict("records")
        named = {"instrument": "ferry", "currency": "nok", "change": "absolute", "group": "bonds"}
        positions = pd.read_csv(DEMO / "treasury_positions.csv").to_dict("records")
        positions = [{k: v for k, v in row.items() if v == v} for row in positions]
        valid = (rows, positions, [{"instrument": "a", "weight": 0.4}], [{**named, "amount": -3.0}])
        for one in valid:
            self.read(one)
            self.assertTrue(CHECKED.is_valid(one))
        for one in (
            [{"instrument": "a"}],
            [{"instrument": "a", "shares": 3, "weight": 0.4}],
            [{"instrument": "", "shares": 3}],
            [{"shares": 3}],
            [{"instrument": "a", "shares": "many"}],
            [{"kind": "future", "name": "a", "number": 3}],
            [{"kind": "cash", "name": "a"}],
        ):
            with self.subTest(one):
                self.assertRaises(KindynosError, self.read, one)
                self.assertFalse(CHECKED.is_valid(one))

    def test_columns_that_change_the_figure_are_read_and_others_named(self):
        lots = [
            {"ticker": "a", "quantity": 200, "side": "short", "Contract Size": 10, "broker": "x"},
            {"ticker": "a", "quantity": 50, "side": "buy", "Contract Size": 10, "broker": "x"},
            {"ticker": "b", "quantity": 7, "side": "", "Contract Size": 1, "broker": "x"},
        ]
        held = self.read(lots)
        self.assertEqual(held.amounts, {"a": -1_500.0, "b": 7.0})
        self.assertEqual((held.kind, held.left_out), ("shares", ("broker",)))
        for change, words in (
            ({"side": "shrt"}, "say long or short"),
            ({"quantity": -200}, "say the side or the minus, not both"),
            ({"Contract Size": 0}, "must be a number above 0"),
        ):
            with self.subTest(words), self.fails(words, "row 2"):
                self.read([{**lots[0], **change}])
        with self.fails("a has the currency 'EUR', and 'USD' above"):
            self.read(
                [{**row, "currency": c} for row, c in zip(lots, ["USD", "EUR"], strict=False)]
            )

    def test_all_rows_that_are_wrong_are_reported_at_once(self):
        shares = {"instrument": ["a", "b", ""], "shares": [3, "", 4], "side": ["shrt", "", ""]}
        positions = {"kind": ["future", "cash"], "name": ["a", "b"], "number": [3, ""]}
        for columns, words in (
            (shares, ("row 2: the side of a", "row 3: 'b' has no number", "row 4: the instrument")),
            (positions, ("row 2: ", "row 3: b has no number")),
        ):
            with self.subTest(columns), self.fails(f"{len(words)} mistakes", *words):
                self.read(pd.DataFrame(columns).to_dict("records"))

    def read(self, rows):
        path = self.folder / "held.csv"
        pd.DataFrame(rows).to_csv(path, index=False)
        return read_holdings(path)
