"""Arrays of foreign types, and extreme numbers, given to every function of arrays."""

import inspect
import math
import warnings
from decimal import Decimal
from fractions import Fraction

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case

FOREIGN = [
    "text",
    None,
    [[1.0], [2.0, 3.0]],
    np.ma.masked_array([1.0, 2.0, 3.0], [False, True, False]),
    np.array(["1", "2", "3"]),
    ["1", "2"],
    [1 + 2j, 3.0],
    [pd.NaT, pd.NA],
    np.array(["2028-01-01", "NaT"], dtype="datetime64[D]"),
    [10**400, 1.0],
    {"a": 1.0},
    {1.0, 2.0},
]
EXTREME = [
    [math.inf, -math.inf, 1.0],
    [1e308, -1e308, 1e308],
    [math.nan, 1.0, 2.0],
    np.zeros((3, 2)),
    np.ones((3, 4)),
    np.ones(7),
    np.zeros(3),
    [5e-324, -5e-324, 0.0],
    [Decimal(1), Fraction(1, 3), True],
    np.empty((3, 0)),
    [],
    0.0,
    -1.0,
    1e308,
    math.inf,
    np.ones((2, 2, 2)),
]
FLOWS = [-100.0, 60.0, 60.0]
CALLS = {
    kd.npv: (0.1, FLOWS, 0.0),
    kd.irr: (FLOWS, -5.0),
    kd.irr_report: (FLOWS, -5.0),
    kd.mirr: (FLOWS, 0.1, 0.1, -5.0),
    kd.payback: (FLOWS, -5.0),
    kd.discounted_payback: (0.1, FLOWS, -5.0),
    kd.profitability_index: (0.1, [60.0, 60.0], -100.0),
    kd.terminal_value: (100.0, 0.08, 0.02),
    kd.value_per_share: (FLOWS, 0.08, 0.02, 100.0, 5.0),
    kd.finance.present_value: (0.05, 10.0, 100.0),
    kd.finance.future_value: (0.05, 10.0, 100.0),
    kd.finance.payment: (0.05, 10.0, 100.0),
    kd.finance.capital_recovery: (0.05, 10.0),
    kd.finance.equivalent_annual: (0.05, FLOWS, -5.0),
    kd.levelized_cost: (1000.0, 50.0, 100.0, 0.05, 10.0),
    kd.roll_forward: (100.0, 0.1, FLOWS),
    kd.finance.grow: ([0.1, 0.2, 0.1], 1.0),
    kd.first_period: (FLOWS,),
    kd.finance.at: (FLOWS, 2.0),
    kd.npv_dated: (0.1, FLOWS, ["2028-01-01", "2028-06-30", "2029-01-01"]),
    kd.irr_dated: (FLOWS, ["2028-01-01", "2028-06-30", "2029-01-01"]),
    kd.finance.drawdown: ([100.0, 90.0, 95.0],),
    kd.max_drawdown: ([100.0, 90.0, 95.0],),
    kd.finance.volatility: ([100.0, 90.0, 95.0],),
    kd.finance.sharpe_ratio: ([100.0, 90.0, 95.0],),
    kd.finance.compound_growth: ([100.0, 90.0, 95.0],),
    kd.nearest_correlation: ([[1.0, 0.5], [0.5, 1.0]],),
}


class Foreign(Case):
    def test_one_clear_error_or_a_result(self):
        for function, good in CALLS.items():
            names = list(inspect.signature(function).parameters)
            for place, name in enumerate(names[: len(good)]):
                for foreign in FOREIGN:
                    with self.subTest(
                        function=function.__name__, name=name, value=repr(foreign)[:40]
                    ):
                        if (foreign is None and name == "initial") or (
                            isinstance(foreign, np.ndarray) and name == "dates"
                        ):
                            continue
                        with (
                            self.assertRaises(kd.KindynosError) as caught,
                            warnings.catch_warnings(action="error"),
                        ):
                            function(*good[:place], foreign, *good[place + 1 :])
                        self.assertIn(function.__name__, str(caught.exception))

    def test_extremes_raise_that_error_too_or_follow_the_floats(self):
        for function, good in CALLS.items():
            for place in range(len(good)):
                for value in EXTREME:
                    here = self.subTest(
                        function=function.__name__, place=place, value=repr(value)[:40]
                    )
                    with here, warnings.catch_warnings(action="error"):
                        warnings.simplefilter("ignore", kd.DataWarning)
                        try:
                            function(*good[:place], value, *good[place + 1 :])
                        except kd.KindynosError as error:
                            self.assertIn(function.__name__, str(error))

    def test_numbers_of_other_types_are_read(self):
        exact = [Decimal(-100), Fraction(121, 2), 60]
        self.assertEqual(kd.npv(Decimal("0.1"), exact), kd.npv(0.1, [-100.0, 60.5, 60.0]))
        self.assertEqual(kd.npv(0.1, np.ma.masked_array([1.0, 2.0])), kd.npv(0.1, [1.0, 2.0]))
        self.assertEqual(kd.npv(0.1, pd.Series([1, 2])), kd.npv(0.1, [1.0, 2.0]))

    def test_dates(self):
        for date, words in (
            ("99999-01-01", "date 2"),
            ("NaT", "date 2"),
            (np.datetime64("NaT"), "date 2"),
            (5.5, "date 2"),
        ):
            with self.fails(words):
                kd.npv_dated(0.1, [1.0, 2.0], ["2028-01-01", date])
        with self.fails("shapes that do not fit", "flows (3, 4)", "rate (5,)"):
            kd.npv(np.full(5, 0.1), np.ones((3, 4)))
