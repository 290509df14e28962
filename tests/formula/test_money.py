"""Tests of money."""

from tests.common import Case, investment


class Messages(Case):
    def test_money_in_formulas(self):
        for formula, words in (
            ("payment(cash_flow, 5, flow)", ("rate of payment", "not a row")),
            ("capital_recovery(hurdle)", ("lacks 'life'",)),
            ("irr(flow)", ("flows of irr", "row")),
            ("npv(hurdle, flow)", ("flows of npv", "row")),
            ("levelized_cost(hurdle, -3, price, flow, 10)", ("life", "above 0")),
            ("terminal_value(0.02, flow, 0.05)", ("growth 0.05", "below the rate 0.02")),
            ("value_per_share(hurdle, cash_flow, 0.01, 0)", ("shares", "above 0")),
            ("profitability_index(hurdle, cash_flow, price)", ("initial", "below 0")),
            ("roll_forward(price, hurdle, flow, shortfall=True)", ("floor=",)),
            ("first_periods(cash_flow > 3)", ("did you mean 'first_period'",)),
            ("mirr(0.1, -2, cash_flow, -price)", ("above -1",)),
        ):
            model = investment()
            with self.subTest(formula=formula), self.fails(*words):
                model.outcome("extra", formula)
                model.compiled()
