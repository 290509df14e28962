"""Cash flows and paths of values on arrays: ``cash_flow[2]`` is year 3 of every trial."""

from __future__ import annotations

from kindynos.lazy import load_lazily

__getattr__, __dir__, __all__ = load_lazily(__name__, __file__)
