"""Tests of currencies: which way a rate goes, by closed forms."""

import numpy as np
import pandas as pd

import kindynos as kd
from kindynos.markets.exchange import rate_of
from tests.common import Case

DATES = pd.bdate_range("2026-01-01", periods=300)


def prices(rate_name, rates):
    acme = 50 * np.exp(np.cumsum(np.random.default_rng(1).normal(0, 0.01, 300)))
    return kd.read_prices(pd.DataFrame({"date": DATES, "ACME": acme, rate_name: rates}))


RATES = 1.16 * np.exp(np.cumsum(np.random.default_rng(2).normal(0, 0.004, 300)))


class Directions(Case):
    def test_a_pair_is_understood_in_either_order_and_by_its_unit(self):
        names = ["ACME", "EURUSD", "gbp/eur", "COPPER"]
        for stated, unit, wanted in (
            ("USD", "EUR", "1/EURUSD"),
            ("EUR", "USD", "EURUSD"),
            ("usd", "eur", "1/EURUSD"),
            ("EURUSD", "EUR", "1/EURUSD"),
            ("EURUSD", "USD", "EURUSD"),
            ("USDEUR", "EUR", "1/EURUSD"),
            ("1/EURUSD", "", "1/EURUSD"),
            ("GBP", "EUR", "gbp/eur"),
            ("EUR", "EUR", None),
            ("COPPER", "EUR", "COPPER"),  # no currencies: what one unit costs
        ):
            with self.subTest(stated=stated, unit=unit):
                self.assertEqual(rate_of(stated, unit, names), wanted)

    def test_what_is_ambiguous_is_refused(self):
        for stated, unit, words in (
            ("EURUSD", "", "say the unit of the report (EUR or USD), or write 1/EURUSD"),
            ("USD", "", "say the unit of the report"),
            ("USD", "EUR", "there are EURUSD and USDEUR"),
            ("NOK", "EUR", "there is none"),
            ("COPER", "EUR", "did you mean 'COPPER'"),
        ):
            columns = ["EURUSD", "COPPER"] + ["USDEUR"] * (unit == "EUR")
            with self.subTest(stated=stated, unit=unit), self.fails(words):
                rate_of(stated, unit, columns)

    def test_values_risk_and_shocks_are_those_of_prices_divided_by_hand(self):
        market = prices("EURUSD", RATES)
        held = kd.Portfolio(market, shares={"ACME": 20_000}, currency={"ACME": "USD"}, unit="EUR")
        frame = market.frame
        by_hand = kd.Portfolio(
            (frame["ACME"] / frame["EURUSD"]).to_frame("ACME").reset_index(),
            shares={"ACME": 20_000},
        )
        self.assertAlmostEqual(held.value, by_hand.value)
        self.assertAlmostEqual(held.value_at_risk(0.99), by_hand.value_at_risk(0.99))
        shocked = held.stress({"ACME": -0.2, "EURUSD": 0.25})
        self.assertAlmostEqual(shocked.loc["ACME", "return"], 0.8 / 1.25 - 1)
        self.assertAlmostEqual(shocked.loc["ACME", "exchange rate"], 1 / 1.25 - 1)
        other_way = kd.Portfolio(
            prices("USDEUR", 1 / RATES),
            shares={"ACME": 20_000},
            currency={"ACME": "USD"},
            unit="EUR",
        )
        self.assertAlmostEqual(other_way.value_at_risk(0.99), held.value_at_risk(0.99))

    def test_the_currency_of_the_report_changes_nothing(self):
        market = prices("EURUSD", RATES)
        own = kd.Portfolio(market, shares={"ACME": 5}, currency={"ACME": "EUR"}, unit="EUR")
        self.assertAlmostEqual(own.value, 5 * market.frame["ACME"].iloc[-1])
