"""What results hand out does not change them."""

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.handed_out import handed_out
from tests.common import HELD, PRICES, Case, investment


def spoil(value):
    """Change a value in every way that its kind allows."""
    ways = {
        pd.DataFrame: [
            lambda: value.__setitem__("more", 1),
            lambda: value.iloc.__setitem__((0, 0), 7),
        ],
        pd.Series: [lambda: value.iloc.__setitem__(0, 7)],
        dict: [lambda: value.__setitem__("more", 1)],
        list: [lambda: value.append(1)],
        np.ndarray: [lambda: value.__setitem__(0, 7)],
    }
    for way in ways[type(value)]:
        try:
            way()
        except (ValueError, IndexError):
            continue  # it is read-only, or empty


class HandedOut(Case):
    def test_results_stay_as_they_are(self):
        rng = np.random.default_rng(1)
        model = investment()
        run = model.simulate(500, seed=1)
        outcome = run.table().index[0][0]
        tree = kd.Decision(
            "go?", {"go": kd.Event("e", {"a": (0.5, 9.0), "b": ("rest", 0)}), "no": 0}
        )
        results = (
            PRICES,
            kd.markets.returns(PRICES),
            HELD.supported_method(0.95),
            HELD.backtest(level=0.95),
            kd.allocate(HELD, minimize="sd"),
            kd.fit_distributions(rng.normal(size=80)),
            tree.solve(),
            kd.compare({"one": run, "again": investment().simulate(500, seed=1)}, outcome),
            run.joint(outcome, outcome),
        )
        count = 0
        for result in results:
            for name in dir(result):
                kind = type(getattr(result, name, None)) if not name.startswith("_") else None
                if kind not in (pd.DataFrame, pd.Series, dict, list, np.ndarray):
                    continue
                with self.subTest(result=type(result).__name__, name=name):
                    before = repr(getattr(result, name))
                    spoil(getattr(result, name))
                    self.assertEqual(repr(getattr(result, name)), before)
                count += 1
        self.assertGreater(count, 25)

    def test_what_cannot_change_is_handed_out_as_it_is(self):
        for value in (3, "text", (1, 2), frozenset({1})):
            self.assertIs(handed_out(value), value)
        fixed = np.arange(3.0)
        fixed.flags.writeable = False
        self.assertIs(handed_out(fixed), fixed)
