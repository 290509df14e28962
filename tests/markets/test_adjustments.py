"""Splits, dividends and columns of total returns, against returns that are known."""

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Case, Folder, run

DATES = pd.bdate_range("2027-01-04", periods=8, name="date")
RETURNS = np.array([0.02, -0.01, 0.03, 0.01, -0.02, 0.015, 0.005])


def paid_out():
    """Return prices of a share that splits 2 for 1 on the fifth day, and pays 1.50 on the third
    and 0.40 on the sixth, with its total returns.
    """
    prices, paid = [100.0], {2: 1.5, 5: 0.4}
    for day, move in enumerate(RETURNS, start=1):
        value = prices[-1] * (1 + move) - paid.get(day, 0.0)
        prices.append(value / 2 if day == 4 else value)
    return pd.DataFrame({"ferry": prices}, DATES), np.r_[1, np.cumprod(1 + RETURNS)]


class Adjustments(Case):
    def test_dividends_and_splits_give_the_returns_of_who_held_the_share(self):
        frame, _ = paid_out()
        read = kd.read_prices(
            frame,
            splits={"ferry": {DATES[4]: "2:1"}},
            dividends={"ferry": {DATES[2]: 1.5, DATES[5]: 0.4}},
            keep_suspicious=True,
        )
        # a dividend is a share of the price before it: (1 + r) P - D against P - D
        due = RETURNS.copy()
        for day, amount in ((2, 1.5), (5, 0.4)):
            before = frame["ferry"].iloc[day - 1]
            due[day - 1] = frame["ferry"].iloc[day] / (before - amount) - 1
        np.testing.assert_allclose(read.moves[:, 0], due)
        self.assertLess(np.abs(due - RETURNS).max(), 5e-4)
        self.assertEqual(read.frame["ferry"].iloc[-1], frame["ferry"].iloc[-1])
        self.assertEqual(read.record()["dividends"]["ferry"][DATES[2]], 1.5)

    def test_a_column_of_total_returns(self):
        frame, total = paid_out()
        frame["ferry total return"] = 250 * total
        frame["barge"] = np.linspace(5, 6, 8)
        for table in (frame, frame.rename(columns=lambda name: name.replace(" ", "_"))):
            read = kd.read_prices(table, instruments=["ferry"])
            self.assertEqual(read.instruments, ["ferry"])
            np.testing.assert_allclose(read.moves[:, 0], RETURNS)
            self.assertEqual(read.frame["ferry"].iloc[-1], frame["ferry"].iloc[-1])
            self.assertIn("Moves of ferry are those of 'ferry", read.read.choices[0])
        self.assertEqual(kd.read_prices(frame).instruments, ["ferry", "barge"])
        long = frame.reset_index().melt("date", var_name="instrument", value_name="price")
        np.testing.assert_allclose(kd.read_prices(long, instruments=["ferry"]).moves[:, 0], RETURNS)
        both = pd.DataFrame({"ferry": RETURNS - 0.001, "ferry total return": RETURNS}, DATES[1:])
        np.testing.assert_allclose(kd.read_prices(both, kind="returns").moves[:, 0], RETURNS)

    def test_what_comes_after_the_last_price_changes_none(self):
        frame, _total = paid_out()
        later = {DATES[2]: 1.5, "2027-02-01": 3.0}
        read = kd.read_prices(frame, dividends={"ferry": later}, keep_suspicious=True)
        self.assertEqual(read.frame["ferry"].iloc[-1], frame["ferry"].iloc[-1])
        with self.fails("split of ferry on 2027-02-01", "after the last price, of 2027-01-13"):
            kd.read_prices(frame, splits={"ferry": {"2027-02-01": "2:1"}})

    def test_prices_until_a_date_know_no_later_payment(self):
        frame, total = paid_out()
        whole = kd.read_prices(
            frame, dividends={"ferry": {DATES[2]: 1.5, DATES[5]: 0.4}}, keep_suspicious=True
        )
        listed = kd.read_prices(frame.assign(**{"ferry total return": total}), keep_suspicious=True)
        for read in (whole, listed):
            for day in (1, 3, 4, 6):
                then = read.until(DATES[day])
                with self.subTest(day=day):
                    self.assertAlmostEqual(then.frame["ferry"].iloc[-1], frame["ferry"].iloc[day])
                    np.testing.assert_allclose(then.moves, read.moves[:day])
            twice = read.until(DATES[4]).until(DATES[1])
            self.assertAlmostEqual(twice.frame["ferry"].iloc[-1], frame["ferry"].iloc[1])

    def test_mistakes(self):
        frame, _total = paid_out()
        for dividends, words in (
            ({"ferry": {"soon": 1}}, ("date of a dividend of ferry",)),
            ({"ferry": {"2027-01-06": 400}}, ("must be from 0 to below the price before it, 10",)),
            ({"ferry": {"2027-01-06": -1}}, ("must be from 0",)),
            ({"fery": {"2027-01-06": 1}}, ("did you mean 'ferry'",)),
            ({"ferry": 3}, ("dividends by date",)),
        ):
            with self.subTest(dividends=dividends), self.fails(*words):
                kd.read_prices(frame, dividends=dividends)
        for adjustment in ("splits", "dividends"):
            with self.fails("splits and dividends adjust prices"):
                kd.read_prices(
                    frame.pct_change().dropna(),
                    kind="returns",
                    **{adjustment: {"ferry": {DATES[3]: 1}}},
                )
        frame["ferry total return"] = 0.0
        with self.fails("must be above 0 beside prices of ferry"):
            kd.read_prices(frame)


class Command(Folder):
    def test_a_table_of_dividends(self):
        rng = np.random.default_rng(1)
        frame = pd.DataFrame(
            {"ferry": 100 * np.cumprod(1 + rng.normal(0, 0.01, 300))},
            pd.bdate_range("2026-01-05", periods=300, name="date"),
        )
        frame.iloc[150:] *= 0.8  # a fifth is paid out
        prices, held, paid = (self.folder / f"{name}.csv" for name in ("p", "h", "d"))
        frame.to_csv(prices)
        held.write_text("instrument,shares\nferry,10\n")
        date = f"{frame.index[150]:%Y-%m-%d}"
        paid.write_text(f"date,instrument,amount\n{date},ferry,{0.2 * frame['ferry'].iloc[149]}\n")
        words = ("risk", str(prices), "--holdings", str(held), "--methods", "normal", "--json")
        import json

        plain, adjusted = (
            json.loads(run(*words, *more).stdout)["risk"][-1]["value at risk"]
            for more in (("--keep-suspicious",), ("--dividends", str(paid)))
        )
        value = 10 * frame["ferry"].iloc[-1]
        self.assertAlmostEqual(adjusted / (2.326 * 0.01 * value), 1, delta=0.15)
        self.assertGreater(plain, 1.3 * adjusted)
        paid.write_text("date,name,amount\n2026-01-06,ferry,1\n")
        told = run(*words, "--dividends", str(paid))
        self.assertEqual((told.returncode, told.stdout), (2, ""))
        self.assertIn("no column 'instrument'", told.stderr)
