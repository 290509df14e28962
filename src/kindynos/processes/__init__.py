"""Processes: distributions of series, such as prices, rates and levels; several of them
together.
"""
