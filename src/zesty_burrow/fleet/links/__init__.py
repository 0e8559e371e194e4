"""One-time links: what is behind them, the server, and the page."""
