"""A model made ready: its quantities, how drivers move together, the order of its lines, and
evaluating them.
"""
