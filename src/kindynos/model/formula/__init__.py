"""The formula language: arithmetic on named quantities, checked before it is worked out. No formula can run code."""

from __future__ import annotations

from kindynos.model.formula.kinds import Kind
from kindynos.model.formula.parse import parse
from kindynos.model.formula.tree import Node, Previous

__all__ = ["Kind", "Node", "Previous", "parse"]
