"""Cash flows and paths of values on arrays: periods first, trials last."""

from __future__ import annotations

from kindynos.lazy import load_lazily

__getattr__, __dir__, __all__ = load_lazily(__name__, __file__)
