"""Choices between alternatives that play out differently: trees of choices and chance events, and
what it is worth to know or wait.
"""
