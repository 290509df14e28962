"""Best weights: what an allocation starts from, what it may hold, the solvers, and what came
out.
"""
