"""Positions valued one by one: closed forms, published values, and every table by position."""

import math
import pickle

import numpy as np
import pandas as pd
from scipy.optimize import brentq
from scipy.stats import norm

import kindynos as kd
from kindynos.cli.risk import read_portfolio
from kindynos.markets.methods import METHODS
from tests.common import PRICES, Case, Folder

TODAY = float(PRICES.frame["alpha"].iloc[-1])
VOLATILITY = 0.2
DAY = 365 / 252  # of the calendar, in a day of trading


def option(price, days, strike=TODAY, put=False):
    """Return what a European option is worth at no rate of interest (Black and Scholes 1973)."""
    time = (90 - days) / 365
    reach = VOLATILITY * np.sqrt(time)
    first = np.log(price / strike) / reach + reach / 2
    call = price * norm.cdf(first) - strike * norm.cdf(first - reach)
    return call - price + strike if put else call


def straddle(prices, days=None):
    """Return what 100 short straddles are worth."""
    alpha, passed = prices["alpha"], prices.days if days is None else days
    return -100 * (option(alpha, passed) + option(alpha, passed, put=True))


SHORT = kd.Portfolio(PRICES, positions={"straddle": straddle})


class Functions(Case):
    def test_shocks_go_through_the_function(self):
        table = SHORT.stress({"alpha": -0.2})
        lost = straddle({"alpha": np.array([0.8 * TODAY])}, 0)[0] - SHORT.value
        self.assertAlmostEqual(table.attrs["profit"], lost)
        self.assertAlmostEqual(table.loc["straddle", "profit"], lost)
        self.assertLess(lost, -400)
        self.assertEqual(table.attrs["moves"].loc["alpha", "return"], -0.2)
        first, last = PRICES.dates[10], PRICES.dates[20]
        again = SHORT.replay(first, last)
        ratio = PRICES.frame["alpha"].iloc[20] / PRICES.frame["alpha"].iloc[10]
        ended = straddle({"alpha": np.array([TODAY * ratio])}, (last - first).days)[0]
        self.assertAlmostEqual(again.attrs["profit"], ended - SHORT.value)

    def test_time_passes(self):
        logs = np.log1p(PRICES.frame["alpha"].pct_change().to_numpy()[1:])
        generator = np.random.default_rng(1)
        for horizon in (1, 10):
            sums = generator.choice(logs, (horizon, 100_000)).sum(axis=0) if horizon > 1 else logs
            ended = straddle({"alpha": TODAY * np.exp(sums)}, horizon * DAY)
            figure = SHORT.value_at_risk(0.95, horizon=horizon)
            exact = np.quantile(SHORT.value - ended, 0.95)
            self.assertAlmostEqual(float(figure) / exact, 1, delta=0.03)
            self.assertGreater(float(figure), 0)
        self.assertIn("10 days drawn from them together", figure.description)
        long = kd.Portfolio(PRICES, positions={"long": lambda prices: -straddle(prices)})
        calm = kd.Portfolio(PRICES, positions={"calm": lambda prices: -straddle(prices, 0)})
        self.assertGreater(long.value_at_risk(0.95), calm.value_at_risk(0.95))  # it wears off
        drawn = SHORT.value_at_risk(0.95, "simulated", horizon=10, trials=4000)
        self.assertAlmostEqual(float(drawn) / float(figure), 1, delta=0.25)
        ends = SHORT.paths(10, 500, seed=1)
        self.assertAlmostEqual(ends[0, 0], SHORT.value)
        self.assertGreater(np.median(ends[-1]), SHORT.value)  # who sold it earns by waiting
        monthly = kd.Portfolio(
            PRICES, positions={"time": lambda prices: prices["alpha"] * 0 - prices.days}
        )
        self.assertAlmostEqual(float(monthly.value_at_risk(0.9, every="month")), 365 / 12)

    def test_values_through_time(self):
        self.assertAlmostEqual(SHORT.history()["value"].item(), SHORT.value)
        before = kd.Portfolio(PRICES, positions={"a": straddle}, as_of=PRICES.dates[-6]).history()
        back = -(PRICES.dates[-1] - PRICES.dates[-6]).days
        past = straddle({"alpha": PRICES.frame["alpha"].to_numpy()[-6:-5]}, back)[0]
        self.assertAlmostEqual(before["value"].iloc[0], past)
        self.assertAlmostEqual(before["value"].iloc[-1], SHORT.value)

    def test_mistakes(self):
        with self.fails("no weights to choose"):
            kd.allocate(SHORT, minimize="sd")
        with self.fails("position 'a' must have one finite value for each of 1 cases"):
            kd.Portfolio(PRICES, positions={"a": lambda prices: 1.0}).value_at_risk(0.95)
        for options in ({"value": 3.0}, {"rebalance": "daily"}):
            with self.fails("go with weights="):
                kd.Portfolio(PRICES, positions={"a": straddle}, **options)
        with self.fails("the currency USD needs one column", "say the unit"):
            kd.Portfolio(MARKET, positions={"cash": kd.Position("cash", 5, currency="USD")})
        with self.fails("needs a column 'SS'", "did you mean 'S'"):
            kd.Portfolio(MARKET, positions={"t": kd.Position("share", underlying="SS")})
        with self.fails("a function has no terms, and strike is given"):
            kd.Position(straddle, 1, strike=3)
        for given in ({}, [straddle], {"a": 5}):
            with self.fails("position"):
                kd.Portfolio(PRICES, positions=given)


RNG = np.random.default_rng(11)
STEPS = RNG.normal(0, 1, (520, 6)) * [0.012, 0.006, 6e-4, 3e-4, 0.004, 0.015]
COLUMNS = pd.DataFrame(
    {
        "date": pd.bdate_range("2025-01-01", periods=520),
        "S": 50 * np.exp(np.cumsum(STEPS[:, 0])),
        "EURUSD": 1.1 * np.exp(np.cumsum(STEPS[:, 1])),
        "Y5": 0.04 + np.cumsum(STEPS[:, 2]) / 5,
        "R": 0.03 + np.cumsum(STEPS[:, 3]) / 3,
        "VOL": np.maximum(0.25 + np.cumsum(STEPS[:, 4]), 0.08),
        "OIL": 80 * np.exp(np.cumsum(STEPS[:, 5])),
    }
)
MARKET = kd.read_prices(
    COLUMNS, changes=dict.fromkeys(("Y5", "R", "VOL"), "absolute"), keep_suspicious=True
)
LAST = MARKET.dates[-1]
ROW = COLUMNS.iloc[-1]
BOOK = {
    "shares": kd.Position("share", 1000, underlying="S"),
    "cash": kd.Position("cash", 20_000, currency="USD"),
    "oil": kd.Position(
        "forward", -500, underlying="OIL", strike=80, expiry="2027-09-30", rate="R", currency="USD"
    ),
    "call": kd.Position(
        "call", -2000, underlying="S", strike=55, expiry="2027-06-30", volatility="VOL", rate="R"
    ),
    "put": kd.Position(
        "put", 1000, underlying="S", strike=45, expiry="2027-12-30", volatility=0.22, rate="R"
    ),
    "bond": kd.Position(
        "bond", 100_000, coupon=0.04, times=1, maturity="2031-06-30", **{"yield": "Y5"}
    ),
    "swap": kd.Position("swap", -200_000, fixed=0.03, maturity="2030-12-31", rate="R"),
}
HOLDS = kd.Portfolio(MARKET, positions=BOOK, unit="EUR")


def worth(kind, on=LAST, **terms):
    """Return what one of a kind is worth by its number of 1 (100 of a nominal) on a date."""
    scale = 100 if kind in ("bond", "swap") else 1
    prices = MARKET if on == LAST else MARKET.until(on)
    position = kd.Position(kind, scale, **terms)
    return kd.Portfolio(prices, positions={"one": position}).value


class ClosedForms(Case):
    def test_options_and_forwards(self):
        for _ in range(60):
            spot = float(np.exp(RNG.normal(4, 1)))
            strike, rate, carried = (
                spot * float(np.exp(RNG.normal(0, 0.4))),
                *RNG.uniform(0, 0.1, 2),
            )
            sd, days = float(RNG.uniform(0.03, 0.9)), int(RNG.integers(1, 3000))
            years, expiry = days / 365, LAST + pd.Timedelta(days=days)
            ahead = spot * math.exp((rate - carried) * years)
            first = (math.log(ahead / strike) + sd**2 * years / 2) / (sd * math.sqrt(years))
            second = first - sd * math.sqrt(years)
            call = math.exp(-rate * years) * (ahead * norm.cdf(first) - strike * norm.cdf(second))
            agreed = math.exp(-rate * years) * (ahead - strike)
            terms = {"underlying": spot, "strike": strike, "expiry": expiry, "rate": rate}
            terms["yield"] = carried
            of_options = {**terms, "volatility": sd}
            self.assertAlmostEqual(worth("call", **of_options) / spot, call / spot, 12)
            self.assertAlmostEqual(worth("put", **of_options) / spot, (call - agreed) / spot, 12)
            self.assertAlmostEqual(worth("forward", **terms) / spot, agreed / spot, 12)

    def test_published_values(self):
        # Hull, Options, Futures, and Other Derivatives: at half a year (183 days), 2 and 4 months
        cases = (
            ("call", 42, 40, 0.1, 0.0, 0.2, 183, 4.76),
            ("put", 42, 40, 0.1, 0.0, 0.2, 183, 0.81),
            ("call", 930, 900, 0.08, 0.03, 0.2, 61, 51.83),
            ("put", 20, 20, 0.09, 0.09, 0.25, 122, 1.12),
        )
        for kind, spot, strike, rate, carried, sd, days, value in cases:
            expiry = LAST + pd.Timedelta(days=days)
            terms = {"underlying": spot, "strike": strike, "rate": rate, "yield": carried}
            found = worth(kind, expiry=expiry, volatility=sd, **terms)
            self.assertAlmostEqual(found / value, 1, delta=0.003)
        three = worth(
            "bond",
            on=pd.Timestamp("2026-06-30"),
            coupon=0.1,
            maturity="2029-06-30",
            compounding="continuous",
            **{"yield": 0.12},
        )
        self.assertAlmostEqual(three, 94.213, delta=0.04)
        received = worth(
            "swap",
            on=pd.Timestamp("2026-06-30"),
            fixed=0.08,
            maturity="2027-09-30",
            rate="0.10@0.25 0.105@0.75 0.11@1.25",
            fixing=0.102,
        )
        self.assertAlmostEqual(received, -4.267, delta=0.06)

    def test_a_bond_has_the_price_of_its_payments(self):
        on = pd.Timestamp("2026-06-30")
        self.assertAlmostEqual(
            worth("bond", on=on, coupon=0.06, maturity="2036-06-30", **{"yield": 0.06}), 100, 10
        )
        for times, months in ((1, 12), (2, 6), (4, 3), (12, 1)):
            maturity = pd.Timestamp("2031-03-17")
            days = [maturity - pd.DateOffset(months=months * k) for k in range(70)]
            last = next(day for day in days if day <= LAST)
            ahead = sorted(day for day in days if day > LAST)
            share = (ahead[0] - LAST).days / (ahead[0] - last).days
            price = sum(
                (100 * 0.05 / times + 100 * (day == maturity)) / (1 + 0.03 / times) ** (share + k)
                for k, day in enumerate(ahead)
            )
            terms = {"coupon": 0.05, "maturity": maturity, "times": times, "yield": 0.03}
            self.assertAlmostEqual(worth("bond", **terms), price, 10)

    def test_a_swap_at_its_own_rate_is_worth_nothing(self):
        on = pd.Timestamp("2026-06-30")
        terms = {"on": on, "maturity": "2031-06-30", "rate": 0.04}
        fair = brentq(lambda fixed: worth("swap", fixed=fixed, **terms), 0.01, 0.1)
        ends = [on + pd.DateOffset(months=6 * k) for k in range(1, 11)]
        discounts = [math.exp(-0.04 * (end - on).days / 365) for end in ends]
        self.assertAlmostEqual(fair, 2 * (1 - discounts[-1]) / sum(discounts), 10)

    def test_what_is_paid_within_the_horizon_is_kept(self):
        paid = LAST + pd.Timedelta(days=10)
        near = {"coupon": 0.06, "maturity": paid + pd.DateOffset(years=2), "yield": 0.06}
        held = kd.Portfolio(MARKET, positions={"bond": kd.Position("bond", 100, **near)})
        calm = held.book.profits(np.zeros((len(held.instruments), 1)), 20.0)[0, 0]
        self.assertAlmostEqual(calm / (100 * 0.06 * 20 / 365), 1, delta=0.1)
        ended = kd.Position("bond", 100, coupon=0.06, maturity=paid, **{"yield": 0.06})
        own = kd.Portfolio(MARKET, positions={"bond": ended}).book
        for days in (10.0, 20.0):
            self.assertAlmostEqual(own.worth(own.today[:, None], days)[0, 0], 103)
        gone = own.at(own.today, own.date + 20)
        self.assertEqual(gone.worth(own.today[:, None])[0, 0], 0)

    def test_what_a_swap_pays_within_the_horizon(self):
        paid, rate = LAST + pd.Timedelta(days=10), 0.03
        maturity = paid + pd.DateOffset(months=6)
        terms = {"fixed": 0.05, "fixing": 0.04, "maturity": maturity, "rate": rate}
        own = kd.Portfolio(MARKET, positions={"swap": kd.Position("swap", 100, **terms)}).book
        start, end = (own.worth(own.today[:, None], days)[0, 0] for days in (0.0, 10.0))
        first, last = (math.exp(-rate * (day - LAST).days / 365) for day in (paid, maturity))
        self.assertAlmostEqual(start, 2.5 * first + 102.5 * last - 102 * first, 9)
        left = math.exp(-rate * (maturity - paid).days / 365)
        self.assertAlmostEqual(end, 2.5 + 102.5 * left - 102, 9)
        over = own.at(own.today, own.date + 400)
        self.assertEqual(over.worth(own.today[:, None])[0, 0], 0)

    def test_an_option_that_expires_takes_its_payoff(self):
        soon = LAST + pd.Timedelta(days=5)
        own = kd.Position(
            "put", 1, underlying="S", strike=round(ROW.S, 2), expiry=soon, volatility=0.3
        )
        held = kd.Portfolio(MARKET, positions={"put": own})
        fallen = held.stress({"S": -0.1})["profit"].sum()
        self.assertGreater(fallen, 0)
        book = held.book
        self.assertAlmostEqual(
            book.worth(book.today[:, None] * 0.9, 30.0)[0, 0], round(ROW.S, 2) - 0.9 * ROW.S
        )
        with self.fails("put expired on 2026-01-05, before 2026-12-29"):
            gone = kd.Position("put", underlying="S", strike=6, expiry="2026-01-05", volatility=0.3)
            kd.Portfolio(MARKET, positions={"put": gone})


class Tables(Case):
    def test_values_and_currencies(self):
        values = HOLDS.values
        self.assertAlmostEqual(values["shares"], 1000 * ROW.S)
        self.assertAlmostEqual(values["cash"], 20_000 / ROW.EURUSD)
        risen = HOLDS.stress({"EURUSD": 0.1})
        self.assertAlmostEqual(risen.loc["cash", "profit"], values["cash"] * (1 / 1.1 - 1))
        self.assertEqual(HOLDS.prices.changes, dict.fromkeys(("Y5", "R", "VOL"), "absolute"))
        self.assertEqual(HOLDS.base, (values.abs().sum(), "gross exposure"))

    def test_contributions_add_up_by_every_method(self):
        for method in METHODS:
            for measure in ("value_at_risk", "expected_shortfall"):
                options = {"trials": 2000} if method == "simulated" else {}
                parts = HOLDS.contributions(0.95, measure, method=method, **options)
                total = parts.attrs["total"]
                self.assertEqual(list(parts.index), list(BOOK))
                self.assertAlmostEqual(parts["component"].sum() / total, 1, 9, msg=method)
        parts = HOLDS.contributions(0.95)
        for name in ("put", "bond"):
            others = {key: one for key, one in BOOK.items() if key != name}
            alone = kd.Portfolio(MARKET, positions=others, unit="EUR").value_at_risk(0.95)
            lost = parts.attrs["total"] - float(alone)
            self.assertAlmostEqual(parts.loc[name, "incremental"], lost, 6)

    def test_shares_alone_are_those_of_a_plain_portfolio(self):
        own = {name: kd.Position("share", 10, underlying=name) for name in ("S", "OIL")}
        by_position = kd.Portfolio(MARKET, positions=own)
        plain = kd.Portfolio(MARKET, shares={"S": 10, "OIL": 10})
        for method in ("historical", "normal", "student", "filtered", "tail"):
            pair = [held.contributions(0.99, method=method) for held in (by_position, plain)]
            self.assertAlmostEqual(pair[0].attrs["total"], pair[1].attrs["total"], 6)
            np.testing.assert_allclose(pair[0]["component"], pair[1]["component"], rtol=1e-4)
        changes = [held.what_if({"S": 5}) for held in (by_position, plain)]
        np.testing.assert_allclose(changes[0], changes[1])

    def test_it_travels(self):
        figure = HOLDS.value_at_risk(0.95, "tail")
        again = pickle.loads(pickle.dumps(HOLDS))
        self.assertEqual(again.value_at_risk(0.95, "tail"), figure)
        self.assertEqual(again.sensitivities().to_string(), HOLDS.sensitivities().to_string())

    def test_sensitivities(self):
        table = HOLDS.sensitivities()
        years = (pd.Timestamp("2027-06-30") - LAST).days / 365
        first = (math.log(ROW.S / 55) + (ROW.R + ROW.VOL**2 / 2) * years) / (
            ROW.VOL * math.sqrt(years)
        )
        of_price = table.loc[("call", "underlying")]
        self.assertAlmostEqual(of_price["slope"] / (-2000 * norm.cdf(first)), 1, 7)
        gamma = norm.pdf(first) / (ROW.S * ROW.VOL * math.sqrt(years))
        self.assertAlmostEqual(of_price["curvature"] / (-2000 * gamma), 1, 4)
        self.assertAlmostEqual(of_price["money"], of_price["slope"] * ROW.S / 100)
        vega = -2000 * ROW.S * norm.pdf(first) * math.sqrt(years)
        self.assertAlmostEqual(table.loc[("call", "volatility"), "slope"] / vega, 1, 6)
        self.assertAlmostEqual(table.loc[("call", "volatility"), "money"] / vega, 0.01, 8)
        of_a_day = [HOLDS.book.worth(HOLDS.book.today[:, None], day)[3, 0] for day in (-0.5, 0.5)]
        self.assertAlmostEqual(table.loc[("call", "time"), "money"] / np.diff(of_a_day)[0], 1, 3)
        bond = table.loc[("bond", "yield")]
        moved = HOLDS.stress({"Y5": 1e-4, **dict.fromkeys(("S", "EURUSD", "R", "VOL", "OIL"), 0)})
        self.assertAlmostEqual(bond["money"] / moved.loc["bond", "profit"], 1, 3)
        self.assertAlmostEqual(bond["duration"], -bond["slope"] / HOLDS.values["bond"])
        calm = {**dict.fromkeys(("S", "EURUSD", "R", "VOL", "OIL"), 0)}
        ends = [HOLDS.stress({"Y5": move, **calm}).loc["bond", "profit"] for move in (-0.01, 0.01)]
        exact = sum(ends) / 0.01**2 / HOLDS.values["bond"]
        self.assertAlmostEqual(bond["convexity"] / exact, 1, 2)
        calm = kd.Portfolio(MARKET, shares={"S": 1})
        with self.fails("no terms"):
            calm.sensitivities()

    def test_a_model_of_the_book(self):
        run = HOLDS.simulate(5, 4000, seed=1)
        self.assertIn("VOL", run.sensitivity("profit").index)
        drawn = HOLDS.value_at_risk(0.95, "simulated", horizon=5, trials=4000)
        self.assertAlmostEqual(run["profit"].value_at_risk(0.95) / float(drawn), 1, delta=0.15)
        self.assertTrue((run["max_drawdown"].values >= 0).all())
        self.assertIn("history error", run.table())
        plain = kd.Portfolio(MARKET, positions={"S": kd.Position("share", 10, underlying="S")})
        same = kd.Portfolio(MARKET, shares={"S": 10})
        pair = [held.simulate(5, 500, seed=3)["profit"].values for held in (plain, same)]
        np.testing.assert_allclose(*pair)

    def test_a_bridge_by_position(self):
        before = {**BOOK, "put": BOOK["put"].of(400)}
        call = {"underlying": "S", "expiry": "2027-06-30", "volatility": "VOL", "rate": "R"}
        before["call"] = kd.Position("call", -2000, strike=65, **call)
        earlier = kd.Portfolio(MARKET.until("2026-11-02"), positions=before, unit="EUR")
        bridge = HOLDS.bridge(earlier, level=0.95, window=200, method="historical")
        self.assertEqual(
            list(bridge.parts)[-3:], ["prices", "volatilities", "the rest of the history"]
        )
        self.assertLessEqual({"put", "call", "call, before"}, set(bridge.parts))
        total = sum(map(float, bridge.parts.values()))
        self.assertAlmostEqual(total, float(bridge.after) - float(bridge.before), 6)
        for held, figure in ((HOLDS, bridge.after), (earlier, bridge.before)):
            self.assertAlmostEqual(float(figure), float(held.value_at_risk(0.95, window=200)), 6)
        with self.fails("compared with positions"):
            HOLDS.bridge(kd.Portfolio(MARKET.until("2026-11-02"), shares={"S": 1}))


HEADER = "name,kind,number,side,multiplier,underlying,strike,expiry,volatility,rate,coupon"
ROWS = f"""{HEADER},maturity,yield,note
S,,1000,,,,,,,,,,,
,call,20,short,100,S,55,2027-06-30,25 %,R,,,,x
bond,bond,100000,,,,,,,,4 %,2031-06-30,Y5,
bond,bond,50000,,,,,,,,4 %,2031-06-30,Y5,
"""


class Files(Folder):
    def test_rows(self):
        folder = self.folder
        COLUMNS.to_csv(folder / "prices.csv", index=False)
        (folder / "book.csv").write_text(ROWS)
        held = read_portfolio(folder / "prices.csv", folder / "book.csv", None, "drop")
        self.assertEqual(held.shares.tolist(), [1000, -2000, 150_000])
        self.assertEqual(held.book.names[1], "call S 55 2027-06-30")
        self.assertEqual(held.prices.changes, dict.fromkeys(("R", "Y5"), "absolute"))
        self.assertIn("note", " ".join(held.prices.read.choices))
        for old, new, words in (
            (",call,20", ",kall,20", ("row 3", "did you mean 'call'")),
            ("2027-06-30,25 %", "2027-06-30,", ("row 3", "a call needs volatility")),
            ("2027-06-30", "soon", ("row 3", "expiry")),
            ("100,S,55", "100,SS,55", ("did you mean 'S'",)),
            ("20,short", "20,shrt", ("row 3", "long or short")),
            ("bond,bond,50000,,,,,,,,4 %", "bond,bond,50000,,,,,,,,5 %", ("row 5", "other terms")),
            ("bond,50000", "bond,many", ("row 5", "number 'many' is not a number")),
            ("20,short,100", "20,short,-1", ("row 3", "multiplier")),
            ("4 %,2031-06-30", "4 %,", ("row 4", "a bond needs maturity")),
            ("S,55,2027", "S,-55,2027", ("row 3", "strike", "above 0")),
        ):
            (folder / "book.csv").write_text(ROWS.replace(old, new, 1))
            with self.subTest(new=new), self.fails(*words):
                read_portfolio(folder / "prices.csv", folder / "book.csv", None, "drop")

    def test_terms(self):
        share = {"underlying": "S"}
        for kind, terms, words in (
            ("call", share, ("a call needs strike, expiry, volatility",)),
            ("share", {**share, "strik": 3}, ("a share has no strik",)),
            ("bond", {"coupon": 0.1, "maturity": "2030-01-01", "yield": 1, "times": 3}, ("times",)),
            ("swap", {"fixed": 0.1, "maturity": "2030-01-01", "rate": "R@x R2"}, ("not a curve",)),
            ("future", share, ("no kind of position 'future'",)),
            ("cash", {"number": math.nan}, ("number", "finite")),
        ):
            with self.subTest(kind=kind, terms=terms), self.fails(*words):
                kd.Position(kind, **terms)


DAYS = pd.bdate_range("2024-01-01", periods=500).strftime("%Y-%m-%d")
YIELDS = 0.004 * np.sin(np.arange(500) / 40) + np.cumsum(
    np.random.default_rng(5).normal(0, 0.0004, 500)
)
RATES = pd.DataFrame(
    {"date": DAYS, "y10": YIELDS, "share": 50 * np.exp(np.cumsum(YIELDS - YIELDS.mean()))}
)


class Differences(Case):
    def test_rates_keep_their_days(self):
        self.assertLess(YIELDS.min(), 0)
        with self.assertWarnsRegex(kd.DataWarning, "changes are taken as differences"):
            found = kd.read_prices(RATES)
        stated = kd.read_prices(RATES, changes={"y10": "absolute"})
        for read in (found, stated):
            self.assertEqual((len(read.frame), read.changes), (500, {"y10": "absolute"}))
            self.assertNotIn("not above 0", read.problems["kind"].tolist())
        moves = kd.markets.returns(stated)
        np.testing.assert_allclose(moves.frame["y10"], np.diff(YIELDS))
        np.testing.assert_allclose(
            kd.markets.returns(stated, "log").frame["share"], np.diff(np.log(RATES["share"]))
        )
        with self.assertWarns(kd.DataWarning):
            taken = kd.read_prices(RATES, changes={"y10": "relative"})
        self.assertLess(len(taken.frame), 500)
        with self.fails("'absolut'", "must be one of"):
            kd.read_prices(RATES, changes={"y10": "absolut"})
        with self.fails("did you mean 'y10'"):
            kd.read_prices(RATES, changes={"y1": "absolute"})

    def test_a_value_near_0_is_proposed(self):
        near = RATES.assign(y10=np.abs(YIELDS) + 1e-6)
        with self.assertWarnsRegex(kd.DataWarning, r"comes near 0 .*changes={'y10': 'absolute'}"):
            read = kd.read_prices(near)
        self.assertEqual(read.changes, {})

    def test_figures_of_risk(self):
        read = kd.read_prices(RATES, changes={"y10": "absolute"})
        bond = kd.Portfolio(
            read, positions={"bond": lambda prices: 1e6 * np.exp(-8 * prices["y10"])}
        )
        worth = 1e6 * np.exp(-8 * (YIELDS[-1] + np.diff(YIELDS)))
        losses = bond.value - worth
        np.testing.assert_allclose(bond.losses()["loss"], losses)
        shocked = bond.stress({"y10": 0.01})
        gained = 1e6 * (np.exp(-8 * (YIELDS[-1] + 0.01)) - np.exp(-8 * YIELDS[-1]))
        self.assertAlmostEqual(shocked.attrs["profit"], gained)
        drawn = bond.value_at_risk(0.99, "simulated", trials=5000)
        self.assertAlmostEqual(float(drawn) / np.quantile(losses, 0.99), 1, delta=0.2)

        # Futures on such a value are held in numbers: a difference times the number.
        held = kd.Portfolio(read, shares={"y10": -1000, "share": 2}, short=True)
        own = (
            -1000 * np.diff(YIELDS)
            + 2 * RATES["share"].iloc[-1] * (RATES["share"].pct_change().to_numpy()[1:])
        )
        np.testing.assert_allclose(held.losses()["loss"], -own)
        parts = held.contributions(0.95)
        self.assertAlmostEqual(parts["component"].sum(), parts.attrs["total"])
        over = held.exposure().over(5)
        np.testing.assert_allclose(over.returns[:, 0], YIELDS[5:] - YIELDS[:-5])
        for process in ("bootstrap returns", "geometric brownian motion"):
            ahead = held.paths(1, 20_000, 1, process=process)
            self.assertAlmostEqual((ahead[1] - held.value).std() / own.std(), 1, delta=0.05)
        drawn = held.simulate(1, 2000, seed=1)["profit"]
        self.assertAlmostEqual(drawn.sd / own.std(), 1, delta=0.1)

    def test_stated_on_the_portfolio(self):
        with self.assertWarns(kd.DataWarning):
            near = kd.read_prices(RATES.assign(y10=np.abs(YIELDS) + 1e-6))
        held = kd.Portfolio(near, shares={"y10": 10}, changes={"y10": "absolute"})
        self.assertEqual(held.prices.changes, {"y10": "absolute"})
        self.assertAlmostEqual(held.losses()["loss"].iloc[0], -10 * np.diff(np.abs(YIELDS))[0])


class ShortBooks(Case):
    def setUp(self):
        frame = PRICES.frame.reset_index()
        frame["twin"] = frame["alpha"] * 2
        self.prices = kd.read_prices(frame)

    def test_figures_are_of_the_gross_exposure(self):
        short = kd.Portfolio(self.prices, shares={"alpha": -10}, short=True)
        self.assertEqual(
            (short.gross, short.base), (-short.value, (-short.value, "gross exposure"))
        )
        beside = short.against("alpha")
        self.assertAlmostEqual(beside["beta"], -1)
        self.assertEqual(beside.attrs["base"], "gross exposure")
        figure = short.value_at_risk(0.99)
        self.assertAlmostEqual(figure.fraction, float(figure) / short.gross)
        self.assertGreater(figure.fraction, 0)

    def test_a_book_that_costs_nothing(self):
        book = kd.Portfolio(self.prices, shares={"alpha": 2, "twin": -1}, short=True)
        self.assertAlmostEqual(book.value, 0)
        self.assertAlmostEqual(float(book.value_at_risk(0.99)), 0)
        hedged = kd.Portfolio(
            self.prices,
            shares={
                "alpha": 10,
                "beta": -book.prices.frame["alpha"].iloc[-1]
                * 10
                / self.prices.frame["beta"].iloc[-1],
            },
            short=True,
        )
        self.assertAlmostEqual(hedged.value, 0)
        gains = -hedged.losses()["loss"].to_numpy() / hedged.gross
        alpha = self.prices.frame["alpha"].pct_change().to_numpy()[1:]
        slope = np.cov(gains, alpha)[0, 1] / alpha.var(ddof=1)
        self.assertAlmostEqual(float(hedged.against("alpha")["beta"]), slope)
        table = hedged.risk_table([0.99], ["historical", "normal"])
        self.assertTrue(np.isfinite(table["value at risk %"]).all())


class Replays(Case):
    def test_the_last_price_at_or_before_each_end_counts(self):
        frame = PRICES.frame.reset_index()
        frame.loc[20, "beta"] = np.nan
        held = kd.Portfolio(kd.read_prices(frame), shares={"alpha": 10, "beta": 5})
        dates, prices = PRICES.dates, PRICES.frame
        into = held.replay(dates[19], dates[20])
        self.assertAlmostEqual(
            into.loc["alpha", "return"], prices["alpha"].iloc[20] / prices["alpha"].iloc[19] - 1
        )
        self.assertEqual(into.loc["beta", "return"], 0)
        out = held.replay(dates[20], dates[21])
        self.assertAlmostEqual(
            out.loc["beta", "return"], prices["beta"].iloc[21] / prices["beta"].iloc[19] - 1
        )
        self.assertAlmostEqual(
            out.loc["alpha", "return"], prices["alpha"].iloc[21] / prices["alpha"].iloc[20] - 1
        )
        for one, other in ((1, 2), (5, 9)):  # two steps make the whole way
            parts = [
                held.replay(dates[20 - one], dates[20]),
                held.replay(dates[20], dates[20 + other]),
            ]
            whole = held.replay(dates[20 - one], dates[20 + other])
            product = (1 + parts[0]["return"]) * (1 + parts[1]["return"]) - 1
            np.testing.assert_allclose(product, whole["return"])
