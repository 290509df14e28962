"""Runs, and reading them: statistics with their sampling errors, trials, and what drives an
outcome.
"""
