"""Blocks of trials, and the workers that work them out."""
