"""The public names of kindynos.markets by topic, with the module that each comes from."""

# ruff: noqa: I001 (the names stand by topic)

# Prices and returns
from kindynos.markets.prices import read_prices as read_prices
from kindynos.markets.prices import Prices as Prices
from kindynos.markets.return_series import returns as returns
from kindynos.markets.return_series import Returns as Returns
from kindynos.markets.selection import select as select

# Portfolios and their risk
from kindynos.markets.portfolio import Portfolio as Portfolio
from kindynos.markets.exposure import RiskFigure as RiskFigure
from kindynos.markets.backtesting import backtest as backtest
from kindynos.markets.backtesting import Backtest as Backtest

# Best weights
from kindynos.markets.allocation.allocation import allocate as allocate
from kindynos.markets.allocation.allocation import Allocation as Allocation
from kindynos.markets.allocation.frontier import frontier as frontier
from kindynos.markets.allocation.frontier import Frontier as Frontier
from kindynos.markets.allocation.moments import Moments as Moments
from kindynos.markets.allocation.simulated_returns import SimulatedReturns as SimulatedReturns
