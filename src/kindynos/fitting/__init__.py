"""Learning laws of one number from data."""

from __future__ import annotations

from kindynos.fitting.student import fit_student

__all__ = ["fit_student"]
