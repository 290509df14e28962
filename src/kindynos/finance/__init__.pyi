"""The public names of kindynos.finance by topic, with the module that each comes from."""

# ruff: noqa: I001 (the names stand by topic)

# Value and rates of return of flows, rates first
from kindynos.finance.cash_flow import npv as npv
from kindynos.finance.internal_rate import irr as irr
from kindynos.finance.internal_rate import irr_report as irr_report
from kindynos.finance.measures import mirr as mirr
from kindynos.finance.measures import payback as payback
from kindynos.finance.measures import discounted_payback as discounted_payback
from kindynos.finance.measures import profitability_index as profitability_index
from kindynos.finance.dated import npv_dated as npv_dated
from kindynos.finance.dated import irr_dated as irr_dated
from kindynos.finance.measures import terminal_value as terminal_value
from kindynos.finance.measures import value_per_share as value_per_share

# Level payments
from kindynos.finance.annuities import present_value as present_value
from kindynos.finance.annuities import future_value as future_value
from kindynos.finance.annuities import payment as payment
from kindynos.finance.annuities import capital_recovery as capital_recovery
from kindynos.finance.annuities import equivalent_annual as equivalent_annual
from kindynos.finance.annuities import levelized_cost as levelized_cost

from kindynos.finance.annual_rates import per_period as per_period
from kindynos.finance.annual_rates import per_year as per_year

# Rows over the periods
from kindynos.finance.ledger import grow as grow
from kindynos.finance.ledger import roll_forward as roll_forward
from kindynos.finance.ledger import first_period as first_period
from kindynos.finance.ledger import at as at

# What a path of values did
from kindynos.finance.drawdowns import drawdown as drawdown
from kindynos.finance.drawdowns import max_drawdown as max_drawdown
from kindynos.finance.drawdowns import drawdown_duration as drawdown_duration
from kindynos.finance.drawdowns import time_under_water as time_under_water
from kindynos.finance.drawdowns import compound_growth as compound_growth
from kindynos.finance.drawdowns import volatility as volatility
from kindynos.finance.drawdowns import sharpe_ratio as sharpe_ratio
from kindynos.finance.drawdowns import sortino_ratio as sortino_ratio
