"""Speed and coverage, each as a ratio to a baseline measured in the same run: ``python -m
benchmarks``.
"""
