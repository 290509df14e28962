"""Models: given figures, drivers, lines and outcomes, from Python or from a file."""
