"""Learning distributions of one number from data."""
