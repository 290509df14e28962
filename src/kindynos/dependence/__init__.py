"""How drivers move together: copulas on their scores, and the correlation matrices behind them."""
