"""Prices, returns, portfolios and their risk."""
