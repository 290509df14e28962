"""Twenty price files, each spoiled in one way: every command names what is wrong."""

import warnings

import numpy as np
import pandas as pd

import kindynos as kd
from tests.common import Folder, proof, run

COUNT = 400
DAYS = pd.bdate_range("2026-01-01", periods=COUNT)
GAINS = np.random.default_rng(8).standard_t(5, (COUNT, 20)) * 0.008


def clean(place):
    """Return prices without a fault."""
    return 50 * np.exp(np.cumsum(GAINS[:, place])) + place


def times(rows, factor):
    """Return what multiplies some prices."""

    def spoil(prices):
        prices[rows] *= factor

    return spoil


def set_to(rows, value):
    """Return what replaces some prices."""

    def spoil(prices):
        prices[rows] = value

    return spoil


def exchanged(prices):
    prices[200], prices[203] = 3 * prices[203], prices[200]


AFTER = slice(250, None)
COLUMNS = {  # what is done to the prices of an instrument, and the words that name it
    "times ten": (times(200, 10), "the decimal point may have slipped; held out"),
    "a tenth": (times(200, 0.1), "the decimal point may have slipped; held out"),
    "times ten for three days": (times(slice(200, 203), 10), "for 3 dates"),
    "a wrong digit": (times(200, 1.3), "stands between"),
    "another's price": (exchanged, "stands between"),
    "the first price": (times(0, 1.9), "the first price"),
    "the last price": (times(-1, 1.42), "the last price"),
    "the last price times ten": (times(-1, 10), "at the end: the decimal point"),
    "pence": (times(AFTER, 100), "perhaps pence and pounds"),
    "a split": (times(AFTER, 1 / 2), "as by a split of 2:1"),
    "three for two": (times(AFTER, 2 / 3), "as by a split of 3:2"),
    "twenty for one": (times(AFTER, 1 / 20), "as by a split of 20:1"),
    "a reverse split": (times(AFTER, 5), "as by a split of 1:5"),
    "another unit": (times(AFTER, 1.85), "times its usual move, and stays"),
    "repeated": (set_to(slice(200, 212), 55.0), "the same price, 55, on 12 dates in a row"),
    "zero": (set_to(200, 0.0), "the price 0 is not above 0"),
    "a sign": (times(200, -1), "is not above 0"),
    "missing": (set_to(200, np.nan), "no price"),
    "late": (set_to(slice(0, 30), np.nan), "listed late: no price on the 30 dates before"),
    "ends": (set_to(slice(380, None), np.nan), "no later price of ends"),
}
COMMANDS = (
    ("risk", "--methods", "historical", "--levels", "0.95"),
    ("backtest", "--window", "200"),
    ("allocate", "--minimize", "sd", "--resampled", "0", "--trials", "200"),
    ("paths", "--column", "spoiled", "--trials", "20", "--ahead", "5"),
)


class Spoiled(Folder):
    def said(self, table, command, *options):
        """Return what a command prints of prices, without line breaks."""
        table.to_csv(self.folder / "prices.csv", index=False)
        holdings = self.folder / "holdings.csv"
        names = [name for name in table.columns if name != "date"]
        holdings.write_text("instrument,shares\n" + "".join(f"{name},10\n" for name in names))
        held = [] if command == "paths" else ["--holdings", str(holdings)]
        answer = run(command, str(self.folder / "prices.csv"), *held, *options)
        return " ".join((answer.stdout + answer.stderr).split())

    def check(self, place, name, command):
        spoil, words = COLUMNS[name]
        prices = clean(place)
        spoil(prices)
        label = "ends" if name == "ends" else "spoiled"
        table = pd.DataFrame({"date": DAYS, label: prices, "other": clean(19 - place)})
        command, *options = command
        options = [label if option == "spoiled" else option for option in options]
        with self.subTest(spoiling=name, command=command):
            self.assertIn(words, self.said(table, command, *options))

    def test_each_spoiling_is_named(self):
        """On reading; and by each command in turn, of every fifth spoiling."""
        for place, (name, (spoil, words)) in enumerate(COLUMNS.items()):
            prices = clean(place)
            spoil(prices)
            table = pd.DataFrame({"date": DAYS, "ends": prices, "other": clean(19 - place)})
            with self.subTest(spoiling=name), warnings.catch_warnings():
                warnings.simplefilter("ignore", kd.DataWarning)
                read = kd.read_prices(table)
                self.assertIn(words, " ".join([*read.problems["problem"], read.stale]))
        for place, command in zip((0, 7, 14, 19), COMMANDS, strict=True):
            self.check(place, list(COLUMNS)[place], command)

    @proof
    def test_each_spoiling_is_named_by_every_command(self):
        for place, name in enumerate(COLUMNS):
            for command in COMMANDS:
                self.check(place, name, command)
