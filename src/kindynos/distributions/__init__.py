"""Distributions of one uncertain number; ``catalogue`` lists them, ``registry`` makes one from its
name and parameters.
"""
