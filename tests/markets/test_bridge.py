"""What moved value at risk between two dates, against direct computation."""

import json
import unittest
from itertools import permutations

import numpy as np
import pandas as pd
from scipy import stats

import kindynos as kd
from tests.common import DEMO, Case, Folder, run

PRICES = kd.read_prices(DEMO / "treasury_prices.csv")
HELD = pd.read_csv(DEMO / "treasury_holdings.csv").set_index("instrument")["shares"].to_dict()
DATE = "2027-11-26"


def at(date, shares):
    """A portfolio as it was on a date."""
    return kd.Portfolio(PRICES.until(date), shares=shares)


class Parts(Case):
    def test_the_ends_are_the_historical_figures_and_the_parts_add_up(self):
        old = at(DATE, {**HELD, "shipyard": 14_000, "wind_farm": 25_000})
        new = kd.Portfolio(PRICES, shares=HELD)
        found = new.bridge(old, 0.95, 200, method="historical")
        for portfolio, end in ((old, found.before), (new, found.after)):
            direct = portfolio.value_at_risk(0.95, method="historical", window=200)
            self.assertAlmostEqual(float(end), float(direct), places=6)
        total = sum(float(part) for part in found.parts.values())
        self.assertAlmostEqual(total, float(found.after) - float(found.before), places=6)
        self.assertEqual(
            set(found.parts),
            {"shipyard", "wind_farm", "prices", "volatilities", "the rest of the history"},
        )

    def test_the_figure_is_that_of_any_method_window_and_horizon(self):
        old = at(DATE, {**HELD, "shipyard": 14_000})
        new = kd.Portfolio(PRICES, shares=HELD)
        for method, window, horizon in (
            ("filtered", None, 1),
            ("tail", 500, 1),
            ("student", None, 10),
            ("historical", 300, 10),
        ):
            with self.subTest(method=method):
                found = new.bridge(old, 0.99, window, method=method, horizon=horizon)
                for portfolio, end in ((old, found.before), (new, found.after)):
                    direct = portfolio.value_at_risk(
                        0.99, method=method, window=window, horizon=horizon
                    )
                    self.assertAlmostEqual(float(end) / float(direct), 1, places=9)
                total = sum(float(part) for part in found.parts.values())
                self.assertAlmostEqual(total, float(found.after) - float(found.before), places=5)
                self.assertIn(f"by the method {method!r}", found.basis)
                self.assertGreater(found.error, 0)
        chosen = new.bridge(old, 0.99, 500)
        self.assertIn(repr(new.supported_method(0.99).method), chosen.basis)
        with self.fails("'simulated' has no figure of an earlier date"):
            new.bridge(old, method="simulated")
        for wrong in (1e-320, [[1, 2]], np.empty((0, 3)), "historic"):
            with self.subTest(wrong=wrong), self.fails("method"):
                new.bridge(old, method=wrong)

    def test_of_one_holding_it_is_a_product_of_four_factors(self):
        """Number, price, standard deviation, and the quantile in standard deviations."""
        old = at(DATE, {"ferry": 100.0} if "ferry" in HELD else {"shipyard": 100.0})
        name = old.instruments[0]
        new = kd.Portfolio(PRICES, shares={name: 160.0})
        found = new.bridge(old, 0.99, 250, method="historical")
        factors = []
        for portfolio in (old, new):
            prices = portfolio.prices.frame[name].to_numpy()[-251:]
            returns = prices[1:] / prices[:-1] - 1
            sd = returns.std()
            quantile = float(np.quantile(-returns, 0.99, method="weibull")) / sd
            factors.append((float(portfolio.shares[name]), prices[-1], sd, quantile))
        names = [name, "prices", "volatilities", "the rest of the history"]
        expected = dict.fromkeys(names, 0.0)
        for order in permutations(range(4)):
            made = list(factors[0])
            for place in order:
                before = np.prod(made)
                made[place] = factors[1][place]
                expected[names[place]] += (np.prod(made) - before) / 24
        for key, value in expected.items():
            self.assertAlmostEqual(float(found.parts[key]), value, places=6)

    def test_a_holding_that_is_new_or_gone_and_many_small_ones(self):
        old = at(DATE, {"shipyard": 100.0})
        new = kd.Portfolio(PRICES, shares={"wind_farm": 100.0})
        self.assertLessEqual({"shipyard", "wind_farm"}, set(new.bridge(old, method="normal").parts))

    def test_errors_are_those_of_a_quantile(self):
        """Of n normal returns, sqrt(p (1 - p) / n) / density at the quantile (Cramér, 1946); a day
        later and twice as many held, both ends and the holding's part are multiples of it.
        """
        sd, count, level = 0.01, 2000, 0.95
        moves = np.random.default_rng(5).normal(0, sd, count + 1)
        prices = pd.DataFrame(
            {"ferry": 100 * np.cumprod(np.r_[1, 1 + moves])},
            pd.bdate_range("2015-01-01", periods=count + 2),
        )
        whole = kd.read_prices(prices)
        old = kd.Portfolio(kd.read_prices(prices[:-1]), shares={"ferry": 10.0})
        found = kd.Portfolio(whole, shares={"ferry": 20.0}).bridge(
            old, level, count, method="historical"
        )
        density = stats.norm.pdf(stats.norm.ppf(level))
        of_one = prices["ferry"].iloc[-1] * sd * np.sqrt(level * (1 - level) / count) / density
        for figure, held in ((found.before, 10), (found.after, 20), (found.parts["ferry"], 10)):
            with self.subTest(held=held):
                due = 1.96 * held * of_one
                self.assertAlmostEqual(figure.error / due, 1, delta=0.3)

    def test_bad_input(self):
        new = kd.Portfolio(PRICES, shares=HELD)
        with self.fails("ends on the date of the later one"):
            new.bridge(new)
        with self.fails("window 250 asks for more returns than the"):
            new.bridge(at("2024-12-30", HELD), window=250)
        with self.fails("bridge: earlier must be a Portfolio"):
            new.bridge("old")
        with self.fails("lies before the prices"):
            PRICES.until("1999-01-01")


class Command(Folder):
    def test_of_two_tables_of_holdings(self):
        old = self.folder / "old.csv"
        rows = "\n".join(
            f"{name},{25_000 if name == 'wind_farm' else n}" for name, n in HELD.items()
        )
        old.write_text(f"instrument,shares\n{rows}\n")
        files = (old, DEMO / "treasury_holdings.csv", "--prices", DEMO / "treasury_prices.csv")
        shown = run("bridge", *map(str, files), "--before", DATE).stdout
        self.assertIn("The value at risk at 99 % of the holdings fell from", shown)
        self.assertIn("From 2027-11-26 to 2027-12-27", shown)
        paid = self.folder / "paid.csv"
        paid.write_text("date,instrument,amount\n2027-12-10,wind_farm,2.5\n")
        options = ("--before", DATE, "--dividends", paid, "--seed", 1, "--json")
        with_paid = json.loads(run("bridge", *files, *options).stdout)
        dividends = {"wind_farm": {"2027-12-10": 2.5}}
        prices = kd.read_prices(DEMO / "treasury_prices.csv", dividends=dividends)
        sold = HELD | {"wind_farm": 25_000}
        earlier = kd.Portfolio(prices.until(DATE), shares=sold)
        bridged = kd.Portfolio(prices, shares=HELD).bridge(earlier, seed=1)
        for end, side in (("before", bridged.before), ("after", bridged.after)):
            self.assertAlmostEqual(with_paid[end]["value"] / float(side), 1.0)
        plain = kd.Portfolio(PRICES, shares=HELD).bridge(at(DATE, sold), seed=1)
        self.assertAlmostEqual(float(bridged.before) / float(plain.before), 1)  # not paid then
        self.assertNotEqual(float(bridged.after), float(plain.after))
        told = run("bridge", *map(str, files))
        self.assertEqual(told.returncode, 2)
        self.assertIn("needs --before DATE too", told.stderr)


if __name__ == "__main__":
    unittest.main()
