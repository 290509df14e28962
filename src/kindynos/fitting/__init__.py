"""Fitting distributions of one number from data."""
